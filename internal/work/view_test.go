package work_test

import (
	"context"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/poll"
	"lithos/internal/push"
	"lithos/internal/sites"
	"lithos/internal/view"
)

func TestInspectorShowsEveryKindOfPart(t *testing.T) {
	o := open(t)
	cases := []struct {
		ref, kind, title string
		editable, told   bool
	}{
		{"reservation:res-xray-plate", "Reservation", "xray-plate", true, true},
		{"fixed:fix-label-prn", "Fixed device", "label-prn", true, false},
		{"pool:pool-clinic", "Pool", "Clinic PCs", true, true},
		{"exclusion:excl-analyser", "Exclusion", "Analyser vendor, fixed by contract", true, false},
		{"interface:if-gw-1-lan-24", "Interface", "lan.24", true, false},
		{"network:net-clinic", "Network", "Clinic floor", true, true},
		{"pool:gone", "Network", "Bench", true, true}, // what is not there shows the network
	}
	for _, c := range cases {
		page, look := o.page("kelder-bridge", 0), view.Look{Select: c.ref}
		part := page.Part(look)
		assert.Equal(t, c.kind+" "+c.title, part.Kind+" "+part.Title)
		assert.Equal(t, c.editable,
			slices.ContainsFunc(part.Actions, func(a view.Action) bool { return a.Label == "Change" }), c.ref)
		assert.Equal(t, c.told, len(part.Effective) > 0, c.ref)
		assert.NotEmpty(t, part.Facts)
		if c.ref == "reservation:res-xray-plate" {
			assert.Equal(t, "net-clinic", page.Network(look).ID, "the selected part brings its network")
			require.Len(t, part.Findings, 2, "it has two names in reverse, too")
			assert.Equal(t, "address-two-owners.fix-label-prn.res-xray-plate.10.84.18.57", part.Findings[0].ID)
			var lease view.Effective
			for _, told := range part.Effective {
				if told.Code == 51 {
					lease = told
				}
			}
			assert.Equal(t, "8 hours, from the pool Clinic PCs; Clinic standard says 1 day",
				lease.Value+", "+lease.From+"; "+lease.Hides)
			assert.Equal(t, "reservation:res-xray-plate", part.Levels[0].Ref, "the nearest level first")
		}
	}
}

func TestSeenStrangersCanBeRecorded(t *testing.T) {
	o := openAll(t)
	r, err := o.Poll.Try(t.Context(), "kelder-bridge",
		poll.TryRequest{Network: "net-imaging", Against: "device", HostName: "Odd name!", MAC: "02005e0000aa"})
	require.NoError(t, err)
	part := o.page("kelder-bridge", 0).Part(view.Look{Network: "net-imaging", Select: "seen:" + r.Address})
	assert.Equal(t, "Seen", part.Kind)
	require.NotEmpty(t, part.Actions)
	require.NotNil(t, part.Actions[0].Entry)
	assert.Equal(t, map[string]string{"network": "net-imaging", "address": r.Address, "mac": "02:00:5e:00:00:aa",
		"name": "oddname"}, part.Actions[0].Entry.Fields)
}

// Rounds tells of what only a site's surroundings show: here another site of the
// customer on the same addresses.
func TestRoundsLookAround(t *testing.T) {
	o := openAll(t)
	ctx, stop := context.WithCancel(t.Context())
	require.NoError(t, o.Run(ctx, time.Second))
	t.Cleanup(func() { stop(); o.Stopped() })
	of := func(code, title string) bool {
		rows, err := o.Sites.Sites(t.Context(), false)
		require.NoError(t, err)
		i := slices.IndexFunc(rows, func(r sites.SiteRow) bool { return r.Code == code })
		return rows[i].Worst != nil && rows[i].Worst.Title == title && rows[i].Findings > 0
	}
	clone := scenario.Site("the-garret")
	told := func(code, title string) {
		t.Helper()
		require.Eventually(t, func() bool { return of(code, title) }, time.Minute, 20*time.Millisecond, "%s: %s",
			code, title)
	}
	twin := &site.Site{ID: "site-twin", Code: "twin", Name: "Twin", Customer: clone.Customer, Block: clone.Block,
		Networks: []site.Network{{ID: "net-twin", Name: "Home", Prefix: clone.Networks[0].Prefix}}}
	_, err := o.Sites.Import(t.Context(), twin, 0, "")
	require.NoError(t, err)
	told("the-garret", clone.Networks[0].Name+" is also "+twin.Networks[0].Name+" at Twin")
	told("twin", twin.Networks[0].Name+" is also "+clone.Networks[0].Name+" at "+clone.Name)
	twin.Networks[0].Prefix = netip.MustParsePrefix("192.168.212.0/24")
	_, err = o.Sites.Import(t.Context(), twin, 0, "")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		return !of("the-garret", clone.Networks[0].Name+" is also "+twin.Networks[0].Name+" at Twin")
	}, 2*time.Minute, 20*time.Millisecond)
}

