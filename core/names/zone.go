package names

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"github.com/miekg/dns"

	"lithos/core/yang"
	"lithos/core/zone"
)

// book is a zone as it is looked up in. Owners are whole names without the dot at the end, in small
// letters.
type book struct {
	name  string
	soa   *dns.SOA
	nodes map[string]*node
	chain []*dns.NSEC // the denials of a signed zone, in their order

	partial bool // that others are asked for names it does not have
}

// node is one name of a zone: its records by type. One without any stands because others are below it.
type node struct {
	sets map[uint16][]dns.RR
	of   map[uint16]string // the id of the first record of a type
}

// learn makes a zone ready to be looked up in. Records that cannot be sent are left out; a device
// refuses them (yang.Config.Validate).
func learn(z yang.Zone, serial uint32) *book {
	b := &book{name: z.Name, nodes: make(map[string]*node, len(z.Record)+1), soa: StartOf(z, serial),
		partial: z.Partial}
	apex := b.node(z.Name)
	if !z.Partial { // whose SOA and name servers are those of the domain
		apex.put(b.soa, "")
	}
	for _, r := range z.Record {
		if rr, err := r.Text().RR(z.Name, z.TTL); err == nil {
			b.node(zone.Tidy(rr.Header().Name)).put(rr, r.ID)
		}
	}
	if !z.Partial && len(apex.sets[dns.TypeNS]) == 0 {
		apex.put(&dns.NS{Hdr: dns.RR_Header{Name: b.soa.Hdr.Name, Rrtype: dns.TypeNS, Class: dns.ClassINET,
			Ttl: uint32(z.TTL)}, Ns: b.soa.Ns}, "")
	}
	return b
}

// StartOf is the SOA of a zone (RFC 1035 section 3.3.13).
func StartOf(z yang.Zone, serial uint32) *dns.SOA {
	return &dns.SOA{
		Hdr: dns.RR_Header{Name: dns.Fqdn(z.Name), Rrtype: dns.TypeSOA, Class: dns.ClassINET, Ttl: uint32(z.TTL)},
		Ns:  dns.Fqdn(z.Primary), Mbox: dns.Fqdn(z.Contact), Serial: serial, Refresh: uint32(z.Refresh),
		Retry: uint32(z.Retry), Expire: uint32(z.Expire), Minttl: uint32(z.Negative),
	}
}

// Whole is every record of a zone, its SOA first, as a transfer carries them (RFC 5936 section 2.2).
func Whole(z yang.Zone, serial uint32) []dns.RR {
	b := learn(z, serial)
	out := []dns.RR{b.soa}
	for _, name := range slices.SortedFunc(maps.Keys(b.nodes), CompareCanonical) {
		sets := b.nodes[name].sets
		for _, typ := range slices.Sorted(maps.Keys(sets)) {
			if typ != dns.TypeSOA {
				out = append(out, sets[typ]...)
			}
		}
	}
	return out
}

// leaves reports whether a question for a name is left to others: a partial zone has no record of that name, nor of a
// wildcard for it.
func (b *book) leaves(f found, name string) bool {
	if !b.partial || len(f.records) > 0 || f.cut != nil || f.star != "" {
		return false
	}
	n := b.nodes[name]
	return n == nil || len(n.sets) == 0
}

// sign puts the records that sign the zone into it.
func (b *book) sign(list []dns.RR) {
	for _, rr := range list {
		b.node(zone.Tidy(rr.Header().Name)).put(rr, "")
		if n, ok := rr.(*dns.NSEC); ok {
			b.chain = append(b.chain, n)
		}
	}
}

// proven is what of a signed zone proves what was found for a name (RFC 4035 section 3.1): the
// signatures of the answer; and those of what is said beside it, with the denials that it takes.
func (b *book) proven(r result, found found, name string) (sigs, proof []dns.RR) {
	if len(r.answer) > 0 {
		owner, h := name, r.answer[0].Header()
		if found.star != "" {
			owner, proof = found.star, b.denial(name)
		}
		return renamed(b.signatures(owner, h.Rrtype), name), proof
	}
	if found.cut != nil {
		told := b.nodes[found.cutAt].sets[dns.TypeDS]
		if len(told) == 0 {
			return nil, b.denial(found.cutAt)
		}
		return nil, slices.Concat(told, b.signatures(found.cutAt, dns.TypeDS))
	}
	proof = slices.Concat(b.signatures(b.name, dns.TypeSOA), b.denial(name))
	if r.code != dns.RcodeNameError && found.star == "" {
		return nil, proof
	}
	for above := name; above != b.name && above != ""; {
		above = zone.Above(above)
		if b.nodes[above] != nil {
			return nil, slices.Concat(proof, b.denial(strings.TrimSuffix("*."+above, ".")))
		}
	}
	return nil, proof
}

// signatures are those of the records of a name and type.
func (b *book) signatures(name string, typ uint16) []dns.RR {
	n := b.nodes[name]
	if n == nil {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(n.sets[dns.TypeRRSIG]),
		func(rr dns.RR) bool { return rr.(*dns.RRSIG).TypeCovered != typ })
}

// denial is the NSEC of a name, or that of the gap it would be in, with its signature.
func (b *book) denial(name string) []dns.RR {
	for _, n := range b.chain {
		owner := zone.Tidy(n.Hdr.Name)
		if owner == name || covers(n, name) {
			return slices.Concat([]dns.RR{n}, b.signatures(owner, dns.TypeNSEC))
		}
	}
	return nil
}

