package site

import (
	"cmp"
	"fmt"
	"net/netip"
	"strings"

	"lithos/core/address"
	"lithos/core/zone"
)

// nameKinds are the resolvers, the zones with their records, and the services.
func nameKinds() []*Kind {
	return []*Kind{resolverKind(), zoneKind(), recordKind(), serviceKind(),
		certificateKind(), followingKind()}
}

func resolverKind() *Kind {
	fields := []*Field{
		words("name", "Name", func(r *Resolver) *string { return &r.Name }).
			must("a resolver needs a name; type for example Kelder names"),
		runsOn(),
		onOff("enabled", "Serving", func(r *Resolver) *bool { return &r.Enabled }, "Off: stored, nobody is answered"),
	}
	fields = append(fields, askingFields()...)
	fields = append(fields, keepingFields()...)
	fields = append(fields, listenerFields()...)
	fields = append(fields, words("note", "Note", func(r *Resolver) *string { return &r.Note }))
	return define(Kind{Name: KindResolver, Noun: "resolver", Adds: "Add a resolver", Begins: "resolver",
		Fields: fields}, about[Resolver]{
		at: top(func(s *Site) *[]Resolver { return &s.Resolvers }), id: func(r *Resolver) *string { return &r.ID },
		called: func(r *Resolver) string { return r.Name },
		order:  func(a, b *Resolver) int { return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.ID, b.ID)) },
		fresh: func(s *Site, n *Network, r *Resolver) {
			r.Enabled, r.KeepsShort, r.KeepsPrivate, r.Completes = true, true, true, true
			if n == nil && len(s.Networks) > 0 {
				n = &s.Networks[0]
			}
			if n != nil {
				r.Device = serverOf(s, n)
			}
			if d, ok := s.Device(r.Device); ok {
				r.Name = d.Name
			}
		},
	})
}

// runsOn is the device of a resolver: any but a layer 2 switch.
func runsOn() *Field {
	f := pointer("device", "Runs on", KindDevice, func(r *Resolver) *string { return &r.Device }, "").
		said("runs on").must("choose the device it runs on")
	f.Pick = func(r *Reading) []Choice {
		out := []Choice{}
		for _, d := range r.Site.Devices {
			if d.Kind != L2Switch {
				out = append(out, Choice{d.ID, d.Name + ", " + d.Kind})
			}
		}
		return out
	}
	return f
}

// askingFields are who asks a resolver, and whom it asks.
func askingFields() []*Field {
	networks := pointers("networks", "Listens on", KindNetwork, func(r *Resolver) []string { return r.Networks },
		func(r *Resolver, to []string) { r.Networks = to }).said("listens on")
	networks.None = "Every network its device has an address on"
	anyRoute := "Whichever the route takes"
	from := pointer("forwardFrom", "Asks them from", KindInterface,
		func(r *Resolver) *string { return &r.ForwardFrom }, anyRoute).said("asks them from")
	from.Pick = func(r *Reading) []Choice {
		out := []Choice{{"", anyRoute}}
		for _, d := range r.Site.Devices {
			for _, i := range d.Interfaces {
				if len(i.Addresses) > 0 || i.Kind == Uplink {
					out = append(out, Choice{i.ID, i.Name + " of " + d.Name})
				}
			}
		}
		return out
	}
	return []*Field{
		networks,
		prefixes("askers", "Who may ask", func(r *Resolver) *[]netip.Prefix { return &r.Askers }, withoutHostBits).
			said("who may ask").hint("Prefixes, separated by commas; empty for the site’s networks"),
		lines("forwarders", "Forwarders", func(r *Resolver) *[]Forwarder { return &r.Forwarders }, ParseForwarder,
			Forwarder.String).
			hint("One a line, in order: 192.0.2.53, or 198.51.100.53 TLS and the name in its certificate"),
		lines("domains", "Servers for single domains", func(r *Resolver) *[]DomainServer { return &r.Domains },
			readDomainServer, domainServerText).said("servers for single domains").
			hint("One a line: moss.larkrise.example | 10.84.48.10"),
		from,
	}
}

