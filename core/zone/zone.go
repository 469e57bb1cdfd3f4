// Package zone is the names and the records of DNS zones as people write them: owners relative to
// their zone, record data in the text form of RFC 1035 section 5.1, reverse names of prefixes of any
// length (RFC 2317), and zone and hosts files. Names are kept in small letters, without the dot at
// the end; they compare without regard to case (RFC 4343).
package zone

import (
	"cmp"
	"fmt"
	"net/netip"
	"strings"

	"github.com/miekg/dns"

	"lithos/core/option"
)

// Apex is how the owner is written that is the zone itself (RFC 1035 section 5.1).
const Apex = "@"

// The limits of names (RFC 1035 section 2.3.4), in octets.
const (
	maxLabel = 63
	maxName  = 253 // as text, without the dot at the end
)

// Record is one record of a zone: its owner relative to the zone, its type, its data as text, and
// how long others may keep it, in seconds; 0 for as long as the zone says.
type Record struct {
	Owner string
	Type  string
	Data  string
	TTL   int
}

// CheckName says what is wrong with a domain name of a zone. Its labels may hold underscores, which
// names that are no host's have (RFC 8552), and a slash, as classless reverse zones do (RFC 2317); the
// first may be the star of a wildcard (RFC 4592).
func CheckName(name string) error {
	if name == "" {
		return fmt.Errorf("a name is missing; type for example kelder.larkrise.example")
	}
	if len(name) > maxName {
		return fmt.Errorf("the name has %d characters; use at most %d", len(name), maxName)
	}
	first := true
	for label := range strings.SplitSeq(name, ".") {
		if star := first && label == "*"; !star {
			if err := checkLabel(label); err != nil {
				return option.Meant(err, name, checkPart)
			}
		}
		first = false
	}
	return nil
}

func checkLabel(label string) error {
	valid := label != "" && len(label) <= maxLabel && label[0] != '-' && label[len(label)-1] != '-'
	for _, c := range []byte(label) {
		valid = valid && (c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '-' ||
			c == '_' || c == '/')
	}
	if valid {
		return nil
	}
	if len(label) > maxLabel {
		return fmt.Errorf("%q has %d characters between two dots; use at most %d", clip(label), len(label), maxLabel)
	}
	instead, _ := option.LawfulLabel(label)
	return &option.NameError{Says: fmt.Sprintf("%q is not part of a name; use letters, digits, inner hyphens and "+
		"underscores, for example %s", clip(label), cmp.Or(instead, "label-prn")), Instead: instead}
}

// checkPart is checkLabel for a label that may be a star.
func checkPart(label string) error {
	if label == "*" {
		return nil
	}
	return checkLabel(label)
}

func clip(s string) string {
	if len(s) > 40 {
		return strings.ToValidUTF8(s[:40], "") + "…"
	}
	return s
}

// Tidy is a name in the form names are kept in.
func Tidy(name string) string {
	return strings.ToLower(strings.TrimSuffix(strings.TrimSpace(name), "."))
}

// Absolute is the whole name of an owner in a zone.
func Absolute(owner, zone string) string {
	switch {
	case owner == Apex || owner == "":
		return zone
	case zone == "":
		return owner
	}
	return owner + "." + zone
}

// Relative is a whole name as an owner in a zone; ok is false for one outside it.
func Relative(name, zone string) (owner string, ok bool) {
	if name == zone {
		return Apex, true
	}
	if !below(name, zone) {
		return name, false
	}
	return strings.TrimSuffix(name, "."+zone), true
}

// Within reports whether a name is a domain or lies below it.
func Within(name, domain string) bool {
	return domain == "" || name == domain || below(name, domain)
}

// DataAt is the data of the records of an owner and a type; capitals of the owner do not matter (RFC 4343 section 3).
func DataAt(list []Record, owner, typ string) []string {
	var out []string
	for _, r := range list {
		if r.Type == typ && strings.EqualFold(r.Owner, owner) {
			out = append(out, r.Data)
		}
	}
	return out
}

