package names

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/site"
	"lithos/core/yang"
)

func data(m *dns.Msg) string {
	var out []string
	for _, one := range m.Answer {
		text := strings.TrimPrefix(one.String(), one.Header().String())
		out = append(out, strings.TrimSuffix(text, "."))
	}
	return strings.Join(out, " ")
}

// RFC 1035 section 4.1.1: what the server holds itself is said with authority, also that it is not there; what others
// said, and a refusal, are not.
func TestWhatIsSaidWithAuthority(t *testing.T) {
	s := NewServer(config(), Around{Cache: NewCache(9), Up: outside})
	for name, own := range map[string]bool{"edge." + kelder: true, "records." + kelder: true, "nobody." + kelder: true,
		"any.example": false, "far." + kelder: false} {
		assert.Equal(t, own, s.Answer(now, ask(name, dns.TypeA), desk).Authoritative, name)
	}
	assert.True(t, s.Answer(now, ask("edge."+kelder, dns.TypeMX), desk).Authoritative, "it is there and has none")
	assert.False(t, s.Answer(now, ask("edge."+kelder, dns.TypeA), alien).Authoritative, "refused")
}

// A chain of aliases is followed for as many links as there may be, and no farther.
func TestHowLongAChainIsFollowed(t *testing.T) {
	c := config()
	z := &c.Resolver.Zone[0]
	for i := range 40 {
		z.Record = append(z.Record, yang.Record{ID: fmt.Sprint("c", i), Owner: fmt.Sprint("c", i), Type: "CNAME",
			Data: fmt.Sprint("c", i+1)})
	}
	z.Record = append(z.Record, yang.Record{ID: "c40", Owner: "c40", Type: "A", Data: "10.84.16.99"})
	s := NewServer(c, Around{})
	for links, found := range map[int]bool{maxAliases: true, maxAliases + 1: false} {
		m := s.Answer(now, ask(fmt.Sprint("c", 40-links, ".", kelder), dns.TypeA), desk)
		assert.Equal(t, found, m.Rcode == dns.RcodeSuccess && strings.HasSuffix(data(m), "10.84.16.99"), links)
	}
}

// RFC 4343 section 3: an answer has the capitals of its question, and the next one those of its own.
func TestCapitalsAreOfOneQuestion(t *testing.T) {
	s := NewServer(config(), Around{Cache: NewCache(9), Up: outside})
	for _, name := range []string{"edge." + kelder, "any.example"} {
		for _, asked := range []string{strings.ToUpper(name), name} {
			m := s.Answer(now, ask(asked, dns.TypeA), desk)
			require.Len(t, m.Answer, 1)
			assert.Equal(t, dns.Fqdn(asked), m.Answer[0].Header().Name)
		}
	}
}

// What is written by hand counts before a lease, in both directions; a domain of leases alone has no other names.
func TestLeasesBesideZones(t *testing.T) {
	table := NewTable([]LeaseName{{Name: "pc", Address: addr("10.84.18.57"), Since: now, Expires: now.Add(time.Hour)},
		{Name: "tab", Address: addr("10.84.18.60"), Since: now, Expires: now.Add(time.Hour)}})
	s := NewServer(config(), Around{Leases: func(time.Time) *Table { return table }})
	assert.Equal(t, "label-prn."+kelder, data(s.Answer(now, ask("57.18.84.10.in-addr.arpa", dns.TypePTR), desk)))
	assert.Equal(t, "tab."+kelder, data(s.Answer(now, ask("60.18.84.10.in-addr.arpa", dns.TypePTR), desk)))
	assert.Equal(t, dns.RcodeNameError, s.Answer(now.Add(time.Hour), ask("60.18.84.10.in-addr.arpa", dns.TypePTR),
		desk).Rcode, "it has ended")
	c := config()
	c.Resolver.Settings.LeaseDomain = "leases.example"
	s = NewServer(c, Around{Up: outside, Leases: func(time.Time) *Table { return table }})
	assert.Equal(t, "10.84.18.60", data(s.Answer(now, ask("tab.leases.example", dns.TypeA), desk)))
	for name, code := range map[string]int{"no.leases.example": dns.RcodeNameError,
		"tab.leases.example": dns.RcodeSuccess,
		"other.example":      dns.RcodeSuccess} {
		m := s.Answer(now, ask(name, dns.TypeAAAA), desk)
		assert.Equal(t, code, m.Rcode, name)
		if strings.HasSuffix(name, "leases.example") {
			require.Len(t, m.Ns, 1, name)
			assert.Equal(t, "leases.example.", m.Ns[0].Header().Name)
		}
	}
	for _, c := range []struct {
		setting        string
		anyone, theirs bool
	}{{site.LeaseNamesAll, true, true}, {site.LeaseNamesReserved, false, true}, {"none", false, false}} {
		assert.Equal(t, c.anyone, LeaseNames(c.setting, LeaseName{}), c.setting)
		assert.Equal(t, c.theirs, LeaseNames(c.setting, LeaseName{Reserved: true}), c.setting)
	}
}

