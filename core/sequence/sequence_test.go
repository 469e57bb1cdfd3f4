package sequence_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lithos/core/compile"
	"lithos/core/sequence"
	"lithos/core/site"
)

// mill is a firewall, a switch behind it and a switch behind that. Their management network has no tag on the cables.
const mill = `
id: site-mill
code: mill
name: Weavers Mill
customer: {id: cust-mill, name: Weavers}
standard: {id: std-mill, name: Mill}
block: [10.40.0.0/16]
devices:
  - id: gw
    name: gw-mill
    kind: firewall
    interfaces:
      - {id: gw-wan, name: wan, kind: uplink, addresses: [203.0.113.10/30],
        uplink: {method: fixed, gateway: 203.0.113.9}}
      - {id: gw-p1, name: p1, kind: port, untaggedVLAN: 10, taggedVLANs: [20], peer: a-24}
      - {id: gw-10, name: p1.10, kind: vlan, parent: p1, vlan: 10, addresses: [10.40.10.1/24]}
      - {id: gw-20, name: p1.20, kind: vlan, parent: p1, vlan: 20, addresses: [10.40.20.1/24]}
  - id: a
    name: sw-near
    kind: layer 2 switch
    interfaces:
      - {id: a-mgmt, name: mgmt, kind: vlan, vlan: 10, addresses: [10.40.10.2/24]}
      - {id: a-24, name: port24, kind: port, untaggedVLAN: 10, taggedVLANs: [20]}
      - {id: a-23, name: port23, kind: port, untaggedVLAN: 10, taggedVLANs: [20], peer: b-24}
      - {id: a-1, name: port1, kind: port, untaggedVLAN: 20}
  - id: b
    name: sw-far
    kind: layer 2 switch
    interfaces:
      - {id: b-mgmt, name: mgmt, kind: vlan, vlan: 10, addresses: [10.40.10.3/24]}
      - {id: b-24, name: port24, kind: port, untaggedVLAN: 10, taggedVLANs: [20]}
      - {id: b-1, name: port1, kind: port, untaggedVLAN: 20}
networks:
  - {id: net-10, name: Bench, prefix: 10.40.10.0/24, vlan: 10, gateway: 10.40.10.1}
  - {id: net-20, name: Looms, prefix: 10.40.20.0/24, vlan: 20, gateway: 10.40.20.1}
pools:
  - {id: pool-20, name: Looms, network: net-20, server: gw, enabled: true,
    ranges: [{from: 10.40.20.40, to: 10.40.20.99}]}
`

func read(t testing.TB, text string, replace ...string) *site.Site {
	t.Helper()
	for i := 0; i < len(replace); i += 2 {
		require.Contains(t, text, replace[i])
	}
	s, err := site.Read(strings.NewReader(strings.NewReplacer(replace...).Replace(text)))
	require.NoError(t, err)
	return s
}

// devices is what a push from one document to another has to do.
func devices(base, goal *site.Site) []sequence.Device {
	var out []sequence.Device
	for _, d := range goal.Devices {
		was, is := compile.Device(base, d.ID), compile.Device(goal, d.ID)
		if !was.Equal(is) {
			out = append(out, sequence.Device{ID: d.ID, Name: d.Name, Kind: d.Kind, Running: was, Goal: is})
		}
	}
	return out
}

func order(base, goal *site.Site) sequence.Order { return sequence.Of(base, goal, devices(base, goal)) }

func visited(o sequence.Order) []string {
	var out []string
	for _, s := range o.Steps {
		if len(out) == 0 || out[len(out)-1] != s.Device {
			out = append(out, s.Device)
		}
	}
	return out
}

// holds fails unless carrying the steps out brings each device to its goal over states that it accepts.
func holds(t require.TestingT, all []sequence.Device, o sequence.Order) {
	for _, d := range all {
		now := d.Running.Sorted()
		for _, s := range o.Steps {
			if s.Device != d.ID {
				continue
			}
			next := now.Sorted()
			require.NoError(t, s.Apply(&next), s.Text)
			require.NoError(t, next.Validate(), s.Text)
			require.NoError(t, compile.Limits(d.Kind, next), s.Text)
			now = next
		}
		require.True(t, now.Equal(d.Goal), d.Name)
	}
}

