package check

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/edit"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/zone"
)

// Rules about resolvers: what they listen on, who may ask, whom they ask, and what leaves the site.

func resolverRef(id string) site.Ref { return site.Ref{Kind: site.KindResolver, ID: id} }

// eachResolver visits the resolvers that are switched on, with their devices.
func (f *facts) eachResolver(do func(r *site.Resolver, d *site.Device)) {
	for i := range f.Resolvers {
		r := &f.Resolvers[i]
		if d, ok := f.Device(r.Device); ok && r.Enabled {
			do(r, d)
		}
	}
}

// changeResolver is the fix that changes a resolver.
func changeResolver(title string, r *site.Resolver, change func(now *site.Resolver)) *Fix {
	now := *r
	change(&now)
	return changeResolverTo(title, r, now)
}

func changeResolverTo(title string, r *site.Resolver, now site.Resolver) *Fix {
	return change(title, site.KindResolver, r.ID, site.Ref{}, *r, now)
}

func noForwarder(f *facts, report func(Finding)) {
	f.eachResolver(func(r *site.Resolver, _ *site.Device) {
		if len(r.Forwarders) > 0 {
			return
		}
		report(Finding{
			Title: r.Name + " asks nobody for other names", Parts: []site.Ref{resolverRef(r.ID)},
			Says: "It has no forwarder. Its clients resolve the site's own names, and nothing on the internet.",
		})
	})
}

func shortNamesLeak(f *facts, report func(Finding)) {
	f.eachResolver(func(r *site.Resolver, _ *site.Device) {
		if r.KeepsShort || len(r.Forwarders) == 0 {
			return
		}
		report(Finding{
			Title: "Names of one word leave the site", Parts: []site.Ref{resolverRef(r.ID)},
			Says: fmt.Sprintf("%s sends a name such as nas, which no client completed, to %s. Nobody there knows "+
				"it, and strangers learn what is at the site.", r.Name, r.Forwarders[0].Address),
			Fix: changeResolver("Never send them out", r, func(now *site.Resolver) { now.KeepsShort = true }),
		})
	})
}

func privateReverseLeaks(f *facts, report func(Finding)) {
	f.eachResolver(func(r *site.Resolver, _ *site.Device) {
		if r.KeepsPrivate || len(r.Forwarders) == 0 {
			return
		}
		report(Finding{
			Title: "Reverse names of private addresses leave the site", Parts: []site.Ref{resolverRef(r.ID)},
			Says: fmt.Sprintf("%s asks %s who 10.0.0.1 is, and for names under home.arpa and .local. They mean "+
				"something at home only (RFC 6303, RFC 6761); each is answered late or wrongly.", r.Name,
				r.Forwarders[0].Address),
			Fix: changeResolver("Answer them at home", r, func(now *site.Resolver) { now.KeepsPrivate = true }),
		})
	})
}

// forwarderLoops is about resolvers that ask themselves, or each other in a circle.
func forwarderLoops(f *facts, report func(Finding)) {
	asks := map[string][]string{} // by device, the devices with resolvers that are asked for everything
	f.eachResolver(func(r *site.Resolver, d *site.Device) {
		for _, fw := range r.Forwarders {
			if on, _, ok := f.HolderOf(fw.Address); ok {
				asks[d.ID] = append(asks[d.ID], on.ID)
			}
		}
	})
	var leads func(from, to string, seen map[string]bool) bool
	leads = func(from, to string, seen map[string]bool) bool {
		if from == to {
			return true
		}
		if seen[from] {
			return false
		}
		seen[from] = true
		return slices.ContainsFunc(asks[from], func(next string) bool { return leads(next, to, seen) })
	}
	f.eachResolver(func(r *site.Resolver, d *site.Device) {
		for _, fw := range r.Forwarders {
			on, _, ok := f.HolderOf(fw.Address)
			if !ok || !leads(on.ID, d.ID, map[string]bool{}) {
				continue
			}
			found := Finding{
				Title: r.Name + " asks itself", Parts: []site.Ref{resolverRef(r.ID)},
				Addresses: []address.Range{address.Single(fw.Address)},
				Says: fmt.Sprintf("A question it forwards to %s comes back to it, round and round, until the client "+
					"gives up.",
					fw.Address),
			}
			left := slices.DeleteFunc(slices.Clone(r.Forwarders), func(o site.Forwarder) bool { return o == fw })
			if len(left) == 0 {
				left = nil
			}
			found.Fix = changeResolver("Do not forward to "+fw.Address.String(), r,
				func(now *site.Resolver) { now.Forwarders = left })
			report(found)
		}
	})
}

