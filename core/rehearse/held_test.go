package rehearse_test

import (
	"encoding/json"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/compile"
	"lithos/core/drift"
	"lithos/core/rehearse"
	"lithos/core/scenario"
	"lithos/core/yang"
)

// copied is a configuration that shares nothing with another.
func copied(t *testing.T, c yang.Config) yang.Config {
	raw, err := json.Marshal(c)
	require.NoError(t, err)
	var out yang.Config
	require.NoError(t, json.Unmarshal(raw, &out))
	return out
}

// A relay, a permit, a translation, a VLAN and a pool that somebody takes away at a device: each cuts off the clients
// of one network, which is told with the rung and the cause, and each can be adopted.
func Test38WhatIsHeldCutsNetworksOff(t *testing.T) {
	iface := func(c *yang.Config, name string) *yang.Interface {
		i := slices.IndexFunc(c.Interfaces.Interface, func(i yang.Interface) bool { return i.Name == name })
		require.GreaterOrEqual(t, i, 0, name)
		return &c.Interfaces.Interface[i]
	}
	for _, one := range []struct {
		what, site, device string
		change             func(c *yang.Config)
		network, rung      string
		says               string
	}{
		{"a relay", "moss-end", "dev-moss-sw", func(c *yang.Config) {
			c.Relays.Relay = slices.DeleteFunc(c.Relays.Relay,
				func(r yang.Relay) bool { return r.Interface == "vlan24" })
		}, "Ward", "lease", "Nothing relays Ward to srv-moss"},
		{"a permit", "kelder-bridge", "dev-gw-1", func(c *yang.Config) {
			iface(c, "lan.24").Permit = []string{"dns"}
		}, "Clinic floor", "lease", "DHCP"},
		{"a translation", "kelder-bridge", "dev-gw-1", func(c *yang.Config) {
			u := iface(c, "wan").Uplink
			u.Translate = u.Translate[:len(u.Translate)-1]
		}, "Waiting room", "internet", "No uplink translates 10.84.24.0/22"},
		{"a VLAN", "kelder-bridge", "dev-sw-core", func(c *yang.Config) {
			iface(c, "uplink1").Switchport.Tagged = []int{11, 24, 31, 66, 90}
		}, "Imaging", "link", "48"},
		{"a pool", "kelder-bridge", "dev-gw-1", func(c *yang.Config) {
			c.DHCP.Pool = slices.DeleteFunc(c.DHCP.Pool, func(p yang.Pool) bool { return p.ID == "pool-handsets" })
		}, "Handsets", "lease", "No device has a pool for Handsets"},
	} {
		s := scenario.Site(one.site)
		given := compile.Device(s, one.device)
		held := copied(t, given)
		one.change(&held)
		cuts := rehearse.Cuts(now, s, map[string]yang.Config{one.device: held})
		require.Len(t, cuts, 1, "%s: %v", one.what, cuts)
		n, _ := s.Network(cuts[0].Network)
		assert.Equal(t, one.network, n.Name, one.what)
		assert.Equal(t, one.rung, cuts[0].Rung, one.what)
		assert.Contains(t, cuts[0].Says, one.says, one.what)

		differences := drift.Between(s.Own(), given, held, given)
		adopted, refused := drift.Adopt(s, one.device, held, differences)
		assert.Empty(t, refused, "%s can be adopted", one.what)
		left := drift.Between(s.Own(), compile.Device(adopted, one.device), held, given)
		assert.Empty(t, slices.DeleteFunc(left, func(d drift.Difference) bool { return d.Beside }), one.what)
		assert.Empty(t, rehearse.Cuts(now, adopted, map[string]yang.Config{one.device: held}),
			"%s: adopted, the site means it", one.what)
	}
	s := scenario.Site("kelder-bridge")
	assert.Empty(t, rehearse.Cuts(now, s, map[string]yang.Config{"dev-gw-1": compile.Device(s, "dev-gw-1")}))
}
