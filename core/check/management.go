package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"lithos/core/address"
	"lithos/core/edit"
	"lithos/core/site"
	"lithos/core/takeover"
	"lithos/core/yang"
	"lithos/core/zone"
)

// Reading is how a device that Lithos reaches was when it was read last.
type Reading struct {
	Problem   string     // why it could not be read; empty where it was
	ProblemAt *time.Time // since when
	ReadAt    *time.Time // nil for never
	// Drifted is how many things it holds otherwise than it was last given, and since when.
	Drifted   int
	DriftedAt *time.Time
	// Cuts are the networks that it cuts off as it is set, and would not if it held what it was last given.
	Cuts []Cut
	At   netip.Addr // where Lithos reaches it; invalid where that is a name
	// Interfaces are those that it has, where it does not hold what it was last given.
	Interfaces []yang.Interface
}

// Cut is the lowest rung of a network's ladder that does not hold as a device is set, and would hold if it had what the
// site gives it.
type Cut struct {
	Network string `json:"network"` // id
	Rung    string `json:"rung"`
	Says    string `json:"says"` // the cause
}

// Stray is a DHCP server that a device heard on one of its networks.
type Stray struct {
	Address     netip.Addr
	MAC         address.MAC
	Device      string // id of the device that heard it
	Interface   string // of that device, by name
	First, Last time.Time
}

// eachReading visits the devices that Lithos reaches.
func (a *around) eachReading(do func(d *site.Device, r Reading)) {
	for i := range a.Devices {
		if r, ok := a.Readings[a.Devices[i].ID]; ok {
			do(&a.Devices[i], r)
		}
	}
}

// clock is a moment as people at the site say it.
func (a *around) clock(t time.Time) string { return t.In(a.Now.Location()).Format("2 January 15:04") }

func deviceUnread(a *around, report func(Finding)) {
	a.eachReading(func(d *site.Device, r Reading) {
		if r.Problem == "" {
			return
		}
		since := "It was never read."
		if r.ReadAt != nil {
			since = fmt.Sprintf("It was last read on %s; what is said of it is as it was then.", a.clock(*r.ReadAt))
		}
		report(Finding{Title: d.Name + " cannot be read", Parts: []site.Ref{deviceRef(d.ID)},
			Says: fmt.Sprintf("%s. %s Nothing can be pushed to it meanwhile.", strings.TrimSuffix(r.Problem, "."),
				since)})
	})
}

func drifted(a *around, report func(Finding)) {
	a.eachReading(func(d *site.Device, r Reading) {
		for _, c := range r.Cuts {
			if n, there := a.Network(c.Network); there {
				report(Finding{Title: fmt.Sprintf("%s has no %s as %s is set now", n.Name, c.Rung, d.Name),
					Network: n.ID,
					Parts:   []site.Ref{networkRef(n.ID), deviceRef(d.ID)}, Value: d.ID,
					Says: fmt.Sprintf("%s. %s was changed, and not by Lithos. Put that back, or adopt it if the "+
						"network is to be "+
						"so: see the site's history.", strings.TrimSuffix(c.Says, "."), d.Name)})
			}
		}
		if r.Drifted == 0 {
			return
		}
		things, since := site.Counted(r.Drifted, "thing"), ""
		if r.DriftedAt != nil {
			since = ", first seen on " + a.clock(*r.DriftedAt)
		}
		report(Finding{Title: d.Name + " was changed, and not by Lithos", Parts: []site.Ref{deviceRef(d.ID)},
			Value: d.ID,
			Says: fmt.Sprintf("It holds %s otherwise than this site has it%s. A push to it is refused until each is "+
				"adopted or put back: see the site's history.", things, since)})
	})
}

// managementPathMoves is about devices of the site that are reached at an address which no interface of theirs has:
// after the push Lithos looks for them where they are not.
func managementPathMoves(a *around, report func(Finding)) {
	a.eachReading(func(d *site.Device, r Reading) {
		inside := slices.ContainsFunc(a.Block, func(p netip.Prefix) bool { return r.At.IsValid() && p.Contains(r.At) })
		held := slices.ContainsFunc(d.Interfaces, func(i site.Interface) bool {
			return slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool { return p.Addr() == r.At })
		})
		if !inside || held || len(d.Interfaces) == 0 {
			return
		}
		report(Finding{Title: "Lithos would lose " + d.Name,
			Parts:     []site.Ref{deviceRef(d.ID)},
			Addresses: []address.Range{address.Single(r.At)},
			Says: fmt.Sprintf("It is reached at %s, which none of its interfaces has here. A push looks for it at the "+
				"address that the same interface has then, and knows it there by its certificate; where "+
				"that has none, or it cannot be reached there, the push is not confirmed and returns.", r.At)})
	})
}

