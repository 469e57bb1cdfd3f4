package zone

import (
	"bytes"
	"net/netip"
	"strings"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A label is of letters, digits, hyphens that are not at its ends, underscores and slashes, whatever the octet.
func TestWhatLabelsAreOf(t *testing.T) {
	const letters = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789"
	for c := range 256 {
		one := string([]byte{'a', byte(c), 'a'})
		if c == '.' {
			continue // two labels
		}
		assert.Equal(t, strings.ContainsRune(letters+"-_/", rune(c)) && c < 128, CheckName(one) == nil, "%q", one)
		plain := strings.ContainsRune("abcdefghijklmnopqrstuvwxyz0123456789-", rune(c)) && c < 128
		assert.Equal(t, plain, lowerLabel(one), "%q", one)
	}
	for label, ok := range map[string]bool{"-": false, "a-": false, "-a": false, "a-a": true, "": false,
		strings.Repeat("x", 63): true, strings.Repeat("x", 64): false} {
		assert.Equal(t, ok, lowerLabel(label), label)
	}
}

// Names are as long as messages can carry: 63 octets a label, 253 in all (RFC 1035 section 2.3.4).
func TestHowLongNamesAre(t *testing.T) {
	label := strings.Repeat("x", 63)
	longest := label + "." + label + "." + label + "." + strings.Repeat("x", 61)
	require.Len(t, longest, 253)
	require.NoError(t, CheckName(longest))
	assert.ErrorContains(t, CheckName(longest+"x"), "254 characters; use at most 253")
	assert.ErrorContains(t, CheckName("x"+label), "64 characters between two dots")
	assert.ErrorContains(t, CheckName(label[:62]+"!"), "is not part of a name")
	zone := longest[len(longest)-189:]
	_, err := ReadOwner(label, zone)
	require.NoError(t, err)
	_, err = ReadOwner("y."+label[1:], zone)
	assert.ErrorContains(t, err, "has 254 characters with its zone")
	assert.ErrorContains(t, CheckName("lab.*"), "is not part of a name")
	assert.Equal(t, strings.Repeat("y", 40), clip(strings.Repeat("y", 40)))
	assert.Equal(t, strings.Repeat("y", 40)+"…", clip(strings.Repeat("y", 41)))
}

// The domain that somebody registers lies below a public suffix; nobody registers below home.arpa or in a domain of
// one's own making.
func TestTheRegisteredDomainOfAName(t *testing.T) {
	for name, want := range map[string]string{"www.larkrise.example": "larkrise.example",
		"a.b.shop.co.uk": "shop.co.uk", "larkrise.example": "larkrise.example", "nas.quill.home.arpa": "",
		"18.84.10.in-addr.arpa": "", "nas.lan": "", "example": "", "co.uk": "", "x.y.internal": ""} {
		assert.Equal(t, want, Registrable(name), name)
	}
	assert.Equal(t, `a\`, Octets(`a\`))
	assert.Equal(t, "aAb", Octets(`a\065b`))
}

// The name that a record names, whole; one that says there is no such service names none.
func TestWhatARecordNames(t *testing.T) {
	for _, c := range []struct{ typ, data, want string }{
		{"CNAME", "edge", "edge." + kelder}, {"SRV", "0 5 5060 pbx", "pbx." + kelder},
		{"MX", "10 m.example", "m.example"},
		{"SRV", "0 0 0 .", ""}, {"SRV", "pbx", ""}, {"A", "192.0.2.1", ""}, {"HINFO", "x", ""}, {"CNAME", "@", kelder},
	} {
		got, ok := TargetOf(Record{Type: c.typ, Data: c.data}, kelder)
		assert.Equal(t, c.want, got, c.data)
		assert.Equal(t, c.want != "", ok, c.data)
	}
	of := func(typ uint16) dns.RR_Header { return dns.RR_Header{Name: "x.", Class: dns.ClassINET, Rrtype: typ} }
	assert.Equal(t, ".", DataOf(&dns.CNAME{Hdr: of(dns.TypeCNAME), Target: "."}, kelder))
	assert.Equal(t, ".", DataOf(&dns.PTR{Hdr: of(dns.TypePTR), Ptr: "."}, kelder))
}

// A record is sent with its own type and time, or the zone's; one of another class or outside the zone is not its.
func TestARecordAsMessagesCarryIt(t *testing.T) {
	for _, typ := range []string{"A", "AAAA", "CNAME", "PTR", "TXT", "MX"} {
		data, err := ReadData(typ, Example(typ), kelder)
		require.NoError(t, err)
		for own, want := range map[int]uint32{0: 3600, 60: 60} {
			r := Record{Owner: "x", Type: typ, Data: data, TTL: own}
			rr, err := r.RR(kelder, 3600)
			require.NoError(t, err)
			assert.Equal(t, typ, dns.TypeToString[rr.Header().Rrtype])
			assert.Equal(t, want, rr.Header().Ttl)
			r.TTL = int(want)
			back, ok := Of(rr, kelder)
			assert.True(t, ok)
			assert.Equal(t, r, back)
			_, ok = Of(rr, "other.example")
			assert.False(t, ok)
			rr.Header().Class = dns.ClassCHAOS
			_, ok = Of(rr, kelder)
			assert.False(t, ok, "of another class")
		}
	}
	list := []Record{{"www", "A", "192.0.2.1", 0}, {"www", "AAAA", "2001:db8::1", 0}, {"ftp", "A", "192.0.2.2", 0},
		{"WWW", "A", "192.0.2.3", 0}}
	assert.Equal(t, []string{"192.0.2.1", "192.0.2.3"}, DataAt(list, "Www", "A"))
	_, err := Record{Owner: "x", Type: "A", Data: "2001:db8::1"}.RR(kelder, 60)
	assert.Error(t, err)
}

// The zone itself comes first, then names, then types as they are offered.
func TestTheOrderOfRecords(t *testing.T) {
	list := []Record{{"a", "MX", "10 m", 0}, {"a", "TXT", `"x"`, 0}, {"0", "A", "192.0.2.1", 0}, {"@", "NS", "n", 0},
		{"@", "A", "192.0.2.9", 0}, {"@", "A", "192.0.2.1", 0}}
	Sort(list)
	var got []string
	for _, r := range list {
		got = append(got, r.Owner+" "+r.Type+" "+r.Data)
	}
	assert.Equal(t, []string{"@ A 192.0.2.1", "@ A 192.0.2.9", "@ NS n", "0 A 192.0.2.1", `a TXT "x"`, "a MX 10 m"},
		got)
}

// What is plain is read here and like the message library reads it; everything else is left to the library.
func TestWhichLinesArePlain(t *testing.T) {
	long := strings.Repeat(strings.Repeat("x", 62)+".", 3) + strings.Repeat("x", 63-len("a.example")-1)
	for line, plain := range map[string]bool{
		"www A 192.0.2.1": true, "www IN A 192.0.2.1\r": true, "www 60 A 192.0.2.1": true,
		"www 60 IN A 192.0.2.1":         true,
		"www\tIN  604800 A\t192.0.2.1 ": true, "WWW A 192.0.2.1": true, "a_b A 192.0.2.1": true,
		"x.a.example. A 192.0.2.1": true, "a.example. A 192.0.2.1": true, "A A 192.0.2.9": true,
		long + " A 192.0.2.1": true, long + "xx A 192.0.2.1": false,
		"": false, " A 192.0.2.1": false, "\tA 192.0.2.1": false, "www A": false, "A 192.0.2.1": false,
		"www A 192.0.2.300": false, "www A 2001:db8::1": false, "www AAAA 192.0.2.1": false, "www 0 A 192.0.2.1": false,
		"www 604801 A 192.0.2.1": false, "www 60 60 A 192.0.2.1": false, "www CH A 192.0.2.1": false,
		"www 60 IN IN 5 A 192.0.2.1": false, "www A 192.0.2.1;x": false, "www A \"192.0.2.1\"": false,
		"w(ww A 192.0.2.1": false, "w\\ww A 192.0.2.1": false, "@ A 192.0.2.1": false, "*.x A 192.0.2.1": false,
		"w\vw A 192.0.2.1": false, "-x A 192.0.2.1": false, "x.b.example. A 192.0.2.1": false,
	} {
		f := File{Origin: "a.example", TTL: 3600}
		r, name, ok := f.plain(line+"\n", "a.example")
		require.Equal(t, plain, ok, "%q", line)
		if !ok {
			continue
		}
		slow := File{Origin: "a.example", TTL: 3600}
		last, err := slow.part([]byte(line+"\n"), 1, "a.example", "a.example.", true)
		require.NoError(t, err)
		assert.Equal(t, slow.Records, []Record{r}, "%q", line)
		assert.Equal(t, Tidy(last), absoluteName(name, "a.example"), "%q", line)
	}
	f := File{Origin: "a.example", TTL: 3600}
	r, _, ok := f.plain("www A 192.0.2.1\n", "lab.a.example")
	assert.True(t, ok)
	assert.Equal(t, Record{"www.lab", "A", "192.0.2.1", 0}, r)
}

// Parentheses and quotes count where they mean something (RFC 1035 section 5.1).
func TestWhatALineLeavesOpen(t *testing.T) {
	for _, c := range []struct {
		line         string
		depth, after int
		quoted, then bool
	}{
		{"a ( b", 0, 1, false, false}, {") c", 1, 0, false, false}, {"( (", 0, 2, false, false},
		{`"(" (`, 0, 1, false, false}, {`a ; ( "`, 0, 0, false, false}, {`\( \"`, 0, 0, false, false},
		{`"open`, 0, 0, false, true}, {`; ( in it" (`, 0, 1, true, false}, {`a \`, 1, 1, true, true},
	} {
		depth, quoted := nesting(c.line, c.depth, c.quoted)
		assert.Equal(t, c.after, depth, c.line)
		assert.Equal(t, c.then, quoted, c.line)
	}
}

// The times of a file: its own for all holds from where it stands, a week is the most, and a directive without a time
// is an error and not the end.
func TestTheTimesOfAFile(t *testing.T) {
	f, err := Parse(strings.NewReader("$TTL 60\na A 192.0.2.1\n$TTL 120\nb A 192.0.2.2\n"), "a.example")
	require.NoError(t, err)
	assert.Equal(t, []Record{{"a", "A", "192.0.2.1", 0}, {"b", "A", "192.0.2.2", 120}}, f.Records)
	for ttl, otherwise := range map[string]int{"604800": 0, "604801": 1} {
		f, err = Parse(strings.NewReader("$TTL "+ttl+"\nb TXT x\n"), "a.example")
		require.NoError(t, err)
		assert.Len(t, f.Otherwise, otherwise, ttl)
		f, err = Parse(strings.NewReader("b "+ttl+" TXT x\n"), "a.example")
		require.NoError(t, err)
		assert.Len(t, f.Otherwise, otherwise, ttl)
		assert.Equal(t, MaxTTL, f.Records[0].TTL)
	}
	_, err = Parse(strings.NewReader("$TTL\nb 60 A 192.0.2.1\n"), "a.example")
	assert.Error(t, err)
	_, err = Parse(strings.NewReader("www 60 IN A nowhere\n"), "a.example")
	assert.ErrorContains(t, err, `line 1: "www 60 IN A nowhere" cannot be read`)
	f, err = Parse(strings.NewReader("$TTL 60\na A 192.0.2.1\nt TXT ( \"one\"\n b A 192.0.2.2 )\nbad A x\n"),
		"a.example")
	assert.ErrorContains(t, err, `line 5: "bad A x"`, "a plain line inside parentheses is none, and lines are counted")
	assert.Empty(t, f.Records)
	f, err = Parse(strings.NewReader("a\\032b 60 A 192.0.2.1\n"), "a.example")
	require.NoError(t, err)
	require.Len(t, f.Left, 1)
	assert.Contains(t, f.Left[0].Why, "is not part of a name")
}

// A file is read up to its limit.
func TestHowLargeAFileIs(t *testing.T) {
	raw := bytes.Repeat([]byte{'x'}, MaxFile+1)
	got, err := readAll(bytes.NewReader(raw[1:]))
	require.NoError(t, err)
	assert.Len(t, got, MaxFile)
	_, err = readAll(bytes.NewReader(raw))
	assert.ErrorContains(t, err, "larger than 32 MiB")
}

// A table has a name and a value, also the other way round, and times up to a week; what is left says its line.
func TestTables(t *testing.T) {
	f, err := Read(strings.NewReader("edge,10.84.16.20\n10.84.16.21,www\n127.0.0.1,localhost\nalias,edge\n"+
		"a,A,192.0.2.1,1\nb,A,192.0.2.1,604800\nc,A,192.0.2.1,0\nd,A,192.0.2.1,604801\n"), kelder)
	require.NoError(t, err)
	assert.Equal(t, []Record{{"edge", "A", "10.84.16.20", 0}, {"www", "A", "10.84.16.21", 0},
		{"alias", "CNAME", "edge", 0},
		{"a", "A", "192.0.2.1", 1}, {"b", "A", "192.0.2.1", 604800}}, f.Records)
	require.Len(t, f.Left, 3)
	assert.Equal(t, []int{3, 7, 8}, []int{f.Left[0].Line, f.Left[1].Line, f.Left[2].Line})
	hosts, left, err := ParseHosts(strings.NewReader("# mine\n192.0.2.1 bad_%\nx y\n"))
	require.NoError(t, err)
	assert.Empty(t, hosts)
	require.Len(t, left, 2)
	assert.Equal(t, []int{2, 3}, []int{left[0].Line, left[1].Line})
}

// A /24 has a reverse zone of its own, a longer prefix lies in one by RFC 2317.
func TestTheReverseZonesOfShortAndLongPrefixes(t *testing.T) {
	a := netip.MustParseAddr("10.84.18.57")
	name, zone := ReverseOwner(a, netip.MustParsePrefix("10.84.18.0/24"))
	assert.Equal(t, []string{"57.18.84.10.in-addr.arpa", "18.84.10.in-addr.arpa"}, []string{name, zone})
	name, zone = ReverseOwner(a, netip.MustParsePrefix("10.84.18.0/25"))
	assert.Equal(t, []string{"57.0/25.18.84.10.in-addr.arpa", "0/25.18.84.10.in-addr.arpa"}, []string{name, zone})
}
