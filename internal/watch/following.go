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
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// noteLines keeps the addresses that the uplinks of a device have now, and what became of the names that it keeps.
func (s *Service) noteLines(ctx context.Context, a order.Access, o yang.Operational, head *site.Site) error {
	d, ok := head.Device(a.DeviceID)
	if !ok {
		return nil
	}
	note := func(line string, at netip.Addr) error {
		if !at.IsValid() || at.IsUnspecified() {
			return nil
		}
		return s.store.NoteLine(ctx, gen.NoteLineParams{SiteID: a.SiteID, InterfaceID: line, Address: at.Unmap()})
	}
	for _, i := range d.Interfaces {
		at := slices.IndexFunc(o.Interfaces.Interface, func(s yang.InterfaceState) bool { return s.Name == i.Name })
		if i.Kind != site.Uplink || at < 0 {
			continue
		}
		state := o.Interfaces.Interface[at]
		for _, list := range [][]yang.Address{state.IPv4.Address, state.IPv6.Address} {
			if len(list) == 0 {
				continue
			}
			if err := note(i.ID, list[0].IP); err != nil {
				return err
			}
		}
	}
	if o.Outside == nil {
		return nil
	}
	for i := range head.Following {
		w := &head.Following[i]
		at := slices.IndexFunc(o.Outside.Kept, func(n yang.OutsideNameState) bool { return n.ID == w.ID })
		if at < 0 {
			continue
		}
		if err := s.noteKept(ctx, a.SiteID, w, o.Outside.Kept[at], note); err != nil {
			return err
		}
	}
	return nil
}

// noteKept keeps what a device tells of a name that it keeps.
func (s *Service) noteKept(
	ctx context.Context, siteID string, w *site.Following, state yang.OutsideNameState,
	note func(line string, at netip.Addr) error,
) error {
	if w.Line() == w.ID {
		for _, at := range state.Address {
			if err := note(w.ID, at); err != nil {
				return err
			}
		}
	}
	for _, one := range state.Attempt {
		for _, at := range one.Address {
			if !at.IsValid() {
				continue
			}
			if err := s.store.NoteSent(ctx, gen.NoteSentParams{SiteID: siteID, FollowingID: w.ID, Address: at.Unmap(),
				At: one.At.Round(time.Microsecond), Taken: one.Taken, Says: one.Says}); err != nil {
				return err
			}
		}
	}
	return nil
}

// keepNames tells the servers of a site's following names the addresses that their lines have now, where
// they were told others and no device keeps them. What is sent is written down before it is looked at again: a
// process that is killed in between sends it once more.
func (s *Service) keepNames(ctx context.Context, head *site.Site, b order.Beside) {
	for i := range head.Following {
		w := &head.Following[i]
		if !w.Enabled || w.Keeper == site.KeptByDevice {
			continue
		}
		for _, typ := range w.Types() {
			line := b.LineOf(w.Line()).Of(typ)
			if !s.reached(line) {
				continue // a finding says so; the world is not told an address that nobody reaches
			}
			step := timingOf(w).Next(time.Now(), lastTold(head, w, b, typ, line), line)
			if !step.Send {
				continue
			}
			if err := s.send(ctx, head, w, line); err != nil && ctx.Err() == nil {
				s.log.Warn("a following name is not told", "site", head.Code, "name", w.Name, "error", err)
			}
		}
	}
}

// reached reports whether the world reaches an address.
func (s *Service) reached(a netip.Addr) bool {
	reach := outside.ReachOf(a)
	return reach == outside.Public || reach == outside.Documentation && s.store.Documents
}

func timingOf(w *site.Following) outside.Timing {
	return outside.Timing{TTL: time.Duration(w.TTL) * time.Second, Least: time.Duration(w.Least) * time.Second,
		Interval: time.Duration(w.Every) * time.Second}
}

// lastTold is what was last told of a name in one type. Where the server was read since and has something else, it
// counts as not taken: somebody has written over it.
func lastTold(head *site.Site, w *site.Following, b order.Beside, typ string, line netip.Addr) outside.Told {
	var told outside.Told
	for _, sent := range b.SentOf(w.ID) {
		if sent.Address.Is4() != line.Is4() {
			continue
		}
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
		return strings.EqualFold(r.Owner, owner) && r.Type == typ && r.Data == line.String()
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
	if !ok || w.How == "" && !z.Server.Address.IsValid() || w.Key == "" {
		return fmt.Errorf("nothing says which server and which key write %s", w.Name)
	}
	return s.devices.TellName(ctx, head.ID, *z, w, w.Name, line)
}
