package push

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"lithos/core/dhcp"
	"lithos/core/drawing"
	"lithos/core/names"
	"lithos/core/rehearse"
	"lithos/core/site"
	"lithos/core/topology"
	"lithos/internal/device"
	"lithos/internal/order"
	"lithos/internal/store/gen"
)

// climb runs the rungs of the ladder for every network the draft touches, with a
// client of Lithos's own on the device that hears the network, whether the push
// changed that device or not, for as long as half of what the devices wait for
// their confirm. What it does not come to is recorded as not verified. drivers are
// those of the devices it changed. Where a rung fails, it says on which device.
func (r *run) climb(ctx context.Context, drivers map[string]*device.RESTCONF) (where string, err error) {
	access, err := r.store.Access(ctx, r.push.SiteID)
	if err != nil {
		return "", stored(err)
	}
	for _, id := range r.networks {
		n, ok := r.draft.Doc().Network(id)
		if !ok {
			continue
		}
		d, i, why := r.whereHeard(n, access)
		if why != "" {
			if err := r.notVerified(ctx, n, why); err != nil {
				return n.Name, err
			}
			continue
		}
		driver, err := r.driverOf(drivers, access, d.ID)
		if err != nil {
			return d.Name, err
		}
		if err := (ladder{r, n, d.Name, i.Name, driver, drivers}).climb(ctx); err != nil {
			return d.Name, err
		}
	}
	return "", nil
}

// driverOf is the driver of a device that is reached: the one that changed it, which finds it at a new address, or
// another, which is closed with those.
func (r *run) driverOf(drivers map[string]*device.RESTCONF, access []order.Access, id string) (*device.RESTCONF,
	error) {
	if driver := drivers[id]; driver != nil {
		return driver, nil
	}
	driver, err := r.devices.Reach(*order.On(access, id))
	if err == nil {
		drivers[id] = driver
	}
	return driver, err
}

// whereHeard is the interface a network's ladder is climbed from, or why it is not.
func (r *run) whereHeard(n *site.Network, access []order.Access) (*site.Device, *site.Interface, string) {
	if time.Since(r.began) > r.Timing.ConfirmWithin/2 {
		return nil, nil, "There was no time to climb its ladder: the devices were waiting for their confirm"
	}
	d, i, on := topology.Hearing(r.draft.Doc(), n)
	switch {
	case on && i.Kind == site.Tunnel:
		return nil, nil, "Its clients come in by the tunnel " + i.Name + " of " + d.Name + ". Try it from one of them"
	case !on:
		return nil, nil, "No device has an interface in it, so that no client can be plugged in"
	case order.On(access, d.ID) == nil:
		return nil, nil, "Lithos does not reach " + d.Name + ", which hears its clients. Try a client there by hand"
	}
	return d, i, ""
}

// notVerified records that a network's ladder was not climbed.
func (r *run) notVerified(ctx context.Context, n *site.Network, why string) error {
	if err := r.skip(ctx, "", "ladder", n.Name+" is not verified: "+why); err != nil {
		return err
	}
	return r.putUnverified(ctx, n.Name, why)
}

// putUnverified keeps that something was not proved.
func (r *run) putUnverified(ctx context.Context, name, why string) error {
	return stored(r.stillOurs(r.store.PutUnverified(ctx, gen.PutUnverifiedParams{PushID: r.push.ID, Name: name,
		Why: why,
		Run: r.id})))
}

// ladder is the rungs of one network, climbed from an interface of a device.
type ladder struct {
	*run
	network       *site.Network
	device, iface string
	driver        *device.RESTCONF
	drivers       map[string]*device.RESTCONF // of all devices, by id
}

func (l ladder) climb(ctx context.Context) error {
	doc, n := l.draft.Doc(), l.network
	err := l.rung(ctx, "Link of ", func() error {
		l.found = "`" + l.iface + "` is up"
		return linkUp(ctx, l.driver, l.iface)
	})
	if err != nil {
		return err
	}
	router := n.Gateway
	if rehearse.Ladder(time.Now(), doc, n, nil)[1].State == rehearse.Pass {
		err := l.rung(ctx, "Lease on ", func() error {
			router, err = l.lease(ctx)
			return err
		})
		if err != nil {
			return err
		}
	}
	if !router.IsValid() {
		return nil
	}
	if err := l.rung(ctx, "Gateway of ", func() error { return l.answers(ctx, router) }); err != nil {
		return err
	}
	if l.Outside.IsValid() && rehearse.InternetRung(doc, n).State == rehearse.Pass {
		if err := l.rung(ctx, "Internet from ", func() error { return l.answers(ctx, l.Outside) }); err != nil {
			return err
		}
	}
	return l.names(ctx, router)
}

