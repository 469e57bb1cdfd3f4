package rehearse_test

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/compile"
	"lithos/core/dhcp"
	"lithos/core/rehearse"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/yang"
)

// acted is what a client of Imaging at Kelder Bridge does on a stage of a site.
func acted(t *testing.T, s *site.Site, acts ...string) (list []rehearse.Scene) {
	n, _ := s.Network("net-imaging")
	trial := rehearse.NewTrial(rehearse.NewStage(now, s, nil), n, &dhcp.Client{MAC: [6]byte{0, 0, 0x5e, 9, 9, 1}})
	for _, do := range acts {
		scene, err := trial.Do(rehearse.Act{Do: do})
		require.NoError(t, err)
		list = append(list, scene)
	}
	return list
}

// ladderTried is the ladder of a client that was tried, its first four rungs.
func ladderTried(s *site.Site, tried rehearse.Tried) []string {
	n, _ := s.Network("net-imaging")
	tried.Network, tried.At = n, "port3 of sw-ward"
	var out []string
	for _, r := range rehearse.LadderTried(now, s, nil, nil, nil, tried)[:4] {
		out = append(out, strings.TrimSpace(r.Name+" "+r.State+" "+r.Value+" "+r.Rule))
	}
	return out
}

// Each rung is what was tried; what was not tried is not known, and says why.
func TestLadderTried(t *testing.T) {
	outside := netip.MustParseAddr("192.0.2.1")
	answers := func(silent string) func(netip.Addr) (bool, string) {
		return func(to netip.Addr) (bool, string) { return to.String() != silent, "" }
	}
	s := scenario.Site("kelder-bridge")
	mute := scenario.Site("kelder-bridge")
	p, _ := mute.Pool("pool-imaging")
	p.Enabled = false
	unrouted := scenario.Site("kelder-bridge")
	n, _ := unrouted.Network("net-imaging")
	n.Gateway = netip.Addr{}
	off := compile.Device(mute, "dev-gw-1")
	gone := compile.Device(s, "dev-sw-core")
	for i := range gone.Interfaces.Interface {
		if port := gone.Interfaces.Interface[i].Switchport; port != nil {
			port.Tagged = nil
		}
	}
	silent := []rehearse.Scene{{Do: "lease", Network: "Imaging"}}
	notTried := []string{"gateway skip not tried: it has no lease", "internet skip not tried: it has no lease"}
	needs := []string{"internet skip not tried: needs the gateway"}
	got := []string{"link pass answered at port3 of sw-ward", "lease pass .24"}
	for what, c := range map[string]struct {
		at    *site.Site
		tried rehearse.Tried
		want  []string
	}{
		"all answers": {s, rehearse.Tried{Scenes: acted(t, s, "lease"), Ping: answers(""), Outside: outside},
			append(got[:2:2], "gateway pass 10.84.20.1 answers", "internet pass 192.0.2.1 answers")},
		"nobody outside is known": {s, rehearse.Tried{Scenes: acted(t, s, "lease", "renew"), Ping: answers("")},
			append(got[:2:2], "gateway pass 10.84.20.1 answers",
				"internet skip not tried: no address outside is known that answers")},
		"outside is silent": {s, rehearse.Tried{Scenes: acted(t, s, "lease"), Ping: answers("192.0.2.1"),
			Outside: outside},
			append(got[:2:2], "gateway pass 10.84.20.1 answers", "internet fail 192.0.2.1 does not answer")},
		"the gateway is silent": {s, rehearse.Tried{Scenes: acted(t, s, "lease"), Ping: answers("10.84.20.1"),
			Outside: outside},
			append(got[:2:2], "gateway fail 10.84.20.1 does not answer", needs[0])},
		"no echo can be sent": {s, rehearse.Tried{Scenes: acted(t, s, "lease"),
			Ping: func(netip.Addr) (bool, string) { return true, "the device sends none" }},
			append(got[:2:2], "gateway skip not tried: the device sends none", needs[0])},
		"no router is told": {unrouted, rehearse.Tried{Scenes: acted(t, unrouted, "lease"), Ping: answers("")},
			append(got[:2:2], "gateway fail It is told no router router-missing", needs[0])},
		"it gave its address back": {s, rehearse.Tried{Scenes: acted(t, s, "lease", "release"), Up: true},
			append([]string{got[0], "lease skip it gave its address back"}, notTried...)},
		"nobody renewed": {s, rehearse.Tried{Up: true, Scenes: []rehearse.Scene{{Do: "renew", Network: "Imaging",
			Address: "10.84.20.24"}}}, append([]string{"link skip port3 of sw-ward is up; as nobody answered, no " +
			"more is known",
			"lease fail Nobody renewed 10.84.20.24; it has it until its lease ends"}, notTried...)},
		"the port is down": {s, rehearse.Tried{Scenes: silent}, append([]string{"link fail port3 of sw-ward is not up",
			"lease fail Nobody answered"}, notTried...)},
		"it is up": {s, rehearse.Tried{Scenes: silent, Up: true}, append([]string{
			"link skip port3 of sw-ward is up; as nobody answered, no more is known", "lease fail Nobody answered"},
			notTried...)},
		"somebody answered on another network": {s, rehearse.Tried{Up: true, Scenes: []rehearse.Scene{{
			Network:  "Clinic floor",
			Messages: []dhcp.Message{{Type: "offer"}}}, silent[0]}}, append([]string{
			"link skip port3 of sw-ward is up; as nobody answered, no more is known", "lease fail Nobody answered"},
			notTried...)},
		"it was refused": {s, rehearse.Tried{Up: true, Scenes: []rehearse.Scene{{Network: "Imaging",
			Messages: []dhcp.Message{{Type: "nak", Why: "It is another's."}}}}}, append([]string{got[0],
			"lease fail It is another's"}, notTried...)},
		"an offer came to nothing": {s, rehearse.Tried{Up: true, Scenes: []rehearse.Scene{{Network: "Imaging",
			Messages: []dhcp.Message{{Type: "offer"}}}}}, append([]string{got[0], "lease fail Nobody answered"},
			notTried...)},
		"a question is no answer": {s, rehearse.Tried{Up: true, Scenes: []rehearse.Scene{{Network: "Imaging",
			Messages: []dhcp.Message{{Type: "discover"}}}}}, append([]string{
			"link skip port3 of sw-ward is up; as nobody answered, no more is known", "lease fail Nobody answered"},
			notTried...)},
		"the pool is off on the device": {s, rehearse.Tried{Up: true, Scenes: silent, Running: map[string]yang.Config{
			"dev-gw-1": off}},
			append([]string{"link skip port3 of sw-ward is up; as nobody answered, no more is known",
				"lease fail Pool Imaging is switched off pool-off"}, notTried...)},
	} {
		assert.Equal(t, c.want, ladderTried(c.at, c.tried), what)
	}
	unserved := compile.Device(s, "dev-gw-1")
	unserved.DHCP = yang.DHCPServer{}
	nobody := ladderTried(s, rehearse.Tried{Up: true, Scenes: silent, Running: map[string]yang.Config{
		"dev-gw-1": unserved}})
	assert.Equal(t, "lease fail no pool; fixed devices only network-unserved", nobody[1])

	cut := ladderTried(s, rehearse.Tried{Up: true, Scenes: silent, Running: map[string]yang.Config{
		"dev-sw-core": gone}})
	assert.Contains(t, cut[0], "link fail ", "what a switch holds cuts it off")
	assert.Contains(t, cut[0], "48")
	assert.Equal(t, "lease fail Nobody answered", cut[1], "the link is the cause, and told once")
}

