package replicate_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lithos/core/edit"
	"lithos/core/replicate"
	"lithos/core/scenario"
	"lithos/core/site"
)

func ids() func(string) string {
	n := 0
	return func(kind string) string {
		n++
		return fmt.Sprintf("%s-new-%d", kind, n)
	}
}

// edited is a site with entries made, and the edits.
func edited(t require.TestingT, s *site.Site, entries ...edit.Entry) (*site.Site, []edit.Edit) {
	var all []edit.Edit
	for _, e := range entries {
		edits, err := edit.Read(s, e)
		require.NoError(t, err)
		s, err = edit.Apply(s, edits...)
		require.NoError(t, err)
		all = append(all, edits...)
	}
	return s, all
}

// What was edited at one practice is made at the other, at its addresses.
func TestEditsFindTheirPlace(t *testing.T) {
	north, south := scenario.Site("orchard-north"), scenario.Site("orchard-south")
	now, edits := edited(t, north,
		edit.Entry{Kind: "pool", ID: "pool-north-surgeries", Fields: map[string]string{"ranges": "60-200"}},
		edit.Entry{Kind: "reservation", New: true, ID: "res-x", Fields: map[string]string{
			"network": "net-north-surgeries", "address": "21", "mac": "00005e0053d1", "name": "steriliser"}},
		edit.Entry{Kind: "option", In: "network:net-north-surgeries", ID: "42", New: true,
			Fields: map[string]string{"code": "42", "value": "172.22.64.1"}},
		edit.Entry{Kind: "interface", ID: "if-orchard-north-30", In: "device:dev-orchard-north-gw",
			Fields: map[string]string{"permits": "dhcp, dns, ntp, ping"}})
	placed, left := replicate.Place(north, now, south, edits, ids())
	assert.Empty(t, left)
	after, err := edit.Apply(south, placed...)
	require.NoError(t, err)
	pool, ok := after.Pool("pool-south-surgeries")
	require.True(t, ok)
	n, _ := after.Network(pool.Network)
	assert.Equal(t, n.Prefix.Masked().Addr().As4()[2], pool.Ranges[0].From.As4()[2])
	assert.EqualValues(t, 60, pool.Ranges[0].From.As4()[3])
	assert.EqualValues(t, 200, pool.Ranges[0].To.As4()[3])
	var steriliser *site.Reservation
	for _, r := range after.Reservations {
		if r.Name == "steriliser" {
			steriliser = r
		}
	}
	require.NotNil(t, steriliser)
	assert.Equal(t, n.ID, steriliser.Network)
	assert.True(t, n.Prefix.Contains(steriliser.Address))
	assert.EqualValues(t, 21, steriliser.Address.As4()[3])

	again, left := replicate.Place(north, now, after, edits, ids())
	require.Len(t, left, 1, "what is added once is there")
	assert.Contains(t, left[0].Why, "has steriliser already")
	assert.Empty(t, again, "what is so already is passed over")
}

// What the other site has no place for is said.
func TestWhatDoesNotFit(t *testing.T) {
	north, yard := scenario.Site("orchard-north"), scenario.Site("the-yard")
	now, edits := edited(t, north,
		edit.Entry{Kind: "pool", ID: "pool-north-surgeries", Fields: map[string]string{"ranges": "60-200"}},
		edit.Entry{Kind: "site", ID: "site-orchard-north", Fields: map[string]string{"timeZone": "Europe/Lisbon"}})
	placed, left := replicate.Place(north, now, yard, edits, ids())
	require.Len(t, left, 1)
	assert.Contains(t, left[0].Says, "Surgeries")
	assert.Contains(t, left[0].Why, "has no pool like Surgeries")
	require.Len(t, placed, 1)
	assert.Equal(t, site.Ref{Kind: site.KindSite, ID: yard.ID}, placed[0].Part)
}

// Placed at the site they were made at, edits come to the document they made, whatever they are.
func TestPlacedAtHome(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := scenario.Site(rapid.SampledFrom([]string{"orchard-north", "kelder-bridge", "quill-street"}).Draw(t,
			"site"))
		var entries []edit.Entry
		for range rapid.IntRange(1, 4).Draw(t, "edits") {
			p := s.Pools[rapid.IntRange(0, len(s.Pools)-1).Draw(t, "pool")]
			from := rapid.IntRange(40, 48).Draw(t, "from")
			entries = append(entries, edit.Entry{Kind: "pool", ID: p.ID,
				Fields: map[string]string{"ranges": fmt.Sprintf("%d-%d", from, from+3)}})
		}
		now, edits, ok := tried(s, entries)
		if !ok {
			t.Skip("not a lawful edit")
		}
		placed, left := replicate.Place(s, now, s, edits, ids())
		require.Empty(t, left)
		after, err := edit.Apply(s, placed...)
		require.NoError(t, err)
		require.Equal(t, now.Pools, after.Pools)
	})
}

func tried(s *site.Site, entries []edit.Entry) (*site.Site, []edit.Edit, bool) {
	var all []edit.Edit
	for _, e := range entries {
		edits, err := edit.Read(s, e)
		if err != nil {
			return nil, nil, false
		}
		if s, err = edit.Apply(s, edits...); err != nil {
			return nil, nil, false
		}
		all = append(all, edits...)
	}
	return s, all, true
}

// An option that a nearer level sets changes nothing at the other site: that is said, with the level that hides it.
// Where one client is told otherwise, it is not.
func Test45WhatANearerLevelHidesChangesNothing(t *testing.T) {
	north, south := scenario.Site("orchard-north"), scenario.Site("orchard-south")
	now, edits := edited(t, north, edit.Entry{Kind: "option", In: "site:" + north.ID, ID: "42", New: true,
		Fields: map[string]string{"code": "42", "value": "192.0.2.42"}})
	for i := range south.Networks {
		n := &south.Networks[i]
		n.Options = append(n.Options, site.Option{Code: 42, Value: "192.0.2.7"})
	}
	placed, left := replicate.Place(north, now, south, edits, ids())
	require.Empty(t, left)
	after, err := edit.Apply(south, placed...)
	require.NoError(t, err)
	hidden := replicate.HiddenIn(south, after, placed)
	require.Len(t, hidden, 1)
	assert.Equal(t, "NTP servers 192.0.2.42", hidden[0].Name+" "+hidden[0].Value)
	assert.Len(t, hidden[0].By, len(south.Networks))
	assert.Equal(t, site.KindNetwork, hidden[0].By[0].Kind)

	south.Networks[0].Options = nil
	after, err = edit.Apply(south, placed...)
	require.NoError(t, err)
	assert.Empty(t, replicate.HiddenIn(south, after, placed), "one network is told it")
}
