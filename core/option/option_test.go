package option

import (
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestWireForms(t *testing.T) {
	cases := []struct {
		code uint8
		text string
		wire string
		back string // when it differs from text
	}{
		{3, "10.84.18.1", "0a541201", ""},
		{6, "10.84.16.10,10.84.16.1", "0a54100a0a541001", "10.84.16.10, 10.84.16.1"},
		{12, "recep-pc", "72656365702d7063", ""},
		{15, "Kelder.Larkrise.example.", hex.EncodeToString([]byte("kelder.larkrise.example")),
			"kelder.larkrise.example"},
		{26, "1492", "05d4", ""},
		{51, "28800", "00007080", "8 hours"},
		{51, "3600", "00000e10", "1 hour"},
		{51, "forever", "ffffffff", ""},
		{58, "1 day 12 h", "0001fa40", "1 day 12 hours"},
		// RFC 3397 section 2's compression: the second name's tail points back into the first.
		{119, "a.example, b.example", "0161076578616d706c65000162c002", ""},
		// RFC 3442's own example of widths.
		{78, "only 10.84.16.10", "010a54100a", ""},
		{79, "default", "0064656661756c74", ""},
		{120, "10.84.16.130", "010a541082", ""},
		{120, "sip.example", "0003736970076578616d706c6500", ""},
		{19, "yes", "01", "on"},
		{2, "-3600", "fffff1f0", ""},
		{33, "10.84.20.12 10.84.18.1", "0a54140c0a541201", ""},
		{117, "6, 44", "0006002c", ""},
		{137, "lost.example", "046c6f7374076578616d706c6500", ""},
		{122, "first server 10.84.16.10; provisioning adapters.example; 4 0001",
			"01040a54100a" + "0313" + "00086164617074657273076578616d706c6500" + "04020001", ""},
		// as octets, as it was stored before it had words
		{122, "01040a54100a", "01040a54100a", "first server 10.84.16.10"},
		{139, "information 10.84.16.10, 10.84.16.1; event 10.84.16.2", "01080a54100a0a541001" + "03040a541002", ""},
		{140, "command a.example, b.example", "0216" + "0161076578616d706c6500" + "0162076578616d706c6500", ""},
		{143, "https://a.example/x, tftp://b.example/y", "0013" + hex.EncodeToString([]byte("https://a.example/x")) +
			"0012" + hex.EncodeToString([]byte("tftp://b.example/y")), ""},
		{146, "high 10.84.16.10, 10.84.16.1 for a.example", "010a54100a0a541001" + "0161076578616d706c6500", ""},
		{146, "10.84.16.10 for a.example", "000a54100a00000000" + "0161076578616d706c6500", ""},
		{158, "10.84.16.1, 10.84.16.2; 10.84.17.1", "080a5410010a541002" + "040a541101", ""},
		{212, "2001:db8::/32 mask 8 via 192.0.2.1, 192.0.2.2",
			"0820" + "20010db8000000000000000000000000" + "c0000201c0000202", ""},
		{121, "0.0.0.0/0 via 10.84.18.1, 10.17.0.0/16 via 10.84.18.2", "000a541201100a110a541202", ""},
	}
	for _, c := range cases {
		wire, err := Parse(c.code, c.text)
		require.NoError(t, err, c.text)
		assert.Equal(t, c.wire, hex.EncodeToString(wire), c.text)
		if c.back == "" {
			c.back = c.text
		}
		got, err := Decode(c.code, wire)
		require.NoError(t, err)
		assert.Equal(t, c.back, got)
	}
}

func TestMistakes(t *testing.T) {
	cases := []struct {
		code uint8
		text string
		says string
	}{
		{3, "10.84.18", "is not an IPv4 address"},
		{6, "", "an address is missing"},
		{15, "-bad.example", "is not a name"},
		{12, "café", "outside ASCII"},
		{51, "soon", "type for example 8 hours"},
		{51, "8", "8 has no unit: type 8 hours, 8 minutes or 8 seconds"},
		{51, "1", "type 1 hour, 1 minute or 1 second"},
		{51, "99999999999 days", "is not a length of time"},
		{51, "4000000000 days", "longer than DHCP can say"},
		{121, "10.0.0.0/8", "is not a route"},
		{121, "10.0.0.1/8 via 10.0.0.1", "without host bits"},
		{53, "offer", "set by the server itself"},
		{200, "x", "not in the registry"},
		{26, "70000", "number from 0 to 65535"},
		{26, "60", "type a number from 68"},
		{22, "500", "type a number from 576"},
		{23, "0", "type a number from 1 to 255"},
		{46, "3", "type 1, 2, 4 or 8"},
		{116, "2", "type 0 or 1"},
		{19, "perhaps", "neither on nor off"},
		{21, "10.0.0.0", "is not two addresses"},
		{63, "0105aa", "are not sub-options"},
		{51, "0", "no time at all"},
		{119, "a.example b.example", `"a.example b.example" has spaces; put commas between domains: a.example, ` +
			`b.example`},
		{99, "them GB; 3 Kelder", "is none of server, network, client"},
		{99, "client Britain", "country of two letters"},
		{99, "client GB; Kelder", "number of an element"},
		{123, "95 0, precision 1 1 1, WGS84", "is no place"},
		{123, "9 0, precision 1 99 1, WGS84", "is not a precision"},
		{123, "9 0, precision 1 1 1, ED50", "is no datum"},
		{144, "here", "is not degrees"},
		{83, "functions 0, access 0, security 0, 10.0.0.1", "is not administration and a number"},
		{109, "10.0.0.1", "is not an IPv6 address"},
		{162, "1", "a priority and a name"},
		{162, "1 dns.example speed=9", "none of alpn, port and dohpath"},
		{208, "off", "type on, or remove"},
		{122, "third server 10.0.0.1", "begins with none of first server"},
		{139, "0109aa", "begins with none of information, command, event"},
		{139, "information mobility.example", "is not an IPv4 address"},
		{140, "event -x.example", "is not a name"},
		{143, "setup.example", "is not the address of something to fetch"},
		{146, "10.84.16.10", "does not say which domains"},
		{158, "10.84.16.1; ", "an address is missing"},
		{212, "2001:db8::/120 mask 8 via 192.0.2.1", "more than the 128 of IPv6"},
		{212, "10.0.0.0/8 mask 8 via 192.0.2.1", "is not an IPv6 prefix"},
		{120, "10.0.0.1, sip.example", "are not mixed"},
		{230, "x", "define its name and type first"},
	}
	for _, c := range cases {
		_, err := Parse(c.code, c.text)
		assert.ErrorContains(t, err, c.says, c.text)
	}
}

func TestEveryDefinitionIsWhole(t *testing.T) {
	for _, want := range []uint8{1, 3, 6, 12, 15, 42, 50, 51, 53, 54, 55, 58, 59, 61, 82, 119, 121} {
		_, ok := Lookup(want)
		assert.True(t, ok, "option %d", want)
	}
	codes := map[uint8]bool{}
	for _, d := range Registry() {
		assert.False(t, codes[d.Code], "option %d twice", d.Code)
		codes[d.Code] = true
		assert.NotEmpty(t, d.Meaning)
		assert.NotEmpty(t, d.Reference)
		assert.NotEmpty(t, d.Type.String())
		if !d.ServerOnly {
			wire, err := Parse(d.Code, d.Example)
			require.NoError(t, err, d.Name)
			assert.Equal(t, d.Example, Format(d.Code, wire))
		}
	}
}

func TestNearestLevelWins(t *testing.T) {
	std, site, pool := Source{"standard", "s", "Clinics"}, Source{"site", "k", "Kelder"}, Source{"pool", "p", "PCs"}
	told := Resolve(
		[]Set{{51, "1 day", std, false}, {42, "10.0.0.1", std, true}},
		[]Set{{6, "10.0.0.2", site, false}, {51, "12 hours", site, true}},
		[]Set{{51, "8 hours", pool, false}},
	)
	require.Len(t, told, 3)
	assert.Equal(t, []uint8{6, 42, 51}, []uint8{told[0].Code, told[1].Code, told[2].Code})
	assert.Equal(t, pool, told[2].From)
	assert.Equal(t, []Set{{51, "12 hours", site, true}, {51, "1 day", std, false}}, told[2].Hides)
	assert.True(t, told[1].Always)
	assert.False(t, told[2].Always, "the nearest says whether it is sent unasked")
}

func TestDurationsReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		d := time.Duration(rapid.Uint32Range(1, 1<<32-2).Draw(t, "seconds")) * time.Second
		got, err := ParseDuration(FormatDuration(d))
		if err != nil || got != d {
			t.Fatalf("%v: %q gave %v %v", d, FormatDuration(d), got, err)
		}
	})
}

