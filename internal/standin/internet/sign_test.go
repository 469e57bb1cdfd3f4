package internet

import (
	"encoding/base64"
	"encoding/binary"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/names"
	"lithos/core/yang"
	"lithos/internal/standin/resolve"
)

// checking is a resolver that forwards to the internet and checks what it is answered. between may
// change what it is answered on the way.
func checking(n *Internet, between func(m *dns.Msg)) *names.Server {
	var c yang.Config
	c.Resolver.Settings = &yang.ResolverSettings{Enabled: true, Port: 53, Validate: true, CacheEntries: 100,
		NegativeTTL: 60, Forwarder: []yang.NameServer{{Address: Resolver1, Port: 53}}}
	up := func(to yang.NameServer, q *dns.Msg) (*dns.Msg, error) {
		at, _ := n.Endpoint(to.Address)
		m, _, err := resolve.Ask(netip.Addr{}, to, at, q)
		if err == nil && between != nil {
			between(m)
		}
		return m, err
	}
	return names.NewServer(c, names.Around{Cache: names.NewCache(100), Up: up, Anchors: n.Anchors()})
}

func question(name string, typ uint16) *dns.Msg {
	q := new(dns.Msg)
	q.SetQuestion(dns.Fqdn(name), typ)
	q.AuthenticatedData = true
	return q
}

// What signed zones answer is checked from the root down; what is not signed says so itself.
func TestSignaturesAreChecked(t *testing.T) {
	n, err := Start()
	require.NoError(t, err)
	t.Cleanup(n.Close)
	for _, c := range []struct {
		name   string
		typ    uint16
		code   int
		secure bool
	}{
		{"www.sealed.works", dns.TypeA, dns.RcodeSuccess, true},
		{"shop.sealed.works", dns.TypeA, dns.RcodeSuccess, true},
		{"anything.lab.sealed.works", dns.TypeA, dns.RcodeSuccess, true},
		{"www.sealed.works", dns.TypeMX, dns.RcodeSuccess, true},
		{"anything.lab.sealed.works", dns.TypeMX, dns.RcodeSuccess, true},
		{"lab.sealed.works", dns.TypeA, dns.RcodeSuccess, true},
		{"nothing.sealed.works", dns.TypeA, dns.RcodeNameError, true},
		{"deep.below.nothing.sealed.works", dns.TypeA, dns.RcodeNameError, true},
		{"nothing.works", dns.TypeA, dns.RcodeNameError, true},
		{"nothing", dns.TypeA, dns.RcodeNameError, true},
		{"sealed.works", dns.TypeDS, dns.RcodeSuccess, true},
		{"works", dns.TypeDNSKEY, dns.RcodeSuccess, true},
		{"broken.sealed.works", dns.TypeA, dns.RcodeServerFailure, false},
		{"www.out.example", dns.TypeA, dns.RcodeSuccess, false},
		{"shop.out.example", dns.TypeA, dns.RcodeSuccess, false},
		{"nothing.out.example", dns.TypeA, dns.RcodeNameError, false},
		{"nothing.demo", dns.TypeA, dns.RcodeNameError, false},
	} {
		s := checking(n, nil)
		for _, how := range []string{"asked", "kept"} {
			m, fell := s.Trace(time.Now(), question(c.name, c.typ), names.Asker{Own: true})
			says := c.name + " " + dns.TypeToString[c.typ] + " " + how
			assert.Equal(t, dns.RcodeToString[c.code], dns.RcodeToString[m.Rcode], "%s: %v", says, fell)
			assert.Equal(t, c.secure, m.AuthenticatedData, "%s: %v", says, fell)
		}
	}
}

