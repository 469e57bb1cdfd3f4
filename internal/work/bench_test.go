package work_test

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lithos/core/compile"
	"lithos/core/plan"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/draft"
	"lithos/internal/order"
	"lithos/internal/standin"
)

// A push of about twenty steps over three devices, from its first reading to its landing, without the ladder and the
// wait for a worker, against the bare requests it sends.
func BenchmarkPush(b *testing.B) { benchPush(b, 0) }

// The same over lines on which an answer takes 10 ms, as to a site in the next town.
func BenchmarkPushOverLines(b *testing.B) { benchPush(b, 10*time.Millisecond) }

func benchPush(b *testing.B, line time.Duration) {
	o := open(b)
	for _, name := range moss {
		o.devices.ByID[name].Inject(standin.Faults{Slow: line})
	}
	run(b, o.Service)
	var pushing, bare time.Duration
	steps, turns := 0, 0
	for b.Loop() {
		id := o.flips(turns)
		before, err := o.Drafts.Draft(b.Context(), id)
		require.NoError(b, err)
		for i := range 16 {
			o.edit(id, draftReservation(before.Doc(), turns, i))
		}
		d, err := o.Drafts.Draft(b.Context(), id)
		require.NoError(b, err)
		held := o.held()
		require.NoError(b, o.pushAll(o.Service, id))
		v := o.waitPush(o.Service, id)
		require.Equal(b, "landed", v.Push.State, v.Push.Problem)
		j := v.Push.Journal
		took := v.Push.Finished.Sub(j[0].At)
		for i, l := range j {
			if l.Stage == "ladder" {
				took -= j[i+1].At.Sub(l.At)
			}
			if l.Stage == "step" {
				steps++
			}
		}
		pushing += took
		bare += o.bare(d, held, fmt.Sprint("bare-", turns))
		turns++
	}
	b.ReportMetric(float64(steps)/float64(turns), "steps")
	b.ReportMetric(float64(pushing.Milliseconds())/float64(turns), "ms-push")
	b.ReportMetric(float64(pushing)/float64(bare), "x-requests")
}

// draftReservation adds a reservation in the first turn, and gives it another name in those that follow.
func draftReservation(s *site.Site, turn, i int) draft.Change {
	name, at := fmt.Sprintf("pc-%d-%d", turn, i), netip.AddrFrom4([4]byte{10, 84, 50, byte(200 + i)})
	for _, r := range s.Reservations {
		if r.Address == at {
			return entry("reservation", r.ID, "name", name)
		}
	}
	return entry("reservation", "", "network", "net-moss-ward", "name", name, "address", at.String(), "mac",
		fmt.Sprintf("00:00:5e:00:a0:%02x", i))
}

// bare is how long the requests of a push take on their own: the same are sent again to devices that hold what they
// held before.
func (o *office) bare(d *order.Draft, before map[string]yang.Config, token string) time.Duration {
	o.t.Helper()
	ctx := o.t.Context()
	rows, err := o.Store.Access(ctx, d.Order.SiteID)
	require.NoError(o.t, err)
	var spent time.Duration
	for _, name := range moss {
		require.NoError(o.t, o.devices.ByID[name].Set(before[name]))
		driver, err := o.Accounts.Reach(*order.On(rows, name))
		require.NoError(o.t, err)
		steps := plan.Between(before[name], compile.Device(d.Doc(), name))
		began := time.Now()
		_, tag, err := driver.Read(ctx)
		require.NoError(o.t, err)
		_, err = driver.Startup(ctx)
		require.NoError(o.t, err)
		require.NoError(o.t, driver.Begin(ctx, token, time.Minute, tag))
		for _, s := range steps {
			require.NoError(o.t, driver.Apply(ctx, s))
		}
		_, _, err = driver.Read(ctx)
		require.NoError(o.t, err)
		_, err = driver.Change(ctx, token)
		require.NoError(o.t, err)
		require.NoError(o.t, driver.Confirm(ctx, token))
		spent += time.Since(began)
		driver.Close()
	}
	return spent
}
