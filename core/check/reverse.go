package check

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/edit"
	"lithos/core/site"
	"lithos/core/zone"
)

// reverseMissing is about addresses that carry names and whose reverse zone the site does not have.
func reverseMissing(f *facts, report func(Finding)) {
	if len(f.Zones) == 0 {
		return
	}
	missing := map[string][]netip.Addr{} // by the zone of the /24
	for _, p := range f.book().Inside {
		if _, reverse := zone.ReversePrefix(p.Name); reverse {
			continue
		}
		for _, e := range ofType(p.Entries, "A") {
			a, err := netip.ParseAddr(e.Data)
			if err != nil || !f.inside(a) || !f.givesReverse(e) || compile.Find(f.book().Inside,
				zone.Reverse(a)) != nil ||
				f.answeredElsewhere(zone.Reverse(a)) {
				continue
			}
			name := zone.ReverseParent(netip.PrefixFrom(a, 24))
			missing[name] = append(missing[name], a)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(missing)) {
		at := missing[name]
		slices.SortFunc(at, netip.Addr.Compare)
		fresh := site.Zone{ID: "zone-" + strings.ReplaceAll(name, ".", "-"), Name: name, Side: site.Inside}
		prefix, _ := zone.ReversePrefix(name)
		says := fmt.Sprintf("%d addresses of %s have names, and looked up the other way they have none", len(at),
			prefix)
		if len(at) == 1 {
			says = fmt.Sprintf("%s has a name, and looked up the other way it has none", at[0])
		}
		home, _ := f.HomeZone()
		part := zoneRef(f.Zones[0].ID)
		if home != nil {
			part = zoneRef(home.ID)
		}
		report(Finding{
			Title: fmt.Sprintf("Addresses of %s have no reverse names", prefix), Parts: []site.Ref{part}, Value: name,
			Says: says + ". Logs show numbers, and servers that look clients up wait.",
			Fix: &Fix{"Write " + name + " with the names",
				[]edit.Edit{edit.Adding(site.KindZone, fresh.ID, site.Ref{}, fresh)}},
		})
	}
}

// givesReverse reports whether an entry gives its address its name in reverse.
func (f *facts) givesReverse(e compile.Entry) bool {
	switch e.From.Kind {
	case site.KindRecord:
		z, ok := f.Zone(e.In.ID)
		if !ok || strings.HasPrefix(e.Owner, "*") {
			return false
		}
		i := slices.IndexFunc(z.Records, func(r *site.Record) bool { return r.ID == e.From.ID })
		return i >= 0 && !z.Records[i].NoReverse
	case site.KindFixedDevice:
		v, ok := f.FixedDevice(e.From.ID)
		return ok && !v.NoReverse
	case site.KindReservation:
		r, ok := f.Reservation(e.From.ID)
		return ok && !r.NoReverse
	}
	return e.From.Kind == site.KindInterface
}

// reverses visits the reverse names of the site's addresses, those in the zones of prefixes.
func (f *facts) reverses(do func(p *compile.Pages, a netip.Addr, list []compile.Entry)) {
	for _, p := range f.book().Inside {
		prefix, ok := zone.ReversePrefix(p.Name)
		if !ok {
			continue
		}
		at := map[string][]compile.Entry{}
		for _, e := range slices.Concat(p.Entries, p.Hidden) {
			if e.Type == "PTR" {
				at[e.Owner] = append(at[e.Owner], e)
			}
		}
		for _, owner := range slices.Sorted(maps.Keys(at)) {
			name := zone.Absolute(owner, p.Name)
			if prefix.Bits() > 24 {
				name = owner + "." + zone.ReverseParent(prefix)
			}
			if a, ok := zone.Reversed(name); ok {
				do(p, a, at[owner])
			}
		}
	}
}

func reverseDiffers(f *facts, report func(Finding)) {
	f.reverses(func(p *compile.Pages, a netip.Addr, list []compile.Entry) {
		for _, e := range list {
			if e.From.Kind != site.KindRecord || e.In.ID != zoneID(p) {
				continue // what follows always agrees
			}
			name := zone.Target(e.Data, p.Name)
			home := compile.Find(f.book().Inside, name)
			if home == nil || f.answeredElsewhere(name) || home.Has(name, "A", a.String()) {
				continue
			}
			says := name + " is not there"
			if at := home.Values(name, "A"); len(at) > 0 {
				says = name + " is " + strings.Join(at, ", ")
			}
			report(Finding{
				Title: fmt.Sprintf("%s has another name in reverse", a), Parts: refs(p, e),
				Addresses: []address.Range{address.Single(a)}, Value: name,
				Says: fmt.Sprintf("In reverse it is %s, and %s. Servers that check both ways refuse the machine, "+
					"and logs name another.", name, says),
				Fix: f.removingEntry("Let it follow the name", e),
			})
		}
	})
}

func reverseTwoNames(f *facts, report func(Finding)) {
	f.reverses(func(p *compile.Pages, a netip.Addr, list []compile.Entry) {
		names := map[string]bool{}
		var byHand compile.Entry
		for _, e := range list {
			if slices.Contains(p.Hidden, e) {
				continue // not answered: one written by hand counts before it
			}
			names[zone.Target(e.Data, p.Name)] = true
			if e.In.ID == zoneID(p) {
				byHand = e
			}
		}
		if len(names) < 2 {
			return
		}
		report(Finding{
			Title: fmt.Sprintf("%s has %d names in reverse", a, len(names)), Parts: refs(p, list...),
			Addresses: []address.Range{address.Single(a)},
			Says: fmt.Sprintf("It is %s. Most programs take the first they get, which is now one, now the other.",
				strings.Join(slices.Sorted(maps.Keys(names)), " and ")),
			Fix: f.removingEntry("Remove one of them", byHand),
		})
	})
}
