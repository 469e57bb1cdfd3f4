package standin

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/miekg/dns"

	"lithos/core/names"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/core/zone"
	"lithos/internal/standin/internet"
	"lithos/internal/standin/resolve"
)

// Outer is what joins the sites of one world: the internet, and the fabrics that route to each other.
type Outer struct {
	Internet *internet.Internet

	mu      sync.Mutex
	fabrics []*Fabric
}

// Join lets the devices of a fabric reach the others of a world by their addresses.
func (o *Outer) Join(f *Fabric) {
	o.mu.Lock()
	o.fabrics = append(o.fabrics, f)
	o.mu.Unlock()
	f.mu.Lock()
	f.outer = o
	f.mu.Unlock()
}

// nameServer is where the name server of an address really is: of a device of this fabric, of another
// site, or of the internet.
func (f *Fabric) nameServer(a netip.Addr) (resolve.Endpoint, bool) {
	if e, ok := f.ownNameServer(a); ok {
		return e, true
	}
	f.mu.Lock()
	outer := f.outer
	f.mu.Unlock()
	if outer == nil {
		return resolve.Endpoint{}, false
	}
	if outer.Internet != nil {
		if e, ok := outer.Internet.Endpoint(a); ok {
			return e, true
		}
	}
	outer.mu.Lock()
	others := slices.Clone(outer.fabrics)
	outer.mu.Unlock()
	for _, other := range others {
		if e, ok := other.ownNameServer(a); other != f && ok {
			return e, true
		}
	}
	return resolve.Endpoint{}, false
}

// certifier is who signs the certificates of name servers: the world's, or the fabric's own.
func (f *Fabric) certifier() (*resolve.Authority, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.outer != nil && f.outer.Internet != nil {
		return f.outer.Internet.Certifier(), nil
	}
	var err error
	if f.own == nil {
		f.own, err = resolve.NewAuthority()
	}
	return f.own, err
}

// anchors are the keys of the root of the world's internet.
func (f *Fabric) anchors() []*dns.DS {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.outer == nil || f.outer.Internet == nil {
		return nil
	}
	return f.outer.Internet.Anchors()
}

func (f *Fabric) ownNameServer(a netip.Addr) (resolve.Endpoint, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for d, at := range f.places {
		for _, p := range at {
			if slices.ContainsFunc(p.addresses, func(h netip.Prefix) bool { return h.Addr() == a }) {
				e, ok := f.names[d]
				return e, ok
			}
		}
	}
	return resolve.Endpoint{}, false
}

// resolver is the name server of a device: what it answers with, and where it really listens.
type resolver struct {
	server   *names.Server
	settings yang.ResolverSettings
	cache    *names.Cache
	listener *resolve.Listener
	cert     *tls.Certificate
	certName string
	trust    *x509.CertPool // of who asks it over TLS

	table      *names.Table
	generation uint64 // of the leases that the table is of

	watched  time.Time       // until when questions are written down for a time
	asked    []yang.Question // that were written down, the oldest first
	numbered uint64
}

// written is how many questions a resolver remembers.
const written = 500

// writes reports whether questions are written down.
func (r *resolver) writes(now time.Time) bool {
	return r.settings.Log == site.LogQueries || now.Before(r.watched)
}

