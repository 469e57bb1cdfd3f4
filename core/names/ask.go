package names

import (
	"cmp"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"lithos/core/compile"
	"lithos/core/dhcp"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/core/zone"
)

// ErrBeyond is what an Up says of a server whose answer is not known here: one on the internet, or at
// another site.
var ErrBeyond = errors.New("what it answers is not known here")

// What came of a question that a client asked.
const (
	Found     = "answer"       // records
	Nothing   = "nothing"      // the name is there, with no record of the type
	NoName    = "no such name" // the name is not there
	Refused   = "refused"
	Failed    = "failed"     // the server failed
	Silent    = "no answer"  // nobody answered
	Elsewhere = "not known"  // a server is asked whose answers are not known here
	Internet  = "internet"   // who asks from outside
	noServers = "no servers" // the client is told none
)

// Question is what somebody asks.
type Question struct {
	Who  string // kind:id of a network, reservation, fixed device or device; or Internet
	Name string // as typed
	Type string // of record, for example A
}

// Answer is a question with what came of it, and how.
type Answer struct {
	Who      string    `json:"who"`               // in words
	Network  string    `json:"network,omitempty"` // id of the asker's
	Typed    string    `json:"typed"`
	Type     string    `json:"type"`
	Name     string    `json:"name"` // the whole name that was asked for last
	Steps    []Fell    `json:"steps"`
	Outcome  string    `json:"outcome" enum:"answer,nothing,no such name,refused,failed,no answer,not known,no servers"`
	Values   []string  `json:"values"`
	TTL      uint32    `json:"ttl,omitempty"` // seconds, the shortest
	Server   string    `json:"server,omitempty"`
	Device   string    `json:"device,omitempty"`   // id of the device that answered
	Resolver string    `json:"resolver,omitempty"` // id of its resolver
	Message  *Wire     `json:"message,omitempty"`
	At       time.Time `json:"at"`
}

// World is a site with its resolvers running, as its document has them. It is not safe for concurrent
// use.
type World struct {
	now     time.Time
	site    *site.Site
	book    *compile.Book
	leases  map[string][]dhcp.Lease
	common  compile.Everywhere
	servers map[string]*Server
	outside *Server
	live    Live                // nil where answers are computed
	read    map[string]ReadZone // by name
	beside  map[string][]yang.Program
}

// ReadZone is what the server of an outside zone held when it was read last.
type ReadZone struct {
	At      time.Time
	Serial  uint32
	Records []zone.Record
	// Whole says that the internet is answered from it. In a draft only what follows a line is: the rest is proposed.
	Whole bool
}

// Read gives the world what the servers of outside zones held, by the name of the zone.
func (w *World) Read(zones map[string]ReadZone) { w.read = zones }

// Beside gives the world the programs that listen for names beside the resolvers, by device id, as they were read last.
func (w *World) Beside(programs map[string][]yang.Program) { w.beside = programs }

// taken says which program keeps the resolver of a device from listening; empty for none.
func (w *World) taken(d *site.Device, s *Server) string {
	for _, p := range w.beside[d.ID] {
		if p.Holds(&s.settings) && !s.settings.StopOthers {
			return fmt.Sprintf("%s held port %d of %s when it was last read, and its resolver cannot listen beside it.",
				p.Name, p.Port, d.Name)
		}
	}
	return ""
}

// Live asks a name server for somebody, where the devices themselves answer. An invalid server is the
// device's own. took is how long that took; problem is why there is no answer.
type Live func(by Asking, server netip.Addr, name string, typ uint16) (m *dns.Msg, took time.Duration, problem string)

// NewLive is the world in which devices are asked; the document says who asks whom.
func NewLive(now time.Time, s *site.Site, book *compile.Book, ask Live) *World {
	w := NewWorld(now, s, book, nil)
	w.live = ask
	return w
}

// NewWorld sets the resolvers of a site up. book is its names, leases those that its devices hold, by
// device id.
func NewWorld(now time.Time, s *site.Site, book *compile.Book, leases map[string][]dhcp.Lease) *World {
	return &World{now: now, site: s, book: book, leases: leases, common: compile.Common(s),
		servers: map[string]*Server{}}
}

