package view

import (
	"net/netip"
	"slices"
	"strconv"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/site"
	"lithos/core/topology"
	"lithos/internal/actor"
	"lithos/internal/order"
)

// Form makes the form of a part. network is the one that is looked at.
func (p *Page) Form(o Opens, network string) (*edit.Form, error) {
	n, _ := p.Scene.Network(network)
	form, err := edit.FormOf(p.Site, o.Kind, o.ID, site.ParseRef(o.In), n)
	if err != nil {
		return nil, actor.Refuse(actor.Missing, "%s.", capital(err.Error()))
	}
	if d, ok := p.Device(site.ParseRef(o.In).ID); ok && form.New && o.Kind == site.KindInterface {
		p.proposed(&form, d, n)
	}
	if in := site.ParseRef(o.In); form.New && o.Kind == site.KindInterface && order.On(p.beside.Access, in.ID) != nil {
		withoutPorts(&form)
	}
	return &form, nil
}

// proposed fills in what a new interface of a device most likely is: the one that the network that is looked at lacks,
// else the first network that no device has an address in.
func (p *Page) proposed(form *edit.Form, d *site.Device, n *site.Network) {
	lacks := func(n *site.Network) (site.Interface, bool) {
		if _, _, _, has := p.InterfaceOn(n); has {
			return site.Interface{}, false
		}
		return check.ProposeInterfaceOn(d, n)
	}
	var i site.Interface
	ok := false
	if n != nil {
		i, ok = lacks(n)
	}
	for k := 0; !ok && k < len(p.Networks); k++ {
		i, ok = lacks(&p.Networks[k])
	}
	if !ok {
		return
	}
	values := map[string]string{"name": i.Name, "kind": i.Kind, "parent": i.Parent, "vlan": strconv.Itoa(i.VLAN),
		"addresses": words(i.Addresses)}
	for k := range form.Fields {
		if text, set := values[form.Fields[k].Name]; set {
			form.Fields[k].Value = text
		}
	}
}

// withoutPorts takes the ports out of what can be added to a device that Lithos reads: it has those
// that it has.
func withoutPorts(form *edit.Form) {
	for i := range form.Fields {
		f := &form.Fields[i]
		if f.Name != "kind" {
			continue
		}
		f.Choices = slices.DeleteFunc(slices.Clone(f.Choices),
			func(c site.Choice) bool { return c.Value == site.Port || c.Value == site.Uplink })
		if !slices.ContainsFunc(f.Choices, func(c site.Choice) bool { return c.Value == f.Value }) {
			f.Value = f.Choices[0].Value
		}
	}
}

// Room is a network that fits in: the next free prefix of a length, a VLAN id and a
// gateway.
func (p *Page) Room(bits int) (map[string]string, error) {
	var used []netip.Prefix
	for _, n := range p.Networks {
		used = append(used, n.Prefix.Masked())
	}
	prefix, ok := address.NextPrefix(p.Block, used, bits)
	if !ok {
		return nil, actor.Refuse(actor.Conflict,
			"No /%d is free in %s. Type a larger number for a smaller network, or give the site another block.", bits,
			words(p.Block))
	}
	return map[string]string{"prefix": prefix.String(), "vlan": strconv.Itoa(check.FreeVLAN(p.Site)),
		"gateway": address.Usable(prefix).From.String()}, nil
}

// Links draws how the site's devices are joined, with the path of a network lit.
func (p *Page) Topology(network string) *topology.Drawing {
	n, ok := p.Scene.Network(network)
	if !ok {
		n = nil
	}
	d := topology.Draw(p.Site, n)
	return &d
}
