// Package sequence puts the steps for several devices of a site in one order and proves it: what the devices
// hold after each step is simulated, and judged by who is served, what collides and which device can still
// be reached. Nothing is sent to any device.
package sequence

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/compile"
	"lithos/core/plan"
	"lithos/core/site"
	"lithos/core/yang"
)

// Device is a device that is to be brought from what it holds to a goal.
type Device struct {
	ID, Name, Kind string
	Running, Goal  yang.Config
	// ByHand is a device that somebody changes at its console. Its steps come before those of the others,
	// which wait for nobody once they have begun.
	ByHand bool
}

// Placed is a step at its place in the order of all.
type Placed struct {
	Device string `json:"device"` // id
	plan.Step
}

// Gap is something that is not so between two steps, though it is so before and after the push.
type Gap struct {
	After int    `json:"after"` // the step, counted from 1, after which it begins
	Until int    `json:"until"` // the step that ends it
	Says  string `json:"says"`  // a sentence, with names and `addresses`
	Kind  string `json:"kind" enum:"unserved,collides,lost"`
	// Network is the id of the network whose clients are not served.
	Network string `json:"network,omitempty"`
}

// The kinds of gaps.
const (
	Unserved = "unserved" // the clients of a network get no answer
	Collides = "collides" // two devices hold what only one may
	Lost     = "lost"     // Lithos cannot reach a device that has steps to come
)

// Order is steps in the order in which they are carried out, and what that order costs.
type Order struct {
	Steps []Placed `json:"steps"`
	Gaps  []Gap    `json:"gaps"`
}

// Console is the gap for which somebody has to be at a device's console; nil where Lithos reaches each device
// until its last step.
func (o Order) Console() *Gap {
	for i := range o.Gaps {
		if o.Gaps[i].Kind == Lost {
			return &o.Gaps[i]
		}
	}
	return nil
}

// Of orders the steps of a push that makes goal of base. Where in each order two devices hold the same at once, steps
// are added that give some of them another address for a while, as long as that helps.
func Of(base, goal *site.Site, devices []Device) Order {
	return within(mostJudged, base, goal, devices)
}

// within orders the steps and looks at no more than so many states in search of the best order.
func within(most int, base, goal *site.Site, devices []Device) Order {
	extra := map[string]aside{} // by device
	best := ordered(most, base, goal, devices, extra)
	for found := true; found && best.collides(); {
		found = false
		for _, e := range asides(base, goal, devices) {
			if _, has := extra[e.device]; has || !best.collides() {
				continue
			}
			more := maps.Clone(extra)
			more[e.device] = e
			if with := ordered(most, base, goal, devices, more); with.cost < best.cost {
				best, extra, found = with, more, true
			}
		}
	}
	return best.Order
}

// asides lists the interfaces that could be given another address for a while.
func asides(base, goal *site.Site, devices []Device) []aside {
	var out []aside
	used := map[netip.Addr]bool{}
	for _, d := range devices {
		for _, i := range d.Running.Interfaces.Interface {
			if i.IPv4 == nil || len(i.IPv4.Address) != 1 || d.ByHand {
				continue
			}
			if free, ok := freeBoth(base, goal, i.IPv4.Address[0].Prefix(), used); ok {
				used[free] = true
				out = append(out, aside{d.ID, i.Name, free})
			}
		}
	}
	return out
}

// freeBoth is an address of a subnet that nobody has, neither before nor after, and that is not used.
func freeBoth(base, goal *site.Site, subnet netip.Prefix, used map[netip.Addr]bool) (netip.Addr, bool) {
	for n := range goal.Networks {
		was, had := base.Network(goal.Networks[n].ID)
		if !had || was.Prefix.Masked() != subnet.Masked() {
			continue
		}
		for a := range site.Free(base, was) {
			if _, taken := holderOf(goal.Devices, a); !taken && !used[a] {
				return a, true
			}
		}
	}
	return netip.Addr{}, false
}

// aside is an interface that is given another address first, for a while.
type aside struct {
	device, iface string
	address       netip.Addr
}

type judged struct {
	Order
	cost int
}

func (j judged) collides() bool {
	return slices.ContainsFunc(j.Gaps, func(g Gap) bool { return g.Kind == Collides })
}

