package rehearse_test

import (
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/dhcp"
	"lithos/core/rehearse"
	"lithos/core/scenario"
	"lithos/core/site"
)

var now = time.Date(2026, 11, 23, 21, 30, 0, 0, time.UTC)

func ladder(t *testing.T, s *site.Site, network string) []string {
	n, ok := s.Network(network)
	require.True(t, ok)
	var out []string
	for _, r := range rehearse.Ladder(now, s, n, nil) {
		out = append(out, r.Name+" "+r.State+" "+r.Value+" "+r.Rule)
	}
	return out
}

// runAll rehearses and keeps every client.
func runAll(
	t *testing.T, now time.Time, base, draft *site.Site, leases rehearse.Leases,
) (rehearse.Report, []rehearse.Client) {
	t.Helper()
	var clients []rehearse.Client
	report, err := rehearse.Run(now, base, draft, leases, func(c rehearse.Client) error {
		clients = append(clients, c)
		return nil
	})
	require.NoError(t, err)
	return report, clients
}

func TestLadder(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	assert.Equal(t, []string{"link pass VLAN 48 ", "lease pass .24 ", "gateway pass 10.84.20.1 ",
		"internet pass translated on wan "}, ladder(t, s, "net-imaging"))

	p, _ := s.Pool("pool-imaging")
	p.Enabled = false
	assert.Equal(t, []string{"link pass VLAN 48 ", "lease fail Pool Imaging is switched off pool-off",
		"gateway skip needs a lease ", "internet skip needs a lease "}, ladder(t, s, "net-imaging"))
	p.Enabled = true
	p.Options = []site.Option{{Code: 3, Value: "10.84.18.1"}}
	assert.Equal(t, "gateway fail 10.84.18.1 is not in 10.84.20.0/26 router-outside-network",
		ladder(t, s, "net-imaging")[2])
	n, _ := s.Network("net-imaging")
	n.VLAN = 49
	assert.Equal(t, "link fail lan.48 of gw-1 carries VLAN 48, the network is VLAN 49 vlan-id-reused",
		ladder(t, s, "net-imaging")[0])
	s.Devices = nil
	assert.Equal(t, "link fail No device has an interface in 10.84.20.0/26 gateway-on-no-interface",
		ladder(t, s, "net-imaging")[0])
}

func TestWhoMoves(t *testing.T) {
	base, draft := scenario.Site("kelder-bridge"), scenario.Site("kelder-bridge")
	leases := rehearse.Leases{"dev-gw-1": {}}
	for _, c := range []*dhcp.Client{{MAC: [6]byte{0, 0, 0x5e, 9, 9, 1}, HostName: "office-pc"},
		{MAC: [6]byte{0, 0, 0x5e, 9, 9, 2}, HostName: "other-pc"}} {
		n, _ := base.Network("net-imaging")
		scene, err := rehearse.NewTrial(rehearse.NewStage(now, base, leases), n, c).
			Do(rehearse.Act{Do: rehearse.ActLease})
		require.NoError(t, err)
		require.Len(t, scene.Messages, 4)
		leases["dev-gw-1"] = append(leases["dev-gw-1"], dhcp.Lease{Address: c.Address, MAC: c.MAC, HostName: c.HostName,
			Subnet: n.Prefix, Pool: "pool-imaging", State: dhcp.Bound, Since: now, Expires: now.Add(c.Lease)})
	}
	r, _ := draft.Reservation("res-plate-reader")
	r.Address = leases["dev-gw-1"][0].Address // moves onto what office-pc holds

	report, clients := runAll(t, now, base, draft, leases)
	find := func(name string) rehearse.Client {
		i := slices.IndexFunc(clients, func(c rehearse.Client) bool { return c.Name == name })
		require.GreaterOrEqual(t, i, 0, name)
		return clients[i]
	}
	office, other, reader := find("office-pc"), find("other-pc"), find("plate-reader")
	assert.Equal(t, "10.84.20.24", office.Before)
	assert.Equal(t, "10.84.20.26", office.After)
	assert.Equal(t, "at its next renewal", office.When)
	assert.False(t, other.Moves)
	assert.Equal(t, []string{"10.84.20.14", "10.84.20.24"}, []string{reader.Before, reader.After})
	assert.NotEmpty(t, reader.Reply.Bytes)
	assert.Equal(t, len(clients), report.Clients)
	assert.Equal(t, len(slices.DeleteFunc(slices.Clone(clients), func(c rehearse.Client) bool { return !c.Moves })),
		report.Moving)
	assert.Equal(t, 3, report.Networks[slices.IndexFunc(report.Networks,
		func(n rehearse.Network) bool { return n.ID == "net-imaging" })].Clients)
}

