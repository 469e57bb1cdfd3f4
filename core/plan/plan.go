// Package plan turns the difference between what a device holds and what it
// must hold into steps, in an order the device accepts at every one of them.
package plan

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"lithos/core/address"
	"lithos/core/option"
	"lithos/core/yang"
)

// Step is one change to one device. Applying it again changes nothing.
type Step struct {
	Verb   string          `json:"verb"` // what it does, in a word: Serve, Give, Withdraw
	Adds   bool            `json:"adds"` // whether it brings something rather than take it away
	Text   string          `json:"text"` // the object; `backquotes` hold addresses and device names
	Why    string          `json:"why"`
	Method string          `json:"method" enum:"PUT,DELETE,PATCH,UPDATE"` // RFC 8040, RFC 8072, RFC 2136
	Path   string          `json:"path"`
	Body   json.RawMessage `json:"body,omitempty"`
}

// Apply carries the step out on a configuration.
func (s Step) Apply(c *yang.Config) error {
	switch s.Method {
	case "DELETE":
		return c.Delete(s.Path)
	case "PATCH":
		p, err := yang.ReadPatch(s.Body)
		if err != nil {
			return err
		}
		return p.Apply(c)
	}
	return c.Put(s.Path, s.Body)
}

// Together is steps that a device carries out as one (RFC 8072).
func Together(steps []Step, why string) Step {
	out := Step{Verb: "At once:", Adds: true, Why: why, Method: "PATCH"}
	var patch yang.Patch
	for i, s := range steps {
		if i > 0 {
			out.Text += "; "
		}
		verb, _ := utf8.DecodeRuneInString(s.Verb)
		out.Text += string(unicode.ToLower(verb)) + s.Verb[utf8.RuneLen(verb):] + " " + s.Text
		patch.Replace(s.Path, s.Body)
	}
	body, err := json.Marshal(patch)
	if err != nil {
		panic("a patch always marshals: " + err.Error())
	}
	out.Body = body
	return out
}

// Target is what a device holds after a push: what is wanted, and the entries Lithos
// does not manage, which are in neither the last push (base) nor this one. Lithos
// removes only what it put there itself.
func Target(running, base, wanted yang.Config) yang.Config {
	out := wanted
	out.Interfaces.Interface = keep(running.Interfaces.Interface, base.Interfaces.Interface,
		wanted.Interfaces.Interface, func(i yang.Interface) string { return i.Name })
	out.DHCP.Pool = keep(
		running.DHCP.Pool,
		base.DHCP.Pool,
		wanted.DHCP.Pool,
		func(p yang.Pool) string { return p.ID },
	)
	out.DHCP.Reservation = keep(running.DHCP.Reservation, base.DHCP.Reservation, wanted.DHCP.Reservation,
		func(r yang.Reservation) string { return r.ID })
	out.DHCP.Class = keep(running.DHCP.Class, base.DHCP.Class, wanted.DHCP.Class,
		func(k yang.Class) string { return k.ID })
	out.Relays.Relay = keep(running.Relays.Relay, base.Relays.Relay, wanted.Relays.Relay,
		func(r yang.Relay) string { return r.Interface })
	out.Resolver.Zone = keep(running.Resolver.Zone, base.Resolver.Zone, wanted.Resolver.Zone,
		func(z yang.Zone) string { return z.Name })
	out.Outside.Name = keep(running.Outside.Name, base.Outside.Name, wanted.Outside.Name,
		func(n yang.OutsideName) string { return n.ID })
	out.Resolver.Program = left(running.Resolver.Program, wanted.Resolver.Settings)
	if base.Resolver.Settings == nil && wanted.Resolver.Settings == nil {
		out.Resolver.Settings = running.Resolver.Settings // it is nobody's but the device's
	}
	return out.Sorted()
}

func keep[T any](running, base, wanted []T, key func(T) string) []T {
	ours := map[string]bool{}
	for _, t := range slices.Concat(base, wanted) {
		ours[key(t)] = true
	}
	out := slices.Clone(wanted)
	for _, t := range running {
		if !ours[key(t)] {
			out = append(out, t)
		}
	}
	return out
}