func unknownServer(a *around, report func(Finding)) {
	for _, s := range a.Strays {
		if _, _, own := a.HolderOf(s.Address); own {
			continue
		}
		d, known := a.Device(s.Device)
		if !known {
			continue
		}
		found := Finding{Title: fmt.Sprintf("A DHCP server nobody recorded answers on %s", s.Interface),
			Parts: []site.Ref{deviceRef(d.ID)}, Addresses: []address.Range{address.Single(s.Address)},
			Value: s.Address.String(),
			Says: fmt.Sprintf("%s heard %s%s answer clients, last on %s. Whoever takes its offer has an address, a "+
				"gateway and name servers of its choosing. Find it and switch its server off.", d.Name, s.Address,
				machine(s.MAC),
				a.clock(s.Last))}
		for _, i := range d.Interfaces {
			for _, at := range i.Addresses {
				if n, ok := a.NetworkOf(at.Addr()); ok && i.Name == s.Interface {
					found.Network = n.ID
					found.Title = fmt.Sprintf("A DHCP server nobody recorded answers on %s", n.Name)
				}
			}
		}
		report(found)
	}
}

// machine is a MAC in a sentence, nothing where it is not known.
func machine(m address.MAC) string {
	if m.IsZero() {
		return ""
	}
	return " (" + m.String() + ")"
}

func portUnknown(a *around, report func(Finding)) {
	a.eachReading(func(d *site.Device, r Reading) {
		var names []string
		fix := &Fix{Title: "Record it"}
		for _, i := range r.Interfaces {
			if slices.ContainsFunc(d.Interfaces, func(o site.Interface) bool { return o.Name == i.Name }) {
				continue
			}
			names = append(names, i.Name)
			now := takeover.Interface(d.ID, i)
			fix.Edits = append(fix.Edits, edit.Adding(site.KindInterface, now.ID, deviceRef(d.ID), now))
		}
		if len(names) == 0 {
			return
		}
		title := fmt.Sprintf("%s of %s is not recorded", names[0], d.Name)
		if len(names) > 1 {
			title, fix.Title = fmt.Sprintf("%d interfaces of %s are not recorded", len(names), d.Name), "Record them"
		}
		report(Finding{Title: title, Parts: []site.Ref{deviceRef(d.ID)}, Value: strings.Join(names, ", "), Fix: fix,
			Says: fmt.Sprintf("The device has %s. What is plugged in there cannot be followed, and a push leaves it "+
				"as it is.", strings.Join(names, ", "))})
	})
}

// deviceAtTwoSites is about machines that are recorded at other sites as well: two documents say what one device holds.
func deviceAtTwoSites(a *around, report func(Finding)) {
	for i := range a.Devices {
		d := &a.Devices[i]
		others := a.Elsewhere[d.ID]
		if len(others) == 0 {
			continue
		}
		report(Finding{
			Title: fmt.Sprintf("%s is %s, too", d.Name, others[0]), Parts: []site.Ref{deviceRef(d.ID)},
			Value: strings.Join(others, ", "),
			Says: fmt.Sprintf("It is reached at the same address with the same certificate as %s. Each push of one "+
				"site undoes what the other has put there. Take the access away at the site it is not at.",
				strings.Join(others,
					", ")),
		})
	}
}

// zoneWithoutServer is about outside zones that name no server, as they were read from the one that holds them.
func zoneWithoutServer(a *around, report func(Finding)) {
	for i := range a.Zones {
		z := &a.Zones[i]
		records, read := a.AtServer[z.ID]
		if z.Side != site.Outside || !read || len(records) == 0 || slices.ContainsFunc(records,
			func(r zone.Record) bool {
				return r.Owner == zone.Apex && r.Type == "NS"
			}) {
			continue
		}
		report(Finding{
			Title: z.Name + " names no server", Parts: []site.Ref{zoneRef(z.ID)}, Value: z.Name,
			Says: "It has no NS record at its top, as it was read (RFC 1034 section 4.2.1). Who looks for it from " +
				"the root finds nobody to ask.",
		})
	}
}
