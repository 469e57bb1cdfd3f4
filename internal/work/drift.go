package work

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"lithos/core/check"
	"lithos/core/compile"
	"lithos/core/drift"
	"lithos/core/edit"
	"lithos/core/rehearse"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/draft"
	"lithos/internal/order"
	"lithos/internal/sites"
)

// Drift is what a device holds, beside what it was last given and what is wanted.
type Drift struct {
	Device         string       `json:"device"` // id
	Name           string       `json:"name"`
	Order          int64        `json:"order,omitempty" doc:"the work order whose draft is what is wanted; none: the site as it stands"`
	Version        int32        `json:"version"`
	ReadAt         *time.Time   `json:"readAt,omitempty"`
	Since          *time.Time   `json:"since,omitempty" doc:"when a difference was first seen"`
	Problem        string       `json:"problem,omitempty" doc:"why it could not be read the last time"`
	Differences    []DriftRow   `json:"differences"`
	Cuts           []DriftCut   `json:"cuts" doc:"the networks that the device cuts off as it is, and would not if it held what is wanted"`
	Same           int          `json:"same" doc:"how many entries are as they were given"`
	Configurations []KeptConfig `json:"configurations" doc:"the forms of its configuration that are kept, the newest first"`
}

// DriftRow is a difference with what is decided of it and what comes of putting it back.
type DriftRow struct {
	drift.Difference
	PutBack bool             `json:"putBack" doc:"whether the draft puts it back"`
	Why     string           `json:"why,omitempty" doc:"why it cannot be adopted"`
	Moves   []DriftMove      `json:"moves" doc:"clients that are affected if it is put back"`
	More    int              `json:"more" doc:"how many of those are not listed"`
	Mends   []DriftCut       `json:"mends" doc:"the cuts that are no more if it alone is put back"`
	Adopts  string           `json:"adopts,omitempty" doc:"what adopting it changes in the site, in words"`
	Writing []sites.FileLine `json:"writing" doc:"the entry as the device writes it, beside what it was given"`
}

// DriftCut is the lowest rung of a network's ladder that does not hold as the device is, with the cause.
type DriftCut struct {
	Network string `json:"network" doc:"its name"`
	Rung    string `json:"rung"`
	Says    string `json:"says"`
}

// DriftMove is a client that is told something else.
type DriftMove struct {
	Client string `json:"client"`
	Now    string `json:"now"`
	After  string `json:"after"`
	When   string `json:"when"`
}

// KeptConfig is a form of a device's configuration that is kept.
type KeptConfig struct {
	ID     int64     `json:"id"`
	First  time.Time `json:"first"`
	Last   time.Time `json:"last"`
	Octets int32     `json:"octets"`
}

const (
	// workedOut is of how many differences it is worked out what comes of them; of the rest it is not said. Of a device
	// that has lost everything that is fewer, as each is rehearsed on the whole site.
	workedOut, ofMany, many = 16, 4, 60
	// mostWritten is of how many differences the device's writing is given.
	mostWritten = 200
	// mostMoves is how many clients are listed of a difference.
	mostMoves = 8
)

// driftScene is a device of a site with what it holds.
type driftScene struct {
	doc     *site.Site // what is wanted
	base    *site.Site // what was last given
	draft   *order.Draft
	device  *site.Device
	access  *order.Access
	running yang.Config
	config  int64 // the form of its configuration
}

// driftOf finds a device and the form of its configuration that is kept under an id, the latest for 0.
func (s *Service) driftOf(ctx context.Context, code, device string, id, kept int64) (*driftScene, error) {
	sc, d, _, err := s.Drafts.SceneOf(ctx, code, id)
	if err != nil {
		return nil, err
	}
	out := &driftScene{doc: sc.Site, base: sc.Site, draft: d}
	if d != nil {
		out.base = d.Base.Site
	}
	var ok bool
	if out.device, ok = out.base.Device(device); !ok {
		return nil, actor.Refuse(actor.Missing, "The site has no such device.")
	}
	access, err := s.Store.Access(ctx, out.doc.ID)
	if err != nil {
		return nil, err
	}
	if out.access = order.On(access, device); out.access == nil {
		return nil, actor.Refuse(actor.Conflict, "Lithos does not reach %s; say how it is reached first.",
			out.device.Name)
	}
	raw, found, err := s.Store.Config(ctx, out.doc.ID, device, kept)
	if err != nil {
		return nil, err
	}
	if !found {
		return nil, actor.Refuse(actor.Conflict, "%s was not read yet.", out.device.Name)
	}
	out.config = kept
	return out, json.Unmarshal(raw, &out.running)
}

