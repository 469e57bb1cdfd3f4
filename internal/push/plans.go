package push

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"lithos/core/drift"
	"lithos/core/plan"
	"lithos/core/sequence"
	"lithos/core/yang"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// DevicePlan is steps that follow one another on one device, or in a zone at the server that holds it.
type DevicePlan struct {
	Device  string      `json:"device"`
	Kind    string      `json:"kind"`
	Holder  string      `json:"holder,omitempty" doc:"of a zone: the server that holds it"`
	ByHand  bool        `json:"byHand"` // Lithos cannot reach it; a technician does the steps
	First   int         `json:"first" doc:"the number of its first step among those of all devices"`
	Steps   []plan.Step `json:"steps"`
	Timeout int         `json:"timeout"` // seconds until the device returns by itself
}

// Gap is something that is not so between two steps, and how long that lasts.
type Gap struct {
	sequence.Gap
	Seconds int `json:"seconds" doc:"at the pace of the latest pushes to the site; 0 where there are none"`
}

// Planned is what a push of a draft does, in its order.
type Planned struct {
	Parts    []DevicePlan `json:"parts"`
	Gaps     []Gap        `json:"gaps"`
	Networks []string     `json:"networks"` // that it changes something of, and proves

	order sequence.Order
}

// PlanOfPush is what the latest push of an order was planned to do when it began; nil where none has begun.
func (s *Service) PlanOfPush(ctx context.Context, order int64) (*Planned, error) {
	raw, err := store.Found(s.store.PlannedOfOrder(ctx, order))
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	out := &Planned{}
	return out, json.Unmarshal(raw, out)
}

// notePlan keeps what a push is about to do, once: a run that takes it up goes on with it.
func (r *run) notePlan(ctx context.Context, targets []order.Target, held map[string]yang.Config,
	o sequence.Order) error {
	if r.push.Planned == nil {
		p := Planned{Parts: r.parts(r.draft, targets, o), Gaps: []Gap{}, Networks: r.draft.Networks(held)}
		for _, g := range o.Gaps {
			p.Gaps = append(p.Gaps, Gap{Gap: g})
		}
		raw, err := json.Marshal(p)
		if err != nil {
			return err
		}
		if _, err := r.store.SetPushPlanned(ctx, gen.SetPushPlannedParams{Planned: raw, ID: r.push.ID,
			Run: r.id}); err != nil {
			return stored(err)
		}
		r.push.Planned = raw
	}
	var kept Planned
	if err := json.Unmarshal(r.push.Planned, &kept); err != nil {
		return err
	}
	r.networks = kept.Networks
	return nil
}

// Plans lists what a push of a draft would do, from what the devices held when they were read last.
func (s *Service) Plans(d *order.Draft, access []order.Access) Planned {
	targets := d.Targets(access)
	var devices []sequence.Device
	for _, t := range targets {
		base, wanted := t.Configs(d)
		running := base
		if t.Access != nil && t.Access.Running != nil {
			running = *t.Access.Running
		}
		if t.Access != nil {
			running.Resolver.Program = t.Access.Programs
		}
		devices = append(devices, forProof(t, running, drift.Target(running, base, wanted, d.PutBack(t.ID))))
	}
	o := sequence.Of(d.Base.Site, d.Doc(), devices)
	return Planned{Parts: s.parts(d, targets, o), Gaps: []Gap{}, order: o}
}

// Planned is Plans with how long its gaps last.
func (s *Service) Planned(ctx context.Context, d *order.Draft, access []order.Access) (Planned, error) {
	p := s.Plans(d, access)
	ms, err := s.store.Pace(ctx, d.Order.SiteID)
	for _, g := range p.order.Gaps {
		took := float64(g.Until-g.After) * ms / 1000
		gap := Gap{Gap: g, Seconds: int(math.Ceil(took))}
		p.Gaps = append(p.Gaps, gap)
	}
	return p, err
}

func forProof(t order.Target, running, goal yang.Config) sequence.Device {
	return sequence.Device{ID: t.ID, Name: t.Name, Kind: t.Kind, Running: running, Goal: goal, ByHand: t.Access == nil}
}

// asShown is steps as they were shown: of each device, in their order.
func asShown(o sequence.Order) map[string][]string {
	out := map[string][]string{}
	for _, s := range o.Steps {
		out[s.Device] = append(out[s.Device], s.Verb+" "+s.Text)
	}
	return out
}

// asRehearsed refuses to go on where the steps are others than those that were shown when the draft was rehearsed: what
// a device holds has changed since.
func (r *run) asRehearsed(ctx context.Context, targets []order.Target, o sequence.Order) error {
	row, err := r.store.RehearsalOfOrder(ctx, r.push.OrderID)
	if err != nil {
		return stored(err)
	}
	var then map[string][]string
	if json.Unmarshal(row.Plan, &then) != nil {
		return nil // rehearsed before plans were kept
	}
	now := asShown(o)
	for _, t := range targets {
		was, is := then[t.ID], now[t.ID]
		if slices.Equal(was, is) {
			continue
		}
		return fmt.Errorf(
			"%s: it holds something else than when the draft was rehearsed: %s. Look at the new steps and "+
				"rehearse again", t.Name, otherwise(was, is))
	}
	return nil
}

// otherwise says by what two lists of steps differ first.
func otherwise(was, is []string) string {
	for _, s := range is {
		if !slices.Contains(was, s) {
			return "“" + s + "” is to be done now"
		}
	}
	for _, s := range was {
		if !slices.Contains(is, s) {
			return "“" + s + "” is not to be done any more"
		}
	}
	return "the steps are in another order"
}

// parts is an order of steps as pages show it, with the zones behind the devices.
func (s *Service) parts(d *order.Draft, targets []order.Target, o sequence.Order) []DevicePlan {
	out := []DevicePlan{}
	at := func(device string) order.Target {
		return targets[slices.IndexFunc(targets, func(t order.Target) bool { return t.ID == device })]
	}
	for i, st := range o.Steps {
		if i == 0 || o.Steps[i-1].Device != st.Device {
			t := at(st.Device)
			out = append(out, DevicePlan{Device: t.Name, Kind: t.Kind, ByHand: t.Access == nil, First: i + 1,
				Steps: []plan.Step{}, Timeout: int(s.Timing.ConfirmWithin / time.Second)})
		}
		last := &out[len(out)-1]
		last.Steps = append(last.Steps, st.Step)
	}
	next := len(o.Steps) + 1
	for _, t := range d.Zones() {
		p := DevicePlan{Device: t.Name, Kind: "zone", ByHand: !t.Written(), First: next, Steps: []plan.Step{}}
		if t.Server.Address.IsValid() {
			p.Holder = t.Server.String()
		}
		for _, c := range t.Changes() {
			p.Steps = append(p.Steps, plan.Tell(c))
		}
		next += len(p.Steps)
		out = append(out, p)
	}
	return out
}
