// Package plan turns the difference between what a device holds and what it
// must hold into steps, in an order the device accepts at every one of them.
package plan

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/netip"
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

// markInterfaces finds the interfaces that go or are made anew, and those whose
// addresses go.
func (p *planner) markInterfaces() {
	for _, i := range p.was.Interfaces.Interface {
		j, stays := p.now.interfaces[i.Name]
		if !stays || i.Type != j.Type || i.Enabled != j.Enabled || !reflect.DeepEqual(i.VLAN, j.VLAN) {
			p.rebuild[i.Name] = true
		}
		if i.IPv4 != nil && (!stays || !reflect.DeepEqual(i.IPv4, j.IPv4)) {
			p.readdress[i.Name] = true
		}
	}
}

// markCarried makes anew what an interface carries that is made anew, too.
func (p *planner) markCarried() {
	for again := true; again; {
		again = false
		for _, i := range p.was.Interfaces.Interface {
			if i.VLAN != nil && p.rebuild[i.VLAN.Parent] && !p.rebuild[i.Name] {
				p.rebuild[i.Name], again = true, true
			}
		}
	}
	for _, i := range p.was.Interfaces.Interface {
		if p.rebuild[i.Name] && i.IPv4 != nil {
			p.readdress[i.Name] = true
		}
	}
}

// markPools finds the pools that go, for good or until their interface is ready.
func (p *planner) markPools() {
	// A pool for relayed clients needs an address to answer from, whichever.
	stand := slices.ContainsFunc(p.was.Interfaces.Interface,
		func(i yang.Interface) bool { return i.IPv4 != nil && !p.readdress[i.Name] })
	for _, q := range p.was.DHCP.Pool {
		r, stays := p.now.pools[q.ID]
		if !stays || p.readdress[q.Interface] || q.Interface == "" && !stand || q.Interface != r.Interface ||
			q.Subnet != r.Subnet {
			p.withdraw[q.ID] = true
		}
	}
}

// markRanges finds the pools whose addresses another pool takes: they keep until then only what
// they have before and after. One of which nothing is left is withdrawn.
func (p *planner) markRanges() {
	for _, q := range p.was.DHCP.Pool {
		now, stays := p.now.pools[q.ID]
		if !stays || p.withdraw[q.ID] || reflect.DeepEqual(q.Range, now.Range) {
			continue
		}
		taken := slices.ContainsFunc(p.now.DHCP.Pool, func(o yang.Pool) bool {
			return o.ID != q.ID &&
				slices.ContainsFunc(o.Range, func(r yang.Span) bool { return overlaps(q.Range, r) })
		})
		if !taken {
			continue
		}
		var kept []yang.Span
		for _, was := range q.Range {
			for _, is := range now.Range {
				if part, ok := was.AddressRange().Intersect(is.AddressRange()); ok {
					kept = append(kept, yang.Span{Start: part.From, End: part.To})
				}
			}
		}
		if len(kept) == 0 {
			p.withdraw[q.ID] = true
			continue
		}
		p.narrow[q.ID] = kept
	}
}

func overlaps(spans []yang.Span, r yang.Span) bool {
	return slices.ContainsFunc(spans, func(s yang.Span) bool { return s.AddressRange().Overlaps(r.AddressRange()) })
}

// narrowPools takes from pools what others are about to hand out.
func (p *planner) narrowPools() (steps []Step) {
	for _, q := range p.was.DHCP.Pool {
		kept, ok := p.narrow[q.ID]
		if !ok || slices.Equal(kept, q.Range) {
			continue
		}
		now := p.now.pools[q.ID]
		rest := now
		if rest.Range, rest.Exclusion = q.Range, q.Exclusion; slices.Equal(kept, now.Range) &&
			reflect.DeepEqual(rest, q) {
			p.settled[q.ID] = true // it only shrinks, and is then what it shall be
			steps = append(steps, serve(now))
			continue
		}
		q.Range = kept
		q.Exclusion = slices.DeleteFunc(slices.Clone(q.Exclusion),
			func(x yang.Exclusion) bool { return !overlaps(kept, x.Span) })
		steps = append(steps, put("Narrow", fmt.Sprintf("pool %s to %s for now", q.Name, runs(q)),
			"Another pool is about to hand out the rest", yang.PoolPath(q.ID), q))
	}
	return steps
}

