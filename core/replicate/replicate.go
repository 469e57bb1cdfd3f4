// Package replicate places what was edited at one site at another: each part is found there by its role and name,
// addresses keep their host number, and names their place below the site's domain.
package replicate

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/address"
	"lithos/core/edit"
	"lithos/core/site"
)

// Left is an edit that has no place at the other site.
type Left struct {
	Edit edit.Edit
	Says string // the edit
	Why  string // a sentence
}

// Place makes edits, which lead from one document to another of a site, fit a second site. What is so there already is
// passed over; what does not fit is left. newID makes an id for a part of a kind.
func Place(was, now, at *site.Site, edits []edit.Edit, newID func(kind string) string) ([]edit.Edit, []Left) {
	p := placer{was: was, now: now, at: at, newID: newID, ids: map[site.Ref]string{}}
	var out []edit.Edit
	var left []Left
	doc := at
	for _, e := range edits {
		p.at = doc
		placed, why := p.edit(e)
		if why == "" && placed != nil {
			next, err := edit.Apply(doc, *placed)
			if err != nil {
				why = err.Error()
			} else {
				doc = next
				out = append(out, *placed)
			}
		}
		if why != "" {
			left = append(left, Left{e, edit.Describe(now, e), why})
		}
	}
	return out, left
}

type placer struct {
	was, now, at *site.Site
	newID        func(kind string) string
	ids          map[site.Ref]string // of the parts that were added, at the other site
}

// edit is what an edit is at the other site: nil where that is so already, or why it has no place there.
func (p *placer) edit(e edit.Edit) (placed *edit.Edit, why string) {
	if secret(e) {
		return nil, "a password or key is kept for its own site; type it there"
	}
	out := edit.Edit{Op: e.Op, Part: e.Part}
	if e.In.Kind != "" {
		if out.In, why = p.ref(e.In); why != "" {
			return nil, why
		}
	}
	switch e.Op {
	case edit.Add:
		if e.Part.Kind != site.KindOption {
			if there, found := p.named(e.Part, out.In); found {
				return nil, fmt.Sprintf("%s has %s already", p.at.Name, called(p.at, there))
			}
			out.Part.ID = p.newID(e.Part.Kind)
			p.ids[e.Part] = out.Part.ID
		}
		if out.Value, why = p.value(e.Value); why != "" {
			return nil, why
		}
		out.Value = withID(out.Value, out.Part)
	default:
		if out.Part, why = p.part(e.Part, out.In); why != "" {
			return nil, why
		}
		for _, f := range e.Fields {
			if f.To, why = p.value(f.To); why != "" {
				return nil, why
			}
			out.Fields = append(out.Fields, f)
		}
	}
	return p.over(out)
}

// secret reports whether an edit sets a password or a key, by the name it is kept under.
func secret(e edit.Edit) bool {
	if slices.ContainsFunc(e.Fields, func(f edit.Field) bool { return f.Name == "secret" && len(f.To) > 2 }) {
		return true
	}
	var keys map[string]json.RawMessage
	return json.Unmarshal(e.Value, &keys) == nil && len(keys["secret"]) > 2
}

// over is an edit on what the other site has.
func (p *placer) over(e edit.Edit) (*edit.Edit, string) {
	scratch := *p.at
	if _, ok := site.ListOf(&scratch, e.Part.Kind, e.In); !ok {
		return nil, p.at.Name + " has no place for it"
	}
	if edit.Made(p.at, e) {
		return nil, ""
	}
	over, ok := edit.Over(p.at, e)
	if !ok {
		return nil, fmt.Sprintf("it does not fit %s", p.at.Name)
	}
	return &over, ""
}

func withID(raw json.RawMessage, part site.Ref) json.RawMessage {
	if part.Kind == site.KindOption {
		return raw
	}
	var keys map[string]json.RawMessage
	if json.Unmarshal(raw, &keys) != nil || keys["id"] == nil {
		return raw
	}
	keys["id"], _ = json.Marshal(part.ID)
	out, err := json.Marshal(keys)
	if err != nil {
		return raw
	}
	return out
}

// part is what a part that is changed or removed is at the other site.
func (p *placer) part(ref, in site.Ref) (site.Ref, string) {
	if ref.Kind == site.KindOption {
		return ref, "" // its id is its code
	}
	return p.in(ref, in)
}