// server is the resolver of a device; ok is false for a device without one.
func (w *World) server(d *site.Device) (s *Server, ok bool) {
	if s, ok = w.servers[d.ID]; ok {
		return s, s != nil
	}
	c := yang.Config{Resolver: compile.Resolver(w.site, d.ID, w.book)}
	if c.Resolver.Settings == nil {
		w.servers[d.ID] = nil
		return nil, false
	}
	held := NewTable(HeldOf(compile.Device(w.site, d.ID).DHCP, c.Resolver.Settings.LeaseNames, w.leases[d.ID], w.now))
	s = NewServer(c, Around{Leases: func(time.Time) *Table { return held }, Up: w.up(d)})
	w.servers[d.ID] = s
	return s, true
}

// HeldOf is the names that the leases of a device carry: that of its reservation, else what the client
// says, made lawful. setting is which leases carry any.
func HeldOf(c yang.DHCPServer, setting string, leases []dhcp.Lease, now time.Time) []Held {
	if setting == "" || setting == site.LeaseNamesOff {
		return nil
	}
	reserved := map[netip.Addr]string{}
	for _, r := range c.Reservation {
		reserved[r.Address] = r.Name
	}
	var out []Held
	for i := range leases {
		l := &leases[i]
		own, is := reserved[l.Address]
		h := Held{Address: l.Address, Since: l.Since, Expires: l.Expires, Reserved: is}
		if l.StateAt(now) != dhcp.Bound || !LeaseNames(setting, h) {
			continue
		}
		said := l.HostName
		if own != "" {
			said = own
		}
		if name, lawful := option.LawfulLabel(said); lawful {
			h.Name = name
			out = append(out, h)
		}
	}
	return out
}

// up asks the other servers of a device: another resolver of the site, or what the site's outside zones
// say. What others answer is not known.
func (w *World) up(from *site.Device) Up {
	return func(to yang.NameServer, q *dns.Msg) (*dns.Msg, error) {
		if d, on, ok := w.site.HolderOf(to.Address); ok {
			if d.ID == from.ID {
				return nil, errors.New("it would ask itself")
			}
			s, has := w.server(d)
			if !has || !s.listens(on.Name, to) || w.taken(d, s) != "" {
				return nil, errors.New("nothing answers names there")
			}
			return s.Answer(w.now, q, Asker{From: addressOf(from, to.Address)}), nil
		}
		if compile.Find(w.book.Outside, zone.Tidy(q.Question[0].Name)) != nil && !to.Address.IsPrivate() {
			return w.world().Answer(w.now, q, Asker{Own: true}), nil
		}
		return nil, ErrBeyond
	}
}

// addressOf is the address that a device speaks to another from: one on its subnet, else its first.
func addressOf(d *site.Device, to netip.Addr) netip.Addr {
	var first netip.Addr
	for _, i := range d.Interfaces {
		for _, a := range i.Addresses {
			if a.Contains(to) {
				return a.Addr()
			}
			if !first.IsValid() && i.Kind != site.Uplink {
				first = a.Addr()
			}
		}
	}
	return first
}

// listens reports whether the server takes questions on an interface, at a port.
func (s *Server) listens(iface string, to yang.NameServer) bool {
	at := to.Port == s.settings.Port || to.TLSName != "" && to.Port == s.settings.TLSPort
	return s.settings.Enabled && at && slices.Contains(s.settings.Interface, iface)
}

// world is the zones seen from outside, as a server of the internet answers for them.
func (w *World) world() *Server {
	if w.outside == nil {
		c := yang.Config{Resolver: yang.Resolver{Settings: &yang.ResolverSettings{Enabled: true}}}
		serials := map[string]uint32{}
		for _, p := range w.book.Outside {
			z := compile.Zone(p, "ns."+p.Name)
			if read, ok := w.read[p.Name]; ok {
				serials[p.Name] = read.Serial
				if read.Whole {
					z.Record = nil
				}
				for _, r := range read.Records {
					_, follows := w.site.FollowerOf(zone.Absolute(r.Owner, p.Name))
					if read.Whole || follows && (r.Type == "A" || r.Type == "AAAA") {
						z.Record = append(z.Record, yang.Record{Owner: r.Owner, Type: r.Type, Data: r.Data, TTL: r.TTL})
					}
				}
			}
			c.Resolver.Zone = append(c.Resolver.Zone, z)
		}
		w.outside = NewServer(c, Around{Serials: serials})
	}
	return w.outside
}