// runs is the ranges of a pool in words.
func runs(q yang.Pool) string {
	var out []string
	for _, r := range q.Range {
		out = append(out, "`"+r.AddressRange().Short(q.Subnet)+"`")
	}
	return strings.Join(out, ", ")
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
			"The server has no interface on that network", yang.RelayPath(r.Interface), r))
	}
	return steps
}

// freeMembers takes ports out of their groups before another group takes them.
func (p *planner) freeMembers() (steps []Step) {
	for _, i := range p.was.Interfaces.Interface {
		now, stays := p.now.interfaces[i.Name]
		if !stays || p.rebuild[i.Name] {
			continue
		}
		kept := slices.DeleteFunc(slices.Clone(i.Member),
			func(m string) bool { return !slices.Contains(now.Member, m) || p.rebuild[m] })
		if len(kept) == len(i.Member) {
			continue
		}
		i.Member = kept
		steps = append(steps, put("Free", fmt.Sprintf("the ports that leave `%s`", i.Name),
			"A port is in one group at a time", yang.InterfacePath(i.Name), i))
	}
	return steps
}

// tune changes what an interface lets pass, without taking its addresses away.
func (p *planner) tune() (steps []Step) {
	for _, i := range p.now.Interfaces.Interface {
		was, had := p.was.interfaces[i.Name]
		fresh := !had || p.rebuild[i.Name]
		freed := slices.ContainsFunc(i.Member, func(m string) bool { return p.rebuild[m] })
		if fresh && len(i.Member) == 0 || !fresh && !freed && sameManner(was, i) {
			continue
		}
		text := manner(was, i)
		if i.IPv4 = was.IPv4; fresh || p.readdress[i.Name] {
			i.IPv4 = nil
		}
		steps = append(steps, put("Set", fmt.Sprintf("`%s`: %s", i.Name, text), tuned(i),
			yang.InterfacePath(i.Name), i))
	}
	return steps
}

func sameManner(a, b yang.Interface) bool {
	a.IPv4, b.IPv4 = nil, nil
	return reflect.DeepEqual(a, b)
}

// manner says in words what about an interface changes.
func manner(was, now yang.Interface) string {
	var out []string
	if !slices.Equal(was.Member, now.Member) {
		out = append(out, "groups "+orNone(strings.Join(now.Member, ", ")))
	}
	if !reflect.DeepEqual(was.Switchport, now.Switchport) {
		out = append(out, "carries "+vlans(now.Switchport))
	}
	if !slices.Equal(was.Permit, now.Permit) {
		out = append(out, "permits "+orNone(strings.Join(now.Permit, ", ")))
		if len(now.Permit) == 0 {
			out[len(out)-1] = "permits everything"
		}
	}
	if !reflect.DeepEqual(was.Uplink, now.Uplink) {
		out = append(out, uplinkChange(was.Uplink, now.Uplink))
	}
	if len(out) == 0 {
		return "its ports again"
	}
	return strings.Join(out, "; ")
}

func orNone(s string) string {
	if s == "" {
		return "nothing"
	}
	return s
}

func vlans(p *yang.Switchport) string {
	switch {
	case p == nil:
		return "every frame"
	case len(p.Tagged) == 0:
		return fmt.Sprintf("VLAN %d untagged", p.Untagged)
	}
	out := strings.Trim(strings.ReplaceAll(fmt.Sprint(p.Tagged), " ", ", "), "[]") + " tagged"
	if p.Untagged != 0 {
		out = fmt.Sprintf("VLAN %d untagged, %s", p.Untagged, out)
	}
	return out
}