// One question has so many servers asked and no more, and a trace says why there is no answer.
func TestHowManyServersAreAsked(t *testing.T) {
	c := config()
	c.Resolver.Settings.Forwarder = nil
	for i := range 2 * maxAsked {
		c.Resolver.Settings.Forwarder = append(c.Resolver.Settings.Forwarder,
			yang.NameServer{Address: netip.AddrFrom4([4]byte{192, 0, 2, byte(i)}), Port: 53})
	}
	asked := 0
	s := NewServer(c, Around{Up: func(yang.NameServer, *dns.Msg) (*dns.Msg, error) { asked++; return nil, ErrBeyond }})
	s.Answer(now, ask("any.example", dns.TypeA), desk)
	assert.Equal(t, 1, asked, "one that cannot be known ends it")
	asked = 0
	s = NewServer(c, Around{Up: func(_ yang.NameServer, q *dns.Msg) (*dns.Msg, error) {
		asked++
		m := new(dns.Msg)
		m.SetRcode(q, dns.RcodeServerFailure)
		return m, nil
	}})
	assert.Equal(t, dns.RcodeServerFailure, s.Answer(now, ask("any.example", dns.TypeA), desk).Rcode)
	assert.Equal(t, maxAsked, asked)
	c.Resolver.Settings.Forwarder = nil
	_, steps := NewServer(c, Around{Up: outside}).Trace(now, ask("any.example", dns.TypeA), desk)
	assert.Equal(t, "no-forwarder", steps[len(steps)-1].Rule)
}

// What a trace says of an answer of others, and of long ones.
func TestWhatATraceSays(t *testing.T) {
	c := config()
	z := &c.Resolver.Zone[0]
	for i := range 6 {
		z.Record = append(z.Record, yang.Record{ID: fmt.Sprint(i), Owner: "many", Type: "A",
			Data: fmt.Sprintf("10.84.16.%d", 200+i)})
	}
	z.Record = append(z.Record, yang.Record{ID: "s", Owner: "lost", Type: "NS", Data: "ns.elsewhere.example"})
	s := NewServer(c, Around{Up: func(to yang.NameServer, q *dns.Msg) (*dns.Msg, error) {
		if q.Question[0].Qtype == dns.TypeMX {
			m := new(dns.Msg)
			m.SetReply(q)
			m.Ns = []dns.RR{rr(t, "example. 60 SOA ns. h. 1 2 3 4 5")}
			return m, nil
		}
		return outside(to, q)
	}})
	says := func(name string, typ uint16) string {
		var out []string
		_, steps := s.Trace(now, ask(name, typ), desk)
		for _, one := range steps {
			out = append(out, one.Says)
		}
		return strings.Join(out, "|")
	}
	assert.Contains(t, says("gone.example", dns.TypeA), "gone.example is not there.")
	assert.Contains(t, says("any.example", dns.TypeMX), "any.example is there and has no MX.")
	assert.Contains(t, says("any.example", dns.TypeA), "192.0.2.53")
	assert.Contains(t, says("many."+kelder, dns.TypeA), "10.84.16.203, 2 more")
	assert.Contains(t, says("x.lost."+kelder, dns.TypeA), "Nothing says where they are.")
	assert.NotContains(t, says("host.sub."+kelder, dns.TypeA), "Nothing says where they are.")
	assert.Equal(t, []string{"the root", "example"}, []string{called(""), called("example")})
}

