package check

import (
	"fmt"
	"slices"
	"strconv"

	"lithos/core/site"
	"lithos/core/topology"
)

func networkVLANOutOfRange(_ *facts, n *site.Network, report func(Finding)) {
	if n.VLAN < 0 || n.VLAN > 4094 {
		report(Finding{
			Title: fmt.Sprintf("%s has VLAN id %d", n.Name, n.VLAN), Network: n.ID, Parts: []site.Ref{networkRef(n.ID)},
			Value: fmt.Sprint(n.VLAN),
			Says:  fmt.Sprintf("IEEE 802.1Q has room for ids 1 to 4094 only; every device refuses %d.", n.VLAN),
		})
	}
}

func deviceVLANOutOfRange(_ *facts, d *site.Device, report func(Finding)) {
	for _, i := range d.Interfaces {
		if i.VLAN < 0 || i.VLAN > 4094 || i.Kind == site.VLAN && i.VLAN == 0 {
			report(Finding{
				Title: fmt.Sprintf("%s of %s has VLAN id %d", i.Name, d.Name, i.VLAN),
				Parts: []site.Ref{interfaceRef(i.ID)},
				Value: fmt.Sprint(i.VLAN),
				Says:  fmt.Sprintf("A VLAN interface needs an id from 1 to 4094; %s refuses %d.", d.Name, i.VLAN),
			})
		}
		for _, id := range append([]int{i.Untagged}, i.Tagged...) {
			if id < 0 || id > 4094 || id == 0 && slices.Contains(i.Tagged, 0) {
				report(Finding{
					Title: fmt.Sprintf("%s of %s carries VLAN id %d", i.Name, d.Name, id),
					Parts: []site.Ref{interfaceRef(i.ID)}, Value: fmt.Sprint("carries ", id),
					Says: fmt.Sprintf("IEEE 802.1Q has room for ids 1 to 4094 only; %s refuses %d.", d.Name, id),
				})
			}
		}
	}
}

func vlanReused(f *facts, report func(Finding)) {
	key := func(n *site.Network) string {
		if n.VLAN == 0 {
			return ""
		}
		return strconv.Itoa(n.VLAN)
	}
	twice(f.Networks, key, func(first, again *site.Network) {
		now := *again
		now.VLAN = FreeVLAN(f.Site)
		report(Finding{
			Title: fmt.Sprintf("%s and %s share VLAN %d", first.Name, again.Name, again.VLAN), Network: again.ID,
			Parts: []site.Ref{networkRef(first.ID), networkRef(again.ID)},
			Value: key(again),
			Says: fmt.Sprintf("Clients of both networks hear each other's broadcasts, and a DHCP request on "+
				"VLAN %d is answered from whichever pool is first.", again.VLAN),
			Fix: change(fmt.Sprintf("Give %s VLAN %d", again.Name, now.VLAN), site.KindNetwork, again.ID,
				site.Ref{}, *again, now),
		})
	})
}

// FreeVLAN is the lowest VLAN id above those in use at the site, or the lowest
// unused one when there is none above. VLAN 1, every device's default, is left.
func FreeVLAN(s *site.Site) int {
	used := map[int]bool{}
	highest := 1
	note := func(id int) {
		used[id] = true
		if id < 4094 {
			highest = max(highest, id)
		}
	}
	for _, n := range s.Networks {
		note(n.VLAN)
	}
	for _, d := range s.Devices {
		for _, i := range d.Interfaces {
			note(i.VLAN)
		}
	}
	if highest < 4094 && !used[highest+1] {
		return highest + 1
	}
	for id := 2; id <= 4094; id++ {
		if !used[id] {
			return id
		}
	}
	return 0
}

// vlanOnOneSideOnly compares the two ends of every cable, for the VLANs of
// networks.
func vlanOnOneSideOnly(f *facts, report func(Finding)) {
	nets := map[int]*site.Network{}
	for i := range f.Networks {
		nets[f.Networks[i].VLAN] = &f.Networks[i]
	}
	for _, c := range f.joined.Cables {
		for _, pair := range [][2]topology.End{{c.A, c.B}, {c.B, c.A}} {
			from, to := pair[0], pair[1]
			for _, v := range topology.Tagged(from.Device, from.Interface) {
				n := nets[v]
				if n == nil || slices.Contains(topology.Tagged(to.Device, to.Interface), v) {
					continue
				}
				now := *to.Interface
				now.Tagged = append(slices.Clone(now.Tagged), v)
				slices.Sort(now.Tagged)
				says := fmt.Sprintf("%s sends %s with the tag %d, and %s does not take it. Clients beyond get no "+
					"address.", from, n.Name, v, to)
				if now.Untagged == v {
					now.Untagged = 0
					says = fmt.Sprintf("%s sends %s with the tag %d, and %s takes it without one. Clients beyond "+
						"get no address.", from, n.Name, v, to)
				}
				report(Finding{
					Title: fmt.Sprintf("VLAN %d is on one side only", v), Network: n.ID, Says: says,
					Value: fmt.Sprint(v),
					Parts: []site.Ref{interfaceRef(from.Interface.ID), interfaceRef(to.Interface.ID), networkRef(n.ID)},
					Fix: changeInterface(fmt.Sprintf("Carry VLAN %d on %s too", v, to), to.Device,
						*to.Interface, now),
				})
			}
		}
	}
}

func untaggedDiffers(f *facts, report func(Finding)) {
	for _, c := range f.joined.Cables {
		a, b := topology.Untagged(c.A.Device, c.A.Interface), topology.Untagged(c.B.Device, c.B.Interface)
		if a == 0 || b == 0 || a == b {
			continue
		}
		now := *c.B.Interface
		now.Untagged = a
		found := Finding{
			Title: fmt.Sprintf("VLANs %d and %d run together", a, b),
			Parts: []site.Ref{interfaceRef(c.A.Interface.ID), interfaceRef(c.B.Interface.ID)},
			Value: fmt.Sprint(a, b),
			Says: fmt.Sprintf("Frames of VLAN %d leave %s without a tag and become VLAN %d at %s. Clients of one "+
				"network get addresses of the other.", a, c.A, b, c.B),
			Fix: changeInterface(fmt.Sprintf("Make VLAN %d the untagged one on %s", a, c.B), c.B.Device,
				*c.B.Interface, now),
		}
		for _, n := range f.Networks {
			if n.VLAN == a {
				found.Network = n.ID
			}
		}
		report(found)
	}
}
