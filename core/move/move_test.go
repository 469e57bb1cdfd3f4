package move_test

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/move"
	"lithos/core/scenario"
	"lithos/core/site"
)

func handsets(s string) move.Request {
	return move.Request{Title: "Handsets to VLAN 131", Night: night, Shifts: []move.Shift{{Network: "net-handsets",
		Prefix: netip.MustParsePrefix(s), VLAN: 131, Grow: true}}}
}

var night = time.Date(2026, 11, 25, 23, 30, 0, 0, time.UTC)

// crowd is clients of a network whose leases were given at moments spread evenly over the last renewal time.
func crowd(network string, n int, t1 time.Duration, at time.Time) []move.Client {
	var out []move.Client
	for i := range n {
		out = append(out, move.Client{Name: fmt.Sprint("phone-", i), Network: network,
			MAC: address.MAC{0, 0, 0x5e, 0, 0x60, byte(i)}, Renewed: at.Add(-t1 * time.Duration(i) / time.Duration(n))})
	}
	return out
}

func acts(p *move.Plan) []move.Act {
	var out []move.Act
	for _, ph := range p.Phases() {
		at := ph.NotBefore
		out = append(out, move.Act{At: at, Doc: ph.Doc})
	}
	return out
}

func TestNightOfNoChange(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	n := move.Simulate(s, crowd("net-handsets", 60, 12*time.Hour, night), []move.Act{{At: night, Doc: s}})
	assert.Zero(t, n.Minutes)
	assert.Zero(t, n.NameMinutes)
	assert.Equal(t, 60, n.Clients)
}

// After a straight swap a client's renewals go to a server that its address no longer reaches, until T2 (RFC 2131
// section 4.4.5): the mean wait is T2 less half of T1.
func TestNightOfAStraightSwap(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	r := handsets("10.84.22.0/24")
	r.OneNight = true
	p, err := move.Of(s, r)
	require.NoError(t, err)
	n := move.Simulate(s, crowd("net-handsets", 60, 12*time.Hour, night), acts(p))
	assert.Zero(t, n.Stranded)
	assert.Equal(t, 60, n.Affected)
	assert.InDelta(t, (21*time.Hour - 6*time.Hour).Seconds(), n.Mean, 12*3600/60+60)
	for _, f := range n.Fates {
		assert.True(t, netip.MustParsePrefix("10.84.22.0/24").Contains(f.Will), f.Name)
	}
	r.OneNight = false
	p, err = move.Of(s, r)
	require.NoError(t, err)
	phases := p.Phases()
	require.Len(t, phases, 3)
	for _, ph := range phases {
		assert.Empty(t, ph.Prove(func(string) bool { return true }).Console, ph.Title)
	}
	assert.Equal(t, "sw-core", phases[1].Prove(func(string) bool { return true }).First, "the farthest first")
	n = move.Simulate(s, crowd("net-handsets", 60, 12*time.Hour, night), acts(p))
	assert.InDelta(t, (30*time.Minute*7/8 - 30*time.Minute/4).Seconds(), n.Mean, 60)
}