// The untagged VLAN of the cables changes: whoever begins at the near end has lost the far one.
func TestFarthestDeviceFirst(t *testing.T) {
	base := read(t, mill)
	goal := read(t, mill, "untaggedVLAN: 10, taggedVLANs: [20]", "untaggedVLAN: 11, taggedVLANs: [20]",
		"vlan: 10, addresses: [10.40.10.2/24]", "vlan: 11, addresses: [10.40.10.2/24]",
		"vlan: 10, addresses: [10.40.10.3/24]", "vlan: 11, addresses: [10.40.10.3/24]",
		"parent: p1, vlan: 10", "parent: p1, vlan: 11", "vlan: 10, gateway", "vlan: 11, gateway")
	o := order(base, goal)
	holds(t, devices(base, goal), o)
	assert.Equal(t, []string{"b", "a", "gw"}, visited(o))
	assert.Nil(t, o.Console(), "%v", o.Gaps)
}

// A switch is given an address in another subnet: its port is not without an address in between, and where Lithos has
// to come to the new address nothing is left to do.
func TestOwnAddressInOneStepAndLast(t *testing.T) {
	base := read(t, mill)
	goal := read(t, mill, "10.40.10.", "10.40.12.", "port1, kind: port, untaggedVLAN: 20}\n  - id: b",
		"port1, kind: port, untaggedVLAN: 10}\n  - id: b")
	o := order(base, goal)
	holds(t, devices(base, goal), o)
	assert.Nil(t, o.Console(), "%v", o.Gaps)
	var near []string
	for _, s := range o.Steps {
		if s.Device == "a" {
			near = append(near, s.Verb+" "+s.Text)
		}
	}
	assert.Equal(t, []string{"Set `port1`: carries VLAN 10 untagged", "Give `mgmt` VLAN 10 and the address " +
		"`10.40.12.2/24` in one step"}, near)
	assert.Equal(t, "gw", visited(o)[len(visited(o))-1])
}

// A network without DHCP, too, is told of while its VLAN ends on one side of a cable: its port is on it before and
// after, and what is plugged in there cannot know.
func TestWithoutDHCPAVLANEndsOnOneSide(t *testing.T) {
	with := strings.ReplaceAll(mill, "taggedVLANs: [20]", "taggedVLANs: [20, 40]")
	with = strings.Replace(with, "networks:", "networks:\n  - {id: net-40, name: Kilns, prefix: 10.40.40.0/24, "+
		"vlan: 40, gateway: 10.40.40.1}", 1)
	with = strings.Replace(with, "  - id: a\n", "      - {id: gw-40, name: p1.40, kind: vlan, parent: p1, vlan: 40, "+
		"addresses: [10.40.40.1/24]}\n  - id: a\n", 1)
	base := read(t, strings.Replace(with, "networks:", "      - {id: b-2, name: port2, kind: port, "+
		"untaggedVLAN: 40}\nnetworks:", 1))
	goal := read(t, strings.Replace(with, "networks:", "      - {id: b-2, name: port2, kind: port, "+
		"untaggedVLAN: 41}\nnetworks:", 1), "[20, 40]", "[20, 41]", "vlan: 40", "vlan: 41")
	o := order(base, goal)
	holds(t, devices(base, goal), o)
	var kilns []sequence.Gap
	for _, g := range o.Gaps {
		if g.Network == "net-40" {
			kilns = append(kilns, g)
		}
	}
	require.Len(t, kilns, 1, "%v", o.Gaps)
	assert.Equal(t, "Devices in Kilns are cut off from its gateway", kilns[0].Says)
	assert.Equal(t, sequence.Unserved, kilns[0].Kind)
	assert.Less(t, kilns[0].After, kilns[0].Until)
}

// The cables carry the old and the new VLAN of the management network. That does not join the two: whoever changes the
// firewall at its console first has lost the switches, which are still in the old one.
func TestAnotherVLANOfTheSameCable(t *testing.T) {
	with := strings.ReplaceAll(mill, "untaggedVLAN: 10, taggedVLANs: [20]", "taggedVLANs: [10, 20, 30]")
	base := read(t, with)
	goal := read(t, with, "vlan: 10, addresses: [10.40.10.2/24]", "vlan: 30, addresses: [10.40.10.2/24]",
		"vlan: 10, addresses: [10.40.10.3/24]", "vlan: 30, addresses: [10.40.10.3/24]",
		"parent: p1, vlan: 10", "parent: p1, vlan: 30", "vlan: 10, gateway", "vlan: 30, gateway")
	all := devices(base, goal)
	o := sequence.Of(base, goal, all)
	holds(t, all, o)
	assert.Nil(t, o.Console(), "%v", o.Gaps)
	assert.Equal(t, []string{"b", "a", "gw"}, visited(o))
	for i := range all {
		all[i].ByHand = all[i].ID == "gw"
	}
	byHand := sequence.Of(base, goal, all)
	require.NotNil(t, byHand.Console())
	assert.Greater(t, byHand.Console().Until, 4, "the firewall's own steps do not mend it: %v", byHand.Gaps)
}

