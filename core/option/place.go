package option

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// This file is the types that say where a client is, or where its services are.

// whose of RFC 4776 section 3.1: what the address is of.
var whose = []string{"server", "network", "client"}

// parseCivic reads a street address (RFC 4776 section 3.1): whose it is, the country, and its
// elements by their number: "client GB; 3 Kelder; 6 Mill Lane".
func parseCivic(text, example string) ([]byte, error) {
	items := strings.Split(text, ";")
	words := strings.Fields(items[0])
	if len(words) != 2 || len(words[1]) != 2 {
		return nil, fmt.Errorf("%q is not whose address it is and a country of two letters; type for example %s",
			strings.TrimSpace(items[0]), example)
	}
	what := slices.Index(whose, strings.ToLower(words[0]))
	if what < 0 {
		return nil, fmt.Errorf("%q is none of %s; type for example %s", words[0], strings.Join(whose, ", "), example)
	}
	wire := append([]byte{byte(what)}, strings.ToUpper(words[1])...)
	for _, item := range items[1:] {
		number, value, ok := strings.Cut(strings.TrimSpace(item), " ")
		n, err := strconv.ParseUint(number, 10, 8)
		if value = strings.TrimSpace(value); !ok || err != nil || value == "" || len(value) > 255 {
			return nil, fmt.Errorf("%q is not the number of an element and its text; type for example %s",
				strings.TrimSpace(item), example)
		}
		wire = append(append(wire, byte(n), byte(len(value))), value...)
	}
	return wire, nil
}

func formatCivic(wire []byte) (string, bool) {
	if len(wire) < 3 || int(wire[0]) >= len(whose) {
		return "", false
	}
	country, ok := formatText(wire[1:3])
	out := []string{whose[wire[0]] + " " + country}
	for rest := wire[3:]; len(rest) > 0; {
		if len(rest) < 2 || len(rest) < 2+int(rest[1]) {
			return "", false
		}
		end := 2 + int(rest[1])
		out = append(out, fmt.Sprintf("%d %s", rest[0], rest[2:end]))
		rest = rest[end:]
	}
	return strings.Join(out, "; "), ok
}

// A geographic location is 16 octets (RFC 6225 section 2): for latitude and longitude six bits
// of precision and 34 of degrees, for altitude four of its kind, six and 30, then the datum.
const (
	degreeBits   = 25 // after the point
	metreBits    = 8
	geoSize      = 16
	altitudeNone = 0
	altitudeIn   = 1 // metres
	geoVersion   = 1 // of option 144
)

// datums of RFC 6225 section 2.1.
var datums = map[byte]string{1: "WGS84", 2: "NAVD88", 3: "MLLW"}

