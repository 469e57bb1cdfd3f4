package names

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/miekg/dns"

	"lithos/core/yang"
	"lithos/core/zone"
)

// MaxUDP is the largest answer over UDP in octets, whatever a client says it takes: one that no
// network has to fragment.
const MaxUDP = 1232

// Program is what a server says it is, where it does not keep that to itself.
const Program = "lithos-resolver"

// Server answers as the resolver of a device. It may be used by several goroutines; Now, Leases and
// Up are called by any of them.
type Server struct {
	settings yang.ResolverSettings
	zones    map[string]*book
	domains  map[string][]yang.NameServer
	silenced map[string]bool
	networks []netip.Prefix // whose addresses are near to askers in them
	cache    *Cache
	leases   func(now time.Time) *Table
	up       Up

	authority bool
	anchors   []*dns.DS

	asked, fromCache, forwarded, refused, failed atomic.Uint32
}

// Around is what a server needs beside its configuration. Each may be nil: then nothing is
// remembered, no lease has a name, and no other server answers.
type Around struct {
	Cache  *Cache
	Leases func(now time.Time) *Table
	Up     Up
	// Authority answers for its zones alone and refers to the servers of the parts below (RFC 1034
	// section 4.3.1): a server of the internet rather than a resolver.
	Authority bool
	// Anchors are the keys of the root that checking signatures begins with; without any nothing is
	// checked.
	Anchors []*dns.DS
	// Signed are the records that sign zones, by the name of the zone: keys, signatures, denials.
	Signed map[string][]dns.RR
	// Serial is what zones say of how new they are (RFC 1035 section 3.3.13); Serials is that of single zones, by name.
	Serial  uint32
	Serials map[string]uint32
}

// NewServer runs the resolver of a configuration; one without a resolver answers nobody.
func NewServer(c yang.Config, with Around) *Server {
	s := &Server{
		zones: map[string]*book{}, domains: map[string][]yang.NameServer{}, silenced: map[string]bool{},
		cache: with.Cache, leases: with.Leases, up: with.Up, authority: with.Authority,
		anchors: with.Anchors,
	}
	if c.Resolver.Settings != nil {
		s.settings = *c.Resolver.Settings
	}
	if s.cache == nil {
		s.cache = NewCache(0)
	} else {
		s.cache.Resize(s.settings.CacheEntries)
	}
	for _, z := range c.Resolver.Zone {
		serial := with.Serial
		if own, ok := with.Serials[z.Name]; ok {
			serial = own
		}
		s.zones[z.Name] = learn(z, serial)
		s.zones[z.Name].sign(with.Signed[z.Name])
	}
	for _, d := range s.settings.Domain {
		s.domains[d.Name] = d.Server
	}
	for _, d := range s.settings.Silenced {
		s.silenced[d] = true
	}
	s.networks = slices.Clone(s.settings.Asker)
	for _, i := range c.Interfaces.Interface {
		if i.IPv4 == nil {
			continue
		}
		for _, a := range i.IPv4.Address {
			s.networks = append(s.networks, a.Prefix().Masked())
		}
	}
	return s
}

// Counters is how many questions there were, since the server was made.
func (s *Server) Counters() yang.ResolverCounters {
	return yang.ResolverCounters{Asked: s.asked.Load(), FromCache: s.fromCache.Load(), Forwarded: s.forwarded.Load(),
		Refused: s.refused.Load(), Failed: s.failed.Load()}
}

// Answers reports whether the server answers an asker at all.
func (s *Server) Answers(by Asker) bool {
	return s.settings.Enabled && (by.Own || slices.ContainsFunc(s.settings.Asker,
		func(p netip.Prefix) bool { return p.Contains(by.From) }))
}

// Answer is the reply to a question; nil where none is sent. It is not yet cut to a size: see Fit.
func (s *Server) Answer(now time.Time, q *dns.Msg, by Asker) *dns.Msg {
	reply, _ := s.ask(now, q, by, nil)
	return reply
}

// Trace is Answer with what each layer made of the question.
func (s *Server) Trace(now time.Time, q *dns.Msg, by Asker) (*dns.Msg, []Fell) {
	steps := make([]Fell, 0, 8) // most ways are shorter
	return s.ask(now, q, by, &steps)
}

