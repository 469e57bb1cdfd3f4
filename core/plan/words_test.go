package plan_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/plan"
	"lithos/core/wordstest"
	"lithos/core/yang"
	"lithos/core/zone"
)

// small is a router with a port, two VLANs of which one stands on the other, a group, an uplink, a pool with a
// reservation, a relay and a zone.
func small() yang.Config {
	ip := netip.MustParseAddr
	at := func(p string) *yang.IPv4 {
		q := netip.MustParsePrefix(p)
		return &yang.IPv4{Enabled: true, Address: []yang.Address{{IP: q.Addr(), PrefixLength: q.Bits()}}}
	}
	var c yang.Config
	c.Interfaces.Interface = []yang.Interface{
		{Name: "lan", Type: yang.TypeEthernet, Enabled: true, IPv4: at("10.0.0.1/24")},
		{Name: "lan.7", Type: yang.TypeVLAN, Enabled: true, VLAN: &yang.VLAN{Parent: "lan", ID: 7}},
		{Name: "lan.7.8", Type: yang.TypeVLAN, Enabled: true, VLAN: &yang.VLAN{Parent: "lan.7", ID: 8}},
		{Name: "p1", Type: yang.TypeEthernet, Enabled: true, Switchport: &yang.Switchport{Untagged: 3}},
		{Name: "br", Type: yang.TypeBridge, Enabled: true, Member: []string{"p1"}},
		{Name: "wan", Type: yang.TypeEthernet, Enabled: true, Uplink: &yang.Uplink{Method: "dhcp", MTU: 1500}},
	}
	c.DHCP.Pool = []yang.Pool{{ID: "a", Name: "Desks", Enabled: true, Interface: "lan",
		Subnet: netip.MustParsePrefix("10.0.0.0/24"), Range: []yang.Span{{Start: ip("10.0.0.100"), End: ip(
			"10.0.0.199")}}}}
	c.DHCP.Reservation = []yang.Reservation{{ID: "r", Pool: "a", Name: "till", Address: ip("10.0.0.7"),
		MAC: address.MAC{0, 0, 0x5e, 0, 0x53, 1}}}
	c.Relays.Relay = []yang.Relay{{Interface: "lan", Server: []netip.Addr{ip("10.9.9.9")}}}
	c.Resolver.Settings = &yang.ResolverSettings{Enabled: true, Interface: []string{"lan"}, Port: 53}
	c.Resolver.Zone = []yang.Zone{{Name: "moss.example", TTL: 60, Record: []yang.Record{{ID: "1", Owner: "www",
		Type: "A",
		Data: "10.0.0.9"}}}}
	return c
}

// words are the steps of a change with what is typed for each, and the questions that prove it, as people read them.
func words(t *testing.T, was, now yang.Config) string {
	var out []string
	steps := plan.Between(was, now)
	done := was
	for _, s := range steps {
		out = append(out, fmt.Sprintf("%s %s. %s", s.Verb, s.Text, s.Why))
		for _, v := range plan.Values(nil, s) {
			out = append(out, "    "+v.Name+": "+v.Text)
		}
		require.NoError(t, s.Apply(&done))
	}
	assert.True(t, done.Equal(now), "the steps lead there")
	for _, q := range plan.ReadBack(nil, steps, was, now) {
		out = append(out, "  "+q.Says+" "+q.Expect)
	}
	return strings.Join(out, "\n")
}

