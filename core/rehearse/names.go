package rehearse

import (
	"net/netip"
	"slices"
	"strings"

	"github.com/miekg/dns"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/dhcp"
	"lithos/core/names"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/zone"
)

// The rungs of the ladder that are about names, which come after the others.
var nameRungs = []string{"local name", OutsideRung, "reverse"}

// OutsideRung is the rung of a name on the internet.
const OutsideRung = "outside name"

// outside is what is asked for to see whether names outside are found: a name that is known to be there, else
// which servers the root has (RFC 1034 section 3.1), which is the same for everybody.
func outside(name string) (typed string, typ uint16) {
	if name == "" {
		return ".", dns.TypeNS
	}
	return name + ".", dns.TypeA
}

// NameQuestion is what one of those rungs asks.
type NameQuestion struct {
	Rung string
	Name string // as typed
	Type uint16
}

// NameQuestions are what the rungs about names ask for a client with a router: its name, a name outside
// (the root's servers where none is known to be there), and who it is in reverse.
func NameQuestions(s *site.Site, router netip.Addr, known string) []NameQuestion {
	var out []NameQuestion
	if label := labelAt(s, router); label != "" {
		out = append(out, NameQuestion{nameRungs[0], label, dns.TypeA})
	}
	typed, typ := outside(known)
	return append(out, NameQuestion{nameRungs[1], typed, typ},
		NameQuestion{nameRungs[2], zone.Reverse(router) + ".", dns.TypePTR})
}

// World is the resolvers of the stage's site, made when they are first asked.
func (st *Stage) World() *names.World {
	switch book := compile.Names; {
	case st.world != nil:
	case st.live != nil:
		st.world = names.NewLive(st.now, st.site, book(st.site), st.live)
	default:
		st.world = names.NewWorld(st.now, st.site, book(st.site), st.leases)
	}
	st.world.Beside(st.beside)
	return st.world
}

// resolve is the rungs of a client that was told name servers and a search list. local is the address
// whose name it asks for, both ways: its router, or its own.
func (st *Stage) resolve(by names.Asking, local netip.Addr, label string, internet bool) []Rung {
	if len(st.site.Resolvers) == 0 && len(st.site.Zones) == 0 {
		return skipped("the site keeps no names yet", nameRungs...)
	}
	w := st.World()
	out := []Rung{st.localName(w, by, label)}
	switch {
	case !internet:
		out = append(out, skipped("needs the internet", nameRungs[1])...)
	default:
		typed, typ := outside("")
		out = append(out, nameRung(nameRungs[1], w.AskAs(by, typed, typ)))
	}
	if !local.IsValid() {
		return append(out, skipped("no address to look up", nameRungs[2])...)
	}
	return append(out, nameRung(nameRungs[2], w.AskAs(by, zone.Reverse(local)+".", dns.TypePTR)))
}

// localName asks for a name of one word, as people type it.
func (st *Stage) localName(w *names.World, by names.Asking, label string) Rung {
	if label == "" {
		return Rung{Name: nameRungs[0], State: Skip, Value: "nothing here has a name"}
	}
	return nameRung(nameRungs[0], w.AskAs(by, label, dns.TypeA))
}

func skipped(why string, rungs ...string) []Rung {
	var out []Rung
	for _, name := range rungs {
		out = append(out, Rung{Name: name, State: Skip, Value: why})
	}
	return out
}

// saying are the layers whose sentence is the cause, where the title of others is.
var saying = []string{names.Zones, names.Home, names.Transported}

// nameRung is what came of a question, with the first step that kept it from an answer.
func nameRung(name string, a names.Answer) Rung {
	switch {
	case a.Outcome == names.Found:
		return Rung{Name: name, State: Pass, Value: final(a.Values)}
	case a.Outcome == names.Elsewhere:
		return elsewhere(name, a)
	}
	r := Rung{Name: name, State: Fail, Value: a.Name + ": " + a.Outcome}
	for _, s := range a.Steps {
		if s.State == names.Stopped {
			r.Value, r.Rule = s.Title, s.Rule
			if s.Says != "" && slices.Contains(saying, s.Layer) {
				r.Value = s.Says
			}
			break
		}
	}
	if r.Rule == "" && name == nameRungs[2] {
		r.Rule = "reverse-missing"
	}
	return r
}

// elsewhere is what came of a question whose answer is not known here: a resolver would pass it on, or
// the client asks another server itself.
func elsewhere(name string, a names.Answer) Rung {
	if i := slices.IndexFunc(a.Steps, func(s names.Fell) bool { return s.State == names.Beyond }); i >= 0 {
		return Rung{Name: name, State: Pass, Value: strings.TrimSuffix(a.Steps[i].Title, " is asked") +
			" would be asked"}
	}
	server, _ := netip.ParseAddr(a.Server)
	switch {
	case server.IsPrivate():
		return Rung{Name: name, State: Skip, Value: "what " + a.Server + " answers is not known"}
	case name == nameRungs[1]:
		return Rung{Name: name, State: Pass, Value: a.Server + " would be asked"}
	default:
		return Rung{name, Fail, a.Server + " is asked, and knows none of the site's own names", "dns-outside-first"}
	}
}

// final is what aliases lead to: the first address, or the last name.
func final(values []string) string {
	i := slices.IndexFunc(values, func(v string) bool {
		_, err := netip.ParseAddr(v)
		return err == nil
	})
	if i < 0 {
		i = len(values) - 1
	}
	return values[i]
}

// labelAt is the name of one word that something at an address has; empty for none.
func labelAt(s *site.Site, a netip.Addr) string {
	for _, f := range compile.Followers(s) {
		if f.Address == a {
			return f.Name
		}
	}
	return ""
}

// toldBy is what a reply tells its client of names: its name servers, and the domains that it
// completes names with.
func toldBy(m dhcp.Message) (servers []netip.Addr, search []string) {
	value := func(code uint8) string {
		i := slices.IndexFunc(m.Options, func(o dhcp.MessageOption) bool { return o.Code == code })
		if i < 0 {
			return ""
		}
		return m.Options[i].Value
	}
	for text := range strings.SplitSeq(value(option.NameServers), ",") {
		if a, err := address.ParseAddr(strings.TrimSpace(text), netip.Prefix{}); err == nil {
			servers = append(servers, a)
		}
	}
	list := value(option.SearchList)
	if list == "" {
		list = value(option.DomainName)
	}
	for text := range strings.SplitSeq(list, ",") {
		if name := zone.Tidy(text); name != "" {
			search = append(search, name)
		}
	}
	return servers, search
}
