package report

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

type printer struct {
	*fpdf.Fpdf
	size float64 // of the letters of the table that is drawn
}

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
	d := &printer{Fpdf: f}
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

func (d *printer) write(style string, size, high float64, text string) {
	d.SetFont(family, style, size)
	d.MultiCell(width, high, flat(text), "", "L", false)
}

func (d *printer) block(b Block) {
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
			mark = fmt.Sprintf("%d. ", max(b.First, 1)+i)
		}
		d.write("", body, step, mark+item)
	}
	if len(b.Rows) > 0 {
		d.table(b.Head, b.Rows)
	}
}

// table draws rows with a line below each. Columns are as wide as what stands in them asks for.
func (d *printer) table(head []string, rows [][]string) {
	widths := d.widths(head, rows)
	if len(head) > 0 {
		d.row(head, widths, "B")
	}
	for _, row := range rows {
		d.row(row, widths, "")
	}
}

// smallest is the size of letters below which a table is not read any more.
const smallest = 6

// gap is what a column has beside its text, in millimetres.
const gap = 3

// widths shares the width of the page among columns: each has room for its longest word, so that no address, MAC or
// name is broken, and of what is left as much as its longest line asks for. Where the words alone are wider than the
// page, the letters of the table are smaller.
func (d *printer) widths(head []string, rows [][]string) []float64 {
	for d.size = body; ; d.size -= 0.5 {
		least, want := d.asked(head, rows)
		words, lines := sum(least), sum(want)
		switch {
		case lines <= width:
			return want
		case words <= width:
			for i := range least {
				least[i] += (width - words) * (want[i] - least[i]) / max(lines-words, 1)
			}
			return least
		case d.size <= smallest: // a word as long as the page is broken
			for i := range least {
				least[i] *= width / words
			}
			return least
		}
	}
}

// asked is how wide the longest word and the longest line of each column are.
func (d *printer) asked(head []string, rows [][]string) (least, want []float64) {
	for n, row := range append([][]string{head}, rows...) {
		d.SetFont(family, map[bool]string{true: "B"}[n == 0], d.size)
		for i, cell := range row {
			for len(want) <= i {
				least, want = append(least, 12), append(want, 12)
			}
			text := flat(cell)
			want[i] = max(want[i], d.GetStringWidth(text)+gap)
			for _, word := range strings.Fields(text) {
				least[i] = max(least[i], d.GetStringWidth(word)+gap)
			}
		}
	}
	return least, want
}

func sum(list []float64) (out float64) {
	for _, one := range list {
		out += one
	}
	return out
}

// lines breaks a text between words; a word is broken where it alone is too wide.
func (d *printer) lines(text string, wide float64) []string {
	out := []string{""}
	for _, word := range strings.Fields(text) {
		last := &out[len(out)-1]
		if joined := strings.TrimSpace(*last + " " + word); d.GetStringWidth(joined) <= wide {
			*last = joined
			continue
		}
		if *last != "" {
			out = append(out, "")
		}
		for _, c := range word {
			last = &out[len(out)-1]
			if *last != "" && d.GetStringWidth(*last+string(c)) > wide {
				out = append(out, "")
				last = &out[len(out)-1]
			}
			*last += string(c)
		}
	}
	return out
}

func (d *printer) row(cells []string, widths []float64, style string) {
	d.SetFont(family, style, d.size)
	most := 1
	text := make([][]string, len(cells))
	for i, cell := range cells {
		text[i] = d.lines(flat(cell), widths[i]-gap+0.01)
		most = max(most, len(text[i]))
	}
	high := float64(most)*step + 1.4
	if d.GetY()+high > 297-margin {
		d.AddPage()
		d.SetFont(family, style, d.size)
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