// Whatever decodes has a text form that, for codes people may set, encodes
// to octets that decode to the same text.
func FuzzDecode(f *testing.F) {
	f.Add(uint8(119), []byte{1, 'a', 0, 0xc0, 0})
	f.Add(uint8(121), []byte{0, 10, 0, 0, 1})
	f.Add(uint8(61), []byte{1, 0, 0, 0x5e, 0, 0x53, 1})
	f.Add(uint8(82), []byte{1, 2, 3})
	f.Add(uint8(122), []byte{1, 4, 10, 0, 0, 1, 3, 4, 0, 1, 'a', 0})
	f.Add(uint8(140), []byte{1, 3, 1, 'a', 0})
	f.Add(uint8(146), []byte{1, 10, 0, 0, 1, 10, 0, 0, 2, 1, 'a', 0})
	f.Add(uint8(158), []byte{4, 10, 0, 0, 1})
	f.Add(uint8(143), []byte{0, 4, 'a', ':', '/', '/'})
	for _, code := range []uint8{43, 83, 99, 123, 144, 162} {
		def, _ := Lookup(code)
		wire, err := Parse(code, def.Example)
		require.NoError(f, err)
		f.Add(code, wire)
	}
	f.Fuzz(func(t *testing.T, code uint8, wire []byte) {
		if len(wire) > MaxValue {
			return
		}
		text, err := Decode(code, wire)
		def, ok := Lookup(code)
		if err != nil || !ok || def.ServerOnly || slices.Contains([]Type{Text}, def.Type) {
			return
		}
		again, err := Parse(code, text)
		if err != nil {
			return // decodable but not something Lithos would set, such as 0 seconds
		}
		if def.Type == Domain { // shown as it came, stored in small letters without a last dot
			text = strings.TrimSuffix(strings.ToLower(strings.TrimSpace(text)), ".")
		}
		if got := Format(code, again); got != text {
			t.Fatalf("option %d: %q became %q", code, text, got)
		}
	})
}

