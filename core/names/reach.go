package names

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/miekg/dns"

	"lithos/core/compile"
	"lithos/core/site"
	"lithos/core/yang"
)

// askServers asks the servers of a client in order, until one answers.
func (w *World) askServers(by Asking, name string, typ uint16) Answer {
	if s, own := w.ownServer(by.Own); own {
		head := Fell{Layer: NameServer, State: Followed, Title: "asks its own resolver"}
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
		head := Fell{Layer: NameServer, State: Followed, Title: "asks " + at.String(),
			Says: by.ServersFrom}
		if n := len(by.Servers); n > 1 {
			head.Says = fmt.Sprintf("%s of %d name servers, %s", ordinal(i), n, by.ServersFrom)
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
		{Layer: Transported, State: Stopped, Title: title, Says: says, Rule: rule}}}
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
	told := Fell{Layer: Transported, State: state, Title: "It says " + dns.RcodeToString[m.Rcode], Says: says + "."}
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
	out.Steps = []Fell{head, {Layer: Transported, State: Stopped, Title: "Not known", Says: says, Rule: rule}}
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
