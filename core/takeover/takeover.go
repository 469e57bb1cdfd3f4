// Package takeover reads what devices hold into a site document: the way back of package compile.
package takeover

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/compile"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/yang"
)

// Device is what a device of the site holds.
type Device struct {
	Device string // id
	Config yang.Config
	Links  []yang.LinkNeighbor // what its ports hear of the other ends of their cables
	Own    yang.LinkSystem     // what it tells them of itself
}

// Left is something that a device holds and that was not read into the site.
type Left struct {
	Device string `json:"device"` // name
	What   string `json:"what"`
	Why    string `json:"why"`
}

// Site is the site with what its devices hold and it does not have yet: interfaces by their names, networks by
// their prefixes, pools, reservations and vendor classes by their ids, relays, and the resolvers with their zones.
// What it has stays as it is. The site is in normal form and not changed.
func Site(base *site.Site, held []Device) (*site.Site, []Left) {
	copied := *base
	r := &reader{Site: &copied, devices: held, left: []Left{}}
	for _, h := range held {
		r.interfaces(h)
	}
	for _, h := range held {
		r.cables(h)
	}
	for _, h := range held {
		r.networks(h)
	}
	for _, h := range held {
		r.classes(h)
	}
	r.options(held)
	for _, h := range held {
		r.pools(h)
	}
	for _, h := range held {
		r.reservations(h)
		r.uplinks(h)
	}
	for _, h := range held {
		r.resolver(h)
		for _, n := range h.Config.Outside.Name {
			if _, had := r.Follower(n.ID); !had {
				r.leave(h.Device, "the outside name "+n.Name,
					"its key is on the device alone; it stays there until you let it follow here with a key")
			}
		}
	}
	return site.Normal(r.Site), r.left
}

type reader struct {
	*site.Site
	devices []Device
	left    []Left
}

func (r *reader) leave(device, what, why string, args ...any) {
	name := device
	if d, ok := r.Device(device); ok {
		name = d.Name
	}
	r.left = append(r.left, Left{name, what, fmt.Sprintf(why, args...)})
}

// idOf is an id made of words, as ids are written.
func idOf(words ...string) string {
	text := strings.ToLower(strings.Join(words, "-"))
	text = strings.Trim(strings.Map(func(c rune) rune {
		if c >= 'a' && c <= 'z' || c >= '0' && c <= '9' {
			return c
		}
		return '-'
	}, text), "-")
	return text[:min(len(text), 60)]
}

// interfaces reads the interfaces that a device has and the site does not know of it.
func (r *reader) interfaces(h Device) {
	r.Devices = slices.Clone(r.Devices)
	at := slices.IndexFunc(r.Devices, func(d site.Device) bool { return d.ID == h.Device })
	if at < 0 {
		return
	}
	d := &r.Devices[at]
	d.Interfaces = slices.Clone(d.Interfaces)
	for _, i := range h.Config.Interfaces.Interface {
		if slices.ContainsFunc(d.Interfaces, func(o site.Interface) bool { return o.Name == i.Name }) {
			continue
		}
		d.Interfaces = append(d.Interfaces, r.interfaceOf(h, i))
	}
}

// interfaceOf is an interface as a device has it. What it translates is read when the networks are known.
func (r *reader) interfaceOf(h Device, i yang.Interface) site.Interface {
	now := site.Interface{ID: idOf("if", strings.TrimPrefix(h.Device, "device-"), i.Name), Name: i.Name,
		Kind:    kindOf(i),
		Members: i.Member, Permits: i.Permit}
	if i.VLAN != nil {
		now.Parent, now.VLAN = i.VLAN.Parent, i.VLAN.ID
	}
	if i.Switchport != nil {
		now.Untagged, now.Tagged = i.Switchport.Untagged, i.Switchport.Tagged
	}
	if i.IPv4 != nil {
		for _, a := range i.IPv4.Address {
			now.Addresses = append(now.Addresses, a.Prefix())
		}
	}
	for _, relay := range h.Config.Relays.Relay {
		if relay.Interface == i.Name {
			now.RelayTo = relay.Server
		}
	}
	if u := i.Uplink; u != nil {
		facts := site.UplinkFacts{Method: u.Method, Gateway: u.Gateway, Account: u.Account, Secret: u.PasswordName}
		if facts.Largest() != u.MTU {
			facts.MTU = u.MTU
		}
		if u.PasswordName != "" {
			r.leave(h.Device, "the password of "+i.Name,
				"a device never tells one; type it on the interface, or nothing is pushed there")
		}
		now.Uplink = &facts
	}
	if !i.Enabled {
		r.leave(h.Device, i.Name, "it is switched off there, and a push switches it on")
	}
	return now
}

