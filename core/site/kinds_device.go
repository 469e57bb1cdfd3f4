package site

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"lithos/core/address"
	"lithos/core/option"
	"lithos/core/zone"
)

// deviceKinds are the devices and their interfaces.
func deviceKinds() []*Kind {
	return []*Kind{
		define(Kind{Name: KindDevice, Noun: "device", Adds: "Add a device", Begins: "device", Fields: []*Field{
			hostname("name", "Host name", func(d *Device) *string { return &d.Name }).hint("Of the device itself").
				must(missingHost("gw-2")),
			chosen("kind", "Kind", func(d *Device) *string { return &d.Kind }, "a kind of device",
				plainly(Router, Firewall, L3Switch, L2Switch, Server)...).must("choose what the device is"),
			count("memory", "Memory", func(d *Device) *int { return &d.Memory }, 1<<20, "MiB").
				hint("In MiB, where known; what a resolver may keep depends on it"),
		}}, about[Device]{
			at: top(deviceList), id: deviceID, called: func(d *Device) string { return d.Name },
			order: func(a, b *Device) int { return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.ID, b.ID)) },
			fresh: func(_ *Site, _ *Network, d *Device) { d.Kind = Router },
		}),
		interfaceKind(),
	}
}

func interfaceKind() *Kind {
	others := []string{Port, PortGroup, VLAN, Loopback, Tunnel}
	fields := []*Field{
		words("name", "Name", func(i *Interface) *string { return &i.Name }).mono().
			hint("The device’s own, for example lan.52").
			must("an interface needs a name; type the device's own, for example lan.52"),
		chosen("kind", "Kind", func(i *Interface) *string { return &i.Kind }, "a kind of interface",
			plainly(Port, PortGroup, VLAN, Uplink, Loopback, Tunnel)...),
		carriedBy(func(i *Interface) *string { return &i.Parent }),
		number("vlan", "VLAN id", func(i *Interface) *int { return &i.VLAN }, 1, 4094, vlanWhat).said("VLAN").
			when("kind", VLAN),
		memberPorts(),
		number("untaggedVLAN", "Untagged VLAN", func(i *Interface) *int { return &i.Untagged }, 1, 4094, vlanWhat).
			said("untagged VLAN").
			hint("Leave empty if untagged frames have no VLAN").when("kind", Port, PortGroup),
		list("taggedVLANs", "Tagged VLANs", func(i *Interface) *[]int { return &i.Tagged }, items, readVLAN,
			strconv.Itoa).said("tagged VLANs").
			hint("Of a trunk, for example 11, 24, 90").when("kind", Port, PortGroup),
		cableTo(),
	}
	fields = append(fields, uplinkFields()...)
	fields = append(fields, learntFields()...)
	fields = append(fields,
		list("permits", "Allowed services", func(i *Interface) *[]string { return &i.Permits }, items,
			readPermit, strings.TrimSpace).
			hint("What its networks may ask of this device").when("kind", others...),
		list("relayTo", "Relays DHCP to", func(i *Interface) *[]netip.Addr { return &i.RelayTo }, items, readAddress,
			netip.Addr.String).said("relays to").
			hint("Addresses of the servers; empty where it does not relay").when("kind", others...),
	)
	permits := fields[len(fields)-2]
	permits.Input, permits.Choices, permits.Mono = InputSet, plainly(Permissions...), false
	permits.None = "Allow everything"
	return define(Kind{Name: KindInterface, Noun: "interface", Adds: "Add an interface", Begins: "if", In: KindDevice,
		Fields: fields}, about[Interface]{
		at:     inside(deviceList, deviceID, func(d *Device) *[]Interface { return &d.Interfaces }),
		id:     func(i *Interface) *string { return &i.ID },
		called: func(i *Interface) string { return i.Name },
		order:  func(a, b *Interface) int { return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.ID, b.ID)) },
		fresh:  func(_ *Site, _ *Network, i *Interface) { i.Kind = VLAN },
		settle: func(_ *Reading, i *Interface) {
			slices.Sort(i.Tagged)
			i.Tagged = slices.Compact(i.Tagged)
			i.Kind = cmp.Or(i.Kind, VLAN)
			if i.Kind != Uplink {
				i.Uplink = nil
			}
		},
	})
}

