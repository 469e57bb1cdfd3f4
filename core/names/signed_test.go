package names

import (
	"crypto"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/yang"
	"lithos/core/zone"
)

// signedZone is a zone with its key, from which answers are made and changed as somebody on the way would.
type signedZone struct {
	t    testing.TB
	name string
	key  *dns.DNSKEY
	priv crypto.Signer
	// at is when it is signed: an hour before, for an hour after
	at time.Time
	// of what is signed, by owner and type
	sets map[string][]dns.RR
}

func newZone(t testing.TB, name string, lines ...string) *signedZone {
	t.Helper()
	z := &signedZone{t: t, name: name, at: now, sets: map[string][]dns.RR{}}
	for z.key == nil || z.key.KeyTag() == 0 {
		z.key = &dns.DNSKEY{Hdr: dns.RR_Header{Name: dns.Fqdn(name), Rrtype: dns.TypeDNSKEY, Class: dns.ClassINET,
			Ttl: 3600}, Flags: dns.ZONE | dns.SEP, Protocol: 3, Algorithm: dns.ECDSAP256SHA256}
		priv, err := z.key.Generate(256)
		require.NoError(t, err)
		z.priv = priv.(crypto.Signer)
	}
	z.add(z.key)
	z.add(rr(t, dns.Fqdn(name)+" 3600 SOA ns.example. h. 1 2 3 4 300"))
	for _, line := range lines {
		z.add(rr(t, line))
	}
	return z
}

func setKey(name string, typ uint16) string { return zone.Tidy(name) + " " + dns.TypeToString[typ] }

func (z *signedZone) add(one dns.RR) {
	k := setKey(one.Header().Name, one.Header().Rrtype)
	z.sets[k] = append(z.sets[k], one)
}

// signed is a set with its signature. as gives the owner, where a wildcard stands for it.
func (z *signedZone) signed(name string, typ uint16, as ...string) []dns.RR {
	set := z.sets[setKey(name, typ)]
	require.NotEmpty(z.t, set, "%s %s", name, dns.TypeToString[typ])
	sig := z.sign(set)
	out := slices.Concat(set, []dns.RR{sig})
	for _, owner := range as {
		for i := range out {
			out[i] = dns.Copy(out[i])
			out[i].Header().Name = dns.Fqdn(owner)
		}
	}
	return out
}

func (z *signedZone) sign(set []dns.RR) *dns.RRSIG {
	sig := &dns.RRSIG{Hdr: dns.RR_Header{Name: set[0].Header().Name, Rrtype: dns.TypeRRSIG, Class: dns.ClassINET,
		Ttl: set[0].Header().Ttl}, TypeCovered: set[0].Header().Rrtype, Algorithm: z.key.Algorithm,
		KeyTag: z.key.KeyTag(), SignerName: z.key.Hdr.Name, Inception: uint32(z.at.Add(-time.Hour).Unix()),
		Expiration: uint32(z.at.Add(time.Hour).Unix())}
	require.NoError(z.t, sig.Sign(z.priv, set))
	return sig
}

// world24 answers for a root and the zones below it. Their keys are told by SHA-256, unless said otherwise.
type world24 struct {
	root  *signedZone
	zones []*signedZone
	reply map[string]func(m *dns.Msg)
	asked int
}

func newWorld(t testing.TB, zones ...*signedZone) *world24 {
	w := &world24{root: newZone(t, ""), reply: map[string]func(*dns.Msg){}}
	w.zones = append([]*signedZone{w.root}, zones...)
	for _, z := range zones {
		w.root.add(z.key.ToDS(dns.SHA256))
	}
	return w
}

func (w *world24) says(name string, typ uint16, say func(m *dns.Msg)) {
	w.reply[setKey(name, typ)] = say
}

func (w *world24) up(_ yang.NameServer, q *dns.Msg) (*dns.Msg, error) {
	w.asked++
	m := new(dns.Msg)
	m.SetReply(q)
	key := setKey(q.Question[0].Name, q.Question[0].Qtype)
	if say := w.reply[key]; say != nil {
		say(m)
		return m, nil
	}
	for _, z := range w.zones {
		if z.sets[key] != nil && (q.Question[0].Qtype != dns.TypeDS || z.name != zone.Tidy(q.Question[0].Name)) {
			if z.priv == nil {
				m.Answer = z.with(q.Question[0].Name, q.Question[0].Qtype, q.Question[0].Name)
				return m, nil
			}
			m.Answer = z.signed(q.Question[0].Name, q.Question[0].Qtype)
			return m, nil
		}
	}
	m.Rcode = dns.RcodeServerFailure
	return m, nil
}