// changes are one thing each that becomes otherwise, by what it is.
var changes = []struct {
	what   string
	change func(c *yang.Config)
}{
	{"ports of a group", func(c *yang.Config) { c.Interfaces.Interface[4].Member = nil }},
	{"VLANs of a port", func(c *yang.Config) {
		c.Interfaces.Interface[3].Switchport = &yang.Switchport{Untagged: 3, Tagged: []int{7, 8}}
	}},
	{"tagged VLANs only", func(c *yang.Config) {
		c.Interfaces.Interface[3].Switchport = &yang.Switchport{
			Tagged: []int{7}}
	}},
	{"every frame", func(c *yang.Config) { c.Interfaces.Interface[3].Switchport = nil }},
	{"what is permitted", func(c *yang.Config) { c.Interfaces.Interface[0].Permit = []string{"dhcp", "dns"} }},
	{"another address", func(c *yang.Config) {
		c.Interfaces.Interface[0].IPv4.Address[0].IP = netip.MustParseAddr(
			"10.0.0.2")
	}},
	{"interfaces gone, the carried first", func(c *yang.Config) {
		c.Interfaces.Interface = append(c.Interfaces.Interface[:1:1], c.Interfaces.Interface[3:]...)
	}},
	{"a fixed uplink", func(c *yang.Config) {
		c.Interfaces.Interface[5].Uplink = &yang.Uplink{Method: "fixed", MTU: 1400, Gateway: netip.MustParseAddr(
			"192.0.2.1"),
			Translate: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/24")}}
	}},
	{"an account", func(c *yang.Config) {
		c.Interfaces.Interface[5].Uplink = &yang.Uplink{Method: "pppoe", MTU: 1500, Account: "us"}
	}},
	{"a pool that leaves out", func(c *yang.Config) {
		at := netip.MustParseAddr("10.0.0.150")
		c.DHCP.Pool[0].Exclusion = []yang.Exclusion{{Span: yang.Span{Start: at, End: at}, Reason: "x"}}
	}},
	{"a pool that is off", func(c *yang.Config) { c.DHCP.Pool[0].Enabled = false }},
	{"a pool gone", func(c *yang.Config) { c.DHCP.Pool, c.DHCP.Reservation = nil, nil }},
	{"another client", func(c *yang.Config) { c.DHCP.Reservation[0].MAC[5] = 2 }},
	{"another address of a client", func(c *yang.Config) {
		c.DHCP.Reservation[0].Address = netip.MustParseAddr(
			"10.0.0.8")
	}},
	{"another name of a client", func(c *yang.Config) { c.DHCP.Reservation[0].Name = "safe" }},
	{"a client gone", func(c *yang.Config) { c.DHCP.Reservation = nil }},
	{"a client more", func(c *yang.Config) {
		c.DHCP.Reservation = append(c.DHCP.Reservation, yang.Reservation{ID: "s", Pool: "a", Name: "safe",
			Address: netip.MustParseAddr("10.0.0.9"), Client: []byte{0, 'x'}, Option: []yang.Option{{Code: 12,
				Value: []byte("safe")}}})
	}},
	{"a class", func(c *yang.Config) {
		c.DHCP.Class = []yang.Class{{ID: "k", Name: "Phones", Match: "ph", Option: []yang.Option{{Code: 66,
			Value: []byte("tftp")}}}}
	}},
	{"a relay elsewhere", func(c *yang.Config) { c.Relays.Relay[0].Server[0] = netip.MustParseAddr("10.9.9.8") }},
	{"no relay", func(c *yang.Config) { c.Relays.Relay = nil }},
	{"no resolver", func(c *yang.Config) { c.Resolver.Settings, c.Resolver.Zone = nil, nil }},
	{"a resolver that is off", func(c *yang.Config) { c.Resolver.Settings.Enabled = false }},
	{"a resolver that asks others", func(c *yang.Config) {
		c.Resolver.Settings.Forwarder = []yang.NameServer{{Address: netip.MustParseAddr("192.0.2.53"), Port: 853,
			TLSName: "ns"},
			{Address: netip.MustParseAddr("192.0.2.54"), Port: 53}}
		c.Resolver.Settings.Domain = []yang.DomainServer{{Name: "far.example",
			Server: c.Resolver.Settings.Forwarder[1:]}}
		c.Resolver.Settings.Silenced = []string{"a.example", "b.example"}
	}},
	{"a resolver that listens on more", func(c *yang.Config) {
		c.Resolver.Settings.Interface = []string{"lan",
			"lan.7"}
	}},
	{"records of a zone", func(c *yang.Config) {
		c.Resolver.Zone[0].Record = []yang.Record{{ID: "1", Owner: "www", Type: "A", Data: "10.0.0.8", TTL: 30}, {
			ID: "2", Owner: "a",
			Type: "A", Data: "10.0.0.1"}, {ID: "3", Owner: "b", Type: "A", Data: "10.0.0.2"}, {ID: "4", Owner: "c",
			Type: "A",
			Data: "10.0.0.3"}, {ID: "5", Owner: "d", Type: "A", Data: "10.0.0.4"}}
	}},
	{"a record gone", func(c *yang.Config) { c.Resolver.Zone[0].Record = nil }},
	{"times of a zone", func(c *yang.Config) { c.Resolver.Zone[0].Refresh = 100 }},
	{"a zone gone", func(c *yang.Config) { c.Resolver.Zone = nil }},
	{"a name at its line", func(c *yang.Config) {
		c.Outside.Name = []yang.OutsideName{{ID: "o", Name: "home.moss.example", Interface: "wan", Every: 300,
			Enabled: true, Key: "k"}}
	}},
	{"nothing", func(*yang.Config) {}},
}

// What becomes of each part is said in words, there and back, and asked afterwards. The words are in a file, for
// somebody to read.
func TestStepsInWords(t *testing.T) {
	var got strings.Builder
	for _, c := range changes {
		was, now := small(), small()
		c.change(&now)
		fmt.Fprintf(&got, "# %s\n%s\n# and back\n%s\n\n", c.what, words(t, was, now), words(t, now, was))
	}
	wordstest.Same(t, "words.txt", got.String())
}

// What a zone outside is told is said with what it told before.
func TestToldOutsideInWords(t *testing.T) {
	record := func(data string) []zone.Record { return []zone.Record{{Owner: "www", Type: "A", Data: data}} }
	for want, c := range map[string]zone.Change{
		"Tell the world `www` A `192.0.2.1`. Nothing was told": {Owner: "www", Type: "A",
			Now: record("192.0.2.1")},
		"Withdraw `www` A. It was `192.0.2.1`": {Owner: "www", Type: "A",
			Was: record("192.0.2.1")},
		"Tell the world `www` A `192.0.2.2`. It was `192.0.2.1`": {Owner: "www", Type: "A",
			Was: record("192.0.2.1"), Now: record("192.0.2.2")},
		"Tell the world `www` A `192.0.2.1`. How long it may be kept changes": {Owner: "www", Type: "A",
			Was: record("192.0.2.1"), Now: record("192.0.2.1")},
	} {
		s := plan.Tell(c)
		assert.Equal(t, want, fmt.Sprintf("%s %s. %s", s.Verb, s.Text, s.Why))
		assert.Equal(t, len(c.Now) > 0, s.Adds)
	}
}
