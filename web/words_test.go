package web_test

import (
	"go/scanner"
	"go/token"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/wordstest"
)

// Words that were given up stand in no text that people see: not in the interface, not in what the rules and the use
// cases say, not in the guide.
func TestWordsGivenUp(t *testing.T) {
	words, err := wordstest.ReadGivenUp("../docs/words.md")
	require.NoError(t, err)
	require.Greater(t, len(words.Phrases), 40)
	require.NotEmpty(t, words.Labels)
	read := 0
	for _, dir := range []string{"src", "../core", "../internal", "../cmd"} {
		require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
			if err != nil || d.IsDir() || strings.HasSuffix(path, "_test.go") || strings.Contains(path, "/gen/") ||
				strings.Contains(path, ".gen.") {
				return err
			}
			raw, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			var texts []string
			switch filepath.Ext(path) {
			case ".go":
				texts = literals(t, path, raw)
			case ".ts", ".tsx":
				texts = shown(string(raw))
			}
			read += len(texts)
			for _, text := range texts {
				assert.Empty(t, words.In(text), "%s: %q", path, text)
			}
			return nil
		}))
	}
	assert.Greater(t, read, 5000)
	for _, page := range []string{"../docs/guide.md", "../docs/api.md", "../docs/operating.md", "../README.md"} {
		raw, err := os.ReadFile(page)
		require.NoError(t, err)
		for i, line := range strings.Split(string(raw), "\n") {
			assert.Empty(t, words.In(line), "%s:%d", page, i+1)
		}
	}
}

// The reading itself finds what it is to find.
func TestWordsAreFound(t *testing.T) {
	words, err := wordstest.ReadGivenUp("../docs/words.md")
	require.NoError(t, err)
	assert.Equal(t, []string{"put away"}, words.In("The site was Put away."))
	assert.Equal(t, []string{"Told"}, words.In("Told"))
	assert.Empty(t, words.In("Told by Maren"))
	assert.Equal(t, []string{"Take out", "Import {n} lines", "a label"},
		shown("// Put away\n<h2 title='a label'>Take out</h2>\n<b>Import {n} lines</b>"))
}

// literals are the texts of a Go file.
func literals(t *testing.T, path string, raw []byte) (out []string) {
	t.Helper()
	var s scanner.Scanner
	files := token.NewFileSet()
	s.Init(files.AddFile(path, -1, len(raw)), raw, nil, 0)
	for {
		_, tok, lit := s.Scan()
		if tok == token.EOF {
			return out
		}
		if tok == token.STRING {
			text, err := strconv.Unquote(lit)
			require.NoError(t, err)
			out = append(out, text)
		}
	}
}

var (
	comments = regexp.MustCompile(`(?s:/\*.*?\*/)|(?m:(^|\s)//.*$)`)
	inTags   = regexp.MustCompile(`(?s)>([^<>]*[A-Za-z][^<>]*)<`)
	code     = regexp.MustCompile(`[;=]|\(\n|^\(`)
	quoted   = regexp.MustCompile("'((?:[^'\\\\\n]|\\\\.)*)'|\"([^\"\n]*)\"|`([^`]*)`")
)

// shown are the texts of a TypeScript file: what stands between tags, and in quotes.
func shown(text string) (out []string) {
	text = comments.ReplaceAllString(text, " ")
	for _, m := range inTags.FindAllStringSubmatch(text, -1) {
		if !code.MatchString(m[1]) { // what stands between an arrow and the next tag
			out = append(out, strings.Join(strings.Fields(m[1]), " "))
		}
	}
	for _, m := range quoted.FindAllStringSubmatch(text, -1) {
		out = append(out, strings.Join(slices.DeleteFunc(m[1:], func(s string) bool { return s == "" }), ""))
	}
	return out
}
