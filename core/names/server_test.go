package names

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lithos/core/yang"
	"lithos/core/zone"
)

var (
	now   = time.Date(2026, 11, 26, 10, 0, 0, 0, time.UTC)
	desk  = Asker{From: netip.MustParseAddr("10.84.18.101")}
	ward  = Asker{From: netip.MustParseAddr("10.84.20.5")}
	alien = Asker{From: netip.MustParseAddr("203.0.113.7")}
)

func addr(s string) netip.Addr { return netip.MustParseAddr(s) }

// config is a resolver with a zone, a reverse zone and everything beside it.
func config() yang.Config {
	var c yang.Config
	c.Resolver.Settings = &yang.ResolverSettings{
		Enabled: true, Port: 53, Asker: []netip.Prefix{netip.MustParsePrefix("10.84.18.0/23"),
			netip.MustParsePrefix("10.84.20.0/26")},
		Forwarder: []yang.NameServer{
			{Address: addr("192.0.2.53"), Port: 53},
			{Address: addr("198.51.100.53"), Port: 53},
		},
		Domain: []yang.DomainServer{
			{Name: "moss.larkrise.example", Server: []yang.NameServer{{Address: addr("10.84.48.10"), Port: 53}}},
		},
		Completion: kelder, KeepShort: true, KeepPrivate: true, LeaseNames: "all", LeaseDomain: kelder,
		CacheEntries: 100,
		GreatestTTL:  86400, NegativeTTL: 3600, LocalTTL: 60, Silenced: []string{"tracker.example"},
	}
	record := func(owner, typ, data string, ttl int) yang.Record {
		return yang.Record{
			ID:    "record:" + owner + typ + "/" + typ + "/" + data,
			Owner: owner,
			Type:  typ,
			Data:  data,
			TTL:   ttl,
		}
	}
	c.Resolver.Zone = []yang.Zone{{
		Name: kelder, TTL: 3600, Primary: "gw-1." + kelder, Contact: "hostmaster." + kelder, Refresh: 1, Retry: 1,
		Expire:   1,
		Negative: 300,
		Record: []yang.Record{
			record(
				"edge",
				"A",
				"10.84.16.20",
				0,
			), record("gw-1", "A", "10.84.16.1", 0), record("gw-1", "A", "10.84.20.1", 0),
			record("records", "CNAME", "edge", 60), record("far", "CNAME", "www.out.example", 0),
			record(
				"loop-a",
				"CNAME",
				"loop-b",
				0,
			), record("loop-b", "CNAME", "loop-a", 0), record("self", "CNAME", "self", 0),
			record(
				"*.lab",
				"A",
				"10.84.20.40",
				0,
			), record("known.lab", "TXT", `"here"`, 0), record("deep.er", "A", "10.84.20.41", 0),
			record(
				"*.alias",
				"CNAME",
				"edge",
				0,
			), record("sub", "NS", "ns.sub."+kelder, 0), record("ns.sub", "A", "10.84.20.53", 0),
			record("@", "MX", "10 edge", 0),
		},
	}, {Name: "18.84.10.in-addr.arpa", TTL: 3600, Primary: "gw-1." + kelder, Contact: "hostmaster." + kelder,
		Negative: 300,
		Record:   []yang.Record{record("57", "PTR", "label-prn."+kelder, 0)}}}
	return c
}

const kelder = "kelder.larkrise.example"

// outside is what other servers say.
func outside(to yang.NameServer, q *dns.Msg) (*dns.Msg, error) {
	m := new(dns.Msg)
	m.SetReply(q)
	say := func(line string) {
		rr, err := dns.NewRR(line)
		if err != nil {
			panic(err)
		}
		m.Answer = append(m.Answer, rr)
	}
	switch name := zone.Tidy(q.Question[0].Name); {
	case to.Address == addr("192.0.2.53") && name == "second.example":
		return nil, errors.New("timed out")
	case name == "www.out.example":
		say("www.out.example. 120 IN CNAME web.out.example.")
		say("web.out.example. 60 IN A 203.0.113.80")
		say("other.example. 60 IN A 203.0.113.99") // nobody asked for it
	case name == "gone.example", strings.HasSuffix(name, ".gone.example"):
		m.Rcode = dns.RcodeNameError
		soa, _ := dns.NewRR("example. 900 IN SOA ns.example. h.example. 1 2 3 4 30")
		m.Ns = append(m.Ns, soa)
	default:
		say(name + ". 300 IN A " + to.Address.String())
	}
	return m, nil
}

