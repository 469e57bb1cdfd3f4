package site_test

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/option"
	"lithos/core/scenario"
	"lithos/core/site"
)

// typedInto is a field of a new part as it reads a text: what it then shows, or what it says is wrong.
func typedInto(t *testing.T, kind, field, text string) string {
	k, ok := site.KindNamed(kind)
	require.True(t, ok, kind)
	f, ok := k.Field(field)
	require.True(t, ok, "%s %s", kind, field)
	s := scenario.Site("kelder-bridge")
	var part any = s
	if !k.Fixed() {
		part = k.Empty("new")
	}
	if err := f.Read(&site.Reading{Site: s, ID: "new", New: true, Given: map[string]string{field: text}}, part,
		text); err != nil {
		return "! " + err.Error()
	}
	return f.Text(part)
}

// Each field takes what is at its bounds and refuses what is beyond them, in words that say what to type instead.
func TestFieldsAtTheirBounds(t *testing.T) {
	for _, c := range [][4]string{
		{"network", "prefix", "10.0.0.0/8", "10.0.0.0/8"}, {"network", "prefix", "10.0.0.0/7",
			"! 10.0.0.0/7 is larger"},
		{"network", "prefix", "10.0.0.1/24", "! 10.0.0.1/24"}, {"network", "prefix", "", "! "},
		{"network", "vlan", "4094", "4094"}, {"network", "vlan", "4095", "! "}, {"network", "vlan", "1", "1"}, {
			"network", "vlan", "-1", "! "},
		{"network", "name", strings.Repeat("x", 100), strings.Repeat("x", 100)}, {"network", "name", strings.Repeat(
			"x", 1001), "! "},
		{"definition", "code", "224", "224"}, {"definition", "code", "254", "254"}, {"definition", "code", "223", "! "},
		{"definition", "code", "255", "! "}, {"definition", "code", "x", "! "},
		{"class", "subOptions", "1 | Call server | address | 10.84.16.130", "1 | Call server | address | 10.84.16.130"},
		{"class", "subOptions", "254 | a | text | b", "254 | a | text | b"}, {"class", "subOptions",
			"255 | a | text | b", "! "},
		{"class", "subOptions", "0 | a | text | b", "! "}, {"class", "subOptions", "1 | a | colour | b", "! "},
		{"class", "subOptions", "1 | a | address", "! "},
		{"zone", "name", "10.84.18.0/24", "18.84.10.in-addr.arpa"}, {"zone", "name", "10.84.18.0/27",
			"0/27.18.84.10.in-addr.arpa"},
		{"zone", "name", "10.84.18.0/23", "! 10.84.18.0/23 has 2 reverse zones"}, {"zone", "name", "10.84.18.1/24",
			"! "},
		{"zone", "name", "Moss.Example.", "moss.example"}, {"zone", "name", "*.moss.example", "! "}, {"zone",
			"name", "a..b", "! "},
		{"resolver", "domains", "10.84.18.0/24 | 192.0.2.53", "18.84.10.in-addr.arpa | 192.0.2.53"},
		{"resolver", "domains", "10.84.16.0/20 | 192.0.2.53", "! 10.84.16.0/20 has 16 reverse domains"},
		{"resolver", "domains", "moss.example", "! "}, {"resolver", "domains", "moss.example | ", "! "},
		{"resolver", "silenced", "0.0.0.0 tracker.example # a list", "tracker.example"}, {"resolver", "silenced",
			"one two", "! "},
		{"resolver", "silenced", "0.0.0.0 one two", "! "}, {"resolver", "silenced", "tracker.example",
			"tracker.example"},
		{"resolver", "forwarders", "192.0.2.53:5353\n198.51.100.53 TLS dns.example",
			"192.0.2.53:5353\n198.51.100.53 TLS dns.example"},
	} {
		got := typedInto(t, c[0], c[1], c[2])
		if strings.HasPrefix(c[3], "! ") {
			assert.True(t, strings.HasPrefix(got, c[3]), "%s %s %.60q: %.120q", c[0], c[1], c[2], got)
		} else {
			assert.Equal(t, c[3], got, "%s %s %.60q", c[0], c[1], c[2])
		}
	}
}

// A server is asked at its own port, or at the usual one of its way.
func TestForwarders(t *testing.T) {
	for text, at := range map[string]string{"192.0.2.53": "192.0.2.53:53", "192.0.2.53:5353": "192.0.2.53:5353",
		"192.0.2.53 TLS dns.example": "192.0.2.53:853", "192.0.2.53:8853 tls dns.example": "192.0.2.53:8853"} {
		f, err := site.ParseForwarder(text)
		require.NoError(t, err, text)
		assert.Equal(t, at, f.AddrPort().String(), text)
		again, err := site.ParseForwarder(f.String())
		require.NoError(t, err)
		assert.Equal(t, f, again)
	}
	for _, text := range []string{"", "192.0.2.53:0", "192.0.2.53:65536", "2001:db8::1", "192.0.2.53 SSL a",
		"192.0.2.53 TLS",
		"192.0.2.53 TLS a..b", "dns.example"} {
		_, err := site.ParseForwarder(text)
		assert.Error(t, err, text)
	}
}