// verdict is what the resolver makes of a question: secure, insecure or bogus.
func (w *world24) verdict(name string, typ uint16) string {
	c := config()
	c.Resolver.Settings.Validate, c.Resolver.Settings.GreatestTTL = true, 0
	s := NewServer(c, Around{Cache: NewCache(200), Up: w.up, Anchors: []*dns.DS{w.root.key.ToDS(dns.SHA256)}})
	q := ask(name, typ)
	q.AuthenticatedData = true
	m := s.Answer(w.root.at, q, desk)
	switch {
	case m.Rcode == dns.RcodeServerFailure:
		return "bogus"
	case m.AuthenticatedData:
		return "secure"
	}
	return "insecure"
}

// rfc4035 is the zone of RFC 4035 appendix A as far as its appendix B asks it, with denials of its own.
func rfc4035(t testing.TB) *signedZone {
	return newZone(t, "example",
		"example. 3600 NS ns1.example.", "example. 3600 MX 1 xx.example.",
		"example. 3600 NSEC a.example. NS SOA MX RRSIG NSEC DNSKEY", "a.example. 3600 NS ns1.a.example.",
		"a.example. 3600 NSEC ai.example. NS DS RRSIG NSEC", "b.example. 3600 NS ns1.b.example.",
		"ai.example. 3600 A 192.0.2.9", "ai.example. 3600 NSEC b.example. A HINFO AAAA RRSIG NSEC",
		"b.example. 3600 NSEC ns1.example. NS RRSIG NSEC", "ns1.example. 3600 A 192.0.2.1",
		"ns1.example. 3600 NSEC ns2.example. A RRSIG NSEC", "ns2.example. 3600 NSEC *.w.example. A RRSIG NSEC",
		"*.w.example. 3600 MX 1 ai.example.", "*.w.example. 3600 NSEC x.w.example. MX RRSIG NSEC",
		"x.w.example. 3600 MX 1 xx.example.", "x.w.example. 3600 NSEC x.y.w.example. MX RRSIG NSEC",
		"x.y.w.example. 3600 MX 1 xx.example.", "x.y.w.example. 3600 NSEC xx.example. MX RRSIG NSEC",
		"xx.example. 3600 A 192.0.2.10", "xx.example. 3600 NSEC example. A HINFO AAAA RRSIG NSEC")
}