// Asking is somebody who asks: where, and what it was told.
type Asking struct {
	Who     string // in words
	Network *site.Network
	From    netip.Addr
	Own     *site.Device // the device itself, when it asks
	Servers []netip.Addr
	Told    string // how it knows its servers, in words
	Search  []string
	List    string // how it knows its search list, in words
}

// Asker finds who asks. The error says what to name instead.
func (w *World) Asker(who string) (Asking, error) {
	ref := site.ParseRef(who)
	var a Asking
	switch ref.Kind {
	case site.KindNetwork:
		n, ok := w.site.Network(ref.ID)
		if !ok {
			return a, fmt.Errorf("%q is not a network of this site; choose one of the list", ref.ID)
		}
		a = Asking{Who: "a client of " + n.Name, Network: n, From: strangerOn(n)}
		w.tell(&a, compile.For{Network: n, Pool: w.poolOf(n)})
	case site.KindReservation, site.KindFixedDevice:
		return w.pinned(ref)
	case site.KindDevice:
		d, ok := w.site.Device(ref.ID)
		if !ok {
			return a, fmt.Errorf("%q is not a device of this site; choose one of the list", ref.ID)
		}
		a = Asking{Who: d.Name, Own: d, From: addressOf(d, netip.Addr{}), Search: nonempty(w.site.Domain),
			List: "the site's domain"}
		if _, own := w.server(d); !own {
			w.tellDevice(&a, d)
		}
	default:
		return a, fmt.Errorf("%q does not ask; choose a client, a network, a device or the internet", who)
	}
	return a, nil
}

// tellDevice says which name servers a device without a resolver has: those of the whole site; else those that clients
// beside it are told; else those that its uplink learnt.
func (w *World) tellDevice(a *Asking, d *site.Device) {
	w.tell(a, compile.For{})
	for i := 0; i < len(w.site.Networks) && len(a.Servers) == 0; i++ {
		n := &w.site.Networks[i]
		if n.Prefix.Contains(a.From) {
			w.tell(a, compile.For{Network: n, Pool: w.poolOf(n)})
		}
	}
	for _, i := range d.Interfaces {
		if len(a.Servers) == 0 && i.Uplink != nil {
			a.Servers, a.Told = i.Uplink.LearntServers, "as its uplink learnt them, when they were written down"
		}
	}
}

func nonempty(s string) []string {
	if s == "" {
		return nil
	}
	return []string{s}
}

// pinned is a client with an address of its own: of a reservation, or one that holds it itself.
func (w *World) pinned(ref site.Ref) (Asking, error) {
	var a Asking
	var told compile.For
	network, noun := "", "reservation"
	if r, ok := w.site.Reservation(ref.ID); ok && ref.Kind == site.KindReservation {
		told.Pool, _ = compile.PoolOf(w.site, r)
		told.Reservation, network = r, r.Network
		a.Who, a.From = r.NameOrAddress(), r.Address
	}
	f, fixed := w.site.FixedDevice(ref.ID)
	if ref.Kind == site.KindFixedDevice {
		noun = "fixed device"
		if fixed {
			network, a.Who, a.From = f.Network, f.Name, f.Address
		}
	}
	n, ok := w.site.Network(network)
	if !ok {
		return a, fmt.Errorf("%q is not a %s of this site; choose one of the list", ref.ID, noun)
	}
	a.Network, told.Network = n, n
	if ref.Kind == site.KindFixedDevice {
		told.Pool = w.poolOf(n)
	}
	w.tell(&a, told)
	if d, i, tunnel := w.site.TunnelOf(n); tunnel && len(a.Servers) > 0 {
		a.Told = fmt.Sprintf("as %s tells who comes in by %s", d.Name, i.Name)
	} else if ref.Kind == site.KindFixedDevice {
		a.Told = "as clients of " + n.Name + " are told; what is typed on the device itself is not known"
	}
	return a, nil
}

func (w *World) poolOf(n *site.Network) *site.Pool {
	i := slices.IndexFunc(w.site.Pools, func(p site.Pool) bool { return p.Network == n.ID })
	if i < 0 {
		return nil
	}
	return &w.site.Pools[i]
}

// strangerOn is an address of a network for a client nobody knows.
func strangerOn(n *site.Network) netip.Addr {
	a := n.Prefix.Masked().Addr()
	for i := 0; i < 2 && n.Prefix.Contains(a.Next()); i++ {
		a = a.Next()
	}
	return a
}

