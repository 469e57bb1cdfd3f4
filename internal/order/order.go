// Package order is a work order as data: its steps, the site they propose, what the
// rules and the devices make of that, and what is known beside it. It asks no
// database and no device.
package order

import (
	"fmt"
	"slices"
	"time"

	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/site"
	"lithos/internal/actor"
)

// Order is a work order.
type Order struct {
	ID           int64
	SiteID       string
	Code         string // the site's
	Title        string
	Ticket       string
	State        string // open, pushing, landed, dropped
	Opener       string
	OpenedAt     time.Time
	Closer       string // who dropped it, or whose push landed it
	Version      int32
	BaseRevision int32
	Head         int32 // the site's newest revision
	Rehearsed    int32 // the version that was rehearsed last; -1 for none
	Lost         int   // edits that no longer applied and wait for a decision

	Lead      int64 // the first of the orders that belong together; 0 for one that is alone, or is the first
	Note      string
	NotBefore *time.Time // the change window; nil where nothing is said
	NotAfter  *time.Time
	Waits     string // who has left it to start automatically when the window opens; empty for nobody
	Waited    string // why it did not start automatically, the last time
}

// Window refuses a push outside the change window.
func (o *Order) Window(now time.Time, zone *time.Location) error {
	at := func(t *time.Time) string { return t.In(zone).Format("2 January 15:04") }
	switch {
	case o.NotBefore != nil && now.Before(*o.NotBefore):
		return actor.Refuse(actor.Conflict,
			"Its change window opens on %s. Leave it to start automatically then, or change the window.",
			at(o.NotBefore))
	case o.NotAfter != nil && now.After(*o.NotAfter):
		return actor.Refuse(actor.Conflict, "Its change window ended on %s. Give it another one.", at(o.NotAfter))
	}
	return nil
}

// Name is how people refer to a work order.
func Name(id int64) string { return fmt.Sprintf("WO-%04d", id) }

// Open refuses an order that takes no more edits.
func (o *Order) Open() error {
	switch o.State {
	case "open":
		return nil
	case "dropped":
		return actor.Refuse(actor.Conflict,
			"%s was dropped by %s. Take it up again on its page, or open another work order.", Name(o.ID), o.Closer)
	case "pushing":
		return actor.Refuse(actor.Conflict, "%s is being pushed and takes no more edits now.", Name(o.ID))
	default:
		return actor.Refuse(actor.Conflict, "%s is %s and takes no more edits. Open another work order.",
			Name(o.ID), o.State)
	}
}

// Step is one thing a technician did to a draft: one or more edits that undo
// takes back together.
type Step struct {
	Seq    int32
	Says   string
	Edits  []edit.Edit
	Undone bool
	// Version is the draft's version that the step made.
	Version int32
	By      string
	ByID    int64
	At      time.Time
	// UndoneBy is who took it back.
	UndoneBy string
	// PutBack is what devices hold that the push is to undo.
	PutBack []PutBack
}

// PutBack is a difference of a device (drift.Difference) that somebody has decided to undo.
type PutBack struct {
	Device string `json:"device"` // id
	ID     string `json:"id"`     // of the difference
	What   string `json:"what"`
}

// PutBack is the ids of the differences of a device that the draft puts back.
func (d *Draft) PutBack(device string) map[string]bool {
	out := map[string]bool{}
	for _, s := range d.Steps {
		for _, p := range s.PutBack {
			if p.Device == device && !s.Undone {
				out[p.ID] = true
			}
		}
	}
	return out
}

// Live is the edits that are not undone, in order.
func Live(steps []Step) []edit.Edit {
	var out []edit.Edit
	for _, s := range steps {
		if !s.Undone {
			out = append(out, s.Edits...)
		}
	}
	return out
}

// Draft is an order with its steps, and the scenes of the site it was made on and of
// the site it proposes. A draft is never written to once others may read it.
type Draft struct {
	Order Order
	Steps []Step
	Base  *check.Scene
	Scene *check.Scene

	differs differences
}

// New is the draft that steps make of a base.
func New(o Order, steps []Step, base *check.Scene) (*Draft, error) {
	d := &Draft{Order: o, Steps: steps, Base: base, Scene: base}
	edits := Live(steps)
	doc, err := edit.Apply(base.Site, edits...)
	if err != nil {
		return nil, fmt.Errorf("order %d no longer applies to revision %d: %w", o.ID, o.BaseRevision, err)
	}
	d.become(doc, edits)
	return d, nil
}

// Doc is the site the draft proposes.
func (d *Draft) Doc() *site.Site { return d.Scene.Site }

// become makes doc the site the draft proposes. It differs from the one before in
// what the edits are about.
func (d *Draft) become(doc *site.Site, edits []edit.Edit) {
	was := d.Scene
	d.Scene = was.After(doc, edits)
	d.differs = d.differs.after(d.Base, was, d.Scene)
}

// With is the draft with other steps, which make doc of its base. edits are those by
// which doc differs from what the draft proposes.
func (d *Draft) With(steps []Step, doc *site.Site, edits []edit.Edit) *Draft {
	next := *d
	next.Steps = steps
	next.become(doc, edits)
	return &next
}

// Added is the findings of the document that the draft brings in.
func (d *Draft) Added() []check.Finding { return check.Added(d.Base.Findings, d.Scene.Findings) }

// NextStep is the step behind those a draft has, which makes doc of it.
func (d *Draft) NextStep(by actor.Technician, doc *site.Site, edits []edit.Edit) Step {
	step := Step{Seq: 1, Says: Describe(d.Doc(), doc, edits), Edits: edits, Version: d.Order.Version + 1,
		By: by.FullName, ByID: by.ID, At: time.Now()}
	if n := len(d.Steps); n > 0 {
		step.Seq = d.Steps[n-1].Seq + 1
	}
	return step
}

// Standing lists the steps that are not undone.
func (d *Draft) Standing() []Step {
	return slices.DeleteFunc(slices.Clone(d.Steps), func(s Step) bool { return s.Undone })
}

// mostDescribed is how many edits of a step are put in words; it says how many more
// there are.
const mostDescribed = 3

// Describe puts the edits that make after of before in words.
func Describe(before, after *site.Site, edits []edit.Edit) string {
	shown := edits
	if len(edits) > mostDescribed {
		shown = edits[:mostDescribed-1]
	}
	says := ""
	for i, e := range shown {
		part := e.Part
		if part.Kind == site.KindOption {
			part = e.In
		}
		doc := before // a part that is renamed is known by the name it had
		if _, had := site.NameOf(before, part); !had {
			doc = after
		}
		if i > 0 {
			says += "; "
		}
		says += edit.Describe(doc, e, before, after)
	}
	if more := len(edits) - len(shown); more > 0 {
		says += fmt.Sprintf("; %d more", more)
	}
	return says
}

// MovedOn refuses a change to a draft that somebody has changed meanwhile.
func (d *Draft) MovedOn() *actor.Refusal {
	who, what := "Somebody", "changed the draft"
	if n := len(d.Steps); n > 0 {
		who, what = d.Steps[n-1].By, "made another edit ("+d.Steps[n-1].Says+")"
	}
	return actor.Refuse(actor.Conflict,
		"%s %s meanwhile. Look at it, then do yours again; what you typed is still here.",
		who, what)
}