func readVLAN(_ *Reading, t string) (int, error) {
	id, err := strconv.Atoi(t)
	if err != nil || id < 1 || id > 4094 {
		return 0, fmt.Errorf("%q is not a VLAN id; type numbers from 1 to 4094 with commas, for example 11, 24, 90", t)
	}
	return id, nil
}

func readPermit(_ *Reading, t string) (string, error) {
	if !slices.Contains(Permissions, t) {
		return "", fmt.Errorf("%q cannot be permitted; choose among %s", t, strings.Join(Permissions, ", "))
	}
	return t, nil
}

func readAddress(_ *Reading, t string) (netip.Addr, error) {
	return address.ParseAddr(t, netip.Prefix{})
}

// siblings lists the interfaces of the same device, of some kinds, by name.
func siblings(r *Reading, kinds ...string) []Choice {
	out := []Choice{}
	if d, ok := r.Site.Device(r.In.ID); ok {
		for _, i := range d.Interfaces {
			if slices.Contains(kinds, i.Kind) && i.ID != r.ID {
				out = append(out, Choice{i.Name, i.Name})
			}
		}
	}
	return out
}

// carriedBy is the interface that carries a VLAN interface, by name.
func carriedBy(at func(*Interface) *string) *Field {
	f := words("parent", "Carried by", at).said("carried by").when("kind", VLAN)
	f.Input, f.Of, f.Named, f.Mono = InputChoice, KindInterface, true, true
	f.Pick = func(r *Reading) []Choice {
		none := "Nothing yet"
		if d, ok := r.Site.Device(r.In.ID); ok && d.IsSwitch() {
			none = "Every port of the VLAN"
		}
		return append([]Choice{{"", none}}, siblings(r, Port, PortGroup)...)
	}
	f.to = func(part any) []string { return nonempty(*at(part.(*Interface))) }
	f.move = func(part any, to []string) { *at(part.(*Interface)) = strings.Join(to, "") }
	return f
}

// memberPorts are the ports of a port group, by name.
func memberPorts() *Field {
	f := list("members", "Ports", func(i *Interface) *[]string { return &i.Members }, items,
		func(r *Reading, t string) (string, error) {
			d, ok := r.Site.Device(r.In.ID)
			if !ok {
				return "", fmt.Errorf("%q is not a port", t)
			}
			if port, ok := d.Interface(t); !ok || port.Kind != Port {
				return "", fmt.Errorf("%q is not a port of %s; type the names of its ports", t, d.Name)
			}
			return t, nil
		}, strings.TrimSpace).said("ports").when("kind", PortGroup)
	f.Input, f.Of, f.Named = InputSet, KindInterface, true
	f.Pick = func(r *Reading) []Choice { return siblings(r, Port) }
	f.to = func(part any) []string { return part.(*Interface).Members }
	f.move = func(part any, to []string) { part.(*Interface).Members = to }
	return f
}

// cableTo is the interface at the other end of the cable.
func cableTo() *Field {
	f := pointer("peer", "Cable to", KindInterface, func(i *Interface) *string { return &i.Peer }, "Nothing recorded").
		said("cable to").when("kind", Port)
	f.Pick = func(r *Reading) []Choice {
		out := []Choice{{"", "Nothing recorded"}}
		for _, d := range r.Site.Devices {
			for _, i := range d.Interfaces {
				if i.Kind == Port && i.ID != r.ID && d.ID != r.In.ID {
					out = append(out, Choice{i.ID, i.Name + " of " + d.Name})
				}
			}
		}
		return out
	}
	return f.shown(func(s *Site, part any) []string {
		d, i, ok := s.Interface(part.(*Interface).Peer)
		if !ok {
			return nil
		}
		return []string{i.Name + " of " + d.Name}
	})
}

