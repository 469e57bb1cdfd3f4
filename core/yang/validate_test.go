package yang_test

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/scenario"
	lithos "lithos/core/yang"
)

var ip = netip.MustParseAddr

func ipv4(prefixes ...string) *lithos.IPv4 {
	v := &lithos.IPv4{Enabled: true}
	for _, p := range prefixes {
		at := netip.MustParsePrefix(p)
		v.Address = append(v.Address, lithos.Address{IP: at.Addr(), PrefixLength: at.Bits()})
	}
	return v
}

func span(from, to string) lithos.Span { return lithos.Span{Start: ip(from), End: ip(to)} }

// small is a router with an uplink, a port, a VLAN on it, two pools, a relay, a zone and a name outside: each as far as
// it may go.
func small() *lithos.Config {
	c := &lithos.Config{}
	c.Interfaces.Interface = []lithos.Interface{
		{Name: "wan", Uplink: &lithos.Uplink{Method: "dhcp"}},
		{Name: "lan", IPv4: ipv4("10.0.0.1/24"), Switchport: &lithos.Switchport{Tagged: []int{1, 4094}}},
		{Name: "lan.7", VLAN: &lithos.VLAN{Parent: "lan", ID: 1}, IPv4: ipv4("10.0.1.1/24")},
		{Name: "lan.8", VLAN: &lithos.VLAN{Parent: "lan", ID: 4094}},
		{Name: "lan.9", VLAN: &lithos.VLAN{ID: 4094}},
		{Name: "p1"}, {Name: "p2"}, {Name: "br", Member: []string{"p1"}}, {Name: "br2", Member: []string{"p2"}},
	}
	c.DHCP.Class = []lithos.Class{{ID: "phones"}}
	c.DHCP.Pool = []lithos.Pool{
		{ID: "a", Name: "Desks", Interface: "lan", Subnet: netip.MustParsePrefix("10.0.0.0/24"),
			Range: []lithos.Span{span("10.0.0.0", "10.0.0.99"), span("10.0.0.100", "10.0.0.255")}},
		{ID: "b", ForClass: "phones", Subnet: netip.MustParsePrefix("10.0.9.0/24"),
			Range: []lithos.Span{span("10.0.9.5", "10.0.9.5")}},
	}
	mac := address.MAC{0, 0, 0x5e, 0, 0x53, 1}
	c.DHCP.Reservation = []lithos.Reservation{
		{ID: "r1", Pool: "a", Address: ip("10.0.0.7"), MAC: mac}, {ID: "r2", Pool: "b", Address: ip("10.0.9.7"),
			MAC: mac},
		{ID: "r3", Pool: "a", Address: ip("10.0.0.8")}, {ID: "r4", Pool: "a", Address: ip("10.0.0.9")},
		{ID: "r5", Pool: "a", Address: ip("10.0.0.10"), Client: []byte{1}},
		{ID: "r6", Pool: "a", Address: ip("10.0.0.11"), Client: []byte{2}},
	}
	c.Relays.Relay = []lithos.Relay{{Interface: "lan.7", Server: []netip.Addr{ip("10.0.0.2")}}}
	c.Resolver.Settings = &lithos.ResolverSettings{Enabled: true, Interface: []string{"lan"}, Port: 53, TLSPort: 853,
		TLSName: "ns.moss.example", ForwardFrom: "wan"}
	c.Resolver.Program = []lithos.Program{{Name: "cache", Port: 53}, {Name: "web", Port: 80, Runs: true}}
	c.Resolver.Zone = []lithos.Zone{{Name: "moss.example", TTL: 60, Record: []lithos.Record{
		{ID: "1", Owner: "@", Type: "A", Data: "10.0.0.1"}, {ID: "2", Owner: "@", Type: "MX", Data: "10 mail"},
		{ID: "3", Owner: "www", Type: "CNAME", Data: "@"}, {ID: "4", Owner: "ftp", Type: "CNAME", Data: "@"}}}}
	c.Outside.Name = []lithos.OutsideName{{ID: "o", Name: "home.moss.example", Zone: "moss.example", Interface: "wan",
		Server: ip("192.0.2.1"), Key: "k", SecretName: "s"}, {ID: "p", Name: "moss.example", Zone: "moss.example",
		Interface: "wan", RequestTo: "https://192.0.2.1/", Key: "k", SecretName: "s"}}
	return c
}

