package names

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"lithos/core/zone"
)

// maxProofs is how many questions checking one answer may take.
const maxProofs = 32

// bogus says why an answer does not hold (RFC 4035 section 4.3). An answer of a zone that is not signed,
// and says so, is not bogus.
type bogus struct{ says string }

func (b *bogus) Error() string { return b.says }

func notHeld(format string, args ...any) error { return &bogus{fmt.Sprintf(format, args...)} }

// validator checks answers against the signatures of their zones (RFC 4035 section 5), from the keys of
// the root down. Denials are proved by NSEC; a zone that proves them by hashed names (RFC 5155) counts
// as one that proves nothing.
type validator struct {
	ask     func(name string, typ uint16) (*dns.Msg, error) // with signatures
	anchors []*dns.DS                                       // of the root
	now     time.Time
	asked   int
}

// signer is the zone that signs names, with its keys; one without keys is not signed.
type signer struct {
	zone string
	keys []*dns.DNSKEY
}

// check reports whether an answer of a name is signed and holds. It is secure where every part of it is;
// not secure and without an error where a zone on the way is not signed. r is what of the message counts.
func (v *validator) check(m *dns.Msg, r result, name string, typ uint16) (secure bool, err error) {
	secure = true
	at := name
	for _, set := range sets(r.answer) {
		h := set[0].Header()
		ok, err := v.set(m, set)
		if err != nil {
			return false, err
		}
		secure = secure && ok
		if alias, is := set[0].(*dns.CNAME); is && h.Rrtype == dns.TypeCNAME && typ != dns.TypeCNAME {
			at = zone.Tidy(alias.Target)
		}
	}
	answered := slices.ContainsFunc(r.answer, func(rr dns.RR) bool { return rr.Header().Rrtype == typ })
	if answered {
		return secure, nil
	}
	by, err := v.signerOf(at, typ)
	if err != nil || by.keys == nil {
		return false, err
	}
	return secure, v.denied(m, by, at, typ)
}

// sets are records by owner and type.
func sets(list []dns.RR) [][]dns.RR {
	var out [][]dns.RR
	for _, rr := range list {
		i := slices.IndexFunc(out, func(set []dns.RR) bool {
			return set[0].Header().Rrtype == rr.Header().Rrtype &&
				strings.EqualFold(set[0].Header().Name, rr.Header().Name)
		})
		if i < 0 {
			out = append(out, []dns.RR{rr})
			continue
		}
		out[i] = append(out[i], rr)
	}
	return out
}

// set checks the records of one name and type. A set made from a wildcard needs a proof that the name
// itself is not there.
func (v *validator) set(m *dns.Msg, set []dns.RR) (secure bool, err error) {
	h := set[0].Header()
	name := zone.Tidy(h.Name)
	by, err := v.signerOf(name, h.Rrtype)
	if err != nil || by.keys == nil {
		return false, err
	}
	sig, err := v.verify(by, set, slices.Concat(m.Answer, m.Ns))
	if err != nil {
		return false, err
	}
	if int(sig.Labels) == dns.CountLabel(h.Name) {
		return true, nil
	}
	if !slices.ContainsFunc(v.proofs(m, by), func(n *dns.NSEC) bool { return covers(n, name) }) {
		return false, notHeld("nothing proves that %s is of a wildcard", name)
	}
	return true, nil
}

// verify finds a signature of the records that holds.
func (v *validator) verify(by signer, set, among []dns.RR) (*dns.RRSIG, error) {
	h := set[0].Header()
	what := zone.Tidy(h.Name) + " " + typeName(h.Rrtype)
	err := notHeld("%s is not signed, and %s is", what, called(by.zone))
	for _, rr := range among {
		sig, ok := rr.(*dns.RRSIG)
		if !ok || sig.TypeCovered != h.Rrtype || !strings.EqualFold(sig.Hdr.Name, h.Name) ||
			zone.Tidy(sig.SignerName) != by.zone {
			continue
		}
		if !sig.ValidityPeriod(v.now) {
			err = notHeld("the signature of %s is out of date", what)
			continue
		}
		for _, key := range by.keys {
			if key.KeyTag() == sig.KeyTag && sig.Verify(key, set) == nil {
				return sig, nil
			}
		}
		err = notHeld("the signature of %s does not hold", what)
	}
	return nil, err
}

func called(zone string) string {
	if zone == "" {
		return "the root"
	}
	return zone
}

// signerOf finds the zone that signs a name: from the root down, by the keys that each zone says the
// next one has.
func (v *validator) signerOf(name string, typ uint16) (signer, error) {
	if len(v.anchors) == 0 {
		return signer{}, nil
	}
	if typ == dns.TypeDS {
		_, name, _ = strings.Cut(name, ".") // signed by the zone above
	}
	by, err := v.keysOf("", v.anchors)
	if err != nil {
		return signer{}, err
	}
	labels := dns.SplitDomainName(name)
	for i := len(labels) - 1; i >= 0; i-- {
		at := strings.Join(labels[i:], ".")
		next, more, err := v.below(by, at)
		if err != nil || next.keys == nil {
			return signer{}, err
		}
		if by = next; !more {
			break
		}
	}
	return by, nil
}