// RFC 4034 section 6.1, RFC 4343: only the letters of ASCII have small ones.
func TestWhichNamesAreTheSame(t *testing.T) {
	for _, c := range []struct {
		a, b string
		same bool
	}{{"A.example", "a.example", true}, {"Z.example", "z.example", true}, {"[.example", "{.example", false},
		{`\@.example`, "`.example", false}, {"a.example", "b.example", false}} {
		assert.Equal(t, c.same, CompareCanonical(c.a, c.b) == 0, "%s %s", c.a, c.b)
	}
}

// A denial speaks for what lies between its ends, without them; the last leads to the first, and one alone leads to
// itself (RFC 4034 section 4.1.1, RFC 5155 section 3.1.7).
func TestWhatADenialCovers(t *testing.T) {
	for _, c := range []struct {
		owner, next, name string
		covered           bool
	}{
		{"b.example", "d.example", "c.example", true}, {"b.example", "d.example", "b.example", false},
		{"b.example", "d.example", "d.example", false}, {"b.example", "d.example", "a.example", false},
		{"b.example", "d.example", "e.example", false}, {"d.example", "example", "e.example", true},
		{"d.example", "example", "c.example", false}, {"example", "example", "x.example", true},
		{"example", "example", "example", false},
	} {
		n := &dns.NSEC{Hdr: dns.RR_Header{Name: c.owner + "."}, NextDomain: c.next + "."}
		assert.Equal(t, c.covered, covers(n, c.name), "%v", c)
	}
	const name = "x.example"
	hash := dns.HashName(name+".", dns.SHA1, 0, "")
	below, above := "0"+hash[1:], "V"+hash[1:]
	require.Less(t, below, hash)
	require.Less(t, hash, above)
	lower, higher := "00"+hash[2:], "VV"+hash[2:]
	for _, c := range []struct {
		own, next string
		covered   bool
	}{
		{below, above, true}, {hash, above, false}, {below, hash, false}, {lower, below, false}, {above, higher, false},
		{below, lower, true}, {higher, above, true}, {above, below, false}, {hash, below, false}, {above, hash, false},
		{below, below, true}, {above, above, true}, {hash, hash, false},
	} {
		d := denials{zone: "example", hashed: []*dns.NSEC3{{Hdr: dns.RR_Header{Name: c.own + ".example."},
			NextDomain: c.next, Hash: dns.SHA1, Flags: 1}}}
		covered, optOut := d.hashedCover(name)
		assert.Equal(t, []bool{c.covered, c.covered}, []bool{covered, optOut}, "%v of %s", c, hash)
	}
}

