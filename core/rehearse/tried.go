package rehearse

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"lithos/core/address"
	"lithos/core/dhcp"
	"lithos/core/names"
	"lithos/core/site"
	"lithos/core/yang"
)

// Tried is what came of a client that was tried on devices.
type Tried struct {
	Network *site.Network // that it ended on
	At      string        // where it was plugged in: a port and its device
	Scenes  []Scene
	Up      bool // whether that port is up, by its device
	// Ping asks an address for an echo (RFC 792) from the network; problem is why that could not be tried.
	Ping func(to netip.Addr) (answers bool, problem string)
	// Outside is an address on the internet that answers an echo; invalid where none is known.
	Outside netip.Addr
	// Running is what the devices hold that do not hold what the site gives them, by id.
	Running map[string]yang.Config
}

// LadderTried is the ladder of a client that was tried on devices: each rung is what was tried, and what was not is not
// known. Where nobody answers, the cause is told that shows in what the devices hold.
func LadderTried(
	now time.Time, s *site.Site, leases Leases, beside map[string][]yang.Program, live names.Live, t Tried,
) []Rung {
	n, last := t.Network, t.Scenes[len(t.Scenes)-1]
	lease := t.lease(now, s, leases, last)
	rungs := []Rung{t.link(now, s), lease}
	router := last.ack().Router()
	given, err := netip.ParseAddr(last.Address)
	if err != nil || lease.State != Pass {
		return append(rungs, skipped("not tried: it has no lease", slices.Concat([]string{"gateway", "internet"},
			nameRungs)...)...)
	}
	passed := last.Messages
	st := NewStage(now, s, leases.with(s, given, passed, now))
	st.live, st.given, st.beside = live, given, beside
	gateway := Rung{"gateway", Fail, "It is told no router", "router-missing"}
	if router.IsValid() {
		gateway = t.echo("gateway", router)
	}
	if gateway.State != Pass {
		return append(append(rungs, gateway), skipped("not tried: needs the gateway",
			slices.Concat([]string{"internet"}, nameRungs)...)...)
	}
	internet := Rung{Name: "internet", State: Skip, Value: "not tried: no address outside is known that answers"}
	if t.Outside.IsValid() {
		internet = t.echo("internet", t.Outside)
	}
	ack := last.ack()
	return append(append(rungs, gateway, internet), st.names(n, router, &ack, internet.State != Fail)...)
}

// ack is the last reply that gave or renewed an address; without one it is empty.
func (s Scene) ack() dhcp.Message {
	for _, m := range slices.Backward(s.Messages) {
		if m.Type == "ack" {
			return m
		}
	}
	return dhcp.Message{}
}

// answered reports whether any server answered the client where it ended.
func (t Tried) answered() bool {
	return slices.ContainsFunc(t.Scenes, func(s Scene) bool {
		return s.Network == t.Network.Name && slices.ContainsFunc(s.Messages, func(m dhcp.Message) bool {
			return m.Type == "offer" || m.Type == "ack" || m.Type == "nak"
		})
	})
}

// failsHeld is the lowest rung that fails as devices hold the network.
func (t Tried) failsHeld(now time.Time, s *site.Site) (Rung, bool) {
	st := newStage(now, s, t.Running, nil)
	at, there := st.site.Network(t.Network.ID)
	if !there {
		return Rung{}, false
	}
	rungs := st.ladder(at)
	i := slices.IndexFunc(rungs, func(r Rung) bool {
		return r.State == Fail || r.State == Skip && r.Rule == "network-unserved"
	})
	if i < 0 {
		return Rung{}, false
	}
	return rungs[i], true
}

func (t Tried) link(now time.Time, s *site.Site) Rung {
	cause, fails := t.failsHeld(now, s)
	switch {
	case t.answered():
		return Rung{Name: "link", State: Pass, Value: "answered at " + t.At}
	case !t.Up:
		return Rung{Name: "link", State: Fail, Value: t.At + " is not up"}
	case fails && cause.Name == "link":
		return cause
	}
	return Rung{Name: "link", State: Skip, Value: t.At + " is up; as nobody answered, no more is known"}
}

func (t Tried) lease(now time.Time, s *site.Site, leases Leases, last Scene) Rung {
	given, err := netip.ParseAddr(last.Address)
	switch {
	case err == nil && last.ack().Type != "":
		return Rung{Name: "lease", State: Pass, Value: address.Short(given, t.Network.Prefix)}
	case last.Do == ActRelease:
		return Rung{Name: "lease", State: Skip, Value: "it gave its address back"}
	case err == nil:
		return Rung{Name: "lease", State: Fail, Value: fmt.Sprintf("Nobody renewed %s; it has it until its lease ends",
			given)}
	}
	if cause, fails := t.failsHeld(now, s); fails && !t.answered() && cause.Name != "link" {
		return Rung{"lease", Fail, cause.Value, cause.Rule}
	}
	why := ""
	if k := len(last.Messages); k > 0 {
		why = strings.TrimSuffix(last.Messages[k-1].Why, ".")
	}
	return Rung{Name: "lease", State: Fail, Value: cmp.Or(why, "Nobody answered")}
}

func (t Tried) echo(rung string, to netip.Addr) Rung {
	answers, problem := t.Ping(to)
	switch {
	case problem != "":
		return Rung{Name: rung, State: Skip, Value: "not tried: " + problem}
	case !answers:
		return Rung{Name: rung, State: Fail, Value: to.String() + " does not answer"}
	}
	return Rung{Name: rung, State: Pass, Value: to.String() + " answers"}
}
