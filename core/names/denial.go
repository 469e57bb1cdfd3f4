package names

import (
	"slices"
	"strings"

	"github.com/miekg/dns"

	"lithos/core/zone"
)

// maxIterations is how often names may be hashed for a denial. A zone that asks for more counts as one that is not
// signed (RFC 9276 section 3.2).
const maxIterations = 100

// denials are the proofs of a message that their zone has signed: NSEC (RFC 4034 section 4) or NSEC3 (RFC 5155).
type denials struct {
	zone   string
	plain  []*dns.NSEC
	hashed []*dns.NSEC3
	// beyond says that the zone hashes names more often than is followed.
	beyond bool
}

// proofs are the denials of a message that hold. One that was made from a wildcard denies nothing: its signature is of
// another owner.
func (v *validator) proofs(m *dns.Msg, by signer) denials {
	out := denials{zone: by.zone}
	for _, rr := range m.Ns {
		switch rr.(type) {
		case *dns.NSEC, *dns.NSEC3:
		default:
			continue
		}
		sig, err := v.verify(by, []dns.RR{rr}, m.Ns)
		if err != nil || expanded(sig) {
			continue
		}
		v.most = min(v.most, holdsFor(sig, rr.Header().Ttl, v.now))
		switch n := rr.(type) {
		case *dns.NSEC:
			out.plain = append(out.plain, n)
		case *dns.NSEC3:
			out.hash(n)
		}
	}
	return out
}

// hash adds a denial by hashed names. All of a message must hash alike (RFC 5155 section 8.2), and what is not known
// is left out (section 8.1).
func (d *denials) hash(n *dns.NSEC3) {
	switch {
	case n.Hash != dns.SHA1, n.Flags > 1, zone.Above(zone.Tidy(n.Hdr.Name)) != d.zone:
	case n.Iterations > maxIterations:
		d.beyond = true
	case len(d.hashed) > 0 &&
		(n.Iterations != d.hashed[0].Iterations || !strings.EqualFold(n.Salt, d.hashed[0].Salt)):
	default:
		upper := *n // as a hash is written
		upper.NextDomain = strings.ToUpper(n.NextDomain)
		d.hashed = append(d.hashed, &upper)
	}
}

// denied checks the proof that a name, or a type of it, is not there (RFC 4035 section 5.4, RFC 5155 section 8). It is
// not secure where zones that are not signed may be in the gap.
func (v *validator) denied(m *dns.Msg, by signer, name string, typ uint16) (secure bool, err error) {
	proofs := v.proofs(m, by)
	if proofs.beyond {
		return false, nil
	}
	var holds, optOut bool
	if m.Rcode == dns.RcodeNameError {
		holds, optOut = proofs.noName(name)
	} else {
		holds, optOut = proofs.noData(name, typ)
	}
	if !holds {
		return false, notHeld("nothing proves that %s %s is not there", name, typeName(typ))
	}
	return !optOut, nil
}

// noName reports whether the proofs say that neither a name is there nor a wildcard that would answer for it.
func (d denials) noName(name string) (holds, optOut bool) {
	if encloser, out, ok := d.hashedEncloser(name); ok {
		covered, _ := d.hashedCover(star(encloser))
		return covered, out
	}
	encloser, ok := d.plainEncloser(name)
	if !ok {
		return false, false
	}
	covered, _ := d.noneBelow(star(encloser))
	return covered, false
}

// noData reports whether the proofs say that a name is there without a type: itself, or the wildcard that answers for
// it.
func (d denials) noData(name string, typ uint16) (holds, optOut bool) {
	if types, ok := d.typesOf(name); ok {
		return lacks(types, typ), false
	}
	if d.between(name) {
		return true, false // nothing is at the name, and something below it
	}
	if encloser, ok := d.plainEncloser(name); ok {
		types, has := d.typesOf(star(encloser))
		return has && lacks(types, typ) || d.between(star(encloser)), false
	}
	if encloser, out, ok := d.hashedEncloser(name); ok {
		if types, has := d.typesOf(star(encloser)); has {
			return lacks(types, typ), out
		}
		return typ == dns.TypeDS && out, out // RFC 5155 section 8.6
	}
	return false, false
}

// delegation says who signs below a name of a zone, from the denial of its keys: the zone itself; nobody, where a zone
// begins that is not signed. more is false where nothing can begin further down.
func (d denials) delegation(by signer, at string) (next signer, more bool, err error) {
	if d.beyond {
		return signer{}, false, nil
	}
	if types, ok := d.typesOf(at); ok {
		switch has := func(typ uint16) bool { return slices.Contains(types, typ) }; {
		case has(dns.TypeDS):
			return signer{}, false, notHeld("the keys of %s were left out", at)
		case has(dns.TypeNS) && !has(dns.TypeSOA):
			return signer{}, false, nil // a zone that is not signed begins here
		}
		return by, true, nil
	}
	if d.between(at) {
		return by, true, nil
	}
	if covered, optOut := d.noneBelow(at); covered && !optOut {
		return by, false, nil
	}
	if _, optOut, ok := d.hashedEncloser(at); ok && optOut {
		return signer{}, false, nil // zones that are not signed may be in the gap (RFC 5155 section 8.6)
	} else if ok {
		return by, false, nil
	}
	return signer{}, false, notHeld("nothing proves whether %s is signed", at)
}

