package watch

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"lithos/core/outside"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/core/zone"
	"lithos/internal/act"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// noteLines keeps the addresses that the uplinks of a device have now.
func (s *Service) noteLines(ctx context.Context, a order.Access, o yang.Operational, head *site.Site) error {
	d, ok := head.Device(a.DeviceID)
	if !ok {
		return nil
	}
	for _, i := range d.Interfaces {
		if i.Kind != site.Uplink {
			continue
		}
		for _, state := range o.Interfaces.Interface {
			if state.Name != i.Name || len(state.IPv4.Address) == 0 || !state.IPv4.Address[0].IP.Is4() {
				continue
			}
			if err := s.store.NoteLine(ctx, gen.NoteLineParams{SiteID: a.SiteID, InterfaceID: i.ID,
				Address: state.IPv4.Address[0].IP}); err != nil {
				return err
			}
		}
	}
	return nil
}

// keepNames tells the servers of a site's following names the addresses that their lines have now, where
// they were told others. What is sent is written down before it is looked at again: a process that is
// killed in between sends it once more.
func (s *Service) keepNames(ctx context.Context, head *site.Site, b order.Beside) {
	for i := range head.Following {
		w := &head.Following[i]
		if !w.Enabled {
			continue
		}
		line := b.LineOf(w.Uplink)
		if !s.reached(line) {
			continue // a finding says so; the world is not told an address that nobody reaches
		}
		step := timingOf(w).Next(time.Now(), lastTold(head, w, b, line), line)
		if !step.Send {
			continue
		}
		if err := s.send(ctx, head, w, line); err != nil && ctx.Err() == nil {
			s.log.Warn("a following name is not told", "site", head.Code, "name", w.Name, "error", err)
		}
	}
}

// reached reports whether the world reaches an address.
func (s *Service) reached(a netip.Addr) bool {
	reach := outside.ReachOf(a)
	return reach == outside.Public || reach == outside.Documentation && s.store.Documents
}

func timingOf(w *site.Following) outside.Timing {
	return outside.Timing{TTL: time.Duration(w.TTL) * time.Second, Least: time.Duration(w.Least) * time.Second}
}

// lastTold is what was last told of a name. Where the server was read since and has something else, it counts
// as not taken: somebody has written over it.
func lastTold(head *site.Site, w *site.Following, b order.Beside, line netip.Addr) outside.Told {
	var told outside.Told
	for _, sent := range b.SentOf(w.ID) {
		tries := 0
		if !sent.Taken {
			tries = told.Tries + 1
		}
		told = outside.Told{Address: sent.Address, At: sent.At, Taken: sent.Taken, Tries: tries}
	}
	z, ok := head.ZoneOf(w.Name, site.Outside)
	at := slices.IndexFunc(b.Zones, func(r order.ZoneReading) bool { return ok && r.ZoneID == z.ID })
	if at < 0 || b.Zones[at].ReadAt == nil || !b.Zones[at].ReadAt.After(told.At) {
		return told
	}
	owner, _ := zone.Relative(w.Name, z.Name)
	told.Taken = told.Taken && slices.ContainsFunc(b.Zones[at].Records, func(r zone.Record) bool {
		return strings.EqualFold(r.Owner, owner) && r.Type == "A" && r.Data == line.String()
	})
	return told
}

// send tells the server of a name an address, and writes down what came of it.
func (s *Service) send(ctx context.Context, head *site.Site, w *site.Following, line netip.Addr) error {
	err := s.update(ctx, head, w, line)
	says := "Taken"
	if err != nil {
		says = store.ForPeople(err)
	}
	noted := s.store.NoteTold(context.WithoutCancel(ctx), gen.NoteToldParams{SiteID: head.ID, FollowingID: w.ID,
		Address: line, Taken: err == nil, Says: says})
	if err == nil {
		err = noted
	}
	return err
}

func (s *Service) update(ctx context.Context, head *site.Site, w *site.Following, line netip.Addr) error {
	z, ok := head.ZoneOf(w.Name, site.Outside)
	if !ok || !z.Server.Address.IsValid() || w.Key == "" {
		return fmt.Errorf("nothing says which server and which key write %s", w.Name)
	}
	server, err := s.devices.Holder(ctx, head.ID, z.KeyedBy(w.Key, w.KeyAlgorithm, w.Secret))
	if err != nil {
		return err
	}
	ttl := w.TTL
	if ttl == 0 {
		ttl = site.FollowingTTL
	}
	names := []string{w.Name}
	if w.Wildcard {
		names = append(names, "*."+w.Name)
	}
	for _, name := range names {
		owner, _ := zone.Relative(name, z.Name)
		set := []zone.Record{{Owner: owner, Type: "A", Data: line.String(), TTL: ttl}}
		if err := server.Replace(ctx, set); err != nil {
			return err
		}
	}
	return nil
}

// TryFollowing climbs from a line to the world, from the site as it stands: it tells the name now, sees that
// its key is refused for another, and reads what the name's server then answers.
func (s *Service) TryFollowing(ctx context.Context, by act.Technician, code, id string) ([]Proved, error) {
	if err := act.Held(ctx, s.store.Queries); err != nil {
		return nil, err
	}
	sc, _, _, err := s.sites.At(ctx, code, 0)
	if err != nil {
		return nil, err
	}
	w, ok := sc.Follower(id)
	if !ok {
		return nil, act.Refuse(act.Missing, "The site as it stands has no such name; push it first.")
	}
	lines, err := s.store.Lines(ctx, sc.Site.ID)
	if err != nil {
		return nil, err
	}
	p := prover{Service: s}
	p.follow(ctx, sc.Site, w, order.Beside{Lines: lines}.LineOf(w.Uplink))
	return p.steps, act.Record(ctx, s.store.Queries, by, "following", code, "sent and tried "+w.Name)
}

func (p *prover) follow(ctx context.Context, head *site.Site, w *site.Following, line netip.Addr) {
	const has = "The line has an address"
	if !line.IsValid() {
		p.step(has, provedFail, "None was read yet; read the device, or look whether the line is up")
		return
	}
	p.step(has, provedPass, line.String())
	const public = "The world reaches it"
	if !p.reached(line) {
		p.step(public, provedFail, outside.ReachOf(line).Says())
		return
	}
	p.step(public, provedPass, "It is public")
	const taken = "The key is taken"
	if err := p.send(ctx, head, w, line); err != nil {
		p.step(taken, provedFail, sentence(err))
		return
	}
	p.step(taken, provedPass, w.Name+" is "+line.String())
	z, _ := head.ZoneOf(w.Name, site.Outside)
	server, err := p.devices.Holder(ctx, head.ID, z.KeyedBy(w.Key, w.KeyAlgorithm, w.Secret))
	if err != nil {
		p.step("The zone’s own server answers it", provedFail, sentence(err))
		return
	}
	p.server = server
	owner, _ := zone.Relative(w.Name, z.Name)
	p.narrow(ctx, "lithos-trial", "A", "192.0.2.1")
	p.narrow(ctx, owner, "TXT", `"trial"`)
	p.answers(ctx, w.Name, line)
	timing := timingOf(w)
	p.step("Others follow", provedPass, fmt.Sprintf("Who has asked before has it within %s; after a change everybody "+
		"within %s", timing.Usual().TTL, timing.Everybody(false)))
}