//revive:disable-next-line:function-length it is a table
func TestAnswers(t *testing.T) {
	held := NewTable([]LeaseName{
		{
			Name:    "recep-pc",
			Address: addr("10.84.18.101"),
			Since:   now.Add(-time.Hour),
			Expires: now.Add(30 * time.Second),
		},
		{Name: "edge", Address: addr("10.84.18.102"), Since: now, Expires: now.Add(time.Hour)},
	})
	s := NewServer(config(), Around{Cache: NewCache(10), Up: outside, Serial: 7,
		Leases: func(time.Time) *Table { return held }})
	for _, c := range []struct {
		by        Asker
		name, typ string
		code      int
		want      string // data of the answers
		layers    string
	}{
		{desk, "edge." + kelder, "A", dns.RcodeSuccess, "10.84.16.20", "access leases zones"},
		{desk, "EDGE." + kelder, "A", dns.RcodeSuccess, "10.84.16.20", ""},
		{desk, "edge." + kelder, "AAAA", dns.RcodeSuccess, "", ""},
		{desk, "nobody." + kelder, "A", dns.RcodeNameError, "", "access leases zones"},
		{desk, "gw-1." + kelder, "A", dns.RcodeSuccess, "10.84.16.1 10.84.20.1", ""},
		{ward, "gw-1." + kelder, "A", dns.RcodeSuccess, "10.84.20.1 10.84.16.1", ""},
		{desk, "records." + kelder, "A", dns.RcodeSuccess, "edge." + kelder + " 10.84.16.20",
			"access leases zones leases zones"},
		{desk, "records." + kelder, "CNAME", dns.RcodeSuccess, "edge." + kelder, ""},
		{desk, "far." + kelder, "A", dns.RcodeSuccess, "www.out.example web.out.example 203.0.113.80", ""},
		{desk, "loop-a." + kelder, "A", dns.RcodeServerFailure,
			"loop-b.kelder.larkrise.example loop-a.kelder.larkrise.example", ""},
		{desk, "self." + kelder, "A", dns.RcodeServerFailure, "self.kelder.larkrise.example", ""},
		{desk, "any.lab." + kelder, "A", dns.RcodeSuccess, "10.84.20.40", ""},
		{desk, "a.b.lab." + kelder, "A", dns.RcodeSuccess, "10.84.20.40", ""},
		{desk, "known.lab." + kelder, "A", dns.RcodeSuccess, "", ""}, // RFC 4592: what is there is no wildcard's
		{desk, "x.known.lab." + kelder, "A", dns.RcodeNameError, "", ""},
		{desk, "er." + kelder, "A", dns.RcodeSuccess, "", ""}, // an empty non-terminal
		{desk, "x.er." + kelder, "A", dns.RcodeNameError, "", ""},
		{desk, "x.alias." + kelder, "A", dns.RcodeSuccess, "edge." + kelder + " 10.84.16.20", ""},
		{desk, "host.sub." + kelder, "A", dns.RcodeSuccess, "10.84.20.53", ""}, // asked of the server of the part
		{desk, kelder, "MX", dns.RcodeSuccess, "10 edge." + kelder, ""},
		{desk, kelder, "SOA", dns.RcodeSuccess,
			"gw-1.kelder.larkrise.example. hostmaster.kelder.larkrise.example. 7 1 1 1 300", ""},
		{desk, "57.18.84.10.in-addr.arpa", "PTR", dns.RcodeSuccess, "label-prn." + kelder, "access zones"},
		{desk, "58.18.84.10.in-addr.arpa", "PTR", dns.RcodeNameError, "", ""},
		{desk, "recep-pc." + kelder, "A", dns.RcodeSuccess, "10.84.18.101", "access leases"},
		{desk, "101.18.84.10.in-addr.arpa", "PTR", dns.RcodeSuccess, "recep-pc." + kelder, "access leases"},
		{desk, "102.18.84.10.in-addr.arpa", "PTR", dns.RcodeNameError, "", ""}, // its name is another's
		{desk, "recep-pc", "A", dns.RcodeSuccess, "10.84.18.101", "access short leases"},
		{desk, "records", "A", dns.RcodeSuccess, "edge." + kelder + " 10.84.16.20", ""},
		{desk, "nobody", "A", dns.RcodeNameError, "", "access short short"},
		{desk, "srv.moss.larkrise.example", "A", dns.RcodeSuccess, "10.84.48.10", "access servers servers"},
		{desk, "1.16.84.10.in-addr.arpa", "PTR", dns.RcodeNameError, "", "access home"},
		{desk, "printer.local", "A", dns.RcodeNameError, "", "access home"},
		{desk, "localhost", "A", dns.RcodeSuccess, "127.0.0.1", "access home"},
		{desk, "home.arpa", "A", dns.RcodeSuccess, "", ""},
		{desk, "x.tracker.example", "A", dns.RcodeSuccess, "", "access silenced"},
		{desk, "out.example", "A", dns.RcodeSuccess, "192.0.2.53", "access forwarders"},
		{desk, "out.example", "A", dns.RcodeSuccess, "192.0.2.53", "access cache"},
		{desk, "second.example", "A", dns.RcodeSuccess, "198.51.100.53", "access forwarders forwarders"},
		{desk, "gone.example", "A", dns.RcodeNameError, "", "access forwarders"},
		{desk, "below.gone.example", "MX", dns.RcodeNameError, "", "access cache"}, // RFC 8020
		{alien, "edge." + kelder, "A", dns.RcodeRefused, "", "access"},
		{desk, "edge." + kelder, "ANY", dns.RcodeSuccess, `"RFC8482" ""`, ""},
		{desk, kelder, "AXFR", dns.RcodeRefused, "", ""},
	} {
		t.Run(c.name+" "+c.typ, func(t *testing.T) {
			q := new(dns.Msg)
			q.SetQuestion(dns.Fqdn(c.name), dns.StringToType[c.typ])
			reply, steps := s.Trace(now, q, c.by)
			assert.Equal(t, dns.RcodeToString[c.code], dns.RcodeToString[reply.Rcode])
			var data, layers []string
			for _, rr := range reply.Answer {
				data = append(data, zone.DataOf(rr, ""))
			}
			for _, st := range steps {
				layers = append(layers, st.Layer)
			}
			assert.Equal(t, c.want, strings.Join(data, " "))
			if c.layers != "" {
				assert.Equal(t, c.layers, strings.Join(layers, " "), "%+v", steps)
			}
			if len(reply.Answer) > 0 && c.typ != "ANY" {
				assert.Equal(t, dns.Fqdn(c.name), reply.Answer[0].Header().Name, "the name is as it was asked")
			}
			if len(reply.Answer) == 0 && c.code != dns.RcodeRefused {
				require.Len(t, reply.Ns, 1, "a negative answer carries a SOA (RFC 2308)")
				assert.Equal(t, dns.TypeSOA, reply.Ns[0].Header().Rrtype)
			}
			wire, err := reply.Pack()
			require.NoError(t, err)
			require.NoError(t, new(dns.Msg).Unpack(wire))
		})
	}
	assert.EqualValues(t, 2, s.Counters().Refused)
}

