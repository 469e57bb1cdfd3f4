// Package internet is a small simulated internet for names: a root, three made-up top-level zones, a
// provider that holds the outside zones of sites, and two resolvers that anybody may ask. They answer
// on real sockets, and ask each other there.
package internet

import (
	"crypto/tls"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
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

// topLevel are the made-up top-level zones. The root and works are signed.
var topLevel = []string{"example", "demo", "works"}

// Sealed is a signed zone of the provider, in works. Its name broken was changed after it was signed.
const Sealed = "sealed.works"

// Internet is the running servers. It is safe for concurrent use.
type Internet struct {
	mu      sync.Mutex
	at      map[netip.Addr]resolve.Endpoint
	closers []*resolve.Listener
	holder  *holder
	ca      *resolve.Authority

	authority *authorityServer
	requests  *http.Server
	web       map[string]string // where its services over HTTPS really are
	keys      map[string]*key   // of the signed zones
	root      *names.Server
	tops      *names.Server
	held      *names.Server
}

// Start runs it.
func Start() (*Internet, error) {
	ca, err := resolve.NewAuthority()
	if err != nil {
		return nil, err
	}
	cert, err := ca.Certificate(ResolverName)
	if err != nil {
		return nil, err
	}
	certs := &tls.Config{Certificates: []tls.Certificate{*cert}, MinVersion: tls.VersionTLS12}
	n := &Internet{at: map[netip.Addr]resolve.Endpoint{}, ca: ca, keys: map[string]*key{},
		web: map[string]string{}}
	n.holder = &holder{keys: map[string]Key{}, accounts: map[string]string{}, followed: map[string]followed{},
		heard: map[string]time.Time{}, asked: map[string][]time.Time{}, serial: uint32(time.Now().Unix()),
		rezone: n.rezone}
	for _, name := range []string{"", "works", Sealed} {
		k, err := newKey(name)
		if err != nil {
			return nil, err
		}
		n.keys[name] = k
	}
	if err := n.rezone(); err != nil {
		return nil, err
	}
	for _, s := range []struct {
		at     netip.Addr
		certs  *tls.Config
		answer func(q *dns.Msg) *dns.Msg
	}{
		{Root, nil, func(q *dns.Msg) *dns.Msg { return answer(n.server(&n.root), q) }},
		{TopLevel, nil, func(q *dns.Msg) *dns.Msg { return answer(n.server(&n.tops), q) }},
		{Provider, nil, func(q *dns.Msg) *dns.Msg { return answer(n.server(&n.held), q) }},
		{Resolver1, nil, remembering(n.recurse)},
		{Resolver2, certs, remembering(n.recurse)},
	} {
		o := resolve.Options{Certs: s.certs}
		if s.at == Provider {
			o.Keys, o.Raw = n.holder, n.holder.serve
		}
		l, err := resolve.Listen("127.0.0.1:0", o, func(q resolve.Question) *dns.Msg { return s.answer(q.Msg) })
		if err != nil {
			n.Close()
			return nil, err
		}
		n.closers = append(n.closers, l)
		e := resolve.Endpoint{Plain: l.Addr(), Port: 53, Trust: ca.Pool()}
		if s.certs != nil {
			e.TLS, e.TLSPort = l.TLS(), 853
		}
		n.at[s.at] = e
	}
	if err := errors.Join(n.startAuthority(), n.startRequests()); err != nil {
		n.Close()
		return nil, err
	}
	return n, nil
}

// Close ends the servers.
func (n *Internet) Close() {
	for _, l := range n.closers {
		l.Close()
	}
	if n.authority != nil {
		_ = n.authority.http.Close()
	}
	if n.requests != nil {
		_ = n.requests.Close()
	}
	n.holder.sends.Wait()
}

// Keep makes what the provider holds survive in a file, and takes up what an earlier run left there.
func (n *Internet) Keep(file string) error {
	n.holder.mu.Lock()
	defer n.holder.mu.Unlock()
	return errors.Join(n.holder.restore(file), n.rezone())
}

// AddKey lets a key read or write a zone of the provider, in place of one of the same name. The names that it is
// for follow from now on.
func (n *Internet) AddKey(k Key) {
	n.holder.mu.Lock()
	defer n.holder.mu.Unlock()
	n.holder.keys[k.Name] = k
	n.holder.follow(k.Names)
}

// Key is a key of the provider.
func (n *Internet) Key(name string) (k Key, ok bool) {
	n.holder.mu.Lock()
	defer n.holder.mu.Unlock()
	k, ok = n.holder.keys[name]
	return k, ok
}

// AddAccount gives a zone an account that makes keys.
func (n *Internet) AddAccount(zone, password string) {
	n.holder.mu.Lock()
	defer n.holder.mu.Unlock()
	n.holder.accounts[zone] = password
}

// Inject sets what the provider gets wrong from now on.
func (n *Internet) Inject(f Faults) {
	n.holder.mu.Lock()
	defer n.holder.mu.Unlock()
	n.holder.faults = f
}

// Change changes a zone of the provider, as somebody at its own pages would.
func (n *Internet) Change(name string, change func(*yang.Zone)) error {
	n.holder.mu.Lock()
	defer n.holder.mu.Unlock()
	z, at := n.holder.zone(name)
	if at < 0 {
		return fmt.Errorf("the provider does not hold %s", name)
	}
	change(&z)
	return n.holder.put(at, z)
}

// Notify tells a server from now on when a zone of the provider changes (RFC 1996).
func (n *Internet) Notify(to netip.AddrPort) {
	n.holder.mu.Lock()
	defer n.holder.mu.Unlock()
	n.holder.notify = append(n.holder.notify, to)
}

// Zone is a zone as the provider has it; ok is false for one that it does not hold.
func (n *Internet) Zone(name string) (z yang.Zone, ok bool) {
	n.holder.mu.Lock()
	defer n.holder.mu.Unlock()
	z, at := n.holder.zone(name)
	return z, at >= 0
}

// Endpoint is where the server of an address really is.
func (n *Internet) Endpoint(a netip.Addr) (resolve.Endpoint, bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	e, ok := n.at[a]
	return e, ok
}

// Certifier is who signs the certificates of name servers.
func (n *Internet) Certifier() *resolve.Authority { return n.ca }

// Anchors are the keys of the root, which those who check signatures begin with.
func (n *Internet) Anchors() []*dns.DS { return []*dns.DS{n.keys[""].ds()} }

// Reaches is where the provider and the resolvers really are.
func (n *Internet) Reaches() map[netip.AddrPort]netip.AddrPort {
	out := map[netip.AddrPort]netip.AddrPort{}
	for _, a := range []netip.Addr{Provider, Resolver1, Resolver2} {
		at, _ := n.Endpoint(a)
		out[netip.AddrPortFrom(a, 53)] = at.Plain
	}
	return out
}

// Hold makes the provider hold the outside zones of a site, but for those that it holds already.
func (n *Internet) Hold(book *compile.Book) error {
	h := n.holder
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, p := range book.Outside {
		if _, at := h.zone(p.Name); at >= 0 {
			continue
		}
		z := compile.Zone(p, ProviderName)
		z.Record = nil
		for _, r := range compile.PublishedRecords(p) {
			z.Record = append(z.Record, yang.Record{ID: r.Owner + "/" + r.Type + "/" + r.Data, Owner: r.Owner,
				Type: r.Type, Data: r.Data, TTL: r.TTL})
		}
		h.zones = append(h.zones, z)
	}
	h.serial++
	return errors.Join(h.save(), n.rezone())
}

func (n *Internet) server(which **names.Server) *names.Server {
	n.mu.Lock()
	defer n.mu.Unlock()
	return *which
}

func answer(s *names.Server, q *dns.Msg) *dns.Msg {
	return s.Answer(time.Now(), q, names.Asker{Own: true})
}

// serverOf is a server of zones; those that have a key are signed. below are the signed zones below
// them.
func (n *Internet) serverOf(below []string, zones ...yang.Zone) (*names.Server, error) {
	signed := map[string][]dns.RR{}
	for _, z := range zones {
		k := n.keys[z.Name]
		if k == nil {
			continue
		}
		var told []*dns.DS
		for _, name := range below {
			if zone.Within(name, z.Name) {
				told = append(told, n.keys[name].ds())
			}
		}
		list, err := k.sign(z, n.holder.serial, told, time.Now())
		if err != nil {
			return nil, err
		}
		signed[z.Name] = list
		for i, r := range z.Record {
			if z.Name == Sealed && r.Owner == "broken" {
				z.Record[i].Data = "203.0.113.99" // it was another when it was signed
			}
		}
	}
	c := yang.Config{Resolver: yang.Resolver{Settings: &yang.ResolverSettings{Enabled: true}, Zone: zones}}
	return names.NewServer(c, names.Around{Authority: true, Serial: n.holder.serial, Signed: signed}), nil
}

func blank(name, primary string) yang.Zone {
	return yang.Zone{Name: name, TTL: 3600, Primary: primary, Contact: "hostmaster." + primary, Refresh: 3600,
		Retry:  600,
		Expire: 604800, Negative: 60}
}

func entry(owner, typ, data string) yang.Record {
	return yang.Record{ID: owner + "/" + typ + "/" + data, Owner: owner, Type: typ, Data: data}
}

func rootZone() yang.Zone {
	z := blank("", "a.root.works")
	z.Record = append(z.Record, entry("@", "NS", "a.root.works"), entry("a.root.works", "A", Root.String()))
	for _, name := range topLevel {
		z.Record = append(z.Record, entry(name, "NS", "ns.registry.works"))
	}
	z.Record = append(z.Record, entry("ns.registry.works", "A", TopLevel.String()))
	return z
}

// rezone makes the servers anew with what sites tell the world.
func (n *Internet) rezone() error {
	var tops []yang.Zone
	for _, name := range topLevel {
		z := blank(name, "ns.registry.works")
		z.Record = append(z.Record, entry("@", "NS", "ns.registry.works"))
		switch name {
		case "example":
			z.Record = append(z.Record, entry("provider", "NS", ProviderName),
				entry("ns.provider", "A", Provider.String()), entry("out", "NS", ProviderName))
			for _, held := range n.holder.zones {
				if owner, in := zone.Relative(held.Name, name); in {
					z.Record = append(z.Record, entry(owner, "NS", ProviderName))
				}
			}
		case "works":
			z.Record = append(z.Record, entry("ns.registry", "A", TopLevel.String()), entry("a.root", "A",
				Root.String()), entry("sealed", "NS", ProviderName))
		}
		tops = append(tops, z)
	}
	provider := blank("provider.example", ProviderName)
	provider.Record = []yang.Record{entry("@", "NS", ProviderName), entry("ns", "A", Provider.String()),
		entry("dns", "A", Resolver2.String()), entry("mail", "A", "203.0.113.54")}
	out := blank("out.example", ProviderName)
	out.Record = []yang.Record{entry("@", "NS", ProviderName), entry("www", "A", "203.0.113.90"),
		entry("shop", "CNAME", "www"), entry("@", "A", "203.0.113.90")}
	sealed := blank(Sealed, ProviderName)
	sealed.Record = []yang.Record{entry("@", "NS", ProviderName), entry("www", "A", "203.0.113.91"),
		entry("shop", "CNAME", "www"), entry("*.lab", "A", "203.0.113.92"), entry("broken", "A", "203.0.113.93")}
	held := slices.Concat([]yang.Zone{provider, out, sealed}, n.holder.zones)
	root, err1 := n.serverOf([]string{"works"}, rootZone())
	registry, err2 := n.serverOf([]string{Sealed}, tops...)
	holding, err3 := n.serverOf(nil, held...)
	n.mu.Lock()
	defer n.mu.Unlock()
	n.root, n.tops, n.held = root, registry, holding
	return errors.Join(err1, err2, err3)
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
	signed := false
	if opt := q.IsEdns0(); opt != nil {
		signed = opt.Do()
		reply.SetEdns0(names.MaxUDP, signed)
	}
	at := q.Question[0].Name
	for range maxAliases {
		m, err := n.walk(at, q.Question[0].Qtype, signed)
		if err != nil {
			reply.Rcode = dns.RcodeServerFailure
			return reply
		}
		reply.Answer, reply.Rcode = append(reply.Answer, m.Answer...), m.Rcode
		reply.Ns = append(reply.Ns, slices.DeleteFunc(slices.Clone(m.Ns),
			func(rr dns.RR) bool { return rr.Header().Rrtype == dns.TypeNS })...)
		next := target(m, at)
		if next == "" || q.Question[0].Qtype == dns.TypeCNAME {
			return reply
		}
		at = next
	}
	reply.Rcode = dns.RcodeServerFailure
	return reply
}

// target is where the aliases of a name in an answer lead that has nothing else for it; empty where it has.
func target(m *dns.Msg, name string) string {
	out := ""
	for _, rr := range m.Answer {
		switch rr := rr.(type) {
		case *dns.CNAME:
			out = rr.Target
		case *dns.RRSIG:
		default:
			if strings.EqualFold(rr.Header().Name, out) || strings.EqualFold(rr.Header().Name, name) {
				return ""
			}
		}
	}
	return out
}

// walk asks from the root down until a server answers for the name.
func (n *Internet) walk(name string, typ uint16, signed bool) (*dns.Msg, error) {
	servers := []netip.Addr{Root}
	for range maxReferrals {
		m, err := n.askOne(servers, name, typ, signed)
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

func (n *Internet) askOne(servers []netip.Addr, name string, typ uint16, signed bool) (*dns.Msg, error) {
	q := new(dns.Msg)
	q.SetQuestion(name, typ)
	q.RecursionDesired = false
	if signed {
		q.SetEdns0(names.MaxUDP, true)
	}
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