func (s *Server) ask(now time.Time, q *dns.Msg, by Asker, steps *[]Fell) (*dns.Msg, []Fell) {
	if q.Response || !s.settings.Enabled {
		return nil, nil // RFC 1034: an answer is never answered
	}
	s.asked.Add(1)
	f := &fall{Server: s, now: now, by: by, steps: steps, unchecked: q.CheckingDisabled,
		direct: !q.RecursionDesired}
	opt := q.IsEdns0()
	f.signed = opt != nil && opt.Do()
	reply := new(dns.Msg)
	reply.SetReply(q)
	reply.RecursionAvailable = !s.authority
	reply.Compress = true
	r, done := f.judge(q)
	if !done {
		r = f.question(q.Question[0])
	}
	reply.Answer, reply.Ns, reply.Authoritative = r.answer, r.soa, r.own && len(r.answer)+len(r.soa) > 0
	reply.Extra = r.extra
	reply.AuthenticatedData = r.secure && (f.signed || q.AuthenticatedData) // RFC 6840 section 5.8
	if f.signed {
		reply.Answer, reply.Ns = slices.Concat(reply.Answer, r.sigs), slices.Concat(reply.Ns, r.proof)
	}
	if opt != nil {
		reply.SetEdns0(MaxUDP, opt.Do())
	}
	if opt := reply.IsEdns0(); opt != nil && r.bogus { // RFC 8914 section 4.7
		opt.Option = append(opt.Option, &dns.EDNS0_EDE{InfoCode: dns.ExtendedErrorCodeDNSBogus})
	}
	reply.Rcode = r.code // of which the message puts the upper bits into the OPT record (RFC 6891 section 6.1.3)
	switch r.code {
	case dns.RcodeRefused:
		s.refused.Add(1)
	case dns.RcodeServerFailure:
		s.failed.Add(1)
	}
	if steps == nil {
		return reply, nil
	}
	return reply, *steps
}

// judge is about messages that are not looked up: who is not answered, and what is not done.
func (f *fall) judge(q *dns.Msg) (r result, done bool) {
	switch {
	case !f.Answers(f.by):
		f.step(Access, Stopped, "Refused", fmt.Sprintf("%s may not ask this resolver.", f.by.From), "")
		return result{code: dns.RcodeRefused}, true
	case q.Opcode != dns.OpcodeQuery:
		return result{code: dns.RcodeNotImplemented}, true
	case len(q.Question) != 1, !extensionLawful(q):
		return result{code: dns.RcodeFormatError}, true
	}
	if opt := q.IsEdns0(); opt != nil && opt.Version() != 0 {
		return result{code: dns.RcodeBadVers}, true
	}
	one := q.Question[0]
	switch {
	case one.Qclass == dns.ClassCHAOS:
		return f.identity(one), true
	case one.Qclass != dns.ClassINET, slices.Contains(transfers, one.Qtype):
		return result{code: dns.RcodeRefused}, true
	}
	f.step(Access, Passed, "May ask", "", "")
	return r, false
}

// extensionLawful reports whether a message has one OPT record at most, of the root, in its additional section (RFC
// 6891 section 6.1.1).
func extensionLawful(q *dns.Msg) bool {
	isOPT := func(rr dns.RR) bool { return rr.Header().Rrtype == dns.TypeOPT }
	if slices.ContainsFunc(q.Answer, isOPT) || slices.ContainsFunc(q.Ns, isOPT) {
		return false
	}
	seen := false
	for _, rr := range q.Extra {
		if !isOPT(rr) {
			continue
		}
		if seen || rr.Header().Name != "." {
			return false
		}
		seen = true
	}
	return true
}

// transfers are types that ask for more than records of one name, which a resolver does not answer.
var transfers = []uint16{dns.TypeAXFR, dns.TypeIXFR, dns.TypeMAILA, dns.TypeMAILB, dns.TypeOPT}

// identity says which program answers, in class CHAOS, which monitoring asks for (RFC 4892).
func (f *fall) identity(q dns.Question) result {
	known := slices.Contains([]string{"version.server", "id.server"}, zone.Tidy(q.Name))
	if f.settings.HideIdentity || !known || q.Qtype != dns.TypeTXT {
		return result{code: dns.RcodeRefused}
	}
	h := dns.RR_Header{Name: q.Name, Rrtype: dns.TypeTXT, Class: dns.ClassCHAOS}
	return result{answer: []dns.RR{&dns.TXT{Hdr: h, Txt: []string{Program}}}}
}