// Between lists the steps from running to target. Pools are withdrawn before
// their interface changes and interfaces lose an address before another takes
// one that overlaps it; relays come last, when the pools behind them are served. No
// step leaves a configuration that the device must refuse, provided that it accepts
// running and target.
func Between(running, target yang.Config) []Step {
	p := planner{
		was:       indexed(running),
		now:       indexed(target),
		rebuild:   map[string]bool{},
		readdress: map[string]bool{},
		withdraw:  map[string]bool{},
		narrow:    map[string][]yang.Span{},
		settled:   map[string]bool{},
	}
	p.markInterfaces()
	p.markCarried()
	p.markPools()
	p.markRanges()
	steps := []Step{}
	for _, stage := range []func() []Step{
		p.dropRelays, p.dropOutside, p.hush, p.dropReservations, p.dropPools, p.narrowPools, p.freeMembers,
		p.dropAddresses, p.dropInterfaces, p.addInterfaces, p.tune, p.giveAddresses, p.stopPrograms,
		p.answerZones, p.resolve, p.startPrograms, p.describeClasses, p.servePools, p.forgetClasses,
		p.reserve, p.relay, p.forgetZones, p.keepOutside,
	} {
		steps = append(steps, stage()...)
	}
	return restored(steps)
}

// restored says of each step that takes something away for a while in which step it
// comes back.
func restored(steps []Step) []Step {
	back := map[string]int{} // where what is at a path comes next, seen from behind
	for i := len(steps) - 1; i >= 0; i-- {
		s := &steps[i]
		if at, comes := back[s.Path]; comes && s.Method == "DELETE" {
			s.Why += fmt.Sprintf("; it is restored in step %d", at+1)
		}
		if s.Adds {
			back[s.Path] = i
		}
	}
	return steps
}

// index is a configuration with its entries by their keys.
type index struct {
	yang.Config
	interfaces   map[string]yang.Interface
	pools        map[string]yang.Pool
	reservations map[string]yang.Reservation
	classes      map[string]yang.Class
	relays       map[string]yang.Relay
	zones        map[string]yang.Zone
	programs     map[string]yang.Program
	outside      map[string]yang.OutsideName
}

func indexed(c yang.Config) index {
	return index{
		Config:       c,
		interfaces:   by(c.Interfaces.Interface, func(i yang.Interface) string { return i.Name }),
		pools:        by(c.DHCP.Pool, func(p yang.Pool) string { return p.ID }),
		reservations: by(c.DHCP.Reservation, func(r yang.Reservation) string { return r.ID }),
		classes:      by(c.DHCP.Class, func(k yang.Class) string { return k.ID }),
		relays:       by(c.Relays.Relay, func(r yang.Relay) string { return r.Interface }),
		zones:        by(c.Resolver.Zone, func(z yang.Zone) string { return z.Name }),
		programs:     by(c.Resolver.Program, func(p yang.Program) string { return p.Name }),
		outside:      by(c.Outside.Name, func(n yang.OutsideName) string { return n.ID }),
	}
}

func by[T any, K comparable](list []T, key func(T) K) map[K]T {
	out := make(map[K]T, len(list))
	for _, t := range list {
		out[key(t)] = t
	}
	return out
}

type planner struct {
	was, now  index
	rebuild   map[string]bool        // interfaces removed, for good or to be made anew
	readdress map[string]bool        // interfaces whose addresses go away
	withdraw  map[string]bool        // pools removed, for good or until their interface is ready
	settled   map[string]bool        // pools that are what they shall be before others are served
	hushed    *yang.ResolverSettings // the resolver while interfaces change; nil where it stays as it was
	narrow    map[string][]yang.Span // what is left of pools that give addresses to others first
}

func put(verb, text, why, path string, node any) Step {
	return Step{Verb: verb, Adds: true, Text: text, Why: why, Method: "PUT", Path: path, Body: yang.Body(node)}
}

func drop(verb, text, why, path string) Step {
	return Step{Verb: verb, Text: text, Why: why, Method: "DELETE", Path: path}
}

func title(r yang.Reservation) string {
	if r.Name != "" {
		return r.Name
	}
	return whom(r)
}

// whom names the client of a reservation by its identifier or its MAC.
func whom(r yang.Reservation) string {
	if len(r.Client) > 0 {
		return "`" + option.FormatIdentifier(r.Client) + "`"
	}
	return "`" + r.MAC.String() + "`"
}

// dropRelays stops relays that are no longer wanted, and those whose interface
// is about to lose its address.
func (p *planner) dropRelays() (steps []Step) {
	for _, r := range p.was.Relays.Relay {
		_, stays := p.now.relays[r.Interface]
		switch {
		case !stays:
			steps = append(steps, drop("Stop relaying", "from `"+r.Interface+"`",
				"Its clients are answered otherwise, or not at all", yang.RelayPath(r.Interface)))
		case p.readdress[r.Interface]:
			steps = append(steps, drop("Stop relaying", "from `"+r.Interface+"` for now",
				"Its interface is about to change", yang.RelayPath(r.Interface)))
		}
	}
	return steps
}

