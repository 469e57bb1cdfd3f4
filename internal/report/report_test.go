package report_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lithos/internal/report"
)

// Text that somebody typed stays text in Markdown, and any page is printed.
func TestAnyPageIsPrinted(t *testing.T) {
	p := report.Page{Title: "WO-0001 *bold* | [link]", Blocks: []report.Block{{Heading: "# a", List: []string{"one",
		"two"},
		Numbered: true, Facts: [][]string{{"Site", "a|b"}}, Head: []string{"A", "B"}, Rows: [][]string{{"<b>", "x"}}}}}
	text := p.Markdown()
	assert.Contains(t, text, `# WO-0001 \*bold\* \| \[link\]`)
	assert.Contains(t, text, "1. one\n2. two")
	assert.Contains(t, text, `| Site | a\|b |`)
	assert.NotContains(t, text, "<b>")
	cell := rapid.OneOf(rapid.String(), rapid.SampledFrom([]string{"10.84.16.0/20", strings.Repeat("long ", 80),
		strings.Repeat("x", 300), "Kühlschrank", "✓ lease", ""}))
	pages := rapid.Custom(func(t *rapid.T) report.Page {
		p := report.Page{Title: cell.Draw(t, "title")}
		for range rapid.IntRange(0, 3).Draw(t, "blocks") {
			width := rapid.IntRange(1, 6).Draw(t, "columns")
			b := report.Block{Heading: cell.Draw(t, "heading"), Text: cell.Draw(t, "text")}
			b.Head = rapid.SliceOfN(cell, width, width).Draw(t, "head")
			for range rapid.IntRange(0, 20).Draw(t, "rows") {
				b.Rows = append(b.Rows, rapid.SliceOfN(cell, width, width).Draw(t, "row"))
			}
			p.Add(b)
		}
		return p
	})
	for seed := range 12 { // each has two whole fonts in it
		p := pages.Example(seed)
		raw, err := p.PDF()
		require.NoError(t, err, "%v", p)
		assert.Equal(t, "%PDF-", string(raw[:5]))
	}
}