// Whatever a client calls itself, the name offered for it is one that a host may have,
// and is offered again as it is.
func TestLawfulLabels(t *testing.T) {
	for text, want := range map[string]string{
		"Plate Reader 2": "plate-reader-2", "recep-pc": "recep-pc", "RECEP": "recep", " a_b.c ": "a-b-c", "-x-": "x",
		"日本": "", "": "", "\x00": "",
	} {
		got, ok := LawfulLabel(text)
		assert.Equal(t, want, got, "%q", text)
		assert.Equal(t, want != "", ok, "%q", text)
	}
	rapid.Check(t, func(t *rapid.T) {
		label, ok := LawfulLabel(rapid.String().Draw(t, "text"))
		if !ok {
			return
		}
		if err := CheckLabel(label); err != nil {
			t.Fatal(err)
		}
		if again, _ := LawfulLabel(label); again != label {
			t.Fatalf("%q became %q", label, again)
		}
	})
}

// What a maker decides is octets or text, and reads back as what it was.
func TestOctetsOrText(t *testing.T) {
	for text, wire := range map[string]string{
		"0105aa": "0105aa", "vlan=31": "766c616e3d3331", `"0105aa"`: "303130356161", "2e": "2e", ".": "2e",
	} {
		got, err := Parse(43, text)
		require.NoError(t, err, text)
		assert.Equal(t, wire, hex.EncodeToString(got), text)
		again, err := Parse(43, Format(43, got))
		require.NoError(t, err, text)
		assert.Equal(t, got, again, text)
	}
}

func TestZeroUnderscoresAndTrailingZeros(t *testing.T) {
	for _, code := range []uint8{35, 38, 108} {
		wire, err := Parse(code, "0")
		require.NoError(t, err)
		assert.Equal(t, "0 seconds", Format(code, wire))
		_, err = Parse(code, Format(code, wire))
		assert.NoError(t, err)
	}
	assert.Equal(t, "pxe/start.efi", Format(67, []byte("pxe/start.efi\x00")))
	wire, err := Parse(119, "_sites.larkrise.example, larkrise.example")
	require.NoError(t, err)
	assert.Equal(t, "_sites.larkrise.example, larkrise.example", Format(119, wire))
	assert.Error(t, CheckDomain("_sites.larkrise.example"), "which no host may be called")
}

