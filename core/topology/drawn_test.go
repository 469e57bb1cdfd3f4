package topology_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/site"
	"lithos/core/topology"
	"lithos/core/yang"
)

func prefix(p string) []netip.Prefix { return []netip.Prefix{netip.MustParsePrefix(p)} }

// chain is a router, two switches one behind the other, and a server at the second. VLAN 7 passes
// all with a tag; on its way to the server it has none.
func chain() *site.Site {
	port := func(id, name, peer string, untagged int, tagged ...int) site.Interface {
		return site.Interface{ID: id, Name: name, Kind: site.Port, Peer: peer, Untagged: untagged, Tagged: tagged}
	}
	return &site.Site{Name: "Chain", Networks: []site.Network{
		{ID: "n", Name: "Desks", Prefix: netip.MustParsePrefix("10.0.7.0/24"), VLAN: 7}},
		Devices: []site.Device{
			{ID: "r", Name: "rt", Kind: site.Router, Interfaces: []site.Interface{
				port("r1", "lan", "a1", 1),
				{ID: "r7", Name: "lan.7", Kind: site.VLAN, VLAN: 7, Parent: "lan", Addresses: prefix("10.0.7.1/24")},
				{ID: "r8", Name: "loop", Kind: site.Loopback, Addresses: prefix("10.0.8.1/32")},
				{ID: "rw", Name: "wan", Kind: site.Uplink}}},
			{ID: "a", Name: "sw-a", Kind: site.L2Switch, Interfaces: []site.Interface{
				port("a1", "up", "r1", 1, 7), port("a2", "down", "b1", 1, 7), port("a3", "p3", "", 7)}},
			{ID: "b", Name: "sw-b", Kind: site.L2Switch, Interfaces: []site.Interface{
				port("b1", "up", "a2", 1, 7), port("b2", "p2", "", 7), port("b3", "srv", "s1", 7), port("b4", "ap",
					"", 0, 7)}},
			{ID: "s", Name: "srv", Kind: site.Server, Interfaces: []site.Interface{
				{ID: "s1", Name: "eth0", Kind: site.Port, Peer: "b3", Addresses: prefix("10.0.7.2/24")}}},
		}}
}

func ends(list []topology.End) string {
	var out []string
	for _, e := range list {
		out = append(out, e.String())
	}
	return strings.Join(out, ", ")
}

func TestWay(t *testing.T) {
	m := topology.Learn(chain())
	assert.Equal(t, "lan of rt, up of sw-a, down of sw-a, up of sw-b, srv of sw-b, eth0 of srv", ends(m.Way("r", "s")))
	assert.Equal(t, "eth0 of srv, srv of sw-b", ends(m.Way("s", "b")))
	assert.Empty(t, m.Way("r", "r"))
	assert.Empty(t, m.Way("r", "nowhere"))
	assert.True(t, m.Cabled("b3"))
	assert.False(t, m.Cabled("b4"))
}

// Frames reach the server without a tag, and come out where a client can be plugged in.
func TestPathOfTheChain(t *testing.T) {
	s := chain()
	p := path(t, s, "n")
	assert.Equal(t, "lan.7 of rt, eth0 of srv", ends(p.Homes))
	assert.Equal(t, "p2 of sw-b, p3 of sw-a", ends(sorted(p.Plugs)))
	assert.Equal(t, "ap of sw-b", ends(p.Trunks))
	assert.Empty(t, p.Breaks)
	require.Len(t, p.Segments, 1)
	assert.True(t, p.Segments[0].Has("s", "eth0"))
	assert.False(t, p.Segments[0].Has("s", "lan.7"), "of another device")
	assert.False(t, p.Segments[0].Has("r", "eth0"))
	_, i, ok := topology.Hearing(s, &s.Networks[0])
	require.True(t, ok)
	assert.Equal(t, "lan.7", i.Name, "the first with an address there")

	s.Networks[0].VLAN = 0
	assert.Empty(t, path(t, &site.Site{Networks: s.Networks}, "n").Segments)
	assert.False(t, path(t, &site.Site{Networks: s.Networks}, "n").Drawn)
}

func sorted(list []topology.End) []topology.End {
	out := append([]topology.End{}, list...)
	for i := range out {
		for k := range i {
			if out[i].String() < out[k].String() {
				out[i], out[k] = out[k], out[i]
			}
		}
	}
	return out
}

// A port that takes a VLAN with a tag loses what comes without one, unless those frames become that VLAN's anyway.
func TestUntaggedIntoTagged(t *testing.T) {
	s := chain()
	a2 := iface(t, s, "a2")
	a2.Untagged, a2.Tagged = 7, nil
	p := path(t, s, "n")
	require.NotEmpty(t, p.Breaks)
	assert.Equal(t, "down of sw-a sends VLAN 7 without a tag, and up of sw-b takes it with one", p.Breaks[0].Says)
	assert.Len(t, p.Segments, 2, "the server is cut off")
	b1 := iface(t, s, "b1")
	b1.Untagged, b1.Tagged = 7, []int{7}
	p = path(t, s, "n")
	assert.Empty(t, p.Breaks)
	assert.Len(t, p.Segments, 1)
}