// write writes one down.
func (d *Device) write(q resolve.Question, reply *dns.Msg, fell []names.Fell, took time.Duration) {
	one := yang.Question{At: time.Now(), Name: zone.Tidy(q.Msg.Question[0].Name),
		Type: dns.TypeToString[q.Msg.Question[0].Qtype],
		Code: dns.RcodeToString[reply.Rcode], Microseconds: took.Microseconds()}
	if q.From.IsValid() {
		one.From = q.From.String()
	}
	if len(fell) > 0 {
		one.Layer = fell[len(fell)-1].Layer
	}
	if len(reply.Answer) > 0 {
		one.Data = zone.DataOf(reply.Answer[len(reply.Answer)-1], "")
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	r := &d.names
	r.numbered++
	one.Number = r.numbered
	r.asked = append(r.asked[max(0, len(r.asked)+1-written):], one)
}

// resolverState is the operational state of the resolver with what it remembers, and of what else
// listens for names; nil for a device with neither.
func (d *Device) resolverState() *yang.ResolverState {
	r := &d.names
	out := d.listening()
	if r.server == nil {
		return out
	}
	if out == nil {
		out = &yang.ResolverState{}
	}
	out.Counters, out.Answer, out.Question = r.server.Counters(), r.cache.Entries(time.Now()), slices.Clone(r.asked)
	slices.Reverse(out.Question)
	if time.Now().Before(r.watched) {
		out.WrittenUntil = r.watched
	}
	return out
}

// listening is what listens for names on the device; nil where nothing does.
func (d *Device) listening() *yang.ResolverState {
	var list []yang.Listener
	plain := []string{"udp", "tcp"}
	if s := d.running.Resolver.Settings; s != nil && s.Enabled {
		for _, protocol := range plain {
			list = append(list, yang.Listener{Port: s.Port, Protocol: protocol, Program: names.Program,
				Interface: s.Interface})
		}
		if s.TLSPort != 0 {
			list = append(list, yang.Listener{Port: s.TLSPort, Protocol: "tls", Program: names.Program,
				Interface: s.Interface})
		}
	}
	for _, p := range d.running.Resolver.Program {
		for _, protocol := range plain {
			if p.Runs {
				list = append(list, yang.Listener{Port: p.Port, Protocol: protocol, Program: p.Name, Other: true})
			}
		}
	}
	if list == nil {
		return nil
	}
	return &yang.ResolverState{Listener: list}
}

// renames makes the resolver anew after a change of the configuration. The cache stays.
func (d *Device) renames() error {
	r := &d.names
	s := d.running.Resolver.Settings
	if s == nil {
		if r.listener != nil {
			go r.listener.Close() // its questions may wait for the lock that is held
		}
		*r = resolver{}
		d.config.Fabric.answers(d, nil)
		return nil
	}
	if r.cache == nil {
		r.cache = names.NewCache(s.CacheEntries)
	}
	r.settings, r.table = *s, nil
	r.server = names.NewServer(d.running, names.Around{Cache: r.cache, Leases: d.heldNames, Up: d.askUp,
		Serial: uint32(d.changed.Unix()), Anchors: d.config.Fabric.anchors()})
	if r.cert == nil || r.certName != s.TLSName {
		by, err := d.config.Fabric.certifier()
		if err != nil {
			return err
		}
		if r.cert, err = by.Certificate(s.TLSName); err != nil {
			return err
		}
		r.certName, r.trust = s.TLSName, by.Pool()
	}
	if r.listener == nil {
		var err error
		certs := &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: d.nameCertificate}
		if r.listener, err = resolve.Listen("127.0.0.1:0", resolve.Options{Certs: certs}, d.answerName); err != nil {
			return err
		}
	}
	e := resolve.Endpoint{Plain: r.listener.Addr(), Port: s.Port, Trust: r.trust}
	if s.TLSPort != 0 {
		e.TLS, e.TLSPort = r.listener.TLS(), s.TLSPort
	}
	d.config.Fabric.answers(d, &e)
	return nil
}

// nameCertificate is the certificate of the TLS listener, as the settings name it now.
func (d *Device) nameCertificate(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.names.cert, nil
}

func (f *Fabric) answers(d *Device, e *resolve.Endpoint) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if e == nil {
		delete(f.names, d)
		return
	}
	f.names[d] = *e
}

// NameServer is where the resolver of the device really answers, on the loopback interface: what asks
// there without saying as whom asks as the device itself.
func (d *Device) NameServer() (netip.AddrPort, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.names.listener == nil {
		return netip.AddrPort{}, false
	}
	return d.names.listener.Addr(), true
}

// heldNames is the names that leases of the device carry, made anew when a lease has changed.
func (d *Device) heldNames(now time.Time) *names.Table {
	d.mu.Lock()
	defer d.mu.Unlock()
	r := &d.names
	if generation := d.db.Generation(); r.table == nil || r.generation != generation {
		r.table = names.NewTable(names.HeldOf(d.running.DHCP, r.settings.LeaseNames, d.db.Leases(), now))
		r.generation = generation
	}
	return r.table
}

