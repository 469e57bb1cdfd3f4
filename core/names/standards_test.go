package names

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/yang"
)

// RFC 2308 section 5: what an alias leads to is remembered to be missing for the lesser of both times.
func Test21AFailureBehindAnAliasIsKeptForTheLesserTime(t *testing.T) {
	for _, code := range []int{dns.RcodeNameError, dns.RcodeSuccess} {
		for _, c := range []struct {
			alias, minimum, kept time.Duration
		}{{86400, 30, 30}, {20, 300, 20}} {
			asked := 0
			s := NewServer(config(), Around{Cache: NewCache(9), Up: func(_ yang.NameServer, q *dns.Msg) (*dns.Msg,
				error) {
				asked++
				m := new(dns.Msg)
				m.SetRcode(q, code)
				m.Answer = []dns.RR{rr(t, fmt.Sprintf("cloud.out.example. %d CNAME gone.out.example.", c.alias))}
				m.Ns = []dns.RR{rr(t, fmt.Sprintf("out.example. 3600 SOA ns.out.example. h.out.example. 1 2 3 4 %d",
					c.minimum))}
				return m, nil
			}})
			for _, at := range []time.Duration{0, c.kept - 1} {
				s.Answer(now.Add(at*time.Second), ask("cloud.out.example", dns.TypeA), desk)
				assert.Equal(t, 1, asked, "%v after %d s", c, at)
			}
			s.Answer(now.Add(c.kept*time.Second), ask("cloud.out.example", dns.TypeA), desk)
			assert.Equal(t, 2, asked, "%v: asked again once the lesser has ended", c)
		}
	}
}

func ask(name string, typ uint16) *dns.Msg {
	q := new(dns.Msg)
	q.SetQuestion(dns.Fqdn(name), typ)
	return q
}

func rr(t testing.TB, text string) dns.RR {
	t.Helper()
	out, err := dns.NewRR(text)
	require.NoError(t, err, text)
	return out
}

// RFC 5452 section 9.1: the question of a reply is compared, not its id alone.
func Test22AReplyToAnotherQuestionIsNone(t *testing.T) {
	for what, change := range map[string]func(m *dns.Msg){
		"name":     func(m *dns.Msg) { m.Question[0].Name = "other.example." },
		"type":     func(m *dns.Msg) { m.Question[0].Qtype = dns.TypeAAAA },
		"class":    func(m *dns.Msg) { m.Question[0].Qclass = dns.ClassCHAOS },
		"none":     func(m *dns.Msg) { m.Question = nil },
		"question": func(m *dns.Msg) { m.Response = false },
	} {
		s := NewServer(config(), Around{Cache: NewCache(9), Up: func(to yang.NameServer, q *dns.Msg) (*dns.Msg, error) {
			m, err := outside(to, q)
			if to.Address == addr("192.0.2.53") {
				change(m)
			}
			return m, err
		}})
		m := s.Answer(now, ask("any.example", dns.TypeA), desk)
		require.Len(t, m.Answer, 1, what)
		assert.Contains(t, m.Answer[0].String(), "198.51.100.53", "%s: the next forwarder's counts", what)
	}
	s := NewServer(config(), Around{Up: outside})
	capitals := s.Answer(now, ask("ANY.Example", dns.TypeA), desk)
	assert.Len(t, capitals.Answer, 1, "capitals are no other name")
}

// RFC 6891 section 6.1.1, RFC 1035 section 4.1.1.
func Test22ExtensionsTwiceAndNoRecursion(t *testing.T) {
	s := NewServer(config(), Around{Cache: NewCache(9), Up: outside})
	opt := func(name string) *dns.OPT { return &dns.OPT{Hdr: dns.RR_Header{Name: name, Rrtype: dns.TypeOPT}} }
	for what, c := range map[string]struct {
		extra, answer []dns.RR
		code          int
	}{
		"one":           {[]dns.RR{opt(".")}, nil, dns.RcodeSuccess},
		"two":           {[]dns.RR{opt("."), opt(".")}, nil, dns.RcodeFormatError},
		"of a name":     {[]dns.RR{opt("edge.")}, nil, dns.RcodeFormatError},
		"in the answer": {nil, []dns.RR{opt(".")}, dns.RcodeFormatError},
	} {
		q := ask("edge."+kelder, dns.TypeA)
		q.Extra, q.Answer = c.extra, c.answer
		assert.Equal(t, dns.RcodeToString[c.code], dns.RcodeToString[s.Answer(now, q, desk).Rcode], what)
	}
	direct := func(name string) *dns.Msg {
		q := ask(name, dns.TypeA)
		q.RecursionDesired = false
		return s.Answer(now, q, desk)
	}
	assert.Len(t, direct("edge."+kelder).Answer, 1, "what is written here is answered")
	assert.Equal(t, dns.RcodeRefused, direct("any.example").Rcode)
	assert.EqualValues(t, 0, s.Counters().Forwarded)
	s.Answer(now, ask("any.example", dns.TypeA), desk)
	assert.Len(t, direct("any.example").Answer, 1, "so is what is remembered")
}

