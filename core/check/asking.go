package check

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/zone"
)

// Rules about whom resolvers ask, what they silence, and on which ports and for how long they answer.

// unusableHost says why no machine answers at an address, wherever it is asked from; empty where one may.
func (f *facts) unusableHost(a netip.Addr) string {
	switch {
	case a.IsUnspecified():
		return "means no address (RFC 1122 section 3.2.1.3)"
	case a.IsLoopback() && !f.inside(a):
		return "is whoever asks itself (RFC 1122 section 3.2.1.3)"
	case a.IsMulticast():
		return "is a group and no machine (RFC 5771)"
	case a == netip.AddrFrom4([4]byte{255, 255, 255, 255}):
		return "is everybody on the link (RFC 919)"
	case a.IsLinkLocalUnicast():
		return "is of one link alone (RFC 3927)"
	}
	return ""
}

// unheld says why no machine has an address, also by the networks of the site: it is the first or last of one. It is
// empty where one may have it.
func (f *facts) unheld(a netip.Addr) string {
	why := f.unusableHost(a)
	if n, in := f.NetworkOf(a); why == "" && in && !address.Usable(n.Prefix).Contains(a) {
		why = fmt.Sprintf("is the network or broadcast address of %s", n.Prefix)
	}
	return why
}

// asked is a server that a resolver asks: for everything, or for one domain.
type asked struct {
	server site.Forwarder
	domain string // empty for everything
	fix    *Fix   // asks the others alone
}

func (a asked) what() string {
	if a.domain == "" {
		return "Forwarder " + a.server.Address.String()
	}
	return fmt.Sprintf("The server %s of %s", a.server.Address, a.domain)
}

// eachAsked visits the servers that a resolver asks.
func (f *facts) eachAsked(r *site.Resolver, do func(a asked)) {
	without := func(list []site.Forwarder, one site.Forwarder) []site.Forwarder {
		out := slices.DeleteFunc(slices.Clone(list), func(o site.Forwarder) bool { return o == one })
		if len(out) == 0 {
			return nil
		}
		return out
	}
	for _, s := range r.Forwarders {
		do(asked{s, "", changeResolver("Do not ask "+s.Address.String(), r, func(now *site.Resolver) {
			now.Forwarders = without(r.Forwarders, s)
		})})
	}
	for i, d := range r.Domains {
		for _, s := range d.Servers {
			do(asked{s, d.Domain, changeResolver("Do not ask "+s.Address.String(), r, func(now *site.Resolver) {
				now.Domains = slices.Clone(r.Domains)
				if now.Domains[i].Servers = without(d.Servers, s); now.Domains[i].Servers == nil {
					now.Domains = withoutDomain(r.Domains, i)
				}
			})})
		}
	}
}

// withoutDomain is a list of domains without one of them.
func withoutDomain(list []site.DomainServer, i int) []site.DomainServer {
	out := slices.Delete(slices.Clone(list), i, i+1)
	if len(out) == 0 {
		return nil
	}
	return out
}

func forwarderUnusable(f *facts, report func(Finding)) {
	f.eachResolver(func(r *site.Resolver, _ *site.Device) {
		f.eachAsked(r, func(a asked) {
			why := f.unusableHost(a.server.Address)
			if why == "" {
				return
			}
			report(Finding{
				Title: a.what() + " is an address that nobody has", Parts: []site.Ref{resolverRef(r.ID)},
				Addresses: []address.Range{address.Single(a.server.Address)}, Value: a.domain,
				Says: fmt.Sprintf("%s %s. %s waits for an answer that does not come.", a.server.Address, why, r.Name),
				Fix:  a.fix,
			})
		})
	})
}

// forwarderNoServer is about addresses of the site that are asked for names, and at which nothing says that there is a
// name server: no resolver is there, and no client is told it.
func forwarderNoServer(f *facts, report func(Finding)) {
	f.eachResolver(func(r *site.Resolver, _ *site.Device) {
		f.eachAsked(r, func(a asked) {
			at := a.server.Address
			if !f.inside(at) || f.unusableHost(at) != "" || f.isNameServer(at) {
				return
			}
			report(Finding{
				Title: a.what() + " is no name server that is known", Parts: []site.Ref{resolverRef(r.ID)},
				Addresses: []address.Range{address.Single(at)}, Value: a.domain,
				Says: fmt.Sprintf("%s is %s. %s asks it, and its clients wait for answers that do not come.", at,
					f.whoIsAt(at),
					r.Name),
				Fix: a.fix,
			})
		})
	})
}

// isNameServer reports whether names are answered at an address of the site, as far as is known: a resolver's device
// holds it, or clients are told it.
func (f *facts) isNameServer(at netip.Addr) bool {
	if d, _, held := f.HolderOf(at); held && f.resolverOn(d) != nil {
		return true
	}
	for i := range f.Pools {
		if t, ok := compile.Value(f.toldIn(&f.Pools[i]), option.NameServers); ok && slices.Contains(
			effectiveAddresses(t), at) {
			return true
		}
	}
	return false
}