// below is the signer of a name one label below what by signs: another zone's keys where one begins
// there. more is false where nothing can begin further down.
func (v *validator) below(by signer, at string) (next signer, more bool, err error) {
	m, err := v.question(at, dns.TypeDS)
	if err != nil {
		return signer{}, false, err
	}
	var told []*dns.DS
	var set []dns.RR
	for _, rr := range m.Answer {
		if ds, ok := rr.(*dns.DS); ok && zone.Tidy(ds.Hdr.Name) == at {
			told, set = append(told, ds), append(set, rr)
		}
	}
	if len(told) > 0 {
		if _, err := v.verify(by, set, m.Answer); err != nil {
			return signer{}, false, err
		}
		next, err = v.keysOf(at, told)
		return next, true, err
	}
	if slices.ContainsFunc(m.Answer, func(rr dns.RR) bool { return rr.Header().Rrtype == dns.TypeCNAME }) {
		return by, true, nil // no zone begins at an alias; its own signature is checked with the answer
	}
	for _, n := range v.proofs(m, by) {
		switch has := func(typ uint16) bool { return slices.Contains(n.TypeBitMap, typ) }; {
		case zone.Tidy(n.Hdr.Name) == at && has(dns.TypeDS):
			return signer{}, false, notHeld("the keys of %s were left out", at)
		case zone.Tidy(n.Hdr.Name) == at && has(dns.TypeNS) && !has(dns.TypeSOA):
			return signer{}, false, nil // a zone that is not signed begins here
		case zone.Tidy(n.Hdr.Name) == at:
			return by, true, nil
		case covers(n, at):
			return by, zone.Within(zone.Tidy(n.NextDomain), at), nil
		}
	}
	return signer{}, false, notHeld("nothing proves whether %s is signed", at)
}

// keysOf are the keys of a zone: those that the zone above tells of, and what they sign.
func (v *validator) keysOf(name string, told []*dns.DS) (signer, error) {
	m, err := v.question(name, dns.TypeDNSKEY)
	if err != nil {
		return signer{}, err
	}
	var all, trusted []*dns.DNSKEY
	var set []dns.RR
	for _, rr := range m.Answer {
		key, ok := rr.(*dns.DNSKEY)
		if !ok || zone.Tidy(key.Hdr.Name) != name {
			continue
		}
		all, set = append(all, key), append(set, rr)
		if slices.ContainsFunc(told, func(ds *dns.DS) bool {
			is := key.ToDS(ds.DigestType)
			return is != nil && is.KeyTag == ds.KeyTag && strings.EqualFold(is.Digest, ds.Digest)
		}) {
			trusted = append(trusted, key)
		}
	}
	if len(trusted) == 0 {
		return signer{}, notHeld("%s has none of the keys that are told of it", called(name))
	}
	if _, err := v.verify(signer{name, trusted}, set, m.Answer); err != nil {
		return signer{}, err
	}
	return signer{name, all}, nil
}

func (v *validator) question(name string, typ uint16) (*dns.Msg, error) {
	if v.asked++; v.asked > maxProofs {
		return nil, notHeld("checking it would take more than %d questions", maxProofs)
	}
	m, err := v.ask(name, typ)
	if err != nil {
		return nil, notHeld("%s of %s, which it takes to check the answer: %s", typeName(typ), called(name), err)
	}
	return m, nil
}

// proofs are the denials of a message that their zone has signed.
func (v *validator) proofs(m *dns.Msg, by signer) []*dns.NSEC {
	var out []*dns.NSEC
	for _, rr := range m.Ns {
		n, ok := rr.(*dns.NSEC)
		if !ok {
			continue
		}
		if _, err := v.verify(by, []dns.RR{n}, m.Ns); err == nil {
			out = append(out, n)
		}
	}
	return out
}

// denied checks the proof that a name, or a type of it, is not there (RFC 4035 section 5.4).
func (v *validator) denied(m *dns.Msg, by signer, name string, typ uint16) error {
	proofs := v.proofs(m, by)
	covered := func(name string) bool {
		return slices.ContainsFunc(proofs, func(n *dns.NSEC) bool { return covers(n, name) })
	}
	lacks := func(owner string) bool {
		return slices.ContainsFunc(proofs, func(n *dns.NSEC) bool {
			return zone.Tidy(n.Hdr.Name) == owner && !slices.Contains(n.TypeBitMap, typ) &&
				!slices.Contains(n.TypeBitMap, dns.TypeCNAME)
		})
	}
	between := slices.ContainsFunc(proofs, func(n *dns.NSEC) bool {
		return covers(n, name) && zone.Within(zone.Tidy(n.NextDomain), name)
	})
	if m.Rcode == dns.RcodeSuccess && (lacks(name) || between) {
		return nil // there, or above others, without the type
	}
	for above := name; covered(name) && above != by.zone && above != ""; {
		_, above, _ = strings.Cut(above, ".")
		star := strings.TrimSuffix("*."+above, ".")
		if m.Rcode == dns.RcodeNameError && covered(star) || m.Rcode == dns.RcodeSuccess && lacks(star) {
			return nil
		}
	}
	return notHeld("nothing proves that %s %s is not there", name, typeName(typ))
}

// covers reports whether a denial says that there is no such name (RFC 4034 section 4).
func covers(n *dns.NSEC, name string) bool {
	owner, next := zone.Tidy(n.Hdr.Name), zone.Tidy(n.NextDomain)
	if CompareCanonical(owner, name) >= 0 {
		return false
	}
	return CompareCanonical(name, next) < 0 || CompareCanonical(next, owner) <= 0 // the last leads to the first
}

// CompareCanonical orders names as their denials do: label by label from the end (RFC 4034 section 6.1).
func CompareCanonical(a, b string) int {
	x, y := dns.SplitDomainName(a), dns.SplitDomainName(b)
	for i := 1; i <= len(x) && i <= len(y); i++ {
		if c := strings.Compare(strings.ToLower(x[len(x)-i]), strings.ToLower(y[len(y)-i])); c != 0 {
			return c
		}
	}
	return len(x) - len(y)
}