// A device takes the small configuration, and refuses it with any one of these mistakes, in words that name the part.
func TestValidateRefuses(t *testing.T) {
	require.NoError(t, small().Validate())
	type config = lithos.Config
	record := func(owner, typ, data string) func(*config) {
		return func(c *config) {
			z := &c.Resolver.Zone[0]
			z.Record = append(z.Record, lithos.Record{ID: "new", Owner: owner, Type: typ, Data: data})
		}
	}
	for says, spoil := range map[string]func(*config){
		"interface lan is there twice": func(c *config) { c.Interfaces.Interface[0].Name = "lan" },
		"class phones is there twice":  func(c *config) { c.DHCP.Class = append(c.DHCP.Class, c.DHCP.Class[0]) },
		"VLAN id -1 is not from 1":     func(c *config) { c.Interfaces.Interface[1].Switchport.Untagged = -1 },
		"VLAN id 4095 is not from 1 to 4094": func(c *config) {
			c.Interfaces.Interface[1].Switchport.Tagged[0] = 4095
		},
		"lan.7: VLAN id 0 is not":           func(c *config) { c.Interfaces.Interface[2].VLAN.ID = 0 },
		"lan.8: VLAN id 4095 is not":        func(c *config) { c.Interfaces.Interface[3].VLAN.ID = 4095 },
		"its parent nowhere does not exist": func(c *config) { c.Interfaces.Interface[2].VLAN.Parent = "nowhere" },
		"VLAN 1 on lan is already lan.7":    func(c *config) { c.Interfaces.Interface[3].VLAN.ID = 1 },
		"br: its member p9 does not exist":  func(c *config) { c.Interfaces.Interface[7].Member[0] = "p9" },
		"br2: p1 is already in br":          func(c *config) { c.Interfaces.Interface[8].Member[0] = "p1" },
		"lan: fe80::1/64 is not an address": func(c *config) { c.Interfaces.Interface[1].IPv4 = ipv4("fe80::1/64") },
		"overlaps 10.0.0.1/24 on lan":       func(c *config) { c.Interfaces.Interface[2].IPv4 = ipv4("10.0.0.9/30") },
		"pool Desks: interface lan has no":  func(c *config) { c.Interfaces.Interface[1].IPv4 = ipv4("10.0.5.1/24") },
		"pool b: its class faxes does not":  func(c *config) { c.DHCP.Pool[1].ForClass = "faxes" },
		"range 10.0.9.5 - 10.0.10.0 is":     func(c *config) { c.DHCP.Pool[1].Range[0].End = ip("10.0.10.0") },
		"pool Desks: range 10.0.0.99 - 10.0.0.255 overlaps 10.0.0.0 - 10.0.0.99 of pool Desks": func(c *config) {
			c.DHCP.Pool[0].Range[1].Start = ip("10.0.0.99")
		},
		"reservation r1: its pool z does not": func(c *config) { c.DHCP.Reservation[0].Pool = "z" },
		"r4: 10.0.0.8 is kept by reservation r3": func(c *config) {
			c.DHCP.Reservation[3].Address = ip(
				"10.0.0.8")
		},
		"r2: its client has reservation r1":            func(c *config) { c.DHCP.Reservation[1].Pool = "a" },
		"r6: its client has reservation r5":            func(c *config) { c.DHCP.Reservation[5].Client = []byte{1} },
		"relay on lan.8: the interface has no address": func(c *config) { c.Relays.Relay[0].Interface = "lan.8" },
		"relay on lan.7: it names no server":           func(c *config) { c.Relays.Relay[0].Server = nil },
		"resolver: interface lan.8 has no address":     func(c *config) { c.Resolver.Settings.Interface[0] = "lan.8" },
		"interface modem, which forwarders are asked":  func(c *config) { c.Resolver.Settings.ForwardFrom = "modem" },
		"the TLS listener has no certificate name":     func(c *config) { c.Resolver.Settings.TLSName = "" },
		"port 53 cannot be plain and TLS at once":      func(c *config) { c.Resolver.Settings.TLSPort = 53 },
		"port 53 is taken by cache":                    func(c *config) { c.Resolver.Program[0].Runs = true },
		"port 853 is taken by web":                     func(c *config) { c.Resolver.Program[1].Port = 853 },
		"zone ..: ":                                    func(c *config) { c.Resolver.Zone[0].Name = ".." },
		"record 1 is there twice":                      func(c *config) { c.Resolver.Zone[0].Record[1].ID = "1" },
		"record new: ":                                 record("x", "A", "10.0.0"),
		"www.moss.example is an alias and has other":   record("www", "A", "10.0.0.5"),
		"ftp.moss.example is an alias and has":         record("ftp", "CNAME", "www"),
		"WWW.moss.example is an alias":                 record("WWW", "TXT", "names of either case are one"),
		"moss.example is an alias and": func(c *config) {
			c.Resolver.Zone[0].Record = c.Resolver.Zone[0].Record[2:3]
			c.Resolver.Zone[0].Record[0].Owner = "@"
		},
		"home.moss.example: lan is no uplink":           func(c *config) { c.Outside.Name[0].Interface = "lan" },
		"home.moss.example: modem is no uplink":         func(c *config) { c.Outside.Name[0].Interface = "modem" },
		"home.moss.example: it is not in oss.example":   func(c *config) { c.Outside.Name[0].Zone = "oss.example" },
		"it names neither a server nor where a request": func(c *config) { c.Outside.Name[0].Server = netip.Addr{} },
		"home.moss.example: it names no key":            func(c *config) { c.Outside.Name[0].Key = "" },
		"moss.example: it names no key":                 func(c *config) { c.Outside.Name[1].SecretName = "" },
	} {
		c := small()
		spoil(c)
		assert.ErrorContains(t, c.Validate(), says)
	}
	for what, ease := range map[string]func(*config){
		"a pool for relayed clients needs an address of the device only": func(c *config) {
			c.DHCP.Pool = c.DHCP.Pool[1:]
			c.DHCP.Reservation = c.DHCP.Reservation[1:2]
		},
		"a resolver that is off leaves its port to others": func(c *config) {
			c.Resolver.Program[0].Runs, c.Resolver.Settings.Enabled = true, false
		},
		"no TLS needs no name": func(c *config) {
			c.Resolver.Settings.TLSPort,
				c.Resolver.Settings.TLSName = 0, ""
		},
		"no port is 0 twice": func(c *config) {
			c.Resolver.Settings.TLSPort,
				c.Resolver.Settings.Port = 0, 0
		},
		"forwarders are asked from anywhere": func(c *config) { c.Resolver.Settings.ForwardFrom = "" },
	} {
		c := small()
		ease(c)
		assert.NoError(t, c.Validate(), what)
	}
	c := small()
	c.Interfaces, c.Relays, c.Resolver, c.Outside = lithos.Interfaces{}, lithos.DHCPRelay{}, lithos.Resolver{},
		lithos.OutsideNames{}
	c.DHCP.Pool, c.DHCP.Reservation = c.DHCP.Pool[1:], nil
	assert.ErrorContains(t, c.Validate(), "pool b: the device has no address to answer from")
}

