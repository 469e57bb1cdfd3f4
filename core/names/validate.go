package names

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"lithos/core/zone"
)

// Limits of the work of checking one answer. A name of ip6.arpa has 34 labels, and each may begin a zone.
const (
	maxProofs     = 64  // questions that are really asked; what is kept costs nothing
	maxSignatures = 128 // signatures that are looked at
)

// bogus says why an answer does not hold (RFC 4035 section 4.3). An answer of a zone that is not signed,
// and says so, is not bogus.
type bogus struct{ says string }

func (b *bogus) Error() string { return b.says }

func notHeld(format string, args ...any) error { return &bogus{fmt.Sprintf(format, args...)} }

// validator checks answers against the signatures of their zones (RFC 4035 section 5), from the keys of
// the root down. What is not there is proved by NSEC or NSEC3 (see denial.go).
type validator struct {
	// ask gives an answer with signatures, and whether another server had to be asked for it.
	ask     func(name string, typ uint16) (m *dns.Msg, asked bool, err error)
	anchors []*dns.DS // of the root
	now     time.Time
	asked   int
	checked int
	// most is the longest that the signatures of the answer let it be kept (RFC 4035 section 5.3.3).
	most time.Duration
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
	v.most = math.MaxInt64
	for _, set := range sets(r.answer) {
		if !substituted(set[0], r.answer) {
			ok, err := v.set(m, set)
			if err != nil {
				return false, err
			}
			secure = secure && ok
		}
	}
	answered := slices.ContainsFunc(r.answer, func(rr dns.RR) bool { return rr.Header().Rrtype == typ })
	if answered {
		if secure && m.Rcode == dns.RcodeNameError {
			return false, notHeld("it says that %s is not there, and has a signed answer", name)
		}
		return secure, nil
	}
	at := lastOf(r.answer, name)
	by, err := v.signerOf(at, typ, signersIn(m.Ns))
	if err != nil || by.keys == nil {
		return false, err
	}
	proved, err := v.denied(m, by, at, typ)
	return secure && proved, err
}

// lastOf is where the aliases of an answer lead to from a name.
func lastOf(answer []dns.RR, name string) string {
	for range answer {
		for _, rr := range answer {
			if alias, is := rr.(*dns.CNAME); is && zone.Tidy(alias.Hdr.Name) == name {
				name = zone.Tidy(alias.Target)
			}
		}
	}
	return name
}

// substituted reports whether a record is the alias that a DNAME of the answer makes of a name, which no zone signs
// (RFC 6672 section 5.3.1): it holds if the DNAME does.
func substituted(rr dns.RR, among []dns.RR) bool {
	alias, ok := rr.(*dns.CNAME)
	if !ok {
		return false
	}
	return slices.ContainsFunc(among, func(rr dns.RR) bool {
		d, ok := rr.(*dns.DNAME)
		return ok && zone.Tidy(alias.Target) == underDNAME(d, zone.Tidy(alias.Hdr.Name))
	})
}

