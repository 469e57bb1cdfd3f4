package paper

import (
	"bytes"
	"fmt"
	"strings"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
)

// Sizes of a page in millimetres, and of its letters in points.
const (
	width  = 210 - 2*margin
	margin = 16
	body   = 9.5
	step   = 4.6 // from line to line
)

const family = "body"

type printer struct{ *fpdf.Fpdf }

// PDF is the page in A4. Pages are numbered.
func (p *Page) PDF() ([]byte, error) {
	f := fpdf.New("P", "mm", "A4", "")
	f.SetMargins(margin, margin, margin)
	f.SetAutoPageBreak(true, margin)
	f.AddUTF8FontFromBytes(family, "", goregular.TTF)
	f.AddUTF8FontFromBytes(family, "B", gobold.TTF)
	f.SetTitle(p.Title, true)
	f.AliasNbPages("{pages}")
	f.SetFooterFunc(func() {
		f.SetY(-12)
		f.SetFont(family, "", 8)
		f.SetTextColor(90, 100, 96)
		f.CellFormat(width, 6, flat(p.Title), "", 0, "L", false, 0, "")
		f.CellFormat(0, 6, fmt.Sprintf("%d of {pages}", f.PageNo()), "", 0, "R", false, 0, "")
		f.SetTextColor(20, 28, 26)
	})
	f.AddPage()
	f.SetTextColor(20, 28, 26)
	f.SetDrawColor(200, 208, 205)
	d := printer{f}
	d.write("B", 16, 8, p.Title)
	if p.Under != "" {
		d.write("", body, step, p.Under)
	}
	for _, b := range p.Blocks {
		d.block(b)
	}
	var out bytes.Buffer
	err := f.Output(&out)
	return out.Bytes(), err
}

var signs = strings.NewReplacer("`", "", "✓", "yes:", "✗", "no:", "→", "to", "…", "...")

// flat is text without the marks of addresses, on one line, and with signs that the letters have.
func flat(text string) string {
	return strings.Map(func(c rune) rune {
		switch {
		case c > 0xffff:
			return '□' // the letters end there
		case c < ' ':
			return ' '
		}
		return c
	}, signs.Replace(text))
}

func (d printer) write(style string, size, high float64, text string) {
	d.SetFont(family, style, size)
	d.MultiCell(width, high, flat(text), "", "L", false)
}

func (d printer) block(b Block) {
	d.Ln(2.5)
	if b.Heading != "" {
		if d.GetY() > 297-margin-25 { // a heading does not stand alone at the foot of a page
			d.AddPage()
		}
		d.write("B", 11, 6, b.Heading)
	}
	if len(b.Facts) > 0 {
		d.table(nil, b.Facts)
	}
	if b.Text != "" {
		d.write("", body, step, b.Text)
	}
	for i, item := range b.List {
		mark := "• "
		if b.Numbered {
			mark = fmt.Sprintf("%d. ", i+1)
		}
		d.write("", body, step, mark+item)
	}
	if len(b.Rows) > 0 {
		d.table(b.Head, b.Rows)
	}
}

// table draws rows with a line below each. Columns are as wide as what stands in them asks for.
func (d printer) table(head []string, rows [][]string) {
	widths := d.widths(head, rows)
	if len(head) > 0 {
		d.row(head, widths, "B")
	}
	for _, row := range rows {
		d.row(row, widths, "")
	}
}

// widths shares the width of the page among columns, by the longest that stands in each; none is more than half.
func (d printer) widths(head []string, rows [][]string) []float64 {
	d.SetFont(family, "B", body)
	var want []float64
	total := 0.0
	for _, row := range append([][]string{head}, rows...) {
		for i, cell := range row {
			for len(want) <= i {
				want = append(want, 12)
			}
			want[i] = min(max(want[i], d.GetStringWidth(flat(cell))+4), width/2)
		}
	}
	for _, w := range want {
		total += w
	}
	for i := range want {
		want[i] *= width / max(total, width)
	}
	return want
}

func (d printer) row(cells []string, widths []float64, style string) {
	d.SetFont(family, style, body)
	lines := 1
	text := make([][]string, len(cells))
	for i, cell := range cells {
		text[i] = d.SplitText(flat(cell), widths[i]-2)
		lines = max(lines, len(text[i]))
	}
	high := float64(lines)*step + 1.4
	if d.GetY()+high > 297-margin {
		d.AddPage()
		d.SetFont(family, style, body)
	}
	top := d.GetY()
	left := float64(margin)
	for i := range cells {
		for n, line := range text[i] {
			d.SetXY(left, top+0.7+float64(n)*step)
			d.CellFormat(widths[i], step, line, "", 0, "L", false, 0, "")
		}
		left += widths[i]
	}
	d.Line(margin, top+high, margin+width, top+high)
	d.SetXY(margin, top+high)
}
