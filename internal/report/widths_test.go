package report

import (
	"fmt"
	"strings"
	"testing"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"pgregory.net/rapid"
)

// Addresses, MACs and names of a table are never broken, and no line is wider than its column.
func Test41WordsAreNeverBroken(t *testing.T) {
	f := fpdf.New("P", "mm", "A4", "")
	f.AddUTF8FontFromBytes(family, "", goregular.TTF)
	f.AddUTF8FontFromBytes(family, "B", gobold.TTF)
	f.AddPage()
	word := rapid.SampledFrom([]string{"10.84.16.65", "10.84.16.128/25", "00:00:5e:00:53:16", "switched", "to",
		"gw-1.kelder.larkrise.example", "vlan131", "Gateway"})
	rapid.Check(t, func(t *rapid.T) {
		columns := rapid.IntRange(1, 7).Draw(t, "columns")
		cell := rapid.Map(rapid.SliceOfN(word, 0, 12), func(w []string) string { return strings.Join(w, " ") })
		head := make([]string, columns)
		for i := range head {
			head[i] = fmt.Sprintf("Column%d", i)
		}
		rows := rapid.SliceOfN(rapid.SliceOfN(cell, columns, columns), 1, 6).Draw(t, "rows")
		d := &printer{Fpdf: f}
		widths := d.widths(head, rows)
		if total := sum(widths); total > width+0.1 {
			t.Fatalf("the table is %.1f mm wide, the page %d", total, width)
		}
		d.SetFont(family, "", d.size)
		for _, row := range rows {
			for i, cell := range row {
				lines := d.lines(cell, widths[i]-gap+0.01)
				if d.size > smallest && strings.Join(lines, " ") != cell {
					t.Fatalf("%q became %q in %.1f mm", cell, lines, widths[i])
				}
				for _, line := range lines {
					if d.GetStringWidth(line) > widths[i] && len([]rune(line)) > 1 {
						t.Fatalf("%q is wider than %.1f mm", line, widths[i])
					}
				}
			}
		}
	})
}
