package site

import (
	"cmp"
	"fmt"
	"net/url"
	"path"
	"strings"

	"lithos/core/address"
	"lithos/core/zone"
)

func zoneKind() *Kind {
	soa := func(name, label string, at func(*Zone) *int, most int, otherwise string) *Field {
		return count(name, label, at, most, "seconds").said(label).hint("Seconds; empty for " + otherwise)
	}
	return define(Kind{Name: KindZone, Noun: "zone", Adds: "Add a zone", Begins: "zone", Fields: []*Field{
		typed("name", "Zone", readZoneName, func(z *Zone) string { return z.Name }).mono().
			hint("A domain, or a prefix for its reverse zone: 10.84.18.0/24").
			must("a zone needs a name; type for example kelder.larkrise.example, or a prefix for its reverse zone"),
		chosen("side", "View", func(z *Zone) *string { return &z.Side }, "a side",
			Choice{Inside, "Inside, by the site’s resolvers"}, Choice{Outside, "Outside, seen from the internet"}),
		onOff("partial", "Names it does not have", func(z *Zone) *bool { return &z.Partial }, "Are not there").
			said("names it does not have").choices("Are asked of the forwarders").when("side", Inside),
		ttl(func(z *Zone) *int { return &z.TTL }).hint("Seconds; empty for 3600"),
		hostOrNothing("primary", "SOA primary", func(z *Zone) *string { return &z.Primary }).said("SOA primary").
			hint("Empty for the resolver’s device"),
		hostOrNothing("contact", "SOA contact", func(z *Zone) *string { return &z.Contact }).said("SOA contact").
			hint("With a dot for the @; empty for hostmaster"),
		soa("refresh", "SOA refresh", func(z *Zone) *int { return &z.Refresh }, 604800, "3600"),
		soa("retry", "SOA retry", func(z *Zone) *int { return &z.Retry }, 604800, "600"),
		soa("expire", "SOA expire", func(z *Zone) *int { return &z.Expire }, 31536000, "604800"),
		soa("negative", "Negative TTL", func(z *Zone) *int { return &z.Negative }, 86400,
			"300: how long “no such name” is remembered"),
		holder().when("side", Outside),
		hostOrNothing("key", "Key", func(z *Zone) *string { return &z.Key }).said("key").
			hint("The name of the TSIG key that reads and writes it").when("side", Outside),
		algorithm(func(z *Zone) *string { return &z.KeyAlgorithm }).when("side", Outside),
		keyItself(func(z *Zone) *string { return &z.Secret }).when("side", Outside),
		webAddress("keysAt", "Key service", func(z *Zone) *string { return &z.KeysAt }).when("side", Outside).
			hint("Of the provider: https://names.provider.example; empty where keys are typed here"),
		keptSecret(typed("account", "Password of the account there", func(_ *Reading, z *Zone, t string) error {
			z.Account = t
			return checkKept(t)
		}, func(z *Zone) string { return z.Account })).said("password of the account").when("side", Outside),
		words("note", "Note", func(z *Zone) *string { return &z.Note }),
	}}, about[Zone]{
		at: top(zoneList), id: zoneID, called: func(z *Zone) string { return z.Name },
		order: func(a, b *Zone) int {
			return cmp.Or(cmp.Compare(a.Side, b.Side), cmp.Compare(a.Name, b.Name), cmp.Compare(a.ID, b.ID))
		},
		tidy: func(z *Zone) { z.Records = sorted(z.Records, recordOrder) },
		fresh: func(s *Site, _ *Network, z *Zone) {
			z.Side = Inside
			if _, has := s.HomeZone(); !has {
				z.Name = s.Domain
			}
		},
	})
}

// holder is the server that holds an outside zone.
func holder() *Field {
	return typed("server", "Held by", func(_ *Reading, z *Zone, t string) (err error) {
		if z.Server = (Forwarder{}); t == "" {
			return nil
		}
		if z.Server, err = ParseForwarder(t); err == nil && z.Server.TLSName != "" {
			return fmt.Errorf("zones are read and written with a key, without TLS; type the address alone")
		}
		return err
	}, func(z *Zone) string {
		if !z.Server.Address.IsValid() {
			return ""
		}
		return z.Server.String()
	}).mono().said("held by").hint("The server’s address; empty where Lithos cannot write it")
}

// keyItself is a TSIG key as it is typed.
func keyItself[T any](at func(*T) *string) *Field {
	return keptSecret(typed("secret", "Secret", func(_ *Reading, p *T, t string) error {
		*at(p) = t
		return checkKept(t)
	}, func(p *T) string { return *at(p) })).said("secret")
}

func algorithm[T any](at func(*T) *string) *Field {
	choices := []Choice{{"", Algorithms[0]}}
	for _, a := range Algorithms[1:] {
		choices = append(choices, Choice{a, a})
	}
	return chosen("keyAlgorithm", "Algorithm", at,
		"an algorithm", choices...).said("algorithm")
}