// A port group carries its members' frames, and VLAN interfaces on it tag them, but for its own untagged VLAN.
func TestTaggedOfGroups(t *testing.T) {
	d := &site.Device{Kind: site.Router, Interfaces: []site.Interface{
		{Name: "p1", Kind: site.Port}, {Name: "p2", Kind: site.Port, Untagged: 5},
		{Name: "br", Kind: site.PortGroup, Members: []string{"p1", "p2"}, Untagged: 9, Tagged: []int{20}},
		{Name: "v0", Kind: site.VLAN, VLAN: 0, Parent: "br"}, {Name: "v1", Kind: site.VLAN, VLAN: 1, Parent: "br"},
		{Name: "v5", Kind: site.VLAN, VLAN: 5, Parent: "br"}, {Name: "v9", Kind: site.VLAN, VLAN: 9, Parent: "br"},
		{Name: "x", Kind: site.VLAN, VLAN: 30, Parent: "other"}, {Name: "y", Kind: site.Port, VLAN: 31, Parent: "br"}}}
	assert.Equal(t, []int{1, 5, 20}, topology.Tagged(d, &d.Interfaces[0]))
	assert.Equal(t, []int{1, 20}, topology.Tagged(d, &d.Interfaces[1]))
	assert.Equal(t, 9, topology.Untagged(d, &d.Interfaces[0]))
	assert.Equal(t, 5, topology.Untagged(d, &d.Interfaces[1]))
}

// Each network of a router's ports is its own: a port that is in no group sends nothing of another's.
func TestPortsOfARouterAreApart(t *testing.T) {
	s := &site.Site{Networks: []site.Network{{ID: "n", Prefix: netip.MustParsePrefix("10.0.1.0/24")}},
		Devices: []site.Device{{ID: "r", Name: "rt", Kind: site.Router, Interfaces: []site.Interface{
			{ID: "br", Name: "br", Kind: site.PortGroup, Members: []string{"p1", "p2"}, Addresses: prefix(
				"10.0.1.1/24")},
			{ID: "1", Name: "p1", Kind: site.Port}, {ID: "2", Name: "p2", Kind: site.Port}, {ID: "3", Name: "p3",
				Kind: site.Port}, {ID: "u", Name: "wan", Kind: site.Uplink, Peer: "u2"}}},
			{ID: "m", Name: "modem", Kind: site.Server, Interfaces: []site.Interface{{ID: "u2", Name: "eth",
				Kind: site.Port}}}}}
	p := path(t, s, "n")
	assert.Equal(t, "p1 of rt, p2 of rt", ends(p.Plugs))
	assert.Len(t, topology.Learn(s).Cables, 1, "an uplink may have a cable, too")
}

func TestSentence(t *testing.T) {
	s := chain()
	n := &s.Networks[0]
	say := func() string { return topology.Draw(s, n).Says }
	assert.Equal(t, "Desks is on lan.7 of rt and comes out at p2 of sw-b, p3 of sw-a.", say())
	b := &s.Devices[2]
	for _, name := range []string{"p5", "p6"} {
		b.Interfaces = append(b.Interfaces, site.Interface{ID: name, Name: name, Kind: site.Port, Untagged: 7})
		if name == "p5" {
			assert.Equal(t, "Desks is on lan.7 of rt and comes out at p2 of sw-b, p5 of sw-b, p3 of sw-a.", say())
		}
	}
	assert.Equal(t, "Desks is on lan.7 of rt and comes out at p2 of sw-b, p5 of sw-b, p6 of sw-b and 1 more.", say())
	for i := range s.Devices {
		for k := range s.Devices[i].Interfaces {
			if f := &s.Devices[i].Interfaces[k]; f.Peer == "" {
				f.Untagged = 0
			}
		}
	}
	assert.Equal(t, "Desks is on lan.7 of rt and comes out at no port.", say())
	n.Prefix = netip.MustParsePrefix("10.9.0.0/24")
	assert.Equal(t, "No device has an interface in 10.9.0.0/24.", say())
}