func (d *driftScene) pushed() yang.Config { return compile.Device(d.base, d.device.ID) }

func (d *driftScene) list() []drift.Difference {
	return drift.Between(d.doc.Own(), d.pushed(), d.running, compile.Device(d.doc, d.device.ID))
}

// Drift says what a device holds otherwise than it was last given, what a draft wants there, and what comes of putting
// each difference back. kept is a form of its configuration that is kept, the latest for 0.
func (s *Service) Drift(ctx context.Context, code, device string, id, kept int64) (*Drift, error) {
	d, err := s.driftOf(ctx, code, device, id, kept)
	if err != nil {
		return nil, err
	}
	out := &Drift{Device: device, Name: d.device.Name, ReadAt: d.access.ReadAt, Since: d.access.DriftedAt,
		Problem: d.access.Problem, Differences: []DriftRow{}, Configurations: []KeptConfig{}}
	back := map[string]bool{}
	if d.draft != nil {
		out.Order, out.Version, back = d.draft.Order.ID, d.draft.Order.Version, d.draft.PutBack(device)
	}
	pushed := d.pushed()
	out.Same = drift.Same(pushed, d.running)
	heard, err := s.Store.Heard(ctx, d.doc.ID)
	if err != nil {
		return nil, err
	}
	leases := rehearse.LeasesOf(d.doc, heard, time.Now())
	list := d.list()
	most := workedOut
	if len(list) > many {
		most = ofMany
	}
	cuts := d.cuts(d.running)
	out.Cuts = d.inWords(cuts)
	for i, one := range list {
		row := DriftRow{Difference: one, PutBack: back[one.ID], Moves: []DriftMove{}, Mends: []DriftCut{},
			Writing: []sites.FileLine{}}
		if i < mostWritten {
			row.Writing = sites.Lines(drift.Writing(pushed, one.Path), drift.Writing(d.running, one.Path))
		}
		if i < most && !one.Settled {
			if err := d.workOut(&row, list, cuts, leases); err != nil {
				return nil, err
			}
		}
		out.Differences = append(out.Differences, row)
	}
	rows, err := s.Store.Configs(ctx, d.doc.ID, device)
	for _, k := range rows {
		out.Configurations = append(out.Configurations, KeptConfig(k))
	}
	return out, err
}

// cuts are the networks that the device cuts off where it is set in a way.
func (d *driftScene) cuts(as yang.Config) []check.Cut {
	return rehearse.Cuts(time.Now(), d.doc, map[string]yang.Config{d.device.ID: as})
}

func (d *driftScene) inWords(cuts []check.Cut) []DriftCut {
	out := []DriftCut{}
	for _, c := range cuts {
		if n, there := d.doc.Network(c.Network); there {
			out = append(out, DriftCut{n.Name, c.Rung, c.Says})
		}
	}
	return out
}

// workOut says what comes of adopting a difference, and of putting it back: which clients are told something else, and
// which networks have service again, if it alone of the differences is put back. cuts are those of the device as it is.
func (d *driftScene) workOut(
	row *DriftRow, list []drift.Difference, cuts []check.Cut, leases rehearse.Leases,
) error {
	adopted, refused := drift.Adopt(d.doc, d.device.ID, d.running, []drift.Difference{row.Difference})
	if len(refused) > 0 {
		row.Why = refused[0].Why
	} else if edits := edit.Between(d.doc, adopted); len(edits) > 0 {
		row.Adopts = order.Describe(d.doc, adopted, edits)
	}
	without := drift.Mixed(compile.Device(d.doc, d.device.ID), d.running,
		slices.DeleteFunc(slices.Clone(list), func(o drift.Difference) bool { return o.ID == row.ID }))
	left := d.cuts(without)
	row.Mends = d.inWords(slices.DeleteFunc(slices.Clone(cuts), func(c check.Cut) bool {
		return slices.ContainsFunc(left, func(o check.Cut) bool { return o.Network == c.Network && o.Rung == c.Rung })
	}))
	start := rehearse.Start{Now: time.Now(), Site: drift.AsHeld(d.doc, map[string]yang.Config{d.device.ID: d.running})}
	then := drift.AsHeld(d.doc, map[string]yang.Config{d.device.ID: without})
	_, err := rehearse.Run(start, then, leases, func(c rehearse.Client) error {
		switch {
		case !c.Moves:
		case len(row.Moves) == mostMoves:
			row.More++
		default:
			row.Moves = append(row.Moves, moveOf(c))
		}
		return nil
	})
	return err
}

