package compile

import (
	"cmp"
	"slices"
	"strings"

	"lithos/core/site"
	"lithos/core/zone"
)

// Answered is what a name answers, in one type, on one side.
type Answered struct {
	Name string `json:"name"` // whole
	Type string `json:"type"`
	Side string `json:"side" enum:"inside,outside"`
	Was  string `json:"was,omitempty"` // empty for nothing
	Now  string `json:"now,omitempty"`
}

// Changes is what names answer otherwise in another book, reverse names included, in the order of their
// names. Answers with the same records are the same, whichever part they come from.
func Changes(was, now *Book) []Answered {
	before, after := answers(was), answers(now)
	var out []Answered
	for key, v := range before {
		if w := after[key]; w != v {
			out = append(out, Answered{key.name, key.typ, key.side, v, w})
		}
	}
	for key, w := range after {
		if _, had := before[key]; !had {
			out = append(out, Answered{key.name, key.typ, key.side, "", w})
		}
	}
	slices.SortFunc(out, func(a, b Answered) int {
		return cmp.Or(cmp.Compare(a.Side, b.Side), cmp.Compare(a.Name, b.Name), cmp.Compare(a.Type, b.Type))
	})
	return out
}

type answerKey struct{ name, typ, side string }

func answers(b *Book) map[answerKey]string {
	lists := map[answerKey][]string{}
	for _, p := range slices.Concat(b.Inside, b.Outside) {
		for _, e := range p.Entries {
			key := answerKey{p.Whole(e), e.Type, p.Side}
			lists[key] = append(lists[key], e.Data)
		}
	}
	out := make(map[answerKey]string, len(lists))
	for key, list := range lists {
		slices.Sort(list)
		out[key] = strings.Join(list, ", ")
	}
	return out
}

// Leads is what a name leads to on one side of a book: the addresses at the end of its aliases, and
// the aliases on the way, first to last. ok is false for a name that is not there.
func Leads(side []*Pages, name string) (aliases, addresses []string, ok bool) {
	seen := map[string]bool{}
	for !seen[name] {
		seen[name] = true
		p := Find(side, name)
		if p == nil {
			return aliases, nil, len(aliases) > 0
		}
		e, there := p.EntryOf(name)
		if !there {
			return aliases, nil, len(aliases) > 0
		}
		if e.Type != "CNAME" {
			return aliases, append(p.Values(name, "A"), p.Values(name, "AAAA")...), true
		}
		next, _ := zone.TargetOf(e.Record, p.Name)
		aliases, name = append(aliases, next), next
	}
	return aliases, nil, true
}

// Side is the zones of a side.
func (b *Book) Side(side string) []*Pages {
	if side == site.Outside {
		return b.Outside
	}
	return b.Inside
}

// Rows is how many entries of a zone people see: reverse ones written with names are not counted apart.
func (p *Pages) Rows() int { return len(p.Entries) + len(p.Hidden) }
