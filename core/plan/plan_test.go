package plan_test

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/edit"
	"lithos/core/plan"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/yang"
)

func verbs(steps []plan.Step) []string {
	var out []string
	for _, s := range steps {
		out = append(out, s.Verb+" "+s.Text)
	}
	return out
}

func TestNewNetworkIsBuiltFromTheGroundUp(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	base := compile.Device(s, "dev-gw-1")
	require.NoError(t, base.Validate())
	for _, e := range []edit.Entry{
		{Kind: "network", ID: "net-r", New: true,
			Fields: map[string]string{"name": "Recovery", "prefix": "10.84.20.64/26", "vlan": "91", "gateway": "65"}},
		{Kind: "interface", ID: "if-r", New: true, In: "device:dev-gw-1",
			Fields: map[string]string{"name": "lan.91", "parent": "lan", "vlan": "91", "addresses": "10.84.20.65/26"}},
		{Kind: "pool", ID: "pool-r", New: true,
			Fields: map[string]string{"name": "Ward", "network": "net-r", "ranges": "80-119", "enabled": "true"}},
		{Kind: "reservation", ID: "res-r", New: true,
			Fields: map[string]string{"network": "net-r", "address": "70", "mac": "00005e0053b1", "name": "pump"}},
	} {
		edits, err := edit.Read(s, e)
		require.NoError(t, err)
		s, err = edit.Apply(s, edits...)
		require.NoError(t, err)
	}
	wanted := compile.Device(s, "dev-gw-1")
	assert.Equal(t, []string{
		"Add VLAN 91 on `lan` as `lan.91`",
		"Give `lan.91` the address `10.84.20.65/26`",
		"Answer for `20.84.10.in-addr.arpa`",
		"Answer for `kelder.larkrise.example`",
		"Answer names on `lan.91`, too",
		"Serve pool Ward `.80 – .119` on `lan.91`",
		"Reserve `.70` for pump",
	}, verbs(plan.Between(base, plan.Target(base, base, wanted))))
}

func TestReaddressingWithdrawsThePoolFirst(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	base := compile.Device(s, "dev-gw-1")
	n, _ := s.Network("net-imaging")
	n.Prefix = netip.MustParsePrefix("10.84.20.0/25")
	for i, v := range s.Devices[0].Interfaces {
		if v.ID == "if-gw-1-lan-48" {
			s.Devices[0].Interfaces[i].Addresses = []netip.Prefix{netip.MustParsePrefix("10.84.20.1/25")}
		}
	}
	steps := plan.Between(base, compile.Device(s, "dev-gw-1"))
	got := verbs(steps)
	assert.Equal(t, "Its pool is about to be withdrawn; it is restored in step 9", steps[1].Why)
	assert.Equal(t, []string{
		"Answer no names on `lan.48` for now",
		"Remove for now the reservation of plate-reader",
		"Withdraw pool Imaging from `lan.48`",
		"Remove `10.84.20.1/26` from `lan.48`",
		"Set `wan`: translates `10.84.20.0/25`; no longer translates `10.84.20.0/26`",
		"Give `lan.48` the address `10.84.20.1/25`",
		"Answer names on `lan.48`, too",
		"Serve pool Imaging `.24 – .55` on `lan.48`",
		"Reserve `.14` for plate-reader",
	}, got)
}

// A step that says that something comes back names the step that brings it.
func TestWhatComesBackIsNamed(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		steps := plan.Between(randomConfig(t, "was"), randomConfig(t, "now"))
		for i, s := range steps {
			_, says, promised := strings.Cut(s.Why, "; it is restored in step ")
			back := slices.IndexFunc(steps[i+1:],
				func(later plan.Step) bool { return later.Path == s.Path && later.Adds })
			if want := s.Method == "DELETE" && back >= 0; promised != want {
				t.Fatalf("step %d %s %s says %q", i+1, s.Verb, s.Path, s.Why)
			}
			if promised && says != strconv.Itoa(i+back+2) {
				t.Fatalf("step %d comes back in step %d and says %q", i+1, i+back+2, s.Why)
			}
		}
	})
}

