package work_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/push"
)

// typed is a moment as it is typed in the site's zone.
func typed(at time.Time) string {
	zone, err := time.LoadLocation("Europe/London")
	if err != nil {
		panic(err)
	}
	return at.In(zone).Format(site.Clock)
}

// An order with a change window is not pushed outside of it; left to start automatically it is pushed when the window
// opens, in the name of who left it.
func TestAnOrderWaitsForItsWindow(t *testing.T) {
	o := open(t)
	run(t, o.Service)
	id := o.at("kelder-bridge")
	o.edit(id, reserve("net-clinic", "scale", "10.84.18.210", "00:00:5e:00:53:d1"))
	_, err := o.Pushes.Rehearse(t.Context(), o.mk, id, o.version(id))
	require.NoError(t, err)
	require.ErrorContains(t, o.Pushes.Wait(t.Context(), o.mk, id, o.version(id), true), "Say first when")
	for says, e := range map[string]push.WindowEntry{
		"is no time":           {NotBefore: "tonight"},
		"more than a year":     {NotBefore: "2095-01-01T00:00"},
		"ends before it opens": {NotBefore: typed(time.Now().Add(2 * time.Hour)), NotAfter: typed(time.Now())},
		"a control character":  {Note: "a\x07b"},
	} {
		require.ErrorContains(t, o.Pushes.SetWindow(t.Context(), o.mk, id, e), says)
	}
	require.NoError(t, o.Pushes.SetWindow(t.Context(), o.mk, id, push.WindowEntry{Note: "After closing time",
		NotBefore: typed(time.Now().Add(2 * time.Hour)), NotAfter: typed(time.Now().Add(4 * time.Hour))}))
	_, err = o.Pushes.Push(t.Context(), o.mk, id, o.version(id))
	require.ErrorContains(t, err, "Its change window opens on")
	require.NoError(t, o.Pushes.Wait(t.Context(), o.mk, id, o.version(id), true))
	v, err := o.Order(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, "Maren Kolb", v.Head.Waits)
	require.NoError(t, o.Pushes.StartWaiting(t.Context()), "its window is not open yet")
	v, err = o.Order(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, "open", v.Head.State)

	o.exec("UPDATE work_order SET not_before = now() - interval '1 minute' WHERE id = $1", id)
	require.NoError(t, o.Pushes.StartWaiting(t.Context()))
	v = o.waitPush(o.Service, id)
	require.Equal(t, "landed", v.Push.State, v.Push.Problem)
	assert.Equal(t, "Maren Kolb", v.Push.By)
	assert.Empty(t, v.Head.Waits)
}

// One step is taken back from the middle, unless a later one needs it.
func TestAStepIsTakenBackFromTheMiddle(t *testing.T) {
	o := open(t)
	id := o.at("kelder-bridge")
	o.edit(id, entry("network", "net-imaging", "name", "Scans"))
	o.edit(id, reserve("net-clinic", "scale", "10.84.18.210", "00:00:5e:00:53:d1"))
	o.edit(id, entry("network", "net-imaging", "name", "Scanning"))
	v, err := o.Order(t.Context(), id)
	require.NoError(t, err)
	_, err = o.Drafts.TakeBack(t.Context(), o.mk, id, v.Head.Version, v.Steps[0].Seq, false)
	require.ErrorContains(t, err, "A later step needs it: Change network Scans: name Scanning")
	_, err = o.Drafts.TakeBack(t.Context(), o.mk, id, v.Head.Version, v.Steps[1].Seq, false)
	require.NoError(t, err)
	d, err := o.Drafts.Draft(t.Context(), id)
	require.NoError(t, err)
	n, _ := d.Doc().Network("net-imaging")
	assert.Equal(t, "Scanning", n.Name)
	for _, r := range d.Doc().Reservations {
		assert.NotEqual(t, "scale", r.Name)
	}
	_, err = o.Drafts.Redo(t.Context(), o.mk, id, d.Order.Version)
	require.NoError(t, err)
	d, err = o.Drafts.Draft(t.Context(), id)
	require.NoError(t, err)
	assert.Len(t, d.Doc().Reservations, len(d.Base.Reservations)+1, "what was taken back is done again")
}

