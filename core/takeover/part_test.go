package takeover_test

import (
	"fmt"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/takeover"
	"lithos/core/yang"
)

// nodes are the entries of a configuration by their paths.
func nodes(c yang.Config) map[string]any {
	out := map[string]any{}
	for _, n := range c.Interfaces.Interface {
		out[yang.InterfacePath(n.Name)] = n
	}
	for _, n := range c.DHCP.Pool {
		out[yang.PoolPath(n.ID)] = n
	}
	for _, n := range c.DHCP.Reservation {
		out[yang.ReservationPath(n.ID)] = n
	}
	for _, n := range c.DHCP.Class {
		out[yang.ClassPath(n.ID)] = n
	}
	for _, n := range c.Relays.Relay {
		out[yang.RelayPath(n.Interface)] = n
	}
	for _, n := range c.Resolver.Zone {
		out[yang.ZonePath(n.Name)] = n
	}
	if c.Resolver.Settings != nil {
		out[yang.SettingsPath()] = c.Resolver.Settings
	}
	return out
}

// changed is an entry as somebody could have changed it by hand; nil where there is nothing to change.
func changed(n any) any {
	switch n := n.(type) {
	case yang.Interface:
		if n.IPv4 == nil {
			return nil
		}
		n.IPv4 = &yang.IPv4{Enabled: true, Address: append(slices.Clone(n.IPv4.Address),
			yang.Address{IP: netip.MustParseAddr("198.18.0.1"), PrefixLength: 30})}
		return n
	case yang.Pool:
		n.Enabled, n.Name = !n.Enabled, "By hand"
		if len(n.Range) > 0 {
			last := n.Range[len(n.Range)-1].End
			n.Exclusion = append(slices.Clone(n.Exclusion), yang.Exclusion{Span: yang.Span{Start: last, End: last},
				Reason: "x"})
		}
		return n
	case yang.Reservation:
		n.Name = "by-hand"
		return n
	case yang.Class:
		n.Match = "by hand"
		return n
	case yang.Relay:
		n.Server = []netip.Addr{netip.MustParseAddr("198.18.0.9")}
		return n
	case yang.Zone:
		n.TTL, n.Refresh, n.Retry, n.Expire, n.Negative, n.Contact = 77, 78, 79, 80, 81, "me."+n.Name
		return n
	case *yang.ResolverSettings:
		s := *n
		s.LocalTTL, s.KeepShort, s.CacheEntries = 77, !s.KeepShort, 500
		return &s
	}
	return nil
}

// without is a configuration that has no entry at a path.
func without(c yang.Config, path string) yang.Config {
	if err := c.Delete(path); err != nil {
		panic(err)
	}
	return c
}

// usual is a site whose resolvers leave unsaid what is usual.
func usual(s *site.Site) *site.Site {
	out := *s
	out.Resolvers = slices.Clone(s.Resolvers)
	for i := range out.Resolvers {
		if r := &out.Resolvers[i]; r.Port == 53 {
			r.Port = 0
		}
	}
	return &out
}

// Each entry that somebody changes at a device of the made-up sites is read into the site, which then gives the device
// what it holds; read again as it was, it leaves the site as it was. One that is taken away goes from the site.
func TestEachEntryIsReadAndReadBack(t *testing.T) {
	kinds := map[string]int{}
	for _, name := range scenario.Names {
		was := site.Normal(scenario.Site(name))
		for _, d := range was.Devices {
			given := compile.Device(was, d.ID)
			for path, node := range nodes(given) {
				what := name + " " + path
				if to := changed(node); to != nil {
					held := given
					require.NoError(t, held.Put(path, yang.Body(to)), what)
					now, err := takeover.Part(was, takeover.Device{Device: d.ID, Config: held}, path, to)
					require.NoError(t, err, what)
					if !assert.Equal(t, to, nodes(compile.Device(now, d.ID))[path], what) {
						return
					}
					back, err := takeover.Part(now, takeover.Device{Device: d.ID, Config: given}, path, node)
					require.NoError(t, err, what)
					_, isInterface := node.(yang.Interface) // a network was made of its address
					_, isZone := node.(yang.Zone)
					if made := isZone && len(now.Zones) > len(was.Zones); !isInterface && !made {
						assert.JSONEq(t, string(encoded(t, usual(was))), string(encoded(t, usual(back))), what)
					}
					kinds[fmt.Sprintf("%T", node)]++
				}
				gone, err := takeover.Part(was, takeover.Device{Device: d.ID, Config: without(given, path)}, path, nil)
				if err != nil {
					continue // others need it
				}
				left := nodes(compile.Device(gone, d.ID))
				assert.NotContains(t, left, path, what)
				if _, alone := node.(yang.Reservation); alone {
					assert.Len(t, gone.Reservations, len(was.Reservations)-1, what)
				}
			}
		}
	}
	assert.Len(t, kinds, 7)
}