// parseGeo reads "54.45 -2.9 120 m, precision 24 24 8, WGS84": degrees north and east and metres
// up, how many bits of each are meant (option 123) or its uncertainty (option 144), the datum.
func parseGeo(version byte) func(text, example string) ([]byte, error) {
	return func(text, example string) ([]byte, error) {
		bad := fmt.Errorf("%q is not degrees north and east, metres, precision and datum; type for example %s", text,
			example)
		parts := strings.Split(text, ",")
		if len(parts) != 3 {
			return nil, bad
		}
		place := strings.Fields(parts[0])
		exact := strings.Fields(strings.TrimPrefix(strings.TrimSpace(parts[1]), "precision "))
		if len(place) < 2 || len(place) > 4 || len(place) == 3 || len(exact) != 3 {
			return nil, bad
		}
		latitude, err1 := strconv.ParseFloat(place[0], 64)
		longitude, err2 := strconv.ParseFloat(place[1], 64)
		if err1 != nil || err2 != nil || math.Abs(latitude) > 90 || math.Abs(longitude) > 180 {
			return nil, fmt.Errorf("%q is no place; type degrees north from -90 to 90 and degrees east from -180 to "+
				"180, for example %s", strings.TrimSpace(parts[0]), example)
		}
		altitude, kind := 0.0, uint64(altitudeNone)
		if len(place) == 4 {
			var err error
			if altitude, err = strconv.ParseFloat(place[2], 64); err != nil || place[3] != "m" ||
				math.Abs(altitude) >= 1<<21 {
				return nil, bad
			}
			kind = altitudeIn
		}
		var bits [3]uint64
		for i, t := range exact {
			n, err := strconv.ParseUint(t, 10, 6)
			if err != nil {
				return nil, fmt.Errorf(
					"%q is not a precision; type three numbers from 0 to 63, for example %s",
					t,
					example,
				)
			}
			bits[i] = n
		}
		datum := byte(0)
		for d, name := range datums {
			if strings.EqualFold(strings.TrimSpace(parts[2]), name) {
				datum = d
			}
		}
		if datum == 0 {
			return nil, fmt.Errorf("%q is no datum; type WGS84, NAVD88 or MLLW", strings.TrimSpace(parts[2]))
		}
		fixed := func(v float64, point, size int) uint64 {
			return uint64(int64(math.Round(v*float64(int64(1)<<point)))) & (1<<size - 1)
		}
		wire := make([]byte, geoSize)
		first := bits[0]<<58 | fixed(
			latitude,
			degreeBits,
			34,
		)<<24 | bits[1]<<18 | fixed(
			longitude,
			degreeBits,
			34,
		)>>16
		binary.BigEndian.PutUint64(wire, first)
		second := fixed(longitude, degreeBits, 34)<<48 | kind<<44 | bits[2]<<38 | fixed(altitude, metreBits, 30)<<8 |
			uint64(version)<<6 | uint64(datum)
		binary.BigEndian.PutUint64(wire[8:], second)
		return wire, nil
	}
}

func formatGeo(version byte) func(wire []byte) (string, bool) {
	return func(wire []byte) (string, bool) {
		if len(wire) != geoSize {
			return "", false
		}
		first, second := binary.BigEndian.Uint64(wire), binary.BigEndian.Uint64(wire[8:])
		signed := func(v uint64, point, size int) string {
			n := int64(v<<(64-size)) >> (64 - size)
			return strconv.FormatFloat(float64(n)/float64(int64(1)<<point), 'f', -1, 64)
		}
		place := signed(first>>24, degreeBits, 34) + " " + signed(first<<16|second>>48, degreeBits, 34)
		switch second >> 44 & 0xf {
		case altitudeNone:
		case altitudeIn:
			place += " " + signed(second>>8, metreBits, 30) + " m"
		default:
			return "", false
		}
		datum, known := datums[byte(second)&7]
		return fmt.Sprintf("%s, precision %d %d %d, %s", place, first>>58, first>>18&0x3f, second>>38&0x3f, datum),
			known && byte(second)>>6 == version
	}
}

// parseISNS reads RFC 4174 section 2: what the storage name servers do, in four bit fields, and
// their addresses: "functions 0, access 0, administration 0, security 0, 10.84.16.10".
func parseISNS(text, example string) ([]byte, error) {
	var wire []byte
	parts := list(text)
	for i, field := range []struct {
		word   string
		octets int
	}{{"functions", 2}, {"access", 2}, {"administration", 2}, {"security", 4}} {
		if i >= len(parts) {
			return nil, fmt.Errorf("%q has no %s; type for example %s", text, field.word, example)
		}
		value, ok := strings.CutPrefix(strings.TrimSpace(parts[i]), field.word+" ")
		if !ok {
			return nil, fmt.Errorf("%q is not %s and a number; type for example %s", strings.TrimSpace(parts[i]),
				field.word, example)
		}
		number, err := parseNumber(field.octets)(strings.TrimSpace(value), example)
		if err != nil {
			return nil, err
		}
		wire = append(wire, number...)
	}
	addrs, err := parseAddresses(1, 60)(strings.Join(parts[4:], ","), example)
	return append(wire, addrs...), err
}

