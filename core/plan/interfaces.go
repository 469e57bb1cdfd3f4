package plan

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"lithos/core/yang"
)

// markInterfaces finds the interfaces that go or are made anew, and those whose
// addresses go.
func (p *planner) markInterfaces() {
	for _, i := range p.was.Interfaces.Interface {
		j, stays := p.now.interfaces[i.Name]
		if !stays || i.Type != j.Type || i.Enabled != j.Enabled || !reflect.DeepEqual(i.VLAN, j.VLAN) {
			p.rebuild[i.Name] = true
		}
		if i.IPv4 != nil && (!stays || !reflect.DeepEqual(i.IPv4, j.IPv4)) {
			p.readdress[i.Name] = true
		}
	}
}

// markCarried makes anew what an interface carries that is made anew, too.
func (p *planner) markCarried() {
	for again := true; again; {
		again = false
		for _, i := range p.was.Interfaces.Interface {
			if i.VLAN != nil && p.rebuild[i.VLAN.Parent] && !p.rebuild[i.Name] {
				p.rebuild[i.Name], again = true, true
			}
		}
	}
	for _, i := range p.was.Interfaces.Interface {
		if p.rebuild[i.Name] && i.IPv4 != nil {
			p.readdress[i.Name] = true
		}
	}
}

// freeMembers takes ports out of their groups before another group takes them.
func (p *planner) freeMembers() (steps []Step) {
	for _, i := range p.was.Interfaces.Interface {
		now, stays := p.now.interfaces[i.Name]
		if !stays || p.rebuild[i.Name] {
			continue
		}
		kept := slices.DeleteFunc(slices.Clone(i.Member),
			func(m string) bool { return !slices.Contains(now.Member, m) || p.rebuild[m] })
		if len(kept) == len(i.Member) {
			continue
		}
		i.Member = kept
		steps = append(steps, put("Free", fmt.Sprintf("the ports that leave `%s`", i.Name),
			"A port is in one group at a time", yang.InterfacePath(i.Name), i))
	}
	return steps
}

// tune changes what an interface lets pass, without taking its addresses away.
func (p *planner) tune() (steps []Step) {
	for _, i := range p.now.Interfaces.Interface {
		was, had := p.was.interfaces[i.Name]
		fresh := !had || p.rebuild[i.Name]
		freed := slices.ContainsFunc(i.Member, func(m string) bool { return p.rebuild[m] })
		if fresh && len(i.Member) == 0 || !fresh && !freed && sameManner(was, i) {
			continue
		}
		text := manner(was, i)
		if i.IPv4 = was.IPv4; fresh || p.readdress[i.Name] {
			i.IPv4 = nil
		}
		steps = append(steps, put("Set", fmt.Sprintf("`%s`: %s", i.Name, text), tuned(was, i),
			yang.InterfacePath(i.Name), i))
	}
	return steps
}

func sameManner(a, b yang.Interface) bool {
	a.IPv4, b.IPv4 = nil, nil
	return reflect.DeepEqual(a, b)
}

// manner says in words what about an interface changes.
func manner(was, now yang.Interface) string {
	var out []string
	if !slices.Equal(was.Member, now.Member) {
		out = append(out, "groups "+orNone(strings.Join(now.Member, ", ")))
	}
	if !reflect.DeepEqual(was.Switchport, now.Switchport) {
		out = append(out, "carries "+vlans(now.Switchport))
	}
	if !slices.Equal(was.Permit, now.Permit) {
		out = append(out, "permits "+orNone(strings.Join(now.Permit, ", ")))
		if len(now.Permit) == 0 {
			out[len(out)-1] = "permits everything"
		}
	}
	if !reflect.DeepEqual(was.Uplink, now.Uplink) {
		out = append(out, uplinkChange(was.Uplink, now.Uplink))
	}
	if len(out) == 0 {
		return "its ports again"
	}
	return strings.Join(out, "; ")
}

func orNone(s string) string {
	if s == "" {
		return "nothing"
	}
	return s
}