// A list over 255 octets is taken whole, and read back.
func TestLongLists(t *testing.T) {
	var routes, domains []string
	for i := range 60 {
		routes = append(routes, fmt.Sprintf("10.%d.0.0/16 via 10.84.18.1", i))
		domains = append(domains, fmt.Sprintf("ward-%d.kelder.larkrise.example", i))
	}
	for code, list := range map[uint8][]string{121: routes, 249: routes, 119: domains} {
		text := strings.Join(list, ", ")
		wire, err := Parse(code, text)
		require.NoError(t, err)
		assert.Greater(t, len(wire), 255)
		assert.Equal(t, text, Format(code, wire))
	}
	// An element as long as there can be one, whose end is beyond 255.
	street := "client GB; 3 " + strings.Repeat("e", 255) + "; 6 Mill Lane"
	wire, err := Parse(99, street)
	require.NoError(t, err)
	assert.Equal(t, street, Format(99, wire))

	_, err = Parse(17, strings.Repeat("x", MaxValue+1))
	assert.ErrorContains(t, err, "takes 1 to 1024 octets")
	_, err = PackSubOptions([]uint8{1}, [][]byte{make([]byte, 256)})
	assert.ErrorContains(t, err, "at most 255 fit")
}

// People may give their own options any type that they may set, and what they write reads back.
func TestOwnOptionsOfEveryType(t *testing.T) {
	written := map[Type]string{}
	for _, d := range Registry() {
		if !d.ServerOnly && written[d.Type] == "" {
			written[d.Type] = d.Example
		}
	}
	written[Number32], written[Identifier] = "70000", "ethernet 00:00:5e:00:53:1c"
	written[OpaqueOctets] = "0105aa"
	for _, kind := range Choosable {
		own := Own{{Code: 224, Name: "Ours", Type: kind, Example: written[kind]}}
		require.NotEmpty(t, written[kind], kind.String())
		wire, err := own.Parse(224, written[kind])
		require.NoError(t, err, kind.String())
		assert.Equal(t, written[kind], own.Format(224, wire), kind.String())
	}
}

// The names are those of IANA's registry.
func TestRegisteredNames(t *testing.T) {
	for code, name := range map[uint8]string{4: "Time servers", 33: "Static routes", 42: "NTP servers",
		66: "TFTP server name", 67: "Boot file name", 121: "Classless static routes"} {
		d, _ := Lookup(code)
		assert.Equal(t, name, d.Name)
	}
}

// What a client calls itself is made a lawful name, or nothing is.
func FuzzLawfulLabel(f *testing.F) {
	for _, text := range []string{"Recep PC!", "плата", "-a-", strings.Repeat("x", 80), "a\x00b", "."} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		label, ok := LawfulLabel(text)
		if ok != (label != "") || ok && CheckLabel(label) != nil {
			t.Fatalf("%q became %q", text, label)
		}
	})
}

// Whatever a client says of its kind, nothing is read that it did not send.
func FuzzClassesSaid(f *testing.F) {
	f.Add([]byte("phone"), []byte{0, 0, 0, 9, 3, 2, 'a', 'b'})
	f.Add([]byte{}, []byte{0, 0, 0, 9, 200, 1})
	f.Fuzz(func(t *testing.T, class, byEnterprise []byte) {
		sent := append(append([]byte{}, class...), byEnterprise...)
		for _, said := range ClassesSaid(class, byEnterprise) {
			assert.Contains(t, string(sent), said)
		}
	})
}

// Lease times as people type them.
func Test60LeaseTimesAsPeopleTypeThem(t *testing.T) {
	for text, want := range map[string]time.Duration{"infinite": Forever, "1 week": 7 * 24 * time.Hour,
		"8hrs":      8 * time.Hour,
		"1.5 hours": 90 * time.Minute, "08:00:00": 8 * time.Hour, "0:02:30": 150 * time.Second,
		"2 wks": 14 * 24 * time.Hour} {
		got, err := ParseDuration(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"1. hours", "8:00", "1.2345 h", ".5 h", "8:61:00", "0:00:00"} {
		_, err := ParseDuration(text)
		assert.Error(t, err, text)
	}
}
