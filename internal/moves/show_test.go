package moves

import (
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/move"
	"lithos/core/observed"
	"lithos/core/scenario"
	"lithos/core/site"
)

var (
	night  = time.Date(2026, 11, 25, 23, 30, 0, 0, time.UTC)
	before = night.Add(-time.Hour)
	after  = night.Add(time.Hour)
)

func handsets(t *testing.T) *planned {
	t.Helper()
	p, err := move.Of(scenario.Site("kelder-bridge"), move.Request{Night: night, Shifts: []move.Shift{{
		Network: "net-handsets", Prefix: netip.MustParsePrefix("10.84.22.0/24"), VLAN: 131}}})
	require.NoError(t, err)
	return &planned{Plan: p}
}

func sighting(at, mac string, when time.Time) observed.Sighting {
	m, _ := address.ParseMAC(mac)
	return observed.Sighting{Address: netip.MustParseAddr(at), MAC: m, Last: when, Live: true,
		Source: observed.Neighbour,
		Port:   "port3 of sw-core"}
}

func TestWhereAVisitedDeviceIsSeen(t *testing.T) {
	visit := handsets(t).Visits()[0]
	look := func(all ...observed.Sighting) MoveVisit {
		v := MoveVisit{Visit: visit}
		v.At = ""
		v.look(all, &night)
		return v
	}
	old, fresh := visit.Was.String(), visit.Will.String()
	assert.Equal(t, "new", look(sighting(fresh, visit.MAC, after)).Seen)
	assert.Equal(t, "old", look(sighting(old, visit.MAC, after)).Seen)
	assert.Equal(t, "port3 of sw-core", look(sighting(old, visit.MAC, before)).At)
	assert.Empty(t, look(sighting(old, visit.MAC, before)).Seen, "that was before the swap")
	assert.Empty(t, look(sighting(fresh, "00:00:5e:00:53:0a", after)).Seen, "another machine is there")
	v := look(sighting(old, visit.MAC, after), sighting(fresh, visit.MAC, after.Add(time.Minute)))
	assert.Equal(t, "new", v.Seen, "the later one counts")
}

func TestWhoDidNotFollow(t *testing.T) {
	p := handsets(t)
	r := MoveResult{Swapped: &night}
	lease := sighting("10.84.16.170", "00:00:5e:00:53:0b", before)
	lease.Source, lease.Expires = observed.Lease, after
	all := []observed.Sighting{
		sighting("10.84.16.137", "00:00:5e:00:53:9b", after), // the door panel, at its old address
		sighting("10.84.22.77", "00:00:5e:00:53:30", after),  // the pbx, at one of the pool's
		lease,
		sighting("10.84.18.24", "00:00:5e:00:53:10", after), // it did not move
		sighting("10.84.22.9", "00:00:5e:00:53:9b", before),
	}
	r.look(p.course(false), all, night.Add(time.Minute))
	require.Len(t, r.Old, 1)
	assert.Equal(t, "10.84.22.9", r.Old[0].Should)
	require.Len(t, r.Other, 1)
	assert.Equal(t, "10.84.22.2", r.Other[0].Should)
	require.Len(t, r.Leases, 1)
	assert.Equal(t, after, *r.Leases[0].Until)

	// Number 42: a lease ends in time, and of a move that was undone nobody is sent to the new address.
	late := MoveResult{Swapped: &night}
	late.look(p.course(false), all, after)
	assert.Empty(t, late.Leases, "it has ended")
	back := MoveResult{Swapped: &night}
	back.look(p.course(true), all, night.Add(time.Minute))
	require.Len(t, back.Old, 1)
	assert.Equal(t, "10.84.22.77 10.84.16.130", back.Old[0].Address.String()+" "+back.Old[0].Should,
		"the pbx has an address of the move yet, and belongs at its old one")
	assert.Empty(t, back.Leases)
}

