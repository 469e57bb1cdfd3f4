package poll

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"github.com/miekg/dns"

	"lithos/core/names"
	"lithos/core/site"
	"lithos/core/topology"
	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/device"
	"lithos/internal/order"
)

// Ask asks the devices of a site a question, as somebody there would: of the name servers that the
// site's newest revision tells them of, through the device that hears them.
func (s *Service) Ask(ctx context.Context, code string, q names.Question) (*names.Answer, error) {
	sc, _, _, err := s.sites.SceneOf(ctx, code, 0)
	if err != nil {
		return nil, err
	}
	access, err := s.store.Access(ctx, sc.Site.ID)
	if err != nil {
		return nil, err
	}
	l := live{Service: s, ctx: ctx, site: sc.Site, access: access, drivers: map[string]*device.RESTCONF{}}
	defer l.close()
	world := names.NewLive(time.Now(), sc.Site, sc.Book(), l.ask)
	world.Beside(order.Programs(access))
	a, err := world.Ask(q)
	var fields site.FieldErrors
	switch {
	case errors.As(err, &fields):
		return nil, actor.RefuseFields("Nothing was asked", fields)
	case err != nil:
		return nil, err
	}
	return &a, nil
}

// LookInto is what the resolver of a device keeps and was asked.
type LookInto struct {
	Device string             `json:"device"` // name
	State  yang.ResolverState `json:"state"`
	At     time.Time          `json:"at"`
}

// LookInto reads the state of a resolver from its device.
func (s *Service) LookInto(ctx context.Context, code, resolver string) (out *LookInto, err error) {
	err = s.atResolver(ctx, code, resolver, func(d *site.Device, driver *device.RESTCONF) error {
		state, err := driver.ResolverState(ctx)
		out = &LookInto{Device: d.Name, State: state, At: time.Now()}
		return err
	})
	return out, err
}

// ResolverAct is what a technician does to a running resolver: nothing of it is configuration.
type ResolverAct struct {
	Flush bool   `json:"flush,omitempty" doc:"forget kept answers"`
	Name  string `json:"name,omitempty" maxLength:"253" doc:"of this name alone"`
	Watch int    `json:"watch,omitempty" minimum:"-1" maximum:"3600" doc:"write questions down for so many seconds; -1 ends it"`
}

// Act does it, and says what the resolver is like after it.
func (s *Service) Act(ctx context.Context, by actor.Technician, code, resolver string, a ResolverAct) (*LookInto,
	error) {
	err := s.atResolver(ctx, code, resolver, func(d *site.Device, driver *device.RESTCONF) error {
		says := ""
		switch {
		case a.Flush:
			n, err := driver.FlushNames(ctx, a.Name)
			if err != nil {
				return err
			}
			says = fmt.Sprintf("made %s forget %s", d.Name, site.Counted(n, "answer"))
		case a.Watch != 0:
			if err := driver.WatchNames(ctx, time.Duration(max(a.Watch, 0))*time.Second); err != nil {
				return err
			}
			says = fmt.Sprintf("had questions to %s written down for %d seconds", d.Name, a.Watch)
			if a.Watch < 0 {
				says = fmt.Sprintf("ended the writing down of questions to %s", d.Name)
			}
		default:
			return nil
		}
		return actor.Record(ctx, s.store.Queries, by, "resolver", code, says)
	})
	if err != nil {
		return nil, err
	}
	return s.LookInto(ctx, code, resolver)
}

// atResolver does something to the device of a resolver.
func (s *Service) atResolver(
	ctx context.Context, code, resolver string, do func(d *site.Device, driver *device.RESTCONF) error,
) error {
	sc, _, _, err := s.sites.SceneOf(ctx, code, 0)
	if err != nil {
		return err
	}
	r, ok := sc.Site.Resolver(resolver)
	if !ok {
		return actor.Refuse(actor.Missing, "There is no such resolver on the devices yet; push it first.")
	}
	d, ok := sc.Site.Device(r.Device)
	if !ok {
		return actor.Refuse(actor.Missing, "The resolver's device is not at the site any more.")
	}
	access, err := s.store.Access(ctx, sc.Site.ID)
	if err != nil {
		return err
	}
	l := live{Service: s, ctx: ctx, site: sc.Site, access: access, drivers: map[string]*device.RESTCONF{}}
	defer l.close()
	driver, why := l.driver(d)
	if driver == nil {
		return actor.Refuse(actor.Conflict, "%s", why)
	}
	if err := do(d, driver); err != nil {
		var refused *device.RefusedError
		if errors.As(err, &refused) {
			return actor.Refuse(actor.Conflict, "%s has no resolver running: %s", d.Name, refused.Says)
		}
		return actor.Refuse(actor.Conflict, "%s does not answer Lithos: %s.", d.Name, err)
	}
	return nil
}

// live asks questions through devices.
type live struct {
	*Service
	ctx     context.Context
	site    *site.Site
	access  []order.Access
	drivers map[string]*device.RESTCONF
}

func (l live) close() {
	for _, d := range l.drivers {
		d.Close()
	}
}

func (l live) ask(by names.Asking, server netip.Addr, name string, typ uint16) (*dns.Msg, time.Duration, string) {
	d := by.Own
	source := netip.Addr{}
	if d == nil {
		heard, _, ok := topology.Hearing(l.site, by.Network)
		if !ok {
			return nil, 0, "No device has an interface in " + by.Network.Name + ", so that nobody can be plugged in " +
				"there."
		}
		d, source = heard, by.From
	}
	driver, why := l.driver(d)
	if driver == nil {
		return nil, 0, why
	}
	m, took, problem, err := driver.Resolve(l.ctx, source, server, name, typ)
	if err != nil {
		return nil, 0, d.Name + " does not answer Lithos: " + err.Error() + "."
	}
	if problem != "" {
		problem = "Asked through " + d.Name + ": " + problem + "."
	}
	return m, took, problem
}

func (l live) driver(d *site.Device) (*device.RESTCONF, string) {
	if driver := l.drivers[d.ID]; driver != nil {
		return driver, ""
	}
	at := order.On(l.access, d.ID)
	if at == nil {
		return nil, "Lithos does not reach " + d.Name + ", which hears them. Ask there by hand."
	}
	driver, err := l.devices.Reach(*at)
	if err != nil {
		return nil, d.Name + " cannot be reached: " + err.Error() + "."
	}
	l.drivers[d.ID] = driver
	return driver, ""
}
