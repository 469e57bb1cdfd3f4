package address

import (
	"cmp"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// maxText bounds what the readers below look at, in octets. Nothing people
// write for one address or range comes near it.
const maxText = 200

// ParseAddr reads an IPv4 address. Inside a network the leading octets may be
// left out: "57", ".57" and ".18.57" are completed from within.
func ParseAddr(text string, within netip.Prefix) (netip.Addr, error) {
	s := strings.TrimSpace(text)
	if s == "" {
		return netip.Addr{}, fmt.Errorf("an address is missing; type one, for example %s", example(within))
	}
	if a, err := netip.ParseAddr(Plain(s)); err == nil && a.Is4() {
		return a, nil
	}
	if len(s) <= maxText && within.IsValid() {
		tail := strings.Split(strings.TrimPrefix(s, "."), ".")
		if len(tail) < 4 {
			head := strings.Split(within.Addr().String(), ".")
			begins := len(tail) > 1 && slices.Equal(tail[:2], head[:2]) && !strings.HasPrefix(s, ".")
			a, err := netip.ParseAddr(strings.Join(append(head[:4-len(tail)], tail...), "."))
			switch {
			case err == nil && begins && !within.Contains(a):
				return netip.Addr{}, fmt.Errorf("%q lacks its last number; type all four, for example %s", s,
					example(within))
			case err == nil:
				return a, nil
			}
		}
	}
	return netip.Addr{}, fmt.Errorf("%q is not an IPv4 address; type four numbers from 0 to 255, for example %s",
		clip(s), example(within))
}

// quad is four numbers as lists of other programs and people write them.
var quad = regexp.MustCompile(`^\d{1,3}([.,]\d{1,3}){3}$`)

// Plain is an address written with commas or with noughts before its numbers, 10,84,18,57 or 010.084.018.057, as it is
// usually written; another text as it is.
func Plain(text string) string {
	if !quad.MatchString(text) {
		return text
	}
	parts := strings.FieldsFunc(text, func(c rune) bool { return c == '.' || c == ',' })
	for i, p := range parts {
		parts[i] = cmp.Or(strings.TrimLeft(p, "0"), "0")
	}
	return strings.Join(parts, ".")
}

// ParsePrefix reads a network: "10.84.20.0/26", or with a dotted mask
// "10.84.20.0 255.255.255.192". Host bits are kept as typed.
func ParsePrefix(text string) (netip.Prefix, error) {
	s := strings.TrimSpace(text)
	if s == "" {
		return netip.Prefix{},
			fmt.Errorf("a network is missing; type an address and a length, for example 10.84.20.0/26")
	}
	addr, size, ok := strings.Cut(s, "/")
	if !ok {
		addr, size, ok = strings.Cut(s, " ")
	}
	size = strings.TrimSpace(size)
	a, err := netip.ParseAddr(Plain(strings.TrimSpace(addr)))
	if len(s) > maxText || !ok || err != nil || !a.Is4() {
		return netip.Prefix{},
			fmt.Errorf("%q is not a network; type an address and a length, for example 10.84.20.0/26", clip(s))
	}
	if m, err := netip.ParseAddr(size); err == nil && m.Is4() {
		for bits := 1; bits <= 32; bits++ {
			if Mask(bits) == m {
				return netip.PrefixFrom(a, bits), nil
			}
			if bits < 32 && inverted(Mask(bits)) == m {
				return netip.Prefix{}, fmt.Errorf("%s is a wildcard mask; type the mask %s, or /%d", m, Mask(bits),
					bits)
			}
		}
		return netip.Prefix{},
			fmt.Errorf("%s is not a mask: its ones are not together; type for example 255.255.255.192 or /26", m)
	}
	bits, err := strconv.Atoi(size)
	if err != nil || bits < 1 || bits > 32 {
		return netip.Prefix{}, fmt.Errorf("%q is not a prefix length; type a number from 1 to 32, for example /26",
			clip(size))
	}
	return netip.PrefixFrom(a, bits), nil
}

// inverted is a mask with its ones and noughts exchanged.
func inverted(m netip.Addr) netip.Addr {
	b := m.As4()
	for i := range b {
		b[i] = ^b[i]
	}
	return netip.AddrFrom4(b)
}

// rangeMarks are the ways people write "to" between two addresses.
var rangeMarks = strings.NewReplacer("–", "-", "—", "-", " to ", "-", "..", "-")

// ParseRange reads a run of addresses the ways people write them, completed
// from the network: "96-119", ".96 - .119", "10.84.18.96-119",
// "10.84.18.96 to 10.84.18.119", "10.84.18.96/29", or a single address.
func ParseRange(text string, within netip.Prefix) (Range, error) {
	s := strings.TrimSpace(rangeMarks.Replace(text))
	if s == "" {
		return Range{}, fmt.Errorf("a range is missing; type its first and last address, for example %s",
			exampleRange(within))
	}
	if len(s) > maxText {
		return Range{}, fmt.Errorf("%q is not a range; type its first and last address, for example %s", clip(s),
			exampleRange(within))
	}
	if addr, _, ok := strings.Cut(s, "/"); ok {
		a, err := ParseAddr(addr, within)
		if err != nil {
			return Range{}, err
		}
		p, err := ParsePrefix(a.String() + s[len(addr):])
		if err != nil {
			return Range{}, err
		}
		if p != p.Masked() {
			return Range{},
				fmt.Errorf("%s does not start a /%d; type %s for the whole of it, or a first and a last address", a,
					p.Bits(), p.Masked())
		}
		return Of(p), nil
	}
	first, last, two := strings.Cut(s, "-")
	from, err := ParseAddr(first, within)
	if err != nil {
		return Range{}, err
	}
	if !two {
		return Single(from), nil
	}
	// The second end borrows what it leaves out from the first, as in 10.84.18.96-119.
	to, err := ParseAddr(last, netip.PrefixFrom(from, 32))
	if err != nil {
		return Range{}, err
	}
	if to.Less(from) {
		return Range{}, fmt.Errorf("the range runs backwards; type %s - %s", to, from)
	}
	return Range{from, to}, nil
}

// ParseRanges reads several ranges separated by commas, semicolons or lines.
func ParseRanges(text string, within netip.Prefix) ([]Range, error) {
	var out []Range
	for _, part := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ';' || r == '\n' }) {
		if strings.TrimSpace(part) == "" {
			continue
		}
		r, err := ParseRange(part, within)
		if err != nil {
			return nil, err
		}
		if out = append(out, r); len(out) > 256 {
			return nil, fmt.Errorf("more than 256 ranges; a pool takes at most 256")
		}
	}
	if len(out) == 0 {
		_, err := ParseRange("", within)
		return nil, err
	}
	return out, nil
}

func example(within netip.Prefix) string {
	if !within.IsValid() {
		return "10.84.18.57"
	}
	return Usable(within).From.String()
}

func exampleRange(within netip.Prefix) string {
	if !within.IsValid() {
		return "10.84.18.96 - 10.84.18.119"
	}
	u := Usable(within)
	return u.From.String() + " - " + u.To.String()
}

// clip keeps an echoed mistake short enough for a sentence.
func clip(s string) string {
	if len(s) > 40 {
		return strings.ToValidUTF8(s[:40], "") + "…"
	}
	return s
}