// A draft that changes nothing moves nobody, and every network of the sites that
// is meant to work climbs its ladder.
func TestNothingChangesNothing(t *testing.T) {
	for _, name := range scenario.Names {
		s := scenario.Site(name)
		report, clients := runAll(t, now, s, s, nil)
		for _, c := range clients {
			assert.False(t, c.Moves, c.Name)
			require.NotNil(t, c.Reply, "%s: %s", c.Name, c.Why)
			assert.Equal(t, c.After, c.Reply.Your)
		}
		for _, n := range report.Networks {
			for _, r := range n.Rungs {
				if (n.ID == "net-hallin-waiting" || n.ID == "net-moss-kennels") && r.Name != "link" {
					assert.NotEqual(t, rehearse.Pass, r.State, "a pool is planted switched off, and a relay")
					continue
				}
				assert.Equal(t, rehearse.Pass, r.State, "%s %s: %s", n.Name, r.Name, r.Value)
			}
		}
	}
}

func TestNewOptionsAreTold(t *testing.T) {
	base, draft := scenario.Site("kelder-bridge"), scenario.Site("kelder-bridge")
	n, _ := draft.Network("net-imaging")
	n.Options = []site.Option{{Code: 6, Value: "10.84.16.1"}}
	_, clients := runAll(t, now, base, draft, nil)
	i := slices.IndexFunc(clients, func(c rehearse.Client) bool { return c.Name == "plate-reader" })
	require.GreaterOrEqual(t, i, 0)
	assert.Equal(t, []string{"name servers"}, clients[i].Changes)
	assert.Equal(t, "when it next asks", clients[i].When)
	assert.Equal(t, "10.84.16.1", clients[i].Reply.Option(6))

	draft.Pools = slices.DeleteFunc(draft.Pools, func(p site.Pool) bool { return p.ID == "pool-imaging" })
	_, clients = runAll(t, now, base, draft, nil)
	i = slices.IndexFunc(clients, func(c rehearse.Client) bool { return c.Name == "plate-reader" })
	assert.Empty(t, clients[i].After)
	assert.Equal(t, "No pool is served on lan.48.", clients[i].Why)
	m, _ := draft.Network("net-imaging")
	assert.Equal(t, rehearse.Skip, rehearse.Ladder(now, draft, m, nil)[1].State, "no pool by design")
}

