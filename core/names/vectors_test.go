package names

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/zone"
)

// printed are the responses of an RFC's appendix B, by their headings, and the keys of their zone.
func printed(t *testing.T, file string) (keys []dns.RR, responses map[string]*dns.Msg) {
	raw, err := os.ReadFile(filepath.Join("testdata", file))
	require.NoError(t, err)
	records := func(text string) (out []dns.RR) {
		parser := dns.NewZoneParser(strings.NewReader(text), ".", file)
		parser.SetDefaultTTL(3600)
		for one, ok := parser.Next(); ok; one, ok = parser.Next() {
			if n, is := one.(*dns.NSEC3); is {
				slices.Sort(n.TypeBitMap) // printed in another order than on the wire
			}
			out = append(out, one)
		}
		require.NoError(t, parser.Err(), text)
		return out
	}
	parts := strings.Split(string(raw), ";;; ")
	responses = map[string]*dns.Msg{}
	for _, part := range parts[1:] {
		heading, body, _ := strings.Cut(part, "\n")
		_, question, _ := strings.Cut(body, ";; Question\n")
		question, rest, _ := strings.Cut(question, ";; Answer\n")
		answer, authority, _ := strings.Cut(rest, ";; Authority\n")
		asked := strings.Fields(question)
		require.Len(t, asked, 3, heading)
		m := ask(asked[0], dns.StringToType[asked[2]])
		m.Response, m.Answer, m.Ns = true, records(answer), records(authority)
		if strings.Contains(body, "RCODE=3") {
			m.Rcode = dns.RcodeNameError
		}
		responses[heading] = m
	}
	return records(parts[0]), responses
}

// The signatures that RFC 4035 and RFC 5155 print in their appendix B, at a moment at which they were in force: each
// holds as it is printed, and none with an octet changed, a day late, or without the denials that prove it.
func Test24SignaturesThatTheRFCsPrint(t *testing.T) {
	t.Setenv("GODEBUG", "rsa1024min=0") // the keys of RFC 5155 have 512 bits
	for _, c := range []struct {
		file     string
		at, late time.Time
		want     map[string]string
	}{
		{"rfc4035-b.zone", time.Date(2004, 4, 20, 0, 0, 0, 0, time.UTC), time.Date(2004, 5, 10, 0, 0, 0, 0, time.UTC),
			map[string]string{"B.1 Answer": "secure", "B.2 Name Error": "secure", "B.3 No Data Error": "secure",
				"B.4 Referral to Signed Zone": "secure", "B.5 Referral to Unsigned Zone": "secure",
				"B.6 Wildcard Expansion": "secure", "B.7 Wildcard No Data Error": "secure",
				// what a child says of its own DS is not its parent's word
				"B.8 DS Child Zone No Data Error": "bogus"}},
		{"rfc5155-b.zone", time.Date(2010, 4, 20, 0, 0, 0, 0, time.UTC), time.Date(2015, 4, 21, 0, 0, 0, 0, time.UTC),
			map[string]string{"B.1 Name Error": "insecure", // what is covered is so with opt-out: RFC 5155 section 9.2
				"B.2 No Data Error": "secure", "B.2.1 No Data Error, Empty Non-Terminal": "secure",
				"B.3 Referral to an Opt-Out Unsigned Zone": "insecure", "B.4 Wildcard Expansion": "insecure",
				"B.5 Wildcard No Data Error": "insecure", "B.6 DS Child Zone No Data Error": "bogus"}},
	} {
		keys, responses := printed(t, c.file)
		require.Len(t, responses, len(c.want))
		for heading, want := range c.want {
			verdict := func(at time.Time, change func(m *dns.Msg)) string {
				w := newWorld(t)
				w.root.at = at
				for _, key := range keys {
					if k, ok := key.(*dns.DNSKEY); ok && k.Flags&dns.SEP != 0 {
						w.root.add(k.ToDS(dns.SHA256))
					}
				}
				w.says("example", dns.TypeDNSKEY, func(m *dns.Msg) { m.Answer = keys })
				said := responses[heading].Copy()
				change(said)
				name, typ := zone.Tidy(said.Question[0].Name), said.Question[0].Qtype
				if strings.Contains(heading, "Referral") { // what the zone above says is asked of it as DS
					name, typ = zone.Above(name), dns.TypeDS
					said.Ns = slices.DeleteFunc(said.Ns, func(one dns.RR) bool {
						return one.Header().Rrtype == dns.TypeNS
					})
					if said.Ns[0].Header().Rrtype == dns.TypeDS {
						said.Answer, said.Ns = said.Ns, nil
					}
				}
				w.says(name, typ, func(m *dns.Msg) { m.Rcode, m.Answer, m.Ns = said.Rcode, said.Answer, said.Ns })
				return w.verdict(name, typ)
			}
			assert.Equal(t, want, verdict(c.at, func(*dns.Msg) {}), "%s: %s", c.file, heading)
			assert.Equal(t, "bogus", verdict(c.late, func(*dns.Msg) {}), "%s: %s, late", c.file, heading)
			for _, list := range []func(m *dns.Msg) []dns.RR{func(m *dns.Msg) []dns.RR { return m.Answer },
				func(m *dns.Msg) []dns.RR { return m.Ns }} {
				for i, one := range list(responses[heading]) {
					sig, ok := one.(*dns.RRSIG)
					if !ok || sig.TypeCovered == dns.TypeNS || sig.TypeCovered == dns.TypeSOA {
						continue // not part of what proves the answer
					}
					assert.Equal(t, "bogus", verdict(c.at, func(m *dns.Msg) {
						list(m)[i].(*dns.RRSIG).OrigTtl++
					}), "%s: %s, signature %d changed", c.file, heading, i)
				}
			}
		}
	}
}

