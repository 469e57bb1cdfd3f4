package address

import (
	"net/netip"
	"slices"
)

// private are the blocks that a site's addresses come from (RFC 1918), the largest first.
var private = []netip.Prefix{
	netip.PrefixFrom(netip.AddrFrom4([4]byte{10}), 8), netip.PrefixFrom(netip.AddrFrom4([4]byte{172, 16}), 12),
	netip.PrefixFrom(netip.AddrFrom4([4]byte{192, 168}), 16),
}

// usualBlock is how large a site's block is where nothing is known, in bits.
const usualBlock = 20

// NextBlock proposes the block of one more site, which overlaps none in use: as large as most that the customer's
// sites have, behind the last of them where there is room, else before. others are those of everybody else, which it
// keeps out of as well while it can. ok is false where every private address is in use.
func NextBlock(own, others []netip.Prefix) (block netip.Prefix, ok bool) {
	bits := commonest(own)
	within := slices.Clone(private)
	last := netip.Addr{}
	for _, p := range own {
		if p.Addr().Is4() && (!last.IsValid() || last.Less(Of(p).To)) {
			last = Of(p).To
		}
	}
	slices.SortStableFunc(within, func(a, b netip.Prefix) int {
		switch {
		case a.Contains(last) == b.Contains(last):
			return 0
		case a.Contains(last):
			return -1
		}
		return 1
	})
	for _, used := range [][]netip.Prefix{slices.Concat(own, others), own} {
		for _, in := range within {
			if in.Bits() > bits {
				continue
			}
			if in.Contains(last) {
				if p, ok := firstFree(in, used, bits, last.Next()); ok {
					return p, true
				}
			}
			if p, ok := firstFree(in, used, bits, in.Addr()); ok {
				return p, true
			}
		}
	}
	return netip.Prefix{}, false
}

// firstFree is the first prefix of so many bits from an address on that overlaps none in use.
func firstFree(in netip.Prefix, used []netip.Prefix, bits int, from netip.Addr) (netip.Prefix, bool) {
	p := netip.PrefixFrom(from, bits).Masked()
	if p.Addr().Less(from) {
		p = netip.PrefixFrom(Of(p).To.Next(), bits)
	}
	for p.Addr().IsValid() && in.Contains(p.Addr()) {
		at := slices.IndexFunc(used, func(u netip.Prefix) bool { return u.Addr().Is4() && u.Overlaps(p) })
		if at < 0 {
			return p, true
		}
		end := Of(p).To
		if behind := Of(used[at].Masked()).To; end.Less(behind) {
			end = behind
		}
		next := netip.PrefixFrom(end.Next(), bits)
		if !next.IsValid() {
			break
		}
		p = next.Masked()
		if p.Addr().Less(end) {
			p = netip.PrefixFrom(Of(p).To.Next(), bits)
		}
	}
	return netip.Prefix{}, false
}

// commonest is how large most prefixes are, the larger where two are as common, in bits.
func commonest(list []netip.Prefix) int {
	count := map[int]int{}
	for _, p := range list {
		if p.Addr().Is4() {
			count[p.Bits()]++
		}
	}
	best := usualBlock
	for bits, n := range count {
		if n > count[best] || n == count[best] && (count[best] == 0 || bits < best) {
			best = bits
		}
	}
	return best
}
