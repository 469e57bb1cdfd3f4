package web_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/scenario"
	"lithos/core/site"
)

// The published schema is read by a validator in JavaScript and by one in Go, and both take the sites of the scenario,
// and refuse the same files as the reader does.
func Test60TheSchemaInTwoLanguages(t *testing.T) {
	var files []any
	var takes []bool
	add := func(text string, sound bool) {
		var file any
		require.NoError(t, json.Unmarshal([]byte(text), &file))
		_, err := site.Read(strings.NewReader(text))
		require.Equal(t, sound, err == nil, "the reader: %v", err)
		files, takes = append(files, file), append(takes, sound)
	}
	for _, name := range scenario.Names {
		raw, err := json.Marshal(scenario.Site(name))
		require.NoError(t, err)
		add(string(raw), true)
	}
	small := func(name, prefix string) string {
		text, err := json.Marshal(name)
		require.NoError(t, err)
		return fmt.Sprintf(`{"id":"site-a","code":"a","name":"A","customer":{"id":"c","name":"C"},
			"timeZone":"Europe/London","block":["10.0.0.0/8"],"networks":[{"id":"net-a","name":%s,"prefix":"%s"}]}`,
			text, prefix)
	}
	for name, sound := range map[string]bool{
		"Büro 2": true, "\u00a0x\u3000": true, "名": true, "": false, "  ": false, "\u00a0\u3000": false,
		"a\u202eb": false, "a\u2066b": false, "a\u2028b": false, "a\u0085b": false, "a\nb": false, "a\x7f": false,
	} {
		add(small(name, "10.0.1.0/24"), sound)
	}
	for prefix, sound := range map[string]bool{"10.0.1.0/24": true, "10.0.01.0/24": false, "10.0.1.0/33": false,
		"10.0.1.256/24": false, "10.0.1.0": false} {
		add(small("A", prefix), sound)
	}
	raw, err := os.ReadFile("../docs/site.schema.json")
	require.NoError(t, err)
	documents, err := json.Marshal(files)
	require.NoError(t, err)
	list := filepath.Join(t.TempDir(), "documents.json")
	require.NoError(t, os.WriteFile(list, documents, 0o600))
	out, err := exec.Command("node", "scripts/validate.mjs", "../docs/site.schema.json", list).Output()
	require.NoError(t, err)
	var inJavaScript []bool
	require.NoError(t, json.Unmarshal(out, &inJavaScript))
	assert.Equal(t, takes, inJavaScript)

	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("published.json", doc))
	schema, err := c.Compile("published.json")
	require.NoError(t, err)
	var inGo []bool
	for _, f := range files {
		inGo = append(inGo, schema.Validate(f) == nil)
	}
	assert.Equal(t, takes, inGo)
}