func ordered(most int, base, goal *site.Site, devices []Device, extra map[string]aside) judged {
	w := newWorld(base, goal, devices)
	for _, d := range devices {
		steps := plan.Between(d.Running, d.Goal)
		if e, has := extra[d.ID]; has {
			steps = first(d, e, steps)
		}
		c := newChain(d, steps)
		c.stays = len(steps) > 0 && steps[0].Why == setAside
		c.late(w)
		w.chains = append(w.chains, c)
	}
	moves, cost := w.search(most)
	return judged{w.orderOf(moves), cost}
}

const setAside = "Another device takes its address, and two cannot have it at once"

// first is the steps with one before them that gives an interface another address.
func first(d Device, e aside, otherwise []plan.Step) []plan.Step {
	with := d.Running
	with.Interfaces.Interface = slices.Clone(with.Interfaces.Interface)
	at := slices.IndexFunc(with.Interfaces.Interface, func(i yang.Interface) bool { return i.Name == e.iface })
	i := with.Interfaces.Interface[at]
	v := *i.IPv4
	v.Address = []yang.Address{{IP: e.address, PrefixLength: v.Address[0].PrefixLength}}
	i.IPv4, with.Interfaces.Interface[at] = &v, i
	step := plan.Step{Verb: "Give", Adds: true, Text: fmt.Sprintf("`%s` for now the address `%s`", e.iface,
		v.Address[0].Prefix()),
		Why: setAside, Method: "PUT",
		Path: yang.IPv4Path(e.iface), Body: yang.Body(&v)}
	steps := append([]plan.Step{step}, plan.Between(with, d.Goal)...)
	if _, ok := states(d, steps); !ok {
		return otherwise
	}
	return steps
}

// chain is the steps of one device, and what it holds before the first and after each.
type chain struct {
	Device
	steps  []plan.Step
	states []yang.Config
	stays  bool // the first step stays where it is
}

func newChain(d Device, steps []plan.Step) chain {
	c := chain{Device: d, steps: steps}
	now := frame(d.Running)
	c.states = append(c.states, now)
	for _, s := range steps {
		if concerns(s) {
			_ = s.Apply(&now) // the plan's steps apply
		}
		c.states = append(c.states, now)
	}
	return c
}

// frame is as much of a configuration as says who is reached and served.
func frame(c yang.Config) yang.Config {
	return yang.Config{Interfaces: c.Interfaces, DHCP: yang.DHCPServer{Pool: c.DHCP.Pool}, Relays: c.Relays}
}

// states is what a device holds before the first step and after each; ok is false where it would refuse one, or where
// they do not lead to its goal.
func states(d Device, steps []plan.Step) (held []yang.Config, ok bool) {
	ok = true
	now := d.Running
	held = append(held, now)
	for _, s := range steps {
		next := now
		if s.Apply(&next) != nil || concerns(s) && (next.Validate() != nil || compile.Limits(d.Kind, next) != nil) {
			ok = false
		}
		held = append(held, next)
		now = next
	}
	return held, ok && now.Equal(d.Goal)
}

// concerns reports whether a step has to do with who is reached and served, rather than with what a
// client is told.
func concerns(s plan.Step) bool {
	if s.Method == "PATCH" {
		return true
	}
	for _, of := range []string{yang.InterfacePath(""), yang.PoolPath(""), yang.RelayPath("")} {
		if strings.HasPrefix(s.Path, of) {
			return true
		}
	}
	return false
}

// onPath reports whether a step may change by which way a device is reached.
func onPath(s plan.Step) bool {
	return s.Method == "PATCH" || strings.HasPrefix(s.Path, yang.InterfacePath(""))
}

// late moves the steps by which Lithos loses the device, or reaches it at another address, as far to the end as the
// device accepts. An interface that is taken away for a while, and by which it is reached, changes in one step instead:
// in between there would be no way to it.
func (c *chain) late(w *world) {
	for k := 0; k < len(c.steps); k++ {
		s := c.steps[k]
		if s.Method == "DELETE" && onPath(s) && w.cutsOff(c.ID, c.states[k], c.states[k+1]) {
			c.atOnce(k)
		}
	}
	for k := len(c.steps) - 1; k >= 0; k-- {
		if onPath(c.steps[k]) && !(k == 0 && c.stays) && w.cutsOff(c.ID, c.states[k], c.states[k+1]) {
			c.place(slices.Delete(slices.Clone(c.steps), k, k+1), c.steps[k])
		}
	}
	c.together(w)
}

