package site

import (
	"bytes"
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"lithos/core/address"
	"lithos/core/option"
)

// Identity is what of the site itself a draft may change.
type Identity struct {
	Name     string         `json:"name"`
	Domain   string         `json:"domain,omitempty"`
	TimeZone string         `json:"timeZone,omitempty"`
	Block    []netip.Prefix `json:"block"`
	Contacts string         `json:"contacts,omitempty"`
	Note     string         `json:"note,omitempty"`
}

// siteKinds are the site itself and the levels above it, whose copy it carries.
func siteKinds() []*Kind {
	return []*Kind{
		one(Kind{Name: KindSite, Noun: "site", Fields: []*Field{
			words("name", "Name", func(i *Identity) *string { return &i.Name }).
				must("a site needs a name; type for example Kelder Bridge surgery"),
			prefixes("block", "Block", func(i *Identity) *[]netip.Prefix { return &i.Block }, withoutHostBits).
				hint("The prefixes allotted to it, with commas"),
			typed("domain", "Domain", readDomain, func(i *Identity) string { return i.Domain }).mono().
				hint("Told to clients as option 15"),
			typed("timeZone", "Time zone", readZone, func(i *Identity) string { return i.TimeZone }).said("time zone").
				hint("For example Europe/London"),
			words("contacts", "Contacts", func(i *Identity) *string { return &i.Contacts }).
				hint("A name, what they are and how they are reached; semicolons between people"),
			words("note", "Note", func(i *Identity) *string { return &i.Note }).
				hint("For the sheet on the cupboard door"),
		}}, func(s *Site) (string, Identity) {
			return s.ID, Identity{s.Name, s.Domain, s.TimeZone, s.Block, s.Contacts, s.Note}
		},
			func(s *Site, i Identity) {
				s.Name, s.Domain, s.TimeZone, s.Block = i.Name, i.Domain, i.TimeZone, i.Block
				s.Contacts, s.Note = i.Contacts, i.Note
			},
			func(i *Identity) string { return i.Name }, func(s *Site) *[]Option { return &s.Options }),
		one(Kind{Name: KindCustomer, Noun: "customer"},
			func(s *Site) (string, Level) { return s.Customer.ID, s.Customer },
			func(s *Site, l Level) { s.Customer = l }, func(l *Level) string { return l.Name },
			func(s *Site) *[]Option { return &s.Customer.Options }),
		one(Kind{Name: KindStandard, Noun: "standard"},
			func(s *Site) (string, Standard) { return s.Standard.ID, s.Standard },
			func(s *Site, l Standard) { s.Standard = l }, func(l *Standard) string { return l.Name },
			func(s *Site) *[]Option { return &s.Standard.Options }),
	}
}

func readDomain(_ *Reading, i *Identity, t string) error {
	i.Domain = strings.ToLower(t)
	if t == "" {
		return nil
	}
	return option.CheckDomain(t)
}

func readZone(_ *Reading, i *Identity, t string) error {
	i.TimeZone = t
	if _, err := time.LoadLocation(t); err != nil || t == "Local" {
		return fmt.Errorf("%q is not a time zone; type one of the IANA's names, for example Europe/London", t)
	}
	return nil
}

func networkID(n *Network) *string   { return &n.ID }
func poolID(p *Pool) *string         { return &p.ID }
func deviceID(d *Device) *string     { return &d.ID }
func networkList(s *Site) *[]Network { return &s.Networks }
func poolList(s *Site) *[]Pool       { return &s.Pools }
func deviceList(s *Site) *[]Device   { return &s.Devices }

func networkKinds() []*Kind {
	return []*Kind{define(Kind{Name: KindNetwork, Noun: "network", Adds: "Add a network", Begins: "net",
		Fields: []*Field{
			words("name", "Name", func(n *Network) *string { return &n.Name }).
				must("a network needs a name; type for example Recovery"),
			typed("prefix", "Prefix", readPrefix, func(n *Network) string {
				if !n.Prefix.IsValid() {
					return ""
				}
				return n.Prefix.String()
			}).mono().hint("For example 10.84.20.64/26, or with a dotted mask"),
			number("vlan", "VLAN id", func(n *Network) *int { return &n.VLAN }, 1, 4094, vlanWhat).said("VLAN").
				hint("1 to 4094; empty where untagged"),
			addr("gateway", "Gateway", func(n *Network) *netip.Addr { return &n.Gateway },
				func(_ *Reading, n *Network) netip.Prefix { return n.Prefix }).
				hint("The address of the router on this network"),
			words("purpose", "Purpose", func(n *Network) *string { return &n.Purpose }),
		}}, about[Network]{
		at: top(networkList), id: networkID, called: func(n *Network) string { return n.Name },
		options: func(n *Network) *[]Option { return &n.Options },
		order: func(a, b *Network) int {
			return cmp.Or(a.Prefix.Addr().Compare(b.Prefix.Addr()), cmp.Compare(a.Prefix.Bits(), b.Prefix.Bits()),
				cmp.Compare(a.ID, b.ID))
		},
	})}
}