// keepingFields are what a resolver makes of names itself.
func keepingFields() []*Field {
	silenced := lines("silenced", "Blocked domains", func(r *Resolver) *[]string { return &r.Silenced },
		readSilenced, strings.TrimSpace).said("blocked domains").
		hint("One domain a line, or lines of a hosts file")
	silenced.show = func(_ *Site, part any) []string {
		n := len(part.(*Resolver).Silenced)
		if n == 0 {
			return nil
		}
		return []string{Counted(n, "domain")}
	}
	private := onOff("keepsPrivateNames", "Private and special names",
		func(r *Resolver) *bool { return &r.KeepsPrivate }, "Sent to the forwarders")
	return []*Field{
		onOff("completesShortNames", "Short names", func(r *Resolver) *bool { return &r.Completes },
			"Left as they are").said("completes short names").choices("Completed with the site’s domain"),
		onOff("keepsShortNames", "Short names not found", func(r *Resolver) *bool { return &r.KeepsShort },
			"Sent to the forwarders").said("keeps short names").choices("Never sent out"),
		private.said("keeps private names").choices("Answered at home, never sent out"),
		onOff("validates", "Signed answers", func(r *Resolver) *bool { return &r.Validates },
			"Passed on as they come").said("checks signatures").
			choices("Checked (DNSSEC); what does not hold is refused"),
		chosen("leaseNames", "Names from leases", func(r *Resolver) *string { return &r.LeaseNames },
			"a choice of names from leases", Choice{"", "Off"}, Choice{LeaseNamesAll, "What every client says"},
			Choice{LeaseNamesReserved, "Of reservations only"}).said("names from leases"),
		silenced,
		count("cacheEntries", "Cache entries", func(r *Resolver) *int { return &r.CacheEntries }, 10_000_000,
			"answers").hint("Empty for 10000"),
		count("leastTTL", "Least TTL", func(r *Resolver) *int { return &r.LeastTTL }, 86400, "seconds").
			hint("Seconds; empty for as the answer says"),
		count("greatestTTL", "Greatest TTL", func(r *Resolver) *int { return &r.GreatestTTL }, 604800, "seconds").
			hint("Seconds; empty for 86400"),
		count("negativeTTL", "Negative TTL", func(r *Resolver) *int { return &r.NegativeTTL }, 86400, "seconds").
			hint("Seconds; empty for 3600"),
		count("localTTL", "TTL of lease names", func(r *Resolver) *int { return &r.LocalTTL }, 86400, "seconds").
			hint("Seconds; empty for 60"),
	}
}

// listenerFields are how a resolver listens, and what it tells of itself.
func listenerFields() []*Field {
	return []*Field{
		number("port", "Port", func(r *Resolver) *int { return &r.Port }, 1, 65535, portWhat).hint("Empty for 53"),
		number("tlsPort", "TLS port", func(r *Resolver) *int { return &r.TLSPort }, 1, 65535, portWhat).
			said("TLS port").hint("Usually 853; empty for no TLS"),
		hostOrNothing("tlsName", "TLS certificate name", func(r *Resolver) *string { return &r.TLSName }).
			said("TLS certificate name").hint("The name clients verify, for example dns.kelder.larkrise.example"),
		onOff("stopsOthers", "Other programs on its ports", func(r *Resolver) *bool { return &r.StopsOthers },
			"Left alone; it cannot listen beside them").said("stops other programs on its ports").
			choices("Stopped before it listens"),
		chosen("logLevel", "Log level", func(r *Resolver) *string { return &r.LogLevel }, "a log level",
			Choice{"", "Errors"}, Choice{LogOff, "Nothing"}, Choice{LogQueries, "Every question"}).said("log level"),
		onOff("hidesIdentity", "Version answer", func(r *Resolver) *bool { return &r.Hides },
			"Given to anybody who asks").said("version answer").choices("Refused"),
	}
}