// Zones signed by another program, with denials of both kinds, hold; and no longer with an octet changed.
func Test24ZonesThatAToolSigned(t *testing.T) {
	if _, err := exec.LookPath("ldns-signzone"); err != nil {
		t.Fatal("ldns-signzone is not installed; run make test, which installs it")
	}
	for _, args := range [][]string{nil, {"-n", "-t", "10", "-s", "aabb"}, {"-n", "-p"}} {
		z := toolSigned(t, args)
		w := newWorld(t)
		w.zones = append(w.zones, z)
		w.root.add(z.key.ToDS(dns.SHA256))
		for _, c := range []struct {
			name string
			typ  uint16
			code int
		}{
			{"www.example", dns.TypeA, dns.RcodeSuccess}, {"x.wild.example", dns.TypeA, dns.RcodeSuccess},
			{"www.example", dns.TypeMX, dns.RcodeSuccess}, {"none.example", dns.TypeA, dns.RcodeNameError},
			{"deep.below.example", dns.TypeA, dns.RcodeSuccess}, {"below.example", dns.TypeA, dns.RcodeSuccess},
		} {
			w.says(c.name, c.typ, func(m *dns.Msg) { z.whole(m, c.name, c.typ, c.code) })
			assert.NotEqual(t, "bogus", w.verdict(c.name, c.typ), "%s %v", c.name, args)
			w.says(c.name, c.typ, func(m *dns.Msg) {
				z.whole(m, c.name, c.typ, c.code)
				for _, list := range [][]dns.RR{m.Answer, m.Ns} {
					for _, one := range list {
						if sig, ok := one.(*dns.RRSIG); ok {
							sig.OrigTtl++
						}
					}
				}
			})
			assert.Equal(t, "bogus", w.verdict(c.name, c.typ), "%s %v, changed", c.name, args)
		}
	}
}

// toolSigned is a zone with the signatures that ldns-signzone made of it.
func toolSigned(t *testing.T, args []string) *signedZone {
	dir := t.TempDir()
	file := filepath.Join(dir, "zone")
	require.NoError(t, os.WriteFile(file, []byte("example. 600 SOA ns.example. h.example. 1 2 3 4 300\n"+
		"example. 600 NS ns.example.\nns.example. 600 A 192.0.2.1\nwww.example. 600 A 192.0.2.2\n"+
		"*.wild.example. 600 A 192.0.2.3\ndeep.below.example. 600 A 192.0.2.4\n"), 0o600))
	run := func(name string, args ...string) string {
		cmd := exec.Command(name, args...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return strings.TrimSpace(string(out))
	}
	key := run("ldns-keygen", "-a", "ECDSAP256SHA256", "-k", "example")
	day := func(d int) string { return now.AddDate(0, 0, d).Format("20060102") }
	run("ldns-signzone", append(args, "-i", day(-1), "-e", day(30), file, key)...)
	raw, err := os.Open(file + ".signed")
	require.NoError(t, err)
	defer func() { _ = raw.Close() }()
	z := &signedZone{t: t, name: "example", sets: map[string][]dns.RR{}}
	parser := dns.NewZoneParser(raw, "", file)
	for one, ok := parser.Next(); ok; one, ok = parser.Next() {
		if k, is := one.(*dns.DNSKEY); is {
			z.key = k
		}
		k := setKey(one.Header().Name, one.Header().Rrtype)
		if sig, is := one.(*dns.RRSIG); is {
			k = "signatures of " + setKey(sig.Hdr.Name, sig.TypeCovered)
		}
		z.sets[k] = append(z.sets[k], one)
	}
	require.NoError(t, parser.Err())
	return z
}

// with is a set with the tool's signatures, under another owner where a wildcard stands for it.
func (z *signedZone) with(name string, typ uint16, owner string) (out []dns.RR) {
	for _, one := range slices.Concat(z.sets[setKey(name, typ)], z.sets["signatures of "+setKey(name, typ)]) {
		one = dns.Copy(one)
		one.Header().Name = dns.Fqdn(owner)
		out = append(out, one)
	}
	return out
}

// whole makes the answer of a server that adds every denial of the zone, which is more than it takes.
func (z *signedZone) whole(m *dns.Msg, name string, typ uint16, code int) {
	m.Rcode = code
	m.Answer = z.with(name, typ, name)
	if strings.HasSuffix(name, ".wild.example") {
		m.Answer = z.with("*.wild.example", typ, name)
	}
	m.Ns = z.with("example", dns.TypeSOA, "example")
	for _, set := range z.sets {
		if h := set[0].Header(); h.Rrtype == dns.TypeNSEC || h.Rrtype == dns.TypeNSEC3 {
			m.Ns = append(m.Ns, z.with(h.Name, h.Rrtype, h.Name)...)
		}
	}
}