func formatISNS(wire []byte) (string, bool) {
	if len(wire) < 14 {
		return "", false
	}
	addrs, ok := formatAddresses(1, " ")(wire[10:])
	n16 := binary.BigEndian.Uint16
	return fmt.Sprintf("functions %d, access %d, administration %d, security %d, %s", n16(wire), n16(wire[2:]),
		n16(wire[4:]), binary.BigEndian.Uint32(wire[6:]), addrs), ok
}

// parseAddress6 reads one IPv6 address.
func parseAddress6(text, example string) ([]byte, error) {
	a, err := netip.ParseAddr(text)
	if err != nil || !a.Is6() || a.Zone() != "" || a.Is4In6() {
		return nil, fmt.Errorf("%q is not an IPv6 address; type for example %s", text, example)
	}
	return a.AsSlice(), nil
}

func formatAddress6(wire []byte) (string, bool) {
	a, ok := netip.AddrFromSlice(wire)
	if !ok || !a.Is6() || a.Is4In6() {
		return "", false
	}
	return a.String(), true
}

// Service parameters of RFC 9463 and RFC 9460 that are written in words.
const (
	paramALPN = 1
	paramPort = 3
	paramPath = 7
)

// parseEncrypted reads name servers that are asked over TLS, HTTPS or QUIC (RFC 9463 section
// 5.1), best first: "1 dns.larkrise.example 10.84.16.10 alpn=dot port=853; 2 …".
func parseEncrypted(text, example string) ([]byte, error) {
	var wire []byte
	for item := range strings.SplitSeq(text, ";") {
		one, err := parseEncryptedOne(strings.Fields(item), example)
		if err != nil {
			return nil, err
		}
		wire = append(binary.BigEndian.AppendUint16(wire, uint16(len(one))), one...)
	}
	return wire, nil
}

func parseEncryptedOne(words []string, example string) ([]byte, error) {
	if len(words) < 2 {
		return nil, fmt.Errorf(
			"%q is not a priority and a name; type for example %s",
			strings.Join(words, " "),
			example,
		)
	}
	wire, err := parseNumber(2)(words[0], example)
	if err != nil {
		return nil, err
	}
	name, err := packDomains(words[1:2])
	if err != nil {
		return nil, err
	}
	wire = append(append(wire, byte(len(name))), name...)
	var addrs, params []byte
	for _, w := range words[2:] {
		key, value, isParam := strings.Cut(w, "=")
		if !isParam {
			a, err := parseAddresses(1, 1)(w, example)
			if err != nil {
				return nil, err
			}
			addrs = append(addrs, a...)
			continue
		}
		p, err := parseParam(key, value, example)
		if err != nil {
			return nil, err
		}
		params = append(params, p...)
	}
	if len(addrs) == 0 && len(params) == 0 {
		return wire, nil
	}
	return slices.Concat(wire, []byte{byte(len(addrs))}, addrs, params), nil
}

func parseParam(key, value, example string) ([]byte, error) {
	put := func(code uint16, v []byte) []byte {
		out := binary.BigEndian.AppendUint16(nil, code)
		return append(binary.BigEndian.AppendUint16(out, uint16(len(v))), v...)
	}
	switch key {
	case "alpn":
		var v []byte
		for id := range strings.SplitSeq(value, ",") {
			if id == "" || len(id) > 255 {
				return nil, fmt.Errorf("alpn=%s names no protocol; type for example alpn=dot", value)
			}
			v = append(append(v, byte(len(id))), id...)
		}
		return put(paramALPN, v), nil
	case "port":
		v, err := parseNumber(2)(value, "853")
		return put(paramPort, v), err
	case "dohpath":
		return put(paramPath, []byte(value)), nil
	}
	return nil, fmt.Errorf("%q is none of alpn, port and dohpath; type for example %s", key, example)
}

