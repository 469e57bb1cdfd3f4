package main

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/internal/postgres/pgtest"
	"lithos/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Migrate) }

// lithos runs a command line and returns its exit code and what it printed.
func lithos(t *testing.T, args ...string) (int, string, string) {
	t.Helper()
	var out, errs bytes.Buffer
	code := run(t.Context(), args, &out, &errs)
	return code, out.String(), errs.String()
}

func file(t *testing.T, name string, s *site.Site, change ...string) string {
	t.Helper()
	encode := site.Encode
	if strings.HasSuffix(name, ".yaml") {
		encode = site.EncodeYAML
	}
	raw, err := encode(s)
	require.NoError(t, err)
	text := strings.NewReplacer(change...).Replace(string(raw))
	path := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

func TestCheck(t *testing.T) {
	// What is planted there is an alias that leads to nothing, a key that can rewrite its zone, and guests that come
	// out at no port.
	quill := scenario.Site("quill-street")
	quill.Following[0].Key = "remote.quill"
	_, port, there := quill.Interface("if-quill-sw-3")
	require.True(t, there)
	port.Tagged = []int{40}
	clean := file(t, "quill.yaml", quill, "data: photo-box", "data: proxy")
	warned := file(t, "hallin.json", scenario.Site("hallin-road"))
	blocked := file(t, "kelder.yaml", scenario.Site("kelder-bridge"))
	code, out, _ := lithos(t, "check", clean, warned)
	assert.Equal(t, 0, code, "a warning does not fail")
	assert.Contains(t, out, "Quill Street home lab has no problems")
	assert.Contains(t, out, "warns pool-off: Pool Waiting room is switched off")
	assert.Contains(t, out, "fix: Switch it on")
	code, out, _ = lithos(t, "check", "--json", clean, blocked)
	assert.Equal(t, 1, code)
	var results []result
	require.NoError(t, json.Unmarshal([]byte(out), &results))
	assert.Empty(t, results[0].Findings)
	assert.Equal(t, "address-two-owners", results[1].Findings[0].Rule)

	ended := scenario.Site("quill-street")
	ended.Pools[0].Exclusions = append(ended.Pools[0].Exclusions, site.Exclusion{ID: "x-old", Reason: "Fair",
		Range: address.Single(
			ended.Pools[0].Ranges[0].From,
		), Until: site.DateOf(time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC))})
	code, out, _ = lithos(t, "check", file(t, "ended.yaml", ended))
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "notes exclusion-ended")

	broken := file(t, "broken.json", scenario.Site("quill-street"), `"vlan": 20`, `"vlam": 20`)
	code, out, _ = lithos(t, "check", broken)
	assert.Equal(t, 1, code)
	assert.Regexp(t, `broken.json: line \d+, networks\[1\].vlam: is not a field of the site file`, out)
	code, out, _ = lithos(t, "check", filepath.Join(t.TempDir(), "none.yaml"))
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "no such file")
}

func TestImportAndExport(t *testing.T) {
	url, key := pgtest.Database(t), filepath.Join(t.TempDir(), "key")
	code, _, errs := lithos(t, "key", "make", "--key", key)
	require.Equal(t, 0, code, errs)
	with := func(args ...string) []string { return append(args, "--database", url, "--key", key) }
	quill := file(t, "quill.yaml", scenario.Site("quill-street"))
	code, out, errs := lithos(t, with("import", quill)...)
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "Quill Street home lab is at revision 1")
	code, out, _ = lithos(t, with("export", "quill-street")...)
	assert.Equal(t, 0, code)
	original, err := os.ReadFile(quill)
	require.NoError(t, err)
	assert.Equal(t, string(original), out)
	code, out, _ = lithos(t, with("import",
		file(t, "q.json", scenario.Site("quill-street"), `"name": "Lab"`, `"name": "Bench lab"`))...)
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "revision 2")

	nonsense := filepath.Join(t.TempDir(), "nonsense")
	require.NoError(t, os.WriteFile(nonsense, bytes.Repeat([]byte("["), 100<<20), 0o600))
	code, _, errs = lithos(t, with("import", nonsense)...)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "larger than 16 MiB")
	code, out, _ = lithos(t, with("export", "quill-street", "--format", "json")...)
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "Bench lab", "the refused file changed nothing")
	code, _, errs = lithos(t, with("export", "nowhere")...)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, `no site "nowhere"`)
}

func TestSchemaAndUsage(t *testing.T) {
	code, out, _ := lithos(t, "schema")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "json-schema.org/draft/2020-12")
	code, _, errs := lithos(t, "dance")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "lithos --help")
}

