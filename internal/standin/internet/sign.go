package internet

import (
	"crypto"
	"fmt"
	"slices"
	"time"

	"github.com/miekg/dns"

	"lithos/core/names"
	"lithos/core/yang"
	"lithos/core/zone"
)

// key signs a zone. One key signs both the zone's records and its keys.
type key struct {
	public  *dns.DNSKEY
	private crypto.Signer
}

func newKey(name string) (*key, error) {
	for {
		public := &dns.DNSKEY{Hdr: dns.RR_Header{Name: dns.Fqdn(name), Rrtype: dns.TypeDNSKEY, Class: dns.ClassINET,
			Ttl: 3600}, Flags: dns.ZONE | dns.SEP, Protocol: 3, Algorithm: dns.ECDSAP256SHA256}
		private, err := public.Generate(256)
		if err != nil {
			return nil, fmt.Errorf("make a key for %q: %w", name, err)
		}
		if signsAtAll(public) {
			return &key{public, private.(crypto.Signer)}, nil
		}
	}
}

// signsAtAll reports whether signatures can be made with a key: one in 65,536 has the tag 0 (RFC 4034 appendix B),
// which the library takes for none.
func signsAtAll(public *dns.DNSKEY) bool { return public.KeyTag() != 0 }

// ds is what the zone above says of the key.
func (k *key) ds() *dns.DS { return k.public.ToDS(dns.SHA256) }

// signedFor is how long signatures hold.
const signedFor = 90 * 24 * time.Hour

// sign makes the records that sign a zone: its key, what it says of the keys of zones below, a denial for
// each name (RFC 4034 section 4), and the signatures of them all.
func (k *key) sign(z yang.Zone, serial uint32, below []*dns.DS, now time.Time) ([]dns.RR, error) {
	own := []dns.RR{k.public}
	for _, ds := range below {
		own = append(own, ds)
	}
	all := slices.Concat(names.Whole(z, serial), own)
	denials := deny(z, all)
	own = append(own, denials...)
	for _, set := range sets(append(all, denials...)) {
		h := set[0].Header()
		if !signs(z, all, set[0]) {
			continue
		}
		sig := &dns.RRSIG{Hdr: dns.RR_Header{Name: h.Name, Rrtype: dns.TypeRRSIG, Class: dns.ClassINET, Ttl: h.Ttl},
			TypeCovered: h.Rrtype, Algorithm: k.public.Algorithm, KeyTag: k.public.KeyTag(),
			SignerName: k.public.Hdr.Name, Inception: uint32(now.Add(-time.Hour).Unix()),
			Expiration: uint32(now.Add(signedFor).Unix())}
		if err := sig.Sign(k.private, set); err != nil {
			return nil, fmt.Errorf("sign %s: %w", h.Name, err)
		}
		own = append(own, sig)
	}
	return own, nil
}

// deny makes the chain of denials: each name says what types it has and which name is next.
func deny(z yang.Zone, all []dns.RR) []dns.RR {
	types := map[string][]uint16{}
	for _, rr := range all {
		if name, typ := zone.Tidy(rr.Header().Name), rr.Header().Rrtype; !glue(z, all, rr) &&
			!slices.Contains(types[name], typ) {
			types[name] = append(types[name], typ)
		}
	}
	var owners []string
	for name := range types {
		owners = append(owners, name)
	}
	slices.SortFunc(owners, names.CompareCanonical)
	var out []dns.RR
	for i, owner := range owners {
		has := append(types[owner], dns.TypeNSEC, dns.TypeRRSIG)
		slices.Sort(has)
		out = append(out, &dns.NSEC{Hdr: dns.RR_Header{Name: dns.Fqdn(owner), Rrtype: dns.TypeNSEC,
			Class: dns.ClassINET, Ttl: uint32(z.Negative)},
			NextDomain: dns.Fqdn(owners[(i+1)%len(owners)]), TypeBitMap: has})
	}
	return out
}

// signs reports whether the zone signs a record: not what is another zone's (RFC 4035 section 2.2).
func signs(z yang.Zone, all []dns.RR, rr dns.RR) bool {
	delegates := rr.Header().Rrtype == dns.TypeNS && zone.Tidy(rr.Header().Name) != z.Name
	return !delegates && !glue(z, all, rr)
}

// glue reports whether a record is the address of a server of a zone below.
func glue(z yang.Zone, all []dns.RR, rr dns.RR) bool {
	name := zone.Tidy(rr.Header().Name)
	return slices.ContainsFunc(all, func(ns dns.RR) bool {
		cut := zone.Tidy(ns.Header().Name)
		at := name == cut && rr.Header().Rrtype != dns.TypeNS && rr.Header().Rrtype != dns.TypeDS &&
			rr.Header().Rrtype != dns.TypeNSEC
		return ns.Header().Rrtype == dns.TypeNS && cut != z.Name && (at || name != cut && zone.Within(name, cut))
	})
}

// sets are records by owner and type.
func sets(list []dns.RR) [][]dns.RR {
	at := map[string]int{}
	var out [][]dns.RR
	for _, rr := range list {
		id := rr.Header().Name + dns.TypeToString[rr.Header().Rrtype]
		i, has := at[id]
		if !has {
			i = len(out)
			at[id] = i
			out = append(out, nil)
		}
		out[i] = append(out[i], rr)
	}
	return out
}
