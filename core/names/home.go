package names

import (
	"encoding/hex"
	"net/netip"

	"github.com/miekg/dns"

	"lithos/core/zone"
)

// private are the reverse zones that a resolver answers itself, with nothing in them (RFC 6303
// section 4, RFC 7793): their addresses mean something at home only.
var private = privateZones()

func privateZones() []string {
	var out []string
	for _, p := range []string{
		"10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "0.0.0.0/8", "127.0.0.0/8", "169.254.0.0/16", "192.0.2.0/24",
		"198.51.100.0/24", "203.0.113.0/24", "255.255.255.255/32", "100.64.0.0/10",
	} {
		prefix := netip.MustParsePrefix(p)
		if prefix.Bits() == 32 {
			out = append(out, zone.Reverse(prefix.Addr()))
			continue
		}
		out = append(out, zone.ReverseZones(prefix)...)
	}
	return append(out, private6()...)
}

// private6 are those of IPv6 (RFC 6303 section 4.3 to 4.6): unspecified and loopback, locally assigned unique local
// addresses, link-local, and those for examples. What is delegated of fc00::/7 by others is none of them.
func private6() []string {
	out := []string{nibbles("::", 32), nibbles("::1", 32), nibbles("fd00::", 2), nibbles("2001:db8::", 8)}
	for _, p := range []string{"fe80::", "fe90::", "fea0::", "feb0::"} {
		out = append(out, nibbles(p, 3))
	}
	return out
}

// nibbles is the reverse name of the first digits of an IPv6 address (RFC 3596 section 2.5).
func nibbles(text string, digits int) string {
	octets := netip.MustParseAddr(text).As16()
	whole := hex.EncodeToString(octets[:])
	name := "ip6.arpa"
	for _, digit := range whole[:digits] {
		name = string(digit) + "." + name
	}
	return name
}

// special are the domains that never leave (RFC 6761, RFC 6762, RFC 7686, RFC 8375, RFC 9462, RFC 9476), with why.
var special = map[string]string{
	"localhost":     "It is the machine itself (RFC 6761 section 6.3).",
	"invalid":       "Nothing is ever there (RFC 6761 section 6.4).",
	"test":          "It is for tests and nothing outside answers for it (RFC 6761 section 6.2).",
	"local":         "It is for multicast names, which machines ask each other for (RFC 6762 section 3).",
	"onion":         "It is not of the DNS (RFC 7686).",
	"alt":           "It is for names outside the DNS (RFC 9476).",
	"home.arpa":     "It means something at each home only (RFC 8375).",
	"resolver.arpa": "It asks a resolver for another way to itself, of which this one has none (RFC 9462 section 6.4).",
}

// atHome is the zone kept at home that a name lies in, with why; ok is false for any other name.
func atHome(name string) (domain, why string, ok bool) {
	for at := name; at != ""; at = zone.Above(at) {
		if why, ok := special[at]; ok {
			return at, why, true
		}
	}
	if !zone.Within(name, "in-addr.arpa") && !zone.Within(name, "ip6.arpa") {
		return "", "", false
	}
	for _, p := range private {
		if zone.Within(name, p) {
			return p, "Its addresses mean something at home only (RFC 6303).", true
		}
	}
	return "", "", false
}

// localhost answers for the machine itself (RFC 6761 section 6.3).
func localhost(name string, typ uint16) []dns.RR {
	h := dns.RR_Header{Name: dns.Fqdn(name), Rrtype: typ, Class: dns.ClassINET, Ttl: 86400}
	switch typ {
	case dns.TypeA:
		return []dns.RR{&dns.A{Hdr: h, A: []byte{127, 0, 0, 1}}}
	case dns.TypeAAAA:
		one := netip.IPv6Loopback().As16()
		return []dns.RR{&dns.AAAA{Hdr: h, AAAA: one[:]}}
	}
	return nil
}

// emptySOA is the start of authority of a zone that is not forwarded with nothing in it (RFC 6303
// section 3).
func emptySOA(domain string) *dns.SOA {
	name := dns.Fqdn(domain)
	return &dns.SOA{
		Hdr: dns.RR_Header{Name: name, Rrtype: dns.TypeSOA, Class: dns.ClassINET, Ttl: 10800},
		Ns:  name, Mbox: "nobody.invalid.", Serial: 1, Refresh: 3600, Retry: 1200, Expire: 604800, Minttl: 10800,
	}
}