func openResolver(f *facts, report func(Finding)) {
	f.eachResolver(func(r *site.Resolver, d *site.Device) {
		at := slices.IndexFunc(r.Askers, func(p netip.Prefix) bool { return !isPrivate(p.Addr()) || p.Bits() < 8 })
		if at < 0 || slices.ContainsFunc(f.Block, func(b netip.Prefix) bool { return b.Overlaps(r.Askers[at]) }) &&
			r.Askers[at].Bits() >= 8 {
			return
		}
		open := r.Askers[at]
		found := Finding{
			Title: r.Name + " answers the internet", Parts: []site.Ref{resolverRef(r.ID)}, Value: open.String(),
			Says: fmt.Sprintf("%s may ask, which is not the site's. Strangers use it to flood others, and read the "+
				"names of the site.", open),
		}
		left := slices.DeleteFunc(slices.Clone(r.Askers), func(p netip.Prefix) bool { return p == open })
		if len(left) == 0 {
			left = nil
		}
		found.Fix = changeResolver("Take "+open.String()+" off the list", r,
			func(now *site.Resolver) { now.Askers = left })
		report(found)
	})
}

func tlsNameMissing(f *facts, report func(Finding)) {
	f.eachResolver(func(r *site.Resolver, d *site.Device) {
		if r.TLSPort != 0 && r.TLSName == "" {
			name := zone.Absolute(strings.ToLower(d.Name), f.Domain)
			report(Finding{
				Title: r.Name + " has no name for TLS", Parts: []site.Ref{resolverRef(r.ID)}, Value: "listener",
				Says: "Clients of its TLS port verify the name in its certificate, and none is written. The " +
					"listener stays shut.",
				Fix: changeResolver("Call it "+name, r, func(now *site.Resolver) { now.TLSName = name }),
			})
		}
		for _, fw := range r.Forwarders {
			if fw.Port == 853 && fw.TLSName == "" {
				report(Finding{
					Title:     fmt.Sprintf("Forwarder %s has no name to verify", fw.Address),
					Parts:     []site.Ref{resolverRef(r.ID)},
					Addresses: []address.Range{address.Single(fw.Address)}, Value: "forwarder",
					Says: "Port 853 is DNS over TLS. Without the name its certificate must have it is asked in the " +
						"clear, and does " +
						"not answer. Type it behind TLS.",
				})
			}
		}
	})
}

// cacheEntry is about what one remembered answer takes in octets.
const cacheEntry = 1024

func cacheAboveMemory(f *facts, report func(Finding)) {
	f.eachResolver(func(r *site.Resolver, d *site.Device) {
		most := d.Memory << 20 / 4 / cacheEntry // a quarter of the memory
		if d.Memory == 0 || r.CacheEntries <= most {
			return
		}
		report(Finding{
			Title: fmt.Sprintf("The cache of %s is larger than %s bears", r.Name, d.Name),
			Parts: []site.Ref{resolverRef(r.ID), deviceRef(d.ID)}, Value: fmt.Sprint(r.CacheEntries),
			Says: fmt.Sprintf("%d answers take about %d MiB, and the device has %d. It swaps, or ends the resolver.",
				r.CacheEntries, r.CacheEntries*cacheEntry>>20, d.Memory),
			Fix: changeResolver(fmt.Sprintf("Keep %d", most), r, func(now *site.Resolver) { now.CacheEntries = most }),
		})
	})
}

func leaseNamesOff(f *facts, report func(Finding)) {
	f.eachResolver(func(r *site.Resolver, d *site.Device) {
		serves := slices.ContainsFunc(f.Pools, func(p site.Pool) bool { return p.Server == d.ID && p.Enabled })
		if !serves || cmp.Or(r.LeaseNames, site.LeaseNamesOff) != site.LeaseNamesOff || f.Domain == "" {
			return
		}
		report(Finding{
			Title: "Clients with leases have no names", Parts: []site.Ref{resolverRef(r.ID)},
			Says: fmt.Sprintf("%s hands out addresses and answers names, and does not put the two together. A client "+
				"is reached by its address alone, which changes.", d.Name),
			Fix: changeResolver("Name them after what they say", r,
				func(now *site.Resolver) { now.LeaseNames = site.LeaseNamesAll }),
		})
	})
}

