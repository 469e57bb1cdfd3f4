package rehearse_test

import (
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/dhcp"
	"lithos/core/observed"
	"lithos/core/rehearse"
	"lithos/core/scenario"
	"lithos/core/site"
)

// Leases are those that devices told, with their ends; those that stand come after those that have ended. What is no
// lease, or of no pool of the site, is none.
func TestLeasesOfASite(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	heard := func(last byte, change func(h *observed.Heard)) observed.Heard {
		h := observed.Heard{Device: "dev-gw-1", Source: observed.Lease, Pool: "pool-imaging", Bound: true,
			State:   "bound",
			Address: netip.AddrFrom4([4]byte{10, 84, 20, last}), Expires: now.Add(time.Hour)}
		change(&h)
		return h
	}
	all := []observed.Heard{heard(30, func(*observed.Heard) {}),
		heard(31, func(h *observed.Heard) { h.Expires = now.Add(-time.Hour) }),
		heard(32, func(h *observed.Heard) { h.Bound = false }), heard(33, func(h *observed.Heard) {
			h.Source = observed.Neighbour
		}),
		heard(34, func(h *observed.Heard) { h.Expires = time.Time{} }), heard(35, func(h *observed.Heard) {
			h.Pool = "gone"
		}),
		heard(36, func(h *observed.Heard) { h.Expires = now })}
	var got []byte
	for _, l := range rehearse.LeasesOf(s, all, now)["dev-gw-1"] {
		got = append(got, l.Address.As4()[3])
		assert.Equal(t, "10.84.20.0/26", l.Subnet.String())
	}
	assert.Equal(t, []byte{31, 32, 36, 30}, got)
}

// A client whose server is silent asks any other at seven eighths of its lease, and keeps its address when that one
// knows it (RFC 2131 section 4.4.5).
func TestRebinding(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	n, _ := s.Network("net-imaging")
	stage := rehearse.NewStage(now, s, nil)
	client := &dhcp.Client{MAC: [6]byte{0, 0, 0x5e, 9, 9, 1}}
	trial := rehearse.NewTrial(stage, n, client)
	_, err := trial.Do(rehearse.Act{Do: "lease"})
	require.NoError(t, err)
	client.ServerID = netip.MustParseAddr("10.84.20.9") // the one that gave the address is gone
	scene, err := trial.Do(rehearse.Act{Do: "renew"})
	require.NoError(t, err)
	assert.Equal(t, "10.84.20.24", scene.Address)
	require.NotEmpty(t, scene.Messages)
	assert.Equal(t, "ack", scene.Messages[len(scene.Messages)-1].Type)

	wired := rehearse.NewTrialOn(s, n, client, func(n *site.Network) (dhcp.Wire, error) { return stage.Wire(n), nil })
	client.ServerID = netip.MustParseAddr("10.84.20.9")
	scene, err = wired.Do(rehearse.Act{Do: "renew"})
	require.NoError(t, err)
	assert.Equal(t, "10.84.20.24", scene.Address, "also where no time can be passed")
}

// Whether packets come back from outside: an uplink translates the network, none does, nothing says so, or there is
// none.
func TestInternetRung(t *testing.T) {
	n := &site.Network{ID: "n", Prefix: netip.MustParsePrefix("10.0.0.0/24")}
	with := func(uplinks ...*site.UplinkFacts) *site.Site {
		d := site.Device{Name: "rt", Interfaces: []site.Interface{{Name: "lan", Kind: site.Port}}}
		for _, u := range uplinks {
			d.Interfaces = append(d.Interfaces, site.Interface{Name: "wan", Kind: site.Uplink, Uplink: u})
		}
		return &site.Site{Devices: []site.Device{d}}
	}
	yes, no := &site.UplinkFacts{Translates: []string{"n"}}, &site.UplinkFacts{Translates: []string{"m"}}
	for want, s := range map[string]*site.Site{
		"pass translated on wan ":                                    with(no, nil, yes),
		"fail No uplink translates 10.0.0.0/24 network-untranslated": with(no, no),
		"skip nothing says what wan translates translation-unknown":  with(no, nil),
		"skip no uplink is recorded ":                                with(),
	} {
		r := rehearse.InternetRung(s, n)
		assert.Equal(t, want, r.State+" "+r.Value+" "+r.Rule)
	}
}

// A client stays plugged in where a network makes way for another in its VLAN; without VLANs nothing says where.
func TestANetworkInThePlaceOfAnother(t *testing.T) {
	for vlan, moves := range map[int]bool{48: true, 0: false} {
		base, draft := scenario.Site("kelder-bridge"), scenario.Site("kelder-bridge")
		for _, s := range []*site.Site{base, draft} {
			n, _ := s.Network("net-imaging")
			n.VLAN = vlan
		}
		n, _ := draft.Network("net-imaging")
		n.ID = "net-other"
		for i := range draft.Pools {
			if draft.Pools[i].Network == "net-imaging" {
				draft.Pools[i].Network = "net-other"
			}
		}
		for _, r := range draft.Reservations {
			if r.Network == "net-imaging" {
				r.Network = "net-other"
			}
		}
		leases := rehearse.Leases{"dev-gw-1": {{Address: netip.MustParseAddr("10.84.20.30"), HostName: "office-pc",
			MAC: [6]byte{0, 0, 0x5e, 9, 9, 1}, Subnet: netip.MustParsePrefix("10.84.20.0/26"), Pool: "pool-imaging",
			State: dhcp.Bound, Since: now, Expires: now.Add(time.Hour)}}}
		_, clients := runAll(t, now, base, draft, leases)
		at := slices.IndexFunc(clients, func(c rehearse.Client) bool { return c.Name == "office-pc" })
		require.GreaterOrEqual(t, at, 0)
		assert.Equal(t, moves, clients[at].After != "", "VLAN %d: %+v", vlan, clients[at])
	}
}
