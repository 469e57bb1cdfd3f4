package edit

import (
	"bytes"
	"encoding/json"
	"slices"
	"strconv"

	"lithos/core/site"
)

// nested is the key of a part under which parts of another kind lie: those are compared on their own.
var nested = map[string]string{
	site.KindPool: "exclusions", site.KindDevice: "interfaces", site.KindZone: "records",
}

// Between lists the edits that turn one document into another of the same site: what is added first, then what
// changes, then what goes. Applied to was they make now.
func Between(was, now *site.Site) []Edit {
	var added, changed, removed []Edit
	for _, k := range site.Kinds() {
		before, order := partsOf(was, k)
		after, fresh := partsOf(now, k)
		for _, at := range fresh {
			raw, had := before[at]
			switch {
			case had && bytes.Equal(raw, after[at]):
			case had:
				if e, differs := Changing(k.Name, at.part.ID, at.in, own(k.Name, raw), own(k.Name,
					after[at])); differs {
					changed = append(changed, e)
				}
			case !newIn(was, now, at.in): // else it comes with its owner
				added = append(added, Edit{Op: Add, Part: at.part, In: at.in, Value: after[at]})
			}
		}
		for _, at := range order {
			if _, stays := after[at]; !stays && !newIn(now, was, at.in) { // else it goes with its owner
				removed = append(removed, Edit{Op: Remove, Part: at.part, In: at.in, Value: before[at]})
			}
		}
	}
	level := site.Ref{Kind: site.KindSite, ID: now.ID}
	for _, code := range codes(was.Options, now.Options) {
		before, had := optionOf(was.Options, code)
		after, stays := optionOf(now.Options, code)
		part := site.Ref{Kind: site.KindOption, ID: strconv.Itoa(int(code))}
		switch {
		case !had:
			added = append(added, Adding(site.KindOption, part.ID, level, after))
		case !stays:
			removed = append(removed, Edit{Op: Remove, Part: part, In: level, Value: mustMarshal(before)})
		default:
			if e, differs := Changing(site.KindOption, part.ID, level, before, after); differs {
				changed = append(changed, e)
			}
		}
	}
	slices.Reverse(removed) // what lies on something goes before that
	return slices.Concat(added, changed, removed)
}

// place is a part with its owner.
type place struct{ part, in site.Ref }

// partsOf is the parts of a kind as JSON, with their order.
func partsOf(s *site.Site, k *site.Kind) (parts map[place]json.RawMessage, order []place) {
	parts = map[place]json.RawMessage{}
	k.Each(s, func(in site.Ref, list site.List, i int) bool {
		at := place{site.Ref{Kind: k.Name, ID: list.ID(i)}, in}
		parts[at] = list.JSON(i)
		order = append(order, at)
		return true
	})
	return parts, order
}

// newIn reports whether an owner is in a document and not in the one before it.
func newIn(was, now *site.Site, owner site.Ref) bool {
	return owner != (site.Ref{}) && there(now, owner) && !there(was, owner)
}

func there(s *site.Site, part site.Ref) bool {
	list, ok := site.ListOf(scratch(s), part.Kind, site.Ref{})
	if !ok {
		return false
	}
	_, ok = list.Find(part.ID)
	return ok
}

// own is a part without the parts of other kinds in it.
func own(kind string, raw json.RawMessage) map[string]json.RawMessage {
	var out map[string]json.RawMessage
	if json.Unmarshal(raw, &out) != nil {
		panic("a part of a site is always a JSON object")
	}
	delete(out, nested[kind])
	return out
}

func codes(lists ...[]site.Option) []uint8 {
	var out []uint8
	for _, list := range lists {
		for _, o := range list {
			out = append(out, o.Code)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func optionOf(list []site.Option, code uint8) (site.Option, bool) {
	i := slices.IndexFunc(list, func(o site.Option) bool { return o.Code == code })
	if i < 0 {
		return site.Option{}, false
	}
	return list[i], true
}
