// Package internet is a small simulated internet for names: a root, three made-up top-level zones, a
// provider that holds the outside zones of sites, and two resolvers that anybody may ask. They answer
// on real sockets, and ask each other there.
package internet

import (
	"crypto/tls"
	"errors"
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/miekg/dns"

	"lithos/core/compile"
	"lithos/core/names"
	"lithos/core/yang"
	"lithos/core/zone"
	"lithos/internal/standin/resolve"
)

// Where the servers are (RFC 5737).
var (
	Root      = netip.AddrFrom4([4]byte{198, 51, 100, 2})
	TopLevel  = netip.AddrFrom4([4]byte{198, 51, 100, 3})
	Provider  = netip.AddrFrom4([4]byte{203, 0, 113, 53})
	Resolver1 = netip.AddrFrom4([4]byte{192, 0, 2, 53})
	Resolver2 = netip.AddrFrom4([4]byte{198, 51, 100, 53})
)

// ResolverName is what the second resolver's certificate says; it answers over TLS.
const ResolverName = "dns.provider.example"

// ProviderName is the provider's name server.
const ProviderName = "ns.provider.example"

// topLevel are the made-up top-level zones.
var topLevel = []string{"example", "demo", "works"}

// Internet is the running servers. It is safe for concurrent use.
type Internet struct {
	mu      sync.Mutex
	at      map[netip.Addr]resolve.Endpoint
	closers []*resolve.Listener
	sites   []*compile.Pages // outside zones
	serial  uint32
	tops    *names.Server
	held    *names.Server
}

// Start runs it. certs has the certificate of the second resolver.
func Start(certs *tls.Config) (*Internet, error) {
	n := &Internet{at: map[netip.Addr]resolve.Endpoint{}, serial: uint32(time.Now().Unix())}
	n.rezone()
	root := authority(n.serial, rootZone())
	for _, s := range []struct {
		at     netip.Addr
		certs  *tls.Config
		answer func(q *dns.Msg) *dns.Msg
	}{
		{Root, nil, func(q *dns.Msg) *dns.Msg { return answer(root, q) }},
		{TopLevel, nil, func(q *dns.Msg) *dns.Msg { return answer(n.server(&n.tops), q) }},
		{Provider, nil, func(q *dns.Msg) *dns.Msg { return answer(n.server(&n.held), q) }},
		{Resolver1, nil, n.recurse},
		{Resolver2, certs, n.recurse},
	} {
		l, err := resolve.Listen("127.0.0.1:0", s.certs, 0,
			func(q resolve.Question) *dns.Msg { return s.answer(q.Msg) })
		if err != nil {
			n.Close()
			return nil, err
		}
		n.closers = append(n.closers, l)
		e := resolve.Endpoint{Plain: l.Addr(), Port: 53}
		if s.certs != nil {
			e.TLS, e.TLSPort = l.TLS(), 853
		}
		n.at[s.at] = e
	}
	return n, nil
}

// Close ends the servers.
func (n *Internet) Close() {
	for _, l := range n.closers {
		l.Close()
	}
}

// Endpoint is where the server of an address really is.
func (n *Internet) Endpoint(a netip.Addr) (resolve.Endpoint, bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	e, ok := n.at[a]
	return e, ok
}

// Hold makes the provider hold the outside zones of a site, in place of those of the same names.
func (n *Internet) Hold(book *compile.Book) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, p := range book.Outside {
		n.sites = slices.DeleteFunc(n.sites, func(o *compile.Pages) bool { return o.Name == p.Name })
		n.sites = append(n.sites, p)
	}
	n.serial++
	n.rezone()
}

func (n *Internet) server(which **names.Server) *names.Server {
	n.mu.Lock()
	defer n.mu.Unlock()
	return *which
}

func answer(s *names.Server, q *dns.Msg) *dns.Msg {
	return s.Answer(time.Now(), q, names.Asker{Own: true})
}

func authority(serial uint32, zones ...yang.Zone) *names.Server {
	c := yang.Config{Resolver: yang.Resolver{Settings: &yang.ResolverSettings{Enabled: true}, Zone: zones}}
	return names.NewServer(c, names.Around{Authority: true, Serial: serial})
}

func blank(name, primary string) yang.Zone {
	return yang.Zone{Name: name, TTL: 3600, Primary: primary, Contact: "hostmaster." + primary, Refresh: 3600,
		Retry:  600,
		Expire: 604800, Negative: 60}
}

func record(owner, typ, data string) yang.Record {
	return yang.Record{ID: owner + "/" + typ + "/" + data, Owner: owner, Type: typ, Data: data}
}

func rootZone() yang.Zone {
	z := blank("", "a.root.works")
	z.Record = append(z.Record, record("@", "NS", "a.root.works"), record("a.root.works", "A", Root.String()))
	for _, name := range topLevel {
		z.Record = append(z.Record, record(name, "NS", "ns.registry.works"))
	}
	z.Record = append(z.Record, record("ns.registry.works", "A", TopLevel.String()))
	return z
}

