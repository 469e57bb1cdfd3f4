package address

import (
	"encoding/json"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var clinic = netip.MustParsePrefix("10.84.18.0/23")

func rng(from, to string) Range { return Range{netip.MustParseAddr(from), netip.MustParseAddr(to)} }

func TestParseRangeAcceptsWhatPeopleWrite(t *testing.T) {
	want := rng("10.84.18.96", "10.84.18.119")
	for _, text := range []string{
		"96-119", ".96 - .119", "10.84.18.96-119", "10.84.18.96 - 10.84.18.119", " 10.84.18.96 to 10.84.18.119",
		".18.96–.18.119", "10.84.18.96 .. .119",
	} {
		got, err := ParseRange(text, clinic)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	got, err := ParseRange("10.84.18.96/29", clinic)
	require.NoError(t, err)
	assert.Equal(t, rng("10.84.18.96", "10.84.18.103"), got)
	got, err = ParseRange(".19.7", clinic)
	require.NoError(t, err)
	assert.Equal(t, rng("10.84.19.7", "10.84.19.7"), got)
}

func TestMistakesSayWhatToType(t *testing.T) {
	ranges := map[string]string{
		"":                "a range is missing; type its first and last address, for example 10.84.18.1 - 10.84.19.254",
		"119-96":          "the range runs backwards; type 10.84.18.96 - 10.84.18.119",
		"96-300":          `"300" is not an IPv4 address`,
		"10.84.18.97/29":  "type 10.84.18.96/29 for the whole of it",
		"10.84.18.96/40":  "is not a prefix length; type a number from 1 to 32",
		"ninety to 100":   "is not an IPv4 address",
		"2001:db8::1-::2": "is not an IPv4 address",
	}
	for text, says := range ranges {
		_, err := ParseRange(text, clinic)
		assert.ErrorContains(t, err, says, text)
	}
	prefixes := map[string]string{
		"":                        "a network is missing",
		"10.84.20.0":              "type an address and a length",
		"10.84.20.0/33":           "type a number from 1 to 32",
		"10.84.20.0 255.0.255.0":  "its ones are not together",
		"10.84.300.0/24":          "is not a network",
		"2001:db8::/32":           "is not a network",
		strings.Repeat("9", 9999): "…",
	}
	for text, says := range prefixes {
		_, err := ParsePrefix(text)
		assert.ErrorContains(t, err, says, text)
	}
	for _, text := range []string{"00:00:5e:00:53", "00:00:5e:00:53:1g", "hello", strings.Repeat("0", 5000)} {
		_, err := ParseMAC(text)
		assert.ErrorContains(t, err, "type twelve hex digits", text)
	}
}

func TestParseMACForms(t *testing.T) {
	for _, text := range []string{"00:00:5e:00:53:1c", "00-00-5E-00-53-1C", "0000.5e00.531c", "00005E00531C"} {
		m, err := ParseMAC(text)
		require.NoError(t, err, text)
		assert.Equal(t, "00:00:5e:00:53:1c", m.String())
	}
	assert.True(t, MAC{1}.IsGroup())
	assert.Equal(t, "", MAC{}.String())
}

func TestParsePrefixMask(t *testing.T) {
	p, err := ParsePrefix("10.84.20.0 255.255.255.128")
	require.NoError(t, err)
	assert.Equal(t, "10.84.20.0/25", p.String())
}

func TestShort(t *testing.T) {
	assert.Equal(t, ".18.96 – .19.159", rng("10.84.18.96", "10.84.19.159").Short(clinic))
	assert.Equal(t, ".57", Short(netip.MustParseAddr("10.84.20.57"), netip.MustParsePrefix("10.84.20.0/26")))
	assert.Equal(t, "10.9.9.9", Short(netip.MustParseAddr("10.9.9.9"), clinic))
}

func TestUsable(t *testing.T) {
	cases := map[string]Range{
		"10.7.7.0/24": rng("10.7.7.1", "10.7.7.254"),
		"10.7.7.0/30": rng("10.7.7.1", "10.7.7.2"),
		"10.7.7.0/31": rng("10.7.7.0", "10.7.7.1"),
		"10.7.7.4/32": rng("10.7.7.4", "10.7.7.4"),
	}
	for p, want := range cases {
		assert.Equal(t, want, Usable(netip.MustParsePrefix(p)), p)
	}
}

func TestNextPrefixKeepsLargePiecesWhole(t *testing.T) {
	block := []netip.Prefix{netip.MustParsePrefix("10.84.16.0/20")}
	used := []netip.Prefix{
		netip.MustParsePrefix("10.84.16.0/26"), netip.MustParsePrefix("10.84.16.64/27"),
		netip.MustParsePrefix("10.84.16.128/25"),
		clinic, netip.MustParsePrefix("10.84.20.0/26"), netip.MustParsePrefix("10.84.24.0/22"),
	}
	p, ok := NextPrefix(block, used, 27)
	require.True(t, ok)
	assert.Equal(t, "10.84.16.96/27", p.String())
	p, ok = NextPrefix(block, used, 26)
	require.True(t, ok)
	assert.Equal(t, "10.84.20.64/26", p.String())
	_, ok = NextPrefix(block, used, 20)
	assert.False(t, ok)
}

func genRange(t *rapid.T, label string) Range {
	a := rapid.Uint32Range(0x0a000000, 0x0a0003ff).Draw(t, label+" from")
	b := rapid.Uint32Range(a, 0x0a0003ff).Draw(t, label+" to")
	return Range{FromUint(a), FromUint(b)}
}

// Taking ranges away leaves exactly the addresses that are kept and not removed.
func TestRangesIsSetDifference(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		keep := []Range{genRange(t, "keep"), genRange(t, "keep2")}
		cut := []Range{genRange(t, "cut"), genRange(t, "cut2")}
		left := Ranges(keep, cut)
		in := func(rs []Range, a netip.Addr) bool {
			for _, r := range rs {
				if r.Contains(a) {
					return true
				}
			}
			return false
		}
		n := 0
		for u := uint32(0x0a000000); u <= 0x0a0003ff; u++ {
			a := FromUint(u)
			want := in(keep, a) && !in(cut, a)
			if want {
				n++
			}
			if in(left, a) != want {
				t.Fatalf("%s: in result %v, want %v", a, !want, want)
			}
		}
		if n != Count(left) {
			t.Fatalf("count %d, want %d", Count(left), n)
		}
	})
}

