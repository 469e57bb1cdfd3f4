package compile_test

import (
	"encoding/hex"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/compile"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/yang"
)

// Each kind of interface has its type, and what a frame has to do with it only where the site says so.
func TestInterfacesOfADevice(t *testing.T) {
	s := named()
	s.Devices[0].Interfaces = append(s.Devices[0].Interfaces,
		site.Interface{ID: "a", Name: "br", Kind: site.PortGroup, Members: []string{"p1"}, Tagged: []int{7}},
		site.Interface{ID: "b", Name: "lan.7", Kind: site.VLAN, Parent: "lan", VLAN: 7},
		site.Interface{ID: "c", Name: "lo", Kind: site.Loopback}, site.Interface{ID: "d", Name: "tun",
			Kind: site.Tunnel},
		site.Interface{ID: "e", Name: "p1", Kind: site.Port, Untagged: 7, Permits: []string{"dns"}})
	s.Devices[0].Interfaces[1].Uplink = &site.UplinkFacts{Method: site.ByDHCP, Translates: []string{"n", "gone"}}
	got := map[string]yang.Interface{}
	for _, i := range compile.Frame(s, "r").Interfaces.Interface {
		got[i.Name] = i
	}
	for name, typ := range map[string]string{"br": yang.TypeBridge, "lan.7": yang.TypeVLAN, "lo": yang.TypeLoopback,
		"tun": yang.TypeTunnel, "p1": yang.TypeEthernet} {
		assert.Equal(t, typ, got[name].Type, name)
		assert.True(t, got[name].Enabled, name)
		assert.Nil(t, got[name].IPv4, "%s has no address", name)
	}
	assert.Equal(t, &yang.Switchport{Tagged: []int{7}}, got["br"].Switchport)
	assert.Equal(t, &yang.Switchport{Untagged: 7}, got["p1"].Switchport)
	assert.Nil(t, got["lan"].Switchport)
	assert.Equal(t, &yang.VLAN{Parent: "lan", ID: 7}, got["lan.7"].VLAN)
	assert.Equal(t, []string{"dns"}, got["p1"].Permit)
	assert.Equal(t, prefixes("10.0.7.0/24"), got["wan"].Uplink.Translate)
	assert.Equal(t, []yang.Address{{IP: ip("10.0.7.1"), PrefixLength: 24}}, got["lan"].IPv4.Address)
	assert.Zero(t, compile.Frame(s, "x"))
}

// A server has a pool where requests reach it: over its own interface, or over a relay that names it. It has vendor
// classes where it serves.
func TestWhereAPoolIsServed(t *testing.T) {
	s := named()
	s.Devices = append(s.Devices, site.Device{ID: "srv", Name: "srv", Kind: site.Server, Interfaces: []site.Interface{
		{ID: "s1", Name: "eth0", Kind: site.Port, Addresses: prefixes("10.0.9.2/24")}}})
	s.VendorClasses = []site.VendorClass{{ID: "k", Name: "Phones", Match: "ph", Options: []site.Option{{Code: 66,
		Value: "tftp"}}}}
	s.Pools = []site.Pool{{ID: "p", Name: "All", Network: "n", Server: "r", ForClass: "k"}}
	serves := func(id string) []int {
		c := compile.Device(s, id)
		return []int{len(c.DHCP.Pool), len(c.DHCP.Reservation), len(c.DHCP.Class), len(c.Relays.Relay)}
	}
	assert.Equal(t, []int{1, 1, 1, 0}, serves("r"))
	assert.Equal(t, []int{0, 0, 0, 0}, serves("srv"))
	s.Pools[0].Server = "srv"
	assert.Equal(t, []int{0, 0, 0, 0}, serves("r"))
	assert.Equal(t, []int{0, 0, 0, 0}, serves("srv"), "nobody passes requests on")
	s.Devices[0].Interfaces[0].RelayTo = []netip.Addr{ip("10.0.9.2")}
	assert.Equal(t, []int{0, 0, 0, 1}, serves("r"))
	assert.Equal(t, []int{1, 1, 1, 0}, serves("srv"))
	assert.Equal(t, "k", compile.Device(s, "srv").DHCP.Pool[0].ForClass)
	assert.Empty(t, compile.Device(s, "srv").DHCP.Pool[0].Interface)
	s.Pools[0].ForClass = "gone"
	assert.Empty(t, compile.Device(s, "srv").DHCP.Pool[0].ForClass)
	s.Devices[0].Interfaces[0].RelayTo = []netip.Addr{ip("10.0.9.3")}
	assert.Equal(t, []int{0, 0, 0, 0}, serves("srv"), "the relay names another")
}

// A client identifier is given as octets; one that cannot be read is left to a rule.
func TestIdentifiersOfReservations(t *testing.T) {
	s := named()
	s.Pools = []site.Pool{{ID: "p", Network: "n", Server: "r"}}
	for text, wire := range map[string][]byte{"": nil, "01:00:00:5e:00:53:01": {1, 0, 0, 0x5e, 0, 0x53, 1},
		strings.Repeat("z", option.MaxValue): nil} {
		s.Reservations[0].Client = text
		assert.Equal(t, wire, compile.Device(s, "r").DHCP.Reservation[0].Client, text)
	}
}