// Without an end a window is no promise for ever: an order that nobody was there to start says so, and does not start
// at some other time. One that cannot start keeps no other from it.
func Test05AnOrderStartsAnHourLateAtMost(t *testing.T) {
	o := open(t)
	run(t, o.Service)
	left := func(code, network, at, mac string) int64 {
		id := o.at(code)
		o.edit(id, reserve(network, "scale", at, mac))
		_, err := o.Pushes.Rehearse(t.Context(), o.mk, id, o.version(id))
		require.NoError(t, err)
		require.NoError(t, o.Pushes.SetWindow(t.Context(), o.mk, id,
			push.WindowEntry{NotBefore: typed(time.Now().Add(time.Hour))}))
		require.NoError(t, o.Pushes.Wait(t.Context(), o.mk, id, o.version(id), true))
		return id
	}
	late := left("kelder-bridge", "net-clinic", "10.84.18.210", "00:00:5e:00:53:d1")
	soon := left("hallin-road", "net-hallin-clinic", "10.84.34.210", "00:00:5e:00:53:d2")
	o.exec("UPDATE work_order SET not_before = now() - interval '61 minutes' WHERE id = $1", late)
	o.exec("UPDATE work_order SET not_before = now() - interval '59 minutes' WHERE id = $1", soon)
	require.NoError(t, o.Pushes.StartWaiting(t.Context()))
	v, err := o.Order(t.Context(), late)
	require.NoError(t, err)
	assert.Equal(t, "open", v.Head.State)
	assert.Contains(t, v.Head.Waited, "opened more than an hour ago")
	require.ErrorContains(t, o.Pushes.Wait(t.Context(), o.mk, late, o.version(late), true), "Push it now")
	assert.Equal(t, "landed", o.waitPush(o.Service, soon).Push.State)
}

// What somebody left to be done waits while their account is switched off, and says why: an order at its window, a
// wave, the phases of a move. Another order starts at its own window all the same.
func Test49WhatSomebodyLeftWaitsForTheirAccount(t *testing.T) {
	o := open(t)
	ctx := t.Context()
	run(t, o.Service)
	left := func(by actor.Technician, name, at, mac string) int64 {
		id, err := o.Drafts.OpenOrder(ctx, by, "kelder-bridge", name, "")
		require.NoError(t, err)
		o.edit(id, reserve("net-clinic", name, at, mac))
		_, err = o.Pushes.Rehearse(ctx, by, id, o.version(id))
		require.NoError(t, err)
		require.NoError(t, o.Pushes.SetWindow(ctx, by, id,
			push.WindowEntry{NotBefore: typed(time.Now().Add(time.Hour))}))
		require.NoError(t, o.Pushes.Wait(ctx, by, id, o.version(id), true))
		o.exec("UPDATE work_order SET not_before = now() - interval '1 minute' WHERE id = $1", id)
		return id
	}
	first := left(o.jo, "scale", "10.84.18.210", "00:00:5e:00:53:d1")
	require.NoError(t, o.Accounts.SwitchAccount(ctx, "a test", o.jo.Name, true))
	require.NoError(t, o.Pushes.StartWaiting(ctx))
	v, err := o.Order(ctx, first)
	require.NoError(t, err)
	assert.Equal(t, "open", v.Head.State)
	assert.Equal(t, o.jo.FullName, v.Head.Waits, "it waits")
	assert.Contains(t, v.Head.Waited, "the account of "+o.jo.FullName+" is switched off")
	require.NoError(t, o.Accounts.SwitchAccount(ctx, "a test", o.jo.Name, false))
	require.NoError(t, o.Pushes.StartWaiting(ctx))
	assert.Equal(t, "landed", o.waitPush(o.Service, first).Push.State, "it starts once the account is on again")

	second := left(o.jo, "lamp", "10.84.18.212", "00:00:5e:00:53:d2")
	require.NoError(t, o.Accounts.SwitchAccount(ctx, "a test", o.jo.Name, true))
	other, err := o.Drafts.OpenOrder(ctx, o.mk, "hallin-road", "Names", "")
	require.NoError(t, err)
	o.edit(other, entry("network", o.page("hallin-road", other).Site.Networks[0].ID, "purpose", "desks"))
	_, err = o.Pushes.Rehearse(ctx, o.mk, other, o.version(other))
	require.NoError(t, err)
	require.NoError(t, o.Pushes.SetWindow(ctx, o.mk, other,
		push.WindowEntry{NotBefore: typed(time.Now().Add(time.Hour))}))
	require.NoError(t, o.Pushes.Wait(ctx, o.mk, other, o.version(other), true))
	o.exec("UPDATE work_order SET not_before = now() - interval '1 second' WHERE id = $1", other)
	require.NoError(t, o.Pushes.StartWaiting(ctx))
	assert.Equal(t, "landed", o.waitPush(o.Service, other).Push.State, "number 50: each is tried by itself")
	v, err = o.Order(ctx, second)
	require.NoError(t, err)
	assert.Equal(t, "open", v.Head.State)
}