// RFC 4035 section 5: sets of several records, answers of the root, keys of a zone below, and what aliases lead to.
func TestWhatHolds(t *testing.T) {
	z := newZone(t, "example", "two.example. 60 A 192.0.2.1", "two.example. 60 A 192.0.2.2",
		"two.example. 60 AAAA 2001:db8::1", "alias.example. 60 CNAME gone.example.",
		"alias.example. 60 NSEC two.example. CNAME RRSIG NSEC",
		"example. 60 NSEC alias.example. SOA NS RRSIG NSEC DNSKEY",
		"far.example. 60 CNAME other.example.")
	child := newZone(t, "child.example", "www.child.example. 60 A 192.0.2.3")
	z.add(child.key.ToDS(dns.SHA256))
	w := newWorld(t, z)
	w.zones = append(w.zones, child)
	w.root.add(rr(t, "host.tld. 60 A 192.0.2.9"))
	assert.Equal(t, "secure", w.verdict("two.example", dns.TypeA))
	assert.Equal(t, "secure", w.verdict("host.tld", dns.TypeA), "of the root itself")
	assert.Equal(t, "secure", w.verdict("child.example", dns.TypeDS), "signed by the zone above")
	assert.Equal(t, "secure", w.verdict("www.child.example", dns.TypeA))
	// Where an alias leads to nothing, that is proved of the name that it leads to.
	ends := func(proof ...string) func(*dns.Msg) {
		return func(m *dns.Msg) {
			m.Rcode = dns.RcodeNameError
			m.Answer = z.signed("alias.example", dns.TypeCNAME)
			m.Ns = z.signed("example", dns.TypeSOA)
			for _, owner := range proof {
				m.Ns = append(m.Ns, z.signed(owner, dns.TypeNSEC)...)
			}
		}
	}
	w.says("alias.example", dns.TypeA, ends("alias.example", "example"))
	assert.Equal(t, "secure", w.verdict("alias.example", dns.TypeA))
	w.says("alias.example", dns.TypeA, ends("example"))
	assert.Equal(t, "bogus", w.verdict("alias.example", dns.TypeA))
}

// Checking one answer looks at so many signatures and asks so many questions, and no more.
func TestHowMuchIsChecked(t *testing.T) {
	z := newZone(t, "example", "www.example. 60 A 192.0.2.1")
	w := newWorld(t, z)
	for wrong, want := range map[int]string{maxSignatures - 10: "secure", maxSignatures: "bogus"} {
		w.says("www.example", dns.TypeA, func(m *dns.Msg) {
			set := z.sets[setKey("www.example", dns.TypeA)]
			m.Answer = slices.Clone(set)
			for i := range wrong {
				sig := z.sign(set)
				sig.OrigTtl = uint32(1000 + i)
				m.Answer = append(m.Answer, sig)
			}
			m.Answer = append(m.Answer, z.sign(set))
		})
		assert.Equal(t, want, w.verdict("www.example", dns.TypeA), wrong)
	}
	deep := strings.Repeat("a.", 100) + "example"
	w.says(deep, dns.TypeA, func(m *dns.Msg) { m.Answer = []dns.RR{rr(t, deep+". 60 A 192.0.2.1")} })
	z.add(rr(t, "example. 60 NSEC example. SOA NS RRSIG NSEC DNSKEY"))
	for i := range 100 {
		w.says(strings.Repeat("a.", i+1)+"example", dns.TypeDS, func(m *dns.Msg) {
			n := rr(t, strings.Repeat("a.", i+1)+"example. 60 NSEC zz.example. A RRSIG NSEC")
			m.Ns = []dns.RR{n, z.sign([]dns.RR{n})}
		})
	}
	w.asked = 0
	assert.Equal(t, "bogus", w.verdict(deep, dns.TypeA))
	assert.Equal(t, 1+maxProofs+1, w.asked, "the question, and what it takes")
}