// Two devices swap their addresses: one lets go of its own first.
func TestSwappedAddresses(t *testing.T) {
	with := strings.Replace(mill, "kind: layer 2 switch", "kind: layer 3 switch", 1)
	with = strings.Replace(with, "- {id: a-mgmt,", "- {id: a-20, name: vlan20, kind: vlan, "+
		"vlan: 20, addresses: [10.40.20.2/24]}\n"+
		"      - {id: a-mgmt,", 1)
	base := read(t, with)
	goal := read(t, with, "10.40.20.2/24", "10.40.20.1/24", "10.40.20.1/24", "10.40.20.2/24",
		"vlan: 20, gateway: 10.40.20.1", "vlan: 20, gateway: 10.40.20.1")
	o := order(base, goal)
	holds(t, devices(base, goal), o)
	for _, g := range o.Gaps {
		assert.NotEqual(t, sequence.Collides, g.Kind, g.Says)
	}
	require.NotEmpty(t, o.Gaps, "for as long as nobody has the gateway's address it is said so")
	assert.Equal(t, "Clients of Looms get no answer, or have no gateway", o.Gaps[0].Says)
	assert.Less(t, o.Gaps[0].After, o.Gaps[0].Until)
}

// Two devices swap the addresses by which they are reached: one is given another for a while.
func TestSwappedOwnAddresses(t *testing.T) {
	base := read(t, mill)
	goal := read(t, mill, "10.40.10.2/24", "10.40.10.3/24", "10.40.10.3/24", "10.40.10.2/24")
	o := order(base, goal)
	holds(t, devices(base, goal), o)
	assert.Empty(t, o.Gaps)
	require.Len(t, o.Steps, 3)
	assert.Equal(t, "`mgmt` for now the address `10.40.10.4/24`", o.Steps[0].Text)
	assert.Equal(t, "Another device takes its address, and two cannot have it at once", o.Steps[0].Why)
}

// An interface moves into the subnet that a neighbour leaves.
func TestIntoTheNeighboursOldSubnet(t *testing.T) {
	with := strings.Replace(mill, "kind: layer 2 switch", "kind: layer 3 switch", 1)
	with = strings.Replace(with, "- {id: a-mgmt,", "- {id: a-30, name: vlan30, kind: vlan, "+
		"vlan: 30, addresses: [10.40.30.1/24]}\n"+
		"      - {id: a-mgmt,", 1)
	with = strings.Replace(with, "pools:", "  - {id: net-30, name: Dyes, prefix: 10.40.30.0/24, "+
		"vlan: 30, gateway: 10.40.30.1}\npools:", 1)
	base := read(t, with)
	goal := read(t, with, "10.40.20.", "10.40.21.", "10.40.30.1/24", "10.40.20.129/25",
		"10.40.30.0/24, vlan: 30, gateway: 10.40.30.1", "10.40.20.128/25, vlan: 30, gateway: 10.40.20.129")
	o := order(base, goal)
	holds(t, devices(base, goal), o)
	assert.Equal(t, []string{"gw", "a"}, visited(o))
	for _, g := range o.Gaps {
		assert.NotEqual(t, sequence.Collides, g.Kind, g.Says)
	}
}

// A pool of one server gives addresses to that of another: they are never handed out by both.
func TestPoolGrowsIntoAnother(t *testing.T) {
	two := mill + "  - {id: pool-21, name: Spare, network: net-20, server: s, enabled: true, " +
		"ranges: [{from: 10.40.20.100, to: 10.40.20.120}]}\n"
	two = strings.Replace(two, "networks:", "  - id: s\n    name: srv-mill\n    kind: server\n    interfaces:\n"+
		"      - {id: s-1, name: eth0, kind: port, addresses: [10.40.20.5/24], peer: a-1}\nnetworks:", 1)
	base := read(t, two)
	goal := read(t, two, "to: 10.40.20.99", "to: 10.40.20.110", "from: 10.40.20.100", "from: 10.40.20.111")
	back := order(goal, base)
	o := order(base, goal)
	holds(t, devices(base, goal), o)
	holds(t, devices(goal, base), back)
	assert.Empty(t, o.Gaps)
	assert.Empty(t, back.Gaps)
	assert.Equal(t, []string{"s", "gw"}, visited(o))
	assert.Equal(t, []string{"gw", "s"}, visited(back))
}