// Clients of a network that stays, whose name server moves, learn of the new one when they renew: they are without
// names for half of T1 on average, and never without service.
func TestNightOfAMovedNameServer(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	n, _ := s.Network("net-clinic")
	n.Options = append(n.Options, site.Option{Code: 6, Value: "10.84.16.129"})
	pool := &s.Pools[slices.IndexFunc(s.Pools, func(p site.Pool) bool { return p.Network == n.ID })]
	t1 := move.LeaseTime(s, n, pool) / 2
	r := handsets("10.84.22.0/24")
	r.OneNight = true
	p, err := move.Of(s, r)
	require.NoError(t, err)
	out := move.Simulate(s, crowd("net-clinic", 18, t1, night), acts(p))
	assert.Zero(t, out.Affected)
	assert.InDelta(t, 18*t1.Minutes()/2, out.NameMinutes, t1.Minutes())
	for _, f := range out.Fates {
		assert.Zero(t, f.Seconds, f.Name)
		require.NotNil(t, f.NameServers.Until, f.Name)
		assert.InDelta(t, f.NameServers.Until.Sub(*f.NameServers.From).Seconds(), f.NameServers.Seconds, 1)
		assert.Zero(t, f.OwnName.Seconds, f.Name)
	}
	assert.GreaterOrEqual(t, out.Fates[0].NameServers.Seconds, out.Fates[17].NameServers.Seconds, "the worst off first")

	// In phases their leases are shortened too, so that they know after half of half an hour.
	r.OneNight = false
	p, err = move.Of(s, r)
	require.NoError(t, err)
	phases := p.Phases()
	assert.Contains(t, phases[0].Says, "Leases become 30 minutes, of Handsets (now 1 day), Clinic floor (now 8 "+
		"hours), which is told a server that moves. ")
	out = move.Simulate(s, crowd("net-clinic", 18, t1, night), acts(p))
	assert.InDelta(t, 18*15.0/2, out.NameMinutes, 45)
	last := phases[len(phases)-1].Doc
	now, _ := last.Pool(pool.ID)
	assert.Equal(t, pool.Options, now.Options, "long again in the end")
}

// What mentions an old address follows: a sub-option, an option of the customer, the other end of a trunk, the reverse
// zone. What is for people alone is listed.
func TestCarriedAlong(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	s.Networks[0].Options = append(s.Networks[0].Options, site.Option{Code: 121, Value: "10.9.0.0/16 via 10.84.16.130"})
	s.Networks[0].Options = append(s.Networks[0].Options,
		site.Option{Code: 43, Value: "f108:0A541082:0a5412050a54100a"})
	fixed := &s.FixedDevices[0]
	fixed.Note = "asks 10.84.16.130 for its settings"
	p, err := move.Of(s, handsets("10.84.22.0/24"))
	require.NoError(t, err)
	var says []string
	for _, r := range p.Rows {
		says = append(says, r.What+": "+r.Was+" > "+r.Will)
	}
	assert.Contains(t, says, "Handsets, gateway: 10.84.16.129 > 10.84.22.1")
	assert.Contains(t, says, "gw-1 lan.131, name: lan.31 > lan.131")
	assert.Contains(t, says, "sw-core uplink1, tagged VLANs: 11, 24, 31, 48, 66, 90 > 11, 24, 48, 66, 90, 131")
	assert.Contains(t, says, "pool Handsets, addresses: 10.84.16.160 – 10.84.16.239 > 10.84.22.64 – 10.84.22.223")
	assert.Contains(t, says, "zone 22.84.10.in-addr.arpa:  > added")
	assert.Equal(t, "10.84.22.2", strings.Split(p.Rows[slices.IndexFunc(p.Rows, func(r move.Moved) bool {
		return r.Part.Kind == site.KindVendorClass
	})].Will, ",")[0])
	class := p.Rows[slices.IndexFunc(p.Rows, func(r move.Moved) bool { return r.Part.Kind == site.KindVendorClass })]
	assert.Contains(t, class.What, ", sub-option 1", "number 41: a value is told by its name")
	assert.Contains(t, strings.Join(says, "\n"), "Bench, classless static routes: 10.9.0.0/16 via 10.84.16.130 > ")
	n, _ := p.Will.Network(s.Networks[0].ID)
	value := func(code uint8) string {
		return n.Options[slices.IndexFunc(n.Options, func(o site.Option) bool { return o.Code == code })].Value
	}
	assert.Equal(t, "10.9.0.0/16 via 10.84.22.2", value(121))
	assert.Equal(t, "f108:0a541602:0a5412050a54100a", value(43), "the octets of the one that moves alone")
	require.Len(t, p.Notes, 1)
	assert.Equal(t, fixed.Note, p.Notes[0].Text)
	assert.Equal(t, prefixes("10.84.16.128/25"), p.Old())

	other := scenario.Site("hallin-road")
	doc, rows, err := p.Elsewhere(other)
	require.NoError(t, err)
	require.NotEmpty(t, rows)
	r := doc.Resolvers[0]
	var domains []string
	for _, d := range r.Domains {
		domains = append(domains, d.Domain)
	}
	assert.Contains(t, domains, "22.84.10.in-addr.arpa")
	assert.Contains(t, domains, "16.84.10.in-addr.arpa", "Bench and Cameras are there still")
}

