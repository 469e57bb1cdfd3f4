// Package dynamicnames is about names that follow a changing address: what an address is to the world, when it
// is time to tell it, and when everybody has it.
package dynamicnames

import (
	"fmt"
	"net/netip"
	"time"
)

// Reach is what an address is to the world.
type Reach string

// The kinds of addresses that a line may have.
const (
	Public        Reach = "public"
	Private       Reach = "private"       // RFC 1918, RFC 4193
	Shared        Reach = "shared"        // RFC 6598: behind the provider's translation
	Documentation Reach = "documentation" // RFC 5737, RFC 3849
	Local         Reach = "local"         // of one link, or of the machine itself
)

var ranges = []struct {
	reach    Reach
	prefixes []netip.Prefix
}{
	{Shared, prefixes("100.64.0.0/10")},
	{Documentation, prefixes("192.0.2.0/24", "198.51.100.0/24", "203.0.113.0/24", "2001:db8::/32")},
	{Local, prefixes("0.0.0.0/8", "127.0.0.0/8", "169.254.0.0/16", "224.0.0.0/3", "::/127", "fe80::/10", "ff00::/8")},
}

func prefixes(list ...string) []netip.Prefix {
	var out []netip.Prefix
	for _, s := range list {
		out = append(out, netip.MustParsePrefix(s))
	}
	return out
}

// ReachOf says what an address is to the world; Local for one that is invalid.
func ReachOf(a netip.Addr) Reach {
	switch a = a.Unmap(); {
	case !a.IsValid():
		return Local
	case a.IsPrivate():
		return Private
	}
	for _, r := range ranges {
		for _, p := range r.prefixes {
			if p.Contains(a) {
				return r.reach
			}
		}
	}
	return Public
}

// Says is why nobody reaches an address from outside; empty for a public one.
func (r Reach) Says() string {
	return map[Reach]string{
		Private:       "It is a private address (RFC 1918): nobody outside reaches it.",
		Shared:        "The provider shares one address among many lines (RFC 6598): nobody outside reaches this one.",
		Documentation: "It is an address of documents (RFC 5737), which no line has.",
		Local:         "It means something on one link alone.",
	}[r]
}

// Timing is how a name follows its address. The zero value of each is its usual one.
type Timing struct {
	TTL      time.Duration // how long others keep what they were told; 2 minutes
	Interval time.Duration // between two looks at the address; 5 minutes
	Least    time.Duration // between two updates; 1 minute
	Negative time.Duration // how long others remember that the name was not there; 5 minutes
}

// Usual fills in what is not said.
func (t Timing) Usual() Timing {
	for _, f := range []struct {
		of    *time.Duration
		usual time.Duration
	}{{&t.TTL, 2 * time.Minute}, {&t.Interval, 5 * time.Minute}, {&t.Least, time.Minute},
		{&t.Negative, 5 * time.Minute}} {
		if *f.of == 0 {
			*f.of = f.usual
		}
	}
	return t
}

// Everybody is how long after a line has changed its address the last resolver has the new one, where each
// update is taken at once: the change is seen at the next look, told when the least time since the last
// update has passed, and kept by others as long as they were told. fresh is a name that was not there
// before: then others remember that instead.
func (t Timing) Everybody(fresh bool) time.Duration { return t.Usual().Interval + t.OnceSeen(fresh) }

// OnceSeen is the part of Everybody from when the change was seen.
func (t Timing) OnceSeen(fresh bool) time.Duration {
	t = t.Usual()
	if fresh {
		return t.Least + t.Negative
	}
	return t.Least + t.TTL
}

// ProposedTTL is how long others may keep a name whose line changes its address so often: an hour of being
// wrong a year is what it may cost, between 1 minute and 1 hour. changes is how many there were in the time.
func ProposedTTL(changes int, in time.Duration) time.Duration {
	const wrongAYear = time.Hour
	if changes == 0 || in <= 0 {
		return time.Hour
	}
	year := 365 * 24 * time.Hour
	each := time.Duration(float64(wrongAYear) * float64(in) / float64(year) / float64(changes))
	return min(max(each.Round(time.Minute), time.Minute), time.Hour)
}

// LastUpdate is what was last told of a name, and with what outcome.
type LastUpdate struct {
	Address netip.Addr
	At      time.Time
	Taken   bool
	Tries   int // in a row that were not taken
}

// Step is what to do for a name now.
type Step struct {
	Send bool
	// Wait is until when nothing is to be done; zero for the next look.
	Wait time.Time
	Says string
}

// longest is the longest that is waited after an update was not taken.
const longest = time.Hour

// Next is what to do where a line has an address: told once and no more, not more often than the least time
// between updates, and ever less often while it is not taken.
func (t Timing) Next(now time.Time, told LastUpdate, line netip.Addr) Step {
	t = t.Usual()
	if !line.IsValid() {
		return Step{Says: "The line has no address"}
	}
	if told.Taken && told.Address == line {
		return Step{Says: "Nothing has changed"}
	}
	wait := t.Least
	for range min(told.Tries, 16) {
		wait = min(2*wait, longest)
	}
	if next := told.At.Add(wait); !told.At.IsZero() && now.Before(next) {
		return Step{Wait: next, Says: fmt.Sprintf("The last update was %s ago", now.Sub(told.At).Round(time.Second))}
	}
	return Step{Send: true, Says: "The line has another address than was told"}
}