// Each row of the picture has as many places as devices, and a cable says what passes it.
func TestDrawingOfTheChain(t *testing.T) {
	s := chain()
	s.Devices = append(s.Devices, site.Device{ID: "f", Name: "fw", Kind: site.Firewall}, site.Device{ID: "l",
		Kind: site.Server})
	d := topology.Draw(s, &s.Networks[0])
	got := map[string][2]int{}
	for _, b := range d.Devices {
		got[b.ID] = [2]int{b.Row, b.Place}
	}
	assert.Equal(t, map[string][2]int{"r": {0, 0}, "f": {0, 1}, "a": {1, 0}, "b": {2, 0}, "s": {3, 0}, "l": {3, 1}},
		got)
	assert.Equal(t, []int{4, 2}, []int{d.Rows, d.Places})
	carried := map[string]string{}
	for _, c := range d.Cables {
		carried[c.FromPort+" to "+c.ToPort] = c.Carries
		assert.True(t, c.Lit)
		assert.False(t, c.Broken)
	}
	assert.Equal(t, map[string]string{"lan to up": "1 untagged, 7 tagged", "down to up": "1 untagged, 7 tagged",
		"srv to eth0": "7 untagged"}, carried)
	iface(t, s, "a2").Untagged, iface(t, s, "b1").Untagged = 0, 0
	assert.Equal(t, "7 tagged", topology.Draw(s, nil).Cables[1].Carries)
}

// A network's requests are heard where a relay passes them on, or where a pool of the device that is on serves it.
func TestHearing(t *testing.T) {
	s := chain()
	n := &s.Networks[0]
	hears := func() string {
		_, i, _ := topology.Hearing(s, n)
		return i.Name
	}
	pool := site.Pool{ID: "p", Network: "n", Server: "s", Enabled: true}
	for what, c := range map[string]struct {
		change func(*site.Pool)
		on     string
	}{
		"served by the server": {func(*site.Pool) {}, "eth0"}, "that is off": {func(p *site.Pool) {
			p.Enabled = false
		}, "lan.7"},
		"of another network":            {func(p *site.Pool) { p.Network = "m" }, "lan.7"},
		"of a device that is not there": {func(p *site.Pool) { p.Server = "x" }, "lan.7"},
	} {
		p := pool
		c.change(&p)
		s.Pools = []site.Pool{p}
		assert.Equal(t, c.on, hears(), what)
	}
	s.Pools = nil
	iface(t, s, "s1").RelayTo = []netip.Addr{netip.MustParseAddr("10.0.9.1")}
	assert.Equal(t, "eth0", hears())
	iface(t, s, "s1").Addresses = prefix("10.0.6.2/24")
	assert.Equal(t, "lan.7", hears(), "an address of another network")
}

// What a device is configured to tells where a client's frames are heard; what is switched off hears nothing.
func TestHeardAsConfigured(t *testing.T) {
	c := yang.Config{Interfaces: yang.Interfaces{Interface: []yang.Interface{
		{Name: "wan", Type: yang.TypeEthernet, Enabled: true, Uplink: &yang.Uplink{Method: "dhcp"}},
		{Name: "p1", Type: yang.TypeEthernet, Enabled: true, Switchport: &yang.Switchport{Untagged: 7,
			Tagged: []int{8}}},
		{Name: "p2", Type: yang.TypeEthernet, Enabled: true},
		{Name: "v7", Type: yang.TypeVLAN, Enabled: true, VLAN: &yang.VLAN{ID: 7}, Permit: []string{"dns"},
			IPv4: &yang.IPv4{
				Address: []yang.Address{{IP: netip.MustParseAddr("10.0.7.1"), PrefixLength: 24}}}},
		{Name: "v8", Type: yang.TypeVLAN, Enabled: true, VLAN: &yang.VLAN{ID: 8}, IPv4: &yang.IPv4{
			Address: []yang.Address{{IP: netip.MustParseAddr("10.0.8.1"), PrefixLength: 24}}}},
		{Name: "v9", Type: yang.TypeVLAN, VLAN: &yang.VLAN{ID: 7}},
		{Name: "v6", Type: yang.TypeVLAN, Enabled: true, VLAN: &yang.VLAN{ID: 7}},
	}}}
	list := topology.ConfiguredInterfaces("d", c)
	require.Len(t, list, 6, "v9 is off")
	assert.Equal(t, site.Interface{ID: "d/wan", Name: "wan", Kind: site.Uplink}, list[0])
	assert.Equal(t, site.Interface{ID: "d/p1", Name: "p1", Kind: site.Port, Untagged: 7, Tagged: []int{8}}, list[1])
	assert.Equal(t, site.Interface{ID: "d/v7", Name: "v7", Kind: site.VLAN, VLAN: 7, Permits: []string{"dns"},
		Addresses: prefix("10.0.7.1/24")}, list[3])
	m := topology.Learn(&site.Site{Devices: []site.Device{{ID: "d", Name: "sw", Kind: site.L3Switch,
		Interfaces: list}}})
	assert.Equal(t, "v7 of sw", ends(m.Heard("d", "p1")))
	assert.Empty(t, m.Heard("d", "p2"))
	assert.Empty(t, m.Heard("d", "p9"))
	assert.Empty(t, m.Heard("e", "p1"))
}