// A lease's name is kept by nobody longer than the lease lasts; what is written by hand counts before.
func TestLeaseNames(t *testing.T) {
	list := []LeaseName{
		{Name: "pc", Address: addr("10.84.18.101"), Since: now.Add(-time.Hour), Expires: now.Add(30 * time.Second)},
		{Name: "pc", Address: addr("10.84.18.102"), Since: now, Expires: now.Add(time.Hour)},
		{Name: "tab", Address: addr("10.84.18.103"), Since: now.Add(-time.Hour), Expires: now.Add(time.Hour)},
		{Name: "tab", Address: addr("10.84.18.104"), Since: now, Expires: now.Add(time.Hour), Reserved: true},
	}
	table := NewTable(list)
	assert.Equal(
		t,
		[]LeaseName{list[1], list[2]},
		table.Clashes(list),
		"the older lease counts, and a reservation before it",
	)
	s := NewServer(config(), Around{Leases: func(time.Time) *Table { return table }})
	q := new(dns.Msg)
	q.SetQuestion("pc."+kelder+".", dns.TypeA)
	reply := s.Answer(now, q, desk)
	require.Len(t, reply.Answer, 1)
	assert.EqualValues(t, 30, reply.Answer[0].Header().Ttl)
	reply = s.Answer(now.Add(time.Minute), q, desk)
	assert.Equal(t, dns.RcodeNameError, reply.Rcode, "the lease has ended")
}

