package site

import (
	"iter"
	"net/netip"
	"slices"

	"lithos/core/address"
)

// Taken is every range of a network that something owns or a pool may hand
// out: what the next free address must avoid.
func Taken(s *Site, n *Network) []address.Range {
	var out []address.Range
	hold := func(a netip.Addr) {
		if n.Prefix.Contains(a) {
			out = append(out, address.Single(a))
		}
	}
	hold(n.Gateway)
	for d := range s.Devices {
		for i := range s.Devices[d].Interfaces {
			for _, a := range s.Devices[d].Interfaces[i].Addresses {
				hold(a.Addr())
			}
		}
	}
	for _, f := range Within(s.FixedDevices, address.Of(n.Prefix),
		func(f *FixedDevice) netip.Addr { return f.Address }) {
		hold(f.Address)
	}
	for _, r := range Within(s.Reservations, address.Of(n.Prefix),
		func(r **Reservation) netip.Addr { return (*r).Address }) {
		hold(r.Address)
	}
	for i := range s.Pools {
		if p := &s.Pools[i]; p.Network == n.ID {
			out = append(out, p.Ranges...)
		}
	}
	return out
}

// Within are the parts of a list in the order of their addresses whose address lies in
// a range.
func Within[T any](list []T, r address.Range, at func(*T) netip.Addr) []T {
	from, _ := slices.BinarySearchFunc(list, r.From, func(v T, a netip.Addr) int { return at(&v).Compare(a) })
	to := from
	for to < len(list) && !r.To.Less(at(&list[to])) {
		to++
	}
	return list[from:to]
}

// Free visits the addresses of a network that nothing owns and no pool hands out, the
// lowest first: those outside the standard's windows for infrastructure and dynamic
// use before those inside.
func Free(s *Site, n *Network) iter.Seq[netip.Addr] {
	taken := Taken(s, n)
	var windows []address.Range
	for _, w := range s.Standard.Windows {
		if r, ok := WindowIn(n.Prefix, w); ok && w.Use != "reserved" {
			windows = append(windows, r)
		}
	}
	usable := []address.Range{address.Usable(n.Prefix)}
	outside := address.Ranges(usable, slices.Concat(taken, windows))
	inside := address.Ranges(usable, slices.Concat(taken, outside))
	return func(yield func(netip.Addr) bool) {
		for _, r := range slices.Concat(outside, inside) {
			for a := r.From; !r.To.Less(a); a = a.Next() {
				if !yield(a) {
					return
				}
			}
		}
	}
}

// NextFree is the first of the free addresses of a network.
func NextFree(s *Site, n *Network) (netip.Addr, bool) {
	for a := range Free(s, n) {
		return a, true
	}
	return netip.Addr{}, false
}

// SameHost is the address of a network with the host number that another address has, where it is
// free; ok is false where it is not.
func SameHost(s *Site, n *Network, other netip.Addr) (a netip.Addr, ok bool) {
	if !other.Is4() {
		return netip.Addr{}, false
	}
	all := address.Of(n.Prefix)
	a = address.FromUint(address.Uint(all.From) + address.Uint(other)&uint32(all.Size()-1))
	taken := slices.ContainsFunc(Taken(s, n), func(r address.Range) bool { return r.Contains(a) })
	return a, address.Usable(n.Prefix).Contains(a) && !taken
}

// WindowIn is where a standard's window falls in a prefix; ok is false when the
// prefix is too small to have it.
func WindowIn(p netip.Prefix, w Window) (r address.Range, ok bool) {
	size := address.Of(p).Size()
	from, to := w.From, w.To
	if from < 0 {
		from += size
	}
	if to < 0 {
		to += size
	}
	if from < 0 || to < from || to >= size {
		return address.Range{}, false
	}
	base := address.Uint(p.Masked().Addr())
	return address.Range{From: address.FromUint(base + uint32(from)), To: address.FromUint(base + uint32(to))}, true
}