func readPrefix(_ *Reading, n *Network, t string) error {
	p, err := address.ParsePrefix(t)
	if err == nil {
		err = withoutHostBits(p)
	}
	if err == nil && p.Bits() < 8 {
		return fmt.Errorf("%s is larger than any site's network; type a length from 8 to 32", p)
	}
	if err == nil {
		n.Prefix = p
	}
	return err
}

// onNetwork is the field that says which network a part is on. The form of a part
// opened on a network sends it as it is.
func onNetwork[T any](at func(*T) *string) *Field {
	f := pointer("network", "Network", KindNetwork, at, "")
	f.Input, f.Goes = InputHidden, true
	return f.must("a network is missing; choose one of the site's")
}

// prefixOf is the prefix of the network that a part is on.
func prefixOf[T any](at func(*T) *string) func(r *Reading, p *T) netip.Prefix {
	return func(r *Reading, p *T) netip.Prefix {
		if n, ok := r.Site.Network(*at(p)); ok {
			return n.Prefix
		}
		return netip.Prefix{}
	}
}

// servingKinds are what is handed out, reserved and held on a network.
func servingKinds() []*Kind {
	return []*Kind{poolKind(), exclusionKind(), reservationKind(), fixedKind(), knownKind()}
}

func poolKind() *Kind {
	network := func(p *Pool) *string { return &p.Network }
	options := func(p *Pool) *[]Option { return &p.Options }
	served := pointer("server", "Served by", KindDevice, func(p *Pool) *string { return &p.Server }, "").
		said("served by")
	served.Pick = func(r *Reading) []Choice {
		out := []Choice{}
		for _, d := range r.Site.Devices {
			out = append(out, Choice{d.ID, d.Name + ", " + d.Kind})
		}
		return out
	}
	class := pointer("forClass", "Only for", KindVendorClass, func(p *Pool) *string { return &p.ForClass },
		"Any client").said("only for")
	ranges := typed("ranges", "Ranges", func(r *Reading, p *Pool, t string) error {
		ranges, err := address.ParseRanges(t, prefixOf(network)(r, p))
		if err == nil {
			p.Ranges = ranges
		}
		return err
	}, func(p *Pool) string { return joined(p.Ranges) }).mono().
		hint("96-119, or .96 - .119, or a prefix; separate several by commas").
		must("a pool needs a range; type for example 96-119")
	ranges.show = func(_ *Site, part any) []string { return byComma(ranges.Text(part)) }
	ranges.Within = true
	return define(Kind{Name: KindPool, Noun: "pool", Adds: "Add a pool", Begins: "pool", Fields: []*Field{
		onNetwork(network),
		words("name", "Name", func(p *Pool) *string { return &p.Name }).
			must("a pool needs a name; type who it is for, for example Clinic PCs"),
		ranges,
		onOff("enabled", "Serving", func(p *Pool) *bool { return &p.Enabled }, "Off: stored, no client is answered"),
		served,
		tells("lease", "Lease time", option.LeaseTime, options).hint("For example 8 hours; empty for the network’s"),
		tells("t1", "Renewal time T1", option.RenewalT1, options).hint("Empty for half the lease time"),
		tells("t2", "Rebinding time T2", option.RebindingT2, options).hint("Empty for seven eighths"),
		class,
		identifier("forClient", "Client identifier begins with", func(p *Pool) *string { return &p.ForClient }).
			said("client identifier begins with").hint("Empty for any client"),
		words("note", "Note", func(p *Pool) *string { return &p.Note }),
	}}, about[Pool]{
		at: top(poolList), id: poolID, called: func(p *Pool) string { return p.Name }, options: options,
		order: func(a, b *Pool) int { return cmp.Or(firstOf(a).Compare(firstOf(b)), cmp.Compare(a.ID, b.ID)) },
		tidy: func(p *Pool) {
			p.Ranges = append([]address.Range{}, p.Ranges...)
			slices.SortFunc(p.Ranges,
				func(a, b address.Range) int { return cmp.Or(a.From.Compare(b.From), a.To.Compare(b.To)) })
		},
		fresh: func(s *Site, n *Network, p *Pool) {
			p.Network, p.Name, p.Enabled, p.Server = n.ID, n.Name, true, serverOf(s, n)
		},
		settle: func(r *Reading, p *Pool) {
			if n, ok := r.Site.Network(p.Network); ok && p.Server == "" {
				p.Server = serverOf(r.Site, n)
			}
		},
	})
}