// Every node of every device of the made-up sites, put into an empty configuration in any order, makes that
// configuration; deleted one by one, they leave an empty one.
func TestPutMakesAndDeleteUnmakes(t *testing.T) {
	for _, name := range scenario.Names {
		s := scenario.Site(name)
		for i := range s.Devices {
			whole := compile.Device(s, s.Devices[i].ID)
			nodes := map[string][]byte{}
			for _, n := range whole.Interfaces.Interface {
				nodes[lithos.InterfacePath(n.Name)] = lithos.Body(n)
			}
			for _, n := range whole.DHCP.Pool {
				nodes[lithos.PoolPath(n.ID)] = lithos.Body(n)
			}
			for _, n := range whole.DHCP.Reservation {
				nodes[lithos.ReservationPath(n.ID)] = lithos.Body(n)
			}
			for _, n := range whole.DHCP.Class {
				nodes[lithos.ClassPath(n.ID)] = lithos.Body(n)
			}
			for _, n := range whole.Relays.Relay {
				nodes[lithos.RelayPath(n.Interface)] = lithos.Body(n)
			}
			for _, n := range whole.Resolver.Zone {
				nodes[lithos.ZonePath(n.Name)] = lithos.Body(n)
			}
			for _, n := range whole.Resolver.Program {
				nodes[lithos.ProgramPath(n.Name)] = lithos.Body(n)
			}
			for _, n := range whole.Outside.Name {
				nodes[lithos.OutsidePath(n.ID)] = lithos.Body(n)
			}
			if whole.Resolver.Settings != nil {
				nodes[lithos.SettingsPath()] = lithos.Body(whole.Resolver.Settings)
			}
			var built lithos.Config
			for range 2 { // the second time replaces what is there
				for path, body := range nodes {
					require.NoError(t, built.Put(path, body), path)
				}
			}
			assert.True(t, built.Equal(whole), s.Devices[i].Name)
			for path := range nodes {
				require.NoError(t, built.Delete(path), path)
				assert.ErrorContains(t, built.Delete(path), "no such node")
				assert.False(t, built.Equal(whole), path)
			}
			assert.True(t, built.Equal(lithos.Config{}), s.Devices[i].Name)
		}
	}
}