// Options come asked for or not from networks and pools, and from what a client alone is told; what is learnt names the
// uplink of the server itself.
func TestOptionsOfAPool(t *testing.T) {
	s := named()
	s.Networks[0].Gateway = ip("10.0.7.1")
	s.Devices[0].Interfaces[1].Uplink = &site.UplinkFacts{Method: site.ByDHCP, PassesOn: true,
		LearntServers: []netip.Addr{ip("192.0.2.53"), ip("192.0.2.54")}, LearntDomain: "isp.example"}
	s.Domain = ""
	s.Options = []site.Option{{Code: 42, Value: "10.0.7.1"}, {Code: 70, Value: "10.0.7.1", Always: true}}
	s.Pools = []site.Pool{{ID: "p", Network: "n", Server: "r", Options: []site.Option{{Code: 69, Value: "10.0.7.1"},
		{Code: 26, Value: "lots"}}}}
	s.Reservations[0].Options = []site.Option{{Code: 12, Value: "till"}, {Code: 26, Value: "lots"}}
	list := func() map[uint8]yang.Option {
		out := map[uint8]yang.Option{}
		for _, o := range compile.Device(s, "r").DHCP.Pool[0].Option {
			out[o.Code] = o
		}
		return out
	}
	got := list()
	for code, always := range map[uint8]bool{3: true, 6: false, 15: false, 42: false, 69: true, 70: true} {
		assert.Equal(t, always, got[code].Always, "option %d", code)
		assert.Equal(t, map[bool]string{true: "wan"}[code == 6 || code == 15], got[code].Learnt, "option %d", code)
	}
	assert.Len(t, got, 6, "what cannot be written is left to a rule")
	assert.Equal(t, []byte{192, 0, 2, 53, 192, 0, 2, 54}, got[6].Value)
	reserved := compile.Device(s, "r").DHCP.Reservation[0].Option
	require.Len(t, reserved, 1)
	assert.True(t, reserved[0].Always)

	s.Devices = append(s.Devices, site.Device{ID: "other", Name: "o", Kind: site.Router, Interfaces: []site.Interface{
		{ID: "o1", Name: "up", Kind: site.Uplink, Uplink: &site.UplinkFacts{PassesOn: true,
			LearntServers: []netip.Addr{ip("192.0.2.99")}}}}})
	s.Devices[0].Interfaces[1].Uplink = &site.UplinkFacts{Method: site.ByDHCP, LearntServers: []netip.Addr{ip(
		"192.0.2.53")}}
	got = list()
	assert.Equal(t, []byte{192, 0, 2, 99}, got[6].Value, "an uplink that passes nothing on tells nothing")
	assert.Empty(t, got[6].Learnt, "it is another device's")
	assert.NotContains(t, got, uint8(15))
}

// T1 is a half and T2 seven eighths of the lease, unless they are told (RFC 2131 section 4.4.5).
func TestTimers(t *testing.T) {
	for want, options := range map[compile.Timers][]site.Option{
		{24 * time.Hour, 12 * time.Hour, 21 * time.Hour}: nil,
		{8 * time.Hour, 4 * time.Hour, 7 * time.Hour}:    {{Code: 51, Value: "8 hours"}},
		{8 * time.Hour, time.Hour, 2 * time.Hour}: {{Code: 51, Value: "8 hours"}, {Code: 58,
			Value: "1 hour"}, {Code: 59, Value: "2 hours"}},
		{option.DefaultLease, time.Hour, option.DefaultLease / 8 * 7}: {{Code: 51, Value: "soon"}, {Code: 58,
			Value: "1 hour"}},
	} {
		s := &site.Site{Options: options}
		assert.Equal(t, want, compile.TimersOf(compile.Effective(s, compile.For{})), "%v", options)
	}
}

// A class's sub-options are packed as option 43, and with an enterprise number as option 125, as long as that has room
// (RFC 3925 section 4).
func TestClassOptions(t *testing.T) {
	// class has sub-options that take so many octets together, with their heads of two.
	class := func(enterprise, octets int) *site.VendorClass {
		k := &site.VendorClass{ID: "k", Enterprise: enterprise, Options: []site.Option{{Code: 66, Value: "tftp"}}}
		for code := uint8(1); octets > 0; code++ {
			n := min(octets, 102)
			k.SubOptions = append(k.SubOptions, site.SubOption{Code: code, Name: "x", Type: "text",
				Value: strings.Repeat("x", n-2)})
			octets -= n
		}
		return k
	}
	codes := func(k *site.VendorClass) (out []uint8) {
		for _, o := range compile.ClassOptions(k) {
			out = append(out, o.Code)
		}
		return out
	}
	assert.Equal(t, []uint8{66}, codes(class(0, 0)))
	assert.Equal(t, []uint8{66, 43}, codes(class(0, 5)))
	assert.Equal(t, []uint8{66, 43, 125}, codes(class(1, 5)))
	assert.Equal(t, []uint8{66, 43, 125}, codes(class(32473, option.MaxValue-7)), "5 octets of head and 2 of the "+
		"sub-option")
	assert.Equal(t, []uint8{66, 43}, codes(class(32473, option.MaxValue-4)))
	assert.Equal(t, hex.EncodeToString([]byte{0, 0, 0x7e, 0xd9, 5, 1, 3, 'x', 'x', 'x'}), compile.ClassOptions(
		class(32473, 5))[2].Value)
	bad := class(1, 5)
	bad.SubOptions[0].Type = "colour"
	assert.Equal(t, []uint8{66}, codes(bad))
	_, err := compile.SubOptions(bad)
	assert.ErrorContains(t, err, `sub-option 1: "colour" is not a type`)
	bad.SubOptions[0].Type, bad.SubOptions[0].Value = option.Address.String(), "nowhere"
	_, err = compile.SubOptions(bad)
	assert.ErrorContains(t, err, "sub-option 1 (x): ")
}