// RFC 6303, 6761, 8375, 9462: kept at home. Their neighbours are not, nor what only looks like them.
func Test23NamesThatAreKeptAtHome(t *testing.T) {
	reverse := func(a string) string { r, _ := dns.ReverseAddr(a); return r }
	for name, home := range map[string]bool{
		reverse("::1"): true, reverse("::"): true, reverse("::2"): false,
		reverse("fe80::1"): true, reverse("febf::1"): true, reverse("fec0::1"): false, reverse("fe7f::1"): false,
		reverse("fd12:3456::1"): true, reverse("fc00::1"): false, reverse("2001:db8::1"): true,
		reverse("2001:db9::1"): false, reverse("10.9.8.7"): true, reverse("11.9.8.7"): false,
		"_dns.resolver.arpa.": true, "x.home.arpa.": true, "x.resolver.example.": false,
		"x.localhost.": true, `x\.localhost.`: false, `x\\.localhost.`: true, `10.in-addr\.arpa.`: false,
	} {
		s := NewServer(config(), Around{Up: outside})
		q := ask(name, dns.TypePTR)
		require.Equal(t, name, q.Question[0].Name)
		s.Answer(now, q, desk)
		assert.Equal(t, home, s.Counters().Forwarded == 0, name)
	}
}

// A name of one label is completed and kept at home for addresses alone.
func Test23OneLabelIsCompletedForAddressesAlone(t *testing.T) {
	s := NewServer(config(), Around{Up: outside})
	for _, c := range []struct {
		name   string
		typ    uint16
		leaves bool
	}{{"com", dns.TypeNS, true}, {"com", dns.TypeDS, true}, {"uk", dns.TypeSOA, true}, {"uk", dns.TypeA, false},
		{"uk", dns.TypeAAAA, false}, {"edge", dns.TypeA, false}} {
		before := s.Counters().Forwarded
		s.Answer(now, ask(c.name, c.typ), desk)
		assert.Equal(t, c.leaves, s.Counters().Forwarded > before, "%s %s", c.name, dns.TypeToString[c.typ])
	}
	assert.Len(t, s.Answer(now, ask("edge", dns.TypeA), desk).Answer, 1)
}

// RFC 4034 section 6.1, its own example.
func Test24CanonicalOrder(t *testing.T) {
	want := []string{"example", "a.example", "yljkjljk.a.example", "Z.a.example", "zABC.a.EXAMPLE", "z.example",
		`\001.z.example`, "*.z.example", `\200.z.example`}
	got := slices.Clone(want)
	slices.Reverse(got)
	slices.SortFunc(got, CompareCanonical)
	assert.Equal(t, want, got)
}

// RFC 5155 appendix A: the hashes of its example.
func Test24Hashes(t *testing.T) {
	d := denials{zone: "example"}
	d.hash(rr(t, "0p9mhaveqvm6t7vbl5lop2u3t2rp3tom.example. 3600 NSEC3 1 1 12 aabbccdd "+
		"2t7b4g4vsa5smi47k61mv5bv1a22bojr NS SOA MX RRSIG DNSKEY NSEC3PARAM").(*dns.NSEC3))
	for name, hash := range map[string]string{
		"example": "0p9mhaveqvm6t7vbl5lop2u3t2rp3tom", "a.example": "35mthgpgcu1qg68fab165klnsnk3dpvl",
		"ai.example": "gjeqe526plbf1g8mklp59enfd789njgi", "ns1.example": "2t7b4g4vsa5smi47k61mv5bv1a22bojr",
		"w.example": "k8udemvp1j2f7eg6jebps17vp3n8i58h", "*.w.example": "r53bq7cc2uvmubfu5ocmm6pers9tk9en",
		"x.w.example": "b4um86eghhds6nea196smvmlo4ors995", "xx.example": "t644ebqk9bibcna874givr6joj62mlhv",
	} {
		assert.Equal(t, strings.ToUpper(hash), d.hashOf(name), name)
	}
	covered, optOut := d.hashedCover("2t7b4g4vsa5smi47k61mv5bv1a22bojr.example")
	assert.False(t, covered)
	assert.False(t, optOut)
}