func TestWhatLithosDidNotPutThereStays(t *testing.T) {
	base := compile.Device(scenario.Site("kelder-bridge"), "dev-gw-1")
	running := base
	running.Interfaces.Interface = append(slices.Clone(base.Interfaces.Interface),
		yang.Interface{Name: "vpn0", Type: yang.TypeEthernet, Enabled: true})
	assert.Empty(t, plan.Between(running, plan.Target(running, base, base)))
}

// randomConfig draws a configuration a device would accept.
func randomConfig(t *rapid.T, label string) yang.Config {
	c := yang.Config{Interfaces: yang.Interfaces{Interface: []yang.Interface{{Name: "lan", Type: yang.TypeBridge,
		Enabled: true}}}}
	subnets := rapid.Permutation([]int{0, 1, 2, 3, 4, 5}).Draw(t, label+" subnets")
	tags := rapid.Permutation([]int{10, 20, 30, 40, 50, 60}).Draw(t, label+" tags")
	for i := range rapid.IntRange(0, 5).Draw(t, label+" n") {
		a := netip.AddrFrom4([4]byte{10, 0, byte(subnets[i]), byte(rapid.IntRange(1, 2).Draw(t, label+" host"))})
		p := netip.PrefixFrom(a, rapid.SampledFrom([]int{24, 25}).Draw(t, label+" bits"))
		name := fmt.Sprintf("lan.%d", rapid.IntRange(0, 1).Draw(t, label+" name")*10+i)
		c.Interfaces.Interface = append(c.Interfaces.Interface,
			yang.Interface{Name: name, Type: yang.TypeVLAN, Enabled: true,
				VLAN: &yang.VLAN{Parent: "lan", ID: tags[i]},
				IPv4: &yang.IPv4{Enabled: true, Address: []yang.Address{{IP: a, PrefixLength: p.Bits()}}}})
		if rapid.Bool().Draw(t, label+" pool") {
			from := netip.AddrFrom4([4]byte{10, 0, byte(subnets[i]), 20})
			id := fmt.Sprintf("pool-%d", subnets[i]%3*10+i%2)
			if slices.ContainsFunc(c.DHCP.Pool, func(q yang.Pool) bool { return q.ID == id }) {
				continue
			}
			c.DHCP.Pool = append(c.DHCP.Pool,
				yang.Pool{ID: id, Name: id, Enabled: true, Interface: name, Subnet: p.Masked(),
					Range: []yang.Span{{Start: from, End: from.Next()}}})
			c.DHCP.Reservation = append(c.DHCP.Reservation,
				yang.Reservation{ID: "r-" + fmt.Sprint(i%2) + id, Pool: id, Address: from})
		}
	}
	ports := []string{"p1", "p2", "p3"}
	for _, name := range ports[:rapid.IntRange(0, 3).Draw(t, label+" ports")] {
		port := yang.Interface{Name: name, Type: yang.TypeEthernet, Enabled: rapid.Bool().Draw(t, label+" up")}
		if rapid.Bool().Draw(t, label+" trunk") {
			port.Switchport = &yang.Switchport{Untagged: rapid.IntRange(0, 20).Draw(t, label+" untagged"),
				Tagged: []int{30}}
		}
		c.Interfaces.Interface = append(c.Interfaces.Interface, port)
		group := rapid.IntRange(0, 2).Draw(t, label+" group")
		if group == 0 {
			c.Interfaces.Interface[0].Member = append(c.Interfaces.Interface[0].Member, name)
		}
		if group == 1 {
			c.Interfaces.Interface = append(c.Interfaces.Interface,
				yang.Interface{Name: "g-" + name, Type: yang.TypeBridge, Enabled: true, Member: []string{name}})
		}
	}
	if rapid.Bool().Draw(t, label+" class") {
		c.DHCP.Class = []yang.Class{{ID: "k", Name: "Handsets",
			Match: rapid.SampledFrom([]string{"ward", "desk"}).Draw(t, label+" match")}}
	}
	for i := range c.Interfaces.Interface {
		f := &c.Interfaces.Interface[i]
		if f.IPv4 == nil {
			continue
		}
		f.Permit = rapid.SampledFrom([][]string{nil, {"dhcp"}, {"dhcp", "dns"}}).Draw(t, label+" permit")
		if rapid.Bool().Draw(t, label+" relay") {
			c.Relays.Relay = append(c.Relays.Relay,
				yang.Relay{Interface: f.Name,
					Server: []netip.Addr{netip.AddrFrom4([4]byte{10, 9, 9,
						byte(rapid.IntRange(1, 2).Draw(t, label+" server"))})}})
		}
		if len(c.DHCP.Class) > 0 && len(c.DHCP.Pool) > 0 && rapid.Bool().Draw(t, label+" kept") {
			c.DHCP.Pool[0].ForClass = "k"
		}
		if rapid.IntRange(0, 4).Draw(t, label+" far") == 0 {
			c.DHCP.Pool = append(c.DHCP.Pool,
				yang.Pool{ID: "far", Name: "far", Enabled: true, Subnet: netip.MustParsePrefix("10.8.0.0/24")})
			break
		}
	}
	if rapid.Bool().Draw(t, label+" resolver") {
		c.Resolver = randomResolver(t, label, c)
	}
	for _, name := range []string{"wan", "wan-2"} {
		if !rapid.Bool().Draw(t, label+" line") {
			continue
		}
		c.Interfaces.Interface = append(c.Interfaces.Interface, yang.Interface{Name: name, Type: yang.TypeEthernet,
			Enabled: rapid.Bool().Draw(t, label+" line up"), Uplink: &yang.Uplink{Method: site.ByDHCP}})
		for _, id := range []string{"one", "two"}[:rapid.IntRange(0, 2).Draw(t, label+" follow")] {
			n := yang.OutsideName{ID: id, Name: id + ".quill.example", Zone: "quill.example", Interface: name,
				Type: []string{"A"}, RequestTo: "https://names.provider.example", Key: id, SecretName: id,
				TTL: rapid.IntRange(1, 2).Draw(t, label+" keep"), Every: 1, Least: 1}
			c.Outside.Name = append(slices.DeleteFunc(c.Outside.Name,
				func(o yang.OutsideName) bool { return o.ID == id }), n)
		}
	}
	return c.Sorted()
}

