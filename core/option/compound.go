package option

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// This file is the types whose values have parts of several kinds. Each is
// written in words; octets that those cannot say stay hex, and hex is read too.

// parts makes a codec that also takes the octets themselves, where they are
// sound, and writes as text only what reads back to the same octets.
func parts(
	name string, sound func(raw []byte) bool, parse func(text, example string) ([]byte, error),
	format func(wire []byte) (string, bool),
) codec {
	return codec{
		name: name,
		parse: func(text, example string) ([]byte, error) {
			wire, err := parse(text, example)
			if err == nil {
				return wire, nil
			}
			if raw, bad := parseOctets(text, example); bad == nil && sound(raw) {
				return raw, nil
			}
			return nil, err
		},
		format: func(wire []byte) (string, bool) {
			if text, ok := format(wire); ok {
				if again, err := parse(text, ""); err == nil && slices.Equal(again, wire) {
					return text, true
				}
			}
			return formatOctets(wire)
		},
	}
}

// longer reports whether octets are more than so many: enough to mean something.
func longer(than int) func(raw []byte) bool {
	return func(raw []byte) bool { return len(raw) > than }
}

// sized reports whether octets are exactly so many.
func sized(octets int) func(raw []byte) bool {
	return func(raw []byte) bool { return len(raw) == octets }
}

func areSubOptions(raw []byte) bool {
	codes, _, ok := SubOptionsOf(raw)
	return ok && len(codes) > 0
}

// tag is one kind of sub-option with the word people write before its value.
type tag struct {
	code   byte
	word   string
	parse  func(text, example string) ([]byte, error)
	format func(wire []byte) (string, bool)
}

var (
	services = []struct {
		code byte
		word string
	}{{1, "information"}, {2, "command"}, {3, "event"}}
	mobilityAddresses, mobilityNames = mobility(parseAddresses(1, 62), formatAddresses(1, " ")),
		mobility(parseNames, formatDomains)
	// RFC 3495 section 4; what is not here is written as its number and hex.
	adapterParts = []tag{
		{1, "first server", parseAddresses(1, 1), formatAddresses(1, " ")},
		{2, "second server", parseAddresses(1, 1), formatAddresses(1, " ")},
		{3, "provisioning", parseCallers, formatCallers},
		{6, "realm", parseDomainWire, formatDomainWire},
		{7, "tickets", parseSwitch, formatSwitch},
		{8, "minutes", parseNumber(1), formatNumber(1)},
	}
)

// mobility is the three services of RFC 5678.
func mobility(parse func(text, example string) ([]byte, error), format func(wire []byte) (string, bool)) (out []tag) {
	for _, s := range services {
		out = append(out, tag{s.code, s.word, parse, format})
	}
	return out
}

// tagged is sub-options written "word value; word value".
func tagged(name string, tags []tag) codec {
	return parts(name, areSubOptions, func(text, example string) ([]byte, error) {
		var codes []uint8
		var values [][]byte
		for item := range strings.SplitSeq(text, ";") {
			code, value, err := readTag(tags, strings.TrimSpace(item), example)
			if err != nil {
				return nil, err
			}
			codes, values = append(codes, code), append(values, value)
		}
		return PackSubOptions(codes, values)
	}, func(wire []byte) (string, bool) {
		codes, values, ok := SubOptionsOf(wire)
		var out []string
		for i, code := range codes {
			out = append(out, writeTag(tags, code, values[i]))
		}
		return strings.Join(out, "; "), ok && len(out) > 0
	})
}

func readTag(tags []tag, item, example string) (code uint8, value []byte, err error) {
	var words []string
	for _, t := range tags {
		if rest, ok := strings.CutPrefix(strings.ToLower(item), t.word+" "); ok {
			value, err = t.parse(strings.TrimSpace(rest), example)
			return t.code, value, err
		}
		words = append(words, t.word)
	}
	number, rest, _ := strings.Cut(item, " ")
	n, err := strconv.ParseUint(number, 10, 8)
	if err != nil {
		return 0, nil, fmt.Errorf("%q begins with none of %s; type for example %s", item,
			strings.Join(words, ", "), example)
	}
	value, err = parseOctets(rest, example)
	return uint8(n), value, err
}

func writeTag(tags []tag, code uint8, value []byte) string {
	for _, t := range tags {
		if text, ok := t.format(value); ok && t.code == code {
			return t.word + " " + text
		}
	}
	return fmt.Sprintf("%d %s", code, hex.EncodeToString(value))
}

// parseNames reads names that are sent one after another without compression
// (RFC 1035 section 3.1).
func parseNames(text, _ string) ([]byte, error) {
	var out []byte
	for _, name := range list(text) {
		wire, err := packDomains([]string{name})
		if err != nil {
			return nil, err
		}
		out = append(out, wire...)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("a name is missing; type for example kelder.larkrise.example")
	}
	return out, nil
}

// parseAddressLists reads lists of addresses, each the servers of one network
// (RFC 7291 section 4): commas within a list, semicolons between.
func parseAddressLists(text, example string) ([]byte, error) {
	var out []byte
	for item := range strings.SplitSeq(text, ";") {
		wire, err := parseAddresses(1, 60)(strings.TrimSpace(item), example)
		if err != nil {
			return nil, err
		}
		out = append(append(out, byte(len(wire))), wire...)
	}
	return out, nil
}