// Fit cuts a reply to what its way back carries: over UDP what the client takes, at most MaxUDP (RFC
// 6891 section 6.2.5); over a stream what a message can hold. What is cut off is asked for again over
// TCP.
func Fit(reply, question *dns.Msg, stream bool) *dns.Msg {
	size := dns.MinMsgSize
	if opt := question.IsEdns0(); opt != nil {
		size = min(max(int(opt.UDPSize()), dns.MinMsgSize), MaxUDP)
	}
	if stream {
		size = dns.MaxMsgSize
	}
	reply.Truncate(size)
	return reply
}

// fall is one question on its way through the layers.
type fall struct {
	*Server
	now   time.Time
	by    Asker
	steps *[]Fell
	asks  int // other servers asked

	signed    bool // that signatures are asked for (RFC 3225)
	unchecked bool // that the asker checks them itself (RFC 4035 section 3.2.2)
	direct    bool // that nobody else is to be asked (RFC 1035 section 4.1.1, RD)
}

// result is what came of a question.
type result struct {
	code   int
	answer []dns.RR
	soa    []dns.RR // in the authority section of a negative answer (RFC 2308)
	extra  []dns.RR // addresses of the servers that are referred to
	own    bool     // that the server itself is the authority
	sigs   []dns.RR // signatures of the answer
	proof  []dns.RR // signatures of the authority section, and denials with theirs
	secure bool     // that the signatures of a forwarder's answer hold
	bogus  bool     // that they do not
}

func (f *fall) traced() bool { return f.steps != nil }

// step notes what a layer made of the question. id is the id of a record that decided.
func (f *fall) step(layer, state, title, says, id string) {
	if f.steps == nil {
		return
	}
	of, _, _ := strings.Cut(id, "/")
	*f.steps = append(*f.steps, Fell{Layer: layer, State: state, Title: title, Says: says, Of: of})
}

func (f *fall) question(q dns.Question) result {
	name := zone.Tidy(q.Name)
	if q.Qtype == dns.TypeANY {
		// RFC 8482 section 4.2: a small answer of a made-up record, which leads nobody to ask for more.
		h := dns.RR_Header{Name: q.Name, Rrtype: dns.TypeHINFO, Class: dns.ClassINET, Ttl: 3600}
		f.step(
			Outcome,
			Answered,
			"Not all types at once",
			"A question for every type is answered with one line (RFC 8482).",
			"",
		)
		return result{answer: []dns.RR{&dns.HINFO{Hdr: h, Cpu: "RFC8482"}}}
	}
	var r result
	seen := map[string]bool{}
	for at := name; ; {
		if seen[at] || len(seen) > maxAliases {
			f.step(Outcome, Stopped, "The aliases go round in a circle", at+" leads back to itself.", "")
			r.code, r.soa = dns.RcodeServerFailure, nil
			return r
		}
		seen[at] = true
		next, alias := f.layers(at, q.Qtype)
		r.answer = append(r.answer, next.answer...)
		r.code, r.soa, r.extra = next.code, next.soa, next.extra
		r.sigs, r.proof = append(r.sigs, next.sigs...), append(r.proof, next.proof...)
		r.secure, r.bogus = next.secure && (len(seen) == 1 || r.secure), next.bogus
		r.own = next.own && (len(seen) == 1 || r.own)
		if alias == "" {
			return restore(r, q)
		}
		at = alias
	}
}

// restore gives the first records the name as it was asked, with its capitals (RFC 4343 section 3).
func restore(r result, q dns.Question) result {
	otherwise := func(rr dns.RR) bool {
		n := rr.Header().Name
		return n != q.Name && strings.EqualFold(n, q.Name)
	}
	if !slices.ContainsFunc(r.answer, otherwise) {
		return r
	}
	r.answer = slices.Clone(r.answer) // it may be kept for others
	for i, rr := range r.answer {
		if otherwise(rr) {
			r.answer[i] = dns.Copy(rr)
			r.answer[i].Header().Name = q.Name
		}
	}
	return r
}

