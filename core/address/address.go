// Package address is the arithmetic of IPv4 addresses that Lithos rests on:
// ranges, what is free in a block, the next free prefix or address, and the
// reading of addresses, ranges, prefixes and MACs as people write them.
//
// Every function is total: a zero or invalid argument gives a zero result or an
// error, never a panic. Only IPv4 is handled; other addresses are refused when
// they are read.
package address

import (
	"encoding/binary"
	"net/netip"
	"strings"

	"go4.org/netipx"
)

// Range is an inclusive run of IPv4 addresses, From at or below To.
type Range struct {
	From netip.Addr `json:"from" doc:"first address"`
	To   netip.Addr `json:"to" doc:"last address, at or above the first"`
}

// Single is the range that holds only a.
func Single(a netip.Addr) Range { return Range{a, a} }

// Of is the range of every address of p, network and broadcast address included.
func Of(p netip.Prefix) Range {
	r := netipx.RangeOfPrefix(p)
	return Range{r.From(), r.To()}
}

// IsValid reports whether both ends are IPv4 addresses in order.
func (r Range) IsValid() bool {
	return r.From.Is4() && r.ip().IsValid()
}

// ip is the range for netipx, which does the arithmetic.
func (r Range) ip() netipx.IPRange { return netipx.IPRangeFrom(r.From, r.To) }

// Size is the number of addresses, 0 for an invalid range.
func (r Range) Size() int {
	if !r.IsValid() {
		return 0
	}
	return int(Uint(r.To)) - int(Uint(r.From)) + 1
}

// Contains reports whether a lies in r; nothing lies in an invalid range.
func (r Range) Contains(a netip.Addr) bool { return r.IsValid() && r.ip().Contains(a) }

// Covers reports whether all of o lies in r; false where either is invalid.
func (r Range) Covers(o Range) bool { return o.IsValid() && r.Contains(o.From) && r.Contains(o.To) }

// Overlaps reports whether r and o share an address; false where either is invalid.
func (r Range) Overlaps(o Range) bool { return r.IsValid() && r.ip().Overlaps(o.ip()) }

// Intersect is the part of r inside o; ok is false when there is none.
func (r Range) Intersect(o Range) (part Range, ok bool) {
	if !r.Overlaps(o) {
		return Range{}, false
	}
	part = r
	if part.From.Less(o.From) {
		part.From = o.From
	}
	if o.To.Less(part.To) {
		part.To = o.To
	}
	return part, true
}

// String writes the range in full, a single address on its own.
func (r Range) String() string {
	if r.From == r.To {
		return r.From.String()
	}
	return r.From.String() + " - " + r.To.String()
}

// Short writes the range for a reader who knows the network: only the octets
// that differ from it, each end with a leading dot (".18.96 – .19.159").
func (r Range) Short(within netip.Prefix) string {
	from, to := Short(r.From, within), Short(r.To, within)
	if r.From == r.To {
		return from
	}
	return from + " – " + to
}

// Short writes a with only the octets that differ inside within.
func Short(a netip.Addr, within netip.Prefix) string {
	if !within.IsValid() || !within.Contains(a) || within.Bits() < 8 {
		return a.String()
	}
	octets := strings.Split(a.String(), ".")
	return "." + strings.Join(octets[within.Bits()/8:min(4, len(octets))], ".")
}

// Uint is the IPv4 address as a number, 0 for any other.
func Uint(a netip.Addr) uint32 {
	if !a.Is4() {
		return 0
	}
	b := a.As4()
	return binary.BigEndian.Uint32(b[:])
}

// FromUint is the IPv4 address of a number.
func FromUint(n uint32) netip.Addr {
	var b [4]byte
	binary.BigEndian.PutUint32(b[:], n)
	return netip.AddrFrom4(b)
}

// Offset is the distance of a from the first address of p; negative below it.
func Offset(p netip.Prefix, a netip.Addr) int {
	return int(Uint(a)) - int(Uint(p.Masked().Addr()))
}

// Mask is the dotted mask of a prefix length (26 gives 255.255.255.192); 0.0.0.0 for a length outside of 1 to 32.
func Mask(bits int) netip.Addr {
	if bits > 32 {
		return netip.IPv4Unspecified()
	}
	return FromUint(^uint32(0) << (32 - bits)) // 32 and more shift all of it out
}

// Usable is the range of addresses a host on p may hold. On /31 (RFC 3021) and
// /32 that is every address; otherwise all but the network and broadcast
// addresses (RFC 1122 section 3.2.1.3).
func Usable(p netip.Prefix) Range {
	all := Of(p.Masked())
	if !p.IsValid() || p.Bits() >= 31 {
		return all
	}
	return Range{all.From.Next(), all.To.Prev()}
}

// Ranges cuts remove out of keep and returns what is left, in order, merged.
func Ranges(keep, remove []Range) []Range {
	var b netipx.IPSetBuilder
	for _, r := range keep {
		if r.IsValid() {
			b.AddRange(r.ip())
		}
	}
	for _, r := range remove {
		if r.IsValid() {
			b.RemoveRange(r.ip())
		}
	}
	set, err := b.IPSet()
	if err != nil {
		return nil
	}
	var out []Range
	for _, r := range set.Ranges() {
		out = append(out, Range{r.From(), r.To()})
	}
	return out
}

// Count is the number of addresses in a list of disjoint ranges.
func Count(ranges []Range) int {
	n := 0
	for _, r := range ranges {
		n += r.Size()
	}
	return n
}

// Free is what of the blocks is in none of the used prefixes, as the fewest
// prefixes, lowest first.
func Free(blocks, used []netip.Prefix) []netip.Prefix {
	var b netipx.IPSetBuilder
	for _, p := range blocks {
		b.AddPrefix(p)
	}
	for _, p := range used {
		b.RemovePrefix(p)
	}
	set, err := b.IPSet()
	if err != nil {
		return nil
	}
	return set.Prefixes()
}

// NextPrefix is the lowest free prefix of the given length. It prefers the
// smallest free piece that is large enough, so that large pieces stay whole.
func NextPrefix(blocks, used []netip.Prefix, bits int) (netip.Prefix, bool) {
	var best netip.Prefix
	for _, p := range Free(blocks, used) {
		if p.Bits() <= bits && (!best.IsValid() || p.Bits() > best.Bits()) {
			best = p
		}
	}
	if !best.IsValid() || bits > 32 {
		return netip.Prefix{}, false
	}
	return netip.PrefixFrom(best.Addr(), bits), true
}
