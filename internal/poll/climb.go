package poll

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/miekg/dns"

	"lithos/core/dynamicnames"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/zone"
	"lithos/internal/actor"
	"lithos/internal/device"
	"lithos/internal/order"
	"lithos/internal/zonetransfer"
)

// TryFollowing climbs from a line to the world, from the site as it stands: it tells the name now, or has the
// device that keeps it do so, sees that its key is refused for another, reads what the name's server then answers,
// and asks resolvers that held the old answer.
func (s *Service) TryFollowing(ctx context.Context, by actor.Technician, code, id string) ([]Proved, error) {
	if err := actor.RefuseWhileHeld(ctx, s.store.Queries); err != nil {
		return nil, err
	}
	head, w, err := s.follower(ctx, code, id)
	if err != nil {
		return nil, err
	}
	p := climber{Service: s, head: head, w: w}
	if w.Keeper == site.KeptByDevice {
		// The device is read first: what it has learnt of its line by asking is known to nobody else.
		s.Observe(ctx, head.ID)
	}
	lines, err := s.store.Lines(ctx, head.ID)
	if err != nil {
		return nil, err
	}
	p.climb(ctx, order.Beside{Lines: lines}.LineOf(w.Line()))
	if w.Keeper == site.KeptByDevice {
		s.Observe(ctx, head.ID)
	}
	return p.steps, actor.Record(ctx, s.store.Queries, by, "following", code, "sent and tried "+w.Name)
}

// follower finds a dynamic name of a site as it stands.
func (s *Service) follower(ctx context.Context, code, id string) (*site.Site, *site.Following, error) {
	sc, _, _, err := s.sites.SceneOf(ctx, code, 0)
	if err != nil {
		return nil, nil, err
	}
	w, ok := sc.Follower(id)
	if !ok {
		return nil, nil, actor.Refuse(actor.Missing, "The site as it stands has no such name; push it first.")
	}
	return sc.Site, w, nil
}

// climber goes from rung to rung, as far as they hold.
type climber struct {
	*Service
	head  *site.Site
	w     *site.Following
	steps []Proved
}

func (p *climber) step(title, state, says string) {
	p.steps = append(p.steps, Proved{title, state, says})
}

func (p *climber) climb(ctx context.Context, line dynamicnames.Line) {
	held := p.resolvers(ctx, p.w)
	addresses, ok := p.update(ctx, line)
	if !ok {
		return
	}
	z, ok := p.head.ZoneOf(p.w.Name, site.Outside)
	if !ok {
		return
	}
	p.narrow(ctx, *z, addresses[0])
	p.answers(ctx, *z, addresses)
	p.follow(held, addresses)
}

// ProveFollowing has a name of a document told what its line has, and asks the server of its zone for it. It gives what
// that came to, or why it is not so.
func (s *Service) ProveFollowing(ctx context.Context, doc *site.Site, id string) (says string, err error) {
	w, ok := doc.Follower(id)
	if !ok {
		return "", errors.New("the site has no such name")
	}
	b, err := s.store.Beside(ctx, doc.ID, doc.Customer.Name)
	if err != nil {
		return "", err
	}
	p := &climber{Service: s, head: doc, w: w}
	addresses, ok := p.update(ctx, b.LineOf(w.Line()))
	if ok {
		z, in := doc.ZoneOf(w.Name, site.Outside)
		if !in {
			return "", errors.New("no outside zone of the site holds it")
		}
		p.answers(ctx, *z, addresses)
	}
	for _, step := range p.steps {
		if step.State != provedPass {
			return "", fmt.Errorf("%s: %s", step.Title, step.Says)
		}
	}
	return "told " + spelled(addresses) + ", and answered so by its server", nil
}