// ReadOwner reads the owner of a record as typed: relative to the zone, or the whole name, which ends
// with the zone. Nothing typed is the zone itself.
func ReadOwner(text, zone string) (owner string, err error) {
	name := Tidy(text)
	if name == "" || name == Apex || name == zone {
		return Apex, nil
	}
	if inside, ok := Relative(name, zone); ok {
		name = inside
	} else if strings.HasSuffix(strings.TrimSpace(text), ".") {
		return "", fmt.Errorf("%q is not in %s; type a name that is, for example label-prn", clip(name), zone)
	}
	if err := CheckName(name); err != nil {
		return "", err
	}
	if whole := Absolute(name, zone); len(whole) > maxName {
		return "", fmt.Errorf("%q has %d characters with its zone; use at most %d", clip(whole), len(whole), maxName)
	}
	return name, nil
}

// Target is the whole name that record data names: one word is of the zone, more is the whole name.
func Target(text, zone string) string {
	switch name := Tidy(text); {
	case name == Apex:
		return zone
	case strings.Contains(name, "."):
		return name
	default:
		return Absolute(name, zone)
	}
}

// shortTarget is how record data names a whole name.
func shortTarget(name, zone string) string {
	if owner, ok := Relative(name, zone); ok && !strings.Contains(owner, ".") {
		return owner
	}
	return name
}

// RR is a record as messages carry it. ttl is the zone's, for a record without its own.
func (r Record) RR(zone string, ttl int) (dns.RR, error) {
	if r.TTL != 0 {
		ttl = r.TTL
	}
	if rr := r.common(zone, uint32(ttl)); rr != nil {
		return rr, nil
	}
	data, err := expand(r.Type, r.Data, zone)
	if err != nil {
		return nil, err
	}
	return parseRR(fmt.Sprintf("%s %d IN %s %s", dns.Fqdn(Absolute(r.Owner, zone)), ttl, r.Type, data))
}

// Of is a record as it is written in a zone; ok is false for one that is not in the zone, of a type
// that is not written there (Types), or whose data is not whole.
func Of(rr dns.RR, zone string) (r Record, ok bool) {
	h := rr.Header()
	typ := dns.TypeToString[h.Rrtype]
	owner, in := Relative(Tidy(h.Name), zone)
	k, known := kindOf(typ)
	if !known || !in || h.Class != dns.ClassINET {
		return Record{}, false
	}
	r = Record{Owner: owner, Type: typ, Data: DataOf(rr, zone), TTL: int(h.Ttl)}
	return r, whole(k, rr, r.Data)
}

// common makes the types that zones are full of without parsing; nil for others, and for data that is
// none of the type.
func (r Record) common(zone string, ttl uint32) dns.RR {
	h := dns.RR_Header{Name: dns.Fqdn(Absolute(r.Owner, zone)), Class: dns.ClassINET, Ttl: ttl}
	switch r.Type {
	case "A":
		if a, err := netip.ParseAddr(r.Data); err == nil && a.Is4() {
			h.Rrtype = dns.TypeA
			return &dns.A{Hdr: h, A: a.AsSlice()}
		}
	case "PTR", "CNAME":
		target := Target(r.Data, zone)
		if CheckName(target) != nil {
			return nil
		}
		if h.Rrtype = dns.TypePTR; r.Type == "PTR" {
			return &dns.PTR{Hdr: h, Ptr: dns.Fqdn(target)}
		}
		h.Rrtype = dns.TypeCNAME
		return &dns.CNAME{Hdr: h, Target: dns.Fqdn(target)}
	}
	return nil
}

func parseRR(line string) (dns.RR, error) {
	p := dns.NewZoneParser(strings.NewReader(line+"\n"), ".", "")
	rr, ok := p.Next()
	if err := p.Err(); err != nil {
		return nil, err
	}
	if !ok {
		return nil, fmt.Errorf("the record is empty")
	}
	return rr, nil
}