func prefixes(texts ...string) []netip.Prefix {
	var out []netip.Prefix
	for _, text := range texts {
		out = append(out, netip.MustParsePrefix(text))
	}
	return out
}

// What has no room gets the next free address, and says so; what is typed stays.
func TestNoRoom(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	r := move.Request{Night: night, Shifts: []move.Shift{{Network: "net-imaging", Prefix: prefixes("10.84.21.0/28")[0],
		To: map[string]string{"10.84.20.12": "+9"}}}}
	p, err := move.Of(s, r)
	require.NoError(t, err)
	to := map[string]move.Thread{}
	for _, th := range p.Threads {
		to[th.What] = th
	}
	assert.Equal(t, "10.84.21.9", to["dicom-store"].To.String())
	assert.True(t, to["dicom-store"].Typed)
	assert.Equal(t, "10.84.21.14", to["plate-reader"].To.String(), "the last usable one")
	assert.Equal(t, "no room at its place, given the widest gap", p.Bands[0].Odd)
	r.Shifts[0].To["10.84.20.14"] = "10.84.21.9"
	_, err = move.Of(s, r)
	assert.ErrorContains(t, err, "is given twice")
}

// A device in an exclusion stays in it: the exclusion moves along.
func TestExcludedDeviceStaysExcluded(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	p, err := move.Of(s, move.Request{Night: night, Shifts: []move.Shift{{Network: "net-clinic",
		Prefix: prefixes("10.84.28.0/23")[0]}}})
	require.NoError(t, err)
	x, _ := p.Will.FixedDevice("fix-blood-analyser")
	assert.Equal(t, "10.84.28.122", x.Address.String())
	pool, _ := p.Will.Pool("pool-clinic")
	assert.Equal(t, "10.84.28.120 - 10.84.28.127", pool.Exclusions[0].Range.String())
}

// Two networks become one, and one becomes two.
func TestJoinedAndSplit(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	p, err := move.Of(s, move.Request{Night: night, Shifts: []move.Shift{
		{Network: "net-imaging", Prefix: prefixes("10.84.21.0/24")[0]}, {Network: "net-cameras", Into: "net-imaging"}}})
	require.NoError(t, err)
	_, there := p.Will.Network("net-cameras")
	assert.False(t, there)
	door, _ := p.Will.FixedDevice("fix-cam-door")
	assert.Equal(t, "net-imaging", door.Network)
	for _, f := range move.BroughtIn(check.Site(s), check.Site(p.Will)) {
		assert.NotEqual(t, check.Blocks, f.Severity, f.Says)
	}

	p, err = move.Of(s, move.Request{Night: night, Shifts: []move.Shift{{Network: "net-clinic", Pieces: []move.Piece{{
		Name: "Tills", Takes: address.Range{From: netip.MustParseAddr("10.84.18.60"),
			To: netip.MustParseAddr("10.84.18.80")},
		Prefix: prefixes("10.84.22.0/26")[0], VLAN: 25}}}}})
	require.NoError(t, err)
	tills, ok := p.Will.Network("net-clinic-2")
	require.True(t, ok)
	assert.Equal(t, 25, tills.VLAN)
	till, _ := p.Will.Reservation("res-till-1")
	assert.Equal(t, tills.ID, till.Network)
	d, i, _, ok := p.Will.InterfaceOn(tills)
	require.True(t, ok)
	assert.Equal(t, "gw-1 lan.25", d.Name+" "+i.Name)
	for _, f := range move.BroughtIn(check.Site(s), check.Site(p.Will)) {
		assert.NotEqual(t, check.Blocks, f.Severity, f.Says)
	}
}