// uplinkFields are what only an uplink has. An interface of another kind has none of
// it, whatever is typed.
func uplinkFields() []*Field {
	method := uplinkWords("method", "Address assignment", func(u *UplinkFacts) *string { return &u.Method },
		func(t string) error {
			if t != ByDHCP && t != ByFixed && t != ByPPPoE {
				return fmt.Errorf("%q is not a way to get an address; choose %s, %s or %s", t, ByDHCP, ByFixed, ByPPPoE)
			}
			return nil
		}).said("address assignment").when("kind", Uplink)
	method.Input, method.Choices, method.Mono = InputChoice,
		[]Choice{{ByDHCP, "DHCP"}, {ByFixed, "Fixed"}, {ByPPPoE, "PPPoE"}}, false
	method.text = func(part any) string { return part.(*Interface).method() }
	addresses := prefixes("addresses", "Addresses", func(i *Interface) *[]netip.Prefix { return &i.Addresses }, nil).
		hint("With prefix lengths, separated by commas")
	addresses.When = []When{{"method", []string{ByFixed, ""}}}
	secret := uplinkWords("secret", "Password", func(u *UplinkFacts) *string { return &u.Secret },
		checkKept).when("method", ByPPPoE)
	keptSecret(secret).said("password")
	translates := pointers("translates", "Translates (NAT)", KindNetwork, func(i *Interface) []string {
		if i.Uplink == nil {
			return nil
		}
		return i.Uplink.Translates
	}, func(i *Interface, to []string) { i.facts().Translates = to }).
		hint("Networks that reach the internet through it").when("kind", Uplink)
	return []*Field{
		addresses, method,
		typed("uplinkGateway", "Gateway", func(r *Reading, i *Interface, t string) error {
			a := netip.Addr{}
			if t != "" {
				var err error
				if a, err = address.ParseAddr(t, netip.Prefix{}); err != nil {
					return err
				}
			}
			i.facts().Gateway = a
			return nil
		}, func(i *Interface) string {
			if i.Uplink == nil {
				return ""
			}
			return addressText(i.Uplink.Gateway)
		}).mono().key("gateway").when("method", ByFixed),
		uplinkWords("account", "Account", func(u *UplinkFacts) *string { return &u.Account }, nil).
			when("method", ByPPPoE),
		secret,
		typed("mtu", "MTU", func(_ *Reading, i *Interface, t string) error {
			n := 0
			if t != "" {
				var err error
				if n, err = strconv.Atoi(t); err != nil || n < 576 || n > 9000 {
					return fmt.Errorf("%q is not an MTU; type a number from 576 to 9000, for example 1492", t)
				}
			}
			i.facts().MTU = n
			return nil
		}, func(i *Interface) string {
			if i.Uplink == nil {
				return ""
			}
			return numberText(i.Uplink.MTU)
		}).mono().said("MTU").hint("Empty for 1500, or 1492 with PPPoE").when("kind", Uplink),
		translates,
	}
}

// learntFields are what an uplink learns from the provider, by DHCP (RFC 2132) or PPPoE (RFC 1877).
func learntFields() []*Field {
	passes := onOff("passesOn", "Learnt from the provider", func(i *Interface) *bool { return &i.facts().PassesOn },
		"Kept to the device").choices("Given to clients, where nothing is set").said("learnt from the provider")
	passes.text = func(part any) string {
		u := part.(*Interface).Uplink
		return strconv.FormatBool(u != nil && u.PassesOn)
	}
	passes.show = func(_ *Site, part any) []string {
		if u := part.(*Interface).Uplink; u != nil && u.PassesOn {
			return []string{"given to clients, where nothing is set"}
		}
		return nil
	}
	list := []*Field{
		passes,
		typed("learntServers", "Name servers it learns", func(_ *Reading, i *Interface, t string) error {
			var out []netip.Addr
			for _, word := range byComma(t) {
				a, err := address.ParseAddr(word, netip.Prefix{})
				if err != nil {
					return err
				}
				out = append(out, a)
			}
			i.facts().LearntServers = out
			return nil
		}, func(i *Interface) string {
			if i.Uplink == nil {
				return ""
			}
			return joined(i.Uplink.LearntServers)
		}).mono().said("learns the name servers").hint("As the provider tells them, separated by commas"),
		uplinkWords("learntDomain", "Domain it learns", func(u *UplinkFacts) *string { return &u.LearntDomain },
			func(t string) error {
				if t == "" {
					return nil
				}
				return zone.CheckName(zone.Tidy(t))
			}).said("learns the domain").hint("As the provider tells it"),
	}
	for _, f := range list {
		f.When = []When{{"method", []string{ByDHCP, ByPPPoE}}}
	}
	return list
}