func TestMessagesThatAreNotLookedUp(t *testing.T) {
	s := NewServer(config(), Around{})
	ask := func(change func(m *dns.Msg)) *dns.Msg {
		q := new(dns.Msg)
		q.SetQuestion("edge."+kelder+".", dns.TypeA)
		change(q)
		return s.Answer(now, q, desk)
	}
	assert.Nil(t, ask(func(m *dns.Msg) { m.Response = true }), "an answer is not answered")
	assert.Equal(t, dns.RcodeNotImplemented, ask(func(m *dns.Msg) { m.Opcode = dns.OpcodeStatus }).Rcode)
	assert.Equal(t, dns.RcodeFormatError, ask(func(m *dns.Msg) { m.Question = nil }).Rcode)
	assert.Equal(t, dns.RcodeRefused, ask(func(m *dns.Msg) { m.Question[0].Qclass = dns.ClassHESIOD }).Rcode)
	bad := ask(func(m *dns.Msg) { m.SetEdns0(4096, false); m.IsEdns0().SetVersion(1) })
	wire, err := bad.Pack()
	require.NoError(t, err)
	var back dns.Msg
	require.NoError(t, back.Unpack(wire))
	assert.Equal(t, dns.RcodeBadVers, back.Rcode)
	chaos := func(m *dns.Msg) {
		m.Question[0] = dns.Question{Name: "version.server.", Qtype: dns.TypeTXT, Qclass: dns.ClassCHAOS}
	}
	assert.Equal(t, []string{Program}, ask(chaos).Answer[0].(*dns.TXT).Txt)
	c := config()
	c.Resolver.Settings.HideIdentity = true
	s = NewServer(c, Around{})
	assert.Equal(t, dns.RcodeRefused, ask(chaos).Rcode)
	c.Resolver.Settings.Enabled = false
	s = NewServer(c, Around{})
	assert.Nil(t, ask(func(*dns.Msg) {}), "one that is switched off is silent")
}

func TestFit(t *testing.T) {
	c := config()
	for i := range 200 {
		c.Resolver.Zone[0].Record = append(
			c.Resolver.Zone[0].Record,
			yang.Record{ID: fmt.Sprint(i), Owner: "many", Type: "A",
				Data: fmt.Sprintf("10.84.19.%d", i)},
		)
	}
	s := NewServer(c, Around{})
	for _, edns := range []uint16{0, 700, 1232, 4096, 65535} {
		q := new(dns.Msg)
		q.SetQuestion("many."+kelder+".", dns.TypeA)
		most := 512
		if edns > 0 {
			q.SetEdns0(edns, false)
			most = min(int(edns), MaxUDP)
		}
		cut := Fit(s.Answer(now, q, desk), q, false)
		wire, err := cut.Pack()
		require.NoError(t, err)
		assert.LessOrEqual(t, len(wire), most)
		assert.True(t, cut.Truncated)
		whole := Fit(s.Answer(now, q, desk), q, true)
		assert.Len(t, whole.Answer, 200, "over TCP it is whole")
	}
}

// Time runs for what is remembered: TTLs run down, and what has ended is asked for again.
func TestCache(t *testing.T) {
	asked := 0
	up := func(to yang.NameServer, q *dns.Msg) (*dns.Msg, error) { asked++; return outside(to, q) }
	cache := NewCache(3)
	c := config()
	c.Resolver.Settings.CacheEntries = 3
	s := NewServer(c, Around{Cache: cache, Up: up})
	ask := func(at time.Duration, name string) uint32 {
		q := new(dns.Msg)
		q.SetQuestion(name+".", dns.TypeA)
		return s.Answer(now.Add(at), q, desk).Answer[0].Header().Ttl
	}
	assert.EqualValues(t, 300, ask(0, "one.example"))
	assert.EqualValues(t, 200, ask(100*time.Second, "one.example"))
	assert.Equal(t, 1, asked)
	assert.EqualValues(t, 300, ask(300*time.Second, "one.example"), "asked again once it has ended")
	assert.Equal(t, 2, asked)
	for i := range 5 {
		ask(300*time.Second, fmt.Sprintf("n%d.example", i))
	}
	assert.Len(t, cache.Entries(now.Add(300*time.Second)), 3, "the least recently used go first")
	assert.Equal(t, 1, cache.Flush("n4.example"))
	assert.Equal(t, 2, cache.Flush(""))
	assert.Empty(t, cache.Entries(now))
}

