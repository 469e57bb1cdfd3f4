package zone

import (
	"bytes"
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const kelder = "kelder.larkrise.example"

func TestReadOwner(t *testing.T) {
	for text, want := range map[string]string{
		"label-prn": "label-prn",
		"Label-PRN": "label-prn", "": "@", "@": "@", kelder: "@", kelder + ".": "@",
		"records." + kelder + ".": "records", "*.lab": "*.lab", "_sip._tcp": "_sip._tcp",
		"records.kelder": "records.kelder",
	} {
		got, err := ReadOwner(text, kelder)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for text, says := range map[string]string{
		"a b": "not part of a name", "-x": "not part of a name", "x..y": "not part of a name",
		"lab.*": "not part of a name", strings.Repeat("x", 64): "64 characters",
		"www.other.example.":            "not in " + kelder,
		strings.Repeat("x.", 120) + "y": "with its zone",
	} {
		_, err := ReadOwner(text, kelder)
		assert.ErrorContains(t, err, says, text)
	}
}

func TestReadData(t *testing.T) {
	for _, c := range []struct{ typ, text, want, wire string }{
		{"A", " 10.84.20.40 ", "10.84.20.40", "10.84.20.40"},
		{"AAAA", "2001:DB8::40", "2001:db8::40", "2001:db8::40"},
		{"CNAME", "Edge", "edge", "edge." + kelder + "."},
		{"CNAME", "edge." + kelder + ".", "edge", "edge." + kelder + "."},
		{"CNAME", "www.other.example", "www.other.example", "www.other.example."},
		{"CNAME", "@", "@", kelder + "."},
		{"PTR", "label-prn." + kelder, "label-prn", "label-prn." + kelder + "."},
		{"TXT", "v=spf1 -all", `"v=spf1 -all"`, `"v=spf1 -all"`},
		{"TXT", `say "hi"`, `"say \"hi\""`, `"say \"hi\""`},
		{"SRV", "0 5 5060 pbx", "0 5 5060 pbx", "0 5 5060 pbx." + kelder + "."},
		{"SRV", "0 0 0 .", "0 0 0 .", "0 0 0 ."},
		{"MX", "10  mail", "10 mail", "10 mail." + kelder + "."},
		{"CAA", `0 issue "ca.example"`, `0 issue "ca.example"`, `0 issue "ca.example"`},
		{"NS", "ns-1", "ns-1", "ns-1." + kelder + "."},
	} {
		got, err := ReadData(c.typ, c.text, kelder)
		require.NoError(t, err, c.text)
		assert.Equal(t, c.want, got)
		rr, err := Record{Owner: "x", Type: c.typ, Data: got}.RR(kelder, 3600)
		require.NoError(t, err)
		assert.Equal(t, c.wire, strings.TrimPrefix(rr.String(), rr.Header().String()))
		assert.Equal(t, got, DataOf(rr, kelder), "and back")
	}
	for _, c := range []struct{ typ, text, says string }{
		{"A", "", "10.84.20.40"}, {"A", "10.84.20", "not an address"}, {"A", "2001:db8::1", "not an address"},
		{"AAAA", "10.84.20.40", "not an address"}, {"MX", "mail", "10 mail"}, {"MX", "many mail", "0 to 65535"},
		{"SRV", "0 5 70000 pbx", "0 to 65535"}, {"CNAME", "a b", "edge"}, {"CAA", "x", "0 issue"},
		{"HINFO", "a b", "not a type"}, {"TXT", `"open`, "quotes"}, {"A", "10.84.20.40\nx A 1.2.3.4",
			"not what A holds"},
	} {
		_, err := ReadData(c.typ, c.text, kelder)
		assert.ErrorContains(t, err, c.says, c.text)
	}
}

func TestReverse(t *testing.T) {
	for prefix, want := range map[string][]string{
		"10.84.18.0/24": {"18.84.10.in-addr.arpa"}, "10.84.0.0/16": {"84.10.in-addr.arpa"},
		"10.84.18.0/23": {"18.84.10.in-addr.arpa", "19.84.10.in-addr.arpa"}, "10.0.0.0/8": {"10.in-addr.arpa"},
		"10.84.16.64/27": {"64/27.16.84.10.in-addr.arpa"},
		"172.16.0.0/15":  {"16.172.in-addr.arpa", "17.172.in-addr.arpa"},
	} {
		assert.Equal(t, want, ReverseZones(netip.MustParsePrefix(prefix)), prefix)
	}
	rapid.Check(t, func(t *rapid.T) {
		a := netip.AddrFrom4([4]byte(rapid.SliceOfN(rapid.Byte(), 4, 4).Draw(t, "address")))
		back, ok := Reversed(Reverse(a))
		assert.True(t, ok)
		assert.Equal(t, a, back)
		p := netip.PrefixFrom(a, rapid.IntRange(1, 32).Draw(t, "bits")).Masked()
		name, zone := ReverseOwner(a, p)
		assert.True(t, Within(name, zone))
		assert.Contains(t, ReverseZones(p), zone)
		held, ok := ReversePrefix(zone)
		assert.True(t, ok && held.Contains(a), "%s of %s", zone, p)
	})
}

const zoneFile = `; what a provider holds
$ORIGIN larkrise.example.
$TTL 1h
@	IN SOA ns.provider.example. hostmaster.larkrise.example. (
		2026112501 ; serial
		3600 600 86400 300 )
	IN NS	ns.provider.example.
	IN MX	10 mail
www	60 IN A	203.0.113.44
mail	A 203.0.113.45
records.kelder CNAME edge.kelder
edge.kelder A 203.0.113.44
$ORIGIN kelder.larkrise.example.
remote	A 203.0.113.44
note	TXT "a \"b\" ; c" "second"
note	HINFO "x" "y"
`

func TestZoneFiles(t *testing.T) {
	f, err := Parse(strings.NewReader(zoneFile), "")
	require.NoError(t, err)
	assert.Equal(t, "larkrise.example", f.Origin)
	assert.Equal(t, 3600, f.TTL)
	assert.Equal(
		t,
		&SOA{"ns.provider.example", "hostmaster.larkrise.example", 2026112501, 3600, 600, 86400, 300},
		f.SOA,
	)
	assert.Equal(t, []Record{
		{"@", "NS", "ns.provider.example", 0}, {"@", "MX", "10 mail", 0}, {"www", "A", "203.0.113.44", 60},
		{"mail", "A", "203.0.113.45", 0}, {"records.kelder", "CNAME", "edge.kelder.larkrise.example", 0},
		{"edge.kelder", "A", "203.0.113.44", 0}, {"remote.kelder", "A", "203.0.113.44", 0},
		{"note.kelder", "TXT", `"a \"b\" ; c" "second"`, 0},
	}, f.Records)
	require.Len(t, f.Left, 1)
	assert.Equal(t, "HINFO records are not kept", f.Left[0].Why)
	var out bytes.Buffer
	require.NoError(t, f.Write(&out))
	again, err := Parse(&out, "")
	require.NoError(t, err)
	f.Left = nil
	assert.Equal(t, f, again, "what was written reads back as it was")
}

func TestZoneFilesThatCannotBeRead(t *testing.T) {
	for _, c := range []struct{ file, says string }{
		{"www A 192.0.2.1\n", "which zone it is"},
		{"$ORIGIN a.example.\n$INCLUDE other\n", "line 2: $INCLUDE"},
		{"$ORIGIN a.example.\n$GENERATE 1-4 h$ A 192.0.2.$\n", "line 2: $GENERATE"},
		{"$ORIGIN a.example.\nwww 60 IN A nowhere\n", `line 2: "www 60 IN A nowhere" cannot be read`},
		{"$ORIGIN a.example.\n" + strings.Repeat("x", 64) + " 60 IN A 192.0.2.1\n", "line 2"},
		{"$ORIGIN a.example.\nwww 60 IN TXT (\n", "line"},
	} {
		_, err := Parse(strings.NewReader(c.file), "")
		assert.ErrorContains(t, err, c.says, c.file)
	}
	_, err := Parse(strings.NewReader("$ORIGIN a.example.\n"+strings.Repeat("x 60 IN A 192.0.2.1\n", 1_000_000)), "")
	assert.ErrorContains(t, err, "more than 200000 records")
}

func TestHostsFiles(t *testing.T) {
	hosts, left, err := ParseHosts(strings.NewReader(
		"127.0.0.1 localhost # here\n\n10.84.18.57\tlabel-prn Label.Kelder.example bad_%\nnowhere x\n10.84.18.58\n"))
	require.NoError(t, err)
	assert.Equal(t, []Host{{netip.MustParseAddr("127.0.0.1"), []string{"localhost"}},
		{netip.MustParseAddr("10.84.18.57"), []string{"label-prn", "label.kelder.example"}}}, hosts)
	assert.Len(t, left, 3)
	var out bytes.Buffer
	require.NoError(t, WriteHosts(&out, hosts))
	again, _, err := ParseHosts(&out)
	require.NoError(t, err)
	assert.Equal(t, hosts, again)
}

// genRecord draws a record that people can write.
func genRecord(t *rapid.T) Record {
	label := rapid.StringMatching(`[a-z0-9]([a-z0-9_-]{0,8}[a-z0-9])?`)
	typ := rapid.SampledFrom(Types()).Draw(t, "type")
	name := label.Draw(t, "target")
	if rapid.Bool().Draw(t, "far") {
		name += "." + label.Draw(t, "domain") + ".example"
	}
	n := func() int { return rapid.IntRange(0, 65535).Draw(t, "number") }
	data := name
	switch typ {
	case "A":
		data = netip.AddrFrom4([4]byte(rapid.SliceOfN(rapid.Byte(), 4, 4).Draw(t, "a"))).String()
	case "AAAA":
		data = fmt.Sprintf("2001:db8::%x", n())
	case "TXT":
		data = rapid.StringMatching(`[ -~]{1,300}`).Draw(t, "text")
	case "SRV":
		data = fmt.Sprintf("%d %d %d %s", n(), n(), n(), name)
	case "MX":
		data = fmt.Sprintf("%d %s", n(), name)
	case "CAA":
		data = fmt.Sprintf("%d issue %q", n()%256, name)
	}
	data, err := ReadData(typ, data, kelder)
	if err != nil {
		t.Skip(err)
	}
	owner := rapid.OneOf(rapid.Just(Apex), label, rapid.Just("*.lab")).Draw(t, "owner")
	return Record{owner, typ, data, rapid.IntRange(0, 3).Draw(t, "ttl") * 60}
}

// What is written reads back as it was, whatever the records.
func TestZoneFilesRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := File{
			Origin:  kelder,
			TTL:     7200,
			Records: rapid.SliceOfN(rapid.Custom(genRecord), 1, 20).Draw(t, "records"),
		}
		Sort(f.Records)
		var out bytes.Buffer
		require.NoError(t, f.Write(&out))
		again, err := Parse(bytes.NewReader(out.Bytes()), kelder)
		require.NoError(t, err, out.String())
		assert.Equal(t, f, again, out.String())
	})
}