// ttlBeyondLease is about names of leases that others may keep longer than the lease lasts.
func ttlBeyondLease(f *facts, report func(Finding)) {
	f.eachResolver(func(r *site.Resolver, d *site.Device) {
		if cmp.Or(r.LeaseNames, site.LeaseNamesOff) == site.LeaseNamesOff {
			return
		}
		for i := range f.Pools {
			p := &f.Pools[i]
			lease := int(f.timers(p).Lease.Seconds())
			if p.Server != d.ID || r.LocalTTL <= lease || f.networks[p.Network] == nil {
				continue
			}
			report(Finding{
				Title: "Names of leases are kept longer than the leases", Network: p.Network,
				Parts: []site.Ref{resolverRef(r.ID), poolRef(p.ID)}, Value: fmt.Sprint(r.LocalTTL),
				Says: fmt.Sprintf("A lease of %s lasts %s, and others may keep its name for %s. They reach whoever "+
					"has the address next.", p.Name, option.FormatDuration(f.timers(p).Lease), seconds(r.LocalTTL)),
				Fix: changeResolver("Use 60 seconds", r, func(now *site.Resolver) { now.LocalTTL = 0 }),
			})
			return
		}
	})
}

func seconds(n int) string {
	if n == 1 {
		return "1 second"
	}
	return fmt.Sprintf("%d seconds", n)
}

// toldResolver is a network whose clients are told a resolver's address.
type toldResolver struct {
	network *site.Network
	pool    *site.Pool
	address netip.Addr
	device  *site.Device
	iface   *site.Interface // that holds the address
	option  option.Effective
	// resolver is that of the device, nil where it has none, and listens that it does on the interface.
	resolver *site.Resolver
	listens  bool
}

// toldResolversOf lists the addresses of devices that clients are told as name servers, once for each network. Most
// pools are told the same: what is asked of an address or a device is asked once.
func (f *facts) toldResolversOf() []toldResolver {
	type seen struct {
		network string
		at      netip.Addr
	}
	type holder struct {
		device *site.Device
		iface  *site.Interface
	}
	var out []toldResolver
	done, holders := map[seen]bool{}, map[netip.Addr]holder{}
	addresses := map[string][]netip.Addr{}  // by how they are typed
	listens := map[string]map[string]bool{} // ids of interfaces, by device
	for i := range f.Pools {
		p := &f.Pools[i]
		n := f.networks[p.Network]
		t, ok := compile.Value(f.toldIn(p), option.NameServers)
		if n == nil || !ok {
			continue
		}
		if _, read := addresses[t.Value]; !read {
			addresses[t.Value] = effectiveAddresses(t)
		}
		for _, a := range addresses[t.Value] {
			h, known := holders[a]
			if !known {
				h.device, h.iface, _ = f.HolderOf(a)
				holders[a] = h
			}
			if h.device == nil || done[seen{n.ID, a}] {
				continue
			}
			done[seen{n.ID, a}] = true
			r := f.resolverOn(h.device)
			if r != nil && listens[h.device.ID] == nil {
				on := map[string]bool{}
				for _, iface := range compile.ListensOn(f.Site, h.device, r) {
					on[iface.ID] = true
				}
				listens[h.device.ID] = on
			}
			out = append(out, toldResolver{n, p, a, h.device, h.iface, t, r, listens[h.device.ID][h.iface.ID]})
		}
	}
	return out
}

// resolverOn is the resolver of a device; nil for none.
func (f *facts) resolverOn(d *site.Device) *site.Resolver {
	i := slices.IndexFunc(f.Resolvers, func(r site.Resolver) bool { return r.Device == d.ID })
	if i < 0 {
		return nil
	}
	return &f.Resolvers[i]
}

