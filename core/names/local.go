package names

import (
	"fmt"
	"strconv"

	"github.com/miekg/dns"

	"lithos/core/zone"
)

// zoneOf is the zone that a name is in: the longest; nil where another server's domain is longer, or
// for a name in none.
func (f *fall) zoneOf(name string) *book {
	for at := name; ; {
		if b := f.zones[at]; b != nil {
			return b
		}
		if f.domains[at] != nil || at == "" {
			return nil
		}
		at = zone.Above(at)
	}
}

// nodeOf is the node of a name in its zone; nil where it is not there.
func (f *fall) nodeOf(name string) *node {
	if b := f.zoneOf(name); b != nil {
		return b.nodes[name]
	}
	return nil
}

// local looks in the zones that the server answers for.
func (f *fall) local(name string, typ uint16) (r result, alias string, ok bool) {
	b := f.zoneOf(name)
	if b == nil {
		if domain := f.settings.LeaseDomain; domain != "" && zone.Within(name, domain) {
			f.step(Leases, Stopped, "No such name", "Names in "+domain+" are those of leases alone.", "")
			return result{code: dns.RcodeNameError, soa: []dns.RR{emptySOA(domain)}, own: true}, "", true
		}
		return result{}, "", false
	}
	b = f.tells(b, name, typ)
	found := b.find(name, typ)
	if b.leaves(found, name) {
		f.step(Zones, Passed, "In "+b.name, name+" is not there, and others are asked.", "")
		r, alias = f.beyond(name, typ)
		return r, alias, true
	}
	if len(b.chain) > 0 {
		defer func() { r.sigs, r.proof = b.proven(r, found, name) }()
	}
	switch {
	case found.cut != nil && f.authority:
		return result{soa: found.cut, extra: b.glueRecords(found.cut)}, "", true
	case found.cut != nil:
		list := b.glue(found.cut)
		f.step(Zones, Followed, found.cutAt+" is another server's", addressesOf(list), "")
		r, alias = f.forward(name, typ, list)
		return r, alias, true
	case found.alias != "":
		if f.traced() {
			f.step(Zones, Followed, "In "+b.name, f.from(found, name)+" is an alias of "+found.alias, found.of)
		}
		return result{answer: found.records, own: true}, found.alias, true
	case len(found.records) > 0:
		list := nearest(found.records, f.by.From, f.networks)
		if f.traced() {
			says := f.from(found, name) + " is " + values(list) + " · TTL " +
				strconv.FormatUint(uint64(list[0].Header().Ttl), 10) + " s"
			f.step(Zones, Answered, "In "+b.name, says, found.of)
		}
		return result{answer: list, own: true}, "", true
	case found.exists:
		if f.traced() {
			f.step(Zones, Stopped, "In "+b.name, fmt.Sprintf("%s is there and has no %s.", name, typeName(typ)), "")
		}
		return result{soa: []dns.RR{negative(b.soa)}, own: true}, "", true
	default:
		f.step(Zones, Stopped, "In "+b.name, name+" is not there, and nobody else is asked.", "")
		return result{code: dns.RcodeNameError, soa: []dns.RR{negative(b.soa)}, own: true}, "", true
	}
}

// tells is the zone that tells something of a name of b: of the keys of a zone it is the zone above (RFC 4035 section
// 3.1.4.1), where the server has both.
func (f *fall) tells(b *book, name string, typ uint16) *book {
	if typ == dns.TypeDS && f.authority && name == b.name && name != "" {
		if parent := f.zoneOf(zone.Above(name)); parent != nil {
			return parent
		}
	}
	return b
}

// from is how a found name is called in a trace.
func (f *fall) from(found found, name string) string {
	if found.star != "" {
		return name + ", of the wildcard " + found.star + ","
	}
	return name
}

// negative is a zone's SOA as it says how long a missing name may be remembered (RFC 2308 section 3).
func negative(soa *dns.SOA) dns.RR {
	out := *soa
	out.Hdr.Ttl = min(soa.Hdr.Ttl, soa.Minttl)
	return &out
}