// whoIsAt says what an address of the site is.
func (f *facts) whoIsAt(at netip.Addr) string {
	if held := f.ownersIn(address.Single(at)); len(held) > 0 {
		return held[0].what() + ", at which nothing answers names as far as is known"
	}
	if d, i, ok := f.HolderOf(at); ok {
		return i.Name + " of " + d.Name + ", which has no resolver"
	}
	for i := range f.Pools {
		if f.Pools[i].Offers(at) {
			return "an address that pool " + f.Pools[i].Name + " hands out"
		}
	}
	if n, ok := f.NetworkOf(at); ok {
		return "in " + n.Name + ", where nothing recorded has it"
	}
	return "in no network of the site"
}

func forwarderPortTLS(f *facts, report func(Finding)) {
	f.eachResolver(func(r *site.Resolver, _ *site.Device) {
		for i, s := range r.Forwarders {
			if s.TLSName == "" || s.Port != 53 {
				continue
			}
			report(Finding{
				Title:     fmt.Sprintf("Forwarder %s is asked over TLS at port 53", s.Address),
				Parts:     []site.Ref{resolverRef(r.ID)},
				Addresses: []address.Range{address.Single(s.Address)},
				Says: "Port 53 is DNS in the clear; DNS over TLS is port 853 (RFC 7858 section 3.1). It does " +
					"not answer.",
				Fix: changeResolver("Ask port 853", r, func(now *site.Resolver) {
					now.Forwarders = slices.Clone(r.Forwarders)
					now.Forwarders[i].Port = 0
				}),
			})
		}
	})
}

// domainServersWrong is about servers for single domains that are never asked, or cannot be.
func domainServersWrong(f *facts, report func(Finding)) {
	f.eachResolver(func(r *site.Resolver, d *site.Device) {
		first := map[string]bool{}
		for i, one := range r.Domains {
			name := zone.Tidy(one.Domain)
			found := Finding{Parts: []site.Ref{resolverRef(r.ID)}, Value: fmt.Sprint(name, i),
				Fix: changeResolver("Take "+name+" off the list", r, func(now *site.Resolver) {
					now.Domains = withoutDomain(r.Domains, i)
				})}
			self := slices.ContainsFunc(one.Servers, func(s site.Forwarder) bool {
				on, _, ok := f.HolderOf(s.Address)
				return ok && on.ID == d.ID
			})
			switch own := f.answeredHere(d, name); {
			case len(one.Servers) == 0:
				found.Title = "Nobody is asked for " + name
				found.Says = fmt.Sprintf("%s has the domain on its list, and no server for it. Who asks gets no "+
					"answer.",
					r.Name)
			case first[name]:
				found.Title = name + " has two lists of servers"
				found.Says = fmt.Sprintf("%s asks those of the first; the second is never used.", r.Name)
			case own:
				found.Title = name + " is answered here, and others are on the list for it"
				found.Says = fmt.Sprintf("%s has a zone of that name, and looks there first. The servers are never "+
					"asked.",
					r.Name)
			case self:
				found.Title = fmt.Sprintf("%s asks itself for %s", r.Name, name)
				found.Says = "It has no such zone. A question comes back to it, round and round, until the client " +
					"gives up."
			default:
				first[name] = true
				continue
			}
			first[name] = true
			report(found)
		}
	})
}

// answeredHere reports whether a device's resolver answers for a zone of a name.
func (f *facts) answeredHere(d *site.Device, name string) bool {
	return f.resolverOn(d) != nil && slices.ContainsFunc(f.Zones, func(z site.Zone) bool {
		return z.Side == site.Inside && zone.Tidy(z.Name) == name
	})
}

// silencedOwn is about domains that are blocked and have names of the site, or are so high up that the
// world is silenced.
func silencedOwn(f *facts, report func(Finding)) {
	f.eachResolver(func(r *site.Resolver, _ *site.Device) {
		for _, silent := range r.Silenced {
			name := zone.Tidy(silent)
			says := ""
			switch {
			case f.Domain != "" && zone.Within(f.Domain, name):
				says = fmt.Sprintf("The site's own domain, %s, is in it. Its names are blocked.",
					f.Domain)
			case slices.ContainsFunc(f.Zones, func(z site.Zone) bool { return zone.Within(zone.Tidy(z.Name), name) }):
				says = "A zone of the site is in it. Its names are blocked."
			case zone.Labels(name) == 1:
				says = "It is a top-level domain: every name below it is blocked."
			default:
				continue
			}
			left := slices.DeleteFunc(slices.Clone(r.Silenced), func(s string) bool { return s == silent })
			if len(left) == 0 {
				left = nil
			}
			report(Finding{
				Title: r.Name + " silences " + name, Parts: []site.Ref{resolverRef(r.ID)}, Value: name, Says: says,
				Fix: changeResolver("Do not silence it", r, func(now *site.Resolver) { now.Silenced = left }),
			})
		}
	})
}