// RFC 4035 section 3.1: a server of a signed zone proves each of its answers with what that takes, and a resolver that
// checks holds them. One without any part of the proof does not.
func TestASignedZoneProvesItsAnswers(t *testing.T) {
	z := toolSigned(t, nil)
	zoneOf := yang.Zone{Name: "example", TTL: 600, Primary: "ns.example", Contact: "h.example", Refresh: 2, Retry: 3,
		Expire: 4, Negative: 300}
	var signs []dns.RR
	for key, set := range z.sets {
		for _, one := range set {
			h := one.Header()
			switch h.Rrtype {
			case dns.TypeRRSIG, dns.TypeNSEC, dns.TypeDNSKEY:
				signs = append(signs, one)
			case dns.TypeA:
				zoneOf.Record = append(zoneOf.Record, yang.Record{ID: key, Owner: strings.TrimSuffix(h.Name,
					".example."),
					Type: "A", Data: strings.TrimPrefix(one.String(), h.String()), TTL: int(h.Ttl)})
			}
		}
	}
	slices.SortFunc(signs, func(a, b dns.RR) int { return CompareCanonical(a.Header().Name, b.Header().Name) })
	server := NewServer(yang.Config{Resolver: yang.Resolver{Settings: &yang.ResolverSettings{Enabled: true, Port: 53,
		Asker: []netip.Prefix{netip.MustParsePrefix("0.0.0.0/0")}}, Zone: []yang.Zone{zoneOf}}},
		Around{Authority: true, Serial: 1, Signed: map[string][]dns.RR{"example": signs}})
	for _, c := range []struct {
		name   string
		typ    uint16
		proofs int // denials that the answer takes
	}{
		{"www.example", dns.TypeA, 0}, {"www.example", dns.TypeMX, 1}, {"none.example", dns.TypeA, 2},
		{"x.wild.example", dns.TypeA, 1}, {"x.wild.example", dns.TypeMX, 2}, {"below.example", dns.TypeA, 1},
		{"deep.below.example", dns.TypeA, 0}, {"y.deep.below.example", dns.TypeA, 2},
		{"a.b.none.example", dns.TypeA, 2},
	} {
		q := ask(c.name, c.typ)
		q.SetEdns0(1232, true)
		m := server.Answer(now, q, Asker{Own: true})
		denied := map[string]bool{}
		for _, one := range m.Ns {
			if one.Header().Rrtype == dns.TypeNSEC {
				denied[one.Header().Name] = true
			}
		}
		assert.LessOrEqual(t, len(denied), c.proofs, "%s %s", c.name, typeName(c.typ))
		w := newWorld(t)
		w.zones = append(w.zones, z)
		w.root.add(z.key.ToDS(dns.SHA256))
		w.says(c.name, c.typ, func(to *dns.Msg) { to.Rcode, to.Answer, to.Ns = m.Rcode, m.Answer, m.Ns })
		assert.Equal(t, "secure", w.verdict(c.name, c.typ), "%s %s", c.name, typeName(c.typ))
		for name := range denied {
			w.says(c.name, c.typ, func(to *dns.Msg) {
				to.Rcode, to.Answer = m.Rcode, m.Answer
				for _, one := range m.Ns {
					if one.Header().Name != name || name == "example." && one.Header().Rrtype == dns.TypeSOA {
						to.Ns = append(to.Ns, one)
					}
				}
			})
			assert.NotEqual(t, "secure", w.verdict(c.name, c.typ), "%s %s without %s", c.name, typeName(c.typ), name)
		}
	}
	unsigned := server.Answer(now, ask("www.example", dns.TypeA), Asker{Own: true})
	assert.Len(t, unsigned.Answer, 1, "who does not ask for signatures is not sent them")
}

// What is remembered is listed with the time that is left of it, once.
func TestWhatIsRemembered(t *testing.T) {
	z := newZone(t, "example", "www.example. 600 A 192.0.2.1")
	w := newWorld(t, z)
	c := config()
	c.Resolver.Settings.Validate = true
	cache := NewCache(20)
	s := NewServer(c, Around{Cache: cache, Up: w.up, Anchors: []*dns.DS{w.root.key.ToDS(dns.SHA256)}})
	s.Answer(now, ask("www.example", dns.TypeA), desk)
	s.Answer(now, ask("example", dns.TypeDNSKEY), desk)
	got := map[string]uint32{}
	for _, e := range cache.Entries(now.Add(100 * time.Second)) {
		key := e.Name + " " + e.Type
		assert.NotContains(t, got, key, "it is listed once")
		got[key] = e.TTL
	}
	assert.EqualValues(t, 500, got["www.example A"])
	assert.Contains(t, got, "example DNSKEY")
	assert.Contains(t, got, ". DNSKEY")
	gone := NewServer(config(), Around{Cache: cache, Up: outside})
	gone.Answer(now, ask("gone.example", dns.TypeA), desk)
	assert.True(t, slices.ContainsFunc(cache.Entries(now), func(e yang.Answer) bool {
		return e.Name == "gone.example" && e.Type == "any"
	}), "a name that is not there has no type")
}

