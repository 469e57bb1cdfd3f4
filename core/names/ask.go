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
	"lithos/core/site"
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
		a.Steps = []Fell{{Layer: NameServer, State: Stopped, Title: "Told no name server", Rule: "dns-missing",
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
	s := Fell{Layer: Completion, State: Followed, Title: by.Who + " asks for " + name}
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
	a.Steps = append(a.Steps, Fell{Layer: Completion, State: Passed, Title: "Other clients do not find it",
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
			out.Steps = append(out.Steps, Fell{Layer: Outcome, State: Passed, Title: "The serial is not known here",
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
		a.Steps = append(a.Steps, Fell{Layer: Outcome, State: Passed,
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
	out := Fell{Layer: FromOutside, State: Passed}
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
		out.Steps = []Fell{{Layer: FromOutside, State: Beyond, Title: f.Name + " is a dynamic name", Says: says,
			Of: site.Ref{Kind: site.KindFollowing, ID: f.ID}.String()}}
	} else if p == nil {
		says := "None of the site's zones seen from outside holds it; who else does is not known here."
		if compile.Find(w.book.Inside, name) != nil {
			says = "It is of a zone inside, which nobody outside is told of."
			out.Outcome = NoName
		}
		out.Steps = []Fell{{Layer: FromOutside, State: Stopped, Title: "Not the site's outside", Says: says}}
	} else {
		m := new(dns.Msg)
		m.SetQuestion(dns.Fqdn(name), typ)
		m.Id = 1
		reply, steps := w.world().Trace(w.now, m, Asker{Own: true})
		steps = slices.DeleteFunc(steps, func(s Fell) bool { return s.Layer == Access })
		steps = append([]Fell{w.whence(name, read, known)}, steps...)
		for i := range steps {
			if steps[i].Layer == Zones {
				steps[i].Layer = FromOutside
			}
		}
		out = outcome(m, reply, steps)
	}
	out.Who, out.Typed, out.Type, out.Name, out.At = "the internet", q.Name, typeName(typ), name, w.now
	return out
}