// RFC 4035 appendix B: each of its answers, and what somebody could make of its records to deny or replace one.
func Test24AnswersOfRFC4035AppendixB(t *testing.T) {
	z := rfc4035(t)
	soa := func() []dns.RR { return z.signed("example", dns.TypeSOA) }
	nsec := func(owners ...string) (out []dns.RR) {
		for _, owner := range owners {
			out = append(out, z.signed(owner, dns.TypeNSEC)...)
		}
		return out
	}
	missing, there := dns.RcodeNameError, dns.RcodeSuccess
	for _, c := range []struct {
		what, name   string
		typ          uint16
		code         int
		answer, also []dns.RR
		want         string
	}{
		{"B.1 answer", "x.w.example", dns.TypeMX, there, z.signed("x.w.example", dns.TypeMX), nil, "secure"},
		{"B.2 name error", "ml.example", dns.TypeA, missing, nil, slices.Concat(soa(), nsec("b.example", "example")),
			"secure"},
		{"B.3 no data", "ns1.example", dns.TypeMX, there, nil, slices.Concat(soa(), nsec("ns1.example")), "secure"},
		{"B.6 wildcard", "a.z.w.example", dns.TypeMX, there, z.signed("*.w.example", dns.TypeMX, "a.z.w.example"),
			nsec("x.y.w.example"), "secure"},
		{"B.7 wildcard without data", "a.z.w.example", dns.TypeAAAA, there, nil,
			slices.Concat(soa(), nsec("x.y.w.example", "*.w.example")), "secure"},
		{"B.8 keys of a name that is no zone", "ns1.example", dns.TypeDS, there, nil,
			slices.Concat(soa(), nsec("ns1.example")), "secure"},
		{"an empty non-terminal", "y.w.example", dns.TypeMX, there, nil, slices.Concat(soa(), nsec("x.w.example")),
			"secure"},
		{"a star asked for by itself", "*.w.example", dns.TypeMX, there, z.signed("*.w.example", dns.TypeMX), nil,
			"secure"},

		{"a wildcard over a closer name", "b.x.w.example", dns.TypeMX, there,
			z.signed("*.w.example", dns.TypeMX, "b.x.w.example"), nsec("x.w.example"), "bogus"},
		{"a wildcard without a proof", "a.z.w.example", dns.TypeMX, there,
			z.signed("*.w.example", dns.TypeMX, "a.z.w.example"), nil, "bogus"},
		{"name error where a closer wildcard answers", "a.z.w.example", dns.TypeMX, missing, nil,
			slices.Concat(soa(), nsec("x.y.w.example", "example")), "bogus"},
		{"no data by the wildcard's denial under another owner", "x.w.example", dns.TypeMX, there, nil,
			slices.Concat(soa(), z.signed("ns1.example", dns.TypeNSEC, "x.w.example")), "bogus"},
		{"name error of an empty non-terminal", "y.w.example", dns.TypeMX, missing, nil,
			slices.Concat(soa(), nsec("x.w.example", "*.w.example")), "bogus"},
		{"name error with a signed answer", "x.w.example", dns.TypeMX, missing, z.signed("x.w.example", dns.TypeMX),
			slices.Concat(soa(), nsec("b.example", "example")), "bogus"},
		{"name error by a delegation's denial", "x.b.example", dns.TypeA, missing, nil,
			slices.Concat(soa(), nsec("b.example", "example")), "bogus"},
		{"name error without the wildcard's", "ml.example", dns.TypeA, missing, nil,
			slices.Concat(soa(), nsec("b.example")), "bogus"},
		{"no data of what is there", "x.w.example", dns.TypeMX, there, nil, slices.Concat(soa(), nsec("x.w.example")),
			"bogus"},
		{"no data by a wildcard's denial replayed", "q.w.example", dns.TypeMX, there, nil,
			slices.Concat(soa(), z.signed("*.w.example", dns.TypeNSEC, "q.w.example")), "bogus"},
		{"no signatures", "x.w.example", dns.TypeMX, there, z.sets["x.w.example MX"], nil, "bogus"},
		{"of nobody's zone", "x.w.example", dns.TypeMX, there, z.signed("x.y.w.example", dns.TypeMX, "x.w.example"),
			nil, "bogus"},
	} {
		w := newWorld(t, z)
		w.denyKeys(z, nsec)
		w.says(c.name, c.typ, func(m *dns.Msg) { m.Rcode, m.Answer, m.Ns = c.code, c.answer, c.also })
		assert.Equal(t, c.want, w.verdict(c.name, c.typ), c.what)
	}
}

// denyKeys has the zone say that no zone begins at its names but b, which is not signed.
func (w *world24) denyKeys(z *signedZone, nsec func(...string) []dns.RR) {
	for _, name := range []string{"ns1.example", "x.w.example", "*.w.example"} {
		w.says(name, dns.TypeDS, func(m *dns.Msg) {
			m.Ns = slices.Concat(z.signed("example", dns.TypeSOA), nsec(name))
		})
	}
	w.says("w.example", dns.TypeDS, func(m *dns.Msg) { m.Ns = nsec("ns2.example") })
	w.says("y.w.example", dns.TypeDS, func(m *dns.Msg) { m.Ns = nsec("x.w.example") })
	w.says("b.example", dns.TypeDS, func(m *dns.Msg) { m.Ns = nsec("b.example") })
}

// hashedZone is the zone of RFC 5155 appendix A, with as many iterations.
func hashedZone(t testing.TB, iterations int, flags int) *signedZone {
	z := newZone(t, "example", "example. 3600 NS ns1.example.", "a.example. 3600 NS ns1.a.example.",
		"ai.example. 3600 A 192.0.2.9", "c.example. 3600 NS ns1.c.example.", "ns1.example. 3600 A 192.0.2.1",
		"ns2.example. 3600 A 192.0.2.2", "*.w.example. 3600 MX 1 ai.example.", "x.w.example. 3600 MX 1 xx.example.",
		"x.y.w.example. 3600 MX 1 xx.example.", "xx.example. 3600 A 192.0.2.10")
	types := map[string]string{"example": "NS SOA MX RRSIG DNSKEY NSEC3PARAM", "a.example": "NS DS RRSIG",
		"ai.example": "A HINFO AAAA RRSIG", "ns1.example": "A RRSIG", "ns2.example": "A RRSIG", "w.example": "",
		"*.w.example": "MX RRSIG", "x.w.example": "MX RRSIG", "y.w.example": "", "x.y.w.example": "MX RRSIG",
		"xx.example": "A HINFO AAAA RRSIG"}
	of := map[string]string{}
	var hashes []string
	for name := range types {
		hash := strings.ToLower(dns.HashName(name+".", dns.SHA1, uint16(iterations), "aabbccdd"))
		of[hash], hashes = name, append(hashes, hash)
	}
	slices.Sort(hashes)
	for i, hash := range hashes {
		z.add(rr(t, fmt.Sprintf("%s.example. 3600 NSEC3 1 %d %d aabbccdd %s %s", hash, flags, iterations,
			strings.ToUpper(hashes[(i+1)%len(hashes)]), types[of[hash]])))
	}
	return z
}

