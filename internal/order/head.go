package order

import (
	"fmt"
	"time"

	"lithos/core/check"
	"lithos/core/site"
	"lithos/internal/actor"
)

// Head is what the tray says of a work order.
type Head struct {
	ID        int64      `json:"id"`
	Name      string     `json:"name"`
	Site      string     `json:"site"` // code
	Title     string     `json:"title"`
	Ticket    string     `json:"ticket"`
	State     string     `json:"state" enum:"open,pushing,landed,dropped"`
	OpenedBy  string     `json:"openedBy"`
	Version   int32      `json:"version"`
	Edits     int        `json:"edits"`
	Blocking  int        `json:"blocking"`
	Warning   int        `json:"warning"`
	Undo      string     `json:"undo,omitempty"`   // what undo takes back
	UndoBy    string     `json:"undoBy,omitempty"` // whose step that is
	Redo      string     `json:"redo,omitempty"`
	Lost      int        `json:"lost"`               // edits that no longer apply and wait for a decision
	Refuses   string     `json:"refuses,omitempty"`  // why it cannot be pushed now, in a sentence
	ClosedBy  string     `json:"closedBy,omitempty"` // who dropped it, or whose push landed it
	Behind    bool       `json:"behind"`             // the site has a newer revision than the draft's base
	Rehearsed bool       `json:"rehearsed"`          // this very version was
	Devices   []string   `json:"devices"`            // names of those a push reaches
	Note      string     `json:"note,omitempty"`
	NotBefore *time.Time `json:"notBefore,omitempty"` // the change window
	NotAfter  *time.Time `json:"notAfter,omitempty"`
	Waits     string     `json:"waits,omitempty"`  // who has left it to start automatically
	Waited    string     `json:"waited,omitempty"` // why it did not start, the last time
	Window    string     `json:"window,omitempty"` // why the window keeps it from being pushed now
	// Leavable says that nothing but a window that has yet to open keeps it from being pushed, and that nobody has left
	// it to start automatically: that is the next step then.
	Leavable bool `json:"leavable"`
	// Drifted says which device holds something that a push would undo unasked.
	Drifted string `json:"drifted,omitempty"`
}

// Head is what the tray says of a draft that brings in some findings.
func (d *Draft) Head(access []Access, added []check.Finding) *Head {
	o := d.Order
	h := &Head{
		ID: o.ID, Name: Name(o.ID), Site: o.Code, Title: o.Title, Ticket: o.Ticket, State: o.State, OpenedBy: o.Opener,
		Version: o.Version,
		Lost:    o.Lost, ClosedBy: o.Closer, Behind: o.State == "open" && o.Head != o.BaseRevision,
		Rehearsed: o.Rehearsed == o.Version, Devices: []string{},
		Note: o.Note, NotBefore: o.NotBefore, NotAfter: o.NotAfter, Waits: o.Waits, Waited: o.Waited,
	}
	if err := o.Window(time.Now(), d.Doc().Location()); err != nil {
		h.Window = err.Error()
	}
	h.ofSteps(d.Steps)
	h.ofTargets(d, access)
	for _, f := range added {
		switch f.Severity {
		case check.Blocks:
			h.Blocking++
		case check.Warns:
			h.Warning++
		}
	}
	if err := h.RefusesPush(); err != nil {
		h.Refuses = err.Error()
	}
	yet := o.NotBefore != nil && time.Now().Before(*o.NotBefore)
	h.Leavable = o.State == "open" && yet && h.Waits == "" && h.RefusesPush() != nil && h.refusesButWindow() == nil
	return h
}

// ofSteps says how many edits stand, and what undo and redo would do.
func (h *Head) ofSteps(steps []Step) {
	for _, st := range steps {
		switch {
		case !st.Undone:
			h.Edits++
			h.Undo, h.UndoBy = st.Says, st.By
		case h.Redo == "":
			h.Redo = st.Says
		}
	}
}

// ofTargets says what a push reaches, and which device holds what nobody has decided about.
func (h *Head) ofTargets(d *Draft, access []Access) {
	for _, t := range d.Targets(access) {
		if t.Access == nil {
			continue
		}
		h.Devices = append(h.Devices, t.Name)
		if n := len(t.Undecided(d)); n > 0 && h.Drifted == "" && h.State == "open" {
			h.Drifted = Drifted(t.Name, n)
		}
	}
	for _, t := range d.Zones() {
		if t.Written() {
			h.Devices = append(h.Devices, t.Name)
		}
	}
}

// refusesButWindow says why a draft could not be pushed in its window.
func (h *Head) refusesButWindow() error {
	inside := *h
	inside.Window = ""
	return inside.RefusesPush()
}

// RefusesPush says why a draft cannot be pushed; nil when it can. What is offered
// on screen and what is refused are judged by it alike.
func (h *Head) RefusesPush() error {
	switch {
	case h.Behind:
		return Behind()
	case h.Lost == 1:
		return actor.Refuse(actor.Conflict,
			"1 edit does not apply here. Decide about it on the work order's page first.")
	case h.Lost > 0:
		return actor.Refuse(actor.Conflict, "%s do not apply here. Decide about each on the work order's page first.",
			site.Counted(h.Lost, "edit"))
	case h.Edits == 0:
		return actor.Refuse(actor.Conflict, "There is nothing to push: the draft has no edits.")
	case h.Blocking == 1:
		return actor.Refuse(actor.Conflict, "1 finding of this draft blocks the push. Fix it first.")
	case h.Blocking > 0:
		return actor.Refuse(actor.Conflict, "%s of this draft block the push. Fix them first.",
			site.Counted(h.Blocking, "finding"))
	case h.Drifted != "":
		return actor.Refuse(actor.Conflict, "%s", h.Drifted)
	case !h.Rehearsed:
		return actor.Refuse(actor.Conflict, "This draft was not rehearsed since its last change. Rehearse it first.")
	case h.Window != "":
		return actor.Refuse(actor.Conflict, "%s", h.Window)
	}
	return nil
}

// Drifted says that a device holds things that a push would undo, and that nobody has decided about.
func Drifted(device string, n int) string {
	them := "them"
	if n == 1 {
		them = "it"
	}
	return fmt.Sprintf("%s was changed, and not by Lithos: the push would undo %s. Adopt %s or put %s back first.",
		device,
		site.Counted(n, "thing"), them, them)
}

// Behind refuses a draft whose site has a newer revision.
func Behind() *actor.Refusal {
	return actor.Refuse(actor.Conflict, "The site has a newer revision than this draft. Move the draft to it first.")
}
