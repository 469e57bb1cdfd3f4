package view

import (
	"fmt"

	"lithos/core/check"
	"lithos/core/compile"
	"lithos/core/option"
	"lithos/core/site"
)

// OptionChoice is an option people may set, for forms.
type OptionChoice struct {
	Code      uint8  `json:"code"`
	Name      string `json:"name"`
	Meaning   string `json:"meaning"`
	Type      string `json:"type"`
	Example   string `json:"example"`
	Reference string `json:"reference"`
}

// Options lists the options people may set. What the server sets by itself is
// not among them.
func Options() []OptionChoice {
	var out []OptionChoice
	for _, d := range option.Registry() {
		if !d.ServerOnly {
			out = append(out, choice(d))
		}
	}
	return out
}

func choice(d option.Definition) OptionChoice {
	return OptionChoice{d.Code, d.Name, d.Meaning, d.Type.String(), d.Example, d.Reference}
}

// ownOptions lists the options a site defined for itself.
func ownOptions(doc *site.Site) []OptionChoice {
	out := []OptionChoice{}
	for _, d := range doc.Own() {
		out = append(out, choice(d))
	}
	return out
}

// RuleView is one rule for the documentation of findings.
type RuleView struct {
	Slug     string `json:"slug"`
	Family   string `json:"family"`
	Severity string `json:"severity"`
	Promise  string `json:"promise"`
}

// Rules lists the rules Lithos checks.
func Rules() []RuleView {
	var out []RuleView
	for _, r := range check.Rules() {
		out = append(out, RuleView{r.Slug, r.Family, string(r.Severity), r.Promise})
	}
	return out
}

// StandardView is an addressing standard: its windows in words, and its options.
type StandardView struct {
	ID      string      `json:"id"`
	Name    string      `json:"name"`
	Windows []string    `json:"windows"`
	Options []Effective `json:"options"`
}

// Standard describes an addressing standard.
func Standard(std site.Standard) StandardView {
	v := StandardView{ID: std.ID, Name: std.Name, Windows: []string{}}
	for _, w := range std.Windows {
		v.Windows = append(v.Windows, fmt.Sprintf("%s: addresses %d to %d of every network", w.Use, w.From, w.To))
	}
	doc := &site.Site{Standard: std}
	v.Options = told(nil, compile.Effective(doc, compile.For{}), site.Ref{Kind: site.KindStandard, ID: std.ID})
	return v
}
