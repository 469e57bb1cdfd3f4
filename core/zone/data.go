package zone

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"github.com/miekg/dns"
)

// kind is a type of record: where its data names another name, and an example of it.
type kind struct {
	name    string
	words   int // of the data, 0 for as many as there are
	target  int // which of the words is a name, -1 for none
	example string
}

// kinds are the types of records that people write, in the order in which they are offered.
var kinds = []kind{
	{"A", 1, -1, "10.84.20.40"},
	{"AAAA", 1, -1, "2001:db8::40"},
	{"CNAME", 1, 0, "edge"},
	{"PTR", 1, 0, "label-prn.kelder.larkrise.example"},
	{"TXT", 0, -1, `"v=spf1 -all"`},
	{"SRV", 4, 3, "0 5 5060 pbx"},
	{"MX", 2, 1, "10 mail"},
	{"CAA", 3, -1, `0 issue "ca.example"`},
	{"NS", 1, 0, "ns-1"},
}

// Types lists the types of records that people write.
func Types() []string {
	var out []string
	for _, k := range kinds {
		out = append(out, k.name)
	}
	return out
}

func kindOf(typ string) (kind, bool) {
	i := slices.IndexFunc(kinds, func(k kind) bool { return k.name == typ })
	if i < 0 {
		return kind{}, false
	}
	return kinds[i], true
}

// Example is data of a type as it is typed.
func Example(typ string) string {
	k, _ := kindOf(typ)
	return k.example
}

// ReadData reads the data of a record as typed, and gives it in its one form: a name in the zone as
// one word, any other whole. The error says what to type instead.
func ReadData(typ, text, zone string) (string, error) {
	k, ok := kindOf(typ)
	if !ok {
		return "", fmt.Errorf("%q is not a type of record; choose one of %s", clip(typ), strings.Join(Types(), ", "))
	}
	text = strings.TrimSpace(text)
	if text == "" {
		return "", fmt.Errorf("a value is missing; type for example %s", k.example)
	}
	if typ == "TXT" {
		return readText(text)
	}
	words := strings.Fields(text)
	if k.words > 0 && typ != "CAA" && len(words) != k.words {
		return "", fmt.Errorf("%q is not what %s holds; type for example %s", clip(text), typ, k.example)
	}
	if k.target >= 0 {
		target := Tidy(words[k.target])
		if target == "" && words[k.target] == "." { // no such service (RFC 2782), no mail (RFC 7505)
			return strings.Join(append(words[:k.target], "."), " "), checkNumbers(k, words)
		}
		if target != Apex {
			if err := CheckName(target); err != nil {
				return "", err
			}
		}
		words[k.target] = shortTarget(Target(target, zone), zone)
		return strings.Join(words, " "), checkNumbers(k, words)
	}
	switch typ {
	case "A", "AAAA":
		a, err := netip.ParseAddr(text)
		if err != nil || a.Is4() != (typ == "A") || a.Zone() != "" || a.Is4In6() {
			return "", fmt.Errorf("%q is not an address; type for example %s", clip(text), k.example)
		}
		return a.String(), nil
	default:
		return ownForm(k, text)
	}
}

// checkNumbers reads the words of record data that are no name: numbers of 16 bits.
func checkNumbers(k kind, words []string) error {
	for i, w := range words {
		if _, err := strconv.ParseUint(w, 10, 16); err != nil && i != k.target {
			return fmt.Errorf("%q is not a number from 0 to 65535; type for example %s", clip(w), k.example)
		}
	}
	return nil
}

// ownForm is data as the message library writes it, which proves that it reads it.
func ownForm(k kind, text string) (string, error) {
	rr, err := parseRR("x. 0 IN " + k.name + " " + text)
	if err == nil && dns.TypeToString[rr.Header().Rrtype] == k.name && fits(rr) {
		if data := DataOf(rr, ""); whole(k, rr, data) {
			return data, nil
		}
	}
	return "", fmt.Errorf("%q is not what %s holds; type for example %s", clip(text), k.name, k.example)
}

