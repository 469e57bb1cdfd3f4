// Package forecast computes what a pool and a changed option will do in time:
// how many addresses a day's clients hold and how many are turned away, and how
// long it takes until all clients have learnt a change.
//
// # Pool forecast
//
// Clients arrive through a day at a rate that follows a Shape and stay for a
// while; one that leaves does not give its address back. It renews at T1, half
// its lease, so its address is held for
//
//	hold = floor(stay / T1) * T1 + lease
//
// counted from its arrival. The addresses held at t are the clients admitted in
// the last hold (for a steady rate this is Little's law, held = rate * hold).
// Returning, machines that come every day, hold one address however often they
// come. A client that arrives at t is turned away with the probability that all n
// addresses are held: Erlang's loss formula B(n, a), with the offered load a for
// which a * (1 - B(n, a)) is what is held. For a steady rate that is exact; where
// the rate changes it is an approximation that is right at both ends, nobody
// turned away from an empty pool and everybody from a full one. A day is worked
// out minute by minute after as many days like it as a hold is long.
package forecast

import (
	"math"
	"slices"
	"time"
)

// Shape is how the arrivals of a day spread over its hours, midnight first. The
// weights need not add up to anything.
type Shape struct {
	Name  string      `json:"name"`
	Hours [24]float64 `json:"hours"`
}

// Shapes are the named ones.
var Shapes = []Shape{
	{"steady", [24]float64{1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1}},
	{"office day", [24]float64{0, 0, 0, 0, 0, 0, 1, 6, 20, 16, 6, 4, 5, 8, 5, 3, 2, 1, 0, 0, 0, 0, 0, 0}},
	{"waiting room", [24]float64{0, 0, 0, 0, 0, 0, 0, 2, 14, 16, 14, 10, 5, 6, 11, 12, 9, 6, 2, 0, 0, 0, 0, 0}},
	{"evening at home", [24]float64{1, 0, 0, 0, 0, 0, 2, 4, 3, 1, 1, 1, 2, 1, 1, 3, 6, 10, 12, 12, 9, 6, 4, 2}},
	{"all at one bell", [24]float64{0, 0, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}},
}

// Demand is who comes in a day.
type Demand struct {
	PerDay    float64       // arrivals in a day, at least 0
	Returning float64       // the part of them that comes every day, 0 to 1
	Stay      time.Duration // how long one stays
	Shape     Shape
}

// Day is what a pool does through a day that is like the one before.
type Day struct {
	Leased     []float64 `json:"leased"`     // addresses held, on average, every 15 minutes from midnight
	TurnedAway float64   `json:"turnedAway"` // clients a day
	Share      float64   `json:"share"`      // of all who come, 0 to 1
	Peak       float64   `json:"peak"`       // most addresses held, on average
	PeakAt     int       `json:"peakAt"`     // minutes after midnight
	// FillsAt is from when on, in minutes after midnight, a client that comes is
	// turned away with a chance of Noticed or more; -1 when that does not happen.
	FillsAt int `json:"fillsAt"`
}

const (
	// Acceptable is the part of clients turned away that is called none.
	Acceptable = 0.001
	// Noticed is the chance of being turned away at which a pool is called full.
	Noticed = 0.01

	minutes = 24 * 60
	// maxHold is what longer holds count as: a pool that never gets an address
	// back is as full after a month as it will be.
	maxHold = 31 * 24 * time.Hour
)

// Hold is how long one client's address is held (see the package's text).
// lease is at least a second.
func Hold(stay, lease time.Duration) time.Duration {
	t1 := max(lease/2, time.Second)
	return stay/t1*t1 + lease
}

// Pool works out a day of a pool with size addresses and a lease time.
func Pool(size int, lease time.Duration, d Demand) Day {
	rate := perMinute(d)
	hold := int(min(Hold(d.Stay, lease), maxHold).Minutes() + 0.5)
	blocked := blocking(size)
	days := hold/minutes + 2
	admitted := make([]float64, days*minutes+1) // before a minute, in all
	since := func(t, length int) float64 { return admitted[t] - admitted[max(t-length, 0)] }
	day := Day{FillsAt: -1}
	for t := range days * minutes {
		held := (1-d.Returning)*since(t, hold) + d.Returning*since(t, min(hold, minutes))
		come := rate[t%minutes]
		away := 0.0
		if come > 0 {
			away = blocked(held)
		}
		admitted[t+1] = admitted[t] + come*(1-away)
		if today := t - (days-1)*minutes; today >= 0 {
			day.note(today, held, come, away)
		}
	}
	if d.PerDay > 0 {
		day.Share = day.TurnedAway / d.PerDay
	}
	return day
}

func (day *Day) note(t int, held, come, away float64) {
	if t%15 == 0 {
		day.Leased = append(day.Leased, math.Round(held*10)/10)
	}
	if held > day.Peak {
		day.Peak, day.PeakAt = held, t
	}
	if away >= Noticed && day.FillsAt < 0 {
		day.FillsAt = t
	}
	day.TurnedAway += come * away
}