func TestTwoDemonstrationsShareNoFolder(t *testing.T) {
	path := filepath.Join(t.TempDir(), "lock")
	unlock, err := lock(path)
	require.NoError(t, err)
	_, err = lock(path)
	assert.ErrorContains(t, err, "is running in")
	unlock()
	unlock, err = lock(path)
	require.NoError(t, err)
	unlock()
}

// typed runs a command's command with a password on standard input.
func typed(t *testing.T, password string, args ...string) (int, string, string) {
	t.Helper()
	r, w, err := os.Pipe()
	require.NoError(t, err)
	_, err = w.WriteString(password + "\n")
	require.NoError(t, err)
	require.NoError(t, w.Close())
	was := os.Stdin
	os.Stdin = r
	defer func() { os.Stdin = was }()
	return lithos(t, args...)
}

func TestOperating(t *testing.T) {
	url, key := pgtest.Database(t), filepath.Join(t.TempDir(), "key")
	with := func(args ...string) []string { return append(args, "--database", url, "--key", key) }
	code, _, errs := lithos(t, with("account", "list")...)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "lithos key make")
	code, _, errs = lithos(t, "key", "make", "--key", key)
	require.Equal(t, 0, code, errs)

	code, _, errs = typed(t, "password1234", with("account", "set", "mk", "Maren Kolb")...)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "commonly used")
	code, _, errs = typed(t, "thistle-canal-lantern", with("account", "set", "mk", "Maren Kolb")...)
	require.Equal(t, 0, code, errs)
	_, out, _ := lithos(t, with("account", "list")...)
	assert.Regexp(t, `mk +Maren Kolb +0 +on`, out)
	code, _, errs = lithos(t, with("account", "off", "mk")...)
	require.Equal(t, 0, code, errs)
	_, out, _ = lithos(t, with("account", "list")...)
	assert.Regexp(t, `mk +Maren Kolb +0 +off since`, out)
	code, _, errs = lithos(t, with("account", "off", "nobody")...)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, `no account "nobody"`)
	for _, words := range [][]string{{"account", "on", "mk"}, {"account", "end", "mk"}, {"account", "sessions"}} {
		code, _, errs = lithos(t, with(words...)...)
		assert.Equal(t, 0, code, errs)
	}

	_, out, _ = lithos(t, with("release")...)
	assert.Contains(t, out, "nothing was held")
	_, out, _ = lithos(t, with("hold", "Moving house")...)
	assert.Contains(t, out, "are held")
	_, out, _ = lithos(t, with("release")...)
	assert.Contains(t, out, "go on")
	_, out, _ = lithos(t, with("audit")...)
	for _, line := range []string{"account-made", "account-off", "account-on", "sessions-ended", "work-held",
		"work-released", "at the command line"} {
		assert.Contains(t, out, line)
	}
	_, out, _ = lithos(t, with("audit", "--act", "account-off")...)
	assert.Equal(t, 2, strings.Count(out, "\n"), "the head and one line")

	other := filepath.Join(t.TempDir(), "key")
	code, _, errs = lithos(t, "key", "make", "--key", other)
	require.Equal(t, 0, code, errs)
	code, _, errs = lithos(t, "account", "list", "--database", url, "--key", other)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "is not the one this database was used with")
	code, out, errs = lithos(t, "key", "forget", "--database", url, "--key", other)
	assert.Equal(t, 0, code, errs)
	assert.Contains(t, out, "0 passwords are forgotten")
}

// What no site has is refused by check and import alike, with its place.
func TestAttackFilesNoSiteHas(t *testing.T) {
	url, key := pgtest.Database(t), filepath.Join(t.TempDir(), "key")
	lithos(t, "key", "make", "--key", key)
	for what, change := range map[string][]string{
		`code: "" is not a code`:                  {`"code": "quill-street"`, `"code": ""`},
		`code: holds a line break`:                {`"code": "quill-street"`, `"code": "quill\nstreet"`},
		`"../../etc" is not a time zone`:          {`"timeZone": "Europe/London"`, `"timeZone": "../../etc"`},
		`uplink.mtu: is -5; write a whole number`: {`"method": "dhcp"`, `"mtu": -5, "method": "dhcp"`},
	} {
		path := file(t, "quill.json", scenario.Site("quill-street"), change...)
		code, out, _ := lithos(t, "check", path)
		assert.Equal(t, 1, code)
		assert.Contains(t, out, what)
		code, _, errs := lithos(t, "import", path, "--database", url, "--key", key)
		assert.Equal(t, 2, code)
		assert.Contains(t, errs, what)
	}
}

// What does not end by itself is not waited for.
func Test05TheEndIsWaitedForOnlySoLong(t *testing.T) {
	assert.True(t, endsBy(t.Context(), func() {}))
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	assert.False(t, endsBy(ended, func() { select {} }))
	assert.Less(t, stopWithin+closeWithin, 20*time.Second)
}
