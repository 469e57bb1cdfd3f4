package plan

import (
	"fmt"
	"reflect"
	"strings"
	"time"

	"lithos/core/option"
	"lithos/core/yang"
	"lithos/core/zone"
)

// dropOutside stops keeping outside names that are no longer the device's, and those whose uplink is made anew or
// becomes something else.
func (p *planner) dropOutside() (steps []Step) {
	for _, n := range p.was.Outside.Name {
		_, stays := p.now.outside[n.ID]
		switch {
		case !stays:
			steps = append(steps, drop("Stop keeping", "`"+n.Name+"`",
				"The name stays where it is, or somebody else keeps it", yang.OutsidePath(n.ID)))
		case p.unkept(n):
			steps = append(steps, drop("Stop keeping", "`"+n.Name+"` for now", "Its uplink is about to change",
				yang.OutsidePath(n.ID)))
		}
	}
	return steps
}

// unkept reports whether a name is let go while its uplink changes.
func (p *planner) unkept(n yang.OutsideName) bool {
	return p.rebuild[n.Interface] || p.now.interfaces[n.Interface].Uplink == nil
}

// keepOutside has the device keep names, when their uplinks are there.
func (p *planner) keepOutside() (steps []Step) {
	for _, n := range p.now.Outside.Name {
		was, had := p.was.outside[n.ID]
		if had && !p.unkept(was) && reflect.DeepEqual(was, n) {
			continue
		}
		why := fmt.Sprintf("It has the address of %s; the device checks it every %s", n.Interface,
			option.FormatDuration(time.Duration(n.Every)*time.Second))
		if !n.Enabled {
			why = "It is switched off, and stays where it is"
		}
		steps = append(steps, put("Keep", "`"+n.Name+"`", why, yang.OutsidePath(n.ID), n))
	}
	return steps
}

// Tell is a change of a zone that another server holds as a step of a plan, for people to read.
func Tell(c zone.Change) Step {
	data := func(list []zone.Record) string {
		var out []string
		for _, r := range list {
			out = append(out, r.Data)
		}
		return strings.Join(out, ", ")
	}
	what := "`" + c.Owner + "` " + c.Type
	s := Step{Verb: "Tell the world", Adds: true, Text: what + " `" + data(c.Now) + "`", Method: "UPDATE",
		Path: c.Owner + "/" + c.Type, Why: "Nothing was told"}
	switch was := data(c.Was); {
	case len(c.Now) == 0:
		s.Verb, s.Adds, s.Text, s.Why = "Withdraw", false, what, "It was `"+was+"`"
	case was == data(c.Now):
		s.Why = "How long it may be kept changes"
	case len(c.Was) > 0:
		s.Why = "It was `" + was + "`"
	}
	return s
}
