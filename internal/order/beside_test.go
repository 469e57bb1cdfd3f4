package order_test

import (
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/check"
	"lithos/core/compile"
	"lithos/core/dynamicnames"
	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/core/zone"
	"lithos/internal/order"
)

// Somebody's word that a finding is meant so holds through its last day, for these facts, and never for what blocks.
func TestAWordHolds(t *testing.T) {
	sc := check.Of(scenario.Site("quill-street"))
	all := order.Judge(sc, order.Beside{}).Findings
	i := slices.IndexFunc(all, func(f check.Finding) bool { return f.Severity == check.Warns })
	require.GreaterOrEqual(t, i, 0, "a warning to answer")
	f := all[i]
	today := time.Now()
	yesterday := today.AddDate(0, 0, -2)
	for _, c := range []struct {
		what  string
		meant order.Meant
		holds bool
	}{
		{"without an end", order.Meant{Finding: f.ID, Facts: f.Facts()}, true},
		{"on its last day", order.Meant{Finding: f.ID, Facts: f.Facts(), Until: &today}, true},
		{"after its last day", order.Meant{Finding: f.ID, Facts: f.Facts(), Until: &yesterday}, false},
		{"when the facts are others", order.Meant{Finding: f.ID, Facts: "0"}, false},
		{"of another finding", order.Meant{Finding: f.ID + "x", Facts: f.Facts()}, false},
	} {
		j := order.Judge(sc, order.Beside{Meant: []order.Meant{c.meant}})
		left := order.Unanswered(order.InBrief(all), []order.Meant{c.meant}, today)
		if c.holds {
			require.Len(t, j.Meant, 1, c.what)
			assert.Equal(t, f.ID, j.Meant[0].ID)
			assert.Len(t, j.Findings, len(all)-1, c.what)
			assert.Len(t, left, len(all)-1, c.what)
		} else {
			assert.Empty(t, j.Meant, c.what)
			assert.Len(t, j.Findings, len(all), c.what)
			assert.Len(t, left, len(all), c.what)
		}
	}
	blocks := []order.Brief{{ID: "x", Severity: check.Blocks, Facts: "1"}}
	assert.Len(t, order.Unanswered(blocks, []order.Meant{{Finding: "x", Facts: "1"}}, today), 1)
}

// What was read and sent is found by the name, the type and the line it is about; the order of time stays.
func TestWhatIsKnownIsFoundByWhatItIsAbout(t *testing.T) {
	at := netip.MustParseAddr
	b := order.Beside{
		Read: []order.ReadAddress{{Following: "a", Type: "A", Data: []string{"192.0.2.1"}},
			{Following: "a", Type: "AAAA"}, {Following: "b", Type: "A"},
			{Following: "a", Type: "A", Data: []string{"192.0.2.2"}}},
		Sent: []order.SentAddress{{Following: "a", Says: "1"}, {Following: "b", Says: "2"},
			{Following: "a", Says: "3"}},
		Lines: []order.LineReading{{Interface: "x", Address: at("192.0.2.1")},
			{Interface: "y", Address: at("192.0.2.2")}},
	}
	assert.Equal(t, []order.ReadAddress{b.Read[0], b.Read[3]}, b.ReadOf("a", "A"))
	assert.Equal(t, []order.SentAddress{b.Sent[0], b.Sent[2]}, b.SentOf("a"))
	assert.Equal(t, dynamicnames.Line{}.With(at("192.0.2.2")), b.LineOf("y"))
}

// Rules are given what was learnt beside a site: a zone that was never read is not an empty one, keys that were never
// told are not none, the site is no neighbor of itself, and the day is the site's own.
func TestWhatRulesAreGiven(t *testing.T) {
	now := time.Now()
	held := yang.Config{}
	held.Interfaces.Interface = []yang.Interface{{Name: "wan"}}
	b := order.Beside{
		Zones: []order.ZoneReading{{ZoneID: "read", ReadAt: &now, Records: []zone.Record{{Owner: "a"}}},
			{ZoneID: "never", Records: []zone.Record{{Owner: "a"}}}, {ZoneID: "keys", KeysReadAt: &now}},
		Neighbors: []check.Neighbor{{ID: "site-quill"}, {ID: "other"}},
		Access: []order.Access{{DeviceID: "d", URL: "https://10.7.7.1:8443", Running: &held, Drifted: 2},
			{DeviceID: "named", URL: "https://gw.example"}},
	}
	doc := *scenario.Site("quill-street")
	doc.ID, doc.TimeZone = "site-quill", "Asia/Tokyo"
	with := b.Around(&doc)
	assert.Equal(t, map[string][]zone.Record{"read": {{Owner: "a"}}}, with.AtServer)
	assert.Contains(t, with.Keys, "keys")
	assert.NotContains(t, with.Keys, "read")
	assert.Equal(t, []check.Neighbor{{ID: "other"}}, with.Neighbors)
	assert.Equal(t, "Asia/Tokyo", with.Now.Location().String())
	assert.Equal(t, "10.7.7.1", with.Readings["d"].At.String())
	assert.Equal(t, held.Interfaces.Interface, with.Readings["d"].Interfaces)
	assert.False(t, with.Readings["named"].At.IsValid())
	doc.TimeZone = "Nowhere/At_All"
	assert.Equal(t, time.Local, b.Around(&doc).Now.Location())
}