// proof is the denials that an authoritative server would add: those of the hashes named, matching or covering.
func (z *signedZone) proof(names ...string) (out []dns.RR) {
	for _, name := range names {
		for _, set := range z.sets {
			n, ok := set[0].(*dns.NSEC3)
			if ok && (n.Match(name+".") || n.Cover(name+".")) {
				out = append(out, z.signed(n.Hdr.Name, dns.TypeNSEC3)...)
			}
		}
	}
	return out
}

// apart is a name that is not there, whose proof and that of the name above say nothing of the wildcard beside it.
func (z *signedZone) apart() string {
	gap := func(name string) string { return z.proof(name)[0].Header().Name }
	for i := 0; ; i++ {
		for _, encloser := range []string{"x.w.example", "ai.example", "ns1.example", "xx.example"} {
			name, wildcard := fmt.Sprintf("n%d.%s", i, encloser), gap("*."+encloser)
			if gap(name) != wildcard && gap(encloser) != wildcard {
				return name
			}
		}
	}
}

// RFC 5155 appendix B: each of its answers, by a chain without opt-out and one with.
func Test24AnswersOfRFC5155AppendixB(t *testing.T) {
	missing, there := dns.RcodeNameError, dns.RcodeSuccess
	for _, iterations := range []int{0, 12, 100, 101} {
		for flags := range 2 {
			z := hashedZone(t, iterations, flags)
			soa, apart := z.signed("example", dns.TypeSOA), z.apart()
			wild := z.signed("*.w.example", dns.TypeMX, "a.z.w.example")
			for _, c := range []struct {
				what, name    string
				typ           uint16
				code          int
				answer        []dns.RR
				proof         []string
				plain, optOut string
			}{
				{"B.1 name error", "a.c.x.w.example", dns.TypeA, missing, nil,
					[]string{"x.w.example", "c.x.w.example", "*.x.w.example"}, "secure", "insecure"},
				{"B.2 no data", "ns1.example", dns.TypeMX, there, nil, []string{"ns1.example"}, "secure", "secure"},
				{"B.2.1 an empty non-terminal", "y.w.example", dns.TypeA, there, nil, []string{"y.w.example"}, "secure",
					"secure"},
				{"B.3 of a zone that is not signed", "mc.c.example", dns.TypeMX, there, nil,
					[]string{"c.example", "example"}, "bogus", "insecure"},
				{"B.4 wildcard", "a.z.w.example", dns.TypeMX, there, wild, []string{"z.w.example"}, "secure",
					"insecure"},
				{"B.5 wildcard without data", "a.z.w.example", dns.TypeAAAA, there, nil,
					[]string{"w.example", "z.w.example", "*.w.example"}, "secure", "insecure"},
				{"no proof", "a.z.w.example", dns.TypeMX, there, wild, nil, "bogus", "bogus"},
				{"no closer name", "a.c.x.w.example", dns.TypeA, missing, nil, []string{"x.w.example"}, "bogus",
					"bogus"},
				{"no wildcard", apart, dns.TypeAAAA, missing, nil, []string{zone.Above(apart), apart}, "bogus",
					"bogus"},
				{"no data of what is there", "x.w.example", dns.TypeMX, there, nil, []string{"x.w.example"}, "bogus",
					"bogus"},
				{"name error of what is there", "x.w.example", dns.TypeMX, missing, nil,
					[]string{"x.w.example", "c.x.w.example", "*.x.w.example"}, "bogus", "bogus"},
			} {
				w := newWorld(t, z)
				w.says(c.name, c.typ, func(m *dns.Msg) {
					m.Rcode, m.Answer, m.Ns = c.code, c.answer, slices.Concat(soa, z.proof(c.proof...))
					if c.name == "mc.c.example" {
						m.Ns = nil // what its own servers say is not signed
					}
				})
				w.says("c.example", dns.TypeDS, func(m *dns.Msg) { m.Ns = z.proof("c.example", "example") })
				want := c.plain
				if flags == 1 {
					want = c.optOut
				}
				if iterations > maxIterations && len(c.proof) > 0 {
					want = "insecure"
				}
				assert.Equal(t, want, w.verdict(c.name, c.typ), "%s, %d iterations, flags %d", c.what, iterations,
					flags)
			}
		}
	}
}