// Servers send what no zone file holds: data that is cut short, a tag of anything. It is no record.
func TestDataThatIsNotWholeIsNoRecord(t *testing.T) {
	of := func(typ uint16) dns.RR_Header {
		return dns.RR_Header{Name: kelder + ".", Class: dns.ClassINET, Rrtype: typ, Ttl: 60}
	}
	for _, rr := range []dns.RR{
		&dns.A{Hdr: of(dns.TypeA)}, &dns.AAAA{Hdr: of(dns.TypeAAAA)}, &dns.TXT{Hdr: of(dns.TypeTXT)},
		&dns.NS{Hdr: of(dns.TypeNS)}, &dns.CNAME{Hdr: of(dns.TypeCNAME)}, &dns.PTR{Hdr: of(dns.TypePTR)},
		&dns.MX{Hdr: of(dns.TypeMX)}, &dns.SRV{Hdr: of(dns.TypeSRV), Priority: 12336, Weight: 12336},
		&dns.CAA{Hdr: of(dns.TypeCAA)}, &dns.CAA{Hdr: of(dns.TypeCAA), Tag: `"`, Value: "x"},
	} {
		assert.NotPanics(t, func() { DataOf(rr, kelder) }, rr.String())
		r, ok := Of(rr, kelder)
		assert.False(t, ok, "%v", r)
	}
	_, err := ReadData("CAA", `0 \" "ca.example"`, kelder)
	assert.ErrorContains(t, err, "is not what CAA holds")
	_, err = ReadData("CAA", `0 issue-wild "ca.example"`, kelder)
	assert.ErrorContains(t, err, "is not what CAA holds")
}