// What a site does not have is added; what it has no place for says why.
func TestEntryThatTheSiteHasNot(t *testing.T) {
	s := site.Normal(scenario.Site("kelder-bridge"))
	const device = "dev-gw-1"
	c := compile.Device(s, device)
	read := func(device, path string, entry any) (*site.Site, error) {
		return takeover.Part(s, takeover.Device{Device: device, Config: c}, path, entry)
	}
	i := yang.Interface{Name: "lan.99", Type: yang.TypeVLAN, Enabled: true, VLAN: &yang.VLAN{Parent: "lan", ID: 99}}
	now, err := read(device, yang.InterfacePath("lan.99"), i)
	require.NoError(t, err)
	d, _ := now.Device(device)
	_, there := d.Interface("lan.99")
	assert.True(t, there)

	p := c.DHCP.Pool[0]
	p.ID, p.Name, p.Range = "by-hand", "By hand", nil
	now, err = read(device, yang.PoolPath("by-hand"), p)
	require.NoError(t, err)
	assert.Len(t, now.Pools, len(s.Pools)+1)
	r := yang.Reservation{ID: "by-hand", Pool: p.ID, Address: p.Subnet.Addr().Next().Next(), MAC: address.MAC{0, 0,
		0x5e, 0, 0x53, 0xee}}
	for slices.ContainsFunc(s.Reservations, func(o *site.Reservation) bool { return o.Address == r.Address }) {
		r.Address = r.Address.Next()
	}
	now, err = read(device, yang.ReservationPath("by-hand"), r)
	require.NoError(t, err)
	assert.Len(t, now.Reservations, len(s.Reservations)+1)
	z := yang.Zone{Name: "by.hand.example", TTL: 60, Record: []yang.Record{{ID: "1", Owner: "www", Type: "A",
		Data: "10.84.18.9"}}}
	now, err = read(device, yang.ZonePath(z.Name), z)
	require.NoError(t, err)
	assert.True(t, slices.ContainsFunc(now.Zones, func(o site.Zone) bool {
		return o.Name == z.Name && len(
			o.Records) == 1
	}))

	for says, c := range map[string]struct {
		device, path string
		entry        any
	}{
		"the site has no interface modem of it; adopt that first": {device, yang.RelayPath("modem"), yang.Relay{
			Interface: "modem"}},
		"no such device":               {"dev-none", yang.InterfacePath("lan.99"), i},
		"has no such device":           {"dev-none", yang.PoolPath("x"), nil},
		"makes it of something else":   {device, "/nowhere", nil},
		"its key is on the device":     {device, yang.OutsidePath("x"), yang.OutsideName{}},
		"the site has no such device ": {"dev-none", yang.RelayPath("x"), yang.Relay{}},
	} {
		_, err := read(c.device, c.path, c.entry)
		assert.ErrorContains(t, err, says[:len(says)-1], says)
	}
}

// What only the site knows of an entry stays: notes, what has no reverse name, the ids of exclusions, an uplink's line.
func TestWhatOnlyTheSiteKnowsStays(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	k := slices.IndexFunc(s.Pools, func(p site.Pool) bool { return len(p.Exclusions) > 0 })
	p := &s.Pools[k]
	p.Note, p.Exclusions[0].ID = "kept", p.ID+"-x1"
	s.Reservations[0].NoReverse = true
	s = site.Normal(s)
	p, _ = s.Pool(p.ID)
	c := compile.Device(s, p.Server)
	held := nodes(c)[yang.PoolPath(p.ID)].(yang.Pool)
	first := held.Exclusion[0].Start
	held.Exclusion = append([]yang.Exclusion{{Span: yang.Span{Start: held.Range[0].Start, End: held.Range[0].Start},
		Reason: "new"}},
		held.Exclusion...)
	held.Exclusion[1].Reason = "another reason"
	now, err := takeover.Part(s, takeover.Device{Device: p.Server, Config: c}, yang.PoolPath(p.ID), held)
	require.NoError(t, err)
	got, _ := now.Pool(p.ID)
	assert.Equal(t, "kept", got.Note)
	ids := map[string]string{}
	for _, x := range got.Exclusions {
		ids[x.ID] = x.Reason
		if x.Range.From == first {
			assert.Equal(t, p.ID+"-x1", x.ID)
		}
	}
	assert.Len(t, ids, len(held.Exclusion), "each its own id")
	assert.Equal(t, "another reason", ids[p.ID+"-x1"])
	assert.Equal(t, "new", ids[p.ID+"-x2"], "the first that is free")

	r := s.Reservations[0]
	one := nodes(c)[yang.ReservationPath(r.ID)].(yang.Reservation)
	one.Name = "by-hand"
	now, err = takeover.Part(s, takeover.Device{Device: p.Server, Config: c}, yang.ReservationPath(r.ID), one)
	require.NoError(t, err)
	for _, o := range now.Reservations {
		assert.Equal(t, o.ID == r.ID, o.NoReverse && o.Name == "by-hand", o.ID)
	}
}

// A reverse zone that somebody made at the device says nothing of addresses that are in other zones.
func TestAnotherReverseZone(t *testing.T) {
	s := site.Normal(scenario.Site("kelder-bridge"))
	var device string
	for _, r := range s.Resolvers {
		device = r.Device
	}
	z := yang.Zone{Name: "2.0.192.in-addr.arpa", TTL: 60, Record: []yang.Record{{ID: "1", Owner: "9", Type: "PTR",
		Data: "far.example"}}}
	now, err := takeover.Part(s, takeover.Device{Device: device, Config: compile.Device(s, device)}, yang.ZonePath(
		z.Name), z)
	require.NoError(t, err)
	assert.Len(t, now.Zones, len(s.Zones)+1)
	assert.Equal(t, s.Reservations, now.Reservations)
}

// An option for a network is set there, once, and for none of its pools.
func TestForNetwork(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	for i := range s.Pools {
		s.Pools[i].Options = append(s.Pools[i].Options, site.Option{Code: 70, Value: "10.84.18.1"})
	}
	count := func(list []site.Option) (n int) {
		for _, o := range list {
			if o.Code == 70 {
				n++
			}
		}
		return n
	}
	for range 2 {
		s = takeover.ForNetwork(s, "net-clinic", yang.Option{Code: 70, Value: []byte{10, 84, 18, 7}})
		for _, n := range s.Networks {
			assert.Equal(t, map[bool]int{true: 1}[n.ID == "net-clinic"], count(n.Options), n.ID)
		}
		for _, p := range s.Pools {
			assert.Equal(t, map[bool]int{false: 1}[p.Network == "net-clinic"], count(p.Options), p.ID)
		}
	}
}