func (p *placer) ref(ref site.Ref) (site.Ref, string) { return p.in(ref, site.Ref{}) }

func (p *placer) in(ref, in site.Ref) (site.Ref, string) {
	if id, added := p.ids[ref]; added {
		return site.Ref{Kind: ref.Kind, ID: id}, ""
	}
	found, ok := p.named(ref, in)
	if !ok {
		return found, fmt.Sprintf("%s has no %s like %s", p.at.Name, noun(ref.Kind), called(p.now, ref))
	}
	return found, ""
}

func noun(kind string) string {
	if k, ok := site.KindNamed(kind); ok {
		return k.Noun
	}
	return kind
}

// called is the name of a part at a site, which had it at least before.
func called(s *site.Site, ref site.Ref) string {
	name, _ := site.NameOf(s, ref)
	return name
}

// named finds the part at the other site that has the role and name of one here.
func (p *placer) named(ref, in site.Ref) (site.Ref, bool) {
	kind, known := site.KindNamed(ref.Kind)
	if !known {
		return ref, false
	}
	if kind.Fixed() {
		switch ref.Kind {
		case site.KindCustomer:
			return site.Ref{Kind: ref.Kind, ID: p.at.Customer.ID}, p.at.Customer.ID == ref.ID
		case site.KindStandard:
			return site.Ref{Kind: ref.Kind, ID: p.at.Standard.ID}, p.at.Standard.ID == ref.ID
		}
		return site.Ref{Kind: ref.Kind, ID: p.at.ID}, ref.Kind == site.KindSite
	}
	from := p.now
	_, _, part, ok := site.Find(from, ref)
	if !ok {
		from = p.was
		_, _, part, ok = site.Find(from, ref)
	}
	if !ok {
		return ref, false
	}
	name := kind.Called(part)
	var byName, byRole []string
	kind.Each(p.at, func(owner site.Ref, list site.List, i int) bool {
		if in.Kind != "" && owner != in {
			return true
		}
		other := list.At(i)
		if !p.akin(from, part, other) {
			return true
		}
		byRole = append(byRole, list.ID(i))
		if strings.EqualFold(kind.Called(other), name) {
			byName = append(byName, list.ID(i))
		}
		return true
	})
	switch {
	case len(byName) == 1:
		return site.Ref{Kind: ref.Kind, ID: byName[0]}, true
	case len(byName) == 0 && len(byRole) == 1 && hasRole(part):
		return site.Ref{Kind: ref.Kind, ID: byRole[0]}, true
	}
	return ref, false
}

// hasRole reports whether a part is known by more than its name.
func hasRole(part any) bool {
	switch part.(type) {
	case *site.Network, *site.Device, *site.Interface, *site.Pool, *site.Resolver:
		return true
	}
	return false
}

// akin reports whether two parts have the same role: devices of a kind, networks of a VLAN or a name, interfaces in
// networks that correspond, what is on such networks.
func (p *placer) akin(from *site.Site, a, b any) bool {
	switch a := a.(type) {
	case *site.Device:
		return a.Kind == b.(*site.Device).Kind
	case *site.Network:
		o := b.(*site.Network)
		return strings.EqualFold(a.Name, o.Name) || a.VLAN != 0 && a.VLAN == o.VLAN
	case *site.Interface:
		o := b.(*site.Interface)
		return a.Kind == o.Kind && (strings.EqualFold(a.Name, o.Name) || p.corresponds(p.networkIn(from, a),
			p.networkIn(p.at, o)))
	case *site.Pool:
		return p.corresponds(a.Network, b.(*site.Pool).Network)
	case *site.Reservation:
		return p.corresponds(a.Network, b.(*site.Reservation).Network)
	}
	return true
}

func (p *placer) networkIn(s *site.Site, f *site.Interface) string {
	for _, a := range f.Addresses {
		for i := range s.Networks {
			if s.Networks[i].Prefix.Contains(a.Addr()) {
				return s.Networks[i].ID
			}
		}
	}
	return ""
}

// corresponds reports whether a network of the other site takes the place of one here.
func (p *placer) corresponds(here, there string) bool {
	if here == "" || there == "" {
		return false
	}
	ref, ok := p.ref(site.Ref{Kind: site.KindNetwork, ID: here})
	return ok == "" && ref.ID == there
}

