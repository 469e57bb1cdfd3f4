package dynamicnames_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"lithos/core/dynamicnames"
)

// A key is as narrow as can be that writes the addresses of one name, and of those below it where they follow.
func TestWider(t *testing.T) {
	narrow := dynamicnames.Limits{Names: []string{"home.garret.example"}, Types: []string{"A", "AAAA"}}
	for what, c := range map[string]struct {
		change   func(*dynamicnames.Key)
		wildcard bool
		wider    bool
	}{
		"as it should be": {func(*dynamicnames.Key) {}, false, false},
		"with the names below": {func(k *dynamicnames.Key) {
			k.Names = append(k.Names,
				"*.home.garret.example")
		}, true, false},
		"which do not follow": {func(k *dynamicnames.Key) {
			k.Names = append(k.Names,
				"*.home.garret.example")
		}, false, true},
		"another name":            {func(k *dynamicnames.Key) { k.Names = []string{"www.garret.example"} }, true, true},
		"any name":                {func(k *dynamicnames.Key) { k.Names = nil }, false, true},
		"one type":                {func(k *dynamicnames.Key) { k.Types = []string{"A"} }, false, false},
		"another type":            {func(k *dynamicnames.Key) { k.Types = []string{"A", "TXT"} }, false, true},
		"any type":                {func(k *dynamicnames.Key) { k.Types = nil }, false, true},
		"it reads the whole zone": {func(k *dynamicnames.Key) { k.Reads = true }, false, true},
	} {
		k := dynamicnames.Key{Limits: narrow}
		c.change(&k)
		assert.Equal(t, c.wider, k.Wider("home.garret.example", c.wildcard), what)
	}
}

func TestKeyEndsAndIsUnused(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	day := 24 * time.Hour
	for in, ending := range map[time.Duration]bool{-day: true, 14*day - 1: true, 14 * day: false, 15 * day: false} {
		k := dynamicnames.Key{Limits: dynamicnames.Limits{Ends: now.Add(in)}}
		assert.Equal(t, ending, k.Ending(now), in)
	}
	assert.False(t, dynamicnames.Key{}.Ending(now), "one without an end")
	for age, unused := range map[time.Duration]bool{day - 1: false, day: true, 2 * day: true} {
		assert.Equal(t, unused, dynamicnames.Key{Made: now.Add(-age)}.Unused(now), age)
	}
	assert.False(t, dynamicnames.Key{Made: now.Add(-2 * day), Uses: 1}.Unused(now))
	assert.False(t, dynamicnames.Key{}.Unused(now), "nobody knows when it was made")
}

// A line keeps an address of each family, and gives each type of record its own.
func TestLine(t *testing.T) {
	four, six := netip.MustParseAddr("198.51.100.7"), netip.MustParseAddr("2001:db8::7")
	l := dynamicnames.Line{}.With(six).With(netip.MustParseAddr("::ffff:198.51.100.7"))
	assert.Equal(t, dynamicnames.Line{IPv4: four, IPv6: six}, l)
	assert.Equal(t, four, l.Of("A"))
	assert.Equal(t, six, l.Of("AAAA"))
}

// A name that was not there before is told as soon, and found when those who asked too early ask again.
func TestOnceSeen(t *testing.T) {
	timing := dynamicnames.Timing{Interval: 300 * time.Second, Least: 60 * time.Second, TTL: 120 * time.Second,
		Negative: 600 * time.Second}
	assert.Equal(t, 180*time.Second, timing.OnceSeen(false))
	assert.Equal(t, 660*time.Second, timing.OnceSeen(true))
	assert.Equal(t, 960*time.Second, timing.Everybody(true))
	assert.Equal(t, 6*time.Minute, dynamicnames.Timing{}.OnceSeen(true), "the usual ones")
	assert.Equal(t, time.Hour, dynamicnames.ProposedTTL(3, 0), "nothing is known of no time")
}
