package work_test

import (
	"bytes"
	"context"
	"encoding/json"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/observed"
	"lithos/core/rehearse"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/demo"
	"lithos/internal/draft"
	"lithos/internal/poll"
	"lithos/internal/sites"
	"lithos/internal/store"
	"lithos/internal/view"
)

// at opens an order at a site.
func (o *office) at(code string) int64 {
	o.t.Helper()
	id, err := o.Drafts.OpenOrder(o.t.Context(), o.mk, code, "Work", "")
	require.NoError(o.t, err)
	return id
}

func interfaceOf(device, id string, fields ...string) draft.Change {
	c := entry("interface", id, fields...)
	c.Entries[0].In = "device:" + device
	return c
}

// Number 16: what is said to change is counted in lines, also where a line makes two records.
func Test16LinesAreCountedAsLines(t *testing.T) {
	o := open(t)
	p, err := o.Drafts.Paste(t.Context(), o.order(), draft.PasteRequest{Zone: "zone-kelder", Kind: "record",
		Text: "10.84.20.61 scans scanner\nfiles CNAME scans\n# a remark\nno record at all\n"})
	require.NoError(t, err)
	assert.Equal(t, 2, p.Edits)
}

// A password typed into a draft is in no draft, journal, log or answer, and is
// in the device after the push.
func TestPasswordsPassUnseen(t *testing.T) {
	o := openAll(t)
	run(t, o.Service)
	id := o.at("the-garret")
	const password = "slate-under-snow"
	o.edit(id, interfaceOf("dev-garret-rt", "if-garret-wan", "secret", password, "mtu", "1480"))
	d, err := o.Drafts.Draft(t.Context(), id)
	require.NoError(t, err)
	raw, err := json.Marshal(d.Steps)
	require.NoError(t, err)
	assert.Contains(t, string(raw), "line-", "the name it is kept under")
	require.NoError(t, o.pushAll(o.Service, id))
	v := o.waitPush(o.Service, id)
	require.Equal(t, "landed", v.Push.State, v.Push.Problem)
	view, err := json.Marshal(v)
	require.NoError(t, err)
	running, err := json.Marshal(o.devices.ByID["dev-garret-rt"].Running())
	require.NoError(t, err)
	for where, text := range map[string][]byte{"draft": raw, "order": view, "device": running,
		"log": []byte(o.log.String())} {
		assert.False(t, bytes.Contains(text, []byte(password)), where)
	}
	assert.Contains(t, string(running), `"password-name":"`+nameInUse(t, o)+`"`)
}

func nameInUse(t *testing.T, o *office) string {
	doc, err := o.Sites.Export(t.Context(), "the-garret")
	require.NoError(t, err)
	_, i, ok := doc.Interface("if-garret-wan")
	require.True(t, ok)
	return i.Uplink.Secret
}

// A password typed into a draft replaces the one in use when it is pushed, not
// before; undo takes it back, and a draft that was dropped long ago leaves none behind.
func TestTypedPasswordsWaitForThePush(t *testing.T) {
	o := openAll(t)
	run(t, o.Service)
	was := nameInUse(t, o)
	dropped := o.at("the-garret")
	o.edit(dropped, interfaceOf("dev-garret-rt", "if-garret-wan", "secret", "never-pushed"))
	require.NoError(t, o.Drafts.Drop(t.Context(), o.mk, dropped, o.version(dropped)))
	id := o.at("the-garret")
	o.edit(id, interfaceOf("dev-garret-rt", "if-garret-wan", "secret", "typed-wrong"))
	o.edit(id, interfaceOf("dev-garret-rt", "if-garret-wan", "secret", "hail-on-slate"))
	d, err := o.Drafts.Draft(t.Context(), id)
	require.NoError(t, err)
	assert.Len(t, d.Steps, 2, "a password alone is a step")
	assert.Equal(t, was, nameInUse(t, o))
	require.NoError(t, o.pushAll(o.Service, id))
	v := o.waitPush(o.Service, id)
	require.Equal(t, "landed", v.Push.State, v.Push.Problem)
	now := nameInUse(t, o)
	assert.NotEqual(t, was, now)
	s, err := store.Open(t.Context(), o.url, 0)
	require.NoError(t, err)
	defer s.Close()
	rows, err := s.Pool.Query(t.Context(), "SELECT name FROM secret WHERE site_id = 'site-the-garret' ORDER BY put_at")
	require.NoError(t, err)
	kept, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	assert.Len(t, kept, 5, "one typed in a dropped order is kept for when it is taken up again")
	assert.Subset(t, kept, []string{was, now})
	_, err = s.Pool.Exec(t.Context(),
		"UPDATE work_order SET closed_at = now() - interval '31 days' WHERE state = 'dropped'")
	require.NoError(t, err)
	require.NoError(t, s.ForgetDroppedSecrets(t.Context()))
	rows, err = s.Pool.Query(t.Context(), "SELECT name FROM secret WHERE site_id = 'site-the-garret' ORDER BY put_at")
	require.NoError(t, err)
	kept, err = pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	assert.Equal(t, []string{was, "key-garret", "key-home-garret", now}, kept)
}