// uplinkWords is text among the facts of an uplink, which must pass.
func uplinkWords(name, label string, at func(*UplinkFacts) *string, pass func(string) error) *Field {
	return typed(name, label, func(_ *Reading, i *Interface, t string) error {
		if pass != nil {
			if err := pass(t); err != nil {
				return err
			}
		}
		if len(t) > maxWords {
			return fmt.Errorf("has %d octets; use at most %d", len(t), maxWords)
		}
		*at(i.facts()) = t
		return nil
	}, func(i *Interface) string {
		if i.Uplink == nil {
			return ""
		}
		return *at(i.Uplink)
	}).mono()
}

// method is how an uplink gets its address. One of which nothing is known has an
// address already, or asks for one.
func (i *Interface) method() string {
	switch {
	case i.Uplink != nil:
		return i.Uplink.Method
	case len(i.Addresses) > 0:
		return ByFixed
	default:
		return ByDHCP
	}
}

// facts is the uplink's own copy of its facts, to be written to.
func (i *Interface) facts() *UplinkFacts {
	facts := UplinkFacts{Method: i.method()}
	if i.Uplink != nil {
		facts = *i.Uplink
	}
	i.Uplink = &facts
	return i.Uplink
}

// optionKinds are the kinds of clients and the site's own options.
func optionKinds() []*Kind {
	var types []string
	for _, t := range option.Choosable {
		types = append(types, t.String())
	}
	subs := typed("subOptions", "Sub-options", func(_ *Reading, c *VendorClass, t string) error {
		read, err := readSubOptions(t)
		if err == nil {
			c.SubOptions = read
		}
		return err
	}, subOptionsText).mono().said("sub-options").
		hint("One a line: code | name | type | value. Types: " + strings.Join(types, ", "))
	subs.Input = InputLines
	subs.show = func(_ *Site, part any) []string {
		var out []string
		for _, o := range part.(*VendorClass).SubOptions {
			out = append(out, fmt.Sprintf("%d %s: %s", o.Code, o.Name, o.Value))
		}
		return out
	}
	return []*Kind{
		define(Kind{Name: KindVendorClass, Noun: "vendor class", Adds: "Add a vendor class", Begins: "class",
			Fields: []*Field{
				words("name", "Name", func(c *VendorClass) *string { return &c.Name }).
					must("a vendor class needs a name; type for example Handsets"),
				typed("match", "Option 60 begins", func(_ *Reading, c *VendorClass, t string) error {
					if _, err := option.Text.Parse(t, "wardphone"); err != nil {
						return err
					}
					c.Match = t
					return nil
				}, func(c *VendorClass) string { return c.Match }).mono().said("option 60 begins").
					hint("What these clients say they are").
					must("type how option 60 of these clients begins, for example wardphone"),
				number("enterprise", "Enterprise number", func(c *VendorClass) *int { return &c.Enterprise },
					1, 1<<31-1,
					"an enterprise number; type the maker's number from IANA's list, for example 32473, or nothing").
					hint("The maker’s, to send option 125 too; may be empty"),
				subs,
			}}, about[VendorClass]{
			at:      top(func(s *Site) *[]VendorClass { return &s.VendorClasses }),
			id:      func(c *VendorClass) *string { return &c.ID },
			called:  func(c *VendorClass) string { return c.Name },
			options: func(c *VendorClass) *[]Option { return &c.Options },
			order: func(a, b *VendorClass) int {
				return cmp.Or(cmp.Compare(a.Name, b.Name),
					cmp.Compare(a.ID, b.ID))
			},
			tidy: func(c *VendorClass) {
				c.SubOptions = sorted(c.SubOptions, func(a, b SubOption) int { return cmp.Compare(a.Code, b.Code) })
			},
		}),
		define(Kind{Name: KindDefinition, Noun: "own option", Adds: "Define an option", Begins: "definition",
			Fields: []*Field{
				typed("code", "Code", readOwnCode, func(d *OptionDefinition) string { return numberText(int(d.Code)) }).
					mono().hint("224 to 254").must("a private code is missing; type a number from 224 to 254"),
				words("name", "Name", func(d *OptionDefinition) *string { return &d.Name }).
					must("an option needs a name; type for example Badge reader server"),
				chosen("type", "Type", func(d *OptionDefinition) *string { return &d.Type }, "a type",
					plainly(types...)...).must("choose a type"),
				words("meaning", "Meaning", func(d *OptionDefinition) *string { return &d.Meaning }).
					hint("One line for people"),
			}}, about[OptionDefinition]{
			at:     top(func(s *Site) *[]OptionDefinition { return &s.OptionDefinitions }),
			id:     func(d *OptionDefinition) *string { return &d.ID },
			called: func(d *OptionDefinition) string { return d.Name },
			order: func(a, b *OptionDefinition) int {
				return cmp.Or(cmp.Compare(a.Code, b.Code),
					cmp.Compare(a.ID, b.ID))
			},
			fresh: func(_ *Site, _ *Network, d *OptionDefinition) { d.Type = types[0] },
		}),
	}
}

