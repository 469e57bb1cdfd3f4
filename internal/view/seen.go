package view

import (
	"cmp"
	"net/netip"

	"lithos/core/address"
	"lithos/core/edit"
	"lithos/core/observed"
	"lithos/core/option"
	"lithos/core/site"
)

// SeenView is everything seen at a site.
type SeenView struct {
	Seen []SeenRow `json:"seen"`
}

// SeenRow is one line of what was seen.
type SeenRow struct {
	observed.One
	NetworkName string   `json:"networkName"`
	Randomised  bool     `json:"randomised"`
	Actions     []Action `json:"actions"` // what can be made of somebody nobody recorded
}

// SeenAt lists what was seen at the site, with what to make of it.
func (p *Page) SeenAt() *SeenView {
	return &SeenView{p.seenRows(func(observed.One) bool { return true })}
}

func (p *Page) seenOn(n *site.Network) []SeenRow {
	return p.seenRows(func(o observed.One) bool { return o.Network == n.ID })
}

func (p *Page) seenRows(keep func(observed.One) bool) []SeenRow {
	out := []SeenRow{}
	if len(p.Seen) == 0 {
		return out
	}
	for _, o := range observed.Look(p.Site, p.Seen) {
		if !keep(o) {
			continue
		}
		o.Last = o.Last.Truncate(observed.Grain)
		row := SeenRow{One: o, Randomised: observed.Randomised(o.MAC), Actions: []Action{}}
		n, ok := p.Scene.Network(o.Network)
		if ok {
			row.NetworkName = n.Name
		}
		if ok && o.Ref == "" {
			row.Actions = p.record(n, o)
		}
		out = append(out, row)
	}
	return out
}

// record is what can be made of somebody seen whom nobody recorded: one step each, or
// a form where a word is needed.
func (p *Page) record(n *site.Network, o observed.One) []Action {
	name, _ := option.LawfulLabel(cmp.Or(o.Known, o.Name))
	fields := func(at netip.Addr) map[string]string {
		return map[string]string{"network": n.ID, "address": at.String(), "mac": o.MAC.String(), "name": name}
	}
	reserve := func(label string, at netip.Addr) Action {
		return Action{Label: label, Entry: &edit.Entry{Kind: site.KindReservation, New: true, Fields: fields(at)}}
	}
	out := []Action{reserve("Reserve "+address.Short(o.Address, n.Prefix), o.Address)}
	if free, ok := site.NextFree(p.Site, n); ok {
		out = append(out, reserve("Reserve it at "+address.Short(free, n.Prefix)+" instead", free))
	}
	out = append(out, Action{Label: "Record as fixed device",
		Form: &Opens{Kind: site.KindFixedDevice, Values: fields(o.Address)}})
	for _, pool := range p.PoolsOn(n) {
		if pool.Offers(o.Address) {
			out = append(out, Action{Label: "Exclude",
				Form: &Opens{Kind: site.KindExclusion, In: site.Ref{Kind: site.KindPool, ID: pool.ID}.String(),
					Title:  "Exclude the address",
					Values: map[string]string{"range": o.Address.String(), "reason": cmp.Or(o.Known, o.Name)}}})
			break
		}
	}
	known := func(label, title string) Action {
		form := &Opens{Kind: site.KindKnownClient, Title: title,
			Values: map[string]string{"mac": o.MAC.String(), "name": name}}
		if k, ok := p.KnownClient(o.MAC); ok {
			form.ID, form.Values = k.ID, nil
		}
		return Action{Label: label, Form: form}
	}
	return append(out, known("Name", "Name the client"), known("Ignore", "Ignore the client"))
}

// kindSeen is the kind of a reference to an address where somebody was seen.
const kindSeen = "seen"

func (p *Page) inspectSeen(in *Inspection, n *site.Network, id string) bool {
	rows := p.seenRows(func(o observed.One) bool { return o.Address.String() == id })
	if len(rows) == 0 {
		return false
	}
	v := rows[0]
	in.Ref, in.Kind, in.Title = kindSeen+":"+id, "Seen", cmp.Or(v.Known, v.Name, id)
	as := "a neighbour with an address of its own"
	if v.Source == observed.Lease {
		as = "a lease"
	}
	in.Facts = []Fact{{"Address", v.Address.String(), true}, {"MAC", v.MAC.String(), true},
		{"Heard by", v.Device, false}, {"As", as, false}}
	in.Actions = v.Actions
	return true
}