func TestTryThroughManyActs(t *testing.T) {
	o := open(t)
	r, err := o.Poll.Try(t.Context(), "kelder-bridge",
		poll.TryRequest{Network: "net-imaging", Against: "device", MAC: "02005e0000ab", Acts: []rehearse.Act{
			{Do: "lease"}, {Do: "renew"}, {Do: "move", To: "net-clinic"}, {Do: "stale"}, {Do: "release"},
			{Do: "fill"}}})
	require.NoError(t, err)
	var says []string
	for _, s := range r.Scenes {
		says = append(says, s.Says)
	}
	assert.Equal(t, []string{
		"It has 10.84.20.24 for 1 day.", "It has 10.84.20.24 for 1 day.",
		"The old address was refused. It has 10.84.18.96 for 8 hours.",
		"The old address was refused. It has 10.84.18.96 for 8 hours.", "It gave 10.84.18.96 back.",
		"A device's pool is not filled; try that on the draft.",
	}, says)
	require.Len(t, r.Rungs, 7)
	// Behind a relay it renews with the server alone, and the ladder tells of the address it was given.
	r, err = o.Poll.Try(t.Context(), "moss-end",
		poll.TryRequest{Network: "net-moss-ward", Against: "device", MAC: "02005e0000ac", Acts: []rehearse.Act{
			{Do: "lease"}, {Do: "renew"}}})
	require.NoError(t, err)
	require.Len(t, r.Scenes[1].Messages, 2, r.Scenes[1].Says)
	assert.Equal(t, "ack", r.Scenes[1].Messages[1].Type)
	given := netip.MustParseAddr(r.Address)
	assert.Equal(t, "lease "+address.Short(given, netip.MustParsePrefix("10.84.50.0/24")),
		r.Rungs[1].Name+" "+r.Rungs[1].Value)
	r, err = o.Poll.Try(t.Context(), "kelder-bridge",
		poll.TryRequest{Network: "net-clinic", Port: "if-sw-ward-3", Against: "draft"})
	require.NoError(t, err)
	assert.Equal(t, "Imaging", r.Scenes[0].Network, "what comes out at the port")
	id := o.at("kelder-bridge")
	o.edit(id, interfaceOf("dev-sw-ward", "if-sw-ward-uplink", "taggedVLANs", "11, 24, 90"))
	_, err = o.Poll.Try(t.Context(), "kelder-bridge",
		poll.TryRequest{Network: "net-clinic", Port: "if-sw-ward-3", Against: "draft", Order: id})
	refusal(t, err, actor.Conflict,
		"is on VLAN 48, and Imaging does not reach it. The path breaks: port8 of sw-core sends VLAN 48")
	for _, bad := range []poll.TryRequest{
		{Network: "net-imaging", Against: "draft", Parameters: "1, x"},
		{Network: "net-imaging", Against: "draft", Largest: "100"},
		{Network: "net-imaging", Against: "draft", Largest: "many"},
		{Network: "net-imaging", Against: "draft", MAC: "zz"},
		{Network: "net-imaging", Against: "draft", HostName: strings.Repeat("h", 64)},
		{Network: "net-imaging", Against: "draft", Class: strings.Repeat("c", 256)},
	} {
		_, err := o.Poll.Try(t.Context(), "kelder-bridge", bad)
		refusal(t, err, actor.Invalid, "The client was not tried")
	}
}