// cables reads which ports are joined, as far as the devices hear each other. What is at the other end and no device of
// the site is listed.
func (r *reader) cables(h Device) {
	for _, l := range h.Links {
		own, near := r.port(func(d site.Device) bool { return d.ID == h.Device }, l.Interface)
		_, far := r.port(func(d site.Device) bool { return r.calledHere(d, l.SystemName) }, l.PortID)
		switch {
		case near == nil:
		case far == nil:
			r.leave(h.Device, "the cable of "+near.Name,
				"at its other end is %s of %s, which this site does not have", l.PortID, l.SystemName)
		case near.Peer == "" && far.Peer == "" && own != "" && near.ID != far.ID:
			near.Peer = far.ID
		}
	}
}

// calledHere reports whether a device has a name: the one it has here, or the one it gives itself.
func (r *reader) calledHere(d site.Device, name string) bool {
	return strings.EqualFold(d.Name, name) || slices.ContainsFunc(r.devices, func(h Device) bool {
		return h.Device == d.ID && h.Own.SystemName != "" && strings.EqualFold(h.Own.SystemName, name)
	})
}

// port is a port of a device by their names, to be written to.
func (r *reader) port(of func(site.Device) bool, name string) (device string, i *site.Interface) {
	for k := range r.Devices {
		d := &r.Devices[k]
		if !of(*d) {
			continue
		}
		for n := range d.Interfaces {
			if d.Interfaces[n].Name == name {
				return d.ID, &d.Interfaces[n]
			}
		}
	}
	return "", nil
}

func kindOf(i yang.Interface) string {
	switch {
	case i.Uplink != nil:
		return site.Uplink
	case i.VLAN != nil:
		return site.VLAN
	case i.Type == yang.TypeBridge:
		return site.PortGroup
	case i.Type == yang.TypeLoopback:
		return site.Loopback
	case i.Type == yang.TypeTunnel:
		return site.Tunnel
	}
	return site.Port
}

// networkOf is the network of a prefix.
func (r *reader) networkOf(p netip.Prefix) (*site.Network, bool) {
	i := slices.IndexFunc(r.Networks, func(n site.Network) bool { return n.Prefix.Masked() == p.Masked() })
	if i < 0 {
		return nil, false
	}
	return &r.Networks[i], true
}

// networks reads the subnets of interfaces and pools that the site does not have.
func (r *reader) networks(h Device) {
	r.Networks = slices.Clone(r.Networks)
	add := func(p netip.Prefix, name string, vlan int, gateway netip.Addr) {
		if _, had := r.networkOf(p); had || !p.Addr().Is4() || p.Bits() > 30 {
			return
		}
		r.Networks = append(r.Networks, site.Network{ID: idOf("net", p.Masked().String()), Name: name,
			Prefix: p.Masked(), VLAN: vlan, Gateway: gateway})
	}
	for _, p := range h.Config.DHCP.Pool {
		vlan, routed := 0, netip.Addr{}
		for _, i := range h.Config.Interfaces.Interface {
			if i.Name != p.Interface {
				continue
			}
			vlan = vlanOf(i)
			if i.IPv4 != nil && len(i.IPv4.Address) > 0 {
				routed = i.IPv4.Address[0].IP
			}
		}
		gateway := gatewayOf(p)
		if !gateway.IsValid() && len(p.Option) == 0 {
			gateway = routed
		}
		add(p.Subnet, p.Name, vlan, gateway)
	}
	for _, i := range h.Config.Interfaces.Interface {
		if i.IPv4 == nil || i.Uplink != nil || i.Type == yang.TypeLoopback {
			continue
		}
		for _, a := range i.IPv4.Address {
			add(a.Prefix(), cmp.Or(i.Name, a.Prefix().String()), vlanOf(i), netip.Addr{})
		}
	}
}

