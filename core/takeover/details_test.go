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

var ip = netip.MustParseAddr

// router is an empty site with a router that has one interface.
func router(change func(c *yang.Config)) (*site.Site, []takeover.Device, *yang.Config) {
	s := site.Normal(&site.Site{ID: "site-x", Code: "x", Name: "X", Devices: []site.Device{{ID: "d", Name: "rt",
		Kind: site.Router}}})
	c := &yang.Config{Interfaces: yang.Interfaces{Interface: []yang.Interface{{Name: "az09-LAN",
		Type:    yang.TypeEthernet,
		Enabled: true, IPv4: &yang.IPv4{Enabled: true, Address: []yang.Address{{IP: ip("10.1.1.1"),
			PrefixLength: 24}}}}}}}
	change(c)
	return s, []takeover.Device{{Device: "d", Config: *c}}, c
}

func pool(subnet string, options ...yang.Option) yang.Pool {
	return yang.Pool{ID: "p", Name: "Desks", Enabled: true, Interface: "az09-LAN", Subnet: netip.MustParsePrefix(
		subnet),
		Option: options}
}

// A network is made of a pool, with its VLAN, and the gateway that its clients are told, or the device's own address
// where they are told nothing.
func TestNetworksAreMadeOfPools(t *testing.T) {
	told := yang.Option{Code: 3, Value: []byte{10, 1, 1, 254}, Always: true}
	for what, c := range map[string]struct {
		pool    yang.Pool
		vlan    int
		gateway string
	}{
		"told":         {pool("10.1.1.0/24", told), 7, "10.1.1.254"},
		"told nothing": {pool("10.1.1.0/24"), 7, "10.1.1.1"},
		"told something else": {pool("10.1.1.0/24", yang.Option{Code: 51, Value: []byte{0, 0, 14, 16}}), 7,
			"invalid IP"},
		"told one far away": {pool("10.1.1.0/24", yang.Option{Code: 3, Value: []byte{192, 0, 2, 1}}), 7,
			"invalid IP"},
		"told two": {pool("10.1.1.0/24", yang.Option{Code: 3, Value: []byte{10, 1, 1, 1, 10, 1, 1,
			2}}), 7, "invalid IP"},
		"told servers": {pool("10.1.1.0/24", yang.Option{Code: 6, Value: []byte{10, 1, 1, 9}}), 7,
			"invalid IP"},
		"at no interface": {func() yang.Pool { p := pool("10.1.1.0/24"); p.Interface = ""; return p }(), 0,
			"invalid IP"},
		"so small that none fits": {pool("10.1.1.0/30"), 7, "10.1.1.1"},
	} {
		s, held, _ := router(func(cfg *yang.Config) {
			cfg.Interfaces.Interface[0].Switchport = &yang.Switchport{Untagged: 7}
			cfg.DHCP.Pool = []yang.Pool{c.pool}
		})
		now, _ := takeover.Site(s, held)
		n := now.Networks[slices.IndexFunc(now.Networks, func(n site.Network) bool {
			return n.Prefix == c.pool.Subnet
		})]
		assert.Equal(t, []any{c.vlan, c.gateway}, []any{n.VLAN, n.Gateway.String()}, what)
	}
	s, held, _ := router(func(c *yang.Config) { c.DHCP.Pool = []yang.Pool{pool("10.1.1.4/31")} })
	now, _ := takeover.Site(s, held)
	assert.False(t, slices.ContainsFunc(now.Networks, func(n site.Network) bool { return n.Prefix.Bits() > 30 }))
	d, _ := now.Device("d")
	assert.Equal(t, "if-d-az09-lan", d.Interfaces[0].ID)
}

// A class that the site has by its id or its match is not added again. Clients are known by identifier where they are.
func TestClientsAndClassesAreRead(t *testing.T) {
	change := func(c *yang.Config) {
		p := pool("10.1.1.0/24")
		p.ForClient = []byte{0, 'a'}
		c.DHCP.Pool = []yang.Pool{p}
		c.DHCP.Class = []yang.Class{{ID: "k", Match: "phone"}}
		c.DHCP.Reservation = []yang.Reservation{{ID: "r1", Pool: "p", Address: ip("10.1.1.9"), Client: []byte{0, 'b'}},
			{ID: "r2", Pool: "p", Address: ip("10.1.1.10"), MAC: address.MAC{0, 0, 0x5e, 0, 0x53, 1}}}
	}
	s, held, _ := router(change)
	now, _ := takeover.Site(s, held)
	assert.NotEmpty(t, now.Pools[0].ForClient)
	require.Len(t, now.Reservations, 2)
	assert.NotEmpty(t, now.Reservations[0].Client)
	assert.Empty(t, now.Reservations[1].Client)
	for id, match := range map[string]string{"k": "other", "other": "phone"} {
		s.VendorClasses = []site.VendorClass{{ID: id, Name: "Own", Match: match}}
		now, _ = takeover.Site(s, held)
		assert.Len(t, now.VendorClasses, 1, "%s %s", id, match)
	}
	s.VendorClasses = []site.VendorClass{{ID: "other", Name: "Own", Match: "other"}}
	now, _ = takeover.Site(s, held)
	assert.Len(t, now.VendorClasses, 2)
	s, held, _ = router(func(c *yang.Config) {
		change(c)
		c.DHCP.Pool[0].ForClient, c.DHCP.Reservation[0].Client = nil, nil
	})
	now, _ = takeover.Site(s, held)
	assert.Empty(t, now.Pools[0].ForClient)
	assert.Empty(t, now.Reservations[0].Client)
}