func TestRoundsAndStandards(t *testing.T) {
	o := openAll(t)
	rows, err := o.Sites.Sites(t.Context(), false)
	require.NoError(t, err)
	require.Len(t, rows, len(scenario.Names))
	assert.Equal(t, "192.168.60.80 is inside pool Studio", rows[0].Worst.Title, "the gravest first")
	assert.Equal(t, []string{"Windmill Ceramics studio", "Kelder Bridge surgery", "Moss End hospital"},
		[]string{rows[0].Name, rows[1].Name, rows[2].Name})
	assert.Equal(t, []int{1, 0}, []int{rows[2].Blocks, rows[2].Warns})

	standards, err := o.Sites.Standards(t.Context())
	require.NoError(t, err)
	kept := 0
	for _, l := range standards {
		if l.Kind == "standard" {
			kept++
		}
	}
	assert.Equal(t, 5, kept)
	assert.Equal(t, "Clinic standard", standards[0].Standard.Name)
	assert.Len(t, standards[0].Sites, 3)
	assert.Empty(t, standards[0].Differs)
	hallin := scenario.Site("hallin-road")
	hallin.Standard.Windows[0].To = 29
	_, err = o.Sites.Import(t.Context(), hallin, o.mk.ID, "another copy of the standard")
	require.NoError(t, err)
	standards, err = o.Sites.Standards(t.Context())
	require.NoError(t, err)
	assert.NotEmpty(t, standards[0].Differs)
	history, err := o.Sites.History(t.Context(), "hallin-road")
	require.NoError(t, err)
	assert.Equal(t, "another copy of the standard by Maren Kolb", history[0].Note+" by "+history[0].By)
}

func TestRoomForANetwork(t *testing.T) {
	o := open(t)
	room, err := o.page("kelder-bridge", 0).Room(26)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"prefix": "10.84.20.64/26", "vlan": "91", "gateway": "10.84.20.65"}, room)
	id := o.order()
	o.edit(id, entry("network", "", "name", "Recovery", "prefix", "10.84.20.64/26", "vlan", "91"))
	room, err = o.page("kelder-bridge", id).Room(26)
	require.NoError(t, err)
	assert.Equal(t, "10.84.20.128/26", room["prefix"], "the draft's own networks are taken")
	assert.Equal(t, "92", room["vlan"])
	_, err = o.page("kelder-bridge", 0).Room(20)
	refusal(t, err, actor.Conflict, "No /20 is free")
	_, err = o.Page(t.Context(), "hallin-road", id)
	refusal(t, err, actor.Missing, "not an order of this site")
}

// A device that Lithos cannot reach gets its steps in words; the push waits until they are done and goes on then.
func TestStepsByHand(t *testing.T) {
	o := open(t)
	run(t, o.Service)
	o.exec("DELETE FROM device_access WHERE device_id = 'dev-sw-core'")
	id := o.order()
	c := entry("interface", "if-sw-core-mgmt", "addresses", "10.84.16.4/26")
	c.Entries[0].In = "device:dev-sw-core"
	o.edit(id, c)
	v, err := o.Order(t.Context(), id)
	require.NoError(t, err)
	require.Len(t, v.Plans, 2, "gw-1 answers its name")
	assert.True(t, v.Plans[0].ByHand, "what is done by hand comes first")
	assert.Equal(t, "sw-core", v.Plans[0].Device)
	assert.Equal(t, []string{"gw-1"}, v.Head.Devices)
	require.NoError(t, o.pushAll(o.Service, id))
	p := o.pushUntil(o.Service, id, "the runbook", func(p *push.PushView) bool { return p.State == "byhand" })
	assert.Equal(t, "Waiting for the steps that are done by hand", p.Title)
	gw := o.devices.ByID["dev-gw-1"].Running()
	require.NotEmpty(t, p.Hand)
	assert.Contains(t, p.Hand[0].Says, "`vlan11`")
	last := p.Hand[len(p.Hand)-1]
	assert.Equal(t, "10.84.16.4/26", last.Expect)

	refusal(t, o.Pushes.Tick(t.Context(), o.jo, id, last.Seq, "10.84.16.4/26"), actor.Conflict,
		"Do “"+p.Hand[0].Says+"” first")
	require.NoError(t, o.Pushes.Tick(t.Context(), o.jo, id, p.Hand[0].Seq, ""))
	refusal(t, o.Pushes.Tick(t.Context(), o.mk, id, p.Hand[0].Seq, ""), actor.Conflict,
		"Somebody has ticked that already")
	require.NoError(t, o.Pushes.Untick(t.Context(), o.mk, id, p.Hand[0].Seq))
	for _, l := range p.Hand[:len(p.Hand)-1] {
		require.NoError(t, o.Pushes.Tick(t.Context(), o.jo, id, l.Seq, l.Expect))
	}
	refusal(t, o.Pushes.Tick(t.Context(), o.jo, id, last.Seq, "10.84.16.2/26"), actor.Invalid,
		"should show 10.84.16.4/26")
	assert.True(t, gw.Equal(o.devices.ByID["dev-gw-1"].Running()), "nothing else is touched before it is done")
	page, err := o.Runbook(t.Context(), id)
	require.NoError(t, err)
	assert.Contains(t, page.Markdown(), `\[x\] 1`)
	require.NoError(t, o.Pushes.Tick(t.Context(), o.jo, id, last.Seq, "10.84.16.4 / 26"))
	v = o.waitPush(o.Service, id)
	assert.Equal(t, "landed", v.Push.State, v.Push.Problem)
	assert.Equal(t, "Pushed, verified, in part by hand, and landed", v.Push.Title)
	o.journalSays(v.Push, "done", "Verified by hand: by Jo Arden")
	refusal(t, o.Pushes.Untick(t.Context(), o.mk, id, last.Seq), actor.Conflict, "gone on")
}

// tickAll does what the push of an order waits for at consoles, and sees what should be seen.
func (o *office) tickAll(id int64) {
	o.t.Helper()
	p := o.pushUntil(o.Service, id, "the runbook", func(p *push.PushView) bool { return p.State == "byhand" })
	for _, l := range p.Hand {
		require.NoError(o.t, o.Pushes.Tick(o.t.Context(), o.jo, id, l.Seq, l.Expect))
	}
}