func (p *planner) relay() (steps []Step) {
	for _, r := range p.now.Relays.Relay {
		was, had := p.was.relays[r.Interface]
		if had && !p.readdress[r.Interface] && reflect.DeepEqual(was, r) {
			continue
		}
		var to []string
		for _, a := range r.Server {
			to = append(to, "`"+a.String()+"`")
		}
		steps = append(steps, put("Relay", fmt.Sprintf("DHCP from `%s` to %s", r.Interface, strings.Join(to, ", ")),
			"Requests of its clients are passed on", yang.RelayPath(r.Interface), r))
	}
	return steps
}

func (p *planner) describeClasses() (steps []Step) {
	for _, k := range p.now.DHCP.Class {
		was, had := p.was.classes[k.ID]
		if had && reflect.DeepEqual(was, k) {
			continue
		}
		steps = append(steps, put("Tell", fmt.Sprintf("clients of class %s their options", k.Name),
			fmt.Sprintf("Their option 60 begins `%s`", k.Match), yang.ClassPath(k.ID), k))
	}
	return steps
}

func (p *planner) forgetClasses() (steps []Step) {
	for _, k := range p.was.DHCP.Class {
		if _, stays := p.now.classes[k.ID]; !stays {
			steps = append(steps, drop("Forget", "class "+k.Name, "No pool is kept for it any more",
				yang.ClassPath(k.ID)))
		}
	}
	return steps
}

func (p *planner) dropReservations() (steps []Step) {
	for _, r := range p.was.DHCP.Reservation {
		now, stays := p.now.reservations[r.ID]
		switch {
		case !stays:
			steps = append(steps, drop("Release", fmt.Sprintf("`%s` from %s", r.Address, title(r)),
				"The client is given an address of the pool at its next renewal", yang.ReservationPath(r.ID)))
		case p.withdraw[r.Pool] || p.withdraw[now.Pool]:
			steps = append(steps, drop("Remove", "for now the reservation of "+title(r),
				"Its pool is about to be withdrawn",
				yang.ReservationPath(r.ID)))
		case p.givesWay(r, now):
			steps = append(steps, drop("Remove", "for now the reservation of "+title(r),
				fmt.Sprintf("A pool is about to hand out `%s`", r.Address), yang.ReservationPath(r.ID)))
		case p.taken(r, now):
			steps = append(steps, drop("Remove", "for now the reservation of "+title(r),
				"Another reservation is about to take its place", yang.ReservationPath(r.ID)))
		}
	}
	return steps
}

// taken reports whether another reservation takes the address or the client of one before that
// has changed, as when two swap theirs.
func (p *planner) taken(was, now yang.Reservation) bool {
	moves, changes := was.Address != now.Address, !sameClient(was, now)
	if !moves && !changes {
		return false
	}
	return slices.ContainsFunc(p.now.DHCP.Reservation, func(o yang.Reservation) bool {
		return o.ID != was.ID && (moves && o.Address == was.Address ||
			changes && p.now.pools[o.Pool].Subnet == p.was.pools[was.Pool].Subnet && sameClient(o, was))
	})
}

// sameClient reports whether two reservations are for one client, known by its identifier or its MAC.
func sameClient(a, b yang.Reservation) bool {
	return a.MAC == b.MAC && bytes.Equal(a.Client, b.Client)
}

// givesWay reports whether a reservation moves off an address that a pool takes,
// which it must have left by then: some devices refuse one inside a pool.
func (p *planner) givesWay(was, now yang.Reservation) bool {
	return was.Address != now.Address &&
		slices.ContainsFunc(p.now.DHCP.Pool, func(q yang.Pool) bool { return q.HandsOut(was.Address) })
}

func (p *planner) reserve() (steps []Step) {
	for _, r := range p.now.DHCP.Reservation {
		was, had := p.was.reservations[r.ID]
		if had && !p.withdraw[was.Pool] && !p.withdraw[r.Pool] && reflect.DeepEqual(was, r) {
			continue
		}
		pool := p.now.pools[r.Pool]
		why := "Always for " + whom(r)
		if had && was.Address != r.Address {
			why += fmt.Sprintf(", was `%s`", was.Address)
		}
		steps = append(steps, put("Reserve",
			fmt.Sprintf("`%s` for %s", address.Short(r.Address, pool.Subnet), title(r)), why,
			yang.ReservationPath(r.ID), r))
	}
	return steps
}