// randomResolver draws a resolver that listens on some of the interfaces of a configuration.
func randomResolver(t *rapid.T, label string, c yang.Config) yang.Resolver {
	s := &yang.ResolverSettings{Enabled: rapid.Bool().Draw(t, label+" answers"), Port: 53,
		LeastTTL: rapid.IntRange(0, 1).Draw(t, label+" ttl")}
	for _, i := range c.Interfaces.Interface {
		if i.IPv4 != nil && rapid.Bool().Draw(t, label+" listens") {
			s.Interface = append(s.Interface, i.Name)
		}
		if rapid.Bool().Draw(t, label+" from") {
			s.ForwardFrom = i.Name
		}
	}
	out := yang.Resolver{Settings: s}
	for _, name := range []string{"a.example", "b.example"}[:rapid.IntRange(0, 2).Draw(t, label+" zones")] {
		z := yang.Zone{Name: name, Primary: "ns." + name, Contact: "hostmaster." + name}
		for i := range rapid.IntRange(0, 3).Draw(t, label+" records") {
			z.Record = append(z.Record, yang.Record{ID: fmt.Sprint(i), Owner: "www", Type: "A",
				Data: fmt.Sprintf("10.0.0.%d", i+rapid.IntRange(0, 1).Draw(t, label+" data")*10)})
		}
		out.Zone = append(out.Zone, z)
	}
	return out
}