// What was wrong before the move is not brought in by it: not though the address has another name in another reverse
// zone by then.
func TestWhatWasWrongBeforeIsNotBroughtIn(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	rules := func(found []check.Finding) (out []string) {
		for _, f := range found {
			out = append(out, f.Rule)
		}
		return out
	}
	before := check.Site(s)
	require.Contains(t, rules(before), "reverse-two-names")
	p, err := move.Of(s, move.Request{Night: night, Shifts: []move.Shift{{Network: "net-clinic",
		Prefix: prefixes("10.84.28.0/23")[0]}}})
	require.NoError(t, err)
	assert.NotContains(t, rules(move.BroughtIn(before, check.Site(p.Will))), "reverse-two-names")
}

// The whole site goes to another block, and the untagged VLAN of a trunk changes at both of its ends.
func TestBlockAndUntagged(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	p, err := move.Of(s, move.Request{Night: night, Block: prefixes("10.120.16.0/20")[0]})
	require.NoError(t, err)
	assert.Len(t, p.Request.Shifts, len(s.Networks))
	n, _ := p.Will.Network("net-waiting")
	assert.Equal(t, "10.120.24.0/22", n.Prefix.String())
	assert.Equal(t, prefixes("10.120.16.0/20"), p.Will.Block)
	for _, f := range move.BroughtIn(check.Site(s), check.Site(p.Will)) {
		assert.NotEqual(t, check.Blocks, f.Severity, f.Says)
	}
	_, err = move.Of(s, move.Request{Night: night, Block: prefixes("10.120.16.0/22")[0]})
	assert.ErrorContains(t, err, "is too small")

	p, err = move.Of(s, move.Request{Night: night, Untagged: []move.Retag{{Interface: "if-sw-core-8", VLAN: 99}}})
	require.NoError(t, err)
	for _, id := range []string{"if-sw-core-8", "if-sw-ward-uplink"} {
		_, i, _ := p.Will.Interface(id)
		assert.Equal(t, 99, i.Untagged, id)
	}
	assert.Len(t, p.Rows, 2)
	require.Len(t, p.Phases(), 1, "nobody's lease needs to be short for that")
}

// The new is brought up beside the old, routed and on every trunk, with nothing in it that blocks a push.
func TestBesideBlocksNothing(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	r := handsets("10.84.22.0/24")
	r.Beside = true
	p, err := move.Of(s, r)
	require.NoError(t, err)
	phases := p.Phases()
	require.Len(t, phases, 4)
	assert.Equal(t, move.Beside, phases[1].Kind)
	doc := phases[1].Doc
	_, i, ok := doc.HolderOf(netip.MustParseAddr("10.84.22.1"))
	require.True(t, ok)
	assert.Equal(t, "lan.131", i.Name)
	_, _, ok = doc.HolderOf(netip.MustParseAddr("10.84.16.129"))
	assert.True(t, ok, "the old is there still")
	for _, ph := range phases {
		for _, f := range move.BroughtIn(check.Site(s), check.Site(ph.Doc)) {
			assert.NotEqual(t, check.Blocks, f.Severity, "%s: %s", ph.Title, f.Says)
		}
	}
}