func TestServedThroughARelay(t *testing.T) {
	s := scenario.Site("moss-end")
	assert.Equal(t, []string{"link pass VLAN 24 ", "lease pass .60 ", "gateway pass 10.84.50.1 ",
		"internet pass translated on wan "}, ladder(t, s, "net-moss-ward"))
	assert.Equal(t, "lease fail Nothing relays Kennels to srv-moss relay-missing", ladder(t, s, "net-moss-kennels")[1])
	n, _ := s.Network("net-moss-ward")
	c := &dhcp.Client{MAC: [6]byte{0, 0, 0x5e, 9, 9, 1}}
	scene, err := rehearse.NewTrial(rehearse.NewStage(now, s, nil), n, c).Do(rehearse.Act{Do: rehearse.ActLease})
	require.NoError(t, err)
	ack := scene.Messages[3]
	assert.Equal(t, "10.84.48.10", ack.Option(54), "the server's own identifier")
	assert.Empty(t, ack.Option(82), "the relay took its information off")
	assert.Contains(t, ack.Why, "Relayed by vlan24 to srv-moss.")

	_, i, _ := s.Interface("if-moss-sw-v24")
	i.Permits = []string{site.PermitPing}
	assert.Equal(t, "lease fail vlan24 lets no DHCP in dhcp-not-permitted", ladder(t, s, "net-moss-ward")[1])
	_, trunk, _ := s.Interface("if-moss-barn-1")
	trunk.Tagged = []int{70}
	assert.Equal(t,
		"link fail port5 of sw-moss sends VLAN 24, and port1 of sw-barn does not take it vlan-on-one-side-only",
		ladder(t, s, "net-moss-ward")[0])
}

func TestTrialThroughAllStates(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	n, _ := s.Network("net-imaging")
	trial := rehearse.NewTrial(rehearse.NewStage(now, s, nil), n,
		&dhcp.Client{MAC: [6]byte{0, 0, 0x5e, 9, 9, 1}, HostName: "visitor"})
	var got []string
	for _, a := range []rehearse.Act{{Do: "renew"}, {Do: "lease"}, {Do: "renew"}, {Do: "reboot"},
		{Do: "move", To: "net-clinic"}, {Do: "stale"}, {Do: "release"}, {Do: "move", To: "net-imaging"}, {Do: "fill"}} {
		scene, err := trial.Do(a)
		require.NoError(t, err)
		got = append(got, scene.Do+": "+scene.Says)
	}
	assert.Equal(t, []string{
		"renew: It holds no address to renew.",
		"lease: It has 10.84.20.24 for 1 day.",
		"renew: It has 10.84.20.24 for 1 day.",
		"reboot: It has 10.84.20.24 for 1 day.",
		"move: The old address was refused. It has 10.84.18.96 for 8 hours.",
		"stale: The old address was refused. It has 10.84.18.96 for 8 hours.",
		"release: It gave 10.84.18.96 back.",
		"move: It has 10.84.20.24 for 1 day.",
		"fill: 31 others took an address; there is none for one more: Pool Imaging has no free address.",
	}, got)
	_, err := trial.Do(rehearse.Act{Do: "move", To: "net-none"})
	assert.ErrorContains(t, err, "choose one of the list")
	_, err = trial.Do(rehearse.Act{Do: "dance"})
	assert.Error(t, err)
}

func TestVendorClassesAreToldTheirOwn(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	n, _ := s.Network("net-handsets")
	ask := func(class string, want ...uint8) dhcp.Message {
		c := &dhcp.Client{MAC: [6]byte{0, 0, 0x5e, 9, 9, 1}, Class: class, Parameters: want}
		scene, err := rehearse.NewTrial(rehearse.NewStage(now, s, nil), n, c).Do(rehearse.Act{Do: rehearse.ActLease})
		require.NoError(t, err)
		require.Len(t, scene.Messages, 4, scene.Says)
		return scene.Messages[3]
	}
	assert.Equal(t, "01040a541082020d68616e64736574732f77617264", ask("wardphone 3", 43, 3).Option(43))
	assert.Empty(t, ask("deskphone", 43, 3).Option(43))
	s.Pools = append(s.Pools,
		site.Pool{ID: "pool-phones", Name: "Phones", Network: n.ID, Server: "dev-gw-1", Enabled: true,
			ForClass: "class-handsets",
			Ranges: []address.Range{{From: netip.MustParseAddr("10.84.16.140"),
				To: netip.MustParseAddr("10.84.16.149")}}})
	assert.Equal(t, "10.84.16.140", ask("wardphone 3").Your)
	assert.Equal(t, "10.84.16.160", ask("laptop").Your)
}