func formatAddressLists(wire []byte) (string, bool) {
	var out []string
	for len(wire) > 0 {
		n := int(wire[0])
		if len(wire) < 1+n {
			return "", false
		}
		text, ok := formatAddresses(1, " ")(wire[1 : 1+n])
		if !ok {
			return "", false
		}
		out, wire = append(out, text), wire[1+n:]
	}
	return strings.Join(out, "; "), len(out) > 0
}

// preferences of RFC 6731 section 4.3.
var preferences = map[byte]string{0: "", 1: "high ", 3: "low "}

// parseSelection reads which name servers to ask for which domains: "high
// 10.84.16.10, 10.84.16.1 for kelder.larkrise.example" (RFC 6731 section 4.3).
func parseSelection(text, example string) ([]byte, error) {
	flags := byte(0)
	for f, word := range preferences {
		if rest, ok := strings.CutPrefix(text, word); ok && word != "" {
			flags, text = f, rest
		}
	}
	servers, domains, ok := strings.Cut(text, " for ")
	if !ok {
		return nil, fmt.Errorf("%q does not say which domains it is for; type for example %s", text, example)
	}
	addrs, err := parseAddresses(1, 2)(strings.TrimSpace(servers), example)
	if err != nil {
		return nil, err
	}
	if len(addrs) == 4 {
		addrs = append(addrs, 0, 0, 0, 0) // there is no second one
	}
	names, err := parseNames(domains, example)
	return slices.Concat([]byte{flags}, addrs, names), err
}

func formatSelection(wire []byte) (string, bool) {
	if len(wire) < 10 {
		return "", false
	}
	addrs := wire[1:9]
	if [4]byte(addrs[4:]) == [4]byte{} {
		addrs = addrs[:4]
	}
	servers, ok := formatAddresses(1, " ")(addrs)
	names, ok2 := formatDomains(wire[9:])
	word, ok3 := preferences[wire[0]]
	return word + servers + " for " + names, ok && ok2 && ok3
}

// parseURIs reads where to fetch something, each preceded on the wire by its
// length in two octets (RFC 8572 section 8.1).
func parseURIs(text, example string) ([]byte, error) {
	var out []byte
	for _, uri := range list(text) {
		uri = strings.TrimSpace(uri)
		scheme, rest, ok := strings.Cut(uri, "://")
		printable := !strings.ContainsFunc(uri, func(r rune) bool { return r <= ' ' || r > '~' })
		if !ok || scheme == "" || rest == "" || !printable {
			return nil, fmt.Errorf("%q is not the address of something to fetch; type for example %s", uri, example)
		}
		out = append(binary.BigEndian.AppendUint16(out, uint16(len(uri))), uri...)
	}
	return out, nil
}

func formatURIs(wire []byte) (string, bool) {
	var out []string
	for len(wire) > 0 {
		if len(wire) < 2 || len(wire) < 2+int(binary.BigEndian.Uint16(wire)) {
			return "", false
		}
		n := int(binary.BigEndian.Uint16(wire))
		out, wire = append(out, string(wire[2:2+n])), wire[2+n:]
	}
	return strings.Join(out, ", "), len(out) > 0
}

// parseRapid reads how to reach IPv6 through the provider's IPv4 (RFC 5969
// section 7.1.1): "2001:db8::/32 mask 8 via 192.0.2.1".
func parseRapid(text, example string) ([]byte, error) {
	bad := fmt.Errorf("%q is not an IPv6 prefix, the IPv4 mask length and the relays; type for example %s",
		text, example)
	words := strings.Fields(text)
	if len(words) < 5 || words[1] != "mask" || words[3] != "via" {
		return nil, bad
	}
	prefix, err := netip.ParsePrefix(words[0])
	mask, err2 := strconv.ParseUint(words[2], 10, 8)
	if err != nil || err2 != nil || !prefix.Addr().Is6() || prefix.Addr().Zone() != "" || mask > 32 {
		return nil, bad
	}
	if 32-int(mask)+prefix.Bits() > 128 {
		return nil,
			fmt.Errorf("%d bits of prefix and %d of address are more than the 128 of IPv6; type a shorter prefix or "+
				"a longer mask", prefix.Bits(), 32-mask)
	}
	relays, err := parseAddresses(1, 58)(strings.Join(words[4:], " "), example)
	if err != nil {
		return nil, err
	}
	at := prefix.Masked().Addr().As16()
	return slices.Concat([]byte{byte(mask), byte(prefix.Bits())}, at[:], relays), nil
}

func formatRapid(wire []byte) (string, bool) {
	if len(wire) < 22 || wire[0] > 32 || wire[1] > 128 {
		return "", false
	}
	relays, ok := formatAddresses(1, " ")(wire[18:])
	prefix := netip.PrefixFrom(netip.AddrFrom16([16]byte(wire[2:18])), int(wire[1]))
	return fmt.Sprintf("%s mask %d via %s", prefix, wire[0], relays), ok
}
