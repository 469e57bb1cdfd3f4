package option

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"lithos/core/address"
)

// Type is how an option's value is written and encoded.
type Type int

// The types of the registered options.
const (
	Address         Type = iota + 1 // one IPv4 address
	Addresses                       // one or more IPv4 addresses, most preferred first
	AddressPairs                    // pairs of IPv4 addresses
	Text                            // 1 to 255 octets of NVT ASCII
	Domain                          // one domain name, as text
	DomainWire                      // one domain name, as DNS writes it
	Domains                         // a search list, compressed (RFC 3397)
	Seconds                         // an unsigned 32-bit number of seconds
	Switch                          // one octet, 0 or 1
	Number8                         // an unsigned 8-bit number
	Number16                        // an unsigned 16-bit number
	Number32                        // an unsigned 32-bit number
	Signed32                        // a signed 32-bit number
	Numbers16                       // unsigned 16-bit numbers
	Codes                           // a list of option codes
	MessageKind                     // a DHCP message type
	Identifier                      // type octet and opaque octets
	Routes                          // classless static routes (RFC 3442)
	Callers                         // SIP servers: names or addresses (RFC 3361)
	OnlyAddresses                   // addresses after an octet that says whether only they may be used (RFC 2610)
	OnlyText                        // text after such an octet
	AdapterParts                    // sub-options of RFC 3495
	MobilityHosts                   // addresses of servers by service (RFC 5678 section 2)
	MobilityNames                   // names of servers by service (RFC 5678 section 3)
	AddressLists                    // lists of addresses (RFC 7291)
	Selection                       // name servers for domains (RFC 6731)
	URIs                            // where to fetch something (RFC 8572)
	RapidDeployment                 // IPv6 through a provider's IPv4 (RFC 5969)
	Address6                        // one IPv6 address
	StorageServers                  // iSNS servers (RFC 4174)
	Civic                           // a street address (RFC 4776)
	Geographic                      // a place, by how many bits are meant (RFC 6225, option 123)
	Geospatial                      // a place with its uncertainty (RFC 6225, option 144)
	Encrypted                       // encrypted name servers (RFC 9463)
	Magic                           // the one value of option 208
	Plain                           // what a maker decides: octets, or text
	SubOptions                      // code, length, octets, as hex
	OpaqueOctets                    // opaque octets, as hex
	overloadFields                  // which header fields carry options
)

// A codec reads and writes one type. parse is given trimmed text and an example
// to show in errors; format reports whether the octets fit the type.
type codec struct {
	name   string
	parse  func(text, example string) ([]byte, error)
	format func(wire []byte) (string, bool)
}

var codecs = map[Type]codec{
	Address:      {"address", parseAddresses(1, 1), formatAddresses(1, " ")},
	Addresses:    {"addresses", parseAddresses(1, 63), formatAddresses(1, " ")},
	AddressPairs: {"address pairs", parsePairs, formatAddresses(2, " ")},
	Text:         {"text", parseText, formatText},
	Domain:       {"domain name", parseDomain, formatText},
	DomainWire:   {"domain name (DNS form)", parseDomainWire, formatDomainWire},
	Domains: {"domain names", func(text, _ string) ([]byte, error) { return packDomains(list(text)) },
		formatDomains},
	Seconds:     {"duration", parseSeconds, formatSeconds},
	Switch:      {"switch", parseSwitch, formatSwitch},
	Number8:     {"number (8 bits)", parseNumber(1), formatNumber(1)},
	Number16:    {"number (16 bits)", parseNumber(2), formatNumber(2)},
	Number32:    {"number (32 bits)", parseNumber(4), formatNumber(4)},
	Signed32:    {"signed number (32 bits)", parseSigned, formatSigned},
	Numbers16:   {"numbers (16 bits)", parseNumbers16, formatNumbers16},
	Codes:       {"option codes", byHand, formatCodes},
	MessageKind: {"message type", byHand, formatMessageKind},
	Identifier:  {"identifier", parseIdentifier, formatIdentifier},
	Routes:      {"routes", func(text, _ string) ([]byte, error) { return packRoutes(list(text)) }, formatRoutes},
	Callers:     {"call servers", parseCallers, formatCallers},
	OnlyAddresses: {"addresses or only these", parseOnly(parseAddresses(1, 62)),
		formatOnly(formatAddresses(1, " "))},
	OnlyText:        {"text or only this", parseOnly(parseText), formatOnly(formatText)},
	AdapterParts:    tagged("adapter settings", adapterParts),
	MobilityHosts:   tagged("servers by service", mobilityAddresses),
	MobilityNames:   tagged("names by service", mobilityNames),
	AddressLists:    parts("lists of addresses", longer(4), parseAddressLists, formatAddressLists),
	Selection:       parts("name servers for domains", longer(9), parseSelection, formatSelection),
	URIs:            parts("URIs", longer(2), parseURIs, formatURIs),
	RapidDeployment: parts("prefix with mask and relays", longer(21), parseRapid, formatRapid),
	Address6:        {"IPv6 address", parseAddress6, formatAddress6},
	StorageServers:  parts("storage name servers", longer(13), parseISNS, formatISNS),
	Civic:           parts("street address", longer(2), parseCivic, formatCivic),
	Geographic:      parts("place", sized(geoSize), parseGeo(0), formatGeo(0)),
	Geospatial:      parts("place with uncertainty", sized(geoSize), parseGeo(geoVersion), formatGeo(geoVersion)),
	Encrypted:       parts("encrypted name servers", longer(2), parseEncrypted, formatEncrypted),
	Magic:           {"on", parseMagic, formatMagic},
	Plain:           {"octets or text", parsePlain, formatPlain},
	SubOptions:      {"sub-options", parseSubOptions, formatOctets},
	OpaqueOctets:    {"octets", parseOctets, formatOctets},
	overloadFields:  {"overload", byHand, formatOverload},
}