// RFC 6672 section 5.3.1: the alias that a DNAME makes is signed by nobody.
func Test24AnAliasOfADNAME(t *testing.T) {
	z := newZone(t, "example", "old.example. 600 DNAME new.example.", "www.new.example. 600 A 192.0.2.7")
	for made, want := range map[string]string{"www.new.example.": "secure", "evil.example.": "bogus"} {
		w := newWorld(t, z)
		w.says("www.old.example", dns.TypeA, func(m *dns.Msg) {
			m.Answer = slices.Concat(z.signed("old.example", dns.TypeDNAME),
				[]dns.RR{rr(t, "www.old.example. 600 CNAME "+made)}, z.signed("www.new.example", dns.TypeA))
			if made == "evil.example." {
				m.Answer = append(m.Answer, rr(t, "evil.example. 600 A 192.0.2.66"))
			}
		})
		assert.Equal(t, want, w.verdict("www.old.example", dns.TypeA), made)
	}
}

// RFC 4035 section 5.2, RFC 4509 section 3: digests and keys that are not known count as none; a wrong one does not.
func Test24KeysThatAreTold(t *testing.T) {
	z := newZone(t, "example", "www.example. 60 A 192.0.2.1")
	for _, c := range []struct {
		what   string
		told   []string
		sha1   bool
		sha256 bool
		want   string
	}{
		{"an unknown digest", []string{"example. 60 DS 7 13 99 00"}, false, false, "insecure"},
		{"an unknown kind of key", []string{"example. 60 DS 7 200 2 00"}, false, false, "insecure"},
		{"another key's", []string{"example. 60 DS 7 13 2 00"}, false, false, "bogus"},
		{"one that is known beside one that is not", []string{"example. 60 DS 7 13 99 00"}, false, true, "secure"},
		{"a weak digest", nil, true, false, "secure"},
		{"a weak digest beside a better one of another key", []string{"example. 60 DS 7 13 2 00"}, true, false,
			"bogus"},
	} {
		w := newWorld(t)
		w.zones = append(w.zones, z)
		for _, line := range c.told {
			w.root.add(rr(t, line))
		}
		if c.sha1 {
			w.root.add(z.key.ToDS(dns.SHA1))
		}
		if c.sha256 {
			w.root.add(z.key.ToDS(dns.SHA256))
		}
		assert.Equal(t, c.want, w.verdict("www.example", dns.TypeA), c.what)
	}
}

// RFC 4034 section 5.1, RFC 4035 section 5.2: a key is told by its tag, its algorithm and its digest, each of them, and
// signs only where it is the key of a zone that was not revoked.
func TestAKeyIsToldByAllOfItsDS(t *testing.T) {
	for what, change := range map[string]func(z *signedZone, ds *dns.DS){
		"another digest":    func(_ *signedZone, ds *dns.DS) { ds.Digest = strings.Repeat("0", len(ds.Digest)) },
		"a digest cut off":  func(_ *signedZone, ds *dns.DS) { ds.Digest = ds.Digest[:len(ds.Digest)-2] },
		"another tag":       func(_ *signedZone, ds *dns.DS) { ds.KeyTag++ },
		"another algorithm": func(_ *signedZone, ds *dns.DS) { ds.Algorithm = dns.ECDSAP384SHA384 },
		"no key of a zone": func(z *signedZone, ds *dns.DS) {
			z.key.Flags = dns.SEP
			*ds = *z.key.ToDS(dns.SHA256)
		},
		"a revoked key": func(z *signedZone, ds *dns.DS) {
			z.key.Flags |= dns.REVOKE
			*ds = *z.key.ToDS(dns.SHA256)
		},
		"a key of another protocol": func(z *signedZone, ds *dns.DS) {
			z.key.Protocol = 2
			*ds = *z.key.ToDS(dns.SHA256)
		},
	} {
		for name, want := range map[string]string{"": "secure", what: "bogus"} {
			z := newZone(t, "example", "www.example. 60 A 192.0.2.1")
			w := newWorld(t)
			w.zones = append(w.zones, z)
			ds := z.key.ToDS(dns.SHA256)
			if name != "" {
				change(z, ds)
			}
			w.root.add(ds)
			assert.Equal(t, want, w.verdict("www.example", dns.TypeA), what)
		}
	}
}