// A comment begins wherever its semicolon is, and a zone has a name that one can have.
func TestTheOriginOfAFile(t *testing.T) {
	f, err := Parse(strings.NewReader("$ORIGIN kelder.larkrise.example.;the surgery\nwww 60 IN A 10.84.16.20\n"), "")
	require.NoError(t, err)
	assert.Equal(t, kelder, f.Origin)
	assert.Equal(t, []Record{{Owner: "www", Type: "A", Data: "10.84.16.20", TTL: 60}}, f.Records)
	_, err = Parse(strings.NewReader("; of the surgery\n$ORIGIN kelder!larkrise.example.\nwww A 10.84.16.20\n"), "")
	assert.ErrorContains(t, err, `line 2: "kelder!larkrise"`)
	_, err = Parse(strings.NewReader("$ORIGIN ;nothing\nwww 60 IN A 10.84.16.20\n"), "")
	assert.ErrorContains(t, err, "does not say which zone it is")
}

func FuzzParse(f *testing.F) {
	f.Add("$ORIGIN 0;0\n0 NS 0.\n")
	f.Add("$ORIGIN " + kelder + ".\n@ NS\nx MX\n")
	f.Add(zoneFile)
	f.Fuzz(func(t *testing.T, text string) {
		file, err := Parse(strings.NewReader(text), "")
		if err != nil {
			return
		}
		for _, r := range file.Records {
			_, err := r.RR(file.Origin, 60)
			assert.NoError(t, err, "%v", r)
		}
	})
}

