package check

import (
	"fmt"
	"slices"

	"lithos/core/compile"
	"lithos/core/zone"
)

func aliasWithOtherData(f *facts, report func(Finding)) {
	for _, p := range f.pages() {
		owners(p, func(owner string, list []compile.Entry) {
			aliases := ofType(list, "CNAME")
			if len(aliases) == 0 || len(list) == 1 && owner != zone.Apex {
				return
			}
			whole := zone.Absolute(owner, p.Name)
			beside := fmt.Sprintf("%s of %s stands beside it", list[0].Type, f.sayOf(list[0]))
			for _, e := range list {
				if e != aliases[0] {
					beside = fmt.Sprintf("%s of %s stands beside it", e.Type, f.sayOf(e))
				}
			}
			if owner == zone.Apex {
				beside = "a zone itself has other data"
			}
			report(Finding{
				Title: fmt.Sprintf("%s is an alias and more", whole), Parts: refs(p, list...), Value: whole,
				Says: fmt.Sprintf("An alias has nothing beside it (RFC 1034 section 3.6.2), and %s. What clients "+
					"get depends on who answers.", beside),
				Fix: f.removingEntry("Remove the alias", aliases[0]),
			})
		})
	}
}

// follows leads along the aliases of a side from a name. It says where the chain ends, whether
// something is there, and whether it goes round in a circle.
func follows(side []*compile.Pages, name string) (end string, there, circle, ours bool) {
	seen := map[string]bool{}
	for {
		if seen[name] {
			return name, false, true, true
		}
		seen[name] = true
		p := compile.Find(side, name)
		if p == nil {
			return name, false, false, false
		}
		e, ok := p.EntryOf(name)
		if !ok {
			if e, ok = p.Wildcard(name); !ok || e.Type != "CNAME" {
				return name, ok, false, !p.Partial()
			}
		}
		if e.Type != "CNAME" {
			return name, true, false, true
		}
		next, ok := zone.TargetOf(e.Record, p.Name)
		if !ok {
			return name, false, false, true
		}
		name = next
	}
}

// sides are the zones of each side: aliases lead inside to what is inside first, then outside.
func (f *facts) sides() [][]*compile.Pages {
	b := f.book()
	return [][]*compile.Pages{slices.Concat(b.Inside, nil), b.Outside}
}

func aliasLoop(f *facts, report func(Finding)) {
	for _, side := range f.sides() {
		for _, p := range side {
			for _, e := range ofType(p.Entries, "CNAME") {
				if _, _, circle, _ := follows(side, p.Whole(e)); !circle {
					continue
				}
				report(Finding{
					Title: fmt.Sprintf("%s leads in a circle", p.Whole(e)), Parts: refs(p, e), Value: p.Whole(e) +
						p.Side,
					Says: fmt.Sprintf(
						"It is an alias of %s, which leads back. Who asks is told that the server failed.", e.Data),
					Fix: f.removingEntry("Remove the alias", e),
				})
			}
		}
	}
}

func aliasTargetMissing(f *facts, report func(Finding)) {
	for _, side := range f.sides() {
		for _, p := range side {
			for _, e := range p.Entries {
				target, names := zone.TargetOf(e.Record, p.Name)
				if !names || e.Type == "PTR" {
					continue
				}
				end, there, circle, ours := follows(side, target)
				if there || circle || !ours || f.answeredElsewhere(end) || f.mayBeLease(end) {
					continue
				}
				what := "an alias of"
				if e.Type != "CNAME" {
					what = "an " + e.Type + " record that names"
				}
				report(Finding{
					Title: fmt.Sprintf("%s leads to nothing", p.Whole(e)), Parts: refs(p, e), Value: p.Whole(e) +
						p.Side + target,
					Says: fmt.Sprintf("It is %s %s, and %s is not there. Who asks learns that there is such a name "+
						"and gets no address.", what, target, end),
					Fix: f.removingEntry("Remove it", e),
				})
			}
		}
	}
}