// freshResolver has a device answer names as resolvers usually do. It asks whom another one of the site asks, else the
// servers that an uplink learns.
func (f *facts) freshResolver(d *site.Device) edit.Edit {
	fresh := site.Resolver{ID: "resolver-" + d.ID, Name: d.Name, Device: d.ID, Enabled: true, Completes: true,
		KeepsShort: true, KeepsPrivate: true}
	if len(f.Resolvers) > 0 {
		fresh.Forwarders = f.Resolvers[0].Forwarders
	}
	for _, i := range f.uplinks {
		if len(fresh.Forwarders) == 0 && i.Uplink != nil {
			for _, a := range i.Uplink.LearntServers {
				fresh.Forwarders = append(fresh.Forwarders, site.Forwarder{Address: a})
			}
		}
	}
	return edit.Adding(site.KindResolver, fresh.ID, site.Ref{}, fresh)
}

// mayAsk reports whether every client of a network may ask a resolver.
func mayAsk(r *site.Resolver, n *site.Network) bool {
	return len(r.Askers) == 0 || slices.ContainsFunc(r.Askers, func(p netip.Prefix) bool {
		return p.Bits() <= n.Prefix.Bits() && p.Contains(n.Prefix.Addr())
	})
}

// answersAt is an address of the site at which a resolver answers clients of a network: one of their own network where
// there is one. It is invalid where nobody does.
func (f *facts) answersAt(n *site.Network) netip.Addr {
	var out netip.Addr
	f.eachResolver(func(r *site.Resolver, d *site.Device) {
		if !mayAsk(r, n) {
			return
		}
		for _, i := range compile.ListensOn(f.Site, d, r) {
			for _, a := range i.Addresses {
				if own := n.Prefix.Contains(a.Addr()); i.Kind != site.Uplink && (own || !out.IsValid()) {
					out = a.Addr()
				}
			}
		}
	})
	return out
}

// resolverNotListening is about name servers that clients are told and that nobody answers at.
func resolverNotListening(f *facts, report func(Finding)) {
	for _, t := range f.toldResolvers() {
		r := t.resolver
		if r != nil && r.Enabled && t.listens {
			continue
		}
		found := Finding{
			Title: fmt.Sprintf("Nobody answers names at %s", t.address), Network: t.network.ID,
			Parts:     []site.Ref{interfaceRef(t.iface.ID), networkRef(t.network.ID)},
			Addresses: []address.Range{address.Single(t.address)},
		}
		const waits = " Its clients wait for an answer that does not come."
		switch {
		case r == nil:
			found.Says = fmt.Sprintf("Clients of %s are told it as a name server, and %s has no resolver.",
				t.network.Name,
				t.device.Name) + waits
			found.Fix = &Fix{"Answer names on " + t.device.Name, []edit.Edit{f.freshResolver(t.device)}}
		case !r.Enabled:
			found.Parts = append(found.Parts, resolverRef(r.ID))
			found.Says = fmt.Sprintf("Clients of %s are told it as a name server, and %s is switched off.",
				t.network.Name,
				r.Name) + waits
			found.Fix = changeResolver("Switch it on", r, func(now *site.Resolver) { now.Enabled = true })
		default:
			found.Parts = append(found.Parts, resolverRef(r.ID))
			found.Says = fmt.Sprintf("Clients of %s are told it as a name server, and %s does not listen on %s.",
				t.network.Name, r.Name, t.iface.Name) + waits
			if n, ok := f.NetworkOf(t.address); ok && len(r.Networks) > 0 {
				networks := append(slices.Clone(r.Networks), n.ID)
				found.Fix = changeResolver("Listen on "+n.Name, r, func(now *site.Resolver) { now.Networks = networks })
			}
		}
		report(found)
	}
}

// resolverNotPermitted is about interfaces that do not let the questions of their network in.
func resolverNotPermitted(f *facts, report func(Finding)) {
	for _, t := range f.toldResolvers() {
		in := t.iface
		for _, h := range f.homes(t.network) {
			if h.device.ID == t.device.ID {
				in = h.iface // questions come in where the clients are, whichever address they are for
			}
		}
		if in.Permitted(site.PermitDNS) {
			continue
		}
		now := *in
		now.Permits = append(slices.Clone(in.Permits), site.PermitDNS)
		report(Finding{
			Title: fmt.Sprintf("%s of %s does not permit DNS", in.Name, t.device.Name), Network: t.network.ID,
			Parts:     []site.Ref{interfaceRef(in.ID), networkRef(t.network.ID)},
			Addresses: []address.Range{address.Single(t.address)},
			Says: fmt.Sprintf("Clients of %s are told %s as a name server, and their questions are dropped on the "+
				"way in. They reach addresses and no names.", t.network.Name, t.address),
			Fix: changeInterface("Permit DNS there", t.device, *in, now),
		})
	}
}