// In the same VLAN the router has both addresses until the swap.
func TestBesideInOneVLAN(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	p, err := move.Of(s, move.Request{Night: night, Beside: true, Shifts: []move.Shift{{Network: "net-imaging",
		Prefix: prefixes("10.84.21.0/26")[0]}}})
	require.NoError(t, err)
	phases := p.Phases()
	require.Len(t, phases, 4)
	_, i, ok := phases[1].Doc.HolderOf(netip.MustParseAddr("10.84.21.1"))
	require.True(t, ok)
	assert.Equal(t, prefixes("10.84.20.1/26", "10.84.21.1/26"), i.Addresses)
	for _, ph := range phases {
		for _, f := range move.BroughtIn(check.Site(s), check.Site(ph.Doc)) {
			assert.NotEqual(t, check.Blocks, f.Severity, "%s: %s", ph.Title, f.Says)
		}
	}
	n := move.Simulate(s, crowd("net-imaging", 4, 12*time.Hour, night), acts(p))
	assert.Zero(t, n.Stranded)
}

// Another device routes a network from then on, and serves it where the old one did.
func TestRoutedElsewhere(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	p, err := move.Of(s, move.Request{Night: night, Shifts: []move.Shift{{Network: "net-imaging",
		Device: "dev-sw-core"}}})
	require.NoError(t, err)
	n, _ := p.Will.Network("net-imaging")
	d, i, _, ok := p.Will.InterfaceOn(n)
	require.True(t, ok)
	assert.Equal(t, "sw-core vlan48", d.Name+" "+i.Name)
	pool, _ := p.Will.Pool("pool-imaging")
	assert.Equal(t, "dev-sw-core", pool.Server)
	require.NotEmpty(t, p.Rows)
}

// Each use into its window of the standard, in the same subnet.
func TestOntoTheStandard(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	p, err := move.Of(s, move.Request{Night: night, Shifts: []move.Shift{{Network: "net-clinic", Rule: move.ByUse}}})
	require.NoError(t, err)
	for _, id := range []string{"fix-vaccine-fridge", "fix-label-prn", "fix-blood-analyser"} {
		x, _ := p.Will.FixedDevice(id)
		at := address.Offset(netip.MustParsePrefix("10.84.18.0/23"), x.Address)
		assert.True(t, at >= 1 && at <= 19, "%s is at %d", id, at)
	}
	till, _ := p.Will.Reservation("res-till-1")
	assert.Equal(t, "10.84.18.60", till.Address.String(), "the standard sets no window aside for reservations")
}

// While a push leaves a network unserved its clients are without service, and no longer than that where nothing of
// theirs changes.
func TestNightOfAGap(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	gap := move.Down{Network: "net-handsets", From: 10 * time.Second, Until: 40 * time.Second}
	n := move.Simulate(s, crowd("net-handsets", 10, 12*time.Hour, night), []move.Act{{At: night, Doc: s,
		Takes: time.Minute, Downs: []move.Down{gap}}})
	assert.Equal(t, 10, n.Affected)
	assert.InDelta(t, 5, n.Minutes, 0.01, "ten clients for half a minute")
	assert.Zero(t, n.Stranded)
}

// Clients of a network that joins another are served there afterwards.
func TestNightOfAJoin(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	p, err := move.Of(s, move.Request{Night: night, OneNight: true, Shifts: []move.Shift{
		{Network: "net-imaging", Prefix: prefixes("10.84.21.0/24")[0]}, {Network: "net-cameras", Into: "net-imaging"}}})
	require.NoError(t, err)
	n := move.Simulate(s, crowd("net-cameras", 4, 12*time.Hour, night), []move.Act{{At: night, Doc: p.Will,
		Into: p.Joined()}})
	assert.Zero(t, n.Stranded)
	for _, f := range n.Fates {
		assert.Equal(t, "net-imaging", f.Network)
		assert.True(t, prefixes("10.84.21.0/24")[0].Contains(f.Will), f.Name)
	}
}

