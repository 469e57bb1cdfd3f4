package view

import (
	"fmt"
	"strings"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/compile"
	"lithos/core/drawing"
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

// OptionPlace is where an option can be set for a part, and what is in effect there now.
type OptionPlace struct {
	Value  string         `json:"value"` // in effect; empty for none
	From   string         `json:"from"`  // sentence: where that is set
	Levels []OptionTarget `json:"levels"`
}

// OptionTarget is a level that an option can be set at.
type OptionTarget struct {
	Level
	Touches string `json:"touches"` // whom an option set there reaches
	Set     bool   `json:"set"`     // the level sets it
	Value   string `json:"value"`   // what it sets
	Always  bool   `json:"always"`  // it is sent to clients that do not ask for it as well
	Asked   bool   `json:"asked"`   // one set here is sent to those that ask for it alone, unless it says otherwise
}

// OptionAt is where an option can be set for the inspected part.
func (p *Page) OptionAt(look Look, code uint8) *OptionPlace {
	part := p.Part(look)
	out := &OptionPlace{Levels: []OptionTarget{}}
	for _, e := range part.Effective {
		if e.Code == code {
			out.Value, out.From = e.Value, e.From
		}
	}
	for _, l := range part.Levels {
		ref := site.ParseRef(l.Ref)
		t := OptionTarget{Level: l, Touches: p.reached(ref), Asked: ref.Kind == site.KindSite ||
			ref.Kind == site.KindCustomer || ref.Kind == site.KindStandard}
		options, _ := site.OptionsOf(p.Site, ref)
		for _, o := range options {
			if o.Code == code {
				t.Set, t.Value, t.Always = true, o.Value, o.Always
			}
		}
		out.Levels = append(out.Levels, t)
	}
	return out
}

// reached is whom the options of a level reach, in words.
func (p *Page) reached(level site.Ref) string {
	var pools []*site.Pool
	switch level.Kind {
	case site.KindReservation:
		return "this client alone"
	case site.KindVendorClass:
		return "the clients of this class"
	case site.KindPool:
		pool, _ := p.Pool(level.ID)
		pools = append(pools, pool)
	case site.KindNetwork:
		n, _ := p.Scene.Network(level.ID)
		pools = p.PoolsOn(n)
	default:
		for i := range p.Pools {
			pools = append(pools, &p.Pools[i])
		}
	}
	addresses, reserved := 0, 0
	networks := map[string]bool{}
	for _, pool := range pools {
		addresses += address.Count(drawing.Offered(p.Scene, pool))
		n, ok := p.Scene.Network(pool.Network)
		if !ok || networks[n.ID] {
			continue
		}
		networks[n.ID] = true
		for range p.On(n) {
			reserved++
		}
	}
	says := []string{site.Counted(addresses, "pool address"), site.Counted(reserved, "reservation")}
	if level.Kind != site.KindPool && level.Kind != site.KindNetwork {
		says = append(says, site.Counted(len(networks), "network"))
	}
	return strings.Join(says, ", ")
}

// fromEnd is a place in a network in words: below 0 it counts back, -1 being the last address.
func fromEnd(n int) string {
	if n < 0 {
		if n == -1 {
			return "the last"
		}
		return fmt.Sprintf("%d before the last", -n-1)
	}
	return fmt.Sprintf(".%d", n)
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
		v.Windows = append(v.Windows, fmt.Sprintf("%s: from %s to %s of every network", w.Use,
			fromEnd(w.From), fromEnd(w.To)))
	}
	doc := &site.Site{Standard: std}
	v.Options = effective(nil, compile.Effective(doc, compile.For{}), site.Ref{Kind: site.KindStandard, ID: std.ID})
	return v
}