// Whatever is asked, an answer comes, whole or cut, that says what was asked, and the chain of
// aliases in it holds together.
func TestAnyQuestion(t *testing.T) {
	s := NewServer(config(), Around{Cache: NewCache(50), Up: outside})
	label := rapid.SampledFrom(
		[]string{"edge", "records", "lab", "x", "sub", "loop-a", "far", "*", "deep", "er", kelder, "moss",
			"larkrise.example", "example", "in-addr.arpa", "10", "84", "18", "57", "local", "alias"},
	)
	rapid.Check(t, func(t *rapid.T) {
		name := strings.Join(rapid.SliceOfN(label, 1, 5).Draw(t, "name"), ".")
		q := new(dns.Msg)
		q.SetQuestion(
			name+".",
			rapid.SampledFrom([]uint16{dns.TypeA, dns.TypeAAAA, dns.TypePTR, dns.TypeNS, dns.TypeCNAME,
				dns.TypeSOA, dns.TypeANY, 65280}).Draw(t, "type"),
		)
		reply := s.Answer(now, q, desk)
		require.NotNil(t, reply)
		assert.Equal(t, q.Question, reply.Question)
		at := zone.Tidy(name)
		for _, rr := range reply.Answer {
			if rr.Header().Rrtype == dns.TypeHINFO {
				break
			}
			assert.Equal(t, at, zone.Tidy(rr.Header().Name))
			if c, ok := rr.(*dns.CNAME); ok && q.Question[0].Qtype != dns.TypeCNAME {
				at = zone.Tidy(c.Target)
			}
		}
		again, _ := s.Trace(now, q, desk)
		assert.Equal(t, reply.Rcode, again.Rcode, "asking for the way changes nothing")
	})
}

func FuzzAnswer(f *testing.F) {
	q := new(dns.Msg)
	q.SetQuestion("records."+kelder+".", dns.TypeA)
	wire, _ := q.Pack()
	f.Add(wire)
	s := NewServer(config(), Around{Cache: NewCache(50), Up: outside})
	f.Fuzz(func(t *testing.T, wire []byte) {
		q := new(dns.Msg)
		if q.Unpack(wire) != nil {
			return
		}
		reply := s.Answer(now, q, desk)
		if reply == nil {
			return
		}
		out, err := Fit(reply, q, false).Pack()
		require.NoError(t, err)
		assert.LessOrEqual(t, len(out), max(MaxUDP, 12+len(wire)))
	})
}

// Number 32: a partial zone answers for the names it has, and the forwarders for the others, its own name among them.
func Test32APartialZoneLeavesTheRestToTheForwarders(t *testing.T) {
	answers := func(partial bool, name string, typ uint16) (string, int) {
		var asked string
		z := yang.Zone{Name: "larkrise.example", TTL: 300, Primary: "ns.larkrise.example",
			Contact: "h.larkrise.example",
			Refresh: 3600, Retry: 600, Expire: 604800, Negative: 300, Partial: partial,
			Record: []yang.Record{{ID: "a", Owner: "nas", Type: "A", Data: "10.84.20.40"},
				{ID: "b", Owner: "*.lab", Type: "A", Data: "10.84.20.41"}, {ID: "c", Owner: "deep.well", Type: "A",
					Data: "10.84.20.42"}}}
		s := NewServer(yang.Config{Resolver: yang.Resolver{Zone: []yang.Zone{z}, Settings: &yang.ResolverSettings{
			Enabled: true, KeepShort: true, Completion: "larkrise.example", GreatestTTL: 600, NegativeTTL: 60,
			Forwarder: []yang.NameServer{{Address: netip.MustParseAddr("192.0.2.53"), Port: 53}}}}},
			Around{Up: func(_ yang.NameServer, q *dns.Msg) (*dns.Msg, error) {
				asked = q.Question[0].Name
				reply := new(dns.Msg)
				reply.SetReply(q)
				return reply, nil
			}})
		q := new(dns.Msg)
		q.SetQuestion(name+".", typ)
		reply := s.Answer(time.Unix(0, 0), q, Asker{Own: true})
		return asked, reply.Rcode
	}
	for name, typ := range map[string]uint16{"mail.larkrise.example": dns.TypeA, "larkrise.example": dns.TypeMX,
		"well.larkrise.example": dns.TypeA, "larkrise.example ": dns.TypeSOA} {
		name = strings.TrimSpace(name)
		asked, code := answers(true, name, typ)
		assert.Equal(t, name+".", asked)
		assert.Equal(t, dns.RcodeSuccess, code)
		asked, _ = answers(false, name, typ)
		assert.Empty(t, asked, "another zone says itself what is not there")
	}
	for _, name := range []string{"nas.larkrise.example", "x.lab.larkrise.example"} {
		for _, typ := range []uint16{dns.TypeA, dns.TypeAAAA} {
			asked, _ := answers(true, name, typ)
			assert.Empty(t, asked, "%s is the zone's, with the types it has", name)
		}
	}
	asked, code := answers(true, "mail", dns.TypeA)
	assert.Equal(t, "mail.larkrise.example.", asked, "a name of one word, completed")
	assert.Equal(t, dns.RcodeSuccess, code)
}