// node is the node of a name, made with those above it where it is not there (RFC 4592 section 2.2.2).
func (b *book) node(name string) *node {
	n := b.nodes[name]
	if n != nil {
		return n
	}
	n = &node{}
	b.nodes[name] = n
	if _, above, ok := strings.Cut(name, "."); ok && name != b.name && zone.Within(above, b.name) {
		b.node(above)
	}
	return n
}

func (n *node) put(rr dns.RR, id string) {
	typ := rr.Header().Rrtype
	if n.sets == nil {
		n.sets, n.of = map[uint16][]dns.RR{}, map[uint16]string{}
	}
	if n.of[typ] == "" {
		n.of[typ] = id
	}
	n.sets[typ] = append(n.sets[typ], rr)
}

// found is what a zone holds for a question.
type found struct {
	records []dns.RR
	of      string // the id of the first
	alias   string // the name it leads on to; empty for none
	exists  bool   // that the name is there, with this type or not
	star    string // the wildcard it was made from
	cut     []dns.RR
	cutAt   string // the zone below that another server answers for
}

// find looks a name of the zone up (RFC 1034 section 4.3.2, RFC 4592).
func (b *book) find(name string, typ uint16) found {
	if cut := b.cut(name); cut != "" && !(typ == dns.TypeDS && cut == name) {
		return found{cut: b.nodes[cut].sets[dns.TypeNS], cutAt: cut, exists: true}
	}
	if n := b.nodes[name]; n != nil {
		return n.found(name, typ)
	}
	for above := name; above != b.name; {
		above = zone.Above(above)
		if b.nodes[above] == nil {
			continue
		}
		// above is the closest encloser: only a star directly below it can stand for the name.
		if n := b.nodes["*."+above]; n != nil {
			f := n.found(name, typ)
			f.star = "*." + above
			return f
		}
		return found{}
	}
	return found{}
}

// cut is the delegation that a name lies at or below, empty for none.
func (b *book) cut(name string) string {
	out := ""
	for at := name; at != b.name && at != ""; {
		if n := b.nodes[at]; n != nil && len(n.sets[dns.TypeNS]) > 0 {
			out = at
		}
		at = zone.Above(at)
	}
	return out
}

// found is what the node has for a question of a name, which a wildcard's is not its own.
func (n *node) found(name string, typ uint16) found {
	f := found{exists: true}
	if alias := n.sets[dns.TypeCNAME]; len(alias) > 0 && typ != dns.TypeCNAME {
		f.records, f.of = renamed(alias[:1], name), n.of[dns.TypeCNAME]
		f.alias = zone.Tidy(alias[0].(*dns.CNAME).Target)
		return f
	}
	f.records, f.of = renamed(n.sets[typ], name), n.of[typ]
	return f
}

// renamed gives records the name that was asked for, where a wildcard's stand for it.
func renamed(list []dns.RR, name string) []dns.RR {
	if len(list) == 0 || strings.EqualFold(list[0].Header().Name, name+".") {
		return list
	}
	out := make([]dns.RR, len(list))
	for i, rr := range list {
		out[i] = dns.Copy(rr)
		out[i].Header().Name = dns.Fqdn(name)
	}
	return out
}

// glue is the addresses that a zone holds of the servers of a delegation.
func (b *book) glue(cut []dns.RR) []yang.NameServer {
	out := []yang.NameServer{}
	for _, rr := range b.glueRecords(cut) {
		if at, ok := netip.AddrFromSlice(rr.(*dns.A).A.To4()); ok {
			out = append(out, yang.NameServer{Address: at, Port: 53})
		}
	}
	return out
}

// glueRecords are those addresses as records.
func (b *book) glueRecords(cut []dns.RR) []dns.RR {
	var out []dns.RR
	for _, rr := range cut {
		if ns, ok := rr.(*dns.NS); ok && b.nodes[zone.Tidy(ns.Ns)] != nil {
			sets := b.nodes[zone.Tidy(ns.Ns)].sets
			out = append(append(out, sets[dns.TypeA]...), sets[dns.TypeAAAA]...)
		}
	}
	return out
}

// nearest puts the addresses of the asker's own network first: a device that has several answers
// with the one that needs no router.
func nearest(list []dns.RR, from netip.Addr, networks []netip.Prefix) []dns.RR {
	if len(list) < 2 || list[0].Header().Rrtype != dns.TypeA {
		return list
	}
	near := func(rr dns.RR) bool {
		a, ok := netip.AddrFromSlice(rr.(*dns.A).A.To4())
		return ok &&
			slices.ContainsFunc(networks, func(p netip.Prefix) bool { return p.Contains(from) && p.Contains(a) })
	}
	at := slices.IndexFunc(list, near)
	if at <= 0 {
		return list
	}
	out := slices.Clone(list)
	slices.SortStableFunc(out, func(a, b dns.RR) int {
		switch na, nb := near(a), near(b); {
		case na == nb:
			return 0
		case na:
			return -1
		}
		return 1
	})
	return out
}

// values is the data of records in words.
func values(list []dns.RR) string {
	var out []string
	for i, rr := range list {
		if i == 4 {
			out = append(out, fmt.Sprintf("%d more", len(list)-i))
			break
		}
		out = append(out, zone.DataOf(rr, ""))
	}
	return strings.Join(out, ", ")
}
