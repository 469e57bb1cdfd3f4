package push

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"lithos/core/site"
	"lithos/core/zone"
	"lithos/internal/device"
	"lithos/internal/order"
	"lithos/internal/store/gen"
	"lithos/internal/zonetransfer"
)

// holder is what a push changes and can put back: a device, or a zone at the server that holds it.
type holder interface {
	// keep makes the change last: see run.keep.
	keep(context.Context) error
	// putBack undoes it: see run.putBack.
	putBack(context.Context) error
	// keeps and returns are what the journal says of these.
	keeps() string
	returns() string
	// returned is the state it is in when it was put back.
	returned() string
	close()
}

type onDevice struct {
	*run
	d      gen.PushDevice
	driver device.Driver
}

func (h onDevice) keep(ctx context.Context) error    { return h.run.keep(ctx, h.driver, h.token) }
func (h onDevice) putBack(ctx context.Context) error { return h.run.putBack(ctx, h.d, h.driver) }
func (h onDevice) keeps() string                     { return "Confirm, and save as startup configuration" }
func (h onDevice) returns() string                   { return "Return to the configuration from before the push" }
func (h onDevice) returned() string                  { return deviceReturned }
func (h onDevice) close()                            { h.driver.Close() }

// zoneMark begins what a zone is called among the devices of a push.
const zoneMark = "zone:"

// atServer is an outside zone at the server that holds it. A server has no timed confirm, so that
// nothing is written before every device is ready: one update, on what was read just before.
type atServer struct {
	*run
	target order.ZoneTarget
	before []zone.Record
	server zonetransfer.Server
}

func (h atServer) keeps() string    { return "Tell the world" }
func (h atServer) returns() string  { return "Tell the world what it was told before the push" }
func (h atServer) returned() string { return deviceReturned }
func (h atServer) close()           {}

// keep writes what the draft says. What stands there already is not written again, so that it can be
// repeated after an answer was lost.
func (h atServer) keep(ctx context.Context) error {
	return h.write(ctx, func(held []zone.Record) []zone.Record {
		return zone.Merged(held, h.target.Base, h.target.Wanted)
	})
}

// putBack writes what was there before the push, where the push has written: what somebody else has
// written since stays.
func (h atServer) putBack(ctx context.Context) error {
	return h.write(ctx, func(held []zone.Record) []zone.Record {
		now := held
		for _, c := range zone.Changes(h.before, zone.Merged(h.before, h.target.Base, h.target.Wanted)) {
			same := func(r zone.Record) bool { return strings.EqualFold(r.Owner, c.Owner) && r.Type == c.Type }
			here := slices.DeleteFunc(slices.Clone(held), func(r zone.Record) bool { return !same(r) })
			if len(zone.Changes(here, c.Now)) == 0 {
				now = append(slices.DeleteFunc(slices.Clone(now), same), c.Was...)
			}
		}
		return now
	})
}

// write makes the zone what goal makes of what it holds, in one update.
func (h atServer) write(ctx context.Context, goal func(held []zone.Record) []zone.Record) error {
	var err error
	for i := range attempts {
		var held zonetransfer.Contents
		if held, err = h.server.Read(ctx); err == nil {
			changes := zone.Changes(held.Records, goal(held.Records))
			if len(changes) == 0 {
				return nil
			}
			h.found = site.Counted(len(changes), "change")
			err = h.server.Write(ctx, changes)
		}
		if errors.As(err, new(*zonetransfer.RefusedError)) {
			return err
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(time.Duration(i) * 200 * time.Millisecond):
		}
	}
	if err == nil { // the last one was written: it is read once more
		var held zonetransfer.Contents
		if held, err = h.server.Read(ctx); err == nil && len(zone.Changes(held.Records, goal(held.Records))) == 0 {
			return nil
		}
	}
	if err == nil {
		err = zonetransfer.ErrChanged
	}
	return silent(err)
}

// prepare reads a zone, keeps what it has, and asks its server whether it would take the change.
func (r *run) prepare(ctx context.Context, t order.ZoneTarget) error {
	if !t.Written() {
		says := site.Counted(len(t.Changes()), "change") + " to be made by hand"
		if err := r.skip(ctx, t.Name, "by hand", "Not written by Lithos: "+says); err != nil {
			return err
		}
		why := "Its form names no server and key, so that Lithos cannot write it. Make its " +
			site.Counted(len(t.Changes()), "change") + " by hand, then say so here"
		return r.putUnverified(ctx, t.Name, why)
	}
	return r.note(ctx, t.Name, "read", "Read what the world is told, and ask whether the change would be taken",
		func() error {
			server, err := r.devices.Holder(ctx, r.push.SiteID, t.Zone)
			if err != nil {
				return err
			}
			held, err := server.Read(ctx)
			if err != nil {
				return err
			}
			before, err := json.Marshal(held.Records)
			if err != nil {
				return err
			}
			if err := r.stillOurs(r.store.PutPushDevice(ctx, gen.PutPushDeviceParams{PushID: r.push.ID,
				DeviceID: zoneMark +
					t.ID,
				Name: t.Name, Before: before, Run: r.id})); err != nil {
				return stored(err)
			}
			goal := zone.Merged(held.Records, t.Base, t.Wanted)
			return server.Try(ctx, zone.Changes(held.Records, goal))
		})
}

// holderOf is what a row of the push's devices stands for; nil, with the reason in the log, where it is not
// reached.
func (r *run) holderOf(ctx context.Context, d gen.PushDevice, access []order.Access) holder {
	warn := func(says string, err error) holder {
		r.log.Warn(says, "push", r.push.ID, "device", d.Name, "error", err)
		return nil
	}
	if id, is := strings.CutPrefix(d.DeviceID, zoneMark); is {
		zones := r.draft.Zones()
		i := slices.IndexFunc(zones, func(t order.ZoneTarget) bool { return t.ID == id })
		h := atServer{run: r}
		if i < 0 || json.Unmarshal(d.Before, &h.before) != nil {
			return warn("a zone of a push is not the draft's any more", nil)
		}
		var err error
		if h.server, err = r.devices.Holder(ctx, r.push.SiteID, zones[i].Zone); err != nil {
			return warn("the server of a zone cannot be reached", err)
		}
		h.target = zones[i]
		return h
	}
	if d.ByHand {
		h := &atConsole{run: r, d: d}
		if err := json.Unmarshal(d.Before, &h.before); err != nil {
			return warn("what a device held before cannot be read", err)
		}
		return h
	}
	at := order.On(access, d.DeviceID)
	if at == nil {
		return warn("a device of a push is not recorded any more; record how it is reached, or end the push", nil)
	}
	driver, err := r.devices.Reach(*at)
	if err != nil {
		return warn("a device of a push cannot be reached", err)
	}
	if next, moves := r.moves(d, at.URL); moves {
		driver.AlsoAt(next)
	}
	return onDevice{r, d, driver}
}

// zonesFirst puts the zones before the devices: a zone that is refused sends devices back that still wait
// for their confirm.
func zonesFirst(devices []gen.PushDevice) []gen.PushDevice {
	slices.SortStableFunc(devices, func(a, b gen.PushDevice) int {
		rank := func(d gen.PushDevice) int {
			if strings.HasPrefix(d.DeviceID, zoneMark) {
				return 0
			}
			return 1
		}
		return rank(a) - rank(b)
	})
	return devices
}
