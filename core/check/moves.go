package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/address"
	"lithos/core/site"
)

// AboutMoves reports whether a rule is about moves of networks.
func AboutMoves(rule string) bool { return strings.HasPrefix(rule, "move-") }

// here are the moves of the site's own networks.
func (a *around) here() []Moving {
	return slices.DeleteFunc(slices.Clone(a.Moves), func(m Moving) bool { return m.Site != a.ID })
}

// moving is a finding about a move: of its first network, with its title.
func (a *around) moving(m Moving, title, says string) Finding {
	f := Finding{Title: title, Says: says, Value: fmt.Sprint(m.ID, says)}
	for _, id := range m.Networks {
		if _, ok := a.Network(id); ok {
			f.Parts = append(f.Parts, networkRef(id))
			f.Network = id
			break
		}
	}
	return f
}

func moveOverlap(a *around, report func(Finding)) {
	for _, m := range a.here() {
		for _, says := range m.Collides {
			report(a.moving(m, "A move has two at once", fmt.Sprintf("%s: %s. Give one another address first, or "+
				"move the networks one after another.", m.Title, says)))
		}
		for _, n := range a.Neighbors {
			for _, other := range n.Networks {
				for _, p := range m.New {
					if p.Overlaps(other.Prefix) {
						report(a.takes(m, p, n.Name, other))
					}
				}
			}
		}
	}
}

// takes is the finding that a move takes addresses of a network of another site.
func (a *around) takes(m Moving, p netip.Prefix, at string, other site.Network) Finding {
	f := a.moving(m, "A move takes addresses of "+at, fmt.Sprintf("%s gives %s, and %s of %s has %s. Machines at the "+
		"two sites will not reach each other. Choose another subnet.", m.Title, p, other.Name, at, other.Prefix))
	f.Addresses = []address.Range{address.Of(p)}
	return f
}

func moveStrands(a *around, report func(Finding)) {
	for _, m := range a.here() {
		if m.Stranded > 0 && !m.Swapped {
			report(a.moving(m, "A move leaves clients without service",
				fmt.Sprintf("%s: as simulated, %d of its clients "+
					"never have service again. Look who they are on the page of the move, and give them an address.",
					m.Title,
					m.Stranded)))
		}
	}
}

func movePathLate(a *around, report func(Finding)) {
	for _, m := range a.here() {
		if m.Console != "" && !m.Swapped {
			report(a.moving(m, "A move needs somebody at a console", m.Title+". "+m.Console+". Have somebody at its "+
				"console that night, or give Lithos another way to it first."))
		}
	}
}

// moveLeftBehind looks at every site of the customer: a reference to moved addresses may be anywhere.
func moveLeftBehind(a *around, report func(Finding)) {
	var old []netip.Prefix
	titles := map[netip.Prefix]string{}
	for _, m := range a.Moves {
		for _, p := range m.Old {
			if m.Swapped && !a.someoneHas(p) {
				old = append(old, p)
				titles[p] = m.Title
			}
		}
	}
	if len(old) == 0 {
		return
	}
	for l := range site.Mentioned(a.Site) {
		i := slices.IndexFunc(old, l.Of)
		if i < 0 || l.Words {
			continue
		}
		name, _ := site.NameOf(a.Site, l.Part)
		report(Finding{Title: "Something still names an old address", Parts: []site.Ref{l.Part},
			Network: site.NetworkOfPart(a.Site, l.Part), Addresses: []address.Range{address.Single(l.Address)},
			Value: l.Key,
			Says: fmt.Sprintf("%s names %s, and since the move %q nobody at the customer has it. Whoever is told it "+
				"waits for an answer in vain. Give the new address.", name, l.Address, titles[old[i]])})
	}
}

// someoneHas reports whether a network of the customer's has addresses of a prefix.
func (a *around) someoneHas(p netip.Prefix) bool {
	has := func(n site.Network) bool { return n.Prefix.Overlaps(p) }
	return slices.ContainsFunc(a.Networks, has) || slices.ContainsFunc(a.Neighbors,
		func(n Neighbor) bool { return slices.ContainsFunc(n.Networks, has) })
}

func moveUnfinished(a *around, report func(Finding)) {
	for _, m := range a.here() {
		if m.Overdue != "" {
			report(a.moving(m, "A move is not finished", m.Title+": "+m.Overdue+". Push the phase, give it another "+
				"window, or take the move back."))
		}
	}
}
