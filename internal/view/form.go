package view

import (
	"net/netip"
	"strconv"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/links"
	"lithos/core/site"
	"lithos/internal/act"
)

// Form makes the form of a part. network is the one that is looked at.
func (p *Page) Form(o Opens, network string) (*edit.Form, error) {
	n, _ := p.Scene.Network(network)
	form, err := edit.FormOf(p.Site, o.Kind, o.ID, site.ParseRef(o.In), n)
	if err != nil {
		return nil, act.Refuse(act.Missing, "%s.", capital(err.Error()))
	}
	return &form, nil
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
		return nil, act.Refuse(act.Conflict,
			"No /%d is free in %s. Type a larger number for a smaller network, or give the site another block.", bits,
			words(p.Block))
	}
	return map[string]string{"prefix": prefix.String(), "vlan": strconv.Itoa(check.FreeVLAN(p.Site)),
		"gateway": address.Usable(prefix).From.String()}, nil
}

// Links draws how the site's devices are joined, with the path of a network lit.
func (p *Page) Links(network string) *links.Drawing {
	n, ok := p.Scene.Network(network)
	if !ok {
		n = nil
	}
	d := links.Draw(p.Site, n)
	return &d
}
