package takeover

import (
	"fmt"
	"slices"
	"strings"

	"lithos/core/compile"
	"lithos/core/edit"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/core/zone"
)

// Part reads one entry of a device's configuration, at its RESTCONF path, into a site that may have it: what the device
// says replaces what the site says, and what only the site knows of it, such as notes, stays. An entry that is not
// there is removed. The site is not changed; there is an error where the site has no place for the entry.
func Part(base *site.Site, h Device, path string, entry any) (*site.Site, error) {
	copied := *base
	r := &reader{Site: &copied, left: []Left{}}
	var err error
	switch found := entry.(type) {
	case yang.Interface:
		err = r.takeInterface(h, found)
	case yang.Relay:
		err = r.takeRelay(h, found)
	case yang.Pool:
		r.takePool(h, found)
	case yang.Reservation:
		r.takeReservation(h, found)
	case yang.Class:
		r.takeClass(h, found)
	case yang.Zone:
		r.takeZone(h, found)
	case *yang.ResolverSettings:
		r.takeResolver(h)
	case nil:
		return r.lose(h, path)
	default:
		err = fmt.Errorf("its key is on the device alone")
	}
	if err != nil {
		return nil, err
	}
	return site.Normal(r.Site), nil
}

// device is the device of the site with a copy of its interfaces, to be written to.
func (r *reader) device(id string) (*site.Device, error) {
	r.Devices = slices.Clone(r.Devices)
	at := slices.IndexFunc(r.Devices, func(d site.Device) bool { return d.ID == id })
	if at < 0 {
		return nil, fmt.Errorf("the site has no such device")
	}
	d := &r.Devices[at]
	d.Interfaces = slices.Clone(d.Interfaces)
	return d, nil
}

func (r *reader) takeInterface(h Device, i yang.Interface) error {
	d, err := r.device(h.Device)
	if err != nil {
		return err
	}
	now := r.interfaceOf(h, i)
	at := slices.IndexFunc(d.Interfaces, func(o site.Interface) bool { return o.Name == i.Name })
	if at < 0 {
		d.Interfaces = append(d.Interfaces, now)
	} else {
		was := d.Interfaces[at]
		now.ID, now.Peer = was.ID, was.Peer
		if was.Uplink != nil && now.Uplink != nil {
			facts := *was.Uplink
			facts.Method, facts.Gateway, facts.Account = now.Uplink.Method, now.Uplink.Gateway, now.Uplink.Account
			facts.Secret, facts.MTU, facts.Translates = now.Uplink.Secret, now.Uplink.MTU, nil
			now.Uplink = &facts
		}
		d.Interfaces[at] = now
	}
	r.networks(Device{Device: h.Device, Config: yang.Config{Interfaces: yang.Interfaces{Interface: []yang.Interface{
		i}}}})
	r.uplinks(h)
	return nil
}

func (r *reader) takeRelay(h Device, relay yang.Relay) error {
	d, err := r.device(h.Device)
	if err != nil {
		return err
	}
	for k := range d.Interfaces {
		if d.Interfaces[k].Name == relay.Interface {
			d.Interfaces[k].RelayTo = relay.Server
			return nil
		}
	}
	return fmt.Errorf("the site has no interface %s of it; adopt that first", relay.Interface)
}

func (r *reader) takePool(h Device, p yang.Pool) {
	was, had := r.Pool(p.ID)
	r.Pools = slices.DeleteFunc(slices.Clone(r.Pools), func(o site.Pool) bool { return o.ID == p.ID })
	alone := Device{Device: h.Device, Config: yang.Config{DHCP: yang.DHCPServer{Pool: []yang.Pool{p}}}}
	for _, i := range h.Config.Interfaces.Interface {
		if i.Name == p.Interface {
			alone.Config.Interfaces.Interface = []yang.Interface{i}
		}
	}
	r.networks(alone)
	r.pools(alone)
	at := slices.IndexFunc(r.Pools, func(o site.Pool) bool { return o.ID == p.ID })
	if at < 0 || !had {
		return
	}
	now := &r.Pools[at]
	now.Note = was.Note
	for k := range now.Exclusions {
		x := &now.Exclusions[k]
		for _, old := range was.Exclusions {
			if old.Range == x.Range {
				reason := x.Reason
				*x = old
				x.Reason = reason
			}
		}
	}
	freshIDs(now, was)
}