func zoneList(s *Site) *[]Zone { return &s.Zones }

func zoneID(z *Zone) *string { return &z.ID }

func readZoneName(r *Reading, z *Zone, t string) error {
	if p, err := address.ParsePrefix(t); err == nil && strings.Contains(t, "/") && !strings.HasSuffix(t, "arpa") {
		if p != p.Masked() {
			return withoutHostBits(p)
		}
		names := zone.ReverseZones(p)
		if len(names) > 1 {
			return fmt.Errorf("%s has %d reverse zones; add each, first %s", p, len(names), names[0])
		}
		t = names[0]
	}
	name := zone.Tidy(t)
	if err := zone.CheckName(name); err != nil {
		return err
	}
	if strings.HasPrefix(name, "*") {
		return fmt.Errorf("%q is a wildcard; name the zone, and add the wildcard as a record of it", name)
	}
	z.Name = name
	return nil
}

func recordOrder(a, b *Record) int {
	apex := func(r *Record) int {
		if r.Owner == zone.Apex {
			return 0
		}
		return 1
	}
	return cmp.Or(cmp.Compare(apex(a), apex(b)), cmp.Compare(a.Owner, b.Owner), cmp.Compare(a.Type, b.Type),
		cmp.Compare(a.Data, b.Data), cmp.Compare(a.ID, b.ID))
}

// zoneNamed is the name of the zone that a record is in.
func zoneNamed(r *Reading) string {
	if z, ok := r.Site.Zone(r.In.ID); ok {
		return z.Name
	}
	return ""
}

func recordKind() *Kind {
	data := typed("data", "Value", func(r *Reading, p *Record, t string) error {
		typ, said := r.Given["type"]
		if r.New && !said {
			p.Type = typeIn(zoneNamed(r), t)
		}
		v, err := zone.ReadData(cmp.Or(typ, p.Type), t, zoneNamed(r))
		if err == nil {
			p.Data = v
		}
		return err
	}, func(p *Record) string { return p.Data }).mono().
		hint("An address; or a name: one word is in this zone, a longer one is whole").
		must("a value is missing; type for example 10.84.20.40")
	owner := typed("owner", "Name", func(r *Reading, p *Record, t string) (err error) {
		p.Owner, err = zone.ReadOwner(t, zoneNamed(r))
		return err
	}, func(p *Record) string { return p.Owner })
	fields := []*Field{
		owner.said("name").mono().hint("Without the zone; @ for the zone itself"),
		chosen("type", "Type", func(p *Record) *string { return &p.Type }, "a type of record",
			plainly(zone.Types()...)...),
		data,
		ttl(func(p *Record) *int { return &p.TTL }),
		reverse(func(p *Record) *bool { return &p.NoReverse }).when("type", "A"),
		words("note", "Note", func(p *Record) *string { return &p.Note }),
	}
	return kept(Kind{Name: KindRecord, Noun: "record", Adds: "Add a name", Begins: "rec", In: KindZone,
		Fields: fields}, about[Record]{
		id:     func(p *Record) *string { return &p.ID },
		called: func(p *Record) string { return p.Owner + " " + p.Type },
		order:  recordOrder,
		fresh:  func(_ *Site, _ *Network, p *Record) { p.Type = "A" },
		settle: settleRecord,
	}, inside(zoneList, zoneID, func(z *Zone) *[]*Record { return &z.Records }), byPointer[Record]())
}

// typeIn is the type of a record that is typed without one: in a reverse zone a value is a name, elsewhere it says
// itself what it is.
func typeIn(zoneName, data string) string {
	if _, reverse := zone.ReversePrefix(zoneName); reverse {
		return "PTR"
	}
	return zone.TypeOf(data)
}

// settleRecord finds a value that does not fit another type chosen beside it.
func settleRecord(r *Reading, p *Record) {
	if p.Type != "A" {
		p.NoReverse = false
	}
	if _, typed := r.Given["type"]; !typed || r.Failed("type") || r.Failed("data") {
		return
	}
	if _, err := zone.ReadData(p.Type, p.Data, zoneNamed(r)); err != nil {
		r.FailFor("data", err)
	}
}

// reverse says whether an address is given the name of its part in reverse.
func reverse[T any](at func(*T) *bool) *Field {
	return onOff("noReverse", "Reverse", at, "Written with the name").said("leaves reverse alone").
		choices("Not written")
}