// tell says which name servers and which search list a client has, with where that is set.
func (w *World) tell(a *Asking, c compile.For) {
	told := w.common.Effective(c)
	if t, ok := compile.Value(told, option.NameServers); ok {
		a.Servers, a.Told = compile.Addresses(told, option.NameServers), "option 6, set on "+t.From.Name
	}
	if t, ok := compile.Value(told, option.SearchList); ok {
		for name := range strings.SplitSeq(t.Value, ",") {
			a.Search = append(a.Search, zone.Tidy(name))
		}
		a.List = "its search list (option 119, set on " + t.From.Name + ")"
		return
	}
	if t, ok := compile.Value(told, option.DomainName); ok {
		a.Search, a.List = []string{zone.Tidy(t.Value)}, "its domain (option 15, set on "+t.From.Name+")"
	}
}

// With is a client with what it was really told, for an address it was given.
func (w *World) With(n *site.Network, from netip.Addr, servers []netip.Addr, search []string) Asking {
	return Asking{Who: "the client", Network: n, From: from, Servers: servers, Told: "as it was told", Search: search,
		List: "what it was told"}
}

// Ask asks a question and says how it was answered. The error names the field that cannot be asked.
func (w *World) Ask(q Question) (Answer, error) {
	typ, name, err := readQuestion(q)
	if err != nil {
		return Answer{}, err
	}
	if q.Who == Internet && w.live != nil {
		return Answer{}, site.FieldErrors{{Field: "who", Says: "no device stands outside; choose a client, a " +
			"network or a device"}}
	}
	if q.Who == Internet {
		return w.fromOutside(q, name, typ), nil
	}
	by, err := w.Asker(q.Who)
	if err != nil {
		return Answer{}, site.FieldErrors{{Field: "who", Says: err.Error()}}
	}
	return w.AskAs(by, name, typ), nil
}

func readQuestion(q Question) (typ uint16, name string, err error) {
	typ, ok := dns.StringToType[strings.ToUpper(strings.TrimSpace(q.Type))]
	if q.Type == "" {
		typ, ok = dns.TypeA, true
	}
	if !ok {
		return 0, "", site.FieldErrors{{Field: "type", Says: fmt.Sprintf("%q is not a type of record; type for "+
			"example A",
			q.Type)}}
	}
	name = strings.TrimSpace(q.Name)
	if a, err := netip.ParseAddr(name); err == nil && a.Zone() == "" {
		reverse, err := dns.ReverseAddr(a.Unmap().String()) // what looks an address up asks
		return dns.TypePTR, reverse, err
	}
	if name == "." {
		return typ, name, nil // the root
	}
	if err := zone.CheckName(zone.Tidy(name)); err != nil {
		return 0, "", site.FieldErrors{{Field: "name", Says: err.Error()}}
	}
	return typ, name, nil
}

// AskAs is Ask for somebody who was found, of a name as typed.
func (w *World) AskAs(by Asking, typed string, typ uint16) Answer {
	a := Answer{Who: by.Who, Typed: strings.TrimSuffix(typed, "."), Type: typeName(typ), At: w.now, Values: []string{}}
	if by.Network != nil {
		a.Network = by.Network.ID
	}
	if typed == "." {
		a.Typed = typed
	} else if name, ok := strings.CutSuffix(typed, "."); ok && typ == dns.TypePTR {
		a.Typed = name
	}
	tries := completions(typed, by.Search)
	if _, own := w.ownServer(by.Own); !own && len(by.Servers) == 0 {
		a.Outcome, a.Name = noServers, tries[0]
		a.Steps = []Fell{{Stratum: NameServer, State: Stopped, Title: "Told no name server", Rule: "dns-missing",
			Says: by.Who + " reaches addresses and no names."}}
		return a
	}
	var tried []Answer
	for _, name := range tries {
		one := w.askServers(by, name, typ)
		one.Name = name
		if tried = append(tried, one); one.Outcome == Found {
			break
		}
	}
	at := counts(tried)
	one := tried[at]
	a.Name, a.Outcome, a.Values, a.TTL = cmp.Or(one.Name, "."), one.Outcome, one.Values, one.TTL
	a.Server, a.Device, a.Resolver, a.Message = one.Server, one.Device, one.Resolver, one.Message
	for i, t := range tried {
		head := completed(typed, t.Name, by, i, len(tries))
		if i == at {
			a.Steps = append(append(a.Steps, head), t.Steps...)
			continue
		}
		head.State, head.Says = Passed, vain(t, typ)
		a.Steps = append(a.Steps, head)
	}
	a.note(typed)
	return a
}