func FuzzParseHosts(f *testing.F) {
	f.Add("10.84.18.57 label-prn # x\n")
	f.Fuzz(func(t *testing.T, text string) {
		hosts, _, err := ParseHosts(strings.NewReader(text))
		require.NoError(t, err)
		var out bytes.Buffer
		require.NoError(t, WriteHosts(&out, hosts))
		again, left, err := ParseHosts(&out)
		require.NoError(t, err)
		assert.Equal(t, hosts, again)
		assert.Empty(t, left)
	})
}

func FuzzReadData(f *testing.F) {
	for _, typ := range Types() {
		f.Add(typ, Example(typ))
	}
	f.Add("CAA", `0 " "0"`)
	f.Add("CAA", "0 "+strings.Repeat("u", 256)+` "ca.example"`) // a tag is of 255 octets at most
	f.Add("TXT", strings.Repeat("\xf4", 1800))                  // written with four characters an octet
	f.Fuzz(func(t *testing.T, typ, text string) {
		data, err := ReadData(typ, text, kelder)
		if err != nil {
			return
		}
		rr, err := Record{Owner: Apex, Type: typ, Data: data}.RR(kelder, 60)
		require.NoError(t, err, data)
		_, err = dns.PackRR(rr, make([]byte, 65535), 0, nil, false)
		require.NoError(t, err)
		again, err := ReadData(typ, data, kelder)
		require.NoError(t, err)
		assert.Equal(t, data, again)
	})
}

// A file is read as what it is, without being told.
func TestReadTellsFormatsApart(t *testing.T) {
	want := []Record{{"edge", "A", "10.84.16.20", 0}, {"www", "CNAME", "edge", 60}}
	for _, text := range []string{
		"$TTL 3600\nedge 3600 IN A 10.84.16.20\nwww 60 IN CNAME edge\n",
		"name,type,value,ttl\nedge,A,10.84.16.20,\nwww." + kelder + ",CNAME,edge,60\n",
		"edge,,10.84.16.20\nwww,cname,edge." + kelder + ",60\n",
	} {
		f, err := Read(strings.NewReader(text), kelder)
		require.NoError(t, err, text)
		assert.Equal(t, want, f.Records, text)
		assert.Empty(t, f.Left)
	}
	f, err := Read(strings.NewReader("# mine\n10.84.16.20 edge www."+kelder+" far.example\n2001:db8::1 edge\n"), kelder)
	require.NoError(t, err)
	assert.Equal(t, []Record{{"edge", "A", "10.84.16.20", 0}, {"www", "A", "10.84.16.20", 0},
		{"edge", "AAAA", "2001:db8::1", 0}}, f.Records)
	require.Len(t, f.Left, 1)
	f, err = Read(strings.NewReader("name,value\na b,10.0.0.1\nx,A,nowhere\ny,A,10.0.0.1,long\nz\n"), kelder)
	require.NoError(t, err)
	assert.Len(t, f.Left, 4)
	assert.Empty(t, f.Records)
	_, err = Read(strings.NewReader("edge,A,10.84.16.20\n\""), kelder)
	assert.ErrorContains(t, err, "line 2")
	assert.ErrorContains(t, err, "it is not CSV")
}