// serverOf is the device that most likely serves a network: the one that serves most of the networks beside it that the
// same device routes, else the one with an interface there.
func serverOf(s *Site, n *Network) string {
	home, _, _, routed := s.InterfaceOn(n)
	serves := map[string]int{}
	best := ""
	for _, p := range s.Pools {
		other, ok := s.Network(p.Network)
		if !ok || other.ID == n.ID || p.Server == "" {
			continue
		}
		d, _, _, at := s.InterfaceOn(other)
		if !routed || !at || d.ID != home.ID {
			continue
		}
		if serves[p.Server]++; serves[p.Server] > serves[best] {
			best = p.Server
		}
	}
	if _, there := s.Device(best); there {
		return best
	}
	if d, _, _, ok := s.InterfaceOn(n); ok {
		return d.ID
	}
	return ""
}

func joined[T fmt.Stringer](list []T) string {
	var out []string
	for _, v := range list {
		out = append(out, v.String())
	}
	return strings.Join(out, ", ")
}

func exclusionKind() *Kind {
	within := func(r *Reading) netip.Prefix {
		if p, ok := r.Site.Pool(r.In.ID); ok {
			return prefixOf(func(p *Pool) *string { return &p.Network })(r, p)
		}
		return netip.Prefix{}
	}
	run := typed("range", "Range", func(r *Reading, x *Exclusion, t string) error {
		v, err := address.ParseRange(t, within(r))
		if err == nil {
			x.Range = v
		}
		return err
	}, func(x *Exclusion) string {
		if !x.Range.From.IsValid() {
			return ""
		}
		return x.Range.String()
	}).mono().hint("120-127, or a single address").must("an exclusion needs a range; type for example 120-127")
	run.Within = true
	return define(Kind{Name: KindExclusion, Noun: "exclusion", Adds: "Exclude addresses", Begins: "excl", In: KindPool,
		Fields: []*Field{
			run,
			words("reason", "Reason", func(x *Exclusion) *string { return &x.Reason }).
				hint("Why nobody may be given these").
				must("an exclusion needs a reason; type why, for example Analyser vendor, fixed by contract"),
			typed("until", "Until", func(_ *Reading, x *Exclusion, t string) (err error) {
				x.Until = Date{}
				if t != "" {
					x.Until, err = ParseDate(t)
				}
				return err
			}, func(x *Exclusion) string { return x.Until.String() }).mono().
				hint("Last day, for example 2027-03-31; empty for good"),
		}}, about[Exclusion]{
		at:     inside(poolList, poolID, func(p *Pool) *[]Exclusion { return &p.Exclusions }),
		id:     func(x *Exclusion) *string { return &x.ID },
		called: func(x *Exclusion) string { return x.Reason },
		order: func(a, b *Exclusion) int {
			return cmp.Or(a.Range.From.Compare(b.Range.From),
				cmp.Compare(a.ID, b.ID))
		},
	})
}

// hosted shows a host name with the site's domain.
func hosted(f *Field) *Field {
	return f.shown(func(s *Site, part any) []string {
		host := f.Text(part)
		if host == "" || s.Domain == "" {
			return nonempty(host)
		}
		return []string{host + "." + s.Domain}
	})
}

const (
	hintMAC  = "With colons, hyphens, dots or none"
	hintHost = "One word, without the domain"
)