// freshIDs gives exclusions that are new an id that none of the old has.
func freshIDs(now, was *site.Pool) {
	taken := map[string]bool{}
	for _, x := range was.Exclusions {
		taken[x.ID] = true
	}
	for k := range now.Exclusions {
		x := &now.Exclusions[k]
		kept := slices.ContainsFunc(was.Exclusions, func(o site.Exclusion) bool { return o.Range == x.Range })
		if kept {
			continue
		}
		for n := k + 1; taken[x.ID]; n++ {
			x.ID = fmt.Sprintf("%s-x%d", now.ID, n)
		}
		taken[x.ID] = true
	}
}

func (r *reader) takeReservation(h Device, held yang.Reservation) {
	at := slices.IndexFunc(r.Reservations, func(o *site.Reservation) bool { return o.ID == held.ID })
	var was *site.Reservation
	if at >= 0 {
		was = r.Reservations[at]
		r.Reservations = slices.Delete(slices.Clone(r.Reservations), at, at+1)
	}
	r.reservations(Device{Device: h.Device,
		Config: yang.Config{DHCP: yang.DHCPServer{Reservation: []yang.Reservation{held}}}})
	if was == nil {
		return
	}
	for i, one := range r.Reservations {
		if one.ID == held.ID {
			now := *one
			now.NoReverse = was.NoReverse
			r.Reservations[i] = &now
		}
	}
}

// takeClass keeps the sub-options of a class, with their names, where the device sends what they are packed to.
func (r *reader) takeClass(h Device, k yang.Class) {
	was, had := r.VendorClass(k.ID)
	r.VendorClasses = slices.DeleteFunc(slices.Clone(r.VendorClasses),
		func(o site.VendorClass) bool { return o.ID == k.ID })
	r.classes(Device{Device: h.Device, Config: yang.Config{DHCP: yang.DHCPServer{Class: []yang.Class{k}}}})
	at := slices.IndexFunc(r.VendorClasses, func(o site.VendorClass) bool { return o.ID == k.ID })
	if !had || at < 0 {
		return
	}
	packed := compile.ClassOptions(&site.VendorClass{Enterprise: was.Enterprise, SubOptions: was.SubOptions})
	now := &r.VendorClasses[at]
	own := slices.DeleteFunc(slices.Clone(now.Options), func(o site.Option) bool { return slices.Contains(packed, o) })
	if len(packed) > 0 && len(own) == len(now.Options)-len(packed) {
		now.Options, now.SubOptions, now.Enterprise = own, was.SubOptions, was.Enterprise
	}
}

// takeResolver reads the settings of a resolver anew. Its zones stay as they are.
func (r *reader) takeResolver(h Device) {
	i := slices.IndexFunc(r.Resolvers, func(o site.Resolver) bool { return o.Device == h.Device })
	var was site.Resolver
	if i >= 0 {
		was = r.Resolvers[i]
		r.Resolvers = slices.Delete(slices.Clone(r.Resolvers), i, i+1)
	}
	alone := h
	alone.Config.Resolver.Zone = nil
	r.resolver(alone)
	if k := len(r.Resolvers) - 1; i >= 0 && k >= 0 {
		r.Resolvers[k].ID, r.Resolvers[k].Name, r.Resolvers[k].Note = was.ID, was.Name, was.Note
	}
}