// A window counts from the first address, or with a minus from the last, and falls into a network that is large enough.
func TestWindows(t *testing.T) {
	for _, c := range []struct {
		prefix   string
		from, to int
		want     string
	}{{"10.0.0.0/24", 0, 9, "10.0.0.0 - 10.0.0.9"}, {"10.0.0.0/24", -10, -1, "10.0.0.246 - 10.0.0.255"},
		{"10.0.0.0/24", 5, 5, "10.0.0.5"}, {"10.0.0.0/24", 5, 4, ""}, {"10.0.0.0/24", 0, 255, "10.0.0.0 - 10.0.0.255"},
		{"10.0.0.0/24", 0, 256, ""}, {"10.0.0.0/28", -17, -1, ""}, {"10.0.0.0/28", -16, -1, "10.0.0.0 - 10.0.0.15"}} {
		r, ok := site.WindowIn(netip.MustParsePrefix(c.prefix), site.Window{From: c.from, To: c.to})
		assert.Equal(t, c.want != "", ok, "%+v", c)
		if ok {
			assert.Equal(t, c.want, r.String(), "%+v", c)
		}
	}
}

// Within is what a naive look finds, in any range.
func TestWithinIsWhatIsInTheRange(t *testing.T) {
	var list []netip.Addr
	for _, last := range []byte{1, 5, 5, 9, 20} {
		list = append(list, netip.AddrFrom4([4]byte{10, 0, 0, last}))
	}
	for from := range byte(22) {
		for to := from; to < 22; to++ {
			r := address.Range{From: netip.AddrFrom4([4]byte{10, 0, 0, from}), To: netip.AddrFrom4([4]byte{10, 0, 0,
				to})}
			var want []netip.Addr
			for _, a := range list {
				if r.Contains(a) {
					want = append(want, a)
				}
			}
			got := site.Within(list, r, func(a *netip.Addr) netip.Addr { return *a })
			assert.True(t, slices.Equal(want, got), "%s: %v", r, got)
		}
	}
}

func TestDates(t *testing.T) {
	for text, ok := range map[string]bool{"2027-03-31": true, "2000-01-01": true, "1999-12-31": false,
		"2027-02-30": false,
		"31.3.2027":  false} {
		d, err := site.ParseDate(text)
		assert.Equal(t, ok, err == nil, text)
		if ok {
			assert.Equal(t, text, d.String())
		}
	}
	days := []site.Date{{}, {Year: 2026, Month: 12, Day: 31}, {Year: 2027, Month: 1, Day: 1}, {Year: 2027, Month: 1,
		Day: 2},
		{Year: 2027, Month: 2, Day: 1}}
	for i, a := range days {
		for k, b := range days {
			assert.Equal(t, i < k, a.Before(b), "%s %s", a, b)
		}
	}
	var d site.Date
	require.NoError(t, d.UnmarshalText([]byte("2027-01-02")))
	assert.Equal(t, days[3], d)
	assert.Error(t, d.UnmarshalText([]byte("soon")))
	assert.Equal(t, days[3], d, "what cannot be read changes nothing")
	require.NoError(t, d.UnmarshalText(nil))
	assert.True(t, d.IsZero())
}

func TestCountedAndLargest(t *testing.T) {
	for want, c := range map[string]struct {
		n   int
		one string
	}{"1 network": {1, "network"}, "0 networks": {0, "network"}, "2 networks": {2, "network"}, "3 addresses": {3,
		"address"}} {
		assert.Equal(t, want, site.Counted(c.n, c.one))
	}
	for want, u := range map[int]site.UplinkFacts{1500: {Method: site.ByDHCP}, 1492: {Method: site.ByPPPoE},
		1400: {Method: site.ByPPPoE, MTU: 1400}} {
		assert.Equal(t, want, u.Largest())
	}
}