// layers lets a question fall through the layers. alias is the name that the answer leads on to.
func (f *fall) layers(name string, typ uint16) (r result, alias string) {
	if domain := f.silencedBy(name); domain != "" {
		f.step(
			Silenced,
			Stopped,
			"Blocked domains",
			domain+" is on the list of blocked domains.",
			"",
		)
		return result{soa: []dns.RR{emptySOA(domain)}, own: true}, ""
	}
	if zone.Labels(name) == 1 && forAddresses(typ) && f.zones[name] == nil && special[name] == "" {
		if r, alias, done := f.short(name, typ); done {
			return r, alias
		}
	}
	if r, ok := f.leased(name, typ); ok {
		return r, ""
	}
	if r, alias, ok := f.local(name, typ); ok {
		return r, alias
	}
	return f.beyond(name, typ)
}

// beyond is about names that no zone here answers for.
func (f *fall) beyond(name string, typ uint16) (result, string) {
	if domain, list := f.serversFor(name); list != nil {
		f.step(Servers, Followed, "Asked of the servers of "+domain, addressesOf(list), "")
		return f.forward(name, typ, list)
	}
	if f.settings.KeepPrivate {
		if r, ok := f.home(name, typ); ok {
			return r, ""
		}
	}
	return f.forward(name, typ, nil)
}

func (f *fall) silencedBy(name string) string {
	if len(f.silenced) == 0 {
		return ""
	}
	for at := name; at != ""; {
		if f.silenced[at] {
			return at
		}
		at = zone.Above(at)
	}
	return ""
}

// forAddresses reports whether a question is what programs ask to reach a machine: its addresses, and how to speak to
// it (RFC 9460). Other questions of one word, such as for the servers of a top-level domain, mean just that.
func forAddresses(typ uint16) bool {
	return typ == dns.TypeA || typ == dns.TypeAAAA || typ == dns.TypeHTTPS
}

// short is about a name of one word, which a client did not complete.
func (f *fall) short(name string, typ uint16) (r result, alias string, done bool) {
	if domain := f.settings.Completion; domain != "" {
		whole := name + "." + domain
		mark := 0
		if f.traced() {
			mark = len(*f.steps)
			f.step(
				Short,
				Followed,
				"Completed to "+whole,
				"The resolver puts the site's domain behind a name of one word.",
				"",
			)
		}
		r, ok := f.leased(whole, typ)
		if !ok {
			r, alias, ok = f.local(whole, typ)
		}
		if ok && r.code == dns.RcodeSuccess {
			r.answer = renamed(r.answer, name)
			return r, alias, true
		}
		if f.traced() {
			*f.steps = (*f.steps)[:mark]
			f.step(Short, Passed, "Not completed", whole+" is not there.", "")
		}
	}
	if f.settings.KeepShort {
		f.step(Short, Stopped, "No such name", "A name of one word is never sent out.", "")
		return result{code: dns.RcodeNameError, soa: []dns.RR{emptySOA("")}, own: true}, "", true
	}
	return r, "", false
}

// serversFor is who answers for the longest domain that a name is in.
func (f *fall) serversFor(name string) (domain string, list []yang.NameServer) {
	if len(f.domains) == 0 {
		return "", nil
	}
	for at := name; at != ""; {
		if list := f.domains[at]; list != nil {
			return at, list
		}
		at = zone.Above(at)
	}
	return "", nil
}

// home is about what never leaves.
func (f *fall) home(name string, typ uint16) (result, bool) {
	domain, why, ok := atHome(name)
	if !ok {
		return result{}, false
	}
	if domain == "localhost" {
		list := localhost(name, typ)
		f.step(Home, Answered, "The machine itself", why, "")
		if list == nil {
			return result{soa: []dns.RR{emptySOA(domain)}, own: true}, true
		}
		return result{answer: list, own: true}, true
	}
	f.step(Home, Stopped, "Not forwarded", why+" Nothing written here has this name, and nobody else is asked.", "")
	r := result{code: dns.RcodeNameError, soa: []dns.RR{emptySOA(domain)}, own: true}
	if name == domain {
		r.code = dns.RcodeSuccess
	}
	return r, true
}

func typeName(typ uint16) string {
	if name, ok := dns.TypeToString[typ]; ok {
		return name
	}
	return fmt.Sprintf("TYPE%d", typ)
}
