package work_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/check"
	"lithos/core/yang"
	"lithos/internal/work"
)

// overwrite has somebody write another address of home at the provider of the Garret; none where it is empty.
func (o *office) overwrite(address string) {
	o.t.Helper()
	require.NoError(o.t, o.devices.Internet.Change("garret.example", func(z *yang.Zone) {
		z.Record = slices.DeleteFunc(z.Record, func(r yang.Record) bool { return address == "" && r.Owner == "home" })
		for i := range z.Record {
			if z.Record[i].Owner == "home" && z.Record[i].Type == "A" {
				z.Record[i].Data = address
			}
		}
	}))
}

// Since when a name is told wrong is since when the world was first read to be told otherwise, not since when the line
// has its address; and it stays that while it is read again. A name that was never told says so.
func Test09SinceWhenItIsToldWrong(t *testing.T) {
	o := openAll(t)
	ctx := t.Context()
	o.Poll.Observe(ctx, "site-the-garret")
	o.exec("UPDATE line_address SET first = first - interval '1 day'")
	o.Poll.Observe(ctx, "site-the-garret")
	require.Equal(t, "follows", o.follows("the-garret").State)
	before := time.Now()
	o.overwrite("203.0.113.1")
	o.Poll.Observe(ctx, "site-the-garret")
	f := o.follows("the-garret")
	require.Equal(t, "wrong", f.State)
	require.NotNil(t, f.Since)
	assert.False(t, f.Since.Before(before.Add(-time.Second)), "the line has had its address for a day")
	last := f.Tracks[0].AtServer[len(f.Tracks[0].AtServer)-1]
	assert.Equal(t, "203.0.113.1", last.Address)
	assert.True(t, last.Wrong)
	o.Poll.Observe(ctx, "site-the-garret")
	again := o.follows("the-garret")
	require.NotNil(t, again.Since)
	assert.True(t, f.Since.Equal(*again.Since), "reading it again does not make it newer")

	o.overwrite("")
	o.Poll.Observe(ctx, "site-the-garret")
	gone := o.follows("the-garret")
	assert.Equal(t, "wrong", gone.State)
	assert.Contains(t, gone.Says, "any more")
	o.exec("DELETE FROM told_address")
	o.exec("DELETE FROM following_read WHERE cardinality(data) > 0")
	never := o.follows("the-garret")
	assert.Equal(t, "untold", never.State)
	assert.Nil(t, never.Since)
}

// A name that a device keeps is written again once Lithos has read that somebody wrote over it: the device compares
// with what it told itself.
func Test28AnOverwrittenNameIsTakenBack(t *testing.T) {
	o := openAll(t)
	ctx := t.Context()
	o.keepBy("keeper", "device", "least", "1")
	o.becomes("A", "203.0.113.97")
	o.Poll.Observe(ctx, "site-the-garret")
	o.overwrite("203.0.113.1")
	o.exec("UPDATE told_address SET at = at - interval '2 minutes'")
	findings := func() []check.Finding { return o.page("the-garret", 0).Judgement.Findings }
	o.Poll.Observe(ctx, "site-the-garret")
	stale := slices.IndexFunc(findings(), func(f check.Finding) bool { return f.Rule == "ddns-stale" })
	if stale >= 0 { // it was read, and is written again by the device meanwhile
		require.NotNil(t, findings()[stale].Remedy)
		assert.Equal(t, "Write it again", findings()[stale].Remedy.Title)
	}
	assert.Eventually(t, func() bool {
		o.Poll.Observe(ctx, "site-the-garret")
		return o.follows("the-garret").State == "follows"
	}, untilTold, 50*time.Millisecond, "%s", o.log)
	o.becomes("A", "203.0.113.97")
}

// A push climbs a rung for each dynamic name that it touches: told, and answered so by the server of its zone. What
// does not hold waits for somebody to see to it.
func Test14APushProvesTheNamesThatItTouches(t *testing.T) {
	o := openAll(t)
	run(t, o.Service)
	o.Poll.Observe(t.Context(), "site-the-garret")
	o.Poll.Observe(t.Context(), "site-the-yard")
	journal := func(v *work.OrderView) (out string) {
		for _, l := range v.Push.Journal {
			out += l.Says + " " + l.State + "\n"
		}
		return out
	}
	id := o.at("the-garret")
	o.edit(id, entry("following", "following-home", "ttl", "300"))
	o.pushed(o.Service, id)
	v, err := o.Order(t.Context(), id)
	require.NoError(t, err)
	require.Equal(t, "landed", v.Push.State, v.Push.Problem)
	assert.Contains(t, journal(v), "home.garret.example is told 203.0.113.97, and answered so by its server done")
	assert.Empty(t, v.Push.Unverified)

	id = o.at("the-yard")
	w := o.document("the-yard").Following[0]
	o.edit(id, entry("following", w.ID, "ttl", "300"))
	o.pushed(o.Service, id)
	v, err = o.Order(t.Context(), id)
	require.NoError(t, err)
	require.Equal(t, "landed", v.Push.State, v.Push.Problem)
	assert.Contains(t, journal(v), w.Name+" is not verified: The key is taken: ")
	require.Len(t, v.Push.Unverified, 1)
	assert.Equal(t, w.Name, v.Push.Unverified[0].Name)
}