// An answer that was changed on the way, or whose proof was taken out, is not passed on; nor is one of
// another time.
func TestForgedAnswersAreRefused(t *testing.T) {
	n, err := Start()
	require.NoError(t, err)
	t.Cleanup(n.Close)
	without := func(typ uint16) func(*dns.Msg) {
		return func(m *dns.Msg) {
			is := func(rr dns.RR) bool { return rr.Header().Rrtype == typ }
			m.Answer, m.Ns = slices.DeleteFunc(m.Answer, is), slices.DeleteFunc(m.Ns, is)
		}
	}
	for _, c := range []struct {
		what, name string
		typ        uint16
		between    func(*dns.Msg)
		later      time.Duration
	}{
		{"another address", "www.sealed.works", dns.TypeA, func(m *dns.Msg) {
			for _, rr := range m.Answer {
				if a, ok := rr.(*dns.A); ok {
					a.A[3]++
				}
			}
		}, 0},
		{"no signatures", "www.sealed.works", dns.TypeA, without(dns.TypeRRSIG), 0},
		{"keys left out above", "www.sealed.works", dns.TypeA, without(dns.TypeDS), 0},
		{"no keys", "www.sealed.works", dns.TypeA, without(dns.TypeDNSKEY), 0},
		{"no denial", "nothing.sealed.works", dns.TypeA, without(dns.TypeNSEC), 0},
		{"no denial of an unsigned zone", "www.out.example", dns.TypeA, without(dns.TypeNSEC), 0},
		{"a name denied that is there", "www.sealed.works", dns.TypeA, func(m *dns.Msg) {
			if m.Question[0].Qtype == dns.TypeA {
				m.Answer, m.Rcode = nil, dns.RcodeNameError
			}
		}, 0},
		{"signatures that ended", "www.sealed.works", dns.TypeA, nil, signedFor + time.Hour},
		{"signatures to come", "www.sealed.works", dns.TypeA, nil, -2 * time.Hour},
	} {
		s, at := checking(n, c.between), time.Now().Add(c.later)
		m, fell := s.Trace(at, question(c.name, c.typ), names.Asker{Own: true})
		assert.Equal(t, "SERVFAIL", dns.RcodeToString[m.Rcode], "%s: %v", c.what, fell)
		assert.Empty(t, m.Answer, c.what)
		assert.True(t, slices.ContainsFunc(fell, func(f names.Fell) bool {
			return f.Layer == names.Validated && f.State == names.Stopped
		}), "%s: %v", c.what, fell)
	}
}

// Who checks signatures itself is given them, and answers that do not hold.
func TestSignaturesArePassedOn(t *testing.T) {
	n, err := Start()
	require.NoError(t, err)
	t.Cleanup(n.Close)
	s := checking(n, nil)
	q := question("broken.sealed.works", dns.TypeA)
	q.SetEdns0(names.MaxUDP, true)
	assert.Equal(t, dns.RcodeServerFailure, s.Answer(time.Now(), q, names.Asker{Own: true}).Rcode)
	q.CheckingDisabled = true
	m := s.Answer(time.Now(), q, names.Asker{Own: true})
	require.Len(t, m.Answer, 2)
	assert.Equal(t, dns.TypeRRSIG, m.Answer[1].Header().Rrtype)
	assert.False(t, m.AuthenticatedData)
	q.CheckingDisabled = false
	again := s.Answer(time.Now(), q, names.Asker{Own: true})
	assert.Equal(t, dns.RcodeServerFailure, again.Rcode, "what was not checked is not kept")
	assert.Equal(t, dns.ExtendedErrorCodeDNSBogus, again.IsEdns0().Option[0].(*dns.EDNS0_EDE).InfoCode)
}

// A key whose tag happens to be 0 signs nothing, and is drawn again.
func TestKeyOfTagZeroIsDrawnAgain(t *testing.T) {
	k, err := newKey("works")
	require.NoError(t, err)
	assert.True(t, signsAtAll(k.public))
	raw, err := base64.StdEncoding.DecodeString(k.public.PublicKey)
	require.NoError(t, err)
	for n := 0; k.public.KeyTag() != 0 && n < 1<<17; n++ {
		binary.BigEndian.PutUint16(raw, uint16(n))
		raw[2] = byte(n >> 16)
		k.public.PublicKey = base64.StdEncoding.EncodeToString(raw)
	}
	require.Zero(t, k.public.KeyTag())
	assert.False(t, signsAtAll(k.public))
	_, err = k.sign(blank("works", "ns.registry.works"), 1, nil, time.Now())
	require.ErrorIs(t, err, dns.ErrKey)
}
