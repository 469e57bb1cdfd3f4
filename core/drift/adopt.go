package drift

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"lithos/core/compile"
	"lithos/core/site"
	"lithos/core/takeover"
	"lithos/core/yang"
)

// Refused is a difference that was not taken into the site, with why.
type Refused struct {
	Difference
	Why string `json:"why"`
}

// Adopt is the site with what a device holds in some differences. Each is proved: it is taken only if the device would
// then be given what it holds. The site is in normal form and not changed.
func Adopt(s *site.Site, device string, held yang.Config, chosen []Difference) (*site.Site, []Refused) {
	a := &adopter{site: s, device: device, running: held}
	a.wanted, _ = entries(compile.Device(s, device))
	a.is, _ = entries(held)
	rest := a.forNetworks(slices.DeleteFunc(slices.Clone(chosen), a.same))
	groups := byPath(a.inOrder(rest))
	for _, group := range a.together(groups) {
		if why := a.take(group); why != "" {
			a.alone(group, why)
		}
	}
	return a.site, a.refused
}

// inOrder puts what others lie on first, an interface before a pool on it, and what the device does not have last.
func (a *adopter) inOrder(list []Difference) []Difference {
	gone := func(d Difference) bool { return d.Member == "" && a.is[d.Path] == nil }
	there := slices.DeleteFunc(slices.Clone(list), gone)
	return append(there, slices.DeleteFunc(slices.Clone(list), func(d Difference) bool { return !gone(d) })...)
}

// alone tries the differences of an entry one by one that cannot be adopted together.
func (a *adopter) alone(group []Difference, why string) {
	if len(group) == 1 {
		a.refused = append(a.refused, Refused{group[0], why})
		return
	}
	for _, d := range group {
		if why := a.take([]Difference{d}); why != "" {
			a.refused = append(a.refused, Refused{d, why})
		}
	}
}

// together adopts as many entries as hold what they should when all are adopted at once, and gives the others: proving
// each by itself takes a configuration of the whole device.
func (a *adopter) together(groups [][]Difference) (left [][]Difference) {
	for round := 0; len(groups) > 1 && round < 3; round++ {
		mixed := Mixed(compile.Device(a.site, a.device), a.running, slices.Concat(groups...))
		parts, _ := entries(mixed)
		now := a.site
		var taken [][]Difference
		for _, group := range groups {
			after, err := a.read(now, mixed, parts, group[0].Path)
			if err != nil {
				left = append(left, group)
				continue
			}
			now, taken = after, append(taken, group)
		}
		given, _ := entries(compile.Device(now, a.device))
		var good [][]Difference
		for _, group := range taken {
			if slices.ContainsFunc(group, func(d Difference) bool {
				return !agrees(given[d.Path], a.is[d.Path],
					d.Member)
			}) {
				left = append(left, group)
			} else {
				good = append(good, group)
			}
		}
		if len(good) == len(taken) {
			a.site, a.wanted = now, given
			return left
		}
		groups = good
	}
	return append(groups, left...)
}

type adopter struct {
	site    *site.Site
	device  string
	running yang.Config
	is      map[string]*entry // what is held
	wanted  map[string]*entry // what the site as it stands gives the device
	refused []Refused
}

// same reports whether the site gives the device already what it holds.
func (a *adopter) same(d Difference) bool {
	return agrees(a.wanted[d.Path], a.is[d.Path], d.Member)
}

// byPath puts differences of the same entry together, in the order in which their entries come.
func byPath(list []Difference) [][]Difference {
	var out [][]Difference
	at := map[string]int{}
	for _, d := range list {
		i, had := at[d.Path]
		if !had {
			i = len(out)
			at[d.Path] = i
			out = append(out, nil)
		}
		out[i] = append(out[i], d)
	}
	return out
}

// take adopts differences of one entry, or says why not.
func (a *adopter) take(group []Difference) string {
	mixed := Mixed(compile.Device(a.site, a.device), a.running, group)
	parts, _ := entries(mixed)
	now, err := a.read(a.site, mixed, parts, group[0].Path)
	if err != nil {
		return "It cannot be read into the site: " + err.Error() + "."
	}
	return a.become(now, group)
}

// read takes the entry at a path into a site; parts are the entries of the configuration.
func (a *adopter) read(s *site.Site, c yang.Config, parts map[string]*entry, path string) (*site.Site, error) {
	var whole any
	if e := parts[path]; e != nil {
		whole = e.whole
	}
	return takeover.Part(s, takeover.Device{Device: a.device, Config: c}, path, whole)
}

// become makes now the site if it gives the device what it holds in some differences, and else says why not.
func (a *adopter) become(now *site.Site, group []Difference) string {
	given, _ := entries(compile.Device(now, a.device))
	for _, d := range group {
		if !agrees(given[d.Path], a.is[d.Path], d.Member) {
			return fmt.Sprintf("The site makes %s of something else: of its interfaces, its networks or a level "+
				"above. Change it there, or put it back.", d.What)
		}
	}
	a.site, a.wanted = now, given
	return ""
}

// forNetworks adopts options that every pool of a network holds alike and that come from the network, for the network.
// It gives the differences that are left.
func (a *adopter) forNetworks(chosen []Difference) []Difference {
	type told struct{ network, member, value string }
	groups := map[told][]Difference{}
	for _, d := range chosen {
		p, ok := a.site.Pool(d.partID())
		if !ok || !strings.HasPrefix(d.Member, optionMember) || a.is[d.Path].members[d.Member] == nil {
			continue
		}
		key := told{p.Network, d.Member, string(a.is[d.Path].members[d.Member])}
		groups[key] = append(groups[key], d)
	}
	done := map[string]bool{}
	keys := slices.SortedFunc(maps.Keys(groups), func(x, y told) int {
		return strings.Compare(x.network+x.member+x.value, y.network+y.member+y.value)
	})
	for _, key := range keys {
		group, pools := groups[key], 0
		for _, p := range a.site.Pools {
			if p.Network == key.network {
				pools++
			}
		}
		o, ok := optionOf(a.is[group[0].Path], key.member)
		if !ok || pools != len(group) || !a.fromNetwork(key.network, o.Code) {
			continue
		}
		if a.become(takeover.ForNetwork(a.site, key.network, o), group) == "" {
			for _, d := range group {
				done[d.ID] = true
			}
		}
	}
	return slices.DeleteFunc(chosen, func(d Difference) bool { return done[d.ID] })
}

// fromNetwork reports whether clients of a network are told an option that is set for the network.
func (a *adopter) fromNetwork(network string, code uint8) bool {
	n, ok := a.site.Network(network)
	return ok && slices.ContainsFunc(n.Options, func(o site.Option) bool { return o.Code == code })
}

// optionOf is an option of a pool.
func optionOf(e *entry, member string) (yang.Option, bool) {
	p, ok := e.whole.(yang.Pool)
	if !ok {
		return yang.Option{}, false
	}
	i := slices.IndexFunc(p.Option, func(o yang.Option) bool {
		return fmt.Sprintf("%s%d", optionMember, o.Code) == member
	})
	if i < 0 {
		return yang.Option{}, false
	}
	return p.Option[i], true
}

// partID is the id of the pool that a difference is of; empty for others.
func (d Difference) partID() string {
	if ref := site.ParseRef(d.Part); ref.Kind == site.KindPool {
		return ref.ID
	}
	return ""
}
