package sequence_test

import (
	"fmt"
	"strings"
	"testing"

	"lithos/core/sequence"
	"lithos/core/wordstest"
)

// server is a server beside the looms, that leases where the firewall relays to it.
const server = `  - id: s
    name: srv-mill
    kind: server
    interfaces:
      - {id: s-1, name: eth0, kind: port, addresses: [10.40.20.5/24], peer: a-1}
networks:`

// changes are pushes, each for one thing: what is otherwise before it, and after it.
var changes = []struct {
	what         string
	before, goal []string // pairs of old and new text
	byHand       string   // id of a device
}{
	{what: "another pool", goal: []string{"from: 10.40.20.40", "from: 10.40.20.50"}},
	{what: "a pool is switched off", goal: []string{"enabled: true", "enabled: false"}},
	{what: "a pool is switched on", before: []string{"enabled: true", "enabled: false"}},
	{what: "another gateway on the firewall", goal: []string{"10.40.20.1/24", "10.40.20.9/24", "gateway: 10.40.20.1",
		"gateway: 10.40.20.9"}},
	{what: "the gateway moves to a switch in one subnet", before: []string{"kind: layer 2 switch\n    interfaces:\n" +
		"      - {id: a-mgmt", "kind: layer 3 switch\n    interfaces:\n      - {id: a-20, name: v20, kind: vlan, " +
		"vlan: 20, addresses: [10.40.20.2/24]}\n      - {id: a-mgmt"},
		goal: []string{"gateway: 10.40.20.1", "gateway: 10.40.20.2"}},
	{what: "a firewall's subnet overlaps the one that a switch leaves", before: []string{
		"kind: layer 2 switch\n    interfaces:\n      - {id: a-mgmt", "kind: layer 3 switch\n    interfaces:\n" +
			"      - {id: a-30, name: v30, kind: vlan, vlan: 30, addresses: [10.40.20.129/25]}\n      - {id: a-mgmt",
		"10.40.20.1/24", "10.40.21.1/24"},
		goal: []string{"10.40.20.129/25", "10.40.30.129/25", "10.40.21.1/24", "10.40.20.1/24"}},
	{what: "one VLAN of the cable becomes another", goal: []string{"[20]", "[21]", "parent: p1, vlan: 20",
		"parent: p1, vlan: 21", "vlan: 20, gateway", "vlan: 21, gateway", "untaggedVLAN: 20", "untaggedVLAN: 21"}},
	{what: "it does so without DHCP", before: []string{"enabled: true", "enabled: false"},
		goal: []string{"[20]", "[21]", "parent: p1, vlan: 20", "parent: p1, vlan: 21", "vlan: 20, gateway",
			"vlan: 21, gateway", "untaggedVLAN: 20", "untaggedVLAN: 21"}},
	{what: "it does so without a gateway", before: []string{"enabled: true", "enabled: false",
		", gateway: 10.40.20.1}", "}"},
		goal: []string{"[20]", "[21]", "parent: p1, vlan: 20", "parent: p1, vlan: 21",
			"10.40.20.0/24, vlan: 20", "10.40.20.0/24, vlan: 21", "untaggedVLAN: 20", "untaggedVLAN: 21"}},
	{what: "a server leases in place of the firewall", before: []string{"networks:", server},
		goal: []string{"server: gw", "server: s"}},
	{what: "a server behind the relay leases in place of the firewall",
		before: []string{"10.40.10.3/24", "10.40.10.3/24", "networks:", strings.ReplaceAll(server, "10.40.20.5",
			"10.40.10.5")},
		goal: []string{"server: gw", "server: s", "vlan: 20, addresses: [10.40.20.1/24]",
			"vlan: 20, addresses: [10.40.20.1/24], relayTo: [10.40.10.5]"}},
	{what: "the relay's server is called by another address", before: []string{"networks:", strings.ReplaceAll(server,
		"10.40.20.5", "10.40.10.5"), "server: gw", "server: s", "vlan: 20, addresses: [10.40.20.1/24]",
		"vlan: 20, addresses: [10.40.20.1/24], relayTo: [10.40.10.5]"},
		goal: []string{"10.40.10.5", "10.40.10.6"}},
	{what: "the firewall stops permitting DHCP, and a server that is beside the clients leases",
		before: []string{"networks:", server, "addresses: [10.40.20.1/24]",
			"addresses: [10.40.20.1/24], permits: [dhcp, dns]"},
		goal: []string{"server: gw", "server: s", "permits: [dhcp, dns]", "permits: [dns]"}},
	{what: "the uplink has another address", goal: []string{"203.0.113.10/30", "203.0.113.14/30", "203.0.113.9",
		"203.0.113.13"}},
	{what: "no uplink is recorded", before: []string{"kind: uplink", "kind: port", ",\n        uplink: {method: " +
		"fixed, " +
		"gateway: 203.0.113.9}", ""},
		goal: []string{"10.40.10.", "10.40.12."}},
	{what: "no cable is recorded", before: []string{", peer: a-24", "", ", peer: b-24", ""},
		goal: []string{"10.40.10.", "10.40.12."}},
	{what: "the management network has other addresses", goal: []string{"10.40.10.", "10.40.12."}},
	{what: "and the firewall is changed by hand", goal: []string{"10.40.10.", "10.40.12."}, byHand: "gw"},
	{what: "and the far switch is changed by hand", goal: []string{"10.40.10.", "10.40.12."}, byHand: "b"},
	{what: "the management network has other addresses, and the looms another VLAN", goal: []string{"10.40.10.",
		"10.40.12.", "[20]", "[21]", "parent: p1, vlan: 20", "parent: p1, vlan: 21", "vlan: 20, gateway",
		"vlan: 21, gateway", "untaggedVLAN: 20", "untaggedVLAN: 21"}},
	{what: "three switch addresses go round", goal: []string{"10.40.10.2/24", "10.40.10.3/24", "10.40.10.3/24",
		"10.40.10.4/24"}},
	{what: "two addresses are swapped, one by hand", goal: []string{"10.40.10.2/24", "10.40.10.3/24", "10.40.10.3/24",
		"10.40.10.2/24"}, byHand: "b"},
	{what: "a cable's port loses the VLAN of the management network", goal: []string{
		"untaggedVLAN: 10, taggedVLANs: [20], peer: b-24", "untaggedVLAN: 20, peer: b-24"}},
	{what: "a management interface goes for good", goal: []string{
		"      - {id: b-mgmt, name: mgmt, kind: vlan, vlan: 10, addresses: [10.40.10.3/24]}\n", ""}},
	{what: "a new network", goal: []string{"[20]", "[20, 50]", "  - id: a\n", "      - {id: gw-50, name: p1.50, " +
		"kind: vlan, parent: p1, vlan: 50, addresses: [10.40.50.1/24]}\n  - id: a\n", "networks:",
		"networks:\n  - {id: net-50, name: Store, prefix: 10.40.50.0/24, vlan: 50, gateway: 10.40.50.1}"}},
}

// What is done in which order, and what is not so meanwhile, is in a file, for somebody to read.
func TestOrdersInWords(t *testing.T) {
	var got strings.Builder
	for _, c := range changes {
		base := read(t, mill, c.before...)
		goal := read(t, mill)
		if c.goal != nil {
			goal = read(t, strings.NewReplacer(c.before...).Replace(mill), c.goal...)
		}
		all := devices(base, goal)
		for i := range all {
			all[i].ByHand = all[i].ID == c.byHand
		}
		o := sequence.Of(base, goal, all)
		holds(t, all, o)
		fmt.Fprintf(&got, "# %s\n", c.what)
		for i, s := range o.Steps {
			fmt.Fprintf(&got, "%d %s: %s %s (%s)\n", i+1, s.Device, s.Verb, s.Text, s.Why)
		}
		for _, g := range o.Gaps {
			fmt.Fprintf(&got, "   %d to %d %s %s: %s\n", g.After, g.Until, g.Kind, g.Network, g.Says)
		}
		got.WriteString("\n")
	}
	wordstest.Same(t, "orders.txt", got.String())
}
