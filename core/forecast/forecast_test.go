package forecast

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

var steady = Shapes[0]

func TestHoldRenewsAtT1(t *testing.T) {
	cases := []struct{ stay, lease, hold time.Duration }{
		{10 * time.Minute, 2 * time.Hour, 2 * time.Hour},    // gone before T1
		{time.Hour, 2 * time.Hour, 3 * time.Hour},           // renews once, just before it goes
		{150 * time.Minute, 2 * time.Hour, 4 * time.Hour},   // twice
		{8 * time.Hour, 24 * time.Hour, 24 * time.Hour},     // a day's lease outlasts a shift
		{0, time.Hour, time.Hour},                           // looks in and goes
		{time.Hour, time.Second, time.Hour + 1*time.Second}, // renews all the time
	}
	for _, c := range cases {
		assert.Equal(t, c.hold, Hold(c.stay, c.lease), "%v of %v", c.stay, c.lease)
	}
}

// Little's law: with a steady rate the mean number held is rate times hold.
func TestLittlesLaw(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		perDay := rapid.Float64Range(1, 500).Draw(t, "per day")
		lease := time.Duration(rapid.IntRange(15, 3*24*60).Draw(t, "lease")) * time.Minute // in whole minutes, the step
		d := Demand{PerDay: perDay, Stay: 10 * time.Minute, Shape: steady}
		day := Pool(4000, lease, d)
		want := perDay / (24 * 60) * Hold(d.Stay, lease).Minutes()
		// a hold counts in whole minutes
		if tolerance := perDay/(24*60)/2 + 1e-6; day.Peak > want+tolerance || day.Peak < want-tolerance {
			t.Fatalf("held %v, want %v", day.Peak, want)
		}
	})
}

// Erlang's formula has tabled values: 5 servers and 3 erlangs lose 11.0 %, 10
// and 5 lose 1.8 %, 1 and 1 one half.
func TestBlockedHasErlangsValues(t *testing.T) {
	assert.InDelta(t, 0.1101, Blocked(5, 3), 0.0001)
	assert.InDelta(t, 0.0184, Blocked(10, 5), 0.0001)
	assert.InDelta(t, 0.5, Blocked(1, 1), 1e-12)
	assert.Equal(t, 1.0, Blocked(0, 2))
	assert.Zero(t, Blocked(4, 0))
	assert.InDelta(t, 0.9, Blocked(100, 1000), 0.01, "far too many: all but one in ten are turned away")
}

// A steady day turns away exactly the part that Erlang's formula says.
func TestSteadyDayLosesWhatErlangSays(t *testing.T) {
	d := Demand{PerDay: 72, Stay: 5 * time.Minute, Shape: steady} // 3 an hour, held an hour: 3 erlangs
	day := Pool(5, time.Hour, d)
	assert.InDelta(t, 3*(1-0.1101), day.Peak, 0.01, "what is carried")
	assert.InDelta(t, 0.1101, day.Share, 0.001)
	assert.InDelta(t, 72*0.1101, day.TurnedAway, 0.1)
	assert.Equal(t, 0, day.FillsAt, "one in nine is turned away at any time")
	assert.Equal(t, -1, Pool(12, time.Hour, d).FillsAt)
}

func TestRegularsHoldOneAddress(t *testing.T) {
	strangers := Demand{PerDay: 30, Stay: time.Hour, Shape: steady}
	returning := strangers
	returning.Returning = 1
	week := 7 * 24 * time.Hour
	assert.InDelta(t, 210, Pool(1000, week, strangers).Peak, 1e-6)
	assert.InDelta(t, 30, Pool(1000, week, returning).Peak, 1e-6)
}

func TestABellFillsAPool(t *testing.T) {
	d := Demand{PerDay: 60, Stay: 30 * time.Minute, Shape: Shapes[4]}
	day := Pool(30, 8*time.Hour, d)
	assert.InDelta(t, 9*60+25, day.FillsAt, 6, "60 come between 9 and 10, one a minute, and there are 30 addresses")
	assert.LessOrEqual(t, day.Peak, 30.0)
	assert.InDelta(t, 30, day.TurnedAway, 2)
	assert.Less(t, Pool(100, 8*time.Hour, d).TurnedAway, 0.1)
}