// Carrying the steps out reaches the target, the device can accept every
// configuration on the way, and nothing is left to do afterwards.
func TestStepsReachTheTarget(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		running, target := randomConfig(t, "running"), randomConfig(t, "target")
		for _, c := range []yang.Config{running, target} {
			if err := c.Validate(); err != nil {
				t.Fatalf("the test drew a bad configuration: %v", err)
			}
		}
		now := running
		for _, s := range plan.Between(running, target) {
			for range 2 { // a step applied again changes nothing
				if err := s.Apply(&now); err != nil && s.Method == "PUT" {
					t.Fatalf("%s %s: %v", s.Verb, s.Text, err)
				}
			}
			if err := now.Validate(); err != nil {
				t.Fatalf("after %s %s: %v", s.Verb, s.Text, err)
			}
		}
		if !now.Equal(target) {
			t.Fatalf("reached %+v, want %+v", now, target)
		}
		if left := plan.Between(now, target); len(left) > 0 {
			t.Fatalf("still to do: %v", verbs(left))
		}
	})
}

// held draws pools with reservations beside them, as a layer 3 switch takes them.
func held(t *rapid.T, label string) yang.Config {
	at := func(n int) netip.Addr { return netip.AddrFrom4([4]byte{10, 0, 0, byte(n)}) }
	c := yang.Config{Interfaces: yang.Interfaces{Interface: []yang.Interface{{Name: "vlan10", Type: yang.TypeVLAN,
		Enabled: true, VLAN: &yang.VLAN{ID: 10},
		IPv4: &yang.IPv4{Enabled: true, Address: []yang.Address{{IP: at(1), PrefixLength: 24}}}}}}}
	for i := range rapid.IntRange(1, 2).Draw(t, label+" pools") {
		from := 10 + 20*i + rapid.IntRange(0, 9).Draw(t, label+" from")
		p := yang.Pool{ID: fmt.Sprint("pool-", i), Enabled: true, Interface: "vlan10",
			Subnet: netip.MustParsePrefix("10.0.0.0/24"),
			Range:  []yang.Span{{Start: at(from), End: at(from + rapid.IntRange(0, 15).Draw(t, label+" size"))}}}
		if rapid.Bool().Draw(t, label+" excludes") {
			p.Exclusion = []yang.Exclusion{{Span: yang.Span{Start: at(from), End: at(from + 2)}}}
		}
		c.DHCP.Pool = append(c.DHCP.Pool, p)
	}
	for i := range rapid.IntRange(0, 3).Draw(t, label+" reservations") {
		r := yang.Reservation{ID: fmt.Sprint("r-", i), Pool: c.DHCP.Pool[i%len(c.DHCP.Pool)].ID,
			Address: at(10 + rapid.IntRange(0, 45).Draw(t, label+" at"))}
		if !slices.ContainsFunc(c.DHCP.Pool, func(p yang.Pool) bool { return p.HandsOut(r.Address) }) {
			c.DHCP.Reservation = append(c.DHCP.Reservation, r)
		}
	}
	return c.Sorted()
}

// A layer 3 switch, which keeps reservations out of its pools, accepts every
// configuration on the way too.
func TestReservationsGiveWayToPools(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		now, target := held(t, "running"), held(t, "target")
		for _, s := range plan.Between(now, target) {
			if err := s.Apply(&now); err != nil {
				t.Fatalf("%s %s: %v", s.Verb, s.Text, err)
			}
			if err := compile.Limits(site.L3Switch, now); err != nil {
				t.Fatalf("after %s %s: %v", s.Verb, s.Text, err)
			}
		}
		if !now.Equal(target) {
			t.Fatalf("reached %+v, want %+v", now, target)
		}
	})
}