// answerName answers a question that came over a socket: of the device itself, or of a machine that says
// where it is, if the interface it comes in by lets it in.
func (d *Device) answerName(q resolve.Question) *dns.Msg {
	d.mu.Lock()
	server, hears, writes := d.names.server, !d.faults.Deaf && d.hearsName(q), d.names.writes(time.Now())
	d.mu.Unlock()
	if server == nil || !hears {
		return nil
	}
	by := names.Asker{From: q.From, Own: !q.From.IsValid()}
	if !writes {
		return server.Answer(time.Now(), q.Msg, by)
	}
	began := time.Now()
	reply, fell := server.Trace(began, q.Msg, by)
	if reply != nil && len(q.Msg.Question) == 1 {
		d.write(q, reply, fell, time.Since(began))
	}
	return reply
}

func (d *Device) hearsName(q resolve.Question) bool {
	if !q.From.IsValid() {
		return true
	}
	var on, in *yang.Interface // that is asked, and that the question comes in by
	for k := range d.running.Interfaces.Interface {
		i := &d.running.Interfaces.Interface[k]
		if i.IPv4 == nil || !i.Enabled {
			continue
		}
		for _, a := range i.IPv4.Address {
			if a.IP == q.To {
				on = i
			}
			if a.Prefix().Contains(q.From) {
				in = i
			}
		}
	}
	if in == nil {
		in = on
	}
	return on != nil && slices.Contains(d.names.settings.Interface, on.Name) && in.Accepts(site.PermitDNS)
}

// askUp asks another server from the device.
func (d *Device) askUp(to yang.NameServer, q *dns.Msg) (*dns.Msg, error) {
	d.mu.Lock()
	from := d.speaksFrom(to.Address)
	d.mu.Unlock()
	at, ok := d.config.Fabric.nameServer(to.Address)
	if !ok {
		return nil, resolve.ErrNobody
	}
	reply, _, err := resolve.Ask(from, to, at, q)
	return reply, err
}

// speaksFrom is the address that the device speaks to another from: that of the interface that
// forwarders are asked from, else one on its subnet, else its first.
func (d *Device) speaksFrom(to netip.Addr) netip.Addr {
	var first netip.Addr
	for _, i := range d.running.Interfaces.Interface {
		if i.IPv4 == nil || len(i.IPv4.Address) == 0 {
			continue
		}
		if at := i.IPv4.Address[0].IP; i.Name == d.names.settings.ForwardFrom {
			return at
		} else if !first.IsValid() && i.Uplink == nil {
			first = at
		}
		for _, a := range i.IPv4.Address {
			if a.Prefix().Contains(to) {
				return a.IP
			}
		}
	}
	return first
}

var errNoServer = errors.New("nothing answers names there")

// resolveAs asks a server as a machine at an address would, and says how long that took. Without a
// server the device asks its own resolver.
func (d *Device) resolveAs(from, server netip.Addr, name string, typ uint16) (*dns.Msg, time.Duration, error) {
	q := new(dns.Msg)
	q.SetQuestion(dns.Fqdn(name), typ)
	q.SetEdns0(names.MaxUDP, false)
	q.AuthenticatedData = true
	if !server.IsValid() {
		d.mu.Lock()
		l := d.names.listener
		d.mu.Unlock()
		if l == nil {
			return nil, 0, errNoServer
		}
		return resolve.Ask(netip.Addr{}, yang.NameServer{Port: 53}, resolve.Endpoint{Plain: l.Addr(), Port: 53}, q)
	}
	at, ok := d.config.Fabric.nameServer(server)
	if !ok {
		return nil, 0, errNoServer
	}
	return resolve.Ask(from, yang.NameServer{Address: server, Port: 53}, at, q)
}

// flushes is the name that a request to forget names is about: the root is a dot, nothing is everything.
func flushes(name string) string {
	if name == "." {
		return name
	}
	return zone.Tidy(name)
}