// The addresses of an interface are a node of their own.
func TestAddressesOfAnInterface(t *testing.T) {
	c := small()
	require.NoError(t, c.Put(lithos.IPv4Path("wan"), lithos.Body(ipv4("192.0.2.9/30"))), "the first in the list")
	assert.Equal(t, ipv4("192.0.2.9/30"), c.Interfaces.Interface[0].IPv4)
	require.NoError(t, c.Delete(lithos.IPv4Path("wan")))
	assert.ErrorContains(t, c.Delete(lithos.IPv4Path("wan")), "no such node")
	assert.ErrorContains(t, c.Delete(lithos.IPv4Path("modem")), "no such node")
	for _, body := range []string{`{}`, `{"x":{}}`, `{"ietf-ip:ipv4":null}`, `[`,
		`{"ietf-ip:ipv4":{"enabled":true},"other":{"enabled":true}}`} {
		assert.ErrorContains(t, c.Put(lithos.IPv4Path("lan"), []byte(body)), "must hold one ietf-ip:ipv4", body)
		other := strings.ReplaceAll(body, "ietf-ip:ipv4", "lithos-resolver:settings")
		assert.ErrorContains(t, c.Put(lithos.SettingsPath(), []byte(other)), "must hold one lithos-resolver", body)
	}
	assert.ErrorContains(t, c.Put(lithos.PoolPath("a"), []byte(`{"lithos-dhcp-server:pool":[{"id":"a"}],"x":[]}`)),
		"must hold one")
}

// A patch of a thousand edits is read, and one more is refused; edits are numbered from 1.
func TestPatchLimits(t *testing.T) {
	var p lithos.Patch
	for range 1000 {
		p.Replace(lithos.PoolPath("a"), nil)
	}
	assert.Equal(t, []string{"1", "2", "1000"}, []string{p.Doc.Edit[0].ID, p.Doc.Edit[1].ID, p.Doc.Edit[999].ID})
	for n, want := range []string{"", "at most 1000 edits, and this one 1001"} {
		if n > 0 {
			p.Replace(lithos.PoolPath("a"), nil)
		}
		raw, err := json.Marshal(p)
		require.NoError(t, err)
		if _, err = lithos.ReadPatch(raw); want == "" {
			assert.NoError(t, err)
		} else {
			assert.ErrorContains(t, err, want)
		}
	}
}

// What else listens is told once, and only what is no resolver of the device.
func TestOtherPrograms(t *testing.T) {
	assert.Empty(t, (*lithos.ResolverState)(nil).Others())
	s := &lithos.ResolverState{Listener: []lithos.Listener{{Port: 53, Program: "resolver"},
		{Port: 53, Program: "cache", Protocol: "udp", Other: true}, {Port: 53, Program: "cache", Protocol: "tcp",
			Other: true}}}
	assert.Equal(t, []lithos.Program{{Name: "cache", Port: 53, Runs: true}}, s.Others())
	for _, c := range []struct {
		program lithos.Program
		holds   bool
	}{{lithos.Program{Port: 53, Runs: true}, true}, {lithos.Program{Port: 853, Runs: true}, true},
		{lithos.Program{Port: 54, Runs: true}, false}, {lithos.Program{Port: 53}, false}} {
		assert.Equal(t, c.holds, c.program.Holds(small().Resolver.Settings), fmt.Sprint(c.program))
	}
	assert.False(t, lithos.Program{Port: 53, Runs: true}.Holds(nil))
}

func TestAcceptsAndHandsOut(t *testing.T) {
	assert.True(t, lithos.Interface{}.Accepts("dns"), "nothing said permits everything")
	assert.True(t, lithos.Interface{Permit: []string{"ping", "dns"}}.Accepts("dns"))
	assert.False(t, lithos.Interface{Permit: []string{"ping"}}.Accepts("dns"))
	p := lithos.Pool{Range: []lithos.Span{span("10.0.0.1", "10.0.0.9")},
		Exclusion: []lithos.Exclusion{{Span: span("10.0.0.5", "10.0.0.6")}}}
	for at, out := range map[string]bool{"10.0.0.0": false, "10.0.0.1": true, "10.0.0.4": true, "10.0.0.5": false,
		"10.0.0.6": false, "10.0.0.7": true, "10.0.0.9": true, "10.0.0.10": false} {
		assert.Equal(t, out, p.HandsOut(ip(at)), at)
	}
}