// shifting draws pools that share out one run of addresses, and reservations that share out a few
// addresses and clients: from one draw to another they grow into each other and swap.
func shifting(t *rapid.T, label string) yang.Config {
	at := func(n int) netip.Addr { return netip.AddrFrom4([4]byte{10, 0, 0, byte(n)}) }
	c := yang.Config{Interfaces: yang.Interfaces{Interface: []yang.Interface{{Name: "lan", Type: yang.TypeEthernet,
		Enabled: true, IPv4: &yang.IPv4{Enabled: true, Address: []yang.Address{{IP: at(1), PrefixLength: 24}}}}}}}
	cuts := rapid.SliceOfNDistinct(rapid.IntRange(11, 60), 3, 3, rapid.ID).Draw(t, label+" cuts")
	slices.Sort(cuts)
	ids := rapid.Permutation([]string{"a", "b", "c"}).Draw(t, label+" ids")
	from := 10
	for i, to := range cuts {
		p := yang.Pool{ID: ids[i], Name: ids[i], Enabled: true, Interface: "lan",
			Subnet: netip.MustParsePrefix("10.0.0.0/24"), Range: []yang.Span{{Start: at(from), End: at(to - 1)}}}
		if rapid.Bool().Draw(t, label+" excludes") {
			p.Exclusion = []yang.Exclusion{{Span: yang.Span{Start: at(from), End: at(from)}, Reason: "x"}}
		}
		c.DHCP.Pool = append(c.DHCP.Pool, p)
		from = to + rapid.IntRange(0, 1).Draw(t, label+" gap")
		if i+1 < len(cuts) && from >= cuts[i+1] {
			from = to
		}
	}
	addresses := rapid.Permutation([]int{70, 71, 72, 73}).Draw(t, label+" addresses")
	clients := rapid.Permutation([]int{1, 2, 3, 4}).Draw(t, label+" clients")
	for i := range rapid.IntRange(0, 4).Draw(t, label+" reservations") {
		c.DHCP.Reservation = append(c.DHCP.Reservation, yang.Reservation{ID: fmt.Sprint("r", i),
			Pool:    ids[rapid.IntRange(0, 2).Draw(t, label+" pool")],
			Address: at(addresses[i]), MAC: address.MAC{2, 0, 0, 0, 0, byte(clients[i])}})
	}
	return c.Sorted()
}

// A pool that grows into another that shrinks, and reservations that swap addresses or clients,
// pass through no state that a device refuses.
func TestPoolsGiveWayAndReservationsSwap(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		now, target := shifting(t, "running"), shifting(t, "target")
		for _, c := range []yang.Config{now, target} {
			if err := c.Validate(); err != nil {
				t.Fatalf("the test drew a bad configuration: %v", err)
			}
		}
		for _, s := range plan.Between(now, target) {
			if err := s.Apply(&now); err != nil {
				t.Fatalf("%s %s: %v", s.Verb, s.Text, err)
			}
			if err := now.Validate(); err != nil {
				t.Fatalf("after %s %s: %v", s.Verb, s.Text, err)
			}
		}
		if !now.Equal(target) {
			t.Fatalf("reached %+v, want %+v", now, target)
		}
	})
}

func TestAPoolThatGrowsIntoAnother(t *testing.T) {
	pool := func(id string, from, to byte) yang.Pool {
		return yang.Pool{
			ID:        id,
			Name:      id,
			Enabled:   true,
			Interface: "lan",
			Subnet:    netip.MustParsePrefix("10.0.0.0/24"),
			Range: []yang.Span{
				{Start: netip.AddrFrom4([4]byte{10, 0, 0, from}), End: netip.AddrFrom4([4]byte{10, 0, 0, to})},
			},
		}
	}
	running := yang.Config{DHCP: yang.DHCPServer{Pool: []yang.Pool{pool("a", 10, 29), pool("b", 30, 59)}}}
	target := yang.Config{DHCP: yang.DHCPServer{Pool: []yang.Pool{pool("a", 10, 39), pool("b", 40, 59)}}}
	assert.Equal(t, []string{"Serve pool b `.40 – .59` on `lan`", "Serve pool a `.10 – .39` on `lan`"},
		verbs(plan.Between(running, target)), "b is then what it shall be")
	target.DHCP.Pool[1] = pool("b", 40, 80)
	assert.Equal(t, []string{"Narrow pool b to `.40 – .59` for now", "Serve pool a `.10 – .39` on `lan`",
		"Serve pool b `.40 – .80` on `lan`"}, verbs(plan.Between(running, target)))
}