func (t Type) String() string { return codecs[t].name }

// InWords reports whether a value of the type is written in words rather than in
// addresses, numbers or octets.
func (t Type) InWords() bool { return t == Text || t == Seconds || t == Switch }

// TypeNamed finds a type by its name; ok is false where people may not choose it.
func TypeNamed(name string) (Type, bool) {
	for _, t := range Choosable {
		if t.String() == name {
			return t, true
		}
	}
	return 0, false
}

// Choosable are the types people give their own options and sub-options.
var Choosable = []Type{
	Address, Addresses, AddressPairs, Address6, Text, Number8, Number16, Number32, Signed32, Numbers16, Switch,
	Seconds, Domain, DomainWire, Domains, Routes, Callers, OnlyAddresses, OnlyText, MobilityHosts, MobilityNames,
	AddressLists, Selection, URIs, RapidDeployment, Identifier, SubOptions, Plain, OpaqueOctets,
}

// Parse reads the text form of a value. The error says what to type instead,
// for example the given example. A value takes 1 to MaxValue octets.
func (t Type) Parse(text, example string) ([]byte, error) {
	c, ok := codecs[t]
	if !ok {
		return nil, fmt.Errorf("has no type that is known")
	}
	wire, err := c.parse(strings.TrimSpace(text), example)
	if err == nil && (len(wire) == 0 || len(wire) > MaxValue) {
		err = fmt.Errorf("takes 1 to %d octets and this has %d; type for example %s", MaxValue, len(wire), example)
	}
	return wire, err
}

// Format writes a value's octets as text; ok is false when they do not fit the type.
func (t Type) Format(wire []byte) (text string, ok bool) {
	c, known := codecs[t]
	if !known {
		return "", false
	}
	return c.format(wire)
}

func byHand(string, string) ([]byte, error) { return nil, fmt.Errorf("cannot be set by hand") }

func parseAddresses(least, most int) func(text, example string) ([]byte, error) {
	return func(text, example string) ([]byte, error) {
		var wire []byte
		for _, part := range list(text) {
			a, err := address.ParseAddr(part, netip.Prefix{})
			if err != nil {
				return nil, err
			}
			wire = append(wire, a.AsSlice()...)
		}
		switch n := len(wire) / 4; {
		case n < least:
			return nil, fmt.Errorf("an address is missing; type for example %s", example)
		case n > most:
			return nil, fmt.Errorf("has %d addresses and takes at most %d; type for example %s", n, most, example)
		}
		return wire, nil
	}
}

// formatAddresses writes groups of addresses.
func formatAddresses(group int, between string) func(wire []byte) (string, bool) {
	return func(wire []byte) (string, bool) {
		if len(wire) == 0 || len(wire)%(4*group) != 0 {
			return "", false
		}
		var out []string
		for i := 0; i < len(wire); i += 4 * group {
			var one []string
			for k := i; k < i+4*group; k += 4 {
				one = append(one, netip.AddrFrom4([4]byte(wire[k:k+4])).String())
			}
			out = append(out, strings.Join(one, between))
		}
		return strings.Join(out, ", "), true
	}
}

func parsePairs(text, example string) ([]byte, error) {
	var wire []byte
	for _, pair := range list(text) {
		words := strings.Fields(pair)
		if len(words) != 2 {
			return nil, fmt.Errorf("%q is not two addresses; type for example %s", strings.TrimSpace(pair), example)
		}
		for _, w := range words {
			a, err := address.ParseAddr(w, netip.Prefix{})
			if err != nil {
				return nil, err
			}
			wire = append(wire, a.AsSlice()...)
		}
	}
	return wire, nil
}

