package zone

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
)

const reverseSuffix = "in-addr.arpa"

// Reverse is the name that an IPv4 address is looked up by (RFC 1035 section 3.5).
func Reverse(a netip.Addr) string {
	o := a.As4()
	return fmt.Sprintf("%d.%d.%d.%d.%s", o[3], o[2], o[1], o[0], reverseSuffix)
}

// Reversed is the address that a reverse name is of; ok is false for any other name.
func Reversed(name string) (a netip.Addr, ok bool) {
	rest, ok := strings.CutSuffix(Tidy(name), "."+reverseSuffix)
	labels := strings.Split(rest, ".")
	if !ok || len(labels) != 4 {
		return netip.Addr{}, false
	}
	var o [4]byte
	for i, l := range labels {
		n, err := strconv.ParseUint(l, 10, 8)
		if err != nil || strconv.Itoa(int(n)) != l {
			return netip.Addr{}, false
		}
		o[3-i] = byte(n)
	}
	return netip.AddrFrom4(o), true
}

// ReverseZones lists the zones that hold the reverse names of a prefix: one where its length ends at an
// octet; several beside each other where it does not; and below /24 the classless zone of RFC 2317,
// whose addresses are aliases in the zone of the /24, which is Parent's.
func ReverseZones(p netip.Prefix) []string {
	p = p.Masked()
	o := p.Addr().As4()
	switch bits := p.Bits(); {
	case bits > 24:
		return []string{fmt.Sprintf("%d/%d.%s", o[3], bits, ReverseParent(p))}
	case bits == 0:
		return []string{reverseSuffix}
	default:
		octets := (bits + 7) / 8
		var out []string
		for i := range 1 << (octets*8 - bits) {
			at := o
			at[octets-1] += byte(i)
			name := reverseSuffix
			for _, n := range at[:octets] {
				name = fmt.Sprintf("%d.%s", n, name)
			}
			out = append(out, name)
		}
		return out
	}
}

// ReverseParent is the reverse zone of the /24 that a longer prefix lies in.
func ReverseParent(p netip.Prefix) string {
	o := p.Addr().As4()
	return fmt.Sprintf("%d.%d.%d.%s", o[2], o[1], o[0], reverseSuffix)
}

// ReverseOwner is the name of an address in the reverse zone of a prefix that holds it, and that zone's.
func ReverseOwner(a netip.Addr, p netip.Prefix) (name, zone string) {
	if p.Bits() > 24 {
		zone = ReverseZones(p)[0]
		return fmt.Sprintf("%d.%s", a.As4()[3], zone), zone
	}
	name = Reverse(a)
	for _, zone = range ReverseZones(p) {
		if Within(name, zone) {
			return name, zone
		}
	}
	return name, ""
}

// ReversePrefix is the prefix whose reverse names a zone holds; ok is false for a zone of other names.
func ReversePrefix(zone string) (p netip.Prefix, ok bool) {
	rest, ok := strings.CutSuffix(Tidy(zone), "."+reverseSuffix)
	labels := strings.Split(rest, ".")
	if !ok || len(labels) > 4 {
		return netip.Prefix{}, false
	}
	var o [4]byte
	bits := 8 * len(labels)
	for i, l := range labels {
		if first, length, classless := strings.Cut(l, "/"); classless && i == 0 && len(labels) == 4 {
			n, err := strconv.Atoi(length)
			if err != nil || n < 25 || n > 32 {
				return netip.Prefix{}, false
			}
			l, bits = first, n
		}
		n, err := strconv.ParseUint(l, 10, 8)
		if err != nil {
			return netip.Prefix{}, false
		}
		o[len(labels)-1-i] = byte(n)
	}
	p = netip.PrefixFrom(netip.AddrFrom4(o), bits)
	return p, p == p.Masked()
}
