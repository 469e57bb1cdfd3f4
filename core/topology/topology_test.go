package topology_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/topology"
)

func iface(t *testing.T, s *site.Site, id string) *site.Interface {
	_, i, ok := s.Interface(id)
	require.True(t, ok, id)
	return i
}

func path(t *testing.T, s *site.Site, network string) topology.Path {
	n, ok := s.Network(network)
	require.True(t, ok)
	return topology.Learn(s).Path(n)
}

func plugs(p topology.Path) []string {
	out := []string{}
	for _, e := range p.Plugs {
		out = append(out, e.String())
	}
	return out
}

func TestPathsOfTheScenario(t *testing.T) {
	kelder, moss, quill := scenario.Site("kelder-bridge"), scenario.Site("moss-end"), scenario.Site("quill-street")
	for _, c := range []struct {
		s       *site.Site
		network string
		plugs   []string
	}{
		{kelder, "net-clinic", []string{"port2 of sw-core", "port1 of sw-ward", "port2 of sw-ward"}},
		{kelder, "net-imaging", []string{"port3 of sw-ward"}},
		{kelder, "net-waiting", []string{}}, // over the air alone
		{moss, "net-moss-ward", []string{"port3 of sw-moss", "port3 of sw-barn"}},
		{moss, "net-moss-bench", []string{}},
		{quill, "net-quill-lab", []string{"port2 of sw-attic"}},
		{quill, "net-quill-home", []string{"p2 of rt-quill"}},
	} {
		p := path(t, c.s, c.network)
		assert.Empty(t, p.Breaks, c.network)
		assert.ElementsMatch(t, c.plugs, plugs(p), c.network)
		assert.True(t, p.Drawn)
	}
}

func TestWherePathsBreak(t *testing.T) {
	cases := []struct {
		name   string
		breaks func(s *site.Site)
		rule   string
		says   string
	}{
		{"the far end does not take the VLAN",
			func(s *site.Site) { iface(t, s, "if-sw-ward-uplink").Tagged = []int{11, 24} }, "vlan-on-one-side-only",
			"port8 of sw-core sends VLAN 48, and uplink of sw-ward does not take it"},
		{"the far end takes it without a tag", func(s *site.Site) {
			u := iface(t, s, "if-sw-ward-uplink")
			u.Tagged, u.Untagged = []int{11, 24, 90}, 48
		}, "vlan-on-one-side-only",
			"port8 of sw-core sends VLAN 48 with a tag, and uplink of sw-ward takes it without one"},
		{"frames become another VLAN's", func(s *site.Site) {
			a, b := iface(t, s, "if-sw-core-8"), iface(t, s, "if-sw-ward-uplink")
			a.Tagged, a.Untagged, b.Tagged, b.Untagged = []int{11, 24, 90}, 48, []int{11, 24, 90}, 66
		}, "untagged-vlan-differs",
			"frames of VLAN 48 leave port8 of sw-core without a tag, and become VLAN 66 at uplink of sw-ward"},
	}
	for _, c := range cases {
		s := scenario.Site("kelder-bridge")
		c.breaks(s)
		p := path(t, s, "net-imaging")
		require.Len(t, p.Breaks, 1, c.name)
		assert.Equal(t, c.rule, p.Breaks[0].Rule)
		assert.Equal(t, c.says, p.Breaks[0].Says)
		assert.Empty(t, p.Plugs, c.name)
	}
	// The same VLAN without a tag on both ends passes.
	s := scenario.Site("kelder-bridge")
	for _, id := range []string{"if-sw-core-8", "if-sw-ward-uplink"} {
		u := iface(t, s, id)
		u.Tagged, u.Untagged = []int{11, 24, 90}, 48
	}
	assert.Equal(t, []string{"port3 of sw-ward"}, plugs(path(t, s, "net-imaging")))
}

// Two addresses of a network in VLANs that are not the same are in two segments of it, though the cables carry both.
func TestSegments(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	n, _ := s.Network("net-imaging")
	for d := range s.Devices {
		if s.Devices[d].Name == "sw-ward" {
			s.Devices[d].Interfaces = append(s.Devices[d].Interfaces, site.Interface{ID: "own", Name: "own",
				Kind: site.VLAN, VLAN: n.VLAN,
				Addresses: []netip.Prefix{netip.PrefixFrom(n.Prefix.Addr().Next().Next(), 24)}})
		}
	}
	whole := path(t, s, "net-imaging")
	require.Len(t, whole.Segments, 1)
	assert.Len(t, whole.Segments[0].Homes, 2)
	assert.Equal(t, whole.Plugs, whole.Segments[0].Plugs)

	iface(t, s, "own").VLAN = 24
	parted := path(t, s, "net-imaging")
	require.Len(t, parted.Segments, 2)
	assert.False(t, parted.Segments[0].Has(parted.Homes[1].Device.ID, parted.Homes[1].Interface.Name))
	assert.Len(t, append(parted.Segments[0].Plugs, parted.Segments[1].Plugs...), len(parted.Plugs))
	// A cable that carries them no more parts them, too.
	iface(t, s, "own").VLAN = n.VLAN
	iface(t, s, "if-sw-core-8").Tagged = []int{11, 24}
	assert.Len(t, path(t, s, "net-imaging").Segments, 2)
}

// Cables in a ring do not keep the walk from ending.
func TestARingEnds(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	for d := range s.Devices {
		for _, more := range []string{"a", "b"} {
			s.Devices[d].Interfaces = append(s.Devices[d].Interfaces,
				site.Interface{ID: "ring-" + more + s.Devices[d].ID, Name: "ring-" + more, Kind: site.Port,
					Tagged: []int{24}})
		}
	}
	for d := range s.Devices {
		iface(t, s, "ring-a"+s.Devices[d].ID).Peer = "ring-b" + s.Devices[(d+1)%len(s.Devices)].ID
	}
	p := path(t, s, "net-clinic")
	assert.NotEmpty(t, p.Plugs)
}

func TestDrawing(t *testing.T) {
	s := scenario.Site("moss-end")
	n, _ := s.Network("net-moss-ward")
	d := topology.Draw(s, n)
	rows := map[string]int{}
	for _, b := range d.Devices {
		rows[b.Name] = b.Row
	}
	assert.Equal(t, map[string]int{"gw-moss": 0, "sw-moss": 1, "srv-moss": 2, "sw-barn": 2}, rows)
	assert.Equal(t, 3, d.Rows)
	for _, c := range d.Cables {
		assert.Equal(t, c.Carries == "24, 70 tagged", c.Lit, c.FromPort)
	}
	assert.Contains(t, d.Says, "Ward is on vlan24 of sw-moss and comes out at")
	s.Devices = nil
	assert.Equal(t, "No device has an interface in 10.84.50.0/24.", topology.Draw(s, n).Says)
	assert.NotNil(t, topology.Draw(s, nil).Devices)
}
