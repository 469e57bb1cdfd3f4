package option

import (
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
)

// MaxValue is the most octets of a value. One option carries 255 (RFC 2132 section 2); longer
// values are split on the wire as RFC 3396 says. What a client accepts is less than this.
const MaxValue = 1024

// maxSubOption is the most octets of a sub-option, which cannot be split.
const maxSubOption = 255

// Parse reads the text form of an option set by people and returns its wire
// octets. The error says what to type instead.
func (o Own) Parse(code uint8, text string) ([]byte, error) {
	def, ok := o.Lookup(code)
	switch {
	case !ok && code >= FirstPrivate && code <= LastPrivate:
		return nil, fmt.Errorf("option %d is private and not defined at this site; define its name and type first",
			code)
	case !ok:
		return nil, fmt.Errorf("option %d is not in the registry; choose one of the options listed", code)
	case def.ServerOnly:
		return nil, fmt.Errorf("option %d (%s) is set by the server itself; remove it", code, def.Name)
	}
	wire, err := def.Type.Parse(text, def.Example)
	if err == nil {
		err = limits(def, wire)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", def.Name, err)
	}
	return wire, nil
}

// limits refuses what the octets of a type could say and the option may not.
func limits(d Definition, wire []byte) error {
	number := 0
	for _, b := range wire[:min(len(wire), 2)] {
		number = number<<8 | int(b)
	}
	switch d.Code {
	case 22, MaxMessageSize:
		if number < 576 {
			return fmt.Errorf("%d is too small; type a number from 576 to 65535", number)
		}
	case InterfaceMTU:
		if number < 68 {
			return fmt.Errorf("%d is too small; type a number from 68 to 65535", number)
		}
	case 23, 37:
		if number == 0 {
			return fmt.Errorf("0 would let no packet through; type a number from 1 to 255")
		}
	case LeaseTime, RenewalT1, RebindingT2:
		if slices.Equal(wire, make([]byte, 4)) {
			return fmt.Errorf("0 seconds is no time at all; type for example 8 hours")
		}
	case 46:
		if !slices.Contains([]int{1, 2, 4, 8}, number) {
			return fmt.Errorf("%d is not a node type; type 1, 2, 4 or 8", number)
		}
	case 114:
		if !strings.HasPrefix(strings.ToLower(string(wire)), "https://") {
			return fmt.Errorf("%q is not the address of a page in https; type for example %s", wire, d.Example)
		}
	case 116:
		if number > 1 {
			return fmt.Errorf("%d is neither; type 0 or 1", number)
		}
	}
	return nil
}

// Parse is Own.Parse where a site has no options of its own.
func Parse(code uint8, text string) ([]byte, error) { return Own(nil).Parse(code, text) }

// Canonical rewrites the text of an option the one way Lithos stores it.
func (o Own) Canonical(code uint8, text string) (string, error) {
	wire, err := o.Parse(code, text)
	if err != nil {
		return "", err
	}
	return o.Format(code, wire), nil
}

// Format writes wire octets in the option's text form. Octets that do not fit
// the type are written as hex, so that a faulty packet can still be shown.
func (o Own) Format(code uint8, wire []byte) string {
	def, _ := o.Lookup(code)
	if text, ok := def.Type.Format(wire); ok {
		return text
	}
	return hex.EncodeToString(wire)
}

// Format is Own.Format where a site has no options of its own.
func Format(code uint8, wire []byte) string { return Own(nil).Format(code, wire) }

// Decode is Format that refuses octets that do not fit the option's type.
func Decode(code uint8, wire []byte) (string, error) {
	def, _ := Lookup(code)
	text, ok := def.Type.Format(wire)
	if !ok {
		return "", fmt.Errorf("option %d (%s): %x is not %s", code, def.Name, wire, def.Type)
	}
	return text, nil
}

// ParseIdentifier reads a client identifier (RFC 2132 section 9.14): a MAC
// ("ethernet 00:00:5e:00:53:1c"), hex octets of which the first is the type,
// or any other text, which is sent with type 0.
func ParseIdentifier(text string) ([]byte, error) { return Identifier.Parse(text, "ward-tablet-3") }

// FormatIdentifier writes a client identifier as ParseIdentifier reads it.
func FormatIdentifier(wire []byte) string {
	if text, ok := Identifier.Format(wire); ok {
		return text
	}
	return hex.EncodeToString(wire)
}

// PackSubOptions encodes sub-options as option 43 carries them: code, length
// and octets (RFC 2132 section 8.4). It is an error when they do not fit one
// option or a code is used twice.
func PackSubOptions(codes []uint8, values [][]byte) ([]byte, error) {
	var wire []byte
	seen := map[uint8]bool{}
	for i, code := range codes {
		switch {
		case code == 0 || code == 255:
			return nil, fmt.Errorf("sub-option %d cannot be used; choose a code from 1 to 254", code)
		case seen[code]:
			return nil, fmt.Errorf("sub-option %d is set twice; keep one", code)
		case len(values[i]) > maxSubOption:
			return nil, fmt.Errorf("sub-option %d has %d octets; at most %d fit", code, len(values[i]), maxSubOption)
		}
		seen[code] = true
		wire = append(append(wire, code, byte(len(values[i]))), values[i]...)
	}
	if len(wire) > MaxValue {
		return nil, fmt.Errorf("the sub-options take %d octets together; at most %d fit", len(wire), MaxValue)
	}
	return wire, nil
}

// SubOptionsOf splits option 43 or 82 into its sub-options; ok is false when
// the octets do not add up.
func SubOptionsOf(wire []byte) (codes []uint8, values [][]byte, ok bool) {
	for len(wire) > 0 {
		if wire[0] == 0 || wire[0] == 255 { // pad and end, which some send
			wire = wire[1:]
			continue
		}
		if len(wire) < 2 || len(wire) < 2+int(wire[1]) {
			return nil, nil, false
		}
		codes, values = append(codes, wire[0]), append(values, wire[2:2+int(wire[1])])
		wire = wire[2+int(wire[1]):]
	}
	return codes, values, true
}

func list(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ';' || r == '\n' })
}

// ClassesSaid is what a client says of its kind: option 60, then each entry of option 124, whatever its enterprise
// number. Text that is cut short is left out.
func ClassesSaid(class, byEnterprise []byte) []string {
	var out []string
	if len(class) > 0 {
		out = append(out, string(class))
	}
	// RFC 3925 section 3: number, length of what follows, entries with a length each.
	for rest := byEnterprise; len(rest) >= 5 && len(rest) >= 5+int(rest[4]); rest = rest[5+int(rest[4]):] {
		entries := rest[5 : 5+int(rest[4])]
		for len(entries) > 0 && len(entries) > int(entries[0]) {
			if n := int(entries[0]); n > 0 {
				out = append(out, string(entries[1:1+n]))
			}
			entries = entries[1+int(entries[0]):]
		}
	}
	return out
}

// MatchClass is the vendor class of a client that says this as option 60: the one
// whose match is the longest beginning of it (RFC 2132 section 9.13). It is nil
// when there is none; an empty match is nobody's.
func MatchClass[T any](classes []T, said string, match func(*T) string) *T {
	var best *T
	for i := range classes {
		c := &classes[i]
		if m := match(c); m != "" && strings.HasPrefix(said, m) && (best == nil || len(m) > len(match(best))) {
			best = c
		}
	}
	return best
}