// What a site names by a password or key, and where those go that are sent as they are.
func TestSecretsAndWhereTheyGo(t *testing.T) {
	s := &site.Site{Devices: []site.Device{{Interfaces: []site.Interface{{}, {Uplink: &site.UplinkFacts{}},
		{Uplink: &site.UplinkFacts{Secret: "line"}}}}},
		Certificates: []site.Certificate{{Secret: "cert"}, {}},
		Following: []site.Following{{Secret: "signs"}, {Secret: "sent", How: site.ByRequest,
			RequestTo: "HTTPS://Provider.Example:8443/x"},
			{}},
		Zones: []site.Zone{{Secret: "zone", Account: "account", KeysAt: "https://keys.example/api"}, {
			Account: "unasked"}, {}}}
	assert.Equal(t, []string{"line", "cert", "signs", "sent", "zone", "account", "unasked"}, s.Secrets())
	for secret, to := range map[string]string{"sent": "https://provider.example:8443",
		"account": "https://keys.example",
		"signs":   "", "zone": "", "unasked": "", "line": "", "nobody": ""} {
		assert.Equal(t, to, s.GoesTo(secret), secret)
	}
	assert.Equal(t, "/only/a/path", site.Origin("/only/a/path"))
	for secret, ok := range map[string]bool{"AAAAAAAAAAAAAAAAAAAAAA==": true, "AAAAAAAAAAAAAAAAAAAA": false,
		"not base64!": false, "": false} {
		assert.Equal(t, ok, site.CheckKey(secret) == nil, secret)
	}
}

// The parts that a name or an address belongs to: the most specific.
func TestWhatANameBelongsTo(t *testing.T) {
	s := &site.Site{Domain: "moss.example", Block: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/16")},
		Networks: []site.Network{{ID: "big", Prefix: netip.MustParsePrefix("10.0.0.0/16")},
			{ID: "small", Prefix: netip.MustParsePrefix("10.0.7.0/24")}, {ID: "far", Prefix: netip.MustParsePrefix(
				"192.0.2.0/24")}},
		Zones: []site.Zone{{ID: "out", Name: "moss.example", Side: site.Outside}, {ID: "in", Name: "moss.example",
			Side: site.Inside},
			{ID: "lab", Name: "lab.moss.example", Side: site.Inside}},
		Following: []site.Following{{ID: "f", Name: "home.moss.example"}, {ID: "w", Name: "all.moss.example",
			Wildcard: true}},
		KnownClients: []site.KnownClient{{ID: "k", MAC: address.MAC{2}, Name: "kiosk"}}}
	for a, id := range map[string]string{"10.0.7.1": "small", "10.0.8.1": "big", "192.0.2.1": "far",
		"203.0.113.1": ""} {
		n, ok := s.NetworkOf(netip.MustParseAddr(a))
		assert.Equal(t, id != "", ok, a)
		if ok {
			assert.Equal(t, id, n.ID, a)
		}
		assert.Equal(t, id != "", s.Inside(netip.MustParseAddr(a)), a)
	}
	for name, want := range map[string]string{"pc.lab.moss.example inside": "lab", "lab.moss.example inside": "lab",
		"pc.moss.example inside": "in", "pc.lab.moss.example outside": "out", "moss.example.org inside": ""} {
		host, side, _ := strings.Cut(name, " ")
		z, ok := s.ZoneOf(host, side)
		assert.Equal(t, want != "", ok, name)
		if ok {
			assert.Equal(t, want, z.ID, name)
		}
	}
	for name, want := range map[string]string{"home.moss.example": "f", "a.home.moss.example": "",
		"all.moss.example":   "w",
		"a.all.moss.example": "w", "a.b.all.moss.example": "w", "call.moss.example": ""} {
		f, ok := s.FollowerOf(name)
		assert.Equal(t, want != "", ok, name)
		if ok {
			assert.Equal(t, want, f.ID, name)
		}
	}
	home, ok := s.HomeZone()
	require.True(t, ok)
	assert.Equal(t, "in", home.ID)
	s.Domain = ""
	s.Zones[1].Name = ""
	_, ok = s.HomeZone()
	assert.False(t, ok)
	k, ok := s.KnownClient(address.MAC{2})
	require.True(t, ok)
	assert.Equal(t, "kiosk", k.Name)
	_, ok = s.KnownClient(address.MAC{3})
	assert.False(t, ok)
	var none *site.VendorClass
	assert.Nil(t, none.Definitions())
	assert.Equal(t, []option.Definition{{Code: 1, Name: "x", Type: option.Text}},
		(&site.VendorClass{SubOptions: []site.SubOption{{Code: 1, Name: "x", Type: "text"}, {Code: 2,
			Type: "colour"}}}).Definitions())
	m := site.Mention{Address: netip.MustParseAddr("10.0.7.1"), Bits: 24}
	for p, of := range map[string]bool{"10.0.7.0/24": true, "10.0.0.0/16": true, "10.0.7.0/25": false,
		"10.0.8.0/24": false} {
		assert.Equal(t, of, m.Of(netip.MustParsePrefix(p)), p)
	}
}