func vlanOf(i yang.Interface) int {
	switch {
	case i.VLAN != nil:
		return i.VLAN.ID
	case i.Switchport != nil:
		return i.Switchport.Untagged
	}
	return 0
}

// gatewayOf is the router that a pool's clients are told, where it is one in their subnet.
func gatewayOf(p yang.Pool) netip.Addr {
	for _, o := range p.Option {
		if o.Code == option.Router && len(o.Value) == 4 {
			if a, ok := netip.AddrFromSlice(o.Value); ok && p.Subnet.Contains(a) {
				return a
			}
		}
	}
	return netip.Addr{}
}

func (r *reader) classes(h Device) {
	for _, k := range h.Config.DHCP.Class {
		if slices.ContainsFunc(r.VendorClasses, func(o site.VendorClass) bool {
			return o.ID == k.ID ||
				o.Match == k.Match
		}) {
			continue
		}
		r.VendorClasses = append(slices.Clone(r.VendorClasses), site.VendorClass{ID: k.ID, Name: cmp.Or(k.Name,
			k.Match),
			Match: k.Match, Options: r.decoded(h.Device, "class "+k.Name, k.Option)})
	}
}

// decoded are options in their text form.
func (r *reader) decoded(device, of string, list []yang.Option) []site.Option {
	var out []site.Option
	for _, o := range list {
		if one, ok := r.decode(device, of, o); ok {
			out = append(out, one)
		}
	}
	return out
}

func (r *reader) decode(device, of string, o yang.Option) (site.Option, bool) {
	text := r.Own().Format(o.Code, o.Value)
	wire, err := r.Own().Parse(o.Code, text)
	if err != nil || !slices.Equal(wire, o.Value) {
		r.leave(device, fmt.Sprintf("option %d of %s", o.Code, of), "it has no value that can be written: %x", o.Value)
		return site.Option{}, false
	}
	return site.Option{Code: o.Code, Value: text}, true
}

// options reads what all pools give alike, into the level of the site.
func (r *reader) options(held []Device) {
	pools, values := 0, map[uint8]map[string]int{}
	far := map[uint8]string{} // what comes from a level above networks: it is not sent unasked
	for _, h := range held {
		for _, p := range h.Config.DHCP.Pool {
			pools++
			for _, o := range p.Option {
				if values[o.Code] == nil {
					values[o.Code] = map[string]int{}
				}
				values[o.Code][string(o.Value)]++
				if !o.Always {
					far[o.Code] = string(o.Value)
				}
			}
		}
	}
	told := compile.Common(r.Site).Effective(compile.For{})
	for _, code := range slices.Sorted(maps.Keys(values)) {
		total := 0
		for _, n := range values[code] {
			total += n
		}
		wire, above := far[code]
		if !above || total != pools {
			continue
		}
		text := r.Own().Format(code, []byte(wire))
		if code == option.DomainName && r.Domain == "" {
			r.Domain = text
			continue
		}
		if t, has := compile.Value(told, code); has && t.Value == text {
			continue
		}
		if o, ok := r.decode("", "the site", yang.Option{Code: code, Value: []byte(wire)}); ok && !has(r.Options,
			code) {
			r.Options = append(slices.Clone(r.Options), o)
		}
	}
}

func has(list []site.Option, code uint8) bool {
	return slices.ContainsFunc(list, func(o site.Option) bool { return o.Code == code })
}

