package poll

import (
	"context"
	"fmt"
	"net"
	"strings"

	"github.com/jackc/pgx/v5"

	"lithos/core/drift"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/device"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// noteConfig reads what a device holds, keeps it, and counts what of it is otherwise than the site's revision has it. A
// device that calls its configuration what it was called when it was judged on this revision holds the same; each
// process judges once by itself, for it may be of a newer version than the one that did. While a push is under way
// at the site nothing is said of that: the device is being changed.
func (s *Service) noteConfig(
	ctx context.Context, driver *device.RESTCONF, a order.Access, row gen.Site, doc *site.Site,
) error {
	busy, err := s.store.PushUnderWay(ctx, row.ID)
	if err != nil || busy {
		return err
	}
	key, known := a.SiteID+" "+a.DeviceID, ""
	if a.JudgedOn == row.Head && s.judged.Contains(key) {
		known = a.Tag
	}
	held, tag, changed, err := driver.ReadChanged(ctx, known)
	if err != nil {
		return err
	}
	if !changed {
		return s.store.HoldsStill(ctx, gen.HoldsStillParams{SiteID: a.SiteID, DeviceID: a.DeviceID})
	}
	list, cuts := order.HeldBy(doc, a.DeviceID, held)
	err = s.store.InTx(ctx, func(q *gen.Queries, tx pgx.Tx) error {
		// A push that began, or landed, since the device was read makes the reading an old one.
		head, err := store.LockSite(ctx, tx, row.ID)
		if err != nil {
			return err
		}
		busy, err := q.PushUnderWay(ctx, row.ID)
		if err != nil || busy || head != row.Head {
			return err
		}
		was, err := store.NoteHeld(ctx, q, row.ID, a.DeviceID,
			store.Holding{Config: held, Differs: list, Cuts: cuts, Tag: tag, JudgedOn: row.Head})
		if err != nil {
			return err
		}
		d, known := doc.Device(a.DeviceID)
		if !known {
			return nil // a draft brings it in; what it holds is there to plan from
		}
		return noteEvent(ctx, q, row, d, was, list)
	})
	if err == nil {
		s.judged.Add(key, struct{}{})
	}
	return err
}

// noteEvent writes down that a device began or ceased to hold something else.
func noteEvent(
	ctx context.Context, q *gen.Queries, row gen.Site, d *site.Device, was int, list []drift.Difference,
) error {
	var what []string
	for _, one := range list {
		if !one.Beside {
			what = append(what, one.What)
		}
	}
	event := gen.AddEventParams{SiteID: row.ID, About: site.Ref{Kind: site.KindDevice, ID: d.ID}.String()}
	switch {
	case len(what) > 0 && was == 0:
		event.Kind = EventDrifted
		event.Says = fmt.Sprintf("%s was changed, and not by Lithos: %s", d.Name, few(what))
	case len(what) == 0 && was > 0:
		event.Kind = EventHolds
		event.Says = d.Name + " holds what it was last given again"
	default:
		return nil
	}
	if err := q.AddEvent(ctx, event); err != nil {
		return err
	}
	return actor.Publish(ctx, q, actor.Event{Topic: "site", ID: row.Code})
}

// noteSilence writes down that a device cannot be read any more, or can be again.
func (s *Service) noteSilence(
	ctx context.Context, a order.Access, row gen.Site, doc *site.Site, problem string,
) error {
	d, known := doc.Device(a.DeviceID)
	if !known || (problem == "") == (a.Problem == "") {
		return nil
	}
	event := gen.AddEventParams{SiteID: row.ID, Kind: EventRead,
		About: site.Ref{Kind: site.KindDevice, ID: d.ID}.String(), Says: d.Name + " can be read again"}
	if problem != "" {
		event.Kind, event.Says = EventUnread, fmt.Sprintf("%s cannot be read: %s", d.Name, problem)
	}
	if err := s.store.AddEvent(ctx, event); err != nil {
		return err
	}
	return actor.Publish(ctx, s.store.Queries, actor.Event{Topic: "site", ID: row.Code})
}

// noteServers keeps which DHCP servers a device heard that none of the site's devices is.
func (s *Service) noteServers(ctx context.Context, a order.Access, o yang.Operational, doc *site.Site) error {
	for _, h := range o.DHCP.Heard {
		if _, _, own := doc.HolderOf(h.Address); own || !h.Address.Is4() {
			continue
		}
		fresh, err := s.store.NoteServer(ctx, gen.NoteServerParams{SiteID: a.SiteID, DeviceID: a.DeviceID,
			Interface: h.Interface, Address: h.Address, Mac: net.HardwareAddr(h.MAC[:]), LastAt: h.Last})
		if err != nil {
			return err
		}
		if !fresh {
			continue
		}
		if err := s.store.AddEvent(ctx, gen.AddEventParams{SiteID: a.SiteID, Kind: EventServer,
			About: site.Ref{Kind: site.KindDevice, ID: a.DeviceID}.String(),
			Says:  fmt.Sprintf("A DHCP server at %s, which nobody recorded, answers on %s", h.Address, h.Interface),
		}); err != nil {
			return err
		}
	}
	return nil
}

// The kinds of events at a site.
const (
	EventDrifted = "drifted"
	EventHolds   = "holds"
	EventUnread  = "unread"
	EventRead    = "read"
	EventServer  = "server"
)

// few names the first of some things and counts the others.
func few(what []string) string {
	const most = 3
	if len(what) <= most {
		return strings.Join(what, "; ")
	}
	return fmt.Sprintf("%s; %d more", strings.Join(what[:most], "; "), len(what)-most)
}