// exactUpTo is the size from which chance no longer matters beside the mean:
// larger pools turn away when they are full, and not before.
const exactUpTo = 4096

// blocking is the chance of being turned away by what is held of size addresses.
func blocking(size int) func(held float64) float64 {
	if size <= 0 || size > exactUpTo {
		return func(held float64) float64 { return map[bool]float64{true: 1}[held >= float64(size)] }
	}
	// Offered loads a little closer than the square root of the size apart, up to
	// where all but a hundredth of the clients are turned away.
	var carried, lost []float64
	step := max(math.Sqrt(float64(size))/20, 0.02)
	for a := 0.0; ; a += step {
		b := Blocked(size, a)
		carried, lost = append(carried, a*(1-b)), append(lost, b)
		if step *= 1.01; b > 0.99 {
			break
		}
	}
	return func(held float64) float64 {
		i, _ := slices.BinarySearch(carried, held)
		switch {
		case i == 0:
			return 0
		case i == len(carried):
			return 1
		}
		part := (held - carried[i-1]) / (carried[i] - carried[i-1])
		return lost[i-1] + part*(lost[i]-lost[i-1])
	}
}

// perMinute spreads the arrivals over the minutes of a day.
func perMinute(d Demand) []float64 {
	total := 0.0
	for _, w := range d.Shape.Hours {
		total += max(w, 0)
	}
	rate := make([]float64, minutes)
	for t := range rate {
		if total > 0 {
			rate[t] = d.PerDay * max(d.Shape.Hours[t/60], 0) / total / 60
		}
	}
	return rate
}

// Blocked is Erlang's loss formula: the probability that n servers are all busy
// under an offered load. It is 1 for no servers and 0 for no load.
func Blocked(n int, load float64) float64 {
	if load <= 0 {
		return 0
	}
	b := 1.0
	for k := 1; k <= n; k++ {
		b = load * b / (float64(k) + load*b)
	}
	return b
}

// leases are the lease times worth choosing from, longest first.
var leases = []time.Duration{
	7 * 24 * time.Hour, 3 * 24 * time.Hour, 24 * time.Hour, 12 * time.Hour, 8 * time.Hour, 4 * time.Hour, 2 * time.Hour,
	time.Hour, 30 * time.Minute, 15 * time.Minute,
}

// LeaseThatDoes is the longest usual lease time with which hardly anybody is
// turned away; ok is false when none does.
func LeaseThatDoes(size int, d Demand) (lease time.Duration, ok bool) {
	for _, l := range leases {
		if Pool(size, l, d).Share <= Acceptable {
			return l, true
		}
	}
	return 0, false
}

// SizeThatDoes is the fewest addresses with which hardly anybody is turned away.
func SizeThatDoes(lease time.Duration, d Demand) int {
	low, high := 0, 1
	for Pool(high, lease, d).Share > Acceptable && high < 1<<20 {
		low, high = high, high*2
	}
	for low+1 < high {
		if mid := (low + high) / 2; Pool(mid, lease, d).Share > Acceptable {
			low = mid
		} else {
			high = mid
		}
	}
	return high
}

// Visit is a client's lease of one address, from when it was first seen to when it was seen last.
type Visit struct {
	Client      string // its MAC or identifier: one that comes back is the same
	First, Last time.Time
}

// Enough is how long a pool must have been read before its days say anything.
const Enough = 48 * time.Hour

// Basis is what a demand rests on.
type Basis struct {
	Clients int           // distinct ones
	Span    time.Duration // from the first visit that counts until now
}

// Observed is the demand that the visits since a moment show: how many clients a day, how many of them come on several
// days, and when. A client counts once on each day on which it is there, whatever addresses it has.
func Observed(visits []Visit, since, now time.Time, stay time.Duration, in *time.Location) (Demand, Basis) {
	d := Demand{Stay: stay, Shape: Shape{Name: "as seen"}}
	days := map[string]map[string]bool{} // by client, the days on which it is there
	first := now
	for _, v := range visits {
		if v.First.Before(since) || v.First.After(now) {
			continue
		}
		if v.First.Before(first) {
			first = v.First
		}
		there := days[v.Client]
		if there == nil {
			there = map[string]bool{}
			days[v.Client] = there
		}
		from, to := v.First.In(in), v.Last.In(in)
		if !there[from.Format(time.DateOnly)] {
			d.Shape.Hours[from.Hour()]++
		}
		for day := from; !day.After(to); day = day.AddDate(0, 0, 1) {
			there[day.Format(time.DateOnly)] = true
		}
		there[from.Format(time.DateOnly)] = true
	}
	comes, again := 0, 0
	for _, there := range days {
		if comes += len(there); len(there) > 1 {
			again += len(there)
		}
	}
	b := Basis{Clients: len(days), Span: now.Sub(first)}
	if comes > 0 {
		d.PerDay = float64(comes) / max(b.Span.Hours()/24, 1)
		d.Returning = float64(again) / float64(comes)
	}
	return d, b
}