func reservationKind() *Kind {
	network := func(r *Reservation) *string { return &r.Network }
	return kept(Kind{Name: KindReservation, Noun: "reservation", Adds: "Reserve an address", Begins: "res",
		Pasted: true, Fields: []*Field{
			onNetwork(network),
			addr("address", "Address", func(r *Reservation) *netip.Addr { return &r.Address }, prefixOf(network)).
				free(),
			mac("mac", "MAC", func(r *Reservation) *address.MAC { return &r.MAC }).said("MAC").hint(hintMAC),
			hosted(hostname("name", "Host name", func(r *Reservation) *string { return &r.Name }).hint(hintHost)),
			identifier("clientId", "Client identifier", func(r *Reservation) *string { return &r.Client }).
				said("client identifier").
				hint("In place of a MAC, for a client that sends option 61"),
			reverse(func(r *Reservation) *bool { return &r.NoReverse }),
		}}, about[Reservation]{
		id:      func(r *Reservation) *string { return &r.ID },
		called:  func(r *Reservation) string { return cmp.Or(r.Name, addressText(r.Address)) },
		options: func(r *Reservation) *[]Option { return &r.Options },
		order:   func(a, b *Reservation) int { return cmp.Or(a.Address.Compare(b.Address), cmp.Compare(a.ID, b.ID)) },
		fresh:   func(_ *Site, n *Network, r *Reservation) { r.Network = n.ID },
		settle: func(r *Reading, v *Reservation) {
			if _, said := r.Given["mac"]; v.MAC.IsZero() && v.Client == "" && (said || r.New) && !r.Failed("mac") &&
				!r.Failed("clientId") {
				r.Fail("mac",
					"a MAC is missing; type twelve hex digits, for example 00:00:5e:00:53:1c, or give a client "+
						"identifier")
			}
		},
	}, top(func(s *Site) *[]*Reservation { return &s.Reservations }), byPointer[Reservation]())
}

func fixedKind() *Kind {
	network := func(f *FixedDevice) *string { return &f.Network }
	return define(Kind{Name: KindFixedDevice, Noun: "fixed device", Adds: "Record a fixed device", Begins: "fix",
		Pasted: true, Fields: []*Field{
			onNetwork(network),
			addr("address", "Address", func(f *FixedDevice) *netip.Addr { return &f.Address }, prefixOf(network)).
				free(),
			hosted(hostname("name", "Host name", func(f *FixedDevice) *string { return &f.Name }).hint(hintHost).
				must(missingHost("label-prn"))),
			mac("mac", "MAC", func(f *FixedDevice) *address.MAC { return &f.MAC }).said("MAC").hint("May be empty"),
			words("note", "Note", func(f *FixedDevice) *string { return &f.Note }),
			reverse(func(f *FixedDevice) *bool { return &f.NoReverse }),
		}}, about[FixedDevice]{
		at:     top(func(s *Site) *[]FixedDevice { return &s.FixedDevices }),
		id:     func(f *FixedDevice) *string { return &f.ID },
		called: func(f *FixedDevice) string { return f.Name },
		order:  func(a, b *FixedDevice) int { return cmp.Or(a.Address.Compare(b.Address), cmp.Compare(a.ID, b.ID)) },
		fresh:  func(_ *Site, n *Network, f *FixedDevice) { f.Network = n.ID },
	})
}

func missingHost(example string) string {
	return "a host name is missing; type one word, for example " + example
}

func knownKind() *Kind {
	return define(Kind{Name: KindKnownClient, Noun: "client", Adds: "Name a client", Begins: "known", Fields: []*Field{
		mac("mac", "MAC", func(k *KnownClient) *address.MAC { return &k.MAC }).said("MAC").hint(hintMAC).
			must("a MAC is missing; type twelve hex digits, for example 00:00:5e:00:53:1c"),
		hostname("name", "Host name", func(k *KnownClient) *string { return &k.Name }).
			hint("What people call it; may be empty"),
		words("ignored", "Ignored, reason", func(k *KnownClient) *string { return &k.Ignored }).
			hint("Why what is seen of it needs no attention; empty: keep warning"),
	}}, about[KnownClient]{
		at:     top(func(s *Site) *[]KnownClient { return &s.KnownClients }),
		id:     func(k *KnownClient) *string { return &k.ID },
		called: func(k *KnownClient) string { return cmp.Or(k.Name, k.MAC.String()) },
		order: func(a, b *KnownClient) int {
			return cmp.Or(bytes.Compare(a.MAC[:], b.MAC[:]),
				cmp.Compare(a.ID, b.ID))
		},
	})
}