// A client that a real wire carries is given no time to pass, and fills no pool.
func TestTrialOnARealWire(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	n, _ := s.Network("net-imaging")
	stage := rehearse.NewStage(now, s, nil)
	trial := rehearse.NewTrialOn(s, n, &dhcp.Client{MAC: [6]byte{0, 0, 0x5e, 9, 9, 1}},
		func(n *site.Network) (dhcp.Wire, error) { return stage.Wire(n), nil })
	for _, a := range []struct{ do, says string }{{"lease", "It has 10.84.20.24 for 1 day."},
		{"renew", "It has 10.84.20.24 for 1 day."}, {"fill", "A device's pool is not filled; try that on the draft."},
		{"release", "It gave 10.84.20.24 back."}, {"release", "It holds no address to give back."},
		{"stale", "The old address was refused. It has 10.84.20.24 for 1 day."}} {
		scene, err := trial.Do(rehearse.Act{Do: a.do})
		require.NoError(t, err)
		assert.Equal(t, a.says, scene.Says, a.do)
	}
	broken := rehearse.NewTrialOn(s, n, &dhcp.Client{}, func(*site.Network) (dhcp.Wire, error) {
		return nil,
			context.Canceled
	})
	_, err := broken.Do(rehearse.Act{Do: "lease"})
	assert.ErrorIs(t, err, context.Canceled)
}

// Nobody renews, nobody answers: the client says why it has no address.
func TestTrialWithoutAnAnswer(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	p, _ := s.Pool("pool-imaging")
	p.Ranges = p.Ranges[:1]
	p.Ranges[0].To = p.Ranges[0].From
	n, _ := s.Network("net-imaging")
	stage := rehearse.NewStage(now, s, nil)
	first := rehearse.NewTrial(stage, n, &dhcp.Client{MAC: [6]byte{0, 0, 0x5e, 9, 9, 1}})
	second := rehearse.NewTrial(stage, n, &dhcp.Client{MAC: [6]byte{0, 0, 0x5e, 9, 9, 2}})
	scene, err := first.Do(rehearse.Act{Do: "lease"})
	require.NoError(t, err)
	assert.Equal(t, "It has 10.84.20.24 for 1 day.", scene.Says)
	scene, err = second.Do(rehearse.Act{Do: "lease"})
	require.NoError(t, err)
	assert.Equal(t, "It has no address. Pool Imaging has no free address.", scene.Says)
	// An address of another network is one that this network has not.
	s.Networks = append(s.Networks, site.Network{ID: "over", Prefix: netip.MustParsePrefix("10.84.20.0/25")},
		site.Network{ID: "far", Prefix: netip.MustParsePrefix("192.168.9.0/24")})
	s.Networks = s.Networks[len(s.Networks)-2:]
	stray := rehearse.NewTrial(rehearse.NewStage(now, s, nil), n, &dhcp.Client{MAC: [6]byte{0, 0, 0x5e, 9, 9, 4}})
	scene, err = stray.Do(rehearse.Act{Do: "stale"})
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(scene.Messages[0].Options), "192.168.9.254")
	// Alone on its site, a client with another network's address has one that nobody has.
	s.Networks = []site.Network{*n}
	alone := rehearse.NewTrial(rehearse.NewStage(now, s, nil), n, &dhcp.Client{MAC: [6]byte{0, 0, 0x5e, 9, 9, 3}})
	scene, err = alone.Do(rehearse.Act{Do: "stale"})
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(scene.Messages[0].Options), "192.0.2.99")
}