// uplinkChange says what of an uplink changes: the networks that come and go where that is all.
func uplinkChange(was, now *yang.Uplink) string {
	if was == nil || now == nil {
		return uplink(now)
	}
	rest := *was
	rest.Translate = now.Translate
	if !reflect.DeepEqual(&rest, now) {
		return uplink(now)
	}
	var out []string
	for _, side := range []struct {
		word        string
		has, hasNot []netip.Prefix
	}{{"translates", now.Translate, was.Translate}, {"no longer translates", was.Translate, now.Translate}} {
		var nets []string
		for _, n := range side.has {
			if !slices.Contains(side.hasNot, n) {
				nets = append(nets, "`"+n.String()+"`")
			}
		}
		if len(nets) > 0 {
			out = append(out, side.word+" "+strings.Join(nets, ", "))
		}
	}
	if len(out) == 0 {
		return "translates the same networks in another order"
	}
	return strings.Join(out, "; ")
}

func uplink(u *yang.Uplink) string {
	if u == nil {
		return "no longer an uplink"
	}
	var nets []string
	for _, n := range u.Translate {
		nets = append(nets, "`"+n.String()+"`")
	}
	return fmt.Sprintf("address %s, MTU %d, translates %s", methodWords[u.Method], u.MTU,
		orNone(strings.Join(nets, ", ")))
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

func (p *planner) dropPools() (steps []Step) {
	for _, q := range p.was.DHCP.Pool {
		if !p.withdraw[q.ID] {
			continue
		}
		why := "Its interface is about to change"
		if _, stays := p.now.pools[q.ID]; !stays {
			why = "It is no longer wanted; clients keep their addresses until their leases end"
		}
		steps = append(steps, drop("Withdraw", "pool "+q.Name+from(q), why, yang.PoolPath(q.ID)))
	}
	return steps
}

func from(q yang.Pool) string {
	if q.Interface == "" {
		return ""
	}
	return " from `" + q.Interface + "`"
}

func (p *planner) dropAddresses() (steps []Step) {
	for _, i := range p.was.Interfaces.Interface {
		if p.readdress[i.Name] {
			steps = append(steps, drop("Remove", fmt.Sprintf("%s from `%s`", addresses(i.IPv4), i.Name),
				"A device refuses an address that overlaps one it has", yang.IPv4Path(i.Name)))
		}
	}
	return steps
}

func addresses(v *yang.IPv4) string {
	var out []string
	for _, a := range v.Address {
		out = append(out, "`"+a.Prefix().String()+"`")
	}
	return strings.Join(out, ", ")
}

// dropInterfaces removes VLAN interfaces before what carries them.
func (p *planner) dropInterfaces() (steps []Step) {
	for _, i := range carriedFirst(p.was.Interfaces.Interface) {
		if p.rebuild[i.Name] {
			steps = append(steps, drop("Remove", fmt.Sprintf("interface `%s`", i.Name), "Nothing is left on it",
				yang.InterfacePath(i.Name)))
		}
	}
	return steps
}

// carriedFirst orders interfaces so that each comes before its parent.
func carriedFirst(list []yang.Interface) []yang.Interface {
	byName := by(list, func(i yang.Interface) string { return i.Name })
	depth := func(i yang.Interface) int {
		d := 0
		for i.VLAN != nil && d <= len(list) {
			parent, ok := byName[i.VLAN.Parent]
			if !ok {
				break
			}
			i, d = parent, d+1
		}
		return d
	}
	out := slices.Clone(list)
	slices.SortStableFunc(out, func(a, b yang.Interface) int { return depth(b) - depth(a) })
	return out
}

func (p *planner) addInterfaces() (steps []Step) {
	list := carriedFirst(p.now.Interfaces.Interface)
	slices.Reverse(list)
	for _, i := range list {
		if _, had := p.was.interfaces[i.Name]; had && !p.rebuild[i.Name] {
			continue
		}
		bare := i
		bare.IPv4, bare.Member = nil, nil // the ports of a group may come after it
		text, why := fmt.Sprintf("interface `%s`", i.Name), "It carries what follows"
		if i.VLAN != nil {
			text, why = fmt.Sprintf("VLAN %d on `%s` as `%s`", i.VLAN.ID, i.VLAN.Parent, i.Name),
				"Tagged frames of this VLAN reach the device through it"
		}
		steps = append(steps, put("Add", text, why, yang.InterfacePath(i.Name), bare))
	}
	return steps
}

func (p *planner) giveAddresses() (steps []Step) {
	for _, i := range p.now.Interfaces.Interface {
		was, had := p.was.interfaces[i.Name]
		if i.IPv4 == nil || had && !p.readdress[i.Name] && reflect.DeepEqual(was.IPv4, i.IPv4) {
			continue
		}
		steps = append(steps, put("Give", fmt.Sprintf("`%s` the address %s", i.Name, addresses(i.IPv4)),
			"Clients use it as their gateway and server", yang.IPv4Path(i.Name), i.IPv4))
	}
	return steps
}

func (p *planner) servePools() (steps []Step) {
	for _, q := range p.now.DHCP.Pool {
		was, had := p.was.pools[q.ID]
		if p.settled[q.ID] || had && !p.withdraw[q.ID] && reflect.DeepEqual(was, q) {
			continue
		}
		step := serve(q)
		if what := told(was, q); had && !p.withdraw[q.ID] && what != "" {
			step.Why += "; " + what
		}
		steps = append(steps, step)
	}
	return steps
}

// told says which options of a pool change.
func told(was, now yang.Pool) string {
	var tells, other, ends []string
	name := func(code uint8) string {
		d, known := option.Own(nil).Lookup(code)
		if !known {
			return fmt.Sprintf("option %d", code)
		}
		return d.InSentence()
	}
	before := by(was.Option, func(o yang.Option) uint8 { return o.Code })
	after := by(now.Option, func(o yang.Option) uint8 { return o.Code })
	for _, o := range now.Option {
		switch old, had := before[o.Code]; {
		case !had:
			tells = append(tells, name(o.Code))
		case !reflect.DeepEqual(old, o):
			other = append(other, name(o.Code))
		}
	}
	for _, o := range was.Option {
		if _, stays := after[o.Code]; !stays {
			ends = append(ends, name(o.Code))
		}
	}
	var out []string
	for _, part := range []struct {
		words string
		names []string
	}{{"now tells ", tells}, {"tells another value of ", other}, {"no longer tells ", ends}} {
		if len(part.names) > 0 {
			out = append(out, part.words+strings.Join(part.names, ", "))
		}
	}
	return strings.Join(out, "; ")
}

func serve(q yang.Pool) Step {
	verb, why := "Serve", "Switched on"
	if !q.Enabled {
		verb, why = "Store", "Switched off: no client is answered from it"
	}
	for _, x := range q.Exclusion {
		why += ", excludes " + x.AddressRange().Short(q.Subnet)
	}
	where := "on `" + q.Interface + "`"
	if q.Interface == "" {
		where = "through a relay"
	}
	return put(verb, fmt.Sprintf("pool %s %s %s", q.Name, runs(q), where), why, yang.PoolPath(q.ID), q)
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

// methodWords is how an uplink gets its address, in words.
var methodWords = map[string]string{"dhcp": "by DHCP", "fixed": "fixed", "pppoe": "by PPPoE"}

// tuned says what setting an interface is for.
func tuned(i yang.Interface) string {
	switch {
	case i.Uplink != nil:
		return "How the uplink gets its address, and which networks it translates"
	case i.Switchport != nil:
		return "The port carries these VLANs"
	case len(i.Member) > 0:
		return "The ports are one network"
	}
	return "The interface accepts these requests from its clients"
}