// together makes one step of those from the first on behind which Lithos has no way to the device, so that it has
// none to come.
func (c *chain) together(w *world) {
	for k := range len(c.steps) - 1 {
		if !onPath(c.steps[k]) || !w.losesWay(c.ID, c.states[k], c.states[k+1]) {
			continue
		}
		one := plan.Together(c.steps[k:], "In between Lithos would not reach the device")
		steps := append(slices.Clone(c.steps[:k]), one)
		if held, ok := states(c.Device, steps); ok {
			c.steps, c.states = steps, held
		}
		return
	}
}

// atOnce makes one step of those about the interface that step k takes away, from that step on.
func (c *chain) atOnce(k int) {
	gone := c.steps[k]
	at := slices.IndexFunc(c.Goal.Interfaces.Interface, func(i yang.Interface) bool {
		return gone.Path == yang.InterfacePath(i.Name) || gone.Path == yang.IPv4Path(i.Name)
	})
	if at < 0 {
		return // it is gone for good
	}
	i := c.Goal.Interfaces.Interface[at]
	about := func(s plan.Step) bool { return s.Path == yang.InterfacePath(i.Name) || s.Path == yang.IPv4Path(i.Name) }
	others := append(slices.Clone(c.steps[:k]), slices.DeleteFunc(slices.Clone(c.steps[k:]), about)...)
	var gets, addresses []string
	if i.VLAN != nil {
		gets = append(gets, fmt.Sprintf("VLAN %d", i.VLAN.ID))
	}
	if i.IPv4 != nil {
		for _, a := range i.IPv4.Address {
			addresses = append(addresses, "`"+a.Prefix().String()+"`")
		}
		gets = append(gets, "the address "+strings.Join(addresses, ", "))
	}
	text := fmt.Sprintf("`%s` %s in one step", i.Name, strings.Join(gets, " and "))
	c.place(others, plan.Step{Verb: "Give", Adds: true, Text: text, Method: "PUT",
		Why:  "Lithos reaches the device by it: in two steps there would be no way back in between",
		Path: yang.InterfacePath(i.Name), Body: yang.Body(i)})
}

// place puts a step among others, as near to the end as the device accepts; nothing is changed where it accepts
// it nowhere.
func (c *chain) place(others []plan.Step, s plan.Step) {
	for to := len(others); to >= 0; to-- {
		steps := slices.Insert(slices.Clone(others), to, s)
		if held, ok := states(c.Device, steps); ok {
			c.steps, c.states = steps, held
			return
		}
	}
}

// orderOf is the order that moves stand for.
func (w *world) orderOf(moves []int) Order {
	o := Order{Steps: []Placed{}, Gaps: []Gap{}}
	at := make([]int, len(w.chains))
	open := map[string]*Gap{} // by what is said
	for _, i := range moves {
		c := w.chains[i]
		for end := c.upTo(at[i]); at[i] < end; at[i]++ {
			o.Steps = append(o.Steps, Placed{c.ID, c.steps[at[i]]})
		}
		now := map[string]trouble{}
		for _, t := range w.judge(at).troubles {
			now[t.says] = t
		}
		for says, g := range open {
			if _, lasts := now[says]; !lasts {
				g.Until = len(o.Steps)
				o.Gaps = append(o.Gaps, *g)
				delete(open, says)
			}
		}
		for says, t := range now {
			if open[says] == nil {
				open[says] = &Gap{After: len(o.Steps), Says: says, Kind: t.kind, Network: t.network}
			}
		}
	}
	for _, g := range open {
		g.Until = len(o.Steps)
		o.Gaps = append(o.Gaps, *g)
	}
	slices.SortFunc(o.Gaps, func(a, b Gap) int {
		if a.After != b.After {
			return a.After - b.After
		}
		return strings.Compare(a.Says, b.Says)
	})
	restored(o.Steps)
	return o
}

// restored says of each step that takes something away for a while in which step of all it comes back.
func restored(steps []Placed) {
	type at struct{ device, path string }
	back := map[at]int{} // where what is there comes next, seen from behind
	for i := len(steps) - 1; i >= 0; i-- {
		s := &steps[i]
		here := at{s.Device, s.Path}
		if why, _, says := strings.Cut(s.Why, "; it is restored in step "); says {
			s.Why = why
			if k, comes := back[here]; comes {
				s.Why += fmt.Sprintf("; it is restored in step %d", k+1)
			}
		}
		if s.Adds {
			back[here] = i
		}
	}
}