func parseText(text, example string) ([]byte, error) {
	for _, c := range []byte(text) {
		if c < 0x20 || c > 0x7e {
			return nil, fmt.Errorf("has a character outside ASCII; use plain letters, digits and signs, for example %s",
				example)
		}
	}
	return []byte(text), nil
}

// formatText writes text. A zero octet at its end, which some send, is no part of it (RFC 2132
// section 2).
func formatText(wire []byte) (string, bool) {
	wire = bytes.TrimRight(wire, "\x00")
	for _, c := range wire {
		if c < 0x20 || c > 0x7e {
			return "", false
		}
	}
	return string(wire), len(wire) > 0
}

func parseDomain(text, _ string) ([]byte, error) {
	if err := checkDNS(text); err != nil {
		return nil, err
	}
	return []byte(strings.ToLower(strings.TrimSuffix(text, "."))), nil
}

func parseDomainWire(text, example string) ([]byte, error) {
	if len(list(text)) > 1 {
		return nil, fmt.Errorf("takes one name; type for example %s", example)
	}
	return packDomains([]string{text})
}

func formatDomainWire(wire []byte) (string, bool) {
	names, err := unpackDomains(wire)
	return strings.Join(names, ", "), err == nil && len(names) == 1
}

func formatDomains(wire []byte) (string, bool) {
	names, err := unpackDomains(wire)
	return strings.Join(names, ", "), err == nil
}

func parseSeconds(text, _ string) ([]byte, error) {
	if zero := strings.TrimSpace(text); zero == "0" || zero == "0 seconds" {
		return make([]byte, 4), nil
	}
	d, err := ParseDuration(text)
	if err != nil {
		return nil, err
	}
	return binary.BigEndian.AppendUint32(nil, uint32(d/time.Second)), nil
}

func formatSeconds(wire []byte) (string, bool) {
	if len(wire) != 4 {
		return "", false
	}
	return FormatDuration(time.Duration(binary.BigEndian.Uint32(wire)) * time.Second), true
}

func parseSwitch(text, _ string) ([]byte, error) {
	switch strings.ToLower(text) {
	case "on", "yes", "true", "1":
		return []byte{1}, nil
	case "off", "no", "false", "0":
		return []byte{0}, nil
	}
	return nil, fmt.Errorf("%q is neither on nor off; type one of the two", text)
}

func formatSwitch(wire []byte) (string, bool) {
	if len(wire) != 1 || wire[0] > 1 {
		return "", false
	}
	return []string{"off", "on"}[wire[0]], true
}

// parseNumber reads an unsigned number of the given octets.
func parseNumber(octets int) func(text, example string) ([]byte, error) {
	return func(text, example string) ([]byte, error) {
		n, err := strconv.ParseUint(text, 10, 8*octets)
		if err != nil {
			return nil, fmt.Errorf("%q is not a number from 0 to %d; type for example %s", text,
				uint64(1)<<(8*octets)-1, example)
		}
		return binary.BigEndian.AppendUint64(nil, n)[8-octets:], nil
	}
}

func formatNumber(octets int) func(wire []byte) (string, bool) {
	return func(wire []byte) (string, bool) {
		if len(wire) != octets {
			return "", false
		}
		return strconv.FormatUint(binary.BigEndian.Uint64(append(make([]byte, 8-octets), wire...)), 10), true
	}
}

func parseSigned(text, example string) ([]byte, error) {
	n, err := strconv.ParseInt(text, 10, 32)
	if err != nil {
		return nil, fmt.Errorf("%q is not a whole number; type for example %s", text, example)
	}
	return binary.BigEndian.AppendUint32(nil, uint32(int32(n))), nil
}

func formatSigned(wire []byte) (string, bool) {
	if len(wire) != 4 {
		return "", false
	}
	return strconv.Itoa(int(int32(binary.BigEndian.Uint32(wire)))), true
}

func parseNumbers16(text, example string) ([]byte, error) {
	var wire []byte
	for _, part := range list(text) {
		n, err := parseNumber(2)(strings.TrimSpace(part), example)
		if err != nil {
			return nil, err
		}
		wire = append(wire, n...)
	}
	return wire, nil
}

func formatNumbers16(wire []byte) (string, bool) {
	if len(wire) == 0 || len(wire)%2 != 0 {
		return "", false
	}
	var out []string
	for i := 0; i < len(wire); i += 2 {
		out = append(out, strconv.Itoa(int(binary.BigEndian.Uint16(wire[i:]))))
	}
	return strings.Join(out, ", "), true
}