// value is a value with what it names and its addresses as they are at the other site.
func (p *placer) value(raw json.RawMessage) (json.RawMessage, string) {
	var v any
	if len(raw) == 0 || json.Unmarshal(raw, &v) != nil {
		return raw, ""
	}
	v, why := p.translate(v)
	if why != "" {
		return nil, why
	}
	out, err := json.Marshal(v)
	if err != nil {
		return nil, err.Error()
	}
	return out, ""
}

func (p *placer) translate(v any) (any, string) {
	switch v := v.(type) {
	case []any:
		for i := range v {
			var why string
			if v[i], why = p.translate(v[i]); why != "" {
				return nil, why
			}
		}
	case map[string]any:
		for key := range v {
			if key == "id" {
				continue
			}
			var why string
			if v[key], why = p.translate(v[key]); why != "" {
				return nil, why
			}
		}
	case string:
		return p.text(v)
	}
	return v, ""
}

// text is a string of a value: the id of a part, an address or a list of them, a prefix, a name.
func (p *placer) text(text string) (string, string) {
	for _, k := range site.Kinds() {
		ref := site.Ref{Kind: k.Name, ID: text}
		_, _, _, here := site.Find(p.now, ref)
		if _, _, _, before := site.Find(p.was, ref); k.Name == site.KindOption || !here && !before {
			continue
		}
		there, why := p.ref(ref)
		return there.ID, why
	}
	if strings.Contains(text, ",") {
		parts := strings.Split(text, ",")
		for i, part := range parts {
			bare := strings.TrimSpace(part)
			placed, why := p.text(bare)
			if why != "" {
				return "", why
			}
			parts[i] = strings.Replace(part, bare, placed, 1)
		}
		return strings.Join(parts, ","), ""
	}
	if a, err := netip.ParseAddr(text); err == nil {
		placed, why := p.address(a)
		return placed.String(), why
	}
	if q, err := netip.ParsePrefix(text); err == nil {
		return p.prefix(q)
	}
	if d := p.now.Domain; d != "" && p.at.Domain != "" && (text == d || strings.HasSuffix(text, "."+d)) {
		return strings.TrimSuffix(text, d) + p.at.Domain, ""
	}
	return text, ""
}

// address is the one with the same host number in the network that takes the place of its own. One that is in no
// network of the site stays what it is.
func (p *placer) address(a netip.Addr) (netip.Addr, string) {
	n, there, why := p.networkOf(a)
	if n == nil || why != "" {
		return a, why
	}
	all := address.Of(there.Prefix)
	offset := address.Uint(a) - address.Uint(n.Prefix.Masked().Addr())
	if uint64(offset) >= uint64(all.Size()) {
		return a, fmt.Sprintf("%s has no address with the host number of %s: %s is smaller", p.at.Name, a, there.Name)
	}
	return address.FromUint(address.Uint(all.From) + offset), ""
}

func (p *placer) prefix(q netip.Prefix) (string, string) {
	n, there, why := p.networkOf(q.Addr())
	if n == nil || why != "" {
		return q.String(), why
	}
	if q.Masked() == n.Prefix.Masked() && q.Addr() == q.Masked().Addr() {
		return there.Prefix.String(), ""
	}
	a, why := p.address(q.Addr())
	bits := q.Bits()
	if bits == n.Prefix.Bits() {
		bits = there.Prefix.Bits()
	}
	return netip.PrefixFrom(a, bits).String(), why
}

// networkOf is the network an address is in, and the one that takes its place.
func (p *placer) networkOf(a netip.Addr) (here, there *site.Network, why string) {
	for _, s := range []*site.Site{p.now, p.was} {
		for i := range s.Networks {
			n := &s.Networks[i]
			if !n.Prefix.Contains(a) {
				continue
			}
			ref, why := p.ref(site.Ref{Kind: site.KindNetwork, ID: n.ID})
			if why != "" {
				return n, nil, why
			}
			there, ok := p.at.Network(ref.ID)
			if !ok {
				return n, nil, fmt.Sprintf("%s has no network like %s", p.at.Name, n.Name)
			}
			return n, there, ""
		}
	}
	return nil, nil, ""
}