// fits reports whether a record can be sent, and is not longer than people write them. It is measured as it is sent: an
// octet outside of ASCII is written with four characters.
func fits(rr dns.RR) bool {
	_, err := dns.PackRR(rr, make([]byte, maxRecord), 0, nil, false)
	return err == nil
}

// maxRecord is the longest record, in octets with its name and its head.
const maxRecord = 4096

// readText reads text with or without quotes. More than 255 octets are split, as the receiver joins
// them (RFC 7208 section 3.3).
func readText(text string) (string, error) {
	if !strings.HasPrefix(text, `"`) {
		text = `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`
	}
	rr, err := parseRR("x. 0 IN TXT " + text)
	if err != nil {
		return "", fmt.Errorf("%q is not text; put it in quotes, and a backslash before a quote in it", clip(text))
	}
	if t, ok := rr.(*dns.TXT); !ok || len(t.Txt) == 0 {
		return "", errors.New("is not text; put it in quotes")
	}
	if !fits(rr) {
		return "", errors.New("is too long; use at most 4000 octets")
	}
	return DataOf(rr, ""), nil
}

// expand is data as zone files have it: names whole, with a dot at the end.
func expand(typ, data, zone string) (string, error) {
	k, ok := kindOf(typ)
	if !ok {
		return "", fmt.Errorf("%q is not a type of record", clip(typ))
	}
	if k.target < 0 {
		return data, nil
	}
	words := strings.Fields(data)
	if len(words) != k.words {
		return "", fmt.Errorf("%q is not what %s holds", clip(data), typ)
	}
	if words[k.target] != "." {
		words[k.target] = dns.Fqdn(Target(words[k.target], zone))
	}
	return strings.Join(words, " "), nil
}

// whole reports whether data has all that its type holds: messages may bring data that is cut short, and tags of any
// octets, where RFC 8659 section 4.1 has letters and digits.
func whole(k kind, rr dns.RR, data string) bool {
	if caa, ok := rr.(*dns.CAA); ok && (caa.Tag == "" || strings.Trim(strings.ToLower(caa.Tag), tagged) != "") {
		return false
	}
	return data != "" && len(strings.Fields(data)) >= k.words
}

// tagged are the characters of the tag of a CAA record.
const tagged = "abcdefghijklmnopqrstuvwxyz0123456789"

// DataOf is the data of a record in the form that ReadData gives; what there is of it where it is cut short.
func DataOf(rr dns.RR, zone string) string {
	switch rr := rr.(type) { // what zones are full of
	case *dns.A:
		if a, ok := netip.AddrFromSlice(rr.A.To4()); ok {
			return a.String()
		}
	case *dns.CNAME:
		if rr.Target != "." && rr.Target != "" {
			return shortTarget(Tidy(rr.Target), zone)
		}
	case *dns.PTR:
		if rr.Ptr != "." && rr.Ptr != "" {
			return shortTarget(Tidy(rr.Ptr), zone)
		}
	}
	typ := dns.TypeToString[rr.Header().Rrtype]
	text := strings.TrimPrefix(rr.String(), rr.Header().String())
	k, ok := kindOf(typ)
	if !ok || k.target < 0 {
		return text
	}
	words := strings.Fields(text)
	if len(words) != k.words {
		return text
	}
	if last := words[len(words)-1]; last != "." {
		words[len(words)-1] = shortTarget(Tidy(last), zone)
	}
	return strings.Join(words, " ")
}

// TargetOf is the whole name that the data of a record names; ok is false for data that names none.
func TargetOf(r Record, zone string) (name string, ok bool) {
	k, known := kindOf(r.Type)
	words := strings.Fields(r.Data)
	if !known || k.target < 0 || len(words) != k.words || words[k.target] == "." {
		return "", false
	}
	return Target(words[k.target], zone), true
}