// pools reads the pools that the site does not have.
func (r *reader) pools(h Device) {
	r.Pools = slices.Clone(r.Pools)
	for _, p := range h.Config.DHCP.Pool {
		n, ok := r.networkOf(p.Subnet)
		if _, had := r.Pool(p.ID); had || !ok {
			continue
		}
		now := site.Pool{ID: p.ID, Name: cmp.Or(p.Name, n.Name), Network: n.ID, Server: h.Device, Enabled: p.Enabled,
			ForClass: p.ForClass}
		if len(p.ForClient) > 0 {
			now.ForClient = option.FormatIdentifier(p.ForClient)
		}
		for _, s := range p.Range {
			now.Ranges = append(now.Ranges, s.AddressRange())
		}
		for k, x := range p.Exclusion {
			now.Exclusions = append(now.Exclusions, site.Exclusion{ID: fmt.Sprintf("%s-x%d", p.ID, k+1),
				Range: x.AddressRange(), Reason: cmp.Or(x.Reason, "excluded on the device")})
		}
		effective := compile.Common(r.Site).Effective(compile.For{Network: n})
		for _, o := range p.Option {
			if o.Learnt != "" {
				r.leave(h.Device, fmt.Sprintf("option %d of pool %s", o.Code, now.Name),
					"it comes from what %s learns; say "+
						"on the uplink that it is passed on", o.Learnt)
				continue
			}
			one, ok := r.decode(h.Device, "pool "+now.Name, o)
			if t, told := compile.Value(effective, o.Code); !ok || told && t.Value == one.Value {
				continue
			}
			if !o.Always {
				r.leave(h.Device, fmt.Sprintf("option %d of pool %s", o.Code, now.Name),
					"it is sent there to who asks for it, and from a push on to everybody")
			}
			now.Options = append(now.Options, one)
		}
		for _, t := range effective {
			if !slices.ContainsFunc(p.Option, func(o yang.Option) bool { return o.Code == t.Code }) {
				r.leave(h.Device, fmt.Sprintf("option %d of pool %s", t.Code, now.Name),
					"it is not told there, and from a push on it is: %s", t.Value)
			}
		}
		r.Pools = append(r.Pools, now)
	}
}

// reservations reads the reservations that the site does not have.
func (r *reader) reservations(h Device) {
	known, at := map[string]bool{}, map[netip.Addr]bool{}
	for _, one := range r.Reservations {
		known[one.ID], at[one.Address] = true, true
	}
	list := slices.Clone(r.Reservations)
	for _, one := range h.Config.DHCP.Reservation {
		if known[one.ID] || at[one.Address] {
			continue
		}
		i := slices.IndexFunc(r.Networks, func(n site.Network) bool { return n.Prefix.Contains(one.Address) })
		if i < 0 {
			r.leave(h.Device, "the reservation of "+one.Address.String(), "no network of the site has its address")
			continue
		}
		now := &site.Reservation{ID: one.ID, Name: one.Name, Network: r.Networks[i].ID, Address: one.Address,
			MAC:     one.MAC,
			Options: r.decoded(h.Device, "the reservation of "+one.Address.String(), one.Option)}
		if len(one.Client) > 0 {
			now.Client = option.FormatIdentifier(one.Client)
		}
		list = append(list, now)
	}
	r.Reservations = list
}

// uplinks reads which networks the uplinks of a device translate, now that the networks are known.
func (r *reader) uplinks(h Device) {
	at := slices.IndexFunc(r.Devices, func(d site.Device) bool { return d.ID == h.Device })
	if at < 0 {
		return
	}
	for k := range r.Devices[at].Interfaces {
		i := &r.Devices[at].Interfaces[k]
		if i.Uplink == nil || len(i.Uplink.Translates) > 0 {
			continue
		}
		facts := *i.Uplink
		for _, held := range h.Config.Interfaces.Interface {
			if held.Name != i.Name || held.Uplink == nil {
				continue
			}
			for _, p := range held.Uplink.Translate {
				if n, ok := r.networkOf(p); ok {
					facts.Translates = append(facts.Translates, n.ID)
				} else {
					r.leave(h.Device, "translating "+p.String()+" at "+i.Name, "the site has no such network")
				}
			}
		}
		i.Uplink = &facts
	}
}
