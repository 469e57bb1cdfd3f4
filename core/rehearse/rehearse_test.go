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
	"lithos/core/edit"
	"lithos/core/option"
	"lithos/core/rehearse"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/yang"
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
	report, err := rehearse.Run(rehearse.Start{Now: now, Site: base}, draft, leases, func(c rehearse.Client) error {
		clients = append(clients, c)
		return nil
	})
	require.NoError(t, err)
	return report, clients
}

func TestLadder(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	assert.Equal(t, []string{"link pass VLAN 48 ", "lease pass .24 ", "gateway pass 10.84.20.1 ",
		"internet pass translated on wan ", "local name pass 10.84.20.1 ", "outside name pass 192.0.2.53 would be " +
			"asked ",
		"reverse pass gw-1.kelder.larkrise.example "}, ladder(t, s, "net-imaging"))

	p, _ := s.Pool("pool-imaging")
	p.Enabled = false
	assert.Equal(t, []string{"link pass VLAN 48 ", "lease fail Pool Imaging is switched off pool-off",
		"gateway skip needs a lease ", "internet skip needs a lease ", "local name skip needs a lease ",
		"outside name skip needs a lease ", "reverse skip needs a lease "}, ladder(t, s, "net-imaging"))
	p.Enabled = true
	p.Options = []site.Option{{Code: 3, Value: "10.84.18.1"}}
	assert.Equal(t, "gateway fail 10.84.18.1 is not in 10.84.20.0/26 router-outside-network",
		ladder(t, s, "net-imaging")[2])
	n, _ := s.Network("net-imaging")
	n.VLAN = 49
	assert.Equal(t, "link fail lan.48 of gw-1 carries VLAN 48, the network is VLAN 49 vlan-differs",
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
		leases["dev-gw-1"] = append(
			leases["dev-gw-1"],
			dhcp.Lease{Address: c.Address, MAC: c.MAC, HostName: c.HostName,
				Subnet: n.Prefix, Pool: "pool-imaging", State: dhcp.Bound, Since: now, Expires: now.Add(c.Lease)},
		)
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

// Each rung about names fails by the rule that says why.
func TestNamesOnTheLadder(t *testing.T) {
	for _, c := range []struct {
		change func(s *site.Site)
		want   [3]string // local name, outside name, reverse
	}{
		{func(s *site.Site) { s.Resolvers[0].Enabled = false; s.Options[0].Value = "10.84.16.1" },
			[3]string{"fail resolver-not-listening", "fail resolver-not-listening", "fail resolver-not-listening"}},
		{func(s *site.Site) { s.Resolvers[0].Forwarders = nil; s.Options[0].Value = "10.84.16.1" }, [3]string{"pass ",
			"fail no-forwarder", "pass "}},
		{func(s *site.Site) {
			s.Zones = slices.DeleteFunc(s.Zones, func(z site.Zone) bool { return z.Name == "20.84.10.in-addr.arpa" })
		}, [3]string{"pass ", "pass ", "fail reverse-missing"}},
		{func(s *site.Site) { s.Options[0].Value = "203.0.113.99" },
			[3]string{"fail dns-outside-first", "pass ", "fail dns-outside-first"}},
		{func(s *site.Site) { s.Resolvers, s.Zones = nil, nil }, [3]string{"skip ", "skip ", "skip "}},
	} {
		s := scenario.Site("kelder-bridge")
		c.change(s)
		n, _ := s.Network("net-imaging")
		for i, r := range rehearse.Ladder(now, site.Normal(s), n, nil)[4:] {
			assert.Equal(t, c.want[i], r.State+" "+r.Rule, "%s: %s", r.Name, r.Value)
		}
	}
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
				if name == "the-yard" && (r.Name == "local name" || r.Name == "reverse") {
					assert.Equal(t, "dns-outside-first", r.Rule, "a public name server is planted first")
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
	assert.Equal(
		t,
		[]rehearse.OptionChange{{Code: 6, What: "name servers", Was: "10.84.16.1, 10.84.16.10", Now: "10.84.16.1"}},
		clients[i].Changes,
	)
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
		"internet pass translated on wan ", "local name pass 10.84.50.1 ", "outside name pass 192.0.2.53 would be " +
			"asked ",
		"reverse pass sw-moss.moss.larkrise.example "}, ladder(t, s, "net-moss-ward"))
	assert.Equal(
		t,
		"lease fail Nothing relays Kennels to srv-moss relay-missing",
		ladder(t, s, "net-moss-kennels")[1],
	)
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
	assert.Equal(t, "lease fail vlan24 blocks DHCP dhcp-not-permitted", ladder(t, s, "net-moss-ward")[1])
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

// bound is a lease of an imaging client that was renewed an hour ago and lasts a day.
func bound(n *site.Network, a string, last byte) dhcp.Lease {
	return dhcp.Lease{
		Address:  netip.MustParseAddr(a),
		MAC:      address.MAC{0, 0, 0x5e, 9, 9, last},
		HostName: "pc-" + a[9:],
		Subnet:   n.Prefix,
		Pool:     "pool-imaging",
		State:    dhcp.Bound,
		Since:    now.Add(-time.Hour),
		Expires:  now.Add(23 * time.Hour),
	}
}

// Every option counts, with the old and the new value, and the hour at which each client and
// all of them know.
func TestEveryOptionCountsAndHasItsHour(t *testing.T) {
	base, draft := scenario.Site("kelder-bridge"), scenario.Site("kelder-bridge")
	n, _ := base.Network("net-imaging")
	late := bound(n, "10.84.20.31", 2)
	late.Expires = now.Add(24 * time.Hour)
	leases := rehearse.Leases{"dev-gw-1": {bound(n, "10.84.20.30", 1), late}}
	r, _ := draft.Reservation("res-plate-reader")
	r.Options = append(r.Options, site.Option{Code: 119, Value: "kelder.larkrise.example"})
	d, _ := draft.Network("net-imaging")
	d.Options = append(
		d.Options,
		site.Option{Code: 6, Value: "10.84.16.1"},
		site.Option{Code: 69, Value: "10.84.16.10"},
	)
	report, clients := runAll(t, now, base, draft, leases)
	find := func(name string) rehearse.Client {
		i := slices.IndexFunc(clients, func(c rehearse.Client) bool { return c.Name == name })
		require.GreaterOrEqual(t, i, 0, name)
		return clients[i]
	}
	pc := find("pc-30")
	assert.Equal(t, []rehearse.OptionChange{
		{Code: 6, What: "name servers", Was: "10.84.16.1, 10.84.16.10", Now: "10.84.16.1"},
		{Code: 69, What: "SMTP servers", Now: "10.84.16.10"},
	}, pc.Changes)
	assert.Equal(t, now.Add(11*time.Hour), pc.By, "half a day after its last renewal")
	reader := find("plate-reader")
	assert.Contains(t, reader.Changes, rehearse.OptionChange{Code: 119, What: "search list",
		Was: "kelder.larkrise.example, larkrise.example", Now: "kelder.larkrise.example"})
	assert.True(t, reader.By.IsZero(), "nothing is known of a lease of it")
	i := slices.IndexFunc(report.Known, func(k rehearse.Known) bool { return k.What == "name servers" })
	require.GreaterOrEqual(t, i, 0)
	assert.Equal(t, now.Add(12*time.Hour), report.Known[i].By, "when the last of them renews")
	assert.Equal(t, 1, report.Known[i].Asking)
}

// Clients of a network that goes or is renumbered come first, with what they lose and when.
func TestClientsOfAShakenNetworkComeFirst(t *testing.T) {
	base, draft := scenario.Site("kelder-bridge"), scenario.Site("kelder-bridge")
	n, _ := base.Network("net-imaging")
	leases := rehearse.Leases{"dev-gw-1": {bound(n, "10.84.20.30", 1)}}
	gone, err := edit.Removing(draft, site.Ref{Kind: site.KindNetwork, ID: "net-imaging"}, site.Ref{})
	require.NoError(t, err)
	draft, err = edit.Apply(draft, gone...)
	require.NoError(t, err)
	_, clients := runAll(t, now, base, draft, leases)
	var first []string
	for _, c := range clients[:2] {
		assert.Equal(t, "net-imaging", c.Network)
		assert.Equal(t, "Imaging", c.On)
		assert.Empty(t, c.After)
		assert.True(t, c.Moves)
		first = append(first, c.Name+" "+c.Before)
	}
	assert.ElementsMatch(t, []string{"plate-reader 10.84.20.14", "pc-30 10.84.20.30"}, first)
	i := slices.IndexFunc(clients, func(c rehearse.Client) bool { return c.Name == "pc-30" })
	assert.Equal(t, "keeps it until its lease ends", clients[i].When)
	assert.Equal(t, now.Add(23*time.Hour), clients[i].By)
	assert.Equal(t, "The network is not there.", clients[i].Why)

	// Renumbered under the same id: they are told another address at their renewal.
	draft = scenario.Site("kelder-bridge")
	d, _ := draft.Network("net-imaging")
	d.Prefix, d.Gateway = netip.MustParsePrefix("10.84.21.0/26"), netip.MustParseAddr("10.84.21.1")
	p, _ := draft.Pool("pool-imaging")
	p.Ranges = []address.Range{{From: netip.MustParseAddr("10.84.21.24"), To: netip.MustParseAddr("10.84.21.55")}}
	_, f, _ := draft.Interface("if-gw-1-lan-48")
	f.Addresses = []netip.Prefix{netip.MustParsePrefix("10.84.21.1/26")}
	_, clients = runAll(t, now, base, site.Normal(draft), leases)
	i = slices.IndexFunc(clients, func(c rehearse.Client) bool { return c.Name == "pc-30" })
	assert.Less(t, i, 2)
	assert.Equal(t, "10.84.20.30 10.84.21.24", clients[i].Before+" "+clients[i].After)
	assert.Equal(t, now.Add(11*time.Hour), clients[i].By)
}

// A client that is known by its identifier alone is rehearsed, and one of a class sends its class
// as it was seen to.
func TestIdentifiersAndClassesAreRehearsed(t *testing.T) {
	base, draft := scenario.Site("kelder-bridge"), scenario.Site("kelder-bridge")
	for _, s := range []*site.Site{base, draft} {
		s.Reservations = append(
			s.Reservations,
			&site.Reservation{ID: "res-cart", Network: "net-imaging", Name: "cart",
				Client: "ward-cart", Address: netip.MustParseAddr("10.84.20.16")},
		)
	}
	r, _ := draft.Reservation("res-cart")
	r.Address = netip.MustParseAddr("10.84.20.17")
	n, _ := base.Network("net-handsets")
	leases := rehearse.Leases{"dev-gw-1": {{Address: netip.MustParseAddr("10.84.16.170"),
		MAC: address.MAC{0, 0, 0x5e, 9, 9, 7}, HostName: "phone", Class: "wardphone 3", Subnet: n.Prefix,
		Pool: "pool-handsets", State: dhcp.Bound, Since: now, Expires: now.Add(8 * time.Hour)}}}
	draft.Pools = append(draft.Pools, site.Pool{ID: "pool-phones", Name: "Phones", Network: n.ID, Server: "dev-gw-1",
		Enabled: true, ForClass: "class-handsets", Ranges: []address.Range{{From: netip.MustParseAddr("10.84.16.140"),
			To: netip.MustParseAddr("10.84.16.149")}}})
	_, clients := runAll(t, now, site.Normal(base), site.Normal(draft), leases)
	moves := map[string]string{}
	for _, c := range clients {
		if c.Moves {
			moves[c.Name] = c.Before + " " + c.After
		}
	}
	assert.Equal(t, map[string]string{"cart": "10.84.20.16 10.84.20.17", "phone": "10.84.16.170 10.84.16.140"}, moves)
}

// A client behind a relay renews by unicast, in a rehearsal as on the wire.
func TestARelayedClientRenewsByUnicast(t *testing.T) {
	s := scenario.Site("moss-end")
	n, _ := s.Network("net-moss-ward")
	trial := rehearse.NewTrial(rehearse.NewStage(now, s, nil), n, &dhcp.Client{MAC: [6]byte{0, 0, 0x5e, 9, 9, 1}})
	_, err := trial.Do(rehearse.Act{Do: rehearse.ActLease})
	require.NoError(t, err)
	scene, err := trial.Do(rehearse.Act{Do: rehearse.ActRenew})
	require.NoError(t, err)
	require.Len(t, scene.Messages, 2)
	assert.Empty(t, scene.Messages[0].Relay)
	assert.Equal(
		t,
		"Sent to srv-moss. Acknowledged, the client was renewing or rebinding: 10.84.50.60 from pool Ward PCs.",
		scene.Messages[1].Why,
	)
	scene, err = trial.Do(rehearse.Act{Do: rehearse.ActRelease})
	require.NoError(t, err)
	assert.Contains(t, scene.Messages[0].Why, "was given back")
}

// After a lease the ladder tells of the address that was given.
func TestTheLadderOfAGivenAddress(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	n, _ := s.Network("net-imaging")
	stage := rehearse.NewStage(now, s, nil)
	for i := range byte(3) {
		trial := rehearse.NewTrial(stage, n, &dhcp.Client{MAC: [6]byte{0, 0, 0x5e, 9, 9, i}, HostName: "tab"})
		scene, err := trial.Do(rehearse.Act{Do: rehearse.ActLease})
		require.NoError(t, err)
		rungs := rehearse.LadderOf(now, s, n, nil, scene.Messages, nil)
		assert.Equal(t, "reverse pass tab.kelder.larkrise.example",
			rungs[6].Name+" "+rungs[6].State+" "+rungs[6].Value, "what it says it is called")
		assert.Equal(t, "lease "+address.Short(netip.MustParseAddr(scene.Address), n.Prefix),
			rungs[1].Name+" "+rungs[1].Value)
	}
}

// Number 35: a rung that fails ends with its cause, where that is known.
func Test35AFailedRungHasItsCause(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	n, _ := s.Network("net-imaging")
	n.Options = append(n.Options, site.Option{Code: option.NameServers, Value: "10.84.20.1"})
	stage := rehearse.NewStage(now, s, nil)
	scene, err := rehearse.NewTrial(stage, n, &dhcp.Client{MAC: [6]byte{0, 0, 0x5e, 9, 9, 1}}).
		Do(rehearse.Act{Do: rehearse.ActLease})
	require.NoError(t, err)
	beside := map[string][]yang.Program{s.Resolvers[0].Device: {{Name: "hostname-cache", Port: 53, Runs: true}}}
	for _, passed := range [][]dhcp.Message{scene.Messages, nil} {
		rung := rehearse.LadderOf(now, s, n, nil, passed, beside)[4]
		assert.Equal(t, "local name fail port-taken", rung.Name+" "+rung.State+" "+rung.Rule)
		assert.Contains(t, rung.Value, "hostname-cache held port 53")
	}
}

// Number 7: when clients learn of a change is counted from when it may be pushed. Until then they go on renewing.
func Test07TimesAreCountedFromTheWindow(t *testing.T) {
	base, draft := scenario.Site("kelder-bridge"), scenario.Site("kelder-bridge")
	n, _ := draft.Network("net-imaging")
	n.Options = append(n.Options, site.Option{Code: 42, Value: "10.84.16.99"})
	held := dhcp.Lease{Address: netip.MustParseAddr("10.84.20.24"), MAC: [6]byte{0, 0, 0x5e, 9, 9, 1},
		Pool:  "pool-imaging",
		State: dhcp.Bound, Since: now, Expires: now.Add(24 * time.Hour), Subnet: netip.MustParsePrefix("10.84.20.0/26")}
	for _, opens := range []time.Duration{0, 26 * time.Hour, 100 * time.Hour} {
		from := now.Add(opens)
		report, err := rehearse.Run(rehearse.Start{Now: now, Opens: from, Site: base}, draft,
			rehearse.Leases{"dev-gw-1": {held}},
			func(rehearse.Client) error { return nil })
		require.NoError(t, err)
		require.Len(t, report.Known, 1)
		by := report.Known[0].By
		assert.False(t, by.Before(from), "%s: nobody knows before it is pushed", opens)
		assert.False(t, by.After(from.Add(24*time.Hour)), "%s: within a lease all do", opens)
		assert.Equal(t, opens > 0, !report.From.IsZero())
	}
}
