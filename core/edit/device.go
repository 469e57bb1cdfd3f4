package edit

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"lithos/core/address"
	"lithos/core/option"
	"lithos/core/site"
)

func (r *reader) fillDevice(d *site.Device) {
	r.hostname("name", &d.Name, true)
	r.choice("kind", &d.Kind, "a kind of device", site.Router, site.Firewall, site.L3Switch, site.L2Switch, site.Server)
}

// choice reads one of several values.
func (r *reader) choice(field string, to *string, what string, allowed ...string) {
	r.text(field, func(t string) error {
		if !slices.Contains(allowed, t) {
			return fmt.Errorf("%q is not %s; choose %s or %s", t, what, strings.Join(allowed[:len(allowed)-1], ", "), allowed[len(allowed)-1])
		}
		*to = t
		return nil
	})
}

// followRename lists the edits that keep the other interfaces of a device
// pointing at one that takes another name: what it carries, and its group.
func (r *reader) followRename(e Edit) []Edit {
	i := slices.IndexFunc(e.Fields, func(f Field) bool { return f.Name == "name" })
	d, ok := r.site.Device(r.in.ID)
	if e.Part.Kind != site.KindInterface || e.Op != Change || i < 0 || !ok {
		return nil
	}
	var from, to string
	if json.Unmarshal(e.Fields[i].From, &from) != nil || json.Unmarshal(e.Fields[i].To, &to) != nil {
		return nil
	}
	var out []Edit
	for _, other := range d.Interfaces {
		now := other
		if now.Parent == from {
			now.Parent = to
		}
		if at := slices.Index(now.Members, from); at >= 0 {
			now.Members = slices.Clone(now.Members)
			now.Members[at] = to
		}
		if one, differs := Changing(site.KindInterface, other.ID, e.In, other, now); differs && other.ID != e.Part.ID {
			out = append(out, one)
		}
	}
	return out
}

// items splits a list typed with commas, spaces or lines.
func items(t string) []string {
	return strings.FieldsFunc(t, func(c rune) bool { return c == ',' || c == ';' || c == '\n' || c == ' ' || c == '\t' })
}

func (r *reader) fillInterface(i *site.Interface) {
	if r.entry.New {
		i.Kind = site.VLAN
	}
	r.words("name", &i.Name, "an interface needs a name; type the device's own, for example lan.52")
	r.choice("kind", &i.Kind, "a kind of interface", site.Port, site.PortGroup, site.VLAN, site.Uplink, site.Loopback)
	r.words("parent", &i.Parent, "")
	r.vlan("vlan", &i.VLAN)
	r.prefixes("addresses", &i.Addresses, func(netip.Prefix) error { return nil })
	r.text("members", func(t string) error {
		i.Members = nil
		d, _ := r.site.Device(r.in.ID)
		for _, name := range items(t) {
			if port, ok := d.Interface(name); !ok || port.Kind != site.Port {
				return fmt.Errorf("%q is not a port of %s; type the names of its ports", name, d.Name)
			}
			i.Members = append(i.Members, name)
		}
		return nil
	})
	r.vlan("untaggedVLAN", &i.Untagged)
	r.text("taggedVLANs", func(t string) error {
		i.Tagged = nil
		for _, item := range items(t) {
			id, err := strconv.Atoi(item)
			if err != nil || id < 1 || id > 4094 {
				return fmt.Errorf("%q is not a VLAN id; type numbers from 1 to 4094 with commas, for example 11, 24, 90", item)
			}
			if !slices.Contains(i.Tagged, id) {
				i.Tagged = append(i.Tagged, id)
			}
		}
		slices.Sort(i.Tagged)
		return nil
	})
	r.text("peer", func(t string) error {
		if t != "" {
			if _, _, ok := r.site.Interface(t); !ok || t == r.entry.ID {
				return fmt.Errorf("%q is not another interface of this site; choose one of the list", t)
			}
		}
		i.Peer = t
		return nil
	})
	r.text("permits", func(t string) error {
		i.Permits = nil
		for _, what := range items(t) {
			if !slices.Contains(site.Permissions, what) {
				return fmt.Errorf("%q cannot be permitted; choose among %s", what, strings.Join(site.Permissions, ", "))
			}
			i.Permits = append(i.Permits, what)
		}
		return nil
	})
	r.text("relayTo", func(t string) error {
		i.RelayTo = nil
		for _, item := range items(t) {
			a, err := address.ParseAddr(item, netip.Prefix{})
			if err != nil {
				return err
			}
			i.RelayTo = append(i.RelayTo, a)
		}
		return nil
	})
	r.fillUplink(i)
}