// A client that sleeps through the night asks for its old address in the morning, and gets the new one.
func TestSleeperWakes(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	p, err := move.Of(s, handsets("10.84.22.0/24"))
	require.NoError(t, err)
	clients := crowd("net-handsets", 2, 12*time.Hour, night)
	morning := night.Add(8 * time.Hour)
	clients[1].Wakes = morning
	n := move.Simulate(s, clients, acts(p))
	for _, f := range n.Fates {
		assert.True(t, prefixes("10.84.22.0/24")[0].Contains(f.Will), f.Name)
		if f.Asleep {
			assert.Zero(t, f.Seconds, "it misses nothing")
		}
	}
	assert.Equal(t, 1, n.Affected)
	assert.Zero(t, n.Stranded)
}

// What a phase takes away is said by the phase that takes it, whose leases are shortened is named with what they had,
// and an address out of a pool is called likely.
func Test42APhaseSaysWhatItTakesAway(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	p, err := move.Of(s, handsets("10.84.22.0/24"))
	require.NoError(t, err)
	taken := map[string]string{}
	for _, ph := range p.Phases() {
		for _, e := range ph.Edits {
			if e.Op == edit.Remove && e.Part.Kind != site.KindOption {
				assert.Contains(t, ph.Says, "It takes away", "%s: %s", ph.Kind, e.Part)
			}
		}
		taken[ph.Kind] = ph.Says
	}
	assert.Contains(t, taken[move.Shorten], "Leases become 30 minutes, of Handsets (now 1 day)")
	assert.Contains(t, taken[move.Swap], "It takes away VLAN 31 on 1 port.")
	played := move.Simulate(s, []move.Client{{Name: "tab", MAC: address.MAC{0, 0, 94, 0, 83, 0xd0},
		Network: "net-handsets",
		Address: netip.MustParseAddr("10.84.16.170")}, {Name: "pbx", MAC: address.MAC{0, 0, 0x5e, 0, 0x53, 0x30},
		Network: "net-handsets", Address: netip.MustParseAddr("10.84.16.130")}}, []move.Act{{At: night, Doc: p.Will,
		Takes: time.Minute}})
	for _, f := range played.Fates {
		assert.Equal(t, f.Name == "tab", f.Likely, f.Name)
	}
}

// An exclusion over a gap between two ranges of its pool goes along with each of its pieces: whoever was kept off an
// address of the pool is kept off the one that it becomes.
func TestAnExclusionOverTwoRangesMovesWhole(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	for i := range s.Pools {
		p := &s.Pools[i]
		if p.ID != "pool-handsets" {
			continue
		}
		p.Ranges = []address.Range{span("10.84.16.160", "10.84.16.179"), span("10.84.16.190", "10.84.16.239")}
		p.Exclusions = []site.Exclusion{{ID: "excl-both", Range: span("10.84.16.175", "10.84.16.195"), Reason: "doors"}}
	}
	s = site.Normal(s)
	p, err := move.Of(s, move.Request{Night: night, Shifts: []move.Shift{{Network: "net-handsets",
		Prefix: prefixes("10.84.22.0/25")[0]}}})
	require.NoError(t, err)
	was, _ := s.Pool("pool-handsets")
	now, ok := p.Will.Pool("pool-handsets")
	require.True(t, ok)
	kept := func(p *site.Pool, a netip.Addr) bool {
		return slices.ContainsFunc(p.Ranges, func(r address.Range) bool { return r.Contains(a) }) &&
			!slices.ContainsFunc(p.Exclusions, func(x site.Exclusion) bool { return x.Range.Contains(a) })
	}
	from, to := netip.MustParseAddr("10.84.16.128"), netip.MustParseAddr("10.84.22.0")
	for range 127 {
		from, to = from.Next(), to.Next()
		assert.Equal(t, kept(was, from), kept(now, to), "%s, which becomes %s", from, to)
	}
	ids := map[string]bool{}
	for _, x := range now.Exclusions {
		assert.False(t, ids[x.ID], "two exclusions with the id %s", x.ID)
		ids[x.ID] = true
	}
}

func span(from, to string) address.Range {
	return address.Range{From: netip.MustParseAddr(from), To: netip.MustParseAddr(to)}
}