func formatCodes(wire []byte) (string, bool) {
	var out []string
	for _, c := range wire {
		out = append(out, strconv.Itoa(int(c)))
	}
	return strings.Join(out, ", "), len(wire) > 0
}

func formatMessageKind(wire []byte) (string, bool) {
	if len(wire) != 1 || wire[0] < 1 || wire[0] > 8 {
		return "", false
	}
	return strings.ToLower(dhcpv4.MessageType(wire[0]).String()), true
}

func parseIdentifier(text, example string) ([]byte, error) {
	if mac, ok := strings.CutPrefix(text, "ethernet "); ok {
		m, err := address.ParseMAC(mac)
		return append([]byte{1}, m[:]...), err
	}
	if raw, err := parseOctets(text, example); err == nil && len(raw) >= 2 {
		return raw, nil
	}
	wire, err := parseText(text, example)
	return append([]byte{0}, wire...), err
}

func formatIdentifier(wire []byte) (string, bool) {
	switch {
	case len(wire) < 2:
		return "", false
	case len(wire) == 7 && wire[0] == 1 && !address.MAC(wire[1:]).IsZero():
		return "ethernet " + address.MAC(wire[1:]).String(), true
	}
	if text, ok := formatText(wire[1:]); ok && wire[0] == 0 && text == strings.TrimSpace(text) {
		// Only text that reads back as itself is shown as text.
		if again, err := parseIdentifier(text, ""); err == nil && string(again) == string(wire) {
			return text, true
		}
	}
	return hex.EncodeToString(wire), true
}

// parseCallers reads SIP servers: an octet that says which form follows, and
// names as DNS writes them (0) or addresses (1) (RFC 3361 section 3).
func parseCallers(text, example string) ([]byte, error) {
	if addrs, err := parseAddresses(1, 63)(text, example); err == nil {
		return append([]byte{1}, addrs...), nil
	}
	for _, name := range list(text) {
		if a, err := netip.ParseAddr(strings.TrimSpace(name)); err == nil {
			return nil,
				fmt.Errorf("%s is an address and others are names; they are not mixed: type the one or the other", a)
		}
	}
	names, err := packDomains(list(text))
	return append([]byte{0}, names...), err
}

func formatCallers(wire []byte) (string, bool) {
	switch {
	case len(wire) > 1 && wire[0] == 1:
		return formatAddresses(1, " ")(wire[1:])
	case len(wire) > 1 && wire[0] == 0:
		return formatDomains(wire[1:])
	}
	return "", false
}

// only begins a value that nothing may be added to.
const only = "only "

func parseOnly(rest func(text, example string) ([]byte, error)) func(text, example string) ([]byte, error) {
	return func(text, example string) ([]byte, error) {
		first := byte(0)
		if cut, ok := strings.CutPrefix(text, only); ok {
			first, text = 1, strings.TrimSpace(cut)
		}
		wire, err := rest(text, example)
		return append([]byte{first}, wire...), err
	}
}

func formatOnly(rest func(wire []byte) (string, bool)) func(wire []byte) (string, bool) {
	return func(wire []byte) (string, bool) {
		if len(wire) < 2 || wire[0] > 1 {
			return "", false
		}
		text, ok := rest(wire[1:])
		if ok && (strings.TrimSpace(text) != text || strings.HasPrefix(text, only)) {
			return "", false // would not read back
		}
		if wire[0] == 1 {
			text = only + text
		}
		return text, ok
	}
}

func parseOctets(text, example string) ([]byte, error) {
	bare := strings.NewReplacer(" ", "", ":", "", "-", "").Replace(text)
	raw, err := hex.DecodeString(strings.TrimPrefix(bare, "0x"))
	if err != nil || len(raw) == 0 {
		return nil, fmt.Errorf("%q is not pairs of hex digits; type for example %s", text, example)
	}
	return raw, nil
}

func parseSubOptions(text, example string) ([]byte, error) {
	raw, err := parseOctets(text, example)
	if err != nil {
		return nil, err
	}
	if _, _, ok := SubOptionsOf(raw); !ok {
		return nil,
			fmt.Errorf("the octets are not sub-options: each is a code, a length and that many octets, for example %s",
				example)
	}
	return raw, nil
}

func formatOctets(wire []byte) (string, bool) { return hex.EncodeToString(wire), len(wire) > 0 }

func formatOverload(wire []byte) (string, bool) {
	names := map[byte]string{1: "file", 2: "sname", 3: "file and sname"}
	if len(wire) != 1 || names[wire[0]] == "" {
		return "", false
	}
	return names[wire[0]], true
}
