package site_test

import (
	"fmt"
	"strconv"
	"strings"
	"testing"

	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/wordstest"
)

// typed is what people type into a field, right or wrong.
var typed = []string{"", "x", "Two words", "yes", "0", "1", "575", "576", "9000", "9001", ".57", "10.84.18.57",
	"10.84.18.57/23", "10.84.18.0/23", "10.84.20.1, 10.84.20.2", "00-00-5e-00-53-01", "4094", "4095", "8 hours",
	"a.kelder.larkrise.example", "a.example.", "*.b.example", "https://a.example/b", "2026-11-26", "dev-kelder-core",
	strings.Repeat("w", 255), strings.Repeat("w", 256)}

// becomes says what a field holds once something was typed, and how that is shown.
func becomes(text, held, shown string) string {
	switch {
	case held == text && (shown == text || text == ""):
		return "as typed"
	case shown == held:
		return "becomes " + held
	}
	return fmt.Sprintf("becomes %s, shown as %s", held, shown)
}

// What the fields of each kind propose, offer and show, and what they make of what is typed, is in a file, for somebody
// to read.
func TestFieldsInWords(t *testing.T) {
	var got strings.Builder
	for _, k := range site.Kinds() {
		if k.Fixed() || len(k.Fields) == 0 {
			continue
		}
		s := scenario.Site("kelder-bridge")
		fmt.Fprintf(&got, "# %s\n", k.Noun)
		for i := range s.Networks {
			part := k.Empty("new")
			k.Fresh(s, &s.Networks[i], part)
			var proposed []string
			for _, f := range k.Fields {
				if text := f.Text(part); text != "" && k.Applies(f, part) {
					proposed = append(proposed, f.Name+" "+text)
				}
			}
			fmt.Fprintf(&got, "on %s: %s\n", s.Networks[i].Name, strings.Join(proposed, "; "))
		}
		for _, f := range k.Fields {
			part := k.Empty("new")
			k.Fresh(s, &s.Networks[0], part)
			r := &site.Reading{Site: s, ID: "new"}
			fmt.Fprintf(&got, "- %s, in a sentence %s\n", f.Label, f.Sentence())
			if f.Pick != nil {
				for _, c := range f.Pick(r) {
					fmt.Fprintf(&got, "  offers %s: %s\n", c.Value, c.Label)
				}
			}
			become := map[string][]string{}
			var order []string
			for _, text := range typed {
				err := f.Read(r, part, text)
				outcome := becomes(text, f.Text(part), strings.Join(f.Show(s, part), " / "))
				if err != nil {
					outcome = "refused: " + strings.ReplaceAll(err.Error(), strconv.Quote(text), "it")
				}
				if become[outcome] == nil {
					order = append(order, outcome)
				}
				become[outcome] = append(become[outcome], fmt.Sprintf("%.40q", text))
			}
			for _, outcome := range order {
				fmt.Fprintf(&got, "  %s: %.300s\n", strings.Join(become[outcome], " "), outcome)
			}
		}
		got.WriteString("\n")
	}
	wordstest.Same(t, "fields.txt", got.String())
}