// moveOf is a client that is told something else, in a line.
func moveOf(c rehearse.Client) DriftMove {
	out := DriftMove{Client: c.Name, Now: c.Before, After: c.After, When: c.When}
	if out.Client == "" {
		out.Client = c.MAC.String()
	}
	if c.Before == c.After && len(c.Changes) > 0 {
		out.Now = fmt.Sprintf("%s %s", c.Changes[0].What, c.Changes[0].Was)
		out.After = fmt.Sprintf("%s %s", c.Changes[0].What, c.Changes[0].Now)
	}
	return out
}

// Decision is what is to become of differences of a device.
type Decision struct {
	Order         int64    `json:"order,omitempty" doc:"the work order that takes it; a new one is opened where there is none"`
	Version       int32    `json:"version" doc:"the draft's version it was made on"`
	Configuration int64    `json:"configuration,omitempty" doc:"the form of its configuration that is meant; the latest where there is none"`
	Adopt         []string `json:"adopt,omitempty" maxItems:"5000" doc:"ids of the differences that become the site's"`
	PutBack       []string `json:"putBack,omitempty" maxItems:"5000" doc:"ids of those that the push undoes"`
}

// Decided is what became of a decision.
type Decided struct {
	Order   int64           `json:"order"`
	Version int32           `json:"version" doc:"of the draft, with what was decided"`
	Refused []drift.Refused `json:"refused" doc:"what could not be adopted, with why"`
}

// DecideDrift adopts differences of a device into a draft, and has its push put others back, as one step.
func (s *Service) DecideDrift(
	ctx context.Context, by actor.Technician, code, device string, c Decision,
) (*Decided, error) {
	d, err := s.driftOf(ctx, code, device, c.Order, c.Configuration)
	if err != nil {
		return nil, err
	}
	out := &Decided{Order: c.Order, Refused: []drift.Refused{}}
	list := d.list()
	picked, err := pick(list, c.Adopt)
	if err != nil {
		return nil, err
	}
	undone, err := pick(list, c.PutBack)
	if err != nil {
		return nil, err
	}
	change := draft.Change{Version: c.Version}
	if len(picked) > 0 {
		adopted, refused := drift.Adopt(d.doc, device, d.running, picked)
		change.Edits = edit.Between(d.doc, adopted)
		out.Refused = append(out.Refused, refused...)
	}
	for _, one := range undone {
		change.PutBack = append(change.PutBack, order.PutBack{Device: device, ID: one.ID, What: one.What})
	}
	if len(change.Edits)+len(change.PutBack) == 0 {
		if len(out.Refused) > 0 {
			return nil, actor.Refuse(actor.Conflict, "Nothing was decided. %s", out.Refused[0].Why)
		}
		return nil, actor.Refuse(actor.Conflict, "There is nothing to decide: %s holds what is wanted.", d.device.Name)
	}
	if out.Order == 0 {
		title := d.device.Name + " was changed by hand"
		if c.Configuration != 0 {
			title = "Bring back what " + d.device.Name + " held"
		}
		if out.Order, err = s.Drafts.OpenOrder(ctx, by, code, title, ""); err != nil {
			return nil, err
		}
		change.Version = 0
	}
	edited, err := s.Drafts.Edit(ctx, by, out.Order, change, nil)
	if err != nil {
		return nil, err
	}
	out.Version = edited.After.Order.Version
	return out, nil
}

// pick finds differences by their ids. One that is gone, or of which another value is held by now, is no more decided
// about.
func pick(list []drift.Difference, ids []string) ([]drift.Difference, error) {
	var out []drift.Difference
	for _, id := range ids {
		i := slices.IndexFunc(list, func(d drift.Difference) bool { return d.ID == id })
		if i < 0 {
			return nil, actor.Refuse(actor.Conflict,
				"The device was read again, and holds something else by now. Look at it "+
					"again, then decide.")
		}
		out = append(out, list[i])
	}
	return out, nil
}

// ReadNow reads the devices of a site at once, at somebody's word.
func (s *Service) ReadNow(ctx context.Context, code string) error {
	row, err := s.Store.Site(ctx, code)
	if err != nil {
		return err
	}
	if err := actor.RefuseWhileHeld(ctx, s.Store.Queries); err != nil {
		return err
	}
	s.Poll.Observe(ctx, row.ID)
	return actor.Publish(ctx, s.Store.Queries, actor.Event{Topic: "site", ID: code})
}