func askerNotAllowed(f *facts, report func(Finding)) {
	for _, t := range f.toldResolvers() {
		r := t.resolver
		if r == nil || !r.Enabled || mayAsk(r, t.network) {
			continue
		}
		askers := append(slices.Clone(r.Askers), t.network.Prefix.Masked())
		report(Finding{
			Title: fmt.Sprintf("%s may not ask %s", t.network.Name, r.Name), Network: t.network.ID,
			Parts:     []site.Ref{resolverRef(r.ID), networkRef(t.network.ID)},
			Addresses: []address.Range{address.Single(t.address)},
			Says: fmt.Sprintf("Its clients receive %s as a name server, which refuses them: they are not among "+
				"those who may ask.", t.address),
			Fix: changeResolver("Let "+t.network.Name+" ask", r, func(now *site.Resolver) { now.Askers = askers }),
		})
	}
}

// resolverAddressMoves is about name servers whose own address is handed out.
func resolverAddressMoves(f *facts, report func(Finding)) {
	done, read := map[netip.Addr]bool{}, map[string]bool{}
	for i := range f.Pools {
		t, ok := compile.Value(f.toldIn(&f.Pools[i]), option.NameServers)
		if !ok || read[t.Value] {
			continue
		}
		read[t.Value] = true
		for _, a := range effectiveAddresses(t) {
			if done[a] {
				continue
			}
			done[a] = true
			if f.holds(a) {
				continue
			}
			for k := range f.Pools {
				p := &f.Pools[k]
				if !p.Offers(a) || f.networks[p.Network] == nil {
					continue
				}
				report(Finding{
					Title: fmt.Sprintf("The name server %s has no address of its own", a), Network: p.Network,
					Parts: []site.Ref{level(t), poolRef(p.ID)}, Addresses: []address.Range{address.Single(a)},
					Says: fmt.Sprintf("%s is handed out from %s, and no reservation keeps it. The day another "+
						"machine has it, "+
						"the whole site is without names. Reserve it for the server.", a, p.Name),
				})
			}
		}
	}
}

// searchDomainMissesZone is about domains that clients complete with and in which nothing is.
func searchDomainMissesZone(f *facts, report func(Finding)) {
	if len(f.Resolvers) == 0 || len(f.Zones) == 0 {
		return
	}
	look := func(n *site.Network) {
		for _, code := range []uint8{option.DomainName, option.SearchList} {
			f.eachTold(n, code, func(t option.Effective) {
				var misses []string
				for name := range strings.SplitSeq(t.Value, ",") {
					if name = zone.Tidy(name); name != "" && !f.hasNamesIn(name) {
						misses = append(misses, name)
					}
				}
				if len(misses) == 0 {
					return
				}
				report(Finding{
					Title: "Clients complete names with " + misses[0] + ", where nothing is", Network: idOf(n),
					Parts: []site.Ref{level(t), {Kind: site.KindOption, ID: fmt.Sprint(t.Code)}},
					Value: strings.Join(misses, " "),
					Says: fmt.Sprintf("%s sets %s, and no zone of the site has names in it. Each short name is "+
						"asked for there "+
						"first, in vain.", t.From.Name, strings.Join(misses, ", ")),
				})
			})
		}
	}
	look(nil)
	for i := range f.Networks {
		look(&f.Networks[i])
	}
}

// hasNamesIn reports whether the site knows of names in a domain: in a zone of either side, or at
// another server.
func (f *facts) hasNamesIn(domain string) bool {
	return slices.ContainsFunc(f.Zones, func(z site.Zone) bool {
		return zone.Within(domain, z.Name) || zone.Within(z.Name, domain)
	}) || slices.ContainsFunc(f.Resolvers, func(r site.Resolver) bool {
		return slices.ContainsFunc(r.Domains, func(d site.DomainServer) bool { return zone.Within(domain, d.Domain) })
	})
}