func serviceKind() *Kind {
	name := typed("name", "Name", readServiceName, func(p *Service) string { return p.Name })
	base := typed("base", "Behind proxy", func(r *Reading, p *Service, t string) error {
		v, err := zone.ReadData("CNAME", t, r.Site.Domain)
		if err == nil {
			p.Base = v
		}
		return err
	}, func(p *Service) string { return p.Base })
	there := "An alias of the proxy"
	return define(Kind{Name: KindService, Noun: "service", Adds: "Add a service", Begins: "service", Fields: []*Field{
		name.mono().hint("Without the site’s domain; of another zone the whole name").
			must("a service needs a name; type for example records"),
		base.mono().hint("The proxy’s name; one word is of the site’s domain").
			must("the proxy is missing; type its name, for example edge"),
		onOff("inside", "Inside", func(p *Service) *bool { return &p.Inside }, "Not there").choices(there),
		onOff("outside", "Outside", func(p *Service) *bool { return &p.Outside }, "Not there").choices(there),
		ttl(func(p *Service) *int { return &p.TTL }),
		words("note", "Note", func(p *Service) *string { return &p.Note }).hint("What it is"),
	}}, about[Service]{
		at: top(func(s *Site) *[]Service { return &s.Services }), id: func(p *Service) *string { return &p.ID },
		called: func(p *Service) string { return p.Name },
		order:  func(a, b *Service) int { return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.ID, b.ID)) },
		fresh: func(s *Site, _ *Network, p *Service) {
			p.Inside = true
			if len(s.Services) > 0 {
				p.Base = s.Services[0].Base // most sites have one proxy
			}
		},
	})
}

// readServiceName reads the name of a service: of the site's domain without it, of another zone of the site whole, with
// a dot at the end (RFC 1035 section 5.1). A whole name that no zone has is nowhere.
func readServiceName(r *Reading, p *Service, t string) (err error) {
	name := zone.Tidy(t)
	if _, ours := zone.Relative(name, r.Site.Domain); ours || zone.Labels(name) < 2 {
		p.Name, err = zone.ReadOwner(t, r.Site.Domain)
		return err
	}
	if err := zone.CheckName(name); err != nil {
		return err
	}
	_, inside := r.Site.ZoneOf(name, Inside)
	_, outside := r.Site.ZoneOf(name, Outside)
	switch {
	case inside || outside:
		p.Name = name + "."
	case strings.HasSuffix(strings.TrimSpace(t), "."), zone.Registrable(name) != "",
		path.Ext(name) == path.Ext(r.Site.Domain):
		return fmt.Errorf("no zone of the site has %q; add its zone first, or type the whole name with %s", name,
			r.Site.Domain)
	default:
		p.Name, err = zone.ReadOwner(t, r.Site.Domain)
	}
	return err
}

func certificateKind() *Kind {
	name := typed("name", "Certificate for", func(_ *Reading, c *Certificate, t string) error {
		c.Name = zone.Tidy(t)
		return zone.CheckName(c.Name)
	}, func(c *Certificate) string { return c.Name })
	return define(Kind{Name: KindCertificate, Noun: "certificate", Adds: "Add a certificate", Begins: "cert",
		Fields: []*Field{
			name.mono().hint("The whole name, for example edge.kelder.larkrise.example or *.kelder.larkrise.example").
				must("a certificate needs a name; type for example edge.kelder.larkrise.example"),
			hostOrNothing("key", "Key", func(c *Certificate) *string { return &c.Key }).said("key").
				hint("The name of the TSIG key that may write the challenge record alone"),
			algorithm(func(c *Certificate) *string { return &c.KeyAlgorithm }),
			keyItself(func(c *Certificate) *string { return &c.Secret }),
			words("note", "Note", func(c *Certificate) *string { return &c.Note }),
		}}, about[Certificate]{
		at: top(func(s *Site) *[]Certificate { return &s.Certificates }),
		id: func(c *Certificate) *string { return &c.ID }, called: func(c *Certificate) string { return c.Name },
		order: func(a, b *Certificate) int { return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.ID, b.ID)) },
	})
}

// maxWebAddress is how long an address of a service may be, in characters.
const maxWebAddress = 300

// webAddress is where a service is reached over HTTPS, or nothing.
func webAddress[T any](name, label string, at func(*T) *string) *Field {
	return typed(name, label, func(_ *Reading, p *T, t string) error {
		if *at(p) = strings.TrimRight(t, "/"); t == "" {
			return nil
		}
		u, err := url.Parse(t)
		if err != nil || u.Scheme != "https" || u.Host == "" || u.User != nil || u.RawQuery != "" || u.Fragment != "" ||
			len(t) > maxWebAddress {
			return fmt.Errorf("%q is not the address of a service; type for example https://names.provider.example", t)
		}
		return zone.CheckName(u.Hostname())
	}, func(p *T) string { return *at(p) }).mono().said(strings.ToLower(label[:1]) + label[1:])
}

// completed is the whole name of what was typed: one word is of the zone that the form was opened from, or of the only
// outside zone; @ is that zone itself.
func completed(r *Reading, t string) string {
	in := zoneNamed(r)
	if in == "" {
		in = onlyOutside(r.Site)
	}
	return zone.Target(t, in)
}

