package edit

import (
	"fmt"
	"slices"

	"lithos/core/site"
)

// Removing lists the edits that remove a part with everything that lives on it: a
// network goes with its reservations, fixed devices and pools. What else names the
// part, or a part inside it, no longer does: uplinks stop translating a network,
// pools kept for a vendor class are for anyone, pools that a device served are served
// by none, and cables to its interfaces are unplugged.
func Removing(s *site.Site, part, in site.Ref) ([]Edit, error) {
	list, ok := site.ListOf(scratch(s), part.Kind, in)
	if !ok {
		return nil, fmt.Errorf("%s is not at this site", in)
	}
	i, ok := list.Find(part.ID)
	if !ok {
		return nil, fmt.Errorf("%s is not at this site", part)
	}
	r := remover{site: s, gone: map[site.Ref]bool{part: true}}
	r.inside(part)
	for _, k := range site.Kinds() {
		k.Each(s, func(owner site.Ref, list site.List, i int) bool {
			r.letGo(k, owner, list, i)
			return true
		})
	}
	return append(r.edits, Edit{Op: Remove, Part: part, In: in, Value: list.JSON(i)}), nil
}

// scratch is a document that may be written to in place of s.
func scratch(s *site.Site) *site.Site {
	out := *s
	return &out
}

type remover struct {
	site  *site.Site
	gone  map[site.Ref]bool // the part with those inside it
	edits []Edit
}

// inside finds the parts that lie in one.
func (r *remover) inside(part site.Ref) {
	for _, k := range site.Kinds() {
		if k.In != part.Kind {
			continue
		}
		k.Each(r.site, func(in site.Ref, list site.List, i int) bool {
			if in == part {
				r.gone[site.Ref{Kind: k.Name, ID: list.ID(i)}] = true
			}
			return true
		})
	}
}

// letGo removes a part that lives on one that goes, and makes another stop naming it.
func (r *remover) letGo(k *site.Kind, in site.Ref, list site.List, i int) {
	ref := site.Ref{Kind: k.Name, ID: list.ID(i)}
	if r.gone[ref] {
		return
	}
	was := list.At(i)
	now := was // until it has to let something go: most parts name nothing that goes
	for _, f := range k.Fields {
		if f.Of == "" || f.Named {
			continue
		}
		to := f.Points(was)
		left := slices.DeleteFunc(slices.Clone(to),
			func(id string) bool { return r.gone[site.Ref{Kind: f.Of, ID: id}] })
		switch {
		case len(left) == len(to):
		case f.Goes:
			r.edits = append(r.edits, Edit{Op: Remove, Part: ref, In: in, Value: list.JSON(i)})
			return
		default:
			if now == was {
				now = k.Copy(was)
			}
			f.Repoint(now, left)
		}
	}
	if now == was {
		return
	}
	if e, ok := Changing(k.Name, ref.ID, in, was, now); ok {
		r.edits = append(r.edits, e)
	}
}
