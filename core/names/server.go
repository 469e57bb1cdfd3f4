package names

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/miekg/dns"

	"lithos/core/site"
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

// fall is one question on its way through the strata.
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
func (f *fall) step(stratum, state, title, says, id string) {
	if f.steps == nil {
		return
	}
	of, _, _ := strings.Cut(id, "/")
	*f.steps = append(*f.steps, Fell{Stratum: stratum, State: state, Title: title, Says: says, Of: of})
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
	for i, rr := range r.answer {
		if n := rr.Header().Name; n != q.Name && strings.EqualFold(n, q.Name) {
			if r.answer[i] == rr {
				r.answer = slices.Clone(r.answer)
			}
			r.answer[i] = dns.Copy(rr)
			r.answer[i].Header().Name = q.Name
		}
	}
	return r
}

// layers lets a question fall through the strata. alias is the name that the answer leads on to.
func (f *fall) layers(name string, typ uint16) (r result, alias string) {
	if domain := f.silencedBy(name); domain != "" {
		f.step(
			Silenced,
			Stopped,
			"Answered with nothing",
			domain+" is on the list of domains answered with nothing.",
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

// leased is about names of leases, and the reverse names of their addresses.
func (f *fall) leased(name string, typ uint16) (result, bool) {
	domain := f.settings.LeaseDomain
	if domain == "" || f.leases == nil {
		return result{}, false
	}
	table := f.leases(f.now)
	if a, ok := zone.Reversed(name); ok {
		h, held := table.at(a)
		if !held || !h.Expires.After(f.now) {
			return result{}, false
		}
		if n := f.nodeOf(name); n != nil && len(n.sets[dns.TypePTR])+len(n.sets[dns.TypeCNAME]) > 0 {
			return result{}, false
		}
		if owner := f.nodeOf(h.Name + "." + domain); owner != nil {
			return result{}, false // another has that name
		}
		return f.ofLease(typ, dns.TypePTR, h, &dns.PTR{Hdr: f.leaseHeader(name, dns.TypePTR, h),
			Ptr: dns.Fqdn(h.Name + "." + domain)}), true
	}
	label, ok := zone.Relative(name, domain)
	if !ok || zone.Labels(label) != 1 {
		return result{}, false
	}
	h, held := table.called(label)
	held = held && h.Expires.After(f.now)
	if n := f.nodeOf(name); n != nil && held { // what is written counts before a lease
		if f.traced() {
			f.step(
				Leases,
				Passed,
				"A lease says this name too",
				fmt.Sprintf("What is written counts before the lease of %s.",
					h.Address),
				"",
			)
		}
		return result{}, false
	}
	if !held {
		f.step(Leases, Passed, "No lease has this name", "Nobody is called "+label+".", "")
		return result{}, false
	}
	return f.ofLease(typ, dns.TypeA, h, &dns.A{Hdr: f.leaseHeader(name, dns.TypeA, h), A: h.Address.AsSlice()}), true
}

func (f *fall) ofLease(asked, has uint16, h Held, rr dns.RR) result {
	if f.traced() {
		f.step(Leases, Answered, "A lease has this name", fmt.Sprintf("%s holds %s until %s.", h.Name, h.Address,
			h.Expires.Format("15:04:05")), "")
	}
	if asked != has {
		return result{own: true, soa: f.leaseSOA(rr.Header().Name)}
	}
	return result{answer: []dns.RR{rr}, own: true}
}

// leaseHeader makes a record of a lease, which nobody keeps longer than the lease lasts.
func (f *fall) leaseHeader(name string, typ uint16, h Held) dns.RR_Header {
	left := uint32(h.Expires.Sub(f.now) / time.Second)
	return dns.RR_Header{Name: dns.Fqdn(name), Rrtype: typ, Class: dns.ClassINET,
		Ttl: min(uint32(f.settings.LocalTTL), left)}
}

func (f *fall) leaseSOA(name string) []dns.RR {
	if b := f.zoneOf(zone.Tidy(name)); b != nil {
		return []dns.RR{negative(b.soa)}
	}
	return []dns.RR{emptySOA(f.settings.LeaseDomain)}
}

// zoneOf is the zone that a name is in: the longest; nil where another server's domain is longer, or
// for a name in none.
func (f *fall) zoneOf(name string) *book {
	for at := name; ; {
		if b := f.zones[at]; b != nil {
			return b
		}
		if f.domains[at] != nil || at == "" {
			return nil
		}
		at = zone.Above(at)
	}
}

// nodeOf is the node of a name in its zone; nil where it is not there.
func (f *fall) nodeOf(name string) *node {
	if b := f.zoneOf(name); b != nil {
		return b.nodes[name]
	}
	return nil
}

// local looks in the zones that the server answers for.
func (f *fall) local(name string, typ uint16) (r result, alias string, ok bool) {
	b := f.zoneOf(name)
	if b == nil {
		if domain := f.settings.LeaseDomain; domain != "" && zone.Within(name, domain) {
			f.step(Leases, Stopped, "No such name", "Names in "+domain+" are those of leases alone.", "")
			return result{code: dns.RcodeNameError, soa: []dns.RR{emptySOA(domain)}, own: true}, "", true
		}
		return result{}, "", false
	}
	if typ == dns.TypeDS && f.authority && name == b.name && name != "" {
		above := zone.Above(name)
		if parent := f.zoneOf(above); parent != nil {
			b = parent // what is told of a zone's keys is in the zone above (RFC 4035 section 3.1.4.1)
		}
	}
	found := b.find(name, typ)
	if b.leaves(found, name) {
		f.step(Zones, Passed, "In "+b.name, name+" is not there, and others are asked.", "")
		r, alias = f.beyond(name, typ)
		return r, alias, true
	}
	if len(b.chain) > 0 {
		defer func() { r.sigs, r.proof = b.proven(r, found, name) }()
	}
	switch {
	case found.cut != nil && f.authority:
		return result{soa: found.cut, extra: b.glueRecords(found.cut)}, "", true
	case found.cut != nil:
		list := b.glue(found.cut)
		f.step(Zones, Followed, found.cutAt+" is another server's", addressesOf(list), "")
		r, alias = f.forward(name, typ, list)
		return r, alias, true
	case found.alias != "":
		if f.traced() {
			f.step(Zones, Followed, "In "+b.name, f.from(found, name)+" is an alias of "+found.alias, found.of)
		}
		return result{answer: found.records, own: true}, found.alias, true
	case len(found.records) > 0:
		list := nearest(found.records, f.by.From, f.networks)
		if f.traced() {
			says := f.from(found, name) + " is " + values(list) + " · TTL " +
				strconv.FormatUint(uint64(list[0].Header().Ttl), 10) + " s"
			f.step(Zones, Answered, "In "+b.name, says, found.of)
		}
		return result{answer: list, own: true}, "", true
	case found.exists:
		if f.traced() {
			f.step(Zones, Stopped, "In "+b.name, fmt.Sprintf("%s is there and has no %s.", name, typeName(typ)), "")
		}
		return result{soa: []dns.RR{negative(b.soa)}, own: true}, "", true
	default:
		f.step(Zones, Stopped, "In "+b.name, name+" is not there, and nobody else is asked.", "")
		return result{code: dns.RcodeNameError, soa: []dns.RR{negative(b.soa)}, own: true}, "", true
	}
}

// from is how a found name is called in a trace.
func (f *fall) from(found found, name string) string {
	if found.star != "" {
		return name + ", of the wildcard " + found.star + ","
	}
	return name
}

// negative is a zone's SOA as it says how long a missing name may be remembered (RFC 2308 section 3).
func negative(soa *dns.SOA) dns.RR {
	out := *soa
	out.Hdr.Ttl = min(soa.Hdr.Ttl, soa.Minttl)
	return &out
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
	f.step(Home, Stopped, "Kept at home", why+" Nothing written here has this name, and nobody else is asked.", "")
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

// Table is the names that leases carry.
type Table struct {
	byName map[string]Held
	byAddr map[netip.Addr]Held
}

// NewTable makes the names of leases ready to be looked up. Of two leases of one name that of a
// reservation counts, then the older.
func NewTable(list []Held) *Table {
	t := &Table{byName: map[string]Held{}, byAddr: make(map[netip.Addr]Held, len(list))}
	for _, h := range list {
		if was, had := t.byName[h.Name]; had && !before(h, was) {
			continue
		}
		t.byName[h.Name] = h
	}
	for _, h := range t.byName {
		t.byAddr[h.Address] = h
	}
	return t
}

func before(a, b Held) bool {
	switch {
	case a.Reserved != b.Reserved:
		return a.Reserved
	case !a.Since.Equal(b.Since):
		return a.Since.Before(b.Since)
	}
	return a.Address.Less(b.Address)
}

// Clashes lists the leases whose name another carries, of those that NewTable is given.
func (t *Table) Clashes(list []Held) []Held {
	var out []Held
	for _, h := range list {
		if t.byName[h.Name].Address != h.Address {
			out = append(out, h)
		}
	}
	return out
}

func (t *Table) called(name string) (Held, bool) { h, ok := t.byName[name]; return h, ok }
func (t *Table) at(a netip.Addr) (Held, bool)    { h, ok := t.byAddr[a]; return h, ok }

// Len is how many names there are.
func (t *Table) Len() int { return len(t.byName) }

// LeaseNames is what of its leases a resolver gives names: see site.LeaseNamesAll.
func LeaseNames(setting string, h Held) bool {
	return setting == site.LeaseNamesAll || setting == site.LeaseNamesReserved && h.Reserved
}