// What somebody does at a console is done before anything else is touched.
func TestByHandFirst(t *testing.T) {
	base := read(t, mill)
	goal := read(t, mill, "10.40.20.", "10.40.22.", "port1, kind: port, untaggedVLAN: 20}\n  - id: b",
		"port1, kind: port, untaggedVLAN: 10}\n  - id: b")
	all := devices(base, goal)
	for i := range all {
		all[i].ByHand = all[i].ID == "a"
	}
	o := sequence.Of(base, goal, all)
	holds(t, all, o)
	assert.Equal(t, []string{"a", "gw"}, visited(o))
}

// From any start to any goal: each device accepts every step and ends where it shall, nothing is said to be wrong that
// was so before or is so afterwards, and a gap ends behind where it begins.
func TestAnyStartAnyGoal(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		base, goal := random(t, "base"), random(t, "goal")
		all := devices(base, goal)
		o := sequence.Of(base, goal, all)
		holds(t, all, o)
		for _, g := range o.Gaps {
			require.LessOrEqual(t, g.After, g.Until, g.Says)
			require.Positive(t, g.After)
		}
		again := sequence.Of(base, goal, all)
		require.Equal(t, fmt.Sprint(o), fmt.Sprint(again), "the same each time")
	})
}

// random is a mill with other addresses, VLANs and pools.
func random(t *rapid.T, label string) *site.Site {
	octets := rapid.Permutation([]int{10, 20, 30, 40}).Draw(t, label+" subnets")
	vlans := rapid.Permutation([]int{10, 20, 30, 40}).Draw(t, label+" VLANs")
	hosts := rapid.Permutation([]int{1, 2, 3, 4}).Draw(t, label+" hosts")
	from := rapid.IntRange(20, 200).Draw(t, label+" from")
	return shaped(octets, vlans, hosts, from, rapid.IntRange(0, 50).Draw(t, label+" size"))
}

// shaped is the mill with these third octets, VLANs and host numbers, and a pool of so many addresses more than one.
func shaped(octets, vlans, hosts []int, from, size int) *site.Site {
	s, err := site.Read(strings.NewReader(mill))
	if err != nil {
		panic(err)
	}
	subnet := func(n, host int) netip.Prefix {
		return netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 40, byte(octets[n]), byte(host)}), 24)
	}
	for n := range s.Networks {
		s.Networks[n].Prefix, s.Networks[n].Gateway = subnet(n, 0), subnet(n, hosts[0]).Addr()
		s.Networks[n].VLAN = vlans[n]
	}
	host := 1
	for d := range s.Devices {
		for i := range s.Devices[d].Interfaces {
			f := &s.Devices[d].Interfaces[i]
			of := func(v int) int { return vlans[v/10-1] }
			if f.VLAN != 0 {
				if n := f.VLAN/10 - 1; d == 0 {
					f.Addresses = []netip.Prefix{subnet(n, hosts[0])}
				} else {
					f.Addresses = []netip.Prefix{subnet(n, hosts[host])}
					host++
				}
				f.VLAN = of(f.VLAN)
			}
			if f.Untagged != 0 {
				f.Untagged = of(f.Untagged)
			}
			for k, v := range f.Tagged {
				f.Tagged[k] = of(v)
			}
		}
	}
	p := &s.Pools[0]
	p.Ranges[0].From = subnet(1, from).Addr()
	p.Ranges[0].To = subnet(1, from+size).Addr()
	return site.Normal(s)
}

func BenchmarkOrder(b *testing.B) {
	base := read(b, mill)
	goal := read(b, mill, "10.40.10.", "10.40.12.", "10.40.20.", "10.40.22.")
	all := devices(base, goal)
	for b.Loop() {
		sequence.Of(base, goal, all)
	}
}

// However few states are looked at in search of the best order, the steps are all there.
func Test53MoreOrdersThanAreLookedAt(t *testing.T) {
	base := shaped([]int{20, 10, 30, 40}, []int{40, 10, 30, 20}, []int{1, 2, 4, 3}, 20, 0)
	goal := shaped([]int{20, 10, 30, 40}, []int{30, 10, 20, 40}, []int{2, 4, 3, 1}, 20, 0)
	all := devices(base, goal)
	for most := range 30 {
		holds(t, all, sequence.Within(most, base, goal, all))
	}
}
