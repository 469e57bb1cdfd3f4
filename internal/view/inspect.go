package view

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/compile"
	"lithos/core/drawing"
	"lithos/core/edit"
	"lithos/core/option"
	"lithos/core/site"
)

// Inspection is what the inspector shows of one selected part.
type Inspection struct {
	Version   int32       `json:"version"` // of the draft
	Ref       string      `json:"ref"`
	In        string      `json:"in,omitempty"`
	Kind      string      `json:"kind"` // in words: Reservation, Fixed device
	Title     string      `json:"title"`
	Facts     []Fact      `json:"facts"`
	Actions   []Action    `json:"actions"`
	Findings  []Finding   `json:"findings"`
	More      int         `json:"more"` // findings that are not listed
	Meant     []Meant     `json:"meant" doc:"findings that somebody has said are meant so"`
	Effective []Effective `json:"effective"`     // the effective options of a client there
	Levels    []Level     `json:"levels"`        // whose options can be set from here
	For       string      `json:"for,omitempty"` // whose effective options these are
}

// Meant is a finding that somebody has said is meant so.
type Meant struct {
	ID     string     `json:"id"`
	Title  string     `json:"title"`
	Says   string     `json:"says"`
	Reason string     `json:"reason"`
	By     string     `json:"by"`
	At     time.Time  `json:"at"`
	Until  *time.Time `json:"until,omitempty"`
}

// Fact is one line of the inspector.
type Fact struct {
	Label string `json:"label"`
	Value string `json:"value"`
	Mono  bool   `json:"mono"` // an address, MAC or name
}

// Action is what can be done with a part at once: a form is opened, an entry made, or
// the part removed.
type Action struct {
	Label  string      `json:"label"`
	Form   *Opens      `json:"form,omitempty"`
	Entry  *edit.Entry `json:"entry,omitempty"`
	Remove bool        `json:"remove,omitempty"`
}

// Opens is a form to open, with what is typed in it already.
type Opens struct {
	Kind   string            `json:"kind"`
	ID     string            `json:"id,omitempty"`
	In     string            `json:"in,omitempty"`
	Title  string            `json:"title,omitempty"`
	Values map[string]string `json:"values,omitempty"`
}

// Level is a level whose options can be set.
type Level struct {
	Ref  string `json:"ref"`
	Name string `json:"name"`
}

// maxFindings is how many findings of a part are written out; more would push the
// effective options out of sight.
const maxFindings = 8

// Part describes the selected part, or the network where there is none such, or the
// site where it has no network.
func (p *Page) Part(look Look) *Inspection {
	n, ref := p.chosen(look)
	in := &Inspection{Version: p.Version(), Facts: []Fact{}, Actions: []Action{}, Findings: []Finding{},
		Effective: []Effective{}, Levels: []Level{}, Meant: []Meant{}}
	k, owner, part, ok := site.Find(p.Site, ref)
	switch {
	case ref.Kind == kindSeen && n != nil && p.inspectSeen(in, n, ref.ID):
	case ok && k.Name != site.KindOption:
		p.inspect(in, n, k, owner, ref, part)
	case n != nil:
		ref = site.Ref{Kind: site.KindNetwork, ID: n.ID}
		k, _, part, _ = site.Find(p.Site, ref)
		p.inspect(in, n, k, site.Ref{}, ref, part)
	default:
		ref = site.Ref{Kind: site.KindSite, ID: p.Site.ID}
		k, _, part, _ = site.Find(p.Site, ref)
		p.inspect(in, n, k, site.Ref{}, ref, part)
	}
	if in.Ref == "" {
		in.Ref = ref.String()
	}
	if len(in.Levels) == 0 {
		in.Levels = p.levels(n, nil)
	}
	p.listFindings(in, ref)
	return in
}

func (p *Page) listFindings(in *Inspection, ref site.Ref) {
	for _, f := range p.Judgement.Findings {
		switch {
		case !concerns(f, ref):
		case len(in.Findings) == maxFindings:
			in.More++
		default:
			in.Findings = append(in.Findings, p.finding(f))
		}
	}
	for _, m := range p.Judgement.Meant {
		if concerns(m.Finding, ref) {
			in.Meant = append(in.Meant, Meant{m.ID, m.Title, m.Says, m.Meant.Reason, m.Meant.By, m.Meant.At,
				m.Meant.Until})
		}
	}
}