func FuzzRead(f *testing.F) {
	f.Add("name,type,value,ttl\nedge,A,10.84.16.20,60\n")
	f.Add("10.84.16.20 edge\n")
	f.Fuzz(func(t *testing.T, text string) {
		file, err := Read(strings.NewReader(text), kelder)
		if err != nil {
			return
		}
		for _, r := range file.Records {
			_, err := r.RR(kelder, 60)
			assert.NoError(t, err, "%v", r)
		}
	})
}

// Plain lines that are read here are what the message library makes of them, whatever is between them.
func TestPlainLinesAreReadAlike(t *testing.T) {
	lines := []string{"www A 192.0.2.1", "www 60 IN A 192.0.2.1", "www IN 3600 A 192.0.2.1", " A 192.0.2.2", "\tTXT x",
		"$ORIGIN lab.a.example.", "$ORIGIN b", "$ORIGIN a.example.", "a.b 5 A 192.0.2.3 ; why", "mail MX 10 www",
		"x.a.example. A 192.0.2.4", "elsewhere. A 192.0.2.5", "t TXT ( \"one\"", "\"two\" )", "www A 192.0.2.300",
		"@ A 192.0.2.6",
		"t TXT \"an A in quotes\"", "", "  ", "WWW.B IN A 192.0.2.7", "-x A 192.0.2.8", "www 60 60 A 192.0.2.9",
		"www CH A 192.0.2.1", "a.example. A 192.0.2.6", "A A 192.0.2.9", "IN A 192.0.2.1", "60 A 192.0.2.1"}
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(rapid.SliceOfN(rapid.SampledFrom(lines), 0, 12).Draw(t, "lines"), "\n") + "\n"
		if rapid.Bool().Draw(t, "ttl") {
			text = "$TTL 3600\n" + text
		}
		got, err := Parse(strings.NewReader(text), "a.example")
		slow := File{Origin: "a.example"}
		bad := slow.refuseDirectives([]byte(text))
		if bad == nil {
			_, bad = slow.part([]byte(text), 1, "a.example", "a.example.", false)
		}
		if (err == nil) != (bad == nil) {
			t.Fatalf("%q: %v, and the library says %v", text, err, bad)
		}
		if err == nil {
			assert.Equal(t, slow, got, text)
		}
	})
}

// Number 25: what is read in can always be written and read again, and what was taken otherwise is told.
func Test25WhatIsReadInIsReadAgain(t *testing.T) {
	f, err := Read(strings.NewReader("\ufeff$ttl 3600\n$origin lab.example.\na 0 IN A 192.0.2.1\nb 700000 IN A "+
		"192.0.2.2\nc IN A 192.0.2.3\n@ IN SOA ns.lab.example. h.lab.example. 1 2 3 4 5\n"), "lab.example")
	require.NoError(t, err)
	require.Len(t, f.Records, 3)
	assert.Equal(t, []int{1, MaxTTL, 0}, []int{f.Records[0].TTL, f.Records[1].TTL, f.Records[2].TTL})
	assert.Len(t, f.Otherwise, 2)
	assert.Equal(t, "h.lab.example", f.SOA.Contact)
	none, err := Read(strings.NewReader("a 0 IN A 192.0.2.1\n"), "lab.example")
	require.NoError(t, err)
	assert.Equal(t, 1, none.Records[0].TTL, "zero is said, and is not the zone's")
	_, err = Read(strings.NewReader("$generate 1-4 h$ A 192.0.2.$\n"), "lab.example")
	require.ErrorContains(t, err, "$GENERATE is not carried out")
	hosts, err := Read(strings.NewReader("127.0.0.1 localhost\n192.0.2.9 nine\n"), "lab.example")
	require.NoError(t, err)
	assert.Len(t, hosts.Records, 1)
	assert.Contains(t, hosts.Left[0].Why, "each machine's own")
}

// Whatever a label says, its octets are no more than its characters, and one without escapes is what it says.
func FuzzOctets(f *testing.F) {
	f.Add(`a\.b`)
	f.Add(`\065\\`)
	f.Add(`\99`)
	f.Fuzz(func(t *testing.T, label string) {
		got := Octets(label)
		assert.LessOrEqual(t, len(got), len(label))
		if !strings.Contains(label, `\`) {
			assert.Equal(t, label, got)
		}
		Registrable(label)
	})
}
