package site

import (
	"encoding/hex"
	"encoding/json"
	"iter"
	"net/netip"
	"regexp"
	"strconv"
	"strings"
)

// Literal finds what may be an IPv4 address or prefix in a text.
var Literal = regexp.MustCompile(`\b(?:\d{1,3}\.){3}\d{1,3}(?:/\d{1,2}\b)?`)

// Mention is an address that a text of a part names.
type Mention struct {
	Part    Ref
	Key     string // under which the text lies
	Text    string
	Address netip.Addr
	Bits    int  // the length of a prefix that is named; 32 of a single address
	Words   bool // the text is for people alone
}

// Of reports whether the text names an address of a prefix, or part of it; not where it names a wider one.
func (m Mention) Of(p netip.Prefix) bool { return p.Contains(m.Address) && m.Bits >= p.Bits() }

// Mentioned lists the addresses that the parts of a site name, in any text of theirs. The ranges of pools and
// exclusions are not texts, and reverse names (RFC 1035 section 3.5) name no address.
func Mentioned(s *Site) iter.Seq[Mention] {
	return func(yield func(Mention) bool) {
		goes := true
		for _, k := range Kinds() {
			k.Each(s, func(_ Ref, list List, i int) bool {
				var tree any
				if !goes || json.Unmarshal(list.JSON(i), &tree) != nil {
					return goes
				}
				part := Ref{Kind: k.Name, ID: list.ID(i)}
				goes = inTexts("", tree, func(key, text string) bool {
					return mentionsIn(Mention{Part: part, Key: key, Text: text, Words: ForPeople(key)}, yield)
				})
				return goes
			})
		}
		for _, o := range s.Options {
			of := Mention{Part: Ref{Kind: KindSite, ID: s.ID}, Key: "options", Text: o.Value}
			if goes = goes && mentionsIn(of, yield); !goes {
				return
			}
		}
	}
}

// Named lists the addresses that the value of an option names.
func Named(value string) iter.Seq[netip.Addr] {
	return func(yield func(netip.Addr) bool) {
		mentionsIn(Mention{Key: "value", Text: value}, func(m Mention) bool { return yield(m.Address) })
	}
}

func mentionsIn(m Mention, yield func(Mention) bool) bool {
	if strings.Contains(m.Text, ".arpa") {
		return true
	}
	goes := true
	m.Bits = 32
	InOctets(m.Key, m.Text, func(a netip.Addr) netip.Addr {
		m.Address = a
		goes = goes && yield(m)
		return a
	})
	for _, found := range Literal.FindAllString(m.Text, -1) {
		if !goes {
			return false
		}
		bare, length, _ := strings.Cut(found, "/")
		var err error
		if m.Bits, err = strconv.Atoi(length); err != nil {
			m.Bits = 32
		}
		if m.Address, err = netip.ParseAddr(bare); err == nil {
			goes = yield(m)
		}
	}
	return goes
}

// octets is the text of a value in hexadecimal, as it is typed for what has no other form: at least four octets.
var octets = regexp.MustCompile(`^(?:0x)?(?:[[:xdigit:]]{2}[ :-]?){3,}[[:xdigit:]]{2}$`)

// inOctets reports whether the text under a key is an option's value in hexadecimal.
func inOctets(key, text string) bool {
	return (key == "value" || key == "options") && octets.MatchString(text)
}

// InOctets gives every four octets of an option's value in hexadecimal to another address, or leaves them where that is
// the same, and returns the text with those that changed. What makers put into option 43 or 125 may name an address at
// any place in it.
func InOctets(key, text string, other func(netip.Addr) netip.Addr) string {
	if !inOctets(key, text) {
		return text
	}
	var digits []int // where the digits are
	for i := range text {
		if !strings.ContainsRune(" :-x", rune(text[i])) && (i > 0 || !strings.HasPrefix(text, "0x")) {
			digits = append(digits, i)
		}
	}
	out := []byte(text)
	for i := 0; i+8 <= len(digits); i += 2 {
		var spelled [8]byte
		for k := range spelled {
			spelled[k] = text[digits[i+k]]
		}
		var was [4]byte
		_, _ = hex.Decode(was[:], spelled[:]) // the pattern takes hexadecimal digits alone
		now := other(netip.AddrFrom4(was)).As4()
		if now == was {
			continue
		}
		hex.Encode(spelled[:], now[:])
		for k := range spelled {
			out[digits[i+k]] = spelled[k]
		}
		i += 6 // the next address begins behind this one
	}
	return string(out)
}

// forPeople are the keys of a site file whose text no device reads.
var forPeople = map[string]bool{"note": true, "contacts": true, "reason": true, "purpose": true, "name": true,
	"meaning": true, "ignored": true, "id": true, "code": true}

// ForPeople reports whether the text under a key of a site file is for people alone.
func ForPeople(key string) bool { return forPeople[key] }

// apart are the keys under which parts of other kinds lie.
var apart = map[string]bool{"interfaces": true, "exclusions": true, "records": true}

// HoldsRanges reports whether the values under a key of a site file are ranges of addresses.
func HoldsRanges(key string) bool { return key == "ranges" || key == "range" }

func inTexts(key string, v any, visit func(key, text string) bool) bool {
	switch v := v.(type) {
	case map[string]any:
		for k, of := range v {
			if !apart[k] && !HoldsRanges(k) && !inTexts(k, of, visit) {
				return false
			}
		}
	case []any:
		for _, of := range v {
			if !inTexts(key, of, visit) {
				return false
			}
		}
	case string:
		return !strings.Contains(v, ".") && !inOctets(key, v) || visit(key, v)
	}
	return true
}
