package zone

import (
	"cmp"
	"slices"
	"strings"
)

// Change is what becomes of the records of one name and type in a zone that another server holds.
// They change together (RFC 2181 section 5).
type Change struct {
	Owner string   `json:"owner"`
	Type  string   `json:"type"`
	Was   []Record `json:"was,omitempty"`
	Now   []Record `json:"now,omitempty"`
}

type setKey struct{ owner, typ string }

func setsOf(list []Record) map[setKey][]Record {
	out := map[setKey][]Record{}
	for _, r := range list {
		key := setKey{strings.ToLower(r.Owner), r.Type}
		out[key] = append(out[key], r)
	}
	for _, set := range out {
		slices.SortFunc(set, func(a, b Record) int {
			return cmp.Or(cmp.Compare(a.Data, b.Data), cmp.Compare(a.TTL, b.TTL))
		})
	}
	return out
}

// Merged is what a zone that another server holds must have: what is wanted, and the sets that
// Lithos does not manage, which are in neither the last push (base) nor this one.
func Merged(held, base, wanted []Record) []Record {
	ours := setsOf(slices.Concat(base, wanted))
	out := slices.Clone(wanted)
	for _, r := range held {
		if _, managed := ours[setKey{strings.ToLower(r.Owner), r.Type}]; !managed {
			out = append(out, r)
		}
	}
	return out
}

// Changes are the changes from what a zone has to what it must have, in the order of their names:
// what goes before what comes, so that a name can become an alias.
func Changes(held, target []Record) []Change {
	was, now := setsOf(held), setsOf(target)
	var out []Change
	for key, set := range was {
		if !slices.Equal(set, now[key]) {
			out = append(out, Change{key.owner, key.typ, set, now[key]})
		}
	}
	for key, set := range now {
		if _, had := was[key]; !had {
			out = append(out, Change{key.owner, key.typ, nil, set})
		}
	}
	slices.SortFunc(out, func(a, b Change) int {
		return cmp.Or(cmp.Compare(min(len(a.Now), 1), min(len(b.Now), 1)), cmp.Compare(a.Owner, b.Owner),
			cmp.Compare(a.Type, b.Type))
	})
	return out
}