// onlyOutside is the name of the one outside zone of a site; empty where it has none or several.
func onlyOutside(s *Site) string {
	out := ""
	for _, z := range s.Zones {
		switch {
		case z.Side != Outside:
		case out != "":
			return ""
		default:
			out = z.Name
		}
	}
	return out
}

func followingKind() *Kind {
	name := typed("name", "Name", func(r *Reading, f *Following, t string) error {
		f.Name = completed(r, t)
		if zone.Labels(f.Name) < 2 {
			return fmt.Errorf("%q is of no zone; type the whole name, for example remote.quill.example", t)
		}
		if strings.HasPrefix(f.Name, "*") {
			return fmt.Errorf("%q is a wildcard; name what is below it, and let every name below follow, too", f.Name)
		}
		return zone.CheckName(f.Name)
	}, func(f *Following) string { return f.Name })
	uplink := pointer("uplink", "Follows", KindInterface, func(f *Following) *string { return &f.Uplink }, "").
		said("follows")
	uplink.Pick = func(r *Reading) []Choice {
		var out []Choice
		for _, d := range r.Site.Devices {
			for _, i := range d.Interfaces {
				if i.Kind == Uplink {
					out = append(out, Choice{i.ID, i.Name + " of " + d.Name})
				}
			}
		}
		return out
	}
	return define(Kind{Name: KindFollowing, Noun: "dynamic name", Adds: "Add a dynamic name",
		Begins: "following", Fields: []*Field{
			name.mono().hint("One word is of the zone; else the whole name: remote.quill.example").
				must("the name is missing; type for example remote.quill.example"),
			uplink,
			onOff("enabled", "Serving", func(f *Following) *bool { return &f.Enabled }, "Off").choices("On"),
			chosen("keeper", "Kept by", func(f *Following) *string { return &f.Keeper }, "who keeps it",
				Choice{"", "Lithos, when it reads the device"}, Choice{KeptByDevice, "The device of the uplink"}).
				said("kept by"),
			chosen("addresses", "Record types", func(f *Following) *string { return &f.Addresses }, "a kind of address",
				Choice{"", "The IPv4 address (A)"}, Choice{OnlyIPv6, "The IPv6 address (AAAA)"},
				Choice{BothFamilies, "Both"}).said("record types"),
			chosen("source", "The address is", func(f *Following) *string { return &f.Source }, "a way to learn it",
				Choice{"", "What the uplink has"}, Choice{AskedOutside, "Asked of an outside service"}).
				said("address is").when("keeper", KeptByDevice),
			webAddress("asks", "Service that is asked", func(f *Following) *string { return &f.Asks }).
				hint("For a line behind another router: https://names.provider.example/v1/address").
				when("keeper", KeptByDevice).when("source", AskedOutside),
			chosen("how", "Told by", func(f *Following) *string { return &f.How }, "a way to tell it",
				Choice{"", "An UPDATE (RFC 2136)"}, Choice{ByRequest, "An HTTPS request"}).said("told by"),
			webAddress("requestTo", "Request goes to", func(f *Following) *string { return &f.RequestTo }).
				hint("For example https://names.provider.example").when("how", ByRequest),
			onOff("wildcard", "Names below it", func(f *Following) *bool { return &f.Wildcard }, "Left alone").
				choices("Have the address, too"),
			hostOrNothing("key", "Key", func(f *Following) *string { return &f.Key }).said("key").
				hint("The name of the key that may write this name alone"),
			algorithm(func(f *Following) *string { return &f.KeyAlgorithm }).when("how", ""),
			keyItself(func(f *Following) *string { return &f.Secret }),
			ttl(func(f *Following) *int { return &f.TTL }).hint("Seconds; empty for 120"),
			count("every", "Checked every", func(f *Following) *int { return &f.Every }, 86400, "seconds").
				hint("Seconds; empty for 300").when("keeper", KeptByDevice),
			count("least", "Update at most every", func(f *Following) *int { return &f.Least }, 86400, "seconds").
				hint("Seconds; empty for 60"),
			words("note", "Note", func(f *Following) *string { return &f.Note }),
		}}, about[Following]{
		at: top(func(s *Site) *[]Following { return &s.Following }),
		id: func(f *Following) *string { return &f.ID }, called: func(f *Following) string { return f.Name },
		order: func(a, b *Following) int { return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.ID, b.ID)) },
		fresh: func(s *Site, _ *Network, f *Following) {
			f.Enabled = true
			for _, d := range s.Devices {
				for _, i := range d.Interfaces {
					if i.Kind == Uplink && f.Uplink == "" {
						f.Uplink = i.ID // most sites have one line
					}
				}
			}
		},
	})
}