func vlans(p *yang.Switchport) string {
	switch {
	case p == nil:
		return "every frame"
	case len(p.Tagged) == 0:
		return fmt.Sprintf("VLAN %d untagged", p.Untagged)
	}
	tagged := strings.Trim(strings.ReplaceAll(fmt.Sprint(p.Tagged), " ", ", "), "[]") + " tagged"
	if p.Untagged != 0 {
		return fmt.Sprintf("VLAN %d untagged, %s", p.Untagged, tagged)
	}
	return "VLAN " + tagged
}

func (p *planner) dropAddresses() (steps []Step) {
	for _, i := range p.was.Interfaces.Interface {
		if p.readdress[i.Name] {
			steps = append(steps, drop("Remove", fmt.Sprintf("%s from `%s`", addresses(i.IPv4), i.Name),
				"A device refuses an address that overlaps one it has", yang.IPv4Path(i.Name)))
		}
	}
	return steps
}

func addresses(v *yang.IPv4) string {
	var out []string
	for _, a := range v.Address {
		out = append(out, "`"+a.Prefix().String()+"`")
	}
	return strings.Join(out, ", ")
}

// dropInterfaces removes VLAN interfaces before what carries them.
func (p *planner) dropInterfaces() (steps []Step) {
	for _, i := range carriedFirst(p.was.Interfaces.Interface) {
		if p.rebuild[i.Name] {
			steps = append(steps, drop("Remove", fmt.Sprintf("interface `%s`", i.Name), "Nothing is left on it",
				yang.InterfacePath(i.Name)))
		}
	}
	return steps
}

// carriedFirst orders interfaces so that each comes before its parent.
func carriedFirst(list []yang.Interface) []yang.Interface {
	byName := by(list, func(i yang.Interface) string { return i.Name })
	depth := func(i yang.Interface) int {
		d := 0
		for i.VLAN != nil && d <= len(list) {
			parent, ok := byName[i.VLAN.Parent]
			if !ok {
				break
			}
			i, d = parent, d+1
		}
		return d
	}
	out := slices.Clone(list)
	slices.SortStableFunc(out, func(a, b yang.Interface) int { return depth(b) - depth(a) })
	return out
}

func (p *planner) addInterfaces() (steps []Step) {
	list := carriedFirst(p.now.Interfaces.Interface)
	slices.Reverse(list)
	for _, i := range list {
		if _, had := p.was.interfaces[i.Name]; had && !p.rebuild[i.Name] {
			continue
		}
		bare := i
		bare.IPv4, bare.Member = nil, nil // the ports of a group may come after it
		text, why := fmt.Sprintf("interface `%s`", i.Name), "It carries what follows"
		if i.VLAN != nil {
			text, why = fmt.Sprintf("VLAN %d on `%s` as `%s`", i.VLAN.ID, i.VLAN.Parent, i.Name),
				"Tagged frames of this VLAN reach the device through it"
		}
		steps = append(steps, put("Add", text, why, yang.InterfacePath(i.Name), bare))
	}
	return steps
}

func (p *planner) giveAddresses() (steps []Step) {
	for _, i := range p.now.Interfaces.Interface {
		was, had := p.was.interfaces[i.Name]
		if i.IPv4 == nil || had && !p.readdress[i.Name] && reflect.DeepEqual(was.IPv4, i.IPv4) {
			continue
		}
		steps = append(steps, put("Give", fmt.Sprintf("`%s` the address %s", i.Name, addresses(i.IPv4)),
			"The device is reached there under it", yang.IPv4Path(i.Name), i.IPv4))
	}
	return steps
}

// tuned says what setting an interface is for: by the first that changes.
func tuned(was, now yang.Interface) string {
	switch {
	case !reflect.DeepEqual(was.Uplink, now.Uplink):
		return "How the uplink gets its address, and which networks it translates"
	case !reflect.DeepEqual(was.Switchport, now.Switchport) && now.Switchport == nil:
		return "The port tells no VLANs apart"
	case !reflect.DeepEqual(was.Switchport, now.Switchport):
		return "The port carries these VLANs"
	case !slices.Equal(was.Member, now.Member) && len(now.Member) == 0:
		return "It groups no ports any more"
	case !slices.Equal(was.Permit, now.Permit):
		return "The interface accepts these requests from its clients"
	}
	return "The ports are one network"
}