// update has the name told the addresses of its line, where the world reaches them.
func (p *climber) update(ctx context.Context, line dynamicnames.Line) (addresses []netip.Addr, ok bool) {
	const has = "The line has an address"
	for _, typ := range p.w.Types() {
		a := line.Of(typ)
		if !a.IsValid() {
			p.step(has, provedFail, fmt.Sprintf("No %s was read yet; read the device, or look whether the line is up",
				map[string]string{"A": "IPv4 address", "AAAA": "IPv6 address"}[typ]))
			return nil, false
		}
		addresses = append(addresses, a)
	}
	p.step(has, provedPass, spelled(addresses))
	const public = "The world reaches it"
	for _, a := range addresses {
		if !p.reached(a) {
			p.step(public, provedFail, dynamicnames.ReachOf(a).Says())
			return nil, false
		}
	}
	p.step(public, provedPass, "It is public")
	const taken = "The key is taken"
	if err := p.tell(ctx, addresses); err != nil {
		p.step(taken, provedFail, sentence(err))
		return nil, false
	}
	p.step(taken, provedPass, p.w.Name+" is "+spelled(addresses))
	return addresses, true
}

// tell tells the addresses, from here or from the device that keeps the name.
func (p *climber) tell(ctx context.Context, addresses []netip.Addr) error {
	if p.w.Keeper != site.KeptByDevice {
		for _, a := range addresses {
			if err := p.send(ctx, p.head, p.w, a); err != nil {
				return err
			}
		}
		return nil
	}
	d, _, ok := p.head.Interface(p.w.Uplink)
	if !ok {
		return errors.New("the uplink is not there")
	}
	access, err := p.store.Access(ctx, p.head.ID)
	if err != nil {
		return err
	}
	l := live{Service: p.Service, ctx: ctx, site: p.head, access: access, drivers: map[string]*device.RESTCONF{}}
	defer l.close()
	driver, why := l.driver(d)
	if driver == nil {
		return errors.New(why)
	}
	return driver.TellName(ctx, p.w.ID)
}

// narrow sees that the key is refused for records that are not its own. Where it tells by a request it is tried for
// another name; an UPDATE is tried for another type, too.
func (p *climber) narrow(ctx context.Context, z site.Zone, a netip.Addr) {
	const trial = "lithos-trial"
	if p.w.How == site.ByRequest {
		other := zone.Absolute(trial, z.Name)
		p.refused(other+" A", p.devices.TellName(ctx, p.head.ID, z, p.w, other, a), func() error {
			return errors.New("it stays there; remove " + other)
		})
		return
	}
	server, err := p.devices.Holder(ctx, p.head.ID, z.KeyedBy(p.w.Key, p.w.KeyAlgorithm, p.w.Secret))
	if err != nil {
		p.step("It may write nothing else", provedFail, sentence(err))
		return
	}
	owner, _ := zone.Relative(p.w.Name, z.Name)
	for _, r := range []zone.Record{{Owner: trial, Type: "A", Data: "192.0.2.1", TTL: 60},
		{Owner: owner, Type: "TXT", Data: `"trial"`, TTL: 60}} {
		other := []zone.Record{r}
		p.refused(zone.Absolute(r.Owner, z.Name)+" "+r.Type, server.Add(ctx, other),
			func() error { return server.Remove(ctx, other) })
	}
}

// refused is a rung that holds where something was refused; undo takes back what was not.
func (p *climber) refused(what string, err error, undo func() error) {
	title := "It may write nothing else: " + what
	switch {
	case errors.As(err, new(*zonetransfer.RefusedError)):
		p.step(title, provedPass, "Refused")
	case err != nil:
		p.step(title, provedFail, sentence(err))
	default:
		says := "It was taken: the key is too wide. What was written is taken away again"
		if err := undo(); err != nil {
			says = "It was taken: the key is too wide, and what was written could not be taken away: " + err.Error()
		}
		p.step(title, provedFail, says)
	}
}