// names asks what the last rungs ask, of the name servers that clients of the network are told, through
// the device that hears them. What the rehearsal said would have no answer is not asked.
func (l ladder) names(ctx context.Context, router netip.Addr) error {
	doc := l.draft.Doc()
	live := func(by names.Asking, server netip.Addr, name string, typ uint16) (*dns.Msg, time.Duration, string) {
		m, took, problem, err := l.driver.Resolve(ctx, by.From, server, name, typ)
		if err != nil {
			problem = err.Error()
		}
		return m, took, problem
	}
	world := names.NewLive(time.Now(), doc, l.draft.Scene.Book(), live)
	by, err := world.Asker(site.Ref{Kind: site.KindNetwork, ID: l.network.ID}.String())
	if err != nil {
		return err
	}
	rehearsed := rehearse.Ladder(time.Now(), doc, l.network, nil)
	for _, q := range rehearse.NameQuestions(doc, router, l.OutsideName) {
		if q.Rung == rehearse.OutsideRung && !l.Outside.IsValid() && l.OutsideName == "" {
			continue // nobody said that the internet is there
		}
		i := slices.IndexFunc(rehearsed, func(r rehearse.Rung) bool { return r.Name == q.Rung })
		if i < 0 || rehearsed[i].State != rehearse.Pass {
			continue
		}
		err := l.rung(ctx, strings.ToUpper(q.Rung[:1])+q.Rung[1:]+" from ", func() error {
			a := world.AskAs(by, q.Name, q.Type)
			if a.Outcome != names.Found {
				return fmt.Errorf("%s: %s", a.Name, a.Outcome)
			}
			l.found = fmt.Sprintf("`%s` is `%s`", cmp.Or(a.Name, "."), a.Values[len(a.Values)-1])
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// lease leases an address at the port farthest from the network's interface where a client can be plugged in, so that
// the cables in between are tried as well; at that interface where there is none on a device that is reached.
func (l ladder) lease(ctx context.Context) (netip.Addr, error) {
	access, err := l.store.Access(ctx, l.push.SiteID)
	if err != nil {
		return netip.Addr{}, stored(err)
	}
	plugs := topology.Learn(l.draft.Doc()).Path(l.network).Plugs
	driver, e, err := device.Farthest(ctx, plugs, func(id string) (*device.RESTCONF, error) {
		if order.On(access, id) == nil {
			return nil, nil
		}
		return l.driverOf(l.drivers, access, id)
	})
	if err != nil {
		return netip.Addr{}, err
	}
	if driver == nil {
		return l.probe(ctx, l.driver, l.network, l.iface)
	}
	router, err := l.probe(ctx, driver, l.network, e.Interface.Name)
	if err != nil {
		return router, fmt.Errorf("at `%s` of %s: %w", e.Interface.Name, e.Device.Name, err)
	}
	l.found += fmt.Sprintf(" at `%s` of %s", e.Interface.Name, e.Device.Name)
	return router, nil
}

func (l ladder) rung(ctx context.Context, name string, do func() error) error {
	return l.note(ctx, l.device, "ladder", name+l.network.Name, do)
}

// answers pings an address from the interface.
func (l ladder) answers(ctx context.Context, a netip.Addr) error {
	l.found = "`" + a.String() + "` answers"
	replies, err := l.driver.Ping(ctx, l.iface, a)
	if err == nil && replies == 0 {
		err = fmt.Errorf("%s does not answer", a)
	}
	return err
}

func linkUp(ctx context.Context, driver *device.RESTCONF, iface string) error {
	o, err := driver.Observe(ctx)
	if err != nil {
		return err
	}
	for _, i := range o.Interfaces.Interface {
		if i.Name == iface && i.OperStatus == "up" {
			return nil
		}
	}
	return fmt.Errorf("%s is not up", iface)
}

// probe leases an address on the network, checks it against what the pools may
// hand out, and gives it back. It returns the router the client was told.
func (r *run) probe(ctx context.Context, driver *device.RESTCONF, n *site.Network, iface string) (netip.Addr, error) {
	wire, detach, err := driver.Attach(ctx, iface)
	if err != nil {
		return netip.Addr{}, err
	}
	defer detach()
	c := &dhcp.Client{MAC: rehearse.ProbeMAC, HostName: "lithos-probe"}
	passed, err := c.Exchange(wire)
	if err != nil {
		return netip.Addr{}, err
	}
	if !c.Address.IsValid() {
		return netip.Addr{}, fmt.Errorf("a new client gets no address: %s", passed[len(passed)-1].Why)
	}
	_, _, _ = wire(c.Release().ToBytes(), netip.Addr{})
	r.found = "a new client gets `" + c.Address.String() + "`"
	inPool := slices.ContainsFunc(r.draft.Doc().Pools, func(q site.Pool) bool {
		if q.Network != n.ID {
			return false
		}
		for _, r := range drawing.Offered(r.draft.Scene, &q) {
			if r.Contains(c.Address) {
				return true
			}
		}
		return false
	})
	if !inPool {
		return netip.Addr{}, fmt.Errorf("a new client got %s, which no pool may hand out", c.Address)
	}
	return passed[len(passed)-1].Router(), nil
}
