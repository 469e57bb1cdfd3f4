package compile_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/yang"
)

// Each kind refuses what it cannot do and takes what is just within its limits.
func TestLimitsOfEachKind(t *testing.T) {
	at := func(name, a string) yang.Interface {
		p := netip.MustParsePrefix(a)
		return yang.Interface{Name: name, Type: yang.TypeVLAN,
			IPv4: &yang.IPv4{Address: []yang.Address{{IP: p.Addr(), PrefixLength: p.Bits()}}}}
	}
	with := func(list ...yang.Interface) yang.Config {
		return yang.Config{Interfaces: yang.Interfaces{Interface: list}}
	}
	up := func(u yang.Uplink) yang.Config {
		i := at("wan", "192.0.2.2/24")
		i.Uplink = &u
		return with(i)
	}
	pool := func(c yang.Config, iface string) yang.Config {
		c.DHCP.Pool = []yang.Pool{{ID: "p", Name: "p", Interface: iface, Subnet: netip.MustParsePrefix("10.0.0.0/24"),
			Range: []yang.Span{{Start: netip.MustParseAddr("10.0.0.10"), End: netip.MustParseAddr("10.0.0.20")}}}}
		return c
	}
	relay := func(c yang.Config) yang.Config {
		c.Relays.Relay = []yang.Relay{{Interface: "v1", Server: []netip.Addr{netip.MustParseAddr("10.9.9.9")}}}
		return c
	}
	reserved := func(c yang.Config, a string) yang.Config {
		c.DHCP.Reservation = []yang.Reservation{{ID: "r", Name: "r", Pool: "p", Address: netip.MustParseAddr(a),
			MAC: address.MAC{0, 0, 0x5e, 0, 0, 1}}}
		return c
	}
	one := with(at("v1", "10.0.0.1/24"))
	cases := []struct {
		kind   string
		config yang.Config
		says   string // empty where it is taken
	}{
		{site.L2Switch, one, ""},
		{site.L2Switch, pool(one, "v1"), ""},
		{site.L2Switch, pool(one, ""), "serves only the network of its management interface"},
		{site.L2Switch, with(at("v1", "10.0.0.1/24"), at("v2", "10.0.1.1/24")),
			"one interface with an address, and this would be 2"},
		{site.L2Switch, relay(one), "relays nothing"},
		{site.L2Switch, up(yang.Uplink{Method: site.ByDHCP}), "no uplink"},
		{site.L3Switch, relay(with(at("v1", "10.0.0.1/24"), at("v2", "10.0.1.1/24"))), ""},
		{site.L3Switch, up(yang.Uplink{Method: site.ByFixed}), ""},
		{site.L3Switch, up(yang.Uplink{Method: site.ByPPPoE}), "does not speak PPPoE"},
		{site.L3Switch,
			up(yang.Uplink{Method: site.ByFixed, Translate: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/24")}}),
			"does not translate"},
		{site.L3Switch, reserved(pool(one, "v1"), "10.0.0.9"), ""},
		{site.L3Switch, reserved(pool(one, "v1"), "10.0.0.10"), "only outside the ranges"},
		{site.Server, reserved(pool(one, ""), "10.0.0.10"), ""},
		{site.Server, relay(one), "relays nothing"},
		{site.Server, with(yang.Interface{Name: "br", Type: yang.TypeBridge}), "carries no VLANs for others"},
		{site.Firewall,
			relay(up(yang.Uplink{Method: site.ByPPPoE,
				Translate: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/24")}})), ""},
	}
	for _, c := range cases {
		err := compile.Limits(c.kind, c.config)
		if c.says == "" {
			assert.NoError(t, err, c.kind)
		} else {
			assert.ErrorContains(t, err, c.says, c.kind)
		}
	}
}

func TestRelayedPoolsVendorClassesAndPasswords(t *testing.T) {
	moss := scenario.Site("moss-end")
	server := compile.Device(moss, "dev-moss-srv")
	var ids []string
	for _, p := range server.DHCP.Pool {
		ids = append(ids, p.ID+" on "+p.Interface)
	}
	assert.Equal(t, []string{"pool-moss-bench on eth0", "pool-moss-theatre on ", "pool-moss-ward on "}, ids,
		"nothing relays the kennels")
	assert.Len(t, compile.Device(moss, "dev-moss-sw").Relays.Relay, 2)

	kelder := scenario.Site("kelder-bridge")
	k := &kelder.VendorClasses[0]
	k.Enterprise = 32473
	gw := compile.Device(kelder, "dev-gw-1")
	assert.Equal(t, "wardphone", gw.DHCP.Class[0].Match)
	var codes []uint8
	for _, o := range gw.DHCP.Class[0].Option {
		codes = append(codes, o.Code)
	}
	assert.Equal(t, []uint8{43, 125}, codes)
	told, ok := compile.Value(compile.Effective(kelder, compile.For{Class: k}), 43)
	assert.True(t, ok)
	assert.Equal(t, site.KindVendorClass, told.From.Kind)
	k.SubOptions[1].Code = k.SubOptions[0].Code
	_, err := compile.SubOptions(k)
	assert.ErrorContains(t, err, "set twice")

	garret := compile.Device(scenario.Site("the-garret"), "dev-garret-rt")
	for _, i := range garret.Interfaces.Interface {
		if i.Uplink != nil {
			assert.Equal(t, yang.Uplink{Method: "pppoe", Account: "garret@line.example", PasswordName: "garret-line",
				MTU: 1492, Translate: []netip.Prefix{netip.MustParsePrefix("192.168.211.0/24")}}, *i.Uplink)
		}
	}
}