// counts is which of the names that a client tried in order is what came of it: the one that was
// there; else one whose answer is not known here; else the first.
func counts(tried []Answer) int {
	if last := len(tried) - 1; tried[last].Outcome == Found {
		return last
	}
	return max(0, slices.IndexFunc(tried, func(a Answer) bool { return a.Outcome == Elsewhere }))
}

// vain says what came of a name that was tried beside the one that counts.
func vain(t Answer, typ uint16) string {
	switch t.Outcome {
	case NoName:
		return "There is no such name."
	case Nothing:
		return "It has no " + typeName(typ) + "."
	case Elsewhere:
		return "Another server is asked for it, and has to say that there is no such name."
	default:
		return "There was no answer."
	}
}

// completions are the whole names that a client tries, in order: one of one word with each domain of
// its search list; one with a dot as it is first.
func completions(typed string, search []string) []string {
	name := zone.Tidy(typed)
	if strings.HasSuffix(strings.TrimSpace(typed), ".") {
		return []string{name}
	}
	var out []string
	for _, domain := range search {
		out = append(out, name+"."+domain)
	}
	if strings.Contains(name, ".") {
		return append([]string{name}, out...)
	}
	return append(out, name)
}

// completed says what a client makes of what was typed.
func completed(typed, name string, by Asking, i, of int) Fell {
	s := Fell{Stratum: Completion, State: Followed, Title: by.Who + " asks for " + name}
	whole := zone.Tidy(typed) == name
	switch {
	case strings.HasSuffix(strings.TrimSpace(typed), "."):
		s.Says = "The dot at the end says that it is whole."
	case whole && strings.Contains(name, ".") && i == 0:
		s.Says = "A name with a dot is asked for as it is first."
	case whole && of == 1:
		s.Says = "It is told no domain to complete it with."
	case whole:
		s.Says = "As it is, when nothing else was there."
	default:
		s.Says = fmt.Sprintf("Completed by %s.", by.List)
		if of > 2 || of == 2 && !strings.Contains(zone.Tidy(typed), ".") && len(by.Search) > 1 {
			s.Says = fmt.Sprintf("Completed by %s, %s of %d.", by.List, ordinal(slices.Index(by.Search,
				strings.TrimPrefix(name, zone.Tidy(typed)+"."))), len(by.Search))
		}
	}
	return s
}

func ordinal(i int) string {
	words := []string{"first", "second", "third", "fourth", "fifth", "sixth"}
	if i < 0 || i >= len(words) {
		return fmt.Sprintf("number %d", i+1)
	}
	return words[i]
}

// note says what another kind of client would do with a name that has a dot and was found completed
// alone: many complete only names of one word.
func (a *Answer) note(typed string) {
	name := zone.Tidy(typed)
	if !strings.Contains(name, ".") || a.Name == name || a.Outcome != Found {
		return
	}
	a.Steps = append(a.Steps, Fell{Stratum: Completion, State: Passed, Title: "Other clients do not find it",
		Says: "Many complete only names without a dot: they ask for " + name + " alone, and are told that it is not " +
			"there."})
}

// The rules about name servers that do not answer, and what is said of them.
const (
	portTaken    = "port-taken"
	notListening = "resolver-not-listening"
	outsideFirst = "dns-outside-first"
	nobody       = "Nobody answers there"
)

// ownServer is the resolver of a device that asks itself; none for anybody else.
func (w *World) ownServer(d *site.Device) (*Server, bool) {
	if d == nil {
		return nil, false
	}
	return w.server(d)
}