// answers sees that the zone's own server answers the name with its addresses.
func (p *climber) answers(ctx context.Context, z site.Zone, want []netip.Addr) {
	const title = "The zone’s own server answers it"
	if !z.Server.Address.IsValid() {
		p.step(title, provedSkip, "Nothing says which server holds "+z.Name)
		return
	}
	at := zonetransfer.Server{At: p.devices.Where(z.Server.AddrPort()), Zone: z.Name, Rule: p.devices.Rule()}
	got, err := at.Addresses(ctx, p.w.Name, p.w.Types()...)
	switch {
	case err != nil:
		p.step(title, provedFail, sentence(err))
	case !sameAddresses(got, want):
		p.step(title, provedFail, "It answers "+spelled(got))
	default:
		p.step(title, provedPass, spelled(want))
	}
}

func sameAddresses(got, want []netip.Addr) bool {
	return len(got) == len(want) &&
		!slices.ContainsFunc(want, func(a netip.Addr) bool { return !slices.Contains(got, a) })
}

func spelled(list []netip.Addr) string {
	if len(list) == 0 {
		return "nothing"
	}
	out := list[0].String()
	for _, a := range list[1:] {
		out += " and " + a.String()
	}
	return out
}

// Remembered is what a resolver holds of a name.
type Remembered struct {
	Resolver  netip.Addr   `json:"resolver"`
	Addresses []netip.Addr `json:"addresses"`
	For       uint32       `json:"for" doc:"how much longer it keeps that, in seconds"`
	Problem   string       `json:"problem,omitempty"`
}

// AskResolvers asks resolvers on the internet what they hold of a dynamic name.
func (s *Service) AskResolvers(ctx context.Context, code, id string) ([]Remembered, error) {
	_, w, err := s.follower(ctx, code, id)
	if err != nil {
		return nil, err
	}
	return s.resolvers(ctx, w), nil
}

// askedWithin is how long a resolver is waited for.
const askedWithin = 3 * time.Second

func (s *Service) resolvers(ctx context.Context, w *site.Following) []Remembered {
	out := []Remembered{}
	for _, r := range s.Resolvers {
		one := Remembered{Resolver: r, Addresses: []netip.Addr{}}
		for _, typ := range w.Types() {
			m := new(dns.Msg)
			m.SetQuestion(dns.Fqdn(w.Name), dns.StringToType[typ])
			c := dns.Client{Timeout: askedWithin, Dialer: s.devices.Rule().ToDevices(askedWithin)}
			reply, _, err := c.ExchangeContext(ctx, m, s.devices.Where(netip.AddrPortFrom(r, 53)).String())
			if err != nil {
				one.Problem = "It does not answer"
				break
			}
			for _, rr := range slices.Concat(reply.Answer, reply.Ns) {
				one.For = max(one.For, rr.Header().Ttl)
			}
			one.Addresses = append(one.Addresses, zonetransfer.AddressesOf(reply)...)
		}
		out = append(out, one)
	}
	return out
}

// follow says of resolvers that held another answer when they follow.
func (p *climber) follow(held []Remembered, want []netip.Addr) {
	timing := timingOf(p.w).Usual()
	for _, r := range held {
		title := fmt.Sprintf("The resolver %s follows", r.Resolver)
		switch {
		case r.Problem != "":
			p.step(title, provedSkip, r.Problem)
		case sameAddresses(r.Addresses, want):
			p.step(title, provedPass, "It has "+spelled(want)+" already")
		default:
			p.step(title, provedWait, fmt.Sprintf("It holds %s for %s more at most", spelled(r.Addresses),
				option.FormatDuration(time.Duration(r.For)*time.Second)))
		}
	}
	if len(held) == 0 {
		p.step("Resolvers follow", provedSkip, "Lithos is told none to ask (serve --resolver)")
	}
	says := "After a change everybody has it within " + option.FormatDuration(timing.Everybody(false))
	if p.w.Keeper != site.KeptByDevice {
		says = "After Lithos has read a change, everybody has it within " +
			option.FormatDuration(timing.OnceSeen(false))
	}
	p.step("Others follow", provedPass, says)
}
