package takeover

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"lithos/core/compile"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/core/zone"
)

// unless is a value that is said, or nothing where it is the usual.
func unless[T comparable](value, usual T) T {
	var none T
	if value == usual {
		return none
	}
	return value
}

// resolver reads the resolver of a device and its zones, where the site has none of it.
func (r *reader) resolver(h Device) {
	s := h.Config.Resolver.Settings
	d, ok := r.Device(h.Device)
	if s == nil || !ok || slices.ContainsFunc(r.Resolvers, func(o site.Resolver) bool { return o.Device == h.Device }) {
		return
	}
	now := site.Resolver{ID: idOf("resolver", d.Name), Name: d.Name + " names", Device: h.Device, Enabled: s.Enabled,
		Port: unless(s.Port, 53), TLSPort: s.TLSPort, TLSName: s.TLSName, Completes: s.Completion != "",
		KeepsShort: s.KeepShort, KeepsPrivate: s.KeepPrivate, Validates: s.Validate,
		LeaseNames: unless(s.LeaseNames, site.LeaseNamesOff), CacheEntries: unless(s.CacheEntries, 10_000),
		LeastTTL: s.LeastTTL, GreatestTTL: unless(s.GreatestTTL, 86400), NegativeTTL: unless(s.NegativeTTL, 3600),
		LocalTTL: unless(s.LocalTTL, 60), StopsOthers: s.StopOthers, LogLevel: unless(s.Log, site.LogErrors),
		Hides: s.HideIdentity, Silenced: s.Silenced, Forwarders: forwarders(s.Forwarder)}
	for _, dom := range s.Domain {
		now.Domains = append(now.Domains, site.DomainServer{Domain: dom.Name, Servers: forwarders(dom.Server)})
	}
	for _, i := range d.Interfaces {
		if i.Name == s.ForwardFrom {
			now.ForwardFrom = i.ID
		}
	}
	if s.Completion != "" && r.Domain == "" {
		r.Domain = s.Completion
	}
	var networks []netip.Prefix
	for _, n := range r.Networks {
		networks = append(networks, n.Prefix.Masked())
	}
	if !sameSet(s.Asker, networks) {
		now.Askers = s.Asker
	}
	var everywhere []string
	for _, i := range compile.ListensOn(r.Site, d, &now) {
		everywhere = append(everywhere, i.Name)
	}
	if !sameSet(s.Interface, everywhere) {
		for _, n := range r.Networks {
			for _, i := range d.Interfaces {
				if slices.Contains(s.Interface, i.Name) && slices.ContainsFunc(i.Addresses,
					func(a netip.Prefix) bool { return n.Prefix.Contains(a.Addr()) }) {
					now.Networks = append(now.Networks, n.ID)
				}
			}
		}
	}
	r.Resolvers = append(slices.Clone(r.Resolvers), now)
	r.zones(h, d)
}

func sameSet[T comparable](a, b []T) bool {
	return len(a) == len(b) && !slices.ContainsFunc(a, func(v T) bool { return !slices.Contains(b, v) })
}

func forwarders(list []yang.NameServer) []site.Forwarder {
	var out []site.Forwarder
	for _, n := range list {
		usual := 53
		if n.TLSName != "" {
			usual = 853
		}
		out = append(out, site.Forwarder{Address: n.Address, Port: unless(n.Port, usual), TLSName: n.TLSName})
	}
	return out
}

// zones reads the zones that a device answers for: what of them follows from the site of itself is not written down,
// the rest is records by hand.
func (r *reader) zones(h Device, d *site.Device) {
	r.Zones = slices.Clone(r.Zones)
	primary := zone.Absolute(zone.Tidy(d.Name), r.Domain)
	var fresh []string
	for _, z := range h.Config.Resolver.Zone {
		if slices.ContainsFunc(r.Zones, func(o site.Zone) bool { return o.Side == site.Inside && o.Name == z.Name }) {
			continue
		}
		now := site.Zone{ID: idOf("zone", z.Name), Name: z.Name, Side: site.Inside, TTL: unless(z.TTL, site.DefaultTTL),
			Primary: unless(z.Primary, primary), Contact: unless(z.Contact, "hostmaster."+z.Name),
			Refresh: unless(z.Refresh, 3600), Retry: unless(z.Retry, 600), Expire: unless(z.Expire, 604800),
			Negative: unless(z.Negative, 300), Partial: z.Partial}
		r.Zones = append(r.Zones, now)
		fresh = append(fresh, z.Name)
	}
	held := map[string]bool{}             // the reverse names there are, and of whom
	forwards := map[netip.Addr][]string{} // the names in reverse, by address
	for _, z := range h.Config.Resolver.Zone {
		for _, rec := range z.Record {
			if a, ok := reversed(rec.Owner, z.Name); ok && rec.Type == "PTR" {
				forwards[a] = append(forwards[a], zone.Target(rec.Data, z.Name))
				held[a.String()+" "+zone.Target(rec.Data, z.Name)] = true
			}
		}
	}
	r.fixed(h, fresh, forwards)
	r.unreversed(fresh, held)
	of := r.ownNames()
	for _, z := range h.Config.Resolver.Zone {
		at := slices.IndexFunc(r.Zones, func(o site.Zone) bool { return o.Side == site.Inside && o.Name == z.Name })
		if !slices.Contains(fresh, z.Name) {
			continue
		}
		for _, rec := range z.Record {
			if of[zone.Record{Owner: z.Name + "/" + rec.Owner, Type: rec.Type, Data: rec.Data}] {
				continue
			}
			one := &site.Record{ID: idOf("rec", z.Name, rec.Owner, rec.Type, rec.Data), Owner: rec.Owner,
				Type: rec.Type,
				Data: rec.Data, TTL: rec.TTL}
			if a, err := netip.ParseAddr(rec.Data); err == nil && rec.Type == "A" {
				one.NoReverse = !held[a.String()+" "+zone.Absolute(rec.Owner, z.Name)]
			}
			r.Zones[at].Records = append(r.Zones[at].Records, one)
			of = r.ownNames() // a record by hand has a name in reverse
		}
	}
}