// askServers asks the servers of a client in order, until one answers.
func (w *World) askServers(by Asking, name string, typ uint16) Answer {
	if s, own := w.ownServer(by.Own); own {
		head := Fell{Stratum: NameServer, State: Followed, Title: "asks its own resolver"}
		if w.live != nil {
			return w.askLive(by, netip.Addr{}, name, typ, head)
		}
		if title, says, rule := w.keeps(by, netip.Addr{}); title != "" {
			return silent(head, title, says, rule)
		}
		return w.askServer(by, s, by.Own, addressOf(by.Own, netip.Addr{}), name, typ, head)
	}
	out := Answer{Outcome: Silent, Values: []string{}}
	for i, at := range by.Servers {
		head := Fell{Stratum: NameServer, State: Followed, Title: "asks " + at.String(),
			Says: by.Told}
		if n := len(by.Servers); n > 1 {
			head.Says = fmt.Sprintf("%s of %d name servers, %s", ordinal(i), n, by.Told)
		}
		ask := w.reach
		if w.live != nil {
			ask = w.askLive
		}
		one := ask(by, at, name, typ, head)
		out.Steps = append(out.Steps, one.Steps...)
		if steps := out.Steps; one.Outcome != Silent && one.Outcome != Refused && one.Outcome != Failed ||
			i == len(by.Servers)-1 {
			one.Steps = steps
			return one
		}
	}
	return out
}

// silent is what comes of a question that nobody answers, with why.
func silent(head Fell, title, says, rule string) Answer {
	return Answer{Outcome: Silent, Values: []string{}, Steps: []Fell{head,
		{Stratum: Transported, State: Stopped, Title: title, Says: says, Rule: rule}}}
}

// askLive asks a server of the world twice: cold, and again when it may know the answer.
func (w *World) askLive(by Asking, at netip.Addr, name string, typ uint16, head Fell) Answer {
	m, took, problem := w.live(by, at, name, typ)
	_, cause, rule := w.keeps(by, at)
	if problem != "" {
		if cause != "" {
			problem += " " + cause
		}
		return silent(head, "No answer", problem, rule)
	}
	q := new(dns.Msg)
	q.SetQuestion(dns.Fqdn(name), typ)
	q.SetEdns0(MaxUDP, false)
	says := "In " + millis(took)
	if _, again, problem := w.live(by, at, name, typ); problem == "" {
		says += ", asked again in " + millis(again)
	}
	if m.AuthenticatedData {
		says += "; it has checked the signatures"
	}
	if isBogus(m) {
		says += "; the signatures of the answer do not hold"
	}
	state := Answered
	if m.Rcode != dns.RcodeSuccess {
		state = Stopped
	}
	told := Fell{Stratum: Transported, State: state, Title: "It says " + dns.RcodeToString[m.Rcode], Says: says + "."}
	if state == Stopped && by.Own == nil && w.stranger(at) && compile.Find(w.book.Inside, name) != nil {
		told.Says, told.Rule = told.Says+" It is outside the site and knows none of its names.", outsideFirst
	}
	out := outcome(q, m, []Fell{head, told})
	out.Server = "the device's own"
	if at.IsValid() {
		out.Server = at.String()
	}
	return out
}

// isBogus reports whether a server says that it did not pass an answer on because it does not hold (RFC 8914
// section 4.7).
func isBogus(m *dns.Msg) bool {
	opt := m.IsEdns0()
	return opt != nil && slices.ContainsFunc(opt.Option, func(o dns.EDNS0) bool {
		e, is := o.(*dns.EDNS0_EDE)
		return is && e.InfoCode == dns.ExtendedErrorCodeDNSBogus
	})
}

func millis(d time.Duration) string { return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000) }

// stranger reports whether an address is none that is recorded at the site.
func (w *World) stranger(at netip.Addr) bool {
	_, _, held := w.site.HolderOf(at)
	return at.IsValid() && !held && !w.site.Inside(at)
}

// reach is about whether a question gets to a server at all, and then asks it.
func (w *World) reach(by Asking, at netip.Addr, name string, typ uint16, head Fell) Answer {
	d, _, held := w.site.HolderOf(at)
	if !held {
		return w.reachOther(at, name, head)
	}
	if title, says, rule := w.keeps(by, at); title != "" {
		return silent(head, title, says, rule)
	}
	s, _ := w.server(d)
	return w.askServer(by, s, d, at, name, typ, head)
}