// concerns reports whether a finding is about a part.
func concerns(f check.Finding, ref site.Ref) bool {
	return slices.Contains(f.Parts, ref) || ref.Kind == site.KindNetwork && ref.ID == f.Network ||
		ref.Kind == site.KindSite && f.Network == ""
}

// inspect describes a part by its fields, and by what is worked out of it.
func (p *Page) inspect(in *Inspection, n *site.Network, k *site.Kind, owner, ref site.Ref, part any) {
	in.Kind, in.Title = k.Title(), k.Called(part)
	if owner.ID != "" {
		in.In = owner.String()
		name, _ := site.NameOf(p.Site, owner)
		in.Facts = append(in.Facts, Fact{capital(noun(owner.Kind)), name, true})
	}
	for _, f := range k.Fields {
		if f.Input == site.InputHidden || !k.Applies(f, part) || f.Name == "name" && in.Title == f.Text(part) &&
			k.Name != site.KindReservation && k.Name != site.KindFixedDevice {
			continue
		}
		for _, line := range f.Show(p.Site, part) {
			in.Facts = append(in.Facts, Fact{f.Label, line, f.Mono})
		}
	}
	in.Facts = append(in.Facts, p.workedOut(part)...)
	p.tell(in, n, ref, part)
	in.Actions = append(in.Actions, p.actions(k, ref, owner, part)...)
}

func capital(word string) string { return strings.ToUpper(word[:1]) + word[1:] }

// workedOut lists facts about a part that are computed rather than typed.
func (p *Page) workedOut(part any) []Fact {
	var out []Fact
	add := func(label, value string, mono bool) {
		if value != "" {
			out = append(out, Fact{label, value, mono})
		}
	}
	switch v := part.(type) {
	case *site.Identity:
		add("Customer", p.Site.Customer.Name, false)
		add("Standard", p.Site.Standard.Name, false)
	case *site.Network:
		add("Mask", address.Mask(v.Prefix.Bits()).String(), true)
		add("Interface", compile.Where(p.Site, v), true)
	case *site.Pool:
		add("Hands out", site.Counted(address.Count(drawing.Offered(p.Scene, v)), "address"), false)
	case *site.Exclusion:
		add("Holds", site.Counted(v.Range.Size(), "address"), false)
	case *site.Device:
		add("Interfaces", strconv.Itoa(len(v.Interfaces)), false)
	case *site.Interface:
		if v.Peer == "" {
			add("Cable to", farEnds(p.Site)[v.ID], false)
		}
	}
	return out
}

// actions is what can be done with a part: what lies in it is added, it is changed,
// switched, removed.
func (p *Page) actions(k *site.Kind, ref, owner site.Ref, part any) []Action {
	var out []Action
	in := ""
	if owner.ID != "" {
		in = owner.String()
	}
	if len(k.Fields) > 0 {
		out = append(out, Action{Label: "Change", Form: &Opens{Kind: k.Name, ID: ref.ID, In: in}})
	}
	for _, f := range k.Fields {
		if f.Switch {
			label, to := "Switch on", "true"
			if f.Text(part) == "true" {
				label, to = "Switch off", "false"
			}
			out = append(out, Action{Label: label,
				Entry: &edit.Entry{Kind: k.Name, ID: ref.ID, In: in, Fields: map[string]string{f.Name: to}}})
		}
	}
	for _, inner := range site.Kinds() {
		if inner.In == k.Name {
			out = append(out, Action{Label: inner.Adds, Form: &Opens{Kind: inner.Name, In: ref.String()}})
		}
	}
	if n, ok := part.(*site.Network); ok {
		out = append(out, p.giveInterface(n)...)
	}
	if len(k.Fields) > 0 && !k.Fixed() {
		out = append(out, Action{Label: "Remove", Remove: true})
	}
	return out
}

// giveInterface offers the VLAN interface that a network lacks.
func (p *Page) giveInterface(n *site.Network) []Action {
	d, i, ok := check.ProposeInterface(p.Site, n)
	if !ok || compile.Where(p.Site, n) != "" {
		return nil
	}
	title := "Give " + d.Name + " an interface"
	return []Action{{Label: title,
		Form: &Opens{Kind: site.KindInterface, In: site.Ref{Kind: site.KindDevice, ID: d.ID}.String(), Title: title,
			Values: map[string]string{
				"name": i.Name, "kind": i.Kind, "parent": i.Parent, "vlan": strconv.Itoa(i.VLAN),
				"addresses": words(i.Addresses),
			}}}}
}

