package plan

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"lithos/core/site"
	"lithos/core/yang"
)

// hush stops the resolver on interfaces that are about to change, and asking from them: a device
// refuses to listen where it has no address.
func (p *planner) hush() []Step {
	was := p.was.Resolver.Settings
	if was == nil {
		return nil
	}
	left := *was
	changes := func(name string) bool { return p.readdress[name] || p.rebuild[name] }
	left.Interface = slices.DeleteFunc(slices.Clone(was.Interface), changes)
	if len(left.Interface) == 0 {
		left.Interface = nil
	}
	if p.rebuild[was.ForwardFrom] {
		left.ForwardFrom = ""
	}
	if reflect.DeepEqual(*was, left) {
		return nil
	}
	p.hushed = &left
	gone := slices.DeleteFunc(slices.Clone(was.Interface), func(name string) bool { return !changes(name) })
	return []Step{put("Answer no names", "on "+quoted(gone)+" for now", "Its interface is about to change",
		yang.SettingsPath(), &left)}
}

// resolve sets what the resolver listens on and whom it asks, when its addresses and zones are there.
func (p *planner) resolve() []Step {
	was, now := p.was.Resolver.Settings, p.now.Resolver.Settings
	if p.hushed != nil {
		was = p.hushed
	}
	switch {
	case now == nil && was == nil, now != nil && was != nil && reflect.DeepEqual(*was, *now):
		return nil
	case now == nil:
		return []Step{drop("Remove", "the resolver", "The device no longer answers names", yang.SettingsPath())}
	}
	verb, text := "Answer names", "on "+quoted(now.Interface)
	if more := more(was, now); len(more) > 0 {
		text = "on " + quoted(more) + ", too"
	}
	if !now.Enabled {
		verb, text = "Store", "the resolver, switched off"
	}
	return []Step{put(verb, text, asks(now), yang.SettingsPath(), now)}
}

// more lists the interfaces that a resolver listens on besides those it did; none where more changes
// than that and who may ask.
func more(was, now *yang.ResolverSettings) []string {
	if was == nil || len(was.Interface) == 0 || len(was.Interface) >= len(now.Interface) {
		return nil
	}
	rest := *was
	rest.Interface, rest.Asker = now.Interface, now.Asker
	added := slices.DeleteFunc(slices.Clone(now.Interface),
		func(name string) bool { return slices.Contains(was.Interface, name) })
	if !reflect.DeepEqual(&rest, now) || len(added)+len(was.Interface) != len(now.Interface) {
		return nil
	}
	return added
}

// asks says whom a resolver turns to.
func asks(s *yang.ResolverSettings) string {
	var out []string
	if len(s.Forwarder) == 0 {
		out = append(out, "It asks nobody else")
	} else {
		out = append(out, "It forwards to "+servers(s.Forwarder))
	}
	for _, d := range s.Domain {
		out = append(out, d.Name+" is asked of "+servers(d.Server))
	}
	if n := len(s.Silenced); n > 0 {
		out = append(out, "It answers "+site.Counted(n, "domain")+" with nothing")
	}
	return strings.Join(out, "; ")
}

func servers(list []yang.NameServer) string {
	var out []string
	for _, s := range list {
		over := ""
		if s.TLSName != "" {
			over = " over TLS"
		}
		out = append(out, s.Address.String()+over)
	}
	return strings.Join(out, ", ")
}

func quoted(names []string) string {
	if len(names) == 0 {
		return "no interface"
	}
	return "`" + strings.Join(names, "`, `") + "`"
}

// left is what becomes of the programs that listen for names beside a resolver: those that hold its
// ports are stopped where it says so.
func left(running []yang.Program, wanted *yang.ResolverSettings) []yang.Program {
	out := slices.Clone(running)
	for i := range out {
		if out[i].Holds(wanted) && wanted.StopOthers {
			out[i].Runs = false
		}
	}
	return out
}

// stopPrograms frees the ports of the resolver before it listens.
func (p *planner) stopPrograms() (steps []Step) {
	for _, was := range p.was.Resolver.Program {
		now, stays := p.now.programs[was.Name]
		switch {
		case !stays:
			steps = append(steps, drop("Remove", "`"+was.Name+"`", "It listens for names no more",
				yang.ProgramPath(was.Name)))
		case was.Runs && !now.Runs:
			steps = append(steps, put("Stop", "`"+was.Name+"`", fmt.Sprintf("It holds port %d, which the resolver "+
				"needs",
				was.Port), yang.ProgramPath(was.Name), now))
		}
	}
	return steps
}

// startPrograms has programs run again whose ports the resolver has left, after a return for instance.
func (p *planner) startPrograms() (steps []Step) {
	for _, now := range p.now.Resolver.Program {
		was, had := p.was.programs[now.Name]
		if !had || was != now && (now.Runs || !was.Runs) {
			steps = append(steps, put("Start", "`"+now.Name+"` again", fmt.Sprintf("It had port %d before", now.Port),
				yang.ProgramPath(now.Name), now))
		}
	}
	return steps
}

// answerZones puts the zones that are new or changed, each whole: names change all at once.
func (p *planner) answerZones() (steps []Step) {
	for _, z := range p.now.Resolver.Zone {
		was, had := p.was.zones[z.Name]
		if had && reflect.DeepEqual(was, z) {
			continue
		}
		text, why := "for `"+z.Name+"`", site.Counted(len(z.Record), "record")
		if had {
			why = differing(was, z)
		}
		steps = append(steps, put("Answer", text, why, yang.ZonePath(z.Name), z))
	}
	return steps
}

// forgetZones takes zones away when nobody is sent to them any more.
func (p *planner) forgetZones() (steps []Step) {
	for _, z := range p.was.Resolver.Zone {
		if _, stays := p.now.zones[z.Name]; !stays {
			steps = append(steps, drop("Stop answering", "for `"+z.Name+"`", "The zone is no longer the site's",
				yang.ZonePath(z.Name)))
		}
	}
	return steps
}

// mostNamed is how many names of a zone a step says what becomes of; the others are counted.
const mostNamed = 3

// differing says what of a zone changes: which records, from what to what.
func differing(was, now yang.Zone) string {
	before, after := sets(was), sets(now)
	changed := changedSets(was, now)
	var out []string
	for i, s := range changed {
		if i == mostNamed {
			out = append(out, site.Counted(len(changed)-i, "more name"))
			break
		}
		name := fmt.Sprintf("`%s` %s ", s.owner, s.typ)
		switch {
		case before[s] == "":
			out = append(out, name+"`"+after[s]+"` is added")
		case after[s] == "":
			out = append(out, name+"is removed")
		default:
			out = append(out, name+"is `"+after[s]+"`, was `"+before[s]+"`")
		}
	}
	if len(out) == 0 {
		return "What the zone says of itself"
	}
	return strings.Join(out, "; ")
}
