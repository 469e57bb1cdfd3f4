package order

import (
	"reflect"

	"lithos/core/compile"
	"lithos/core/site"
	"lithos/core/zone"
)

// ZoneTarget is an outside zone that a draft changes, at the server that holds it.
type ZoneTarget struct {
	site.Zone
	Base, Wanted []zone.Record
}

// Written reports whether Lithos can write the zone.
func (t ZoneTarget) Written() bool { return t.Server.Address.IsValid() && t.Key != "" }

// Changes are what the draft changes in the zone, by the documents.
func (t ZoneTarget) Changes() []zone.Change { return zone.Changes(t.Base, t.Wanted) }

// Zones lists the outside zones that a draft changes: what they say, or who holds them. A zone that the
// draft takes away stays with its server as it is.
func (d *Draft) Zones() []ZoneTarget {
	was := map[string]*compile.Pages{} // by id
	for _, p := range d.Base.Book().Outside {
		was[p.Zone.ID] = p
	}
	var out []ZoneTarget
	for _, p := range d.Scene.Book().Outside {
		t := ZoneTarget{Zone: *p.Zone, Wanted: compile.PublishedRecords(p)}
		before := was[p.Zone.ID]
		if before != nil {
			t.Base = compile.PublishedRecords(before)
		}
		if before != nil && before.Zone.Server == t.Server && reflect.DeepEqual(t.Base, t.Wanted) {
			continue
		}
		out = append(out, t)
	}
	return out
}