// The next free prefix lies in the block, has the length asked for and touches nothing used.
func TestNextPrefixIsFree(t *testing.T) {
	block := netip.MustParsePrefix("10.0.0.0/22")
	rapid.Check(t, func(t *rapid.T) {
		var used []netip.Prefix
		for range rapid.IntRange(0, 6).Draw(t, "n") {
			used = append(used, netip.PrefixFrom(genRange(t, "u").From, rapid.IntRange(24, 30).Draw(t, "bits")).
				Masked())
		}
		bits := rapid.IntRange(22, 30).Draw(t, "want")
		p, ok := NextPrefix([]netip.Prefix{block}, used, bits)
		if !ok {
			return
		}
		if p.Bits() != bits || p != p.Masked() || !block.Overlaps(p) {
			t.Fatalf("bad %s", p)
		}
		for _, u := range used {
			if u.Overlaps(p) {
				t.Fatalf("%s overlaps %s", p, u)
			}
		}
	})
}

func FuzzParseRange(f *testing.F) {
	for _, s := range []string{"96-119", ".96 - .119", "10.84.18.96/29", "10.84.18.96 to .119", "–", "/"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		r, err := ParseRange(s, clinic)
		if err != nil {
			return
		}
		if !r.IsValid() {
			t.Fatalf("%q gave %v", s, r)
		}
		again, err := ParseRange(r.String(), clinic)
		if err != nil || again != r {
			t.Fatalf("%v did not read back: %v %v", r, again, err)
		}
	})
}

func FuzzParseMAC(f *testing.F) {
	for _, s := range []string{"00:00:5e:00:53:1c", "00-00-5E-00-53-1C", "0000.5e00.531c", ""} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		m, err := ParseMAC(s)
		if err != nil || m.IsZero() {
			return
		}
		again, err := ParseMAC(m.String())
		if err != nil || again != m {
			t.Fatalf("%v did not read back", m)
		}
	})
}

// What people type is read, or told apart from what they mean.
func Test60AddressesAsPeopleTypeThem(t *testing.T) {
	shop := netip.MustParsePrefix("10.97.24.0/24")
	for text, want := range map[string]string{"10.97.24.050": "10.97.24.50", "10,97,24,50": "10.97.24.50",
		".7":              "10.97.24.7",
		"010.097.024.000": "10.97.24.0", "24.9": "10.97.24.9"} {
		a, err := ParseAddr(text, shop)
		require.NoError(t, err, text)
		assert.Equal(t, want, a.String(), text)
	}
	for _, text := range []string{"10.97.24", "10.97"} {
		_, err := ParseAddr(text, shop)
		assert.ErrorContains(t, err, "lacks its last number", text)
	}
	_, err := ParsePrefix("10.97.24.0 0.0.0.63")
	assert.EqualError(t, err, "0.0.0.63 is a wildcard mask; type the mask 255.255.255.192, or /26")
	_, err = ParsePrefix("10.97.24.0/255.0.255.0")
	assert.ErrorContains(t, err, "its ones are not together")
}

// The ends of what is read: the longest text, the narrowest mask, and a mask of no ones, which is no wildcard mask.
func TestTheEndsOfPrefixes(t *testing.T) {
	padded := func(size int) string {
		return "10.84.20.0" + strings.Repeat(" ", size-len("10.84.20.0/26")) + "/26"
	}
	p, err := ParsePrefix(padded(200))
	require.NoError(t, err)
	assert.Equal(t, "10.84.20.0/26", p.String())
	_, err = ParsePrefix(padded(201))
	require.ErrorContains(t, err, "is not a network")
	p, err = ParsePrefix("10.84.20.1 255.255.255.255")
	require.NoError(t, err)
	assert.Equal(t, 32, p.Bits())
	p, err = ParsePrefix("10.84.20.1 128.0.0.0")
	require.NoError(t, err)
	assert.Equal(t, 1, p.Bits())
	_, err = ParsePrefix("10.84.20.0 0.0.0.0")
	require.ErrorContains(t, err, "its ones are not together")
}

// A MAC is text in JSON, and none is empty text.
func TestMACsInJSON(t *testing.T) {
	for text, want := range map[string]string{`""`: "", `"00:00:5e:00:53:1c"`: "00:00:5e:00:53:1c",
		`"0000.5e00.531C"`: "00:00:5e:00:53:1c"} {
		var m MAC
		require.NoError(t, json.Unmarshal([]byte(text), &m), text)
		raw, err := json.Marshal(m)
		require.NoError(t, err)
		assert.Equal(t, `"`+want+`"`, string(raw), text)
	}
	was := MAC{1, 2, 3, 4, 5, 6}
	require.Error(t, json.Unmarshal([]byte(`"house"`), &was))
	assert.Equal(t, MAC{1, 2, 3, 4, 5, 6}, was, "what cannot be read changes nothing")
}