// rezone makes the zones anew that depend on what sites tell the world.
func (n *Internet) rezone() {
	var tops []yang.Zone
	for _, name := range topLevel {
		z := blank(name, "ns.registry.works")
		z.Record = append(z.Record, record("@", "NS", "ns.registry.works"))
		switch name {
		case "example":
			z.Record = append(z.Record, record("provider", "NS", ProviderName),
				record("ns.provider", "A", Provider.String()), record("out", "NS", ProviderName))
			for _, p := range n.sites {
				if owner, in := zone.Relative(p.Name, name); in {
					z.Record = append(z.Record, record(owner, "NS", ProviderName))
				}
			}
		case "works":
			z.Record = append(z.Record, record("ns.registry", "A", TopLevel.String()), record("a.root", "A",
				Root.String()))
		}
		tops = append(tops, z)
	}
	provider := blank("provider.example", ProviderName)
	provider.Record = []yang.Record{record("@", "NS", ProviderName), record("ns", "A", Provider.String()),
		record("dns", "A", Resolver2.String()), record("mail", "A", "203.0.113.54")}
	out := blank("out.example", ProviderName)
	out.Record = []yang.Record{record("@", "NS", ProviderName), record("www", "A", "203.0.113.90"),
		record("shop", "CNAME", "www"), record("@", "A", "203.0.113.90")}
	held := []yang.Zone{provider, out}
	for _, p := range n.sites {
		held = append(held, compile.Zone(p, ProviderName))
	}
	n.tops, n.held = authority(n.serial, tops...), authority(n.serial, held...)
}

// Limits of the work for one question.
const (
	maxReferrals = 8
	maxAliases   = 8
)

var errLost = errors.New("no server of the zone answers")

// recurse answers as a resolver that anybody may ask: from the root down.
func (n *Internet) recurse(q *dns.Msg) *dns.Msg {
	reply := new(dns.Msg)
	reply.SetReply(q)
	reply.RecursionAvailable = true
	if len(q.Question) != 1 || q.Opcode != dns.OpcodeQuery || q.Question[0].Qclass != dns.ClassINET {
		reply.Rcode = dns.RcodeRefused
		return reply
	}
	if q.IsEdns0() != nil {
		reply.SetEdns0(names.MaxUDP, false)
	}
	at := q.Question[0].Name
	for range maxAliases {
		m, err := n.walk(at, q.Question[0].Qtype)
		if err != nil {
			reply.Rcode = dns.RcodeServerFailure
			return reply
		}
		reply.Answer, reply.Rcode = append(reply.Answer, m.Answer...), m.Rcode
		reply.Ns = slices.DeleteFunc(slices.Clone(m.Ns),
			func(rr dns.RR) bool { return rr.Header().Rrtype != dns.TypeSOA })
		last := len(reply.Answer) - 1
		if last < 0 {
			return reply
		}
		alias, is := reply.Answer[last].(*dns.CNAME)
		if !is || q.Question[0].Qtype == dns.TypeCNAME {
			return reply
		}
		at = alias.Target
	}
	reply.Rcode = dns.RcodeServerFailure
	return reply
}

// walk asks from the root down until a server answers for the name.
func (n *Internet) walk(name string, typ uint16) (*dns.Msg, error) {
	servers := []netip.Addr{Root}
	for range maxReferrals {
		m, err := n.askOne(servers, name, typ)
		if err != nil {
			return nil, err
		}
		if len(m.Answer) > 0 || m.Rcode != dns.RcodeSuccess || !referral(m) {
			return m, nil
		}
		if servers = n.referred(m); len(servers) == 0 {
			return nil, errLost
		}
	}
	return nil, errLost
}

func (n *Internet) askOne(servers []netip.Addr, name string, typ uint16) (*dns.Msg, error) {
	q := new(dns.Msg)
	q.SetQuestion(name, typ)
	q.RecursionDesired = false
	for _, a := range servers {
		at, ok := n.Endpoint(a)
		if !ok {
			continue
		}
		if m, _, err := resolve.Ask(netip.Addr{}, yang.NameServer{Address: a, Port: 53}, at, q); err == nil {
			return m, nil
		}
	}
	return nil, errLost
}

// referral reports whether a message names the servers of a part below.
func referral(m *dns.Msg) bool {
	return slices.ContainsFunc(m.Ns, func(rr dns.RR) bool { return rr.Header().Rrtype == dns.TypeNS })
}

// referred is the addresses of those servers: what came with the message, else what the provider has.
func (n *Internet) referred(m *dns.Msg) []netip.Addr {
	var out []netip.Addr
	for _, rr := range m.Extra {
		if a, ok := rr.(*dns.A); ok {
			if at, ok := netip.AddrFromSlice(a.A.To4()); ok {
				out = append(out, at)
			}
		}
	}
	if len(out) == 0 {
		for _, rr := range m.Ns {
			if ns, ok := rr.(*dns.NS); ok && zone.Tidy(ns.Ns) == ProviderName {
				return []netip.Addr{Provider}
			}
		}
	}
	return out
}