func readOwnCode(r *Reading, d *OptionDefinition, t string) error {
	n, err := strconv.ParseUint(t, 10, 8)
	if err != nil || uint8(n) < option.FirstPrivate || uint8(n) > option.LastPrivate {
		return fmt.Errorf("%q is not a private code; type a number from %d to %d", t, option.FirstPrivate,
			option.LastPrivate)
	}
	if slices.ContainsFunc(r.Site.OptionDefinitions,
		func(o OptionDefinition) bool { return o.Code == uint8(n) && o.ID != d.ID }) {
		return fmt.Errorf("%d is defined already; choose another code, or change that one", n)
	}
	d.Code = uint8(n)
	return nil
}

func subOptionsText(c *VendorClass) string {
	var out []string
	for _, o := range c.SubOptions {
		out = append(out, fmt.Sprintf("%d | %s | %s | %s", o.Code, o.Name, o.Type, o.Value))
	}
	return strings.Join(out, "\n")
}

// readSubOptions reads one sub-option a line: code, name, type and value
// between vertical bars.
func readSubOptions(t string) ([]SubOption, error) {
	var out []SubOption
	for line := range strings.Lines(t) {
		if strings.TrimSpace(line) == "" {
			continue
		}
		o, err := readSubOption(line)
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(out, func(s SubOption) bool { return s.Code == o.Code }) {
			return nil, fmt.Errorf("sub-option %d is there twice; keep one", o.Code)
		}
		out = append(out, o)
	}
	return out, nil
}

func readSubOption(line string) (SubOption, error) {
	words := strings.SplitN(line, "|", 4)
	if len(words) != 4 {
		return SubOption{},
			fmt.Errorf("%q is not a sub-option; type code, name, type and value with | between, for example 1 | "+
				"Call server | address | 10.84.16.130", strings.TrimSpace(line))
	}
	for i := range words {
		words[i] = strings.TrimSpace(words[i])
	}
	code, err := strconv.ParseUint(words[0], 10, 8)
	if err != nil || code < 1 || code > 254 {
		return SubOption{}, fmt.Errorf("%q is not a sub-option code; type a number from 1 to 254", words[0])
	}
	kind, ok := option.TypeNamed(words[2])
	if !ok {
		return SubOption{}, fmt.Errorf("%q is not a type; choose one of the list", words[2])
	}
	wire, err := kind.Parse(words[3], "10.84.16.130")
	if err != nil {
		return SubOption{}, fmt.Errorf("sub-option %d: %w", code, err)
	}
	value, _ := kind.Format(wire)
	return SubOption{Code: uint8(code), Name: words[1], Type: words[2], Value: value}, nil
}

// checkKept says what is wrong with the name of a kept password.
func checkKept(t string) error {
	if !ValidID(t) {
		return fmt.Errorf("is not the name of a kept password; leave it empty to keep the one there is")
	}
	return nil
}

// keptSecret makes a field one whose value is typed and never shown; empty keeps the one there is.
func keptSecret(f *Field) *Field {
	f.Input = InputSecret
	f.hint("Kept encrypted and never shown; empty keeps the one there is")
	f.text, f.show = nil, func(*Site, any) []string { return nil }
	keep := f.read
	f.read = func(r *Reading, part any, t string) error {
		if t == "" {
			return nil
		}
		return keep(r, part, t)
	}
	return f
}
