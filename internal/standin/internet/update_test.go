package internet

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"net"
	"strconv"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/internal/zonetransfer"
)

// signedBy is an update as it goes over the wire, with its signature cut off to some octets; 0 for whole.
func signedBy(t *testing.T, m *dns.Msg, octets int, at time.Time) []byte {
	t.Helper()
	m.SetTsig("all.larkrise.", dns.HmacSHA256, 300, at.Unix())
	raw, mac, err := dns.TsigGenerate(m, secret, "", false)
	require.NoError(t, err)
	if octets == 0 {
		return raw
	}
	whole, err := hex.DecodeString(mac)
	require.NoError(t, err)
	// The signature is the last record. It ends with its length and itself, the id, the error and what is beside it.
	cut := len(raw) - 6 - len(whole) - 2
	data := binary.BigEndian.AppendUint16(raw[:cut:cut], uint16(octets))
	data = append(data, append(whole, 0)[:octets]...)
	data = append(data, raw[len(raw)-6:]...)
	// The length of its data stands before the name of its algorithm, its time and for how long it is good.
	at16 := cut - 8 - len("\x0bhmac-sha256\x00") - 2
	binary.BigEndian.PutUint16(data[at16:], uint16(len(data)-at16-2))
	return data
}

// send sends a message over TCP and gives the answer, whatever its signature says.
func send(t *testing.T, s zonetransfer.Server, raw []byte) *dns.Msg {
	t.Helper()
	conn, err := net.DialTimeout("tcp", s.At.String(), time.Second)
	require.NoError(t, err)
	defer func() { _ = conn.Close() }()
	c := &dns.Conn{Conn: conn}
	_, err = c.Write(raw)
	require.NoError(t, err)
	answer, err := c.ReadMsgHeader(nil)
	require.NoError(t, err)
	reply := new(dns.Msg)
	require.NoError(t, reply.Unpack(answer))
	return reply
}

// rr is a record of an update with the class and TTL it is sent with; without data it is a header alone.
func rr(t *testing.T, class uint16, ttl uint32, typ uint16, name, data string) dns.RR {
	t.Helper()
	h := dns.RR_Header{Name: dns.Fqdn(name), Rrtype: typ, Class: class, Ttl: ttl}
	if data == "" {
		return &dns.ANY{Hdr: h}
	}
	r, err := dns.NewRR(fmt.Sprintf("%s 0 IN %s %s", h.Name, dns.TypeToString[typ], data))
	require.NoError(t, err)
	*r.Header() = h
	return r
}

// The prerequisites and the changes of an update as RFC 2136 sections 3.2 and 3.4 have them.
func Test61UpdatesByTheRFC(t *testing.T) {
	_, s := held(t)
	const in, any, none = dns.ClassINET, dns.ClassANY, dns.ClassNONE
	const www, server = "www." + larkrise, "ns.provider.example."
	a, ns := dns.TypeA, dns.TypeNS
	for _, c := range []struct {
		what         string
		prerequisite dns.RR
		change       dns.RR
		code         int
	}{
		{"a set of name servers that is served", rr(t, any, 0, ns, larkrise, ""), nil, dns.RcodeSuccess},
		{"the one that is served", rr(t, in, 0, ns, larkrise, server), nil, dns.RcodeSuccess},
		{"another one", rr(t, in, 0, ns, larkrise, "ns.other.example."), nil, dns.RcodeNXRrset},
		{"no name server", rr(t, none, 0, ns, larkrise, ""), nil, dns.RcodeYXRrset},
		{"a name in use", rr(t, any, 0, dns.TypeANY, www, ""), nil, dns.RcodeSuccess},
		{"a name not in use", rr(t, none, 0, dns.TypeANY, www, ""), nil, dns.RcodeYXDomain},
		{"a name that nobody has", rr(t, any, 0, dns.TypeANY, "nobody."+larkrise, ""), nil, dns.RcodeNameError},
		{"a TTL", rr(t, any, 1, a, www, ""), nil, dns.RcodeFormatError},
		{"a TTL with a value", rr(t, in, 1, a, www, "203.0.113.80"), nil, dns.RcodeFormatError},
		{"data where there is none", rr(t, none, 0, a, www, "203.0.113.80"), nil, dns.RcodeFormatError},
		{"a class that is none", rr(t, dns.ClassCHAOS, 0, a, www, "203.0.113.80"), nil, dns.RcodeFormatError},
		{"outside the zone", rr(t, any, 0, a, "www.quill.example", ""), nil, dns.RcodeNotZone},
		{"add outside the zone", nil, rr(t, in, 60, a, "www.quill.example", "203.0.113.1"), dns.RcodeNotZone},
		{"add in another class", nil, rr(t, dns.ClassCHAOS, 60, a, www, "203.0.113.1"), dns.RcodeFormatError},
		{"add a type of questions", nil, rr(t, in, 60, dns.TypeAXFR, www, ""), dns.RcodeFormatError},
		{"take one away with a TTL", nil, rr(t, none, 60, a, www, "203.0.113.80"), dns.RcodeFormatError},
		{"take every type of one away", nil, rr(t, none, 0, dns.TypeANY, www, ""), dns.RcodeFormatError},
		{"take a set away with data", nil, rr(t, any, 0, a, www, "203.0.113.80"), dns.RcodeFormatError},
		{"take a transfer away", nil, rr(t, any, 0, dns.TypeAXFR, www, ""), dns.RcodeFormatError},
		{"take what is not there away", nil, rr(t, none, 0, a, www, "203.0.113.99"), dns.RcodeSuccess},
	} {
		m := new(dns.Msg)
		m.SetUpdate(dns.Fqdn(larkrise))
		if c.prerequisite != nil {
			m.Answer = []dns.RR{c.prerequisite}
		}
		if c.change != nil {
			m.Ns = []dns.RR{c.change}
		}
		reply := send(t, s, signedBy(t, m, 0, time.Now()))
		assert.Equal(t, dns.RcodeToString[c.code], dns.RcodeToString[reply.Rcode], c.what)
	}
}

