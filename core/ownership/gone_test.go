package ownership_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"lithos/core/ownership"
	"lithos/core/scenario"
	"lithos/core/site"
)

// Number 17: what a dead link leads to is what has its network, its addresses, its VLAN or its address now.
func Test17WhatIsNearestToWhatIsGone(t *testing.T) {
	was := scenario.Site("kelder-bridge")
	imaging, _ := was.Network("net-imaging")
	ref := site.Ref{Kind: site.KindNetwork, ID: imaging.ID}
	for what, c := range map[string]struct {
		change func(n *site.Network)
		near   string
	}{
		"its addresses": {func(n *site.Network) { n.ID, n.VLAN, n.Name = "net-new", 0, "New" }, "net-new"},
		"its VLAN": {func(n *site.Network) {
			n.ID, n.Name, n.Prefix = "net-new", "New", scenario.Site("hallin-road").Networks[0].Prefix
		}, "net-new"},
		"nothing of it": {func(n *site.Network) { *n = was.Networks[0] }, ""},
	} {
		now := scenario.Site("kelder-bridge")
		n, _ := now.Network("net-imaging")
		c.change(n)
		near, _, _ := ownership.Nearest(was, now, ref)
		assert.Equal(t, c.near, near, what)
	}
	now := scenario.Site("kelder-bridge")
	r := now.Reservations[0]
	before := scenario.Site("kelder-bridge")
	before.Reservations[0].ID = "res-old"
	near, part, why := ownership.Nearest(before, now, site.Ref{Kind: site.KindReservation, ID: "res-old"})
	assert.Equal(t, r.Network, near)
	assert.Equal(t, r.ID, part.ID)
	assert.Contains(t, why, r.Address.String())
}