// An answer of Ask is as new as the oldest of its records may be.
func TestHowLongAnAnswerHolds(t *testing.T) {
	a, err := world("kelder-bridge").Ask(Question{"network:net-clinic", "www.larkrise.example", "A"})
	require.NoError(t, err)
	require.NotNil(t, a.Message)
	w := world("kelder-bridge", func(s *site.Site) {
		for i := range s.Zones {
			for k := range s.Zones[i].Records {
				if s.Zones[i].Records[k].Owner == "remote" {
					s.Zones[i].Records[k].TTL = 77
				}
			}
		}
	})
	a, err = w.Ask(Question{"network:net-clinic", "remote", "A"})
	require.NoError(t, err)
	assert.EqualValues(t, 77, a.TTL)
	assert.Equal(t, "1.5 ms", millis(1500*time.Microsecond))
}

// RFC 4035 section 3.1.4.1: what is told of a zone's keys is in the zone above, also where one server has both. One
// that has only the zone above refers to the servers of the part, with that (RFC 1034 section 4.3.2).
func TestWhatTheZoneAboveTells(t *testing.T) {
	record := func(owner, typ, value string) yang.Record {
		return yang.Record{ID: owner + typ, Owner: owner, Type: typ, Data: value}
	}
	plain := func(name string, records ...yang.Record) yang.Zone {
		return yang.Zone{Name: name, TTL: 600, Primary: "ns." + name, Contact: "h." + name, Negative: 60,
			Record: records}
	}
	above := plain("example", record("child", "NS", "ns"), record("ns", "A", "192.0.2.5"),
		record("ns", "AAAA", "2001:db8::5"),
		record("open", "NS", "ns"))
	below := plain("child.example", record("www", "A", "192.0.2.6"))
	signs := map[string][]dns.RR{"example": {rr(t, "child.example. 60 DS 7 13 2 00"),
		rr(t, "open.example. 60 NSEC example. NS RRSIG NSEC"), rr(t, "child.example. 60 NSEC open.example. NS DS")}}
	server := func(zones ...yang.Zone) *Server {
		return NewServer(yang.Config{Resolver: yang.Resolver{Settings: &yang.ResolverSettings{Enabled: true},
			Zone: zones}}, Around{Authority: true, Signed: signs})
	}
	for _, zones := range [][]yang.Zone{{above, below}, {above}} {
		m := server(zones...).Answer(now, ask("child.example", dns.TypeDS), Asker{Own: true})
		assert.Equal(t, "7 13 2 00", data(m), "%d zones", len(zones))
	}
	m := server(above, below).Answer(now, ask("www.child.example", dns.TypeA), Asker{Own: true})
	assert.Equal(t, "192.0.2.6", data(m))
	assert.True(t, m.Authoritative)
	assert.Empty(t, data(server(below).Answer(now, ask("child.example", dns.TypeDS), Asker{Own: true})))
	for name, also := range map[string]uint16{"www.child.example": dns.TypeDS, "www.open.example": dns.TypeNSEC} {
		q := ask(name, dns.TypeA)
		q.SetEdns0(1232, true)
		m = server(above).Answer(now, q, Asker{Own: true})
		assert.Empty(t, m.Answer)
		assert.False(t, m.Authoritative, "a referral is not said with authority")
		assert.True(t, slices.ContainsFunc(m.Ns, func(one dns.RR) bool { return one.Header().Rrtype == dns.TypeNS }),
			name)
		assert.True(t, slices.ContainsFunc(m.Ns, func(one dns.RR) bool { return one.Header().Rrtype == also }), name)
		assert.Contains(t, fmt.Sprint(m.Extra), "192.0.2.5")
		assert.Contains(t, fmt.Sprint(m.Extra), "2001:db8::5")
	}
}