// What is proposed does, and a step less would not.
func TestWhatDoesDoes(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		d := Demand{PerDay: float64(rapid.IntRange(1, 300).Draw(t, "per day")),
			Stay:  time.Duration(rapid.IntRange(1, 600).Draw(t, "stay")) * time.Minute,
			Shape: rapid.SampledFrom(Shapes).Draw(t, "shape")}
		lease := rapid.SampledFrom(leases).Draw(t, "lease")
		size := SizeThatDoes(lease, d)
		if Pool(size, lease, d).Share > Acceptable {
			t.Fatalf("%d addresses do not do", size)
		}
		if size > 1 && Pool(size-1, lease, d).Share <= Acceptable {
			t.Fatalf("%d addresses would do", size-1)
		}
		if l, ok := LeaseThatDoes(size, d); !ok || l < lease {
			t.Fatalf("with %d addresses a lease of %v does, and %v was proposed", size, lease, l)
		}
	})
}

// Clients that come back are the same: ten who come on each of three days are ten, all returning, and thirty who
// come once each are thirty. One whose lease is renewed from day to day is there on each of them.
func Test46ClientsThatComeBackAreTheSame(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	visits := func(client func(day, i int) string) (out []Visit) {
		for day := range 3 {
			for i := range 10 {
				at := now.AddDate(0, 0, -day).Add(-12 * time.Hour)
				out = append(out, Visit{Client: client(day, i), First: at, Last: at.Add(time.Hour)})
			}
		}
		return append(out, Visit{Client: "of old", First: now.AddDate(0, 0, -30), Last: now})
	}
	week := now.AddDate(0, 0, -7)
	d, b := Observed(visits(func(_, i int) string { return fmt.Sprint(i) }), week, now, time.Hour, time.UTC)
	assert.Equal(t, 10, b.Clients)
	assert.InDelta(t, 1, d.Returning, 1e-9)
	assert.InDelta(t, 12, d.PerDay, 1e-9)
	assert.Equal(t, 60*time.Hour, b.Span)
	assert.Equal(t, 30.0, d.Shape.Hours[0])
	d, b = Observed(visits(func(day, i int) string { return fmt.Sprint(day, i) }), week, now, time.Hour, time.UTC)
	assert.Equal(t, 30, b.Clients)
	assert.Zero(t, d.Returning)
	assert.InDelta(t, 12, d.PerDay, 1e-9)
	d, b = Observed([]Visit{{"always on", now.Add(-60 * time.Hour), now}}, week, now, time.Hour, time.UTC)
	assert.Equal(t, 1, b.Clients)
	assert.InDelta(t, 1, d.Returning, 1e-9)
	assert.InDelta(t, 1.2, d.PerDay, 1e-9, "three days of two and a half")
	_, b = Observed(nil, week, now, time.Hour, time.UTC)
	assert.Zero(t, b.Clients+int(b.Span))
}

// With leases granted evenly over T1, the part that has learnt grows evenly
// until T1: half at T1/2, all at T1.
func TestRenewalsSpreadEvenlyOverT1(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	lease := 8 * time.Hour
	var holders []Holder
	for i := range 240 {
		holders = append(holders, Holder{Granted: now.Add(-time.Duration(i) * time.Minute), Lease: lease})
	}
	s := Learn(now, holders)
	any := LearnAny(lease, 0)
	assert.InDelta(t, any.Half.Minutes(), s.Half.Minutes(), 2)
	assert.InDelta(t, any.Most.Minutes(), s.Most.Minutes(), 2)
	assert.Equal(t, 4*time.Hour, s.All)
	assert.Equal(t, 4*time.Hour, any.All)
	assert.Equal(t, lease, s.Last)
	for i := range s.Curve {
		assert.InDelta(t, any.Curve[i], s.Curve[i], 0.01)
	}
}

func TestSleepersLearnWhenTheirLeaseEnds(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	s := Learn(now, []Holder{{Granted: now.Add(-5 * time.Hour), Lease: 8 * time.Hour},
		{Granted: now.Add(-20 * time.Hour), Lease: 8 * time.Hour}})
	assert.Equal(t, 3*time.Hour, s.All, "its renewal was due an hour ago")
	assert.Equal(t, time.Duration(0), s.Half, "the other ended and starts over")
	assert.Equal(t, 1.0, Learn(now, nil).Curve[0])
}

func TestPrepare(t *testing.T) {
	assert.Equal(t, Ahead{Lease: 30 * time.Minute, Before: 12 * time.Hour, Sleepers: 24 * time.Hour, Needed: true},
		Prepare(15*time.Minute, 24*time.Hour, 0))
	assert.False(t, Prepare(15*time.Minute, 20*time.Minute, 0).Needed)
	after := Prepare(15*time.Minute, 24*time.Hour, 0)
	assert.LessOrEqual(t, LearnAny(after.Lease, 0).All, 15*time.Minute, "then it takes no longer than wanted")
}
