package dynamicnames_test

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"lithos/core/dynamicnames"
)

func TestReachOf(t *testing.T) {
	for want, addresses := range map[dynamicnames.Reach]string{
		dynamicnames.Private:       "192.168.60.4 10.84.16.1 172.31.255.255 fd00::1",
		dynamicnames.Public:        "172.32.0.0 100.128.0.0 2606::1",
		dynamicnames.Shared:        "100.64.0.0 100.127.255.255 ::ffff:100.64.0.1",
		dynamicnames.Documentation: "203.0.113.7 2001:db8::1",
		dynamicnames.Local:         "127.0.0.1 169.254.3.4 224.0.0.1 255.255.255.255 fe80::1 ::1",
	} {
		for address := range strings.FieldsSeq(addresses) {
			got := dynamicnames.ReachOf(netip.MustParseAddr(address))
			assert.Equal(t, want, got, address)
			assert.Equal(t, want == dynamicnames.Public, got.Says() == "", address)
		}
	}
	assert.Equal(t, dynamicnames.Local, dynamicnames.ReachOf(netip.Addr{}))
}

// A line that changes whenever it likes is followed within the time that is said, however the looks fall, and
// never told more often than the least time allows.
func TestEverybodyHasItInTime(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		seconds := func(label string, most int) time.Duration {
			return time.Duration(rapid.IntRange(1, most).Draw(t, label)) * time.Second
		}
		timing := dynamicnames.Timing{TTL: seconds("ttl", 600), Interval: seconds("interval", 600),
			Least: seconds("least", 300)}
		start := time.Unix(1_000_000, 0)
		line := func(at time.Time) (netip.Addr, time.Time) {
			since, n := start, byte(1)
			for _, s := range []time.Duration{700, 2000, 2300, 5000} {
				if change := start.Add(s * time.Second); !at.Before(change) {
					since, n = change, n+1
				}
			}
			return netip.AddrFrom4([4]byte{198, 51, 100, n}), since
		}
		var told dynamicnames.LastUpdate
		kept, keptUntil := netip.Addr{}, start // what the last resolver holds, which asks again when it may
		looks := start
		for now := start; now.Before(start.Add(8000 * time.Second)); now = now.Add(time.Second) {
			address, since := line(now)
			if !now.Before(looks) {
				looks = now.Add(timing.Interval)
				step := timing.Next(now, told, address)
				if step.Send {
					if !told.At.IsZero() && now.Sub(told.At) < timing.Least {
						t.Fatalf("told again after %s", now.Sub(told.At))
					}
					told = dynamicnames.LastUpdate{Address: address, At: now, Taken: true}
				} else if !step.Wait.IsZero() && step.Wait.Before(looks) {
					looks = step.Wait
				}
			}
			if !now.Before(keptUntil) {
				kept, keptUntil = told.Address, now.Add(timing.TTL)
			}
			if now.Sub(since) > timing.Everybody(false)+2*time.Second && kept != address {
				t.Fatalf("%s after the change the last resolver still has %s", now.Sub(since), kept)
			}
		}
	})
}

func TestNext(t *testing.T) {
	now := time.Unix(1_000_000, 0)
	one, two := netip.MustParseAddr("198.51.100.1"), netip.MustParseAddr("198.51.100.2")
	timing := dynamicnames.Timing{Least: time.Minute}
	for _, c := range []struct {
		what string
		told dynamicnames.LastUpdate
		line netip.Addr
		send bool
		wait time.Duration
	}{
		{"never told", dynamicnames.LastUpdate{}, one, true, 0},
		{"told already", dynamicnames.LastUpdate{Address: one, At: now.Add(-time.Hour), Taken: true}, one, false, 0},
		{"told long ago", dynamicnames.LastUpdate{Address: one, At: now.Add(-time.Hour), Taken: true}, two, true, 0},
		{"told just now", dynamicnames.LastUpdate{Address: one, At: now.Add(-time.Second), Taken: true}, two, false,
			59 * time.Second},
		{"not taken", dynamicnames.LastUpdate{Address: one, At: now.Add(-time.Minute), Tries: 1}, one, false,
			time.Minute},
		{"not taken for long", dynamicnames.LastUpdate{Address: one, At: now.Add(-time.Minute), Tries: 99}, one, false,
			59 * time.Minute},
		{"no address", dynamicnames.LastUpdate{}, netip.Addr{}, false, 0},
	} {
		s := timing.Next(now, c.told, c.line)
		assert.Equal(t, c.send, s.Send, c.what)
		if c.wait > 0 {
			assert.Equal(t, c.wait, s.Wait.Sub(now), c.what)
		}
		assert.NotEmpty(t, s.Says, c.what)
	}
}

func TestProposedTTL(t *testing.T) {
	month := 30 * 24 * time.Hour
	assert.Equal(t, time.Hour, dynamicnames.ProposedTTL(0, month), "a line that has never changed")
	assert.Equal(t, time.Minute, dynamicnames.ProposedTTL(30, month), "one that changes daily")
	assert.Equal(t, 5*time.Minute, dynamicnames.ProposedTTL(1, month), "one that changes monthly")
}