// What an uplink translates more or less is said, not all that it translates.
func TestAnUplinkSaysWhatChanges(t *testing.T) {
	base, draft := scenario.Site("kelder-bridge"), scenario.Site("kelder-bridge")
	_, i, _ := draft.Interface("if-gw-1-wan")
	i.Uplink.Translates = slices.DeleteFunc(slices.Clone(i.Uplink.Translates),
		func(id string) bool { return id == "net-imaging" })
	got := plan.Between(compile.Device(base, "dev-gw-1"), compile.Device(draft, "dev-gw-1"))
	assert.Equal(t, []string{"Set `wan`: no longer translates `10.84.20.0/26`"}, verbs(got))
	back := plan.Between(compile.Device(draft, "dev-gw-1"), compile.Device(base, "dev-gw-1"))
	assert.Equal(t, []string{"Set `wan`: translates `10.84.20.0/26`"}, verbs(back))
}

func TestCompileOfEverySiteIsAccepted(t *testing.T) {
	for _, name := range scenario.Names {
		s := scenario.Site(name)
		for _, d := range s.Devices {
			assert.NoError(t, compile.Device(s, d.ID).Validate(), name)
		}
	}
	assert.Equal(t, yang.Config{}, compile.Device(&site.Site{}, "none"))
}

// A program that holds the resolver's port is stopped before the resolver listens, where the site says so,
// and runs again when the device goes back. One on another port is left alone.
func TestProgramsMakeWayForTheResolver(t *testing.T) {
	s := scenario.Site("moss-end")
	s.Resolvers[0].StopsOthers = true
	wanted := compile.Device(s, "dev-moss-srv")
	running := wanted
	running.Resolver = yang.Resolver{Program: []yang.Program{{Name: "announcer", Port: 5353, Runs: true},
		{Name: "hostname-cache", Port: 53, Runs: true}}}
	require.NoError(t, running.Validate())
	goal := plan.Target(running, wanted, wanted)
	there, back := plan.Between(running, goal), plan.Between(goal, running)
	assert.Equal(t, "Stop `hostname-cache`", there[0].Verb+" "+there[0].Text)
	assert.Contains(t, verbs(back), "Start `hostname-cache` again")
	now := running
	for _, st := range slices.Concat(there, back) {
		require.NoError(t, st.Apply(&now))
		require.NoError(t, now.Validate(), st.Text)
	}
	assert.True(t, now.Equal(running))

	s.Resolvers[0].StopsOthers = false
	left := plan.Target(running, wanted, compile.Device(s, "dev-moss-srv"))
	assert.ErrorContains(t, left.Validate(), "port 53 is taken by hostname-cache")
}

// How often a device looks is said as people say it.
func Test62ADeviceLooksEveryFiveMinutes(t *testing.T) {
	uplink := yang.Interface{Name: "wan", Enabled: true, Uplink: &yang.Uplink{Method: "dhcp"}}
	was := yang.Config{Interfaces: yang.Interfaces{Interface: []yang.Interface{uplink}}}
	now := was
	now.Outside.Name = []yang.OutsideName{{ID: "w", Name: "remote.quill.example", Interface: "wan", Every: 300,
		Enabled: true}}
	steps := plan.Between(was, now)
	require.Len(t, steps, 1)
	assert.Equal(t, "It has the address of wan; the device checks it every 5 minutes", steps[0].Why)
}