func star(encloser string) string { return zone.Absolute("*", encloser) }

// lacks reports whether a name without a type has nothing that would answer for it. A delegation's denial speaks for
// the keys alone: the rest is the zone's below (RFC 6840 section 4.1).
func lacks(types []uint16, typ uint16) bool {
	has := func(typ uint16) bool { return slices.Contains(types, typ) }
	above := has(dns.TypeNS) && !has(dns.TypeSOA)
	return !has(typ) && !has(dns.TypeCNAME) && (!above || typ == dns.TypeDS)
}

// typesOf are the types that a name has, by its own denial.
func (d denials) typesOf(name string) ([]uint16, bool) {
	for _, n := range d.plain {
		if zone.Tidy(n.Hdr.Name) == name {
			return n.TypeBitMap, true
		}
	}
	hash := d.hashOf(name)
	for _, n := range d.hashed {
		if ownHash(n) == hash {
			return n.TypeBitMap, true
		}
	}
	return nil, false
}

// hashOf is the hash of a name as the denials make it.
func (d denials) hashOf(name string) string {
	if len(d.hashed) == 0 {
		return ""
	}
	first := d.hashed[0]
	return dns.HashName(dns.Fqdn(name), first.Hash, first.Iterations, first.Salt)
}

// ownHash is the hash of the name that a denial is of.
func ownHash(n *dns.NSEC3) string {
	label, _, _ := strings.Cut(n.Hdr.Name, ".")
	return strings.ToUpper(label)
}

// between reports whether nothing is at a name because the next one is below it (RFC 4035 section 5.4).
func (d denials) between(name string) bool {
	return slices.ContainsFunc(d.plain, func(n *dns.NSEC) bool {
		return covers(n, name) && zone.Within(zone.Tidy(n.NextDomain), name)
	})
}

// noneBelow reports whether a name is proved not to be there, nor anything below it. optOut says that zones which are
// not signed may be.
func (d denials) noneBelow(name string) (covered, optOut bool) {
	if slices.ContainsFunc(d.plain, func(n *dns.NSEC) bool { return deniesBelow(n, name) }) {
		return true, false
	}
	return d.hashedCover(name)
}

// deniesBelow reports whether a denial says that there is no such name, nor anything below it.
func deniesBelow(n *dns.NSEC, name string) bool {
	return covers(n, name) && !zone.Within(zone.Tidy(n.NextDomain), name) &&
		speaksFor(n.Hdr.Name, n.TypeBitMap, name)
}

// speaksFor reports whether a denial may say something of a name: not of what lies below a delegation or a DNAME of
// its owner (RFC 6840 section 4.1).
func speaksFor(owner string, types []uint16, name string) bool {
	owner = zone.Tidy(owner)
	has := func(typ uint16) bool { return slices.Contains(types, typ) }
	below := owner != name && zone.Within(name, owner)
	return !below || !has(dns.TypeDNAME) && (!has(dns.TypeNS) || has(dns.TypeSOA))
}

// plainEncloser is the closest name above one that is proved not to be there: what it shares with either end of the
// gap (RFC 4592 section 3.3.1).
func (d denials) plainEncloser(name string) (encloser string, ok bool) {
	for _, n := range d.plain {
		if !deniesBelow(n, name) {
			continue
		}
		whole := dns.Fqdn(name)
		shared := max(dns.CompareDomainName(whole, n.Hdr.Name), dns.CompareDomainName(whole, n.NextDomain))
		return ancestor(name, shared), true
	}
	return "", false
}

// hashedEncloser is the closest name above one that is proved not to be there, by hashed names (RFC 5155 section 8.3):
// it is there itself, and the next closer one is not.
func (d denials) hashedEncloser(name string) (encloser string, optOut, ok bool) {
	if len(d.hashed) == 0 || !zone.Within(name, d.zone) {
		return "", false, false
	}
	for next := name; next != d.zone; next = encloser {
		encloser = zone.Above(next)
		types, has := d.typesOf(encloser)
		if !has {
			continue
		}
		covered, out := d.hashedCover(next)
		return encloser, out, covered && speaksFor(encloser, types, next)
	}
	return "", false, false
}

// hashedCover reports whether the hash of a name lies in a gap, and whether zones that are not signed may be there.
func (d denials) hashedCover(name string) (covered, optOut bool) {
	hash := d.hashOf(name)
	for _, n := range d.hashed {
		own, next := ownHash(n), n.NextDomain
		if own < next && own < hash && hash < next || own >= next && (hash > own || hash < next) {
			return true, n.Flags&1 == 1
		}
	}
	return false, false
}

// covers reports whether a denial says that there is no such name (RFC 4034 section 4).
func covers(n *dns.NSEC, name string) bool {
	owner, next := zone.Tidy(n.Hdr.Name), zone.Tidy(n.NextDomain)
	if CompareCanonical(owner, name) >= 0 {
		return false
	}
	return CompareCanonical(name, next) < 0 || CompareCanonical(next, owner) <= 0 // the last leads to the first
}
