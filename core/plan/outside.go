package plan

import (
	"cmp"
	"slices"
	"strings"

	"lithos/core/zone"
)

// SetChange is what becomes of the records of one name and type in a zone that another server holds.
// They change together (RFC 2181 section 5).
type SetChange struct {
	Owner string        `json:"owner"`
	Type  string        `json:"type"`
	Was   []zone.Record `json:"was,omitempty"`
	Now   []zone.Record `json:"now,omitempty"`
}

// Says is the change in words.
func (c SetChange) Says() string {
	data := func(list []zone.Record) string {
		var out []string
		for _, r := range list {
			out = append(out, r.Data)
		}
		return strings.Join(out, ", ")
	}
	what := "`" + c.Owner + "` " + c.Type
	switch {
	case len(c.Was) == 0:
		return "Tell the world " + what + " " + data(c.Now)
	case len(c.Now) == 0:
		return "Tell the world no more " + what + " " + data(c.Was)
	case data(c.Was) == data(c.Now):
		return "Tell the world how long " + what + " may be kept"
	}
	return "Tell the world " + what + " " + data(c.Now) + ", was " + data(c.Was)
}

type setKey struct{ owner, typ string }

func setsOf(list []zone.Record) map[setKey][]zone.Record {
	out := map[setKey][]zone.Record{}
	for _, r := range list {
		key := setKey{strings.ToLower(r.Owner), r.Type}
		out[key] = append(out[key], r)
	}
	for _, set := range out {
		slices.SortFunc(set, func(a, b zone.Record) int {
			return cmp.Or(cmp.Compare(a.Data, b.Data), cmp.Compare(a.TTL, b.TTL))
		})
	}
	return out
}

// OutsideTarget is what a zone that another server holds must have: what is wanted, and the sets that
// Lithos does not manage, which are in neither the last push (base) nor this one.
func OutsideTarget(held, base, wanted []zone.Record) []zone.Record {
	ours := setsOf(slices.Concat(base, wanted))
	out := slices.Clone(wanted)
	for _, r := range held {
		if _, managed := ours[setKey{strings.ToLower(r.Owner), r.Type}]; !managed {
			out = append(out, r)
		}
	}
	return out
}

// SetChanges are the changes from what a zone has to what it must have, in the order of their names:
// what goes before what comes, so that a name can become an alias.
func SetChanges(held, target []zone.Record) []SetChange {
	was, now := setsOf(held), setsOf(target)
	var out []SetChange
	for key, set := range was {
		if !slices.Equal(set, now[key]) {
			out = append(out, SetChange{key.owner, key.typ, set, now[key]})
		}
	}
	for key, set := range now {
		if _, had := was[key]; !had {
			out = append(out, SetChange{key.owner, key.typ, nil, set})
		}
	}
	slices.SortFunc(out, func(a, b SetChange) int {
		return cmp.Or(cmp.Compare(min(len(a.Now), 1), min(len(b.Now), 1)), cmp.Compare(a.Owner, b.Owner),
			cmp.Compare(a.Type, b.Type))
	})
	return out
}
