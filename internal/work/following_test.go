package work_test

import (
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/check"
	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/standin/internet"
	"lithos/internal/view"
)

// says is what the provider tells of the address of a name of a zone, and everything else of the zone.
func (o *office) says(in, owner string) (address string, rest []yang.Record) {
	o.t.Helper()
	z, ok := o.devices.Internet.Zone(in)
	require.True(o.t, ok)
	for _, r := range z.Record {
		if r.Owner == owner && r.Type == "A" {
			address = r.Data
			continue
		}
		rest = append(rest, r)
	}
	return address, rest
}

func (o *office) follows(code string) view.Following {
	o.t.Helper()
	list := o.page(code, 0).Followings(time.Now())
	require.Len(o.t, list, 1)
	return list[0]
}

func (o *office) found(code, rule string) bool {
	o.t.Helper()
	return slices.ContainsFunc(o.page(code, 0).Judgement.Findings, func(f check.Finding) bool { return f.Rule == rule })
}

// A name follows its line: whenever the address changes the server is told, and nothing else of the zone is
// changed. A line that flaps is told of no more than the least time allows, and its last address wins.
func TestNameFollowsItsLine(t *testing.T) {
	o := openAll(t)
	ctx, garret := t.Context(), o.devices.ByID["dev-garret-rt"]
	_, rest := o.says("garret.example", "home")
	o.Poll.Observe(ctx, "site-the-garret")
	address, now := o.says("garret.example", "home")
	assert.Equal(t, "203.0.113.97", address)
	assert.Equal(t, rest, now)
	assert.Equal(t, "follows", o.follows("the-garret").State)

	o.Poll.Observe(ctx, "site-the-garret")
	assert.Len(t, o.follows("the-garret").Attempts, 1, "what stands is not sent again")
	for i := range 100 {
		garret.SetLine("wan", netip.AddrFrom4([4]byte{203, 0, 113, byte(100 + i)}))
		if i%20 == 0 {
			o.Poll.Observe(ctx, "site-the-garret")
		}
	}
	o.Poll.Observe(ctx, "site-the-garret")
	f := o.follows("the-garret")
	assert.Len(t, f.Attempts, 1, "the least time between two updates holds")
	assert.Equal(t, "wrong", f.State)
	assert.True(t, o.found("the-garret", "ddns-stale"))
	_, err := o.Store.Pool.Exec(ctx, "UPDATE told_address SET at = at - interval '2 minutes'")
	require.NoError(t, err)
	o.Poll.Observe(ctx, "site-the-garret")
	address, now = o.says("garret.example", "home")
	assert.Equal(t, "203.0.113.199", address, "the last address wins")
	assert.Equal(t, rest, now)
	f = o.follows("the-garret")
	assert.Equal(t, "follows", f.State)
	assert.False(t, o.found("the-garret", "ddns-stale"))
	track := f.Tracks[0]
	require.GreaterOrEqual(t, len(track.Had), 2)
	assert.InDelta(t, 1, track.Had[len(track.Had)-1].To, 0.01)
	assert.False(t, track.AtServer[len(track.AtServer)-1].Wrong)

	// Somebody writes over it at the provider: it is told again.
	require.NoError(t, o.devices.Internet.Change("garret.example", func(z *yang.Zone) {
		for i := range z.Record {
			if z.Record[i].Owner == "home" {
				z.Record[i].Data = "203.0.113.1"
			}
		}
	}))
	o.Poll.Observe(ctx, "site-the-garret")
	assert.Equal(t, "wrong", o.follows("the-garret").State)
	_, err = o.Store.Pool.Exec(ctx, "UPDATE told_address SET at = at - interval '2 minutes'")
	require.NoError(t, err)
	o.Poll.Observe(ctx, "site-the-garret")
	address, _ = o.says("garret.example", "home")
	assert.Equal(t, "203.0.113.199", address)
}