// count is how many of something, from 1 to most; 0 where nothing is typed.
func count[T any](name, label string, at func(*T) *int, most int, of string) *Field {
	what := fmt.Sprintf("a number of %s; type one from 1 to %d, for example 300, or nothing", of, most)
	return number(name, label, at, 1, most, what).said(strings.ToLower(label[:1]) + label[1:])
}

// ttl is how long others may keep something, in seconds.
func ttl[T any](at func(*T) *int) *Field {
	return count("ttl", "TTL", at, 604800, "seconds").said("TTL").hint("Seconds; empty for the zone’s")
}

const portWhat = "a port; type a number from 1 to 65535, for example 53"

// lines are several values, one a line.
func lines[T, V any](
	name, label string, at func(*T) *[]V, one func(string) (V, error), text func(V) string,
) *Field {
	f := typed(name, label, func(_ *Reading, p *T, t string) error {
		var out []V
		for line := range strings.Lines(t) {
			if line = strings.TrimSpace(line); line == "" || strings.HasPrefix(line, "#") {
				continue
			}
			v, err := one(line)
			if err != nil {
				return err
			}
			out = append(out, v)
		}
		*at(p) = out
		return nil
	}, func(p *T) string { return strings.Join(texts(*at(p), text), "\n") }).mono()
	f.Input = InputLines
	f.show = func(_ *Site, part any) []string { return texts(*at(part.(*T)), text) }
	return f
}

func texts[V any](list []V, text func(V) string) []string {
	var out []string
	for _, v := range list {
		out = append(out, text(v))
	}
	return out
}

// choices makes a choice of two of a switch, and names the other one.
func (f *Field) choices(on string) *Field {
	f.Choices[0].Label, f.Switch = on, false
	return f
}

// hostOrNothing is a whole name, which may be empty.
func hostOrNothing[T any](name, label string, at func(*T) *string) *Field {
	return typed(name, label, func(_ *Reading, p *T, t string) error {
		*at(p) = zone.Tidy(t)
		if t == "" {
			return nil
		}
		return zone.CheckName(*at(p))
	}, func(p *T) string { return *at(p) }).mono()
}

func readDomainServer(line string) (DomainServer, error) {
	domain, servers, ok := strings.Cut(line, "|")
	out := DomainServer{Domain: zone.Tidy(domain)}
	if !ok {
		return out, fmt.Errorf(
			"%q is not a domain with its servers; type for example moss.larkrise.example | 10.84.48.10",
			clip(line),
		)
	}
	if p, err := address.ParsePrefix(strings.TrimSpace(domain)); err == nil && strings.Contains(domain, "/") {
		names := zone.ReverseZones(p)
		if len(names) > 1 {
			return out, fmt.Errorf(
				"%s has %d reverse domains; write each on a line of its own, first %s",
				p,
				len(names),
				names[0],
			)
		}
		out.Domain = names[0]
	}
	if err := zone.CheckName(out.Domain); err != nil {
		return out, err
	}
	for _, text := range byComma(servers) {
		f, err := ParseForwarder(text)
		if err != nil {
			return out, err
		}
		out.Servers = append(out.Servers, f)
	}
	if len(out.Servers) == 0 {
		return out, fmt.Errorf("%s has no server; type its address after |", out.Domain)
	}
	return out, nil
}

func domainServerText(d DomainServer) string { return d.Domain + " | " + joined(d.Servers) }

// readSilenced reads a domain, or the name of a line of a hosts file.
func readSilenced(line string) (string, error) {
	line, _, _ = strings.Cut(line, "#")
	fields := strings.Fields(line)
	if len(fields) == 2 {
		if _, err := netip.ParseAddr(fields[0]); err == nil {
			fields = fields[1:]
		}
	}
	if len(fields) != 1 {
		return "", fmt.Errorf("%q is not a domain; type one a line, for example tracker.example", clip(line))
	}
	name := zone.Tidy(fields[0])
	return name, zone.CheckName(name)
}
