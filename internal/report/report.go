// Package report is a page to print: headings, facts, lists and tables, as Markdown and as PDF.
package report

import (
	"fmt"
	"strings"
)

// Page is what is printed.
type Page struct {
	Title  string  `json:"title"`
	Under  string  `json:"under,omitempty" doc:"a line below the title"`
	Blocks []Block `json:"blocks"`
}

// Block is a part of a page with its heading: any of facts, text, a list and a table. Words in backquotes are
// addresses and names of devices.
type Block struct {
	Heading  string     `json:"heading,omitempty"`
	Facts    [][]string `json:"facts,omitempty" doc:"pairs of what and its value"`
	Text     string     `json:"text,omitempty"`
	List     []string   `json:"list,omitempty"`
	Numbered bool       `json:"numbered,omitempty" doc:"whether the list is one of steps"`
	First    int        `json:"first,omitempty" doc:"number of the first of them; 1 where there is none"`
	Head     []string   `json:"head,omitempty" doc:"the heads of the table's columns"`
	Rows     [][]string `json:"rows,omitempty"`
}

// Add puts a block on the page.
func (p *Page) Add(b Block) { p.Blocks = append(p.Blocks, b) }

// plain is text that somebody typed, which stands in Markdown as it is.
var plain = strings.NewReplacer("\\", "\\\\", "*", "\\*", "_", "\\_", "#", "\\#", "[", "\\[", "]", "\\]", "<", "&lt;",
	"|", "\\|", "\n", " ")

// Markdown is the page in Markdown.
func (p *Page) Markdown() string {
	var out strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&out, format+"\n", args...) }
	line("# %s\n", plain.Replace(p.Title))
	if p.Under != "" {
		line("%s\n", plain.Replace(p.Under))
	}
	for _, b := range p.Blocks {
		if b.Heading != "" {
			line("## %s\n", plain.Replace(b.Heading))
		}
		if len(b.Facts) > 0 {
			line("| | |\n|---|---|")
			for _, f := range b.Facts {
				line("| %s | %s |", plain.Replace(f[0]), plain.Replace(f[1]))
			}
			line("")
		}
		if b.Text != "" {
			line("%s\n", plain.Replace(b.Text))
		}
		for i, item := range b.List {
			mark := "-"
			if b.Numbered {
				mark = fmt.Sprintf("%d.", max(b.First, 1)+i)
			}
			line("%s %s", mark, plain.Replace(item))
		}
		if len(b.List) > 0 {
			line("")
		}
		if len(b.Rows) > 0 {
			line("| %s |\n|%s", strings.Join(b.Head, " | "), strings.Repeat("---|", len(b.Head)))
			for _, row := range b.Rows {
				cells := make([]string, len(row))
				for i, cell := range row {
					cells[i] = plain.Replace(cell)
				}
				line("| %s |", strings.Join(cells, " | "))
			}
			line("")
		}
	}
	return out.String()
}
