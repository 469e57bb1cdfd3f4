package rehearse

import (
	"time"

	"lithos/core/check"
	"lithos/core/site"
	"lithos/core/yang"
)

// Cuts compares the ladder of each network as the site gives it with the same as devices hold it. held is what devices
// hold, by id; one that is not in it holds what the site gives it. A network whose ladder breaks off at the same rung
// both ways is not cut off by what is held.
func Cuts(now time.Time, s *site.Site, held map[string]yang.Config) []check.Cut {
	var out []check.Cut
	given, is := NewStage(now, s, nil), newStage(now, s, held, nil)
	for i := range s.Networks {
		n := &s.Networks[i]
		if c, cut := is.cut(n, given.ladder(n)); cut {
			out = append(out, c)
		}
	}
	return out
}

// cut finds the lowest rung of a network that holds in another ladder, and not on this stage.
func (st *Stage) cut(n *site.Network, given []Rung) (check.Cut, bool) {
	at := n
	if own, there := st.site.Network(n.ID); there {
		at = own
	}
	for i, rung := range st.ladder(at) {
		if given[i].State != Pass || rung.State == Pass {
			continue
		}
		says := rung.Value
		if rung.Rule == "network-unserved" && rung.State == Skip {
			says = "No device has a pool for " + n.Name
		}
		return check.Cut{Network: n.ID, Rung: rung.Name, Says: says}, true
	}
	return check.Cut{}, false
}