// RFC 4035 section 5.3.1: a signature counts for names of its signer's zone alone, and by the signer that it names.
func TestASignatureOfAnotherZone(t *testing.T) {
	mine, theirs := newZone(t, "mine", "www.mine. 60 A 192.0.2.1"), newZone(t, "theirs", "www.theirs. 60 A 192.0.2.2")
	for what, change := range map[string]func(m *dns.Msg){
		"signed by a key of another zone": func(m *dns.Msg) {
			set := mine.sets[setKey("www.mine", dns.TypeA)]
			m.Answer = append(slices.Clone(set), theirs.sign(set))
		},
		"signed in its own name by another": func(m *dns.Msg) {
			set := mine.sets[setKey("www.mine", dns.TypeA)]
			sig := theirs.sign(set)
			sig.SignerName, sig.KeyTag = "mine.", mine.key.KeyTag()
			m.Answer = append(slices.Clone(set), sig)
		},
		"signed in another's name by itself": func(m *dns.Msg) {
			set := mine.sets[setKey("www.mine", dns.TypeA)]
			sig := mine.sign(set)
			sig.SignerName = "theirs."
			m.Answer = append(slices.Clone(set), sig)
		},
		"signed by the zone above": func(m *dns.Msg) {
			set := mine.sets[setKey("www.mine", dns.TypeA)]
			sig := mine.sign(set)
			sig.SignerName = "."
			m.Answer = append(slices.Clone(set), sig)
		},
	} {
		w := newWorld(t, mine, theirs)
		require.Equal(t, "secure", w.verdict("www.mine", dns.TypeA))
		w.says("www.mine", dns.TypeA, change)
		assert.Equal(t, "bogus", w.verdict("www.mine", dns.TypeA), what)
	}
}

// Long names and long chains in a signed zone are checked within the bounds.
func Test24LongNamesAndChains(t *testing.T) {
	long := strings.Repeat("a.", 34) + "example"
	lines := []string{long + ". 60 A 192.0.2.1"}
	for i := range 9 {
		lines = append(lines, fmt.Sprintf("n%d.example. 60 CNAME n%d.example.", i, i+1))
	}
	z := newZone(t, "example", append(lines, "n9.example. 60 A 192.0.2.2")...)
	w := newWorld(t, z)
	assert.Equal(t, "secure", w.verdict(long, dns.TypeA))
	w.says("n0.example", dns.TypeA, func(m *dns.Msg) {
		for i := range 9 {
			m.Answer = append(m.Answer, z.signed(fmt.Sprintf("n%d.example", i), dns.TypeCNAME)...)
		}
		m.Answer = append(m.Answer, z.signed("n9.example", dns.TypeA)...)
	})
	assert.Equal(t, "secure", w.verdict("n0.example", dns.TypeA))
	w.asked = 0
	w.verdict("n0.example", dns.TypeA)
	assert.LessOrEqual(t, w.asked, 5, "what is kept is not asked for again")
}

// RFC 4035 section 5.3.3: an answer is kept, and told, no longer than its signature holds.
func Test24AnAnswerIsKeptNoLongerThanItsSignature(t *testing.T) {
	z := newZone(t, "example", "www.example. 86400 A 192.0.2.1")
	w := newWorld(t, z)
	c := config()
	c.Resolver.Settings.Validate = true
	s := NewServer(c, Around{Cache: NewCache(20), Up: w.up, Anchors: []*dns.DS{w.root.key.ToDS(dns.SHA256)}})
	m := s.Answer(now, ask("www.example", dns.TypeA), desk)
	require.Len(t, m.Answer, 1)
	assert.EqualValues(t, 3600, m.Answer[0].Header().Ttl, "signed for an hour yet")
	later := s.Answer(now.Add(time.Hour+time.Second), ask("www.example", dns.TypeA), desk)
	assert.Equal(t, dns.RcodeServerFailure, later.Rcode, "asked for again, and out of date")
}