// resolverPortOdd is about resolvers that listen on another port than clients ask.
func resolverPortOdd(f *facts, report func(Finding)) {
	done := map[string]bool{}
	for _, t := range f.toldResolvers() {
		r := t.resolver
		if r == nil || !r.Enabled || cmp.Or(r.Port, 53) == 53 || done[r.ID] {
			continue
		}
		done[r.ID] = true
		report(Finding{
			Title: fmt.Sprintf("%s listens on port %d, and clients ask port 53", r.Name, r.Port), Network: t.network.ID,
			Parts: []site.Ref{resolverRef(r.ID), networkRef(t.network.ID)}, Value: fmt.Sprint(r.Port),
			Addresses: []address.Range{address.Single(t.address)},
			Says: fmt.Sprintf("Clients of %s are told %s, and option 6 has no room for a port (RFC 2132 section 3.8). "+
				"Nobody answers them.", t.network.Name, t.address),
			Fix: changeResolver("Listen on port 53", r, func(now *site.Resolver) { now.Port = 0 }),
		})
	}
}

func portsEqual(f *facts, report func(Finding)) {
	f.eachResolver(func(r *site.Resolver, _ *site.Device) {
		if port := cmp.Or(r.Port, 53); r.TLSPort == port {
			report(Finding{
				Title: fmt.Sprintf("%s has one port for two things", r.Name), Parts: []site.Ref{resolverRef(r.ID)},
				Value: fmt.Sprint(port),
				Says: fmt.Sprintf("Port %d is to answer in the clear and over TLS. The device refuses one of the two.",
					port),
				Fix: changeResolver("Use port 853 for TLS", r, func(now *site.Resolver) { now.TLSPort = 853 }),
			})
		}
	})
}

func ttlOrder(f *facts, report func(Finding)) {
	f.eachResolver(func(r *site.Resolver, _ *site.Device) {
		if r.LeastTTL == 0 || r.GreatestTTL == 0 || r.LeastTTL <= r.GreatestTTL {
			return
		}
		report(Finding{
			Title: r.Name + " keeps answers at least longer than at most", Parts: []site.Ref{resolverRef(r.ID)},
			Value: fmt.Sprint(r.LeastTTL, r.GreatestTTL),
			Says: fmt.Sprintf("The shortest time is %s, and the longest %s. No time is both; the device refuses it.",
				seconds(r.LeastTTL), seconds(r.GreatestTTL)),
			Fix: changeResolver("Turn them round", r, func(now *site.Resolver) {
				now.LeastTTL, now.GreatestTTL = r.GreatestTTL, r.LeastTTL
			}),
		})
	})
}

// dnsOnlyOutside is about clients that are told outside name servers alone, at a site that has names inside.
func dnsOnlyOutside(f *facts, n *site.Network, report func(Finding)) {
	if n == nil || !slices.ContainsFunc(f.Zones, func(z site.Zone) bool { return z.Side == site.Inside }) {
		return
	}
	f.eachPool(n, func(p *site.Pool) {
		t, ok := compile.Value(f.toldIn(p), option.NameServers)
		servers := effectiveAddresses(t)
		within := func(a netip.Addr) bool { return f.inside(a) || isPrivate(a) || f.unusableHost(a) != "" }
		if !ok || len(servers) == 0 || slices.ContainsFunc(servers, within) {
			return
		}
		found := Finding{
			Title: fmt.Sprintf("Clients of %s are told outside name servers alone", p.Name), Network: n.ID,
			Parts: []site.Ref{poolRef(p.ID), level(t)}, Value: t.Value,
			Says: fmt.Sprintf("They ask %s, where nobody knows the names of the site. They find nothing of it by name.",
				words(servers)),
		}
		if a := f.answersAt(n); a.IsValid() {
			found.Fix = setOption("Tell them "+a.String(), p, option.NameServers, a.String())
		}
		report(found)
	})
}

// hostnameForMany is about a host name (option 12) that is told to more than one client.
func hostnameForMany(f *facts, n *site.Network, report func(Finding)) {
	f.eachLevel(n, func(at site.Ref, network, name string, options []site.Option) {
		for _, o := range options {
			if o.Code != option.HostName || at.Kind == site.KindReservation {
				continue
			}
			report(Finding{
				Title: fmt.Sprintf("Every client of %s is told the same name", name), Network: network,
				Parts: []site.Ref{at, {Kind: site.KindOption, ID: fmt.Sprint(o.Code)}}, Value: o.Value,
				Says: fmt.Sprintf("Option 12 is the name of one client (RFC 2132 section 3.14). Those who take it "+
					"are all called %s.", strings.TrimSpace(o.Value)),
				Fix: f.unsetting("Stop setting it", option.Effective{Code: o.Code,
					From: option.Source{Kind: at.Kind, ID: at.ID}}),
			})
		}
	})
}
