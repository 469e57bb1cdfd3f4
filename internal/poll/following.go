package poll

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"lithos/core/dynamicnames"
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
		at := slices.IndexFunc(o.Outside.Names, func(n yang.OutsideNameState) bool { return n.ID == w.ID })
		if at < 0 {
			continue
		}
		if err := s.noteKept(ctx, a.SiteID, w, o.Outside.Names[at], note); err != nil {
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

// noteRead keeps what the server of a zone answers for the dynamic names. sent is what was sent of the
// site's names.
func (s *Service) noteRead(
	ctx context.Context, head *site.Site, z site.Zone, records []zone.Record, sent []gen.ToldAddress,
) error {
	for i := range head.Following {
		w := &head.Following[i]
		if in, ok := head.ZoneOf(w.Name, site.Outside); !ok || in.ID != z.ID {
			continue
		}
		for _, typ := range w.Types() {
			toldAt := time.Time{}
			for _, t := range sent {
				if t.FollowingID == w.ID && t.Taken && zone.TypeOfAddress(t.Address) == typ {
					toldAt = t.At
				}
			}
			if err := s.store.NoteFollowingRead(ctx, gen.NoteFollowingReadParams{SiteID: head.ID, FollowingID: w.ID,
				Type: typ, Data: answered(records, w, z, typ), ToldAt: toldAt}); err != nil {
				return err
			}
		}
	}
	return nil
}

// answered is what records of a zone say of a dynamic name in one type.
func answered(records []zone.Record, w *site.Following, z site.Zone, typ string) []string {
	owner, _ := zone.Relative(w.Name, z.Name)
	out := append([]string{}, zone.DataAt(records, owner, typ)...)
	slices.Sort(out)
	return out
}

// keepNames tells the servers of a site's dynamic names the addresses that their lines have now, where
// they were told others. Where a device keeps a name, it is told to write it again when somebody has written over it: a
// device knows what it last told, and not what its server answers. What is sent is written down before it is looked at
// again: a process that is killed in between sends it once more.
func (s *Service) keepNames(ctx context.Context, head *site.Site, b order.Beside) {
	for i := range head.Following {
		w := &head.Following[i]
		if !w.Enabled {
			continue
		}
		for _, typ := range w.Types() {
			line := b.LineOf(w.Line()).Of(typ)
			if !s.reached(line) {
				continue // a finding says so; the world is not told an address that nobody reaches
			}
			told, over := lastTold(head, w, b, typ, line)
			byDevice := w.Keeper == site.KeptByDevice
			if step := timingOf(w).Next(time.Now(), told, line); !step.Send || byDevice && !over {
				continue
			}
			send := func() error { return s.send(ctx, head, w, line) }
			if byDevice {
				send = func() error { return s.tellByDevice(ctx, head, w, b.Access) }
			}
			if err := send(); err != nil && ctx.Err() == nil {
				s.log.Warn("a dynamic name is not told", "site", head.Code, "name", w.Name, "error", err)
			}
		}
	}
}

// reached reports whether the world reaches an address.
func (s *Service) reached(a netip.Addr) bool {
	reach := dynamicnames.ReachOf(a)
	return reach == dynamicnames.Public || reach == dynamicnames.Documentation && s.store.Documents
}

func timingOf(w *site.Following) dynamicnames.Timing {
	return dynamicnames.Timing{TTL: time.Duration(w.TTL) * time.Second, Least: time.Duration(w.Least) * time.Second,
		Interval: time.Duration(w.Every) * time.Second}
}

// lastTold is what was last told of a name in one type. Where the server was read since and has something else, it
// counts as not taken: somebody has written over it.
func lastTold(
	head *site.Site, w *site.Following, b order.Beside, typ string, line netip.Addr,
) (told dynamicnames.LastUpdate, over bool) {
	for _, sent := range b.SentOf(w.ID) {
		if sent.Address.Is4() != line.Is4() {
			continue
		}
		tries := 0
		if !sent.Taken {
			tries = told.Tries + 1
		}
		told = dynamicnames.LastUpdate{Address: sent.Address, At: sent.At, Taken: sent.Taken, Tries: tries}
	}
	z, ok := head.ZoneOf(w.Name, site.Outside)
	at := slices.IndexFunc(b.Zones, func(r order.ZoneReading) bool { return ok && r.ZoneID == z.ID })
	if at < 0 || b.Zones[at].ReadAt == nil || !b.Zones[at].ReadAt.After(told.At) {
		return told, false
	}
	over = told.Address == line && !slices.Contains(answered(b.Zones[at].Records, w, *z, typ), line.String())
	told.Taken = told.Taken && (told.Address != line || !over)
	return told, over
}

// tellByDevice has the device that keeps a name tell it now.
func (s *Service) tellByDevice(ctx context.Context, head *site.Site, w *site.Following, access []order.Access) error {
	d, _, ok := head.Interface(w.Uplink)
	if !ok {
		return errors.New("the uplink is not there")
	}
	row := order.On(access, d.ID)
	if row == nil {
		return fmt.Errorf("%s, which keeps it, is not reached by Lithos", d.Name)
	}
	driver, err := s.devices.Reach(*row)
	if err != nil {
		return err
	}
	defer driver.Close()
	return driver.TellName(ctx, w.ID)
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
