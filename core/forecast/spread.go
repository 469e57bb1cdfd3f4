package forecast

import (
	"slices"
	"time"
)

// # Propagation
//
// A client learns a changed option when it renews, at T1 after its lease was
// granted or last extended; one that misses that at the latest when its lease
// ends. Clients whose leases are known have each their own time. Of clients one
// knows nothing of, all moments since their last renewal are equally likely, so
// the part that has learnt after t is t/T1.

// Holder is a lease as far as it matters here.
type Holder struct {
	Granted time.Time // or last extended
	Lease   time.Duration
	T1      time.Duration // half the lease when zero
}

// Spread is how a change reaches clients.
type Spread struct {
	Clients int           `json:"clients"` // 0 when computed for any number of them
	Half    time.Duration `json:"half"`    // until half have learnt
	Most    time.Duration `json:"most"`    // until 95 in 100 have
	All     time.Duration `json:"all"`     // until every client that renews on time has
	Last    time.Duration `json:"last"`    // until one that misses its renewal must have
	// Curve is the part that has learnt, 0 to 1, at 0, 1/40, 2/40 ... of All.
	Curve []float64 `json:"curve"`
}

const samples = 40

// Learn is the spread of a change made at now among known leases. Those that
// have ended by then count as learnt: their clients start over.
func Learn(now time.Time, holders []Holder) Spread {
	s := Spread{Clients: len(holders)}
	var waits []time.Duration
	for _, h := range holders {
		t1 := h.T1
		if t1 <= 0 {
			t1 = h.Lease / 2
		}
		end := h.Granted.Add(h.Lease).Sub(now)
		wait := h.Granted.Add(t1).Sub(now)
		if wait < 0 { // the renewal is overdue: it is tried until the lease ends
			wait = max(end, 0)
		}
		waits = append(waits, wait)
		s.Last = max(s.Last, max(end, 0))
	}
	slices.Sort(waits)
	if len(waits) == 0 {
		s.Curve = make([]float64, samples+1)
		for i := range s.Curve {
			s.Curve[i] = 1
		}
		return s
	}
	at := func(part float64) time.Duration { return waits[max(0, int(part*float64(len(waits))+0.999999)-1)] }
	s.Half, s.Most, s.All = at(0.5), at(0.95), waits[len(waits)-1]
	for i := range samples + 1 {
		t := s.All * time.Duration(i) / samples
		n, _ := slices.BinarySearch(waits, t+1)
		s.Curve = append(s.Curve, float64(n)/float64(len(waits)))
	}
	return s
}

// LearnAny is the spread among any number of clients of which only the lease
// time and T1 are known.
func LearnAny(lease, t1 time.Duration) Spread {
	if t1 <= 0 {
		t1 = lease / 2
	}
	s := Spread{Half: t1 / 2, Most: t1 * 95 / 100, All: t1, Last: lease}
	for i := range samples + 1 {
		s.Curve = append(s.Curve, float64(i)/samples)
	}
	return s
}

// Ahead is what to do before a change that all clients should learn within a
// target: the lease time to set, and how long beforehand. Set then, every client
// that renews on time has the short lease when the change is made, and learns
// of it within the target; those that sleep through it do by their old lease's
// end, which Sleepers is.
type Ahead struct {
	Lease    time.Duration `json:"lease"`
	Before   time.Duration `json:"before"`
	Sleepers time.Duration `json:"sleepers"`
	Needed   bool          `json:"needed"` // false when the lease time is short enough already
}

// Prepare works out Ahead for clients with a lease time and T1 (half of it when
// zero) and a target of at least a second.
func Prepare(target, lease, t1 time.Duration) Ahead {
	if t1 <= 0 {
		t1 = lease / 2
	}
	if t1 <= target {
		return Ahead{Lease: lease}
	}
	return Ahead{Lease: 2 * target, Before: t1, Sleepers: lease, Needed: true}
}