// What is due next is said: what points at the move from other sites once the swap has landed, then the visits, and the
// last phase when its window opens; of a move that was undone, the visits that are to be undone.
func Test42WhatIsDueNext(t *testing.T) {
	swap := MovePhase{Seq: 2, Kind: move.Swap, Title: "Swap", Order: 12, Name: "WO-0012", Stage: "drafted"}
	follow := MovePhase{Seq: 3, Kind: move.Follow, Title: "Clear", Order: 13, Name: "WO-0013", Stage: "later",
		NotBefore: after}
	other := MovePhase{Seq: 4, Kind: kindElsewhere, Title: "Hallin Road", Order: 14, Name: "WO-0014", Stage: "drafted"}
	v := &MoveView{MovePlan: MovePlan{Phases: []MovePhase{swap, follow, other},
		Visits: []MoveVisit{{Visit: move.Visit{Name: "door-panel"}, Seq: 1}}}}
	says := func(at time.Time) string {
		if d := v.due(at); d != nil {
			return d.Do + " " + d.Says
		}
		return ""
	}
	assert.Equal(t, "order WO-0012: Swap", says(night))
	v.Phases[0].Stage, v.After.Swapped = "landed", &before
	assert.Equal(t, "order WO-0014 at Hallin Road", says(night))
	v.Phases[2].Stage = "landed"
	assert.Equal(t, "visits 1 device to be visited", says(night))
	assert.Equal(t, "order WO-0013: Clear", says(after.Add(time.Minute)))
	v.Visits[0].Seen = "new"
	assert.Equal(t, "order WO-0013: Clear", says(night))
	v.Phases[1].Stage, v.Back, v.Visits[0].ToUndo = "dropped", true, true
	assert.Equal(t, "visits 1 device to be visited", says(night))
	v.Visits[0].ToUndo = false
	assert.Empty(t, says(night))
}

// A client of a network that stays was told a server that moves: until it renews it asks the old one.
func TestWhoAsksAnOldServer(t *testing.T) {
	doc := scenario.Site("kelder-bridge")
	clinic := doc.Pools[slices.IndexFunc(doc.Pools, func(p site.Pool) bool { return p.Network == "net-clinic" })]
	n, _ := doc.Network("net-clinic")
	n.Options = append(n.Options, site.Option{Code: 150, Value: "10.84.16.130"})
	of, err := move.Of(doc, move.Request{Night: night, Shifts: []move.Shift{{
		Network: "net-handsets", Prefix: netip.MustParsePrefix("10.84.22.0/24"), VLAN: 131}}})
	require.NoError(t, err)
	lease := func(at, mac string, given time.Time) observed.Heard {
		s := sighting(at, mac, given)
		return observed.Heard{Source: observed.Lease, Address: s.Address, MAC: s.MAC, Pool: clinic.ID, Last: given,
			Expires: night.Add(8 * time.Hour), Bound: true}
	}
	gone := lease("10.84.18.99", "00:00:5e:00:53:13", before)
	gone.Expires = night
	back := lease("10.84.18.98", "00:00:5e:00:53:12", before)
	back.Bound = false
	r := MoveResult{Swapped: &night}
	r.findAskers(&planned{Plan: of}, []observed.Heard{
		lease("10.84.18.96", "00:00:5e:00:53:10", before),
		lease("10.84.18.97", "00:00:5e:00:53:11", after), // it has renewed
		back,
		gone,
	}, after)
	require.Len(t, r.Unrenewed, 1)
	assert.Equal(t, "10.84.18.96", r.Unrenewed[0].Address.String())
	require.Len(t, r.Unrenewed[0].Servers, 1)
	assert.Equal(t, "10.84.16.130", r.Unrenewed[0].Servers[0].Was.String())
	assert.Equal(t, "10.84.22.2", r.Unrenewed[0].Servers[0].Will.String())
}

func TestALateShorteningHasTheTimeThatIsLeft(t *testing.T) {
	now := night.Add(-2 * time.Hour)
	phases := inTime(handsets(t).Phases(), night, now)
	assert.Equal(t, now, phases[0].NotBefore)
	assert.Equal(t, night, phases[0].NotAfter)
	assert.Contains(t, phases[0].Says, "That is late")
	on := inTime(handsets(t).Phases(), night, night.AddDate(0, 0, -9))
	assert.NotContains(t, on[0].Says, "That is late")
}
