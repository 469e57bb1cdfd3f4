package dynamicnames

import (
	"net/netip"
	"slices"
	"time"
)

// Limits are what a key may do. Of each, nothing said is no limit.
type Limits struct {
	Names      []string       `json:"names,omitempty" maxItems:"50" doc:"whole names that it may write, with those below where a name begins with *."`
	Types      []string       `json:"types,omitempty" maxItems:"10" doc:"of records that it may write"`
	UpdateOnly bool           `json:"updateOnly,omitempty" doc:"it may neither read the zone nor take a name away"`
	From       []netip.Prefix `json:"from,omitempty" maxItems:"20" doc:"where it may come from"`
	Ends       time.Time      `json:"ends,omitzero" doc:"from when it is not taken any more"`
}

// Key is a key as its provider has it; the key itself is not here.
type Key struct {
	Limits
	Name  string    `json:"name"`
	Reads bool      `json:"reads,omitempty" doc:"it may read the zone whole (AXFR)"`
	Made  time.Time `json:"made,omitzero"`
	Uses  int       `json:"uses" doc:"how often it was taken"`
	Used  time.Time `json:"used,omitzero" doc:"when last"`
}

// Wider reports whether a key may do more than write addresses of a name, and of those below it where they follow,
// too.
func (k Key) Wider(name string, wildcard bool) bool {
	other := slices.ContainsFunc(k.Names, func(own string) bool {
		return own != name && (!wildcard || own != "*."+name)
	})
	types := slices.ContainsFunc(k.Types, func(t string) bool { return t != "A" && t != "AAAA" })
	return k.Reads || len(k.Names) == 0 || len(k.Types) == 0 || other || types
}

// KeyEndsSoon is how long before its end a key is about to end.
const KeyEndsSoon = 14 * 24 * time.Hour

// Ending reports whether a key has ended or is about to.
func (k Key) Ending(now time.Time) bool { return !k.Ends.IsZero() && k.Ends.Sub(now) < KeyEndsSoon }

// NeverUsedFor is how old a key is that nobody has used before that is worth a look.
const NeverUsedFor = 24 * time.Hour

// Unused reports whether a key was never used although it had the time.
func (k Key) Unused(now time.Time) bool {
	return k.Uses == 0 && !k.Made.IsZero() && now.Sub(k.Made) >= NeverUsedFor
}

// Set is the records of a name and type with who writes them.
type Set struct {
	Name   string    `json:"name" doc:"whole"`
	Type   string    `json:"type"`
	Data   []string  `json:"data"`
	Origin string    `json:"origin" enum:"hand,following" doc:"by whom it is written"`
	Key    string    `json:"key,omitempty" doc:"of one that follows: the key that wrote it last"`
	At     time.Time `json:"at,omitzero" doc:"of one that follows: when"`
}

// Line is the addresses that a line has; an invalid one is none.
type Line struct{ IPv4, IPv6 netip.Addr }

// With is the line with an address of either family in the place of the one it had.
func (l Line) With(a netip.Addr) Line {
	if a = a.Unmap(); a.Is4() {
		l.IPv4 = a
	} else {
		l.IPv6 = a
	}
	return l
}

// Of is the address for a type of record.
func (l Line) Of(typ string) netip.Addr {
	if typ == "AAAA" {
		return l.IPv6
	}
	return l.IPv4
}