// ownNames is what the zones of the site hold as it stands, each by its zone and owner.
func (r *reader) ownNames() map[zone.Record]bool {
	own := *r.Site
	of := map[zone.Record]bool{}
	for _, p := range compile.Names(site.Normal(&own)).Inside {
		for _, e := range p.Entries {
			of[zone.Record{Owner: p.Name + "/" + e.Owner, Type: e.Type, Data: e.Data}] = true
		}
	}
	return of
}

// fixed takes names of the site's own domain whose address nobody has, and has that name in reverse, for machines that
// hold their addresses themselves.
func (r *reader) fixed(h Device, fresh []string, forwards map[netip.Addr][]string) {
	if r.Domain == "" || !slices.Contains(fresh, r.Domain) {
		return
	}
	taken := map[netip.Addr]bool{}
	for _, f := range compile.Followers(r.Site) {
		taken[f.Address] = true
	}
	for _, z := range h.Config.Resolver.Zone {
		for _, rec := range z.Record {
			a, err := netip.ParseAddr(rec.Data)
			if z.Name != r.Domain || rec.Type != "A" || err != nil || taken[a] || strings.ContainsAny(rec.Owner,
				".*@") ||
				!slices.Contains(forwards[a], zone.Absolute(rec.Owner, z.Name)) {
				continue
			}
			i := slices.IndexFunc(r.Networks, func(n site.Network) bool { return n.Prefix.Contains(a) })
			if i < 0 {
				continue
			}
			taken[a] = true
			r.FixedDevices = append(slices.Clone(r.FixedDevices), site.FixedDevice{ID: idOf("fix", rec.Owner),
				Name: rec.Owner, Network: r.Networks[i].ID, Address: a})
		}
	}
}

// unreversed marks reservations whose address is not given their name in reverse by the zone that it belongs to, where
// that is one of the zones that are read.
func (r *reader) unreversed(fresh []string, held map[string]bool) {
	reverse := map[netip.Prefix]string{}
	read := false
	for _, z := range r.Zones {
		if p, is := zone.ReversePrefix(z.Name); is && z.Side == site.Inside {
			reverse[p] = z.Name
			read = read || slices.Contains(fresh, z.Name)
		}
	}
	if !read {
		return
	}
	isRead := func(a netip.Addr) bool {
		name, longest := "", -1
		for p, of := range reverse {
			if p.Contains(a) && p.Bits() > longest {
				name, longest = of, p.Bits()
			}
		}
		return slices.Contains(fresh, name)
	}
	r.Reservations = slices.Clone(r.Reservations)
	for i, one := range r.Reservations {
		whole := zone.Absolute(strings.ToLower(one.Name), r.Domain)
		if one.Name != "" && !one.NoReverse && isRead(one.Address) && !held[one.Address.String()+" "+whole] {
			now := *one
			now.NoReverse = true
			r.Reservations[i] = &now
		}
	}
}

// reversed is the address that an owner in a reverse zone is of. In a classless one that is its last octet (RFC 2317).
func reversed(owner, in string) (netip.Addr, bool) {
	if p, ok := zone.ReversePrefix(in); ok && p.Bits() > 24 {
		n, err := strconv.ParseUint(owner, 10, 8)
		at := p.Addr().As4()
		at[3] = byte(n)
		return netip.AddrFrom4(at), err == nil
	}
	return zone.Reversed(zone.Absolute(owner, in))
}