// The last name server of a zone stays, and of several each but the last can be taken away.
func Test61TheLastNameServerStays(t *testing.T) {
	_, s := held(t)
	servers := func() (out []string) {
		now, err := s.Read(t.Context())
		require.NoError(t, err)
		for _, r := range now.Records {
			if r.Owner == "@" && r.Type == "NS" {
				out = append(out, r.Data)
			}
		}
		return out
	}
	update := func(list ...dns.RR) {
		m := new(dns.Msg)
		m.SetUpdate(dns.Fqdn(larkrise))
		m.Ns = list
		require.Equal(t, dns.RcodeSuccess, send(t, s, signedBy(t, m, 0, time.Now())).Rcode)
	}
	const in, any, none = dns.ClassINET, dns.ClassANY, dns.ClassNONE
	first := servers()
	require.Len(t, first, 1)
	update(rr(t, none, 0, dns.TypeNS, larkrise, first[0]), rr(t, any, 0, dns.TypeNS, larkrise, ""),
		rr(t, any, 0, dns.TypeANY, larkrise, ""))
	assert.Equal(t, first, servers())
	update(rr(t, in, 60, dns.TypeNS, larkrise, "ns2.provider.example."))
	assert.ElementsMatch(t, append(first, "ns2.provider.example"), servers(), "the first stays beside it")
	update(rr(t, none, 0, dns.TypeNS, larkrise, first[0]),
		rr(t, none, 0, dns.TypeNS, larkrise, "ns2.provider.example."))
	assert.Equal(t, []string{"ns2.provider.example"}, servers())
}

// An answer to a message of another time tells the time of the server, and can be read by who asked (RFC 8945 section
// 5.2.3).
func Test61TheServersTime(t *testing.T) {
	_, s := held(t)
	m := new(dns.Msg)
	m.SetUpdate(dns.Fqdn(larkrise))
	then := time.Now().Add(-time.Hour)
	reply := send(t, s, signedBy(t, m, 0, then))
	own := reply.IsTsig()
	require.NotNil(t, own)
	assert.Equal(t, dns.RcodeNotAuth, reply.Rcode)
	assert.EqualValues(t, dns.RcodeBadTime, own.Error)
	assert.EqualValues(t, then.Unix(), own.TimeSigned, "as it was asked")
	assert.NotEmpty(t, own.MAC)
	require.EqualValues(t, 6, own.OtherLen)
	now, err := strconv.ParseInt(own.OtherData, 16, 64)
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now(), time.Unix(now, 0), time.Minute)
}

// A signature that is cut off counts down to half of its length, and once (RFC 8945 section 5.2.2.1).
func Test61SignaturesThatAreCutOff(t *testing.T) {
	_, s := held(t)
	at := time.Now()
	for octets, code := range map[int]int{32: dns.RcodeSuccess, 16: dns.RcodeSuccess, 20: dns.RcodeSuccess,
		15: dns.RcodeFormatError, 1: dns.RcodeFormatError, 33: dns.RcodeFormatError} {
		m := new(dns.Msg)
		m.SetUpdate(dns.Fqdn(larkrise))
		reply := send(t, s, signedBy(t, m, octets, at))
		assert.Equal(t, dns.RcodeToString[code], dns.RcodeToString[reply.Rcode], octets)
	}
	m := new(dns.Msg)
	m.SetUpdate(dns.Fqdn(larkrise))
	whole, again := signedBy(t, m.Copy(), 0, at), signedBy(t, m.Copy(), 20, at)
	assert.Equal(t, dns.RcodeSuccess, send(t, s, whole).Rcode)
	assert.Equal(t, dns.RcodeNotAuth, send(t, s, again).Rcode, "heard before, whole")
	wrong := signedBy(t, m.Copy(), 20, at)
	wrong[len(wrong)-7] ^= 1
	assert.Equal(t, dns.RcodeNotAuth, send(t, s, wrong).Rcode)
}