// tell fills in the effective options, and the levels whose options can be set.
func (p *Page) tell(in *Inspection, n *site.Network, ref site.Ref, part any) {
	var c compile.For
	switch v := part.(type) {
	case *site.Identity:
		in.Effective = effective(p.Own(), compile.Common(p.Site), ref)
		in.For, in.Levels = "every client", p.levels(nil, nil)
		return
	case *site.Network:
		c, in.For = compile.For{Network: v}, "its clients"
		if pools := p.PoolsOn(v); len(pools) > 0 {
			c.Pool = pools[0]
		}
	case *site.Pool:
		c, in.For = compile.For{Network: n, Pool: v}, "its clients"
	case *site.Reservation:
		pool, _ := compile.PoolOf(p.Site, v)
		c, in.For = compile.For{Network: n, Pool: pool, Reservation: v}, "this client"
	case *site.VendorClass:
		in.Effective = effective(p.Own(), compile.Effective(p.Site, compile.For{Network: n, Class: v}), ref)
		in.For = "a client of this class"
		in.Levels = []Level{{ref.String(), "the vendor class " + v.Name}}
		return
	default:
		return
	}
	if c.Network == nil {
		return
	}
	in.Effective = effective(p.Own(), compile.Effective(p.Site, c), ref)
	if ref.Kind == site.KindNetwork {
		in.Effective = p.toldOn(c.Network, ref)
	}
	in.Levels = p.levels(c.Network, c.Pool)
	if ref.Kind == site.KindNetwork && c.Pool != nil { // what one is on comes first
		in.Levels[0], in.Levels[1] = in.Levels[1], in.Levels[0]
	}
	if c.Reservation != nil {
		in.Levels = slices.Insert(in.Levels, 0, Level{ref.String(), "this reservation"})
	}
	// What the server works out by itself stands beside what is set.
	mask := Effective{Code: option.SubnetMask, Name: "Subnet mask", Mono: true,
		Value: address.Mask(c.Network.Prefix.Bits()).String(), From: "from the network's prefix"}
	in.Effective = slices.Insert(in.Effective, 0, mask)
}

// levels are whose options can be set, nearest first. n and pool may be nil.
func (p *Page) levels(n *site.Network, pool *site.Pool) []Level {
	var out []Level
	if pool != nil {
		out = append(out, Level{site.Ref{Kind: site.KindPool, ID: pool.ID}.String(), "the pool " + pool.Name})
	}
	if n != nil {
		out = append(out, Level{site.Ref{Kind: site.KindNetwork, ID: n.ID}.String(), "the network " + n.Name})
	}
	customer := p.Site.Customer
	out = append(out, Level{site.Ref{Kind: site.KindSite, ID: p.Site.ID}.String(), "the site " + p.Site.Name},
		Level{site.Ref{Kind: site.KindCustomer, ID: customer.ID}.String(),
			"the customer " + customer.Name + ", at this site alone"})
	if std := p.Site.Standard; std.ID != "" {
		out = append(out, Level{site.Ref{Kind: site.KindStandard, ID: std.ID}.String(),
			"the standard " + std.Name + ", at this site alone"})
	}
	return out
}

// PartView is a part that is listed by itself.
type PartView struct {
	Ref    string `json:"ref"`
	Name   string `json:"name"`
	Detail string `json:"detail"`
	Match  string `json:"match,omitempty"` // of a vendor class: how option 60 begins
}

// parts lists the parts of a kind with what their fields say.
func (p *Page) parts(kind string) []PartView {
	out := []PartView{}
	k, ok := site.KindNamed(kind)
	if !ok {
		return out
	}
	k.Each(p.Site, func(_ site.Ref, list site.List, i int) bool {
		part := list.At(i)
		v := PartView{Ref: site.Ref{Kind: kind, ID: list.ID(i)}.String(), Name: k.Called(part)}
		var says []string
		for _, f := range k.Fields {
			if lines := f.Show(p.Site, part); f.Name != "name" && len(lines) > 0 {
				says = append(says, strings.ToLower(f.Label[:1])+f.Label[1:]+" "+strings.Join(lines, ", "))
			}
		}
		v.Detail = strings.Join(says, "; ")
		if c, ok := part.(*site.VendorClass); ok {
			v.Match = c.Match
		}
		out = append(out, v)
		return true
	})
	return out
}