func formatEncrypted(wire []byte) (string, bool) {
	var out []string
	for len(wire) > 0 {
		if len(wire) < 2 || len(wire) < 2+int(binary.BigEndian.Uint16(wire)) {
			return "", false
		}
		n := int(binary.BigEndian.Uint16(wire))
		one, ok := formatEncryptedOne(wire[2 : 2+n])
		if !ok {
			return "", false
		}
		out, wire = append(out, one), wire[2+n:]
	}
	return strings.Join(out, "; "), len(out) > 0
}

func formatEncryptedOne(wire []byte) (string, bool) {
	if len(wire) < 3 || len(wire) < 3+int(wire[2]) {
		return "", false
	}
	name, ok := formatDomainWire(wire[3 : 3+int(wire[2])])
	words := []string{strconv.Itoa(int(binary.BigEndian.Uint16(wire))), name}
	rest := wire[3+int(wire[2]):]
	if len(rest) == 0 {
		return strings.Join(words, " "), ok
	}
	n := int(rest[0])
	if n%4 != 0 || len(rest) < 1+n {
		return "", false
	}
	for i := 1; i <= n; i += 4 {
		words = append(words, netip.AddrFrom4([4]byte(rest[i:i+4])).String())
	}
	for rest = rest[1+n:]; len(rest) > 0; {
		if len(rest) < 4 || len(rest) < 4+int(binary.BigEndian.Uint16(rest[2:])) {
			return "", false
		}
		size := int(binary.BigEndian.Uint16(rest[2:]))
		word, known := formatParam(binary.BigEndian.Uint16(rest), rest[4:4+size])
		words, ok, rest = append(words, word), ok && known, rest[4+size:]
	}
	return strings.Join(words, " "), ok
}

func formatParam(code uint16, v []byte) (string, bool) {
	switch {
	case code == paramALPN:
		var ids []string
		for len(v) > 0 {
			if len(v) < 1+int(v[0]) {
				return "", false
			}
			ids, v = append(ids, string(v[1:1+int(v[0])])), v[1+int(v[0]):]
		}
		return "alpn=" + strings.Join(ids, ","), len(ids) > 0
	case code == paramPort && len(v) == 2:
		return fmt.Sprintf("port=%d", binary.BigEndian.Uint16(v)), true
	case code == paramPath:
		return "dohpath=" + string(v), true
	}
	return "", false
}

// bootMagic is the one value of option 208 (RFC 5071 section 3).
var bootMagic = []byte{0xf1, 0x00, 0x74, 0x7e}

func parseMagic(text, _ string) ([]byte, error) {
	if strings.EqualFold(text, "on") || strings.EqualFold(text, hex.EncodeToString(bootMagic)) {
		return slices.Clone(bootMagic), nil
	}
	return nil, fmt.Errorf("%q is not on; type on, or remove the option", text)
}

func formatMagic(wire []byte) (string, bool) { return "on", slices.Equal(wire, bootMagic) }

// parsePlain reads what a maker decides: pairs of hex digits are octets, all else is text;
// text of hex digits stands in quotes.
func parsePlain(text, example string) ([]byte, error) {
	if quoted, ok := strings.CutPrefix(text, `"`); ok && strings.HasSuffix(quoted, `"`) && len(quoted) > 1 {
		return parseText(quoted[:len(quoted)-1], example)
	}
	if raw, err := parseOctets(text, example); err == nil {
		return raw, nil
	}
	return parseText(text, example)
}

func formatPlain(wire []byte) (string, bool) {
	text, ok := formatText(wire)
	if !ok || len(wire) < 2 || string(wire) != text {
		return formatOctets(wire)
	}
	for _, written := range []string{text, `"` + text + `"`} {
		if again, err := parsePlain(strings.TrimSpace(written), ""); err == nil && slices.Equal(again, wire) {
			return written, true
		}
	}
	return formatOctets(wire)
}