// step is a draft's step that changes fields of a part.
func step(t *testing.T, s *site.Site, entries ...edit.Entry) order.Step {
	t.Helper()
	return order.Step{Seq: 1, Says: "Change", Edits: readAll(t, s, entries), By: "Maren Kolb"}
}

func readAll(t *testing.T, s *site.Site, entries []edit.Entry) (out []edit.Edit) {
	t.Helper()
	for _, e := range entries {
		edits, err := edit.Read(s, e)
		require.NoError(t, err)
		out = append(out, edits...)
	}
	return out
}

func draftOf(t *testing.T, s *site.Site, steps ...order.Step) *order.Draft {
	t.Helper()
	d, err := order.New(order.Order{ID: 1, State: "open"}, steps, check.Of(s))
	require.NoError(t, err)
	return d
}

func rules(found []check.Finding) (out []string) {
	for _, f := range found {
		out = append(out, f.Rule)
	}
	return out
}

// A program that holds the port of names was there before a draft. It stops the draft that starts the resolver anew,
// by an edit or by what is put back, and no other.
func TestWhatStopsAPushThatDoesTheSame(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	settings := site.Resolver{}
	for _, r := range s.Resolvers {
		settings = r
	}
	held := compile.Device(s, settings.Device)
	changed := *held.Resolver.Settings
	changed.KeepPrivate = !changed.KeepPrivate
	held.Resolver.Settings = &changed
	b := order.Beside{Access: []order.Access{{DeviceID: settings.Device, URL: "https://10.84.16.1",
		Programs: []yang.Program{{Name: "hostname-cache", Port: 53, Runs: true}}, Running: &held}}}
	as := draftOf(t, s)
	assert.Contains(t, rules(order.Judge(as.Base, b).Findings), "port-taken")
	back := func(ids ...string) order.Step {
		out := order.Step{Seq: 2, Says: "Put back"}
		for _, id := range ids {
			out.PutBack = append(out.PutBack, order.PutBack{Device: settings.Device, ID: id})
		}
		return out
	}
	drift := order.Target{ID: settings.Device, Access: &b.Access[0]}.Drift(as)
	require.Len(t, drift, 1)
	for _, c := range []struct {
		what  string
		step  order.Step
		stops bool
	}{
		{"a record of its zone", step(t, s, edit.Entry{Kind: site.KindRecord, ID: "rec-kelder-dns",
			In:     "zone:zone-kelder",
			Fields: map[string]string{"data": "10.84.16.2"}}), false},
		{"another setting", step(t, s, edit.Entry{Kind: site.KindResolver, ID: settings.ID,
			Fields: map[string]string{"tlsPort": "8853"}}), true},
		{"another name, which the device is not told", step(t, s, edit.Entry{Kind: site.KindResolver, ID: settings.ID,
			Fields: map[string]string{"note": "in the cellar"}}), false},
		{"what is put back", back(drift[0].ID), true},
		{"what is put back elsewhere", back("another difference"), false},
	} {
		d := draftOf(t, s, c.step)
		assert.Equal(t, c.stops, slices.Contains(rules(d.Judge(b).Added), "port-taken"), c.what)
	}
}

// A draft that changes what the world is to be told does not bring in that the world is told otherwise until it lands.
func TestWhatADraftIsAboutToTellIsNoDifference(t *testing.T) {
	s := scenario.Site("quill-street")
	now := time.Now()
	var told []zone.Record
	for _, p := range compile.Names(s).Outside {
		told = compile.PublishedRecords(p)
	}
	b := order.Beside{Zones: []order.ZoneReading{{ZoneID: "zone-quill-out", ReadAt: &now, Records: told}}}
	d := draftOf(t, s, step(t, s, edit.Entry{Kind: site.KindRecord, ID: "rec-quill-out-cloud",
		In:     "zone:zone-quill-out",
		Fields: map[string]string{"data": "192.0.2.78"}}))
	assert.NotContains(t, rules(d.Judge(b).Findings), check.OutsideDiffers)
	other := slices.Clone(told)
	for i := range other {
		if other[i].Owner == "@" && other[i].Type == "A" {
			other[i].Data = "192.0.2.99"
		}
	}
	b.Zones[0].Records = other
	j := d.Judge(b)
	assert.Contains(t, rules(j.Findings), check.OutsideDiffers, "it was so before the draft, and stays so")
	assert.NotContains(t, rules(j.Added), check.OutsideDiffers)
}

// Findings in brief stand in the order of their rules: what keeps clients from an address before what keeps them from
// a name.
func TestBriefFindingsAreInOrder(t *testing.T) {
	blocks := order.Brief{ID: "pool-overlap.x", Severity: check.Blocks}
	warns := order.Brief{ID: "name-twice.x", Severity: check.Warns}
	assert.True(t, blocks.Before(warns))
	assert.False(t, warns.Before(blocks))
}