// An address that nobody reaches is not told, and a line that is dropped takes nothing back.
func TestUnreachedLineIsNotTold(t *testing.T) {
	o := openAll(t)
	garret := o.devices.ByID["dev-garret-rt"]
	o.Poll.Observe(t.Context(), "site-the-garret")
	for address, rule := range map[string]string{"100.72.9.4": "ddns-shared-address",
		"192.168.1.7": "ddns-private-address"} {
		garret.SetLine("wan", netip.MustParseAddr(address))
		o.Poll.Observe(t.Context(), "site-the-garret")
		told, _ := o.says("garret.example", "home")
		assert.Equal(t, "203.0.113.97", told)
		assert.Equal(t, "unreached", o.follows("the-garret").State)
		assert.True(t, o.found("the-garret", rule), rule)
	}
	garret.SetLine("wan", netip.Addr{})
	o.Poll.Observe(t.Context(), "site-the-garret")
	told, _ := o.says("garret.example", "home")
	assert.Equal(t, "203.0.113.97", told)
}

// A refused update is written down with its reason, and sent again ever less often until it is taken.
func TestRefusedUpdateIsTriedAgain(t *testing.T) {
	o := openAll(t)
	o.Poll.Observe(t.Context(), "site-the-yard")
	f := o.follows("the-yard")
	require.Len(t, f.Attempts, 1)
	assert.False(t, f.Attempts[0].Taken)
	assert.Contains(t, f.Says, "The last update was not taken")
	assert.Equal(t, "wrong", f.State)
	address, _ := o.says("saltmarsh.example", "vpn")
	assert.Equal(t, "198.51.100.22", address)
	o.Poll.Observe(t.Context(), "site-the-yard")
	assert.Len(t, o.follows("the-yard").Attempts, 1, "not at once")

	o.devices.Internet.Inject(internet.Faults{Silent: true})
	_, err := o.Store.Pool.Exec(t.Context(), "UPDATE told_address SET at = at - interval '10 minutes'")
	require.NoError(t, err)
	o.Poll.Observe(t.Context(), "site-the-garret")
	silent := o.follows("the-garret")
	require.Len(t, silent.Attempts, 1)
	assert.Contains(t, silent.Attempts[0].Says, "did not answer in time")
}

// The trial climbs from the line to the world, and shows a key that may do more.
func TestFollowingIsTried(t *testing.T) {
	o := openAll(t)
	for _, c := range []struct{ code, site, id, want string }{
		{"the-garret", "site-the-garret", "following-home", "pass pass pass pass pass pass pass pass pass"},
		{"quill-street", "site-quill-street", "following-remote", "pass pass pass fail fail pass pass pass pass"},
		{"the-yard", "site-the-yard", "following-vpn", "pass pass fail"},
	} {
		o.Poll.Observe(t.Context(), c.site)
		steps, err := o.Poll.TryFollowing(t.Context(), o.mk, c.code, c.id)
		require.NoError(t, err)
		var got []string
		for _, s := range steps {
			got = append(got, s.State)
		}
		assert.Equal(t, c.want, strings.Join(got, " "), "%s %v", c.code, steps)
	}
	_, rest := o.says("quill.example", "remote")
	assert.False(t, slices.ContainsFunc(rest, func(r yang.Record) bool {
		return strings.HasPrefix(r.Owner, "lithos-trial") || r.Type == "TXT"
	}), "nothing of the trial is left")
	_, err := o.Poll.TryFollowing(t.Context(), o.mk, "the-yard", "following-nothing")
	refusal(t, err, actor.Missing, "has no such name")
}

// What is said of all sites in one pass is what each site's own page says.
func TestFollowingNamesOfAllSites(t *testing.T) {
	o := openAll(t)
	codes := []string{"the-garret", "quill-street", "the-yard", "the-hut"}
	for _, code := range codes {
		o.Poll.Observe(t.Context(), "site-"+code)
	}
	all, err := o.Followings(t.Context())
	require.NoError(t, err)
	require.Len(t, all, len(codes))
	for _, code := range codes {
		own := o.follows(code)
		i := slices.IndexFunc(all, func(f view.Following) bool { return f.Site == code })
		require.GreaterOrEqual(t, i, 0)
		assert.ElementsMatch(t, own.Notices, all[i].Notices, code)
		for _, f := range []*view.Following{&own, &all[i]} {
			f.Notices, f.Tracks, f.Begins = nil, nil, time.Time{} // a moment lies between the two
		}
		assert.Equal(t, own, all[i])
	}
}