// takeZone reads the head of a zone, and writes the records down that the site does not make of itself; records by hand
// that the device does not have go.
func (r *reader) takeZone(h Device, held yang.Zone) {
	d, known := r.Device(h.Device)
	at := slices.IndexFunc(r.Zones, func(o site.Zone) bool { return o.Side == site.Inside && o.Name == held.Name })
	if at < 0 || !known {
		if known {
			r.zones(Device{Device: h.Device, Config: yang.Config{Resolver: yang.Resolver{Zone: []yang.Zone{held}}}}, d)
		}
		return
	}
	r.Zones = slices.Clone(r.Zones)
	z := &r.Zones[at]
	z.TTL, z.Refresh = unless(held.TTL, site.DefaultTTL), unless(held.Refresh, 3600)
	z.Retry, z.Expire = unless(held.Retry, 600), unless(held.Expire, 604800)
	z.Negative, z.Partial = unless(held.Negative, 300), held.Partial
	z.Primary = unless(held.Primary, zone.Absolute(zone.Tidy(d.Name), r.Domain))
	z.Contact = unless(held.Contact, "hostmaster."+held.Name)
	has := map[zone.Record]bool{}
	for _, rec := range held.Record {
		has[rec.Text()] = true
	}
	made := r.answered(h.Device, held.Name)
	z.Records = slices.DeleteFunc(slices.Clone(z.Records), func(rec *site.Record) bool {
		text := zone.Record{Owner: rec.Owner, Type: rec.Type, Data: rec.Data, TTL: rec.TTL}
		return made[text] && !has[text] // what the site does not pass on, the device cannot have
	})
	for _, rec := range held.Record {
		if !made[rec.Text()] {
			z.Records = append(z.Records, &site.Record{ID: idOf("rec", held.Name, rec.Owner, rec.Type, rec.Data),
				Owner: rec.Owner, Type: rec.Type, Data: rec.Data, TTL: rec.TTL, NoReverse: true})
			made = r.answered(h.Device, held.Name) // what the site makes of itself gives way to what is written down
		}
	}
}

// answered is the records of a zone that the site has a device answer with.
func (r *reader) answered(device, name string) map[zone.Record]bool {
	out := map[zone.Record]bool{}
	for _, z := range compile.Resolver(r.Site, device, compile.Names(r.Site)).Zone {
		if z.Name != name {
			continue
		}
		for _, rec := range z.Record {
			out[rec.Text()] = true
		}
	}
	return out
}

// lose removes from the site what the device does not have.
func (r *reader) lose(h Device, path string) (*site.Site, error) {
	ref, in := site.Ref{}, site.Ref{}
	d, known := r.Device(h.Device)
	if !known {
		return nil, fmt.Errorf("the site has no such device")
	}
	for _, i := range d.Interfaces {
		switch path {
		case yang.InterfacePath(i.Name):
			ref = site.Ref{Kind: site.KindInterface, ID: i.ID}
			in = site.Ref{Kind: site.KindDevice, ID: d.ID}
		case yang.RelayPath(i.Name):
			if err := r.takeRelay(h, yang.Relay{Interface: i.Name}); err != nil {
				return nil, err
			}
			return site.Normal(r.Site), nil
		}
	}
	for _, z := range r.Zones {
		if z.Side == site.Inside && yang.ZonePath(z.Name) == path {
			ref = site.Ref{Kind: site.KindZone, ID: z.ID}
		}
	}
	for _, o := range r.Resolvers {
		if o.Device == h.Device && path == yang.SettingsPath() {
			ref = site.Ref{Kind: site.KindResolver, ID: o.ID}
		}
	}
	for kind, of := range map[string]func(string) string{site.KindPool: yang.PoolPath,
		site.KindReservation: yang.ReservationPath, site.KindVendorClass: yang.ClassPath,
		site.KindFollowing: yang.OutsidePath} {
		if _, id, ok := strings.Cut(path, "="); ok && of(id) == path {
			ref = site.Ref{Kind: kind, ID: id}
		}
	}
	if ref.ID == "" {
		return nil, fmt.Errorf("the site makes it of something else")
	}
	edits, err := edit.Removing(r.Site, ref, in)
	if err != nil {
		return nil, err
	}
	return edit.Apply(r.Site, edits...)
}

// Interface is an interface as a device has it, with an id of its own.
func Interface(device string, i yang.Interface) site.Interface {
	r := &reader{Site: &site.Site{}}
	return r.interfaceOf(Device{Device: device}, i)
}

// ForNetwork is the site with an option set for a network, and for none of its pools.
func ForNetwork(base *site.Site, network string, o yang.Option) *site.Site {
	out := *base
	text := base.Own().Format(o.Code, o.Value)
	other := func(one site.Option) bool { return one.Code == o.Code }
	out.Networks = slices.Clone(out.Networks)
	for i := range out.Networks {
		n := &out.Networks[i]
		if n.ID == network {
			n.Options = append(slices.DeleteFunc(slices.Clone(n.Options), other), site.Option{Code: o.Code,
				Value: text})
		}
	}
	out.Pools = slices.Clone(out.Pools)
	for i := range out.Pools {
		if p := &out.Pools[i]; p.Network == network {
			p.Options = slices.DeleteFunc(slices.Clone(p.Options), other)
		}
	}
	return site.Normal(&out)
}