// keeps is what keeps a device from answering somebody at an address, as the site has it, with the rule about that;
// empty where nothing does, or where no device of the site has the address. An invalid address is the device's own
// resolver.
func (w *World) keeps(by Asking, at netip.Addr) (title, says, rule string) {
	if !at.IsValid() {
		if s, own := w.ownServer(by.Own); own {
			if says = w.taken(by.Own, s); says != "" {
				return nobody, says, portTaken
			}
		}
		return "", "", ""
	}
	d, on, held := w.site.HolderOf(at)
	if !held {
		return "", "", ""
	}
	in := on
	if by.Network != nil {
		for i := range d.Interfaces {
			if f := &d.Interfaces[i]; slices.ContainsFunc(f.Addresses,
				func(p netip.Prefix) bool { return p.Masked() == by.Network.Prefix.Masked() }) {
				in = f // questions come in where the clients are, whichever address they are for
			}
		}
	}
	s, has := w.server(d)
	taken := ""
	if has {
		taken = w.taken(d, s)
	}
	switch {
	case !in.Permitted(site.PermitDNS):
		return fmt.Sprintf("%s of %s drops it", in.Name, d.Name), "The interface does not permit DNS.",
			"resolver-not-permitted"
	case !has:
		return nobody, d.Name + " has no resolver.", notListening
	case taken != "":
		return nobody, taken, portTaken
	case !s.settings.Enabled:
		return nobody, "The resolver of " + d.Name + " is switched off.", notListening
	case !s.listens(on.Name, yang.NameServer{Address: at, Port: s.settings.Port}):
		return nobody, "The resolver of " + d.Name + " does not listen on " + on.Name + ".", notListening
	case s.settings.Port != 53:
		return nobody, fmt.Sprintf("The resolver of %s listens on port %d, and clients ask port 53.", d.Name,
			s.settings.Port), notListening
	}
	return "", "", ""
}

// reachOther is about servers that no device of the site is.
func (w *World) reachOther(at netip.Addr, name string, head Fell) Answer {
	out := Answer{Outcome: Elsewhere, Values: []string{}, Server: at.String()}
	says := at.String() + " is outside the site. It knows none of the site's own names; what else it answers is not " +
		"known here."
	rule := ""
	if compile.Find(w.book.Inside, name) != nil {
		rule = outsideFirst
	}
	if w.site.Inside(at) {
		out.Outcome, rule = Silent, "dns-unreachable"
		says = "Nothing recorded holds " + at.String() + "."
		if f := slices.IndexFunc(w.site.FixedDevices,
			func(f site.FixedDevice) bool { return f.Address == at }); f >= 0 {
			out.Outcome, rule = Elsewhere, ""
			says = fmt.Sprintf("%s is at %s. It is no device that Lithos keeps; what it answers is not known here.",
				w.site.FixedDevices[f].Name, at)
		}
	}
	out.Steps = []Fell{head, {Stratum: Transported, State: Stopped, Title: "Not known", Says: says, Rule: rule}}
	return out
}

func (w *World) askServer(
	by Asking, s *Server, d *site.Device, at netip.Addr, name string, typ uint16, head Fell,
) Answer {
	q := new(dns.Msg)
	q.SetQuestion(dns.Fqdn(name), typ)
	q.SetEdns0(MaxUDP, false)
	q.AuthenticatedData = true // asks whether the signatures hold (RFC 6840 section 5.7)
	q.Id = 1                   // a real one is random
	reply, steps := s.Trace(w.now, q, Asker{From: by.From, Own: by.Own != nil})
	out := outcome(q, reply, append([]Fell{head}, steps...))
	out.Server, out.Device = at.String(), d.ID
	for _, r := range w.site.Resolvers {
		if r.Device == d.ID {
			out.Resolver = r.ID
			break
		}
	}
	return out
}

// outcome is what a reply says.
func outcome(q, reply *dns.Msg, steps []Fell) Answer {
	out := Answer{Steps: steps, Values: []string{}}
	if reply == nil {
		out.Outcome = Silent
		return out
	}
	reply = Fit(reply, q, false)
	for _, rr := range reply.Answer {
		out.Values = append(out.Values, zone.DataOf(rr, ""))
		if ttl := rr.Header().Ttl; out.TTL == 0 || ttl < out.TTL {
			out.TTL = ttl
		}
	}
	for _, rr := range reply.Answer {
		if soa, ok := rr.(*dns.SOA); ok && unread(soa) != "" {
			out.Steps = append(out.Steps, Fell{Stratum: Outcome, State: Passed, Title: "The serial is not known here",
				Says: strings.TrimSpace(unread(soa))})
		}
	}
	beyond := slices.ContainsFunc(steps, func(s Fell) bool { return s.State == Beyond })
	switch {
	case beyond:
		out.Outcome = Elsewhere
		return out
	case reply.Rcode == dns.RcodeSuccess && has(reply, q.Question[0].Qtype):
		out.Outcome = Found
	case reply.Rcode == dns.RcodeSuccess:
		out.Outcome = Nothing
		out.remembered(reply)
	case reply.Rcode == dns.RcodeNameError:
		out.Outcome = NoName
		out.remembered(reply)
	case reply.Rcode == dns.RcodeRefused:
		out.Outcome = Refused
	default:
		out.Outcome = Failed
	}
	out.Message = Decode(reply)
	return out
}