func TestForecastAndSpread(t *testing.T) {
	o := open(t)
	page := o.page("kelder-bridge", 0)
	v, err := page.Forecast(view.ForecastRequest{Pool: "pool-waiting", Shape: "waiting room", PerDay: "120",
		Stay: "40 minutes"})
	require.NoError(t, err)
	_, err = page.Forecast(view.ForecastRequest{Pool: "pool-waiting", PerDay: "12o", Returning: "101", Size: "3.5",
		Stay: "8", Lease: "long"})
	refused := &actor.Refusal{}
	require.ErrorAs(t, err, &refused)
	assert.Len(t, refused.Fields, 5, "each wrong value is told at its field")
	assert.Equal(t, 32, v.Size)
	assert.Equal(t, "2 hours", v.Lease)
	assert.Greater(t, v.Day.TurnedAway, 1.0)
	assert.Greater(t, v.SizeDoes, 32)
	assert.NotEmpty(t, v.LeaseDoes)
	assert.Len(t, v.Day.Leased, 96)
	assert.Equal(t, []view.Stretch{{From: 64, To: 95}}, v.Pools, "on the ruler's scale")
	assert.Equal(t, 64, v.Filled[0].From)
	_, err = page.Forecast(view.ForecastRequest{Pool: "pool-waiting", Stay: "a while"})
	refusal(t, err, actor.Invalid, "is not a length of time")
	_, err = page.Forecast(view.ForecastRequest{Pool: "pool-none"})
	refusal(t, err, actor.Missing, "no such pool")

	sp, err := page.Spread("pool-clinic", "15 minutes")
	require.NoError(t, err)
	assert.Equal(t, []string{"8 hours", "4 hours", "30 minutes", "4 hours"},
		[]string{sp.Lease, sp.All, sp.Set, sp.Before})
	_, err = page.Spread("pool-clinic", "soon")
	refusal(t, err, actor.Invalid, "is not a length of time")
}

// What the clients of a site are seen to do, read from its devices.
func TestSeenIsJudged(t *testing.T) {
	o := openAll(t)
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	devices, err := demo.Start(ctx, o.Service, demo.Options{Pace: time.Millisecond})
	require.NoError(t, err)
	t.Cleanup(devices.Close)
	run(t, o.Service)
	remarks := func(code string) map[string]bool {
		got := map[string]bool{}
		for _, row := range o.page(code, 0).SeenAt().Seen {
			for _, r := range row.Remarks {
				got[r.Kind] = true
			}
		}
		return got
	}
	look := func(code string, want ...string) {
		require.Eventually(t, func() bool {
			o.Poll.Observe(ctx, scenario.Site(code).ID)
			got := remarks(code)
			return !slices.ContainsFunc(want, func(k string) bool { return !got[k] })
		}, 2*time.Minute, 100*time.Millisecond, "%s: %v", code, want)
	}
	look("kelder-bridge", observed.MadeUp, observed.Unrecorded, observed.InPool)
	look("the-garret", observed.Cloned)
	assert.True(t, slices.ContainsFunc(o.page("the-garret", 0).Judgement.Findings,
		func(f check.Finding) bool { return f.Rule == "mac-cloned" }))
	rows, err := o.Sites.Sites(ctx, false)
	require.NoError(t, err)
	garret := rows[slices.IndexFunc(rows, func(r sites.SiteRow) bool { return r.Code == "the-garret" })]
	require.NotNil(t, garret.Worst, "Rounds tells of it too")
	assert.Contains(t, garret.Worst.Title, "is in two places")
	kelder := o.page("kelder-bridge", 0).SeenAt()
	assert.True(t, slices.ContainsFunc(kelder.Seen, func(r view.SeenRow) bool {
		return r.Port == "port2 of sw-ward" || r.Port == "port1 of sw-ward" || r.Port == "port2 of sw-core"
	}), "switches say which port")

	id := o.at("the-garret")
	o.edit(id, entry(site.KindKnownClient, "", "mac", "00:00:5e:00:53:c4", "name", "workbench", "ignored",
		"Two benches from one image, being set up"))
	after := o.page("the-garret", id).SeenAt()
	assert.True(t, slices.ContainsFunc(after.Seen, func(r view.SeenRow) bool {
		return r.Known == "workbench" && len(r.Remarks) == 1 && r.Remarks[0].Kind == observed.Ignored
	}))
}

func TestLinksOfASite(t *testing.T) {
	o := open(t)
	d := o.page("moss-end", 0).Topology("net-moss-kennels")
	assert.Len(t, d.Devices, 4)
	assert.Len(t, d.Cables, 3)
	assert.Equal(t, "Kennels is on vlan70 of sw-moss and comes out at port2 of sw-barn.", d.Says)
	id := o.at("moss-end")
	o.edit(id, interfaceOf("dev-moss-barn", "if-moss-barn-1", "taggedVLANs", "24"))
	d = o.page("moss-end", id).Topology("net-moss-kennels")
	require.Len(t, d.Breaks, 1)
	assert.Equal(t, "vlan-on-one-side-only", d.Breaks[0].Rule)
}