// What the site tells its clients and a pool does not is listed: a push would tell it.
func TestWhatAPoolDoesNotTellIsListed(t *testing.T) {
	s, held, _ := router(func(c *yang.Config) {
		c.DHCP.Pool = []yang.Pool{pool("10.1.1.0/24", yang.Option{Code: 42, Value: []byte{10, 1, 1, 1}})}
	})
	s.Options = []site.Option{{Code: 42, Value: "10.1.1.1"}, {Code: 70, Value: "10.1.1.1"}}
	_, left := takeover.Site(s, held)
	says := fmt.Sprint(left)
	assert.Contains(t, says, "option 70 of pool Desks it is not told there")
	assert.NotContains(t, says, "option 42")
}

// A site without a domain takes the one that the resolver completes names with; one that has a domain keeps it.
func TestDomainOfAResolver(t *testing.T) {
	for own, want := range map[string]string{"": "moss.example", "own.example": "own.example"} {
		s, held, _ := router(func(c *yang.Config) {
			c.Resolver.Settings = &yang.ResolverSettings{Enabled: true, Completion: "moss.example", Port: 53}
		})
		s.Domain = own
		now, _ := takeover.Site(s, held)
		assert.Equal(t, want, now.Domain)
	}
	s, held, _ := router(func(c *yang.Config) { c.Resolver.Settings = &yang.ResolverSettings{Enabled: true} })
	now, _ := takeover.Site(s, held)
	assert.Empty(t, now.Domain)
}

// Names are read for what they are: of reservations that have a reverse name and that have none, of machines that hold
// their addresses themselves, and records by hand.
func TestNamesAreRead(t *testing.T) {
	record := func(owner, typ, data string) yang.Record {
		return yang.Record{ID: owner + typ + data, Owner: owner, Type: typ, Data: data}
	}
	for _, reverse := range []string{"1.1.10.in-addr.arpa", "0/25.1.1.10.in-addr.arpa"} {
		s, held, _ := router(func(c *yang.Config) {
			c.DHCP.Pool = []yang.Pool{pool("10.1.1.0/24")}
			c.DHCP.Reservation = []yang.Reservation{{ID: "r1", Pool: "p", Name: "till", Address: ip("10.1.1.9")},
				{ID: "r2", Pool: "p", Name: "safe", Address: ip("10.1.1.10")}, {ID: "r3", Pool: "p", Address: ip(
					"10.1.1.11")}}
			c.Resolver.Settings = &yang.ResolverSettings{Enabled: true, Completion: "moss.example", Port: 53}
			c.Resolver.Zone = []yang.Zone{{Name: "moss.example", Record: []yang.Record{record("till", "A", "10.1.1.9"),
				record("safe", "A", "10.1.1.10"), record("door", "A", "10.1.1.20"), record("hush", "A", "10.1.1.21"),
				record("far", "A", "192.0.2.9"), record("till", "TXT", "desk"), record("lamp.hall", "A", "10.1.1.22"),
				record("twin", "A", "10.1.1.20")}},
				{Name: reverse, Record: []yang.Record{record("9", "PTR", "till.moss.example"),
					record("20", "PTR", "door.moss.example"), record("22", "PTR", "lamp.hall.moss.example"),
					record("30", "PTR", "old.moss.example")}}}
		})
		now, _ := takeover.Site(s, held)
		for _, r := range now.Reservations {
			assert.Equal(t, r.Name == "safe", r.NoReverse, "%s %q", reverse, r.Name)
		}
		require.Len(t, now.FixedDevices, 1, reverse)
		assert.Equal(t, "door", now.FixedDevices[0].Name)
		got := map[string]bool{}
		for _, z := range now.Zones {
			for _, r := range z.Records {
				got[r.Owner+" "+r.Type+" "+r.Data] = r.NoReverse
			}
		}
		assert.Equal(t, map[string]bool{"hush A 10.1.1.21": true, "far A 192.0.2.9": true, "till TXT desk": false,
			"lamp.hall A 10.1.1.22": false, "twin A 10.1.1.20": true, "30 PTR old.moss.example": false}, got, reverse)
	}
}

// What only the site knows of an uplink stays when the device has it otherwise.
func TestUplinkKeepsWhatItPassesOn(t *testing.T) {
	s := scenario.Site("the-garret")
	d := &s.Devices[0]
	k := slices.IndexFunc(d.Interfaces, func(i site.Interface) bool { return i.Uplink != nil })
	d.Interfaces[k].Uplink.PassesOn, d.Interfaces[k].Uplink.LearntDomain = true, "isp.example"
	s = site.Normal(s)
	c := compile.Device(s, d.ID)
	at := slices.IndexFunc(c.Interfaces.Interface, func(i yang.Interface) bool { return i.Uplink != nil })
	held := c.Interfaces.Interface[at]
	facts := *held.Uplink
	facts.MTU, facts.Account = 1400, "by-hand"
	held.Uplink = &facts
	now, err := takeover.Part(s, takeover.Device{Device: d.ID, Config: c}, yang.InterfacePath(held.Name), held)
	require.NoError(t, err)
	got, _ := now.Device(d.ID)
	i, _ := got.Interface(held.Name)
	assert.Equal(t, []any{true, "isp.example", 1400, "by-hand"}, []any{i.Uplink.PassesOn, i.Uplink.LearntDomain,
		i.Uplink.MTU,
		i.Uplink.Account})
	held.Uplink = nil
	now, err = takeover.Part(s, takeover.Device{Device: d.ID, Config: c}, yang.InterfacePath(held.Name), held)
	require.NoError(t, err)
	got, _ = now.Device(d.ID)
	i, _ = got.Interface(held.Name)
	assert.Nil(t, i.Uplink)
	usual := facts
	usual.MTU = (&site.UplinkFacts{Method: usual.Method}).Largest()
	held.Uplink = &usual
	assert.Zero(t, takeover.Interface(d.ID, held).Uplink.MTU, "the usual one is not written down")
}