// underDNAME is what a DNAME makes of a name below its owner; empty for any other (RFC 6672 section 2.2).
func underDNAME(d *dns.DNAME, name string) string {
	head, ok := zone.Relative(name, zone.Tidy(d.Hdr.Name))
	if !ok || head == zone.Apex {
		return ""
	}
	return zone.Absolute(head, zone.Tidy(d.Target))
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

// set checks the records of one name and type. A set made from a wildcard needs a proof that no closer name is there
// (RFC 4035 section 5.3.4).
func (v *validator) set(m *dns.Msg, set []dns.RR) (secure bool, err error) {
	h := set[0].Header()
	name := zone.Tidy(h.Name)
	among := slices.Concat(m.Answer, m.Ns)
	by, err := v.signerOf(name, h.Rrtype, signersOf(among, h.Name, h.Rrtype))
	if err != nil || by.keys == nil {
		return false, err
	}
	sig, err := v.verify(by, set, among)
	if err != nil {
		return false, err
	}
	v.most = min(v.most, holdsFor(sig, h.Ttl, v.now))
	if !expanded(sig) {
		return true, nil
	}
	proofs := v.proofs(m, by)
	if proofs.beyond {
		return false, nil
	}
	next := ancestor(name, int(sig.Labels)+1)
	covered, optOut := proofs.noneBelow(next)
	if !covered {
		return false, notHeld("nothing proves that %s is of a wildcard", name)
	}
	return !optOut, nil
}

// expanded reports whether the records of a signature were made from a wildcard: it counts fewer labels than their
// owner has, of which a star does not count (RFC 4034 section 3.1.3).
func expanded(sig *dns.RRSIG) bool {
	labels := dns.CountLabel(sig.Hdr.Name)
	if strings.HasPrefix(sig.Hdr.Name, "*.") {
		labels--
	}
	return int(sig.Labels) < labels
}

// ancestor is what of a name has so many labels, counted from the root.
func ancestor(name string, labels int) string {
	for zone.Labels(name) > labels {
		name = zone.Above(name)
	}
	return name
}

// holdsFor is how long records may be kept for their signature (RFC 4035 section 5.3.3).
func holdsFor(sig *dns.RRSIG, ttl uint32, now time.Time) time.Duration {
	least := time.Duration(min(ttl, sig.Hdr.Ttl, sig.OrigTtl)) * time.Second
	end := time.Unix(now.Unix()+int64(int32(sig.Expiration-uint32(now.Unix()))), 0) // RFC 4034 section 3.1.5
	return max(0, min(least, end.Sub(now)))
}

// verify finds a signature of the records that holds.
func (v *validator) verify(by signer, set, among []dns.RR) (*dns.RRSIG, error) {
	h := set[0].Header()
	what := zone.Tidy(h.Name) + " " + typeName(h.Rrtype)
	err := notHeld("%s is not signed, and %s is", what, called(by.zone))
	for _, rr := range among {
		sig, ok := rr.(*dns.RRSIG)
		if !ok || sig.TypeCovered != h.Rrtype || !strings.EqualFold(sig.Hdr.Name, h.Name) ||
			zone.Tidy(sig.SignerName) != by.zone || !zone.Within(zone.Tidy(h.Name), by.zone) {
			continue
		}
		if !sig.ValidityPeriod(v.now) {
			err = notHeld("the signature of %s is out of date", what)
			continue
		}
		for _, key := range by.keys {
			if key.KeyTag() != sig.KeyTag {
				continue
			}
			if v.checked++; v.checked > maxSignatures {
				return nil, notHeld("checking it would take more than %d signatures", maxSignatures)
			}
			if sig.Verify(key, set) == nil {
				return sig, nil
			}
		}
		err = notHeld("the signature of %s does not hold", what)
	}
	return nil, err
}

// signersOf are the zones that the signatures of a name and type say are theirs.
func signersOf(among []dns.RR, name string, typ uint16) []string {
	var out []string
	for _, rr := range among {
		sig, ok := rr.(*dns.RRSIG)
		if ok && sig.TypeCovered == typ && strings.EqualFold(sig.Hdr.Name, name) {
			out = append(out, zone.Tidy(sig.SignerName))
		}
	}
	return out
}

// signersIn are the zones that any signature says is theirs.
func signersIn(among []dns.RR) []string {
	var out []string
	for _, rr := range among {
		if sig, ok := rr.(*dns.RRSIG); ok {
			out = append(out, zone.Tidy(sig.SignerName))
		}
	}
	return out
}

func called(zone string) string {
	if zone == "" {
		return "the root"
	}
	return zone
}

// signerOf finds the zone that signs a name: from the root down, by the keys that each zone says the next one has.
// named are the zones that signatures say are theirs: where there is one, no zone below it is looked for, because
// records that it has not signed do not hold anyway.
func (v *validator) signerOf(name string, typ uint16, named []string) (signer, error) {
	if len(v.anchors) == 0 {
		return signer{}, nil
	}
	if typ == dns.TypeDS {
		name = zone.Above(name) // signed by the zone above
	}
	deepest := -1
	for _, at := range named {
		if zone.Within(name, at) {
			deepest = max(deepest, zone.Labels(at))
		}
	}
	if deepest < 0 {
		deepest = zone.Labels(name)
	}
	by, err := v.keysOf("", v.anchors)
	if err != nil {
		return signer{}, err
	}
	for labels := 1; labels <= deepest; labels++ {
		next, more, err := v.below(by, ancestor(name, labels))
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
		told = understood(told)
		if len(told) == 0 {
			// signed in a way that is not known here: as if it were not (RFC 4035 section 5.2)
			return signer{}, false, nil
		}
		next, err = v.keysOf(at, told)
		return next, true, err
	}
	if slices.ContainsFunc(m.Answer, func(rr dns.RR) bool { return rr.Header().Rrtype == dns.TypeCNAME }) {
		return by, true, nil // no zone begins at an alias; its own signature is checked with the answer
	}
	return v.proofs(m, by).delegation(by, at)
}

// digests are those that what is told of keys may have, the weakest first (RFC 4509, RFC 6605).
var digests = []uint8{dns.SHA1, dns.SHA256, dns.SHA384}

// algorithms are those of keys whose signatures can be checked (RFC 8624).
var algorithms = []uint8{dns.RSASHA1, dns.RSASHA1NSEC3SHA1, dns.RSASHA256, dns.RSASHA512, dns.ECDSAP256SHA256,
	dns.ECDSAP384SHA384, dns.ED25519}

// understood is what is told of keys in a way that can be checked. A weak digest is not looked at where there is a
// better one (RFC 4509 section 3).
func understood(told []*dns.DS) []*dns.DS {
	var out []*dns.DS
	strong := false
	for _, ds := range told {
		if slices.Contains(digests, ds.DigestType) && slices.Contains(algorithms, ds.Algorithm) {
			out = append(out, ds)
			strong = strong || ds.DigestType != dns.SHA1
		}
	}
	return slices.DeleteFunc(out, func(ds *dns.DS) bool { return strong && ds.DigestType == dns.SHA1 })
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
		set = append(set, rr)
		if key.Flags&dns.ZONE == 0 || key.Flags&dns.REVOKE != 0 || key.Protocol != 3 {
			continue // signs no zone (RFC 4034 section 2.1), or no more (RFC 5011 section 2.1)
		}
		all = append(all, key)
		if slices.ContainsFunc(told, func(ds *dns.DS) bool {
			if ds.KeyTag != key.KeyTag() || ds.Algorithm != key.Algorithm {
				return false
			}
			is := key.ToDS(ds.DigestType)
			return is != nil && strings.EqualFold(is.Digest, ds.Digest)
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
	m, asked, err := v.ask(name, typ)
	if asked {
		v.asked++
	}
	if v.asked > maxProofs {
		return nil, notHeld("checking it would take more than %d questions", maxProofs)
	}
	if err != nil {
		return nil, notHeld("%s of %s, which it takes to check the answer: %s", typeName(typ), called(name), err)
	}
	return m, nil
}

// CompareCanonical orders names as their denials do: label by label from the end, octet by octet (RFC 4034 section
// 6.1).
func CompareCanonical(a, b string) int {
	x, y := dns.SplitDomainName(a), dns.SplitDomainName(b)
	for i := 1; i <= len(x) && i <= len(y); i++ {
		if c := strings.Compare(lower(zone.Octets(x[len(x)-i])), lower(zone.Octets(y[len(y)-i]))); c != 0 {
			return c
		}
	}
	return len(x) - len(y)
}

// lower makes the capitals of ASCII small; other octets stay (RFC 4343 section 3).
func lower(octets string) string {
	if strings.IndexFunc(octets, func(r rune) bool { return r >= 'A' && r <= 'Z' }) < 0 {
		return octets
	}
	out := []byte(octets)
	for i, c := range out {
		if c >= 'A' && c <= 'Z' {
			out[i] = c + 'a' - 'A'
		}
	}
	return string(out)
}