// unread says of a computed SOA that its serial is not one that was read; nothing of any other.
func unread(soa *dns.SOA) string {
	if soa.Serial != 0 {
		return ""
	}
	return " Its serial is counted where the zone is answered; 0 stands for it."
}

// remembered says how long others remember that there is nothing (RFC 2308 section 5).
func (a *Answer) remembered(reply *dns.Msg) {
	for _, rr := range reply.Ns {
		soa, ok := rr.(*dns.SOA)
		if !ok {
			continue
		}
		of := zone.Tidy(soa.Hdr.Name)
		if of == "" {
			of = "the root"
		}
		a.Steps = append(a.Steps, Fell{Stratum: Outcome, State: Passed,
			Title: fmt.Sprintf("Others remember that for %d s", min(soa.Hdr.Ttl, soa.Minttl)),
			Says:  "The SOA of " + of + " says so (RFC 2308)." + unread(soa)})
		return
	}
}

// has reports whether a message answers with records of a type, and not with aliases alone.
func has(m *dns.Msg, typ uint16) bool {
	return slices.ContainsFunc(m.Answer, func(rr dns.RR) bool {
		return rr.Header().Rrtype == typ || typ == dns.TypeANY
	})
}

// whence says from what an answer to the internet was learnt.
func (w *World) whence(name string, read ReadZone, known bool) Fell {
	out := Fell{Stratum: FromOutside, State: Passed}
	_, follows := w.site.FollowerOf(name)
	at := "Read on " + read.At.In(w.site.Location()).Format("2 January at 15:04") + "."
	switch {
	case known && read.Whole:
		out.Title, out.Says = "As its server had it", at
	case known && follows:
		out.Title, out.Says = "As its server had it", at+" The rest of the zone is what the draft makes of it."
	case known:
		out.Title, out.Says = "As the draft makes it", "What its server has now stands beside it in the list of the "+
			"zone."
	default:
		out.Title, out.Says = "As the site says", "Its server was not read; the serial is not known, and 0 stands "+
			"for it."
	}
	return out
}

// fromOutside is a question from the internet, which only the zones seen from outside answer.
func (w *World) fromOutside(q Question, typed string, typ uint16) Answer {
	name := zone.Tidy(typed)
	out := Answer{Outcome: Elsewhere, Values: []string{}}
	p := compile.Find(w.book.Outside, name)
	read, known := ReadZone{}, false
	if p != nil {
		read, known = w.read[p.Name]
	}
	if f, ok := w.site.FollowerOf(name); ok && !known {
		says := "What the world is told of it has not been read."
		if d, i, ok := w.site.Interface(f.Uplink); ok {
			says = fmt.Sprintf("It is to have the address of %s of %s. ", i.Name, d.Name) + says
		}
		out.Steps = []Fell{{Stratum: FromOutside, State: Beyond, Title: f.Name + " follows a line", Says: says,
			Of: site.Ref{Kind: site.KindFollowing, ID: f.ID}.String()}}
	} else if p == nil {
		says := "None of the site's zones seen from outside holds it; who else does is not known here."
		if compile.Find(w.book.Inside, name) != nil {
			says = "It is of a zone inside, which nobody outside is told of."
			out.Outcome = NoName
		}
		out.Steps = []Fell{{Stratum: FromOutside, State: Stopped, Title: "Not the site's outside", Says: says}}
	} else {
		m := new(dns.Msg)
		m.SetQuestion(dns.Fqdn(name), typ)
		m.Id = 1
		reply, steps := w.world().Trace(w.now, m, Asker{Own: true})
		steps = slices.DeleteFunc(steps, func(s Fell) bool { return s.Stratum == Access })
		steps = append([]Fell{w.whence(name, read, known)}, steps...)
		for i := range steps {
			if steps[i].Stratum == Zones {
				steps[i].Stratum = FromOutside
			}
		}
		out = outcome(m, reply, steps)
	}
	out.Who, out.Typed, out.Type, out.Name, out.At = "the internet", q.Name, typeName(typ), name, w.now
	return out
}