// fillUplink reads what only an uplink has. An interface of another kind has
// none of it, whatever is typed.
func (r *reader) fillUplink(i *site.Interface) {
	facts := site.UplinkFacts{Method: site.ByDHCP}
	if i.Uplink != nil {
		facts = *i.Uplink
	} else if len(i.Addresses) > 0 {
		facts.Method = site.ByFixed
	}
	said := i.Uplink != nil
	for _, f := range []string{"method", "uplinkGateway", "account", "secret", "mtu", "translates"} {
		_, given := r.entry.Fields[f]
		said = said || given
	}
	r.choice("method", &facts.Method, "a way to get an address", site.ByDHCP, site.ByFixed, site.ByPPPoE)
	r.address("uplinkGateway", &facts.Gateway, netip.Prefix{}, false)
	r.words("account", &facts.Account, "")
	r.text("secret", func(t string) error {
		if t != "" && !site.ValidID(t) {
			return fmt.Errorf("is not the name of a kept password; leave it empty to keep the one there is")
		}
		if t != "" {
			facts.Secret = t
		}
		return nil
	})
	r.text("mtu", func(t string) error {
		facts.MTU = 0
		if t == "" {
			return nil
		}
		n, err := strconv.Atoi(t)
		if err != nil || n < 576 || n > 9000 {
			return fmt.Errorf("%q is not an MTU; type a number from 576 to 9000, for example 1492", t)
		}
		facts.MTU = n
		return nil
	})
	r.text("translates", func(t string) error {
		facts.Translates = nil
		for _, id := range items(t) {
			if _, ok := r.site.Network(id); !ok {
				return fmt.Errorf("%q is not a network of this site; choose among the list", id)
			}
			facts.Translates = append(facts.Translates, id)
		}
		return nil
	})
	switch {
	case i.Kind != site.Uplink:
		i.Uplink = nil
	case said:
		i.Uplink = &facts
	}
}

func (r *reader) fillClass(c *site.VendorClass) {
	r.words("name", &c.Name, "a vendor class needs a name; type for example Handsets")
	r.text("match", func(t string) error {
		if _, err := option.Text.Parse(t, "wardphone"); err != nil {
			return err
		}
		c.Match = t
		return nil
	})
	r.text("enterprise", func(t string) error {
		c.Enterprise = 0
		if t == "" {
			return nil
		}
		n, err := strconv.ParseUint(t, 10, 31)
		if err != nil || n == 0 {
			return fmt.Errorf("%q is not an enterprise number; type the maker's number from IANA's list, for example 32473, or nothing", t)
		}
		c.Enterprise = int(n)
		return nil
	})
	r.lines("subOptions", func(t string) error {
		subs, err := readSubOptions(t)
		if err == nil {
			c.SubOptions = subs
		}
		return err
	})
}

// readSubOptions reads one sub-option a line: code, name, type and value
// between vertical bars.
func readSubOptions(t string) ([]site.SubOption, error) {
	var out []site.SubOption
	for line := range strings.Lines(t) {
		if strings.TrimSpace(line) == "" {
			continue
		}
		words := strings.SplitN(line, "|", 4)
		if len(words) != 4 {
			return nil, fmt.Errorf("%q is not a sub-option; type code, name, type and value with | between, for example 1 | Call server | address | 10.84.16.130", strings.TrimSpace(line))
		}
		for i := range words {
			words[i] = strings.TrimSpace(words[i])
		}
		code, err := strconv.ParseUint(words[0], 10, 8)
		if err != nil || code < 1 || code > 254 {
			return nil, fmt.Errorf("%q is not a sub-option code; type a number from 1 to 254", words[0])
		}
		kind, ok := option.TypeNamed(words[2])
		if !ok {
			return nil, fmt.Errorf("%q is not a type; choose one of the list", words[2])
		}
		wire, err := kind.Parse(words[3], "10.84.16.130")
		if err != nil {
			return nil, fmt.Errorf("sub-option %d: %w", code, err)
		}
		value, _ := kind.Format(wire)
		if slices.ContainsFunc(out, func(s site.SubOption) bool { return s.Code == uint8(code) }) {
			return nil, fmt.Errorf("sub-option %d is there twice; keep one", code)
		}
		out = append(out, site.SubOption{Code: uint8(code), Name: words[1], Type: words[2], Value: value})
	}
	return out, nil
}

func (r *reader) fillDefinition(d *site.OptionDefinition) {
	r.text("code", func(t string) error {
		n, err := strconv.ParseUint(t, 10, 8)
		if err != nil || uint8(n) < option.FirstPrivate || uint8(n) > option.LastPrivate {
			return fmt.Errorf("%q is not a private code; type a number from %d to %d", t, option.FirstPrivate, option.LastPrivate)
		}
		if slices.ContainsFunc(r.site.OptionDefinitions, func(o site.OptionDefinition) bool { return o.Code == uint8(n) && o.ID != d.ID }) {
			return fmt.Errorf("%d is defined already; choose another code, or change that one", n)
		}
		d.Code = uint8(n)
		return nil
	})
	r.words("name", &d.Name, "an option needs a name; type for example Badge reader server")
	var names []string
	for _, t := range option.Choosable {
		names = append(names, t.String())
	}
	r.choice("type", &d.Type, "a type", names...)
	r.words("meaning", &d.Meaning, "")
}

func (r *reader) fillKnown(k *site.KnownClient) {
	r.mac("mac", &k.MAC, true)
	r.hostname("name", &k.Name, false)
	r.words("ignored", &k.Ignored, "")
}
