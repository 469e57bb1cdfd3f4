package wordstest

import (
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
)

// GivenUp are words that no text says any more: the left columns of the tables of docs/words.md.
type GivenUp struct {
	Phrases []string // in lower case, wherever they stand
	Labels  []string // as the whole of a label
	whole   []*regexp.Regexp
}

// ReadGivenUp reads the tables of a file.
func ReadGivenUp(path string) (*GivenUp, error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	_, tables, _ := strings.Cut(string(raw), "## Phrases")
	phrases, labels, ok := strings.Cut(tables, "## Labels")
	if !ok {
		return nil, fmt.Errorf("%s has no headings Phrases and Labels", path)
	}
	g := &GivenUp{Phrases: firstColumn(strings.ToLower(phrases)), Labels: firstColumn(labels)}
	for _, p := range g.Phrases {
		g.whole = append(g.whole, regexp.MustCompile(`(^|[^\pL])`+regexp.QuoteMeta(p)+`($|[^\pL])`))
	}
	return g, nil
}

var row = regexp.MustCompile(`(?m)^\| ([^|]+) \| [^|]+ \|$`)

func firstColumn(table string) (out []string) {
	for _, m := range row.FindAllStringSubmatch(table, -1) {
		if m[1] != "given up" {
			out = append(out, strings.Split(m[1], " · ")...)
		}
	}
	return out
}

// In lists what of the words given up a text says. Curly apostrophes count as straight ones.
func (g *GivenUp) In(text string) (out []string) {
	if slices.Contains(g.Labels, text) {
		out = append(out, text)
	}
	text = strings.ToLower(strings.ReplaceAll(text, "’", "'"))
	for i, p := range g.whole {
		if p.MatchString(text) {
			out = append(out, g.Phrases[i])
		}
	}
	return out
}
