// Package compile turns a site document into what each device must hold, and works
// out the effective options of a client, each with the level that sets it.
package compile

import (
	"cmp"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strings"
	"time"

	"lithos/core/address"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/yang"
)

// Device is the configuration the device with the given id must hold. It has
// only what the document says of it; an unknown id gives an empty one. Options
// whose text does not encode are left out: package check reports them.
func Device(s *site.Site, id string) yang.Config {
	c := Frame(s, id)
	d, ok := s.Device(id)
	if !ok {
		return c
	}
	reserved := map[string][]*site.Reservation{}
	for _, r := range s.Reservations {
		reserved[r.Network] = append(reserved[r.Network], r)
	}
	pools := byNetwork(s)
	for i := range s.Networks {
		n := &s.Networks[i]
		name, _ := subnetOn(d, n)
		part := Serving(s, d, n, name, pools[n.ID], slices.Values(reserved[n.ID]))
		c.DHCP.Pool = append(c.DHCP.Pool, part.Pool...)
		c.DHCP.Reservation = append(c.DHCP.Reservation, part.Reservation...)
	}
	if slices.ContainsFunc(s.Resolvers, func(r site.Resolver) bool { return r.Device == id }) {
		c.Resolver = Resolver(s, id, Names(s))
	}
	c.Outside = Outside(s, id)
	return c.Sorted()
}

// Frame is what a device must hold but for the pools and reservations of networks:
// its interfaces, its relays, and the vendor classes where it serves any pool.
func Frame(s *site.Site, id string) yang.Config {
	var c yang.Config
	d, ok := s.Device(id)
	if !ok {
		return c
	}
	for _, i := range d.Interfaces {
		c.Interfaces.Interface = append(c.Interfaces.Interface, iface(s, i))
		if len(i.RelayTo) > 0 {
			c.Relays.Relay = append(c.Relays.Relay, yang.Relay{Interface: i.Name, Server: i.RelayTo})
		}
	}
	serves := slices.ContainsFunc(s.Pools, func(p site.Pool) bool {
		n, ok := s.Network(p.Network)
		return ok && p.Server == id && hears(s, d, n)
	})
	own := s.Own()
	for i := range s.VendorClasses {
		if k := &s.VendorClasses[i]; serves {
			c.DHCP.Class = append(c.DHCP.Class,
				yang.Class{ID: k.ID, Name: k.Name, Match: k.Match, Option: encode(own, ClassOptions(k))})
		}
	}
	return c
}

// hears reports whether requests of a network's clients reach a device. Rules
// network-unserved and relay-missing report pools whose server does not.
func hears(s *site.Site, d *site.Device, n *site.Network) bool {
	_, here := subnetOn(d, n)
	return here || len(RelaysTo(s, n, d)) > 0
}

// subnetOn finds the device's interface whose subnet is a network's.
func subnetOn(d *site.Device, n *site.Network) (name string, ok bool) {
	for i := range d.Interfaces {
		for _, a := range d.Interfaces[i].Addresses {
			if a.Masked() == n.Prefix.Masked() {
				name, ok = d.Interfaces[i].Name, true
			}
		}
	}
	return name, ok
}

// Serving is the pools and reservations that a device must hold to serve a network. on
// is the device's interface there, empty where it has none; pools and reserved are the
// network's.
func Serving(
	s *site.Site,
	d *site.Device,
	n *site.Network,
	on string,
	pools []*site.Pool,
	reserved iter.Seq[*site.Reservation],
) yang.DHCPServer {
	var out yang.DHCPServer
	if !slices.ContainsFunc(pools, func(p *site.Pool) bool { return p.Server == d.ID }) || on == "" &&
		len(RelaysTo(s, n, d)) == 0 {
		return out
	}
	own, common := s.Own(), Common(s)
	for _, p := range pools {
		if p.Server == d.ID {
			out.Pool = append(out.Pool, pool(s, own, common.Effective(For{Network: n, Pool: p}), n, p, on))
		}
	}
	for r := range reserved {
		if p, ok := PoolAmong(pools, r); ok && p.Server == d.ID {
			out.Reservation = append(out.Reservation, yang.Reservation{
				ID: r.ID, Pool: p.ID, Name: r.Name, Address: r.Address, MAC: r.MAC, Client: identifier(r.Client),
				Option: encode(own, r.Options),
			})
		}
	}
	return out
}

func identifier(text string) []byte {
	if text == "" {
		return nil
	}
	wire, err := option.ParseIdentifier(text)
	if err != nil {
		return nil // rule mac-malformed says so
	}
	return wire
}

// RelaysTo lists the interfaces in a network that pass DHCP requests to a
// device.
func RelaysTo(s *site.Site, n *site.Network, server *site.Device) []*site.Interface {
	var out []*site.Interface
	for d := range s.Devices {
		for i := range s.Devices[d].Interfaces {
			f := &s.Devices[d].Interfaces[i]
			if !slices.ContainsFunc(
				f.Addresses,
				func(a netip.Prefix) bool { return a.Masked() == n.Prefix.Masked() },
			) {
				continue
			}
			if slices.ContainsFunc(f.RelayTo, func(to netip.Addr) bool { return holds(server, to) }) {
				out = append(out, f)
			}
		}
	}
	return out
}

func holds(d *site.Device, a netip.Addr) bool {
	return slices.ContainsFunc(d.Interfaces, func(i site.Interface) bool {
		return slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool { return p.Addr() == a })
	})
}

func iface(s *site.Site, i site.Interface) yang.Interface {
	out := yang.Interface{Name: i.Name, Type: yang.TypeEthernet, Enabled: true, Permit: i.Permits}
	switch i.Kind {
	case site.PortGroup:
		out.Type, out.Member = yang.TypeBridge, i.Members
	case site.VLAN:
		out.Type = yang.TypeVLAN
		out.VLAN = &yang.VLAN{Parent: i.Parent, ID: i.VLAN}
	case site.Loopback:
		out.Type = yang.TypeLoopback
	case site.Tunnel:
		out.Type = yang.TypeTunnel
	}
	if i.Untagged != 0 || len(i.Tagged) > 0 {
		out.Switchport = &yang.Switchport{Untagged: i.Untagged, Tagged: i.Tagged}
	}
	if u := i.Uplink; u != nil {
		out.Uplink = &yang.Uplink{Method: u.Method, Gateway: u.Gateway, Account: u.Account, PasswordName: u.Secret,
			MTU: u.Largest()}
		for _, id := range u.Translates {
			if n, ok := s.Network(id); ok {
				out.Uplink.Translate = append(out.Uplink.Translate, n.Prefix.Masked())
			}
		}
	}
	if len(i.Addresses) > 0 {
		out.IPv4 = &yang.IPv4{Enabled: true}
		for _, a := range i.Addresses {
			out.IPv4.Address = append(out.IPv4.Address, yang.Address{IP: a.Addr(), PrefixLength: a.Bits()})
		}
	}
	return out
}

func pool(s *site.Site, own option.Own, told []option.Effective, n *site.Network, p *site.Pool, on string) yang.Pool {
	out := yang.Pool{
		ID: p.ID, Name: p.Name, Enabled: p.Enabled, Interface: on, Subnet: n.Prefix.Masked(),
		ForClass: p.ForClass, ForClient: identifier(p.ForClient),
	}
	if _, ok := s.VendorClass(p.ForClass); !ok {
		out.ForClass = ""
	}
	for _, r := range p.Ranges {
		out.Range = append(out.Range, yang.Span{Start: r.From, End: r.To})
	}
	for _, x := range p.Exclusions {
		out.Exclusion = append(out.Exclusion,
			yang.Exclusion{Span: yang.Span{Start: x.Range.From, End: x.Range.To}, Reason: x.Reason})
	}
	for _, t := range told {
		if wire, err := own.Parse(t.Code, t.Value); err == nil {
			subnets := t.From.Kind == site.KindNetwork || t.From.Kind == site.KindPool
			out.Option = append(out.Option, yang.Option{Code: t.Code, Value: wire, Always: t.Always || subnets,
				Learnt: learntOn(s, p, t)})
		}
	}
	return out
}

// learntOn is the uplink of a pool's own server that an option comes from; empty for one that is set, and for one
// that another device learns.
func learntOn(s *site.Site, p *site.Pool, t option.Effective) string {
	if t.From.Kind != site.KindInterface {
		return ""
	}
	d, i, ok := s.Interface(t.From.ID)
	if !ok || d.ID != p.Server {
		return ""
	}
	return i.Name
}

// encode encodes what a class or a single client is told, asked for or not (RFC 2131 section 4.3.1).
func encode(own option.Own, options []site.Option) []yang.Option {
	var out []yang.Option
	for _, o := range options {
		if wire, err := own.Parse(o.Code, o.Value); err == nil {
			out = append(out, yang.Option{Code: o.Code, Value: wire, Always: true})
		}
	}
	return out
}

// ClassOptions is what a vendor class adds to its clients' options: its own, and its
// sub-options as option 43, and as option 125 where it has an enterprise number
// (RFC 3925 section 4).
func ClassOptions(k *site.VendorClass) []site.Option {
	out := slices.Clone(k.Options)
	wire, err := SubOptions(k)
	if err != nil || len(wire) == 0 {
		return out
	}
	out = append(out, site.Option{Code: option.VendorSpecific, Value: hex.EncodeToString(wire)})
	if k.Enterprise > 0 && len(wire)+5 <= option.MaxValue {
		info := append(binary.BigEndian.AppendUint32(nil, uint32(k.Enterprise)), byte(len(wire)))
		out = append(out, site.Option{Code: option.VendorInfo, Value: hex.EncodeToString(append(info, wire...))})
	}
	return out
}

// SubOptions encodes the sub-options of a vendor class.
func SubOptions(k *site.VendorClass) ([]byte, error) {
	var codes []uint8
	var values [][]byte
	for _, o := range k.SubOptions {
		t, ok := option.TypeNamed(o.Type)
		if !ok {
			return nil, fmt.Errorf("sub-option %d: %q is not a type", o.Code, o.Type)
		}
		value, err := t.Parse(o.Value, "10.84.16.130")
		if err != nil {
			return nil, fmt.Errorf("sub-option %d (%s): %w", o.Code, o.Name, err)
		}
		codes, values = append(codes, o.Code), append(values, value)
	}
	return option.PackSubOptions(codes, values)
}

// PoolOf is the pool whose options and server a reservation uses: the one whose
// ranges hold its address, else the first of its network.
func PoolOf(s *site.Site, r *site.Reservation) (*site.Pool, bool) {
	return PoolAmong(byNetwork(s)[r.Network], r)
}

func byNetwork(s *site.Site) map[string][]*site.Pool {
	out := map[string][]*site.Pool{}
	for i := range s.Pools {
		out[s.Pools[i].Network] = append(out[s.Pools[i].Network], &s.Pools[i])
	}
	return out
}

// PoolAmong is PoolOf where the pools of the reservation's network are at hand already.
func PoolAmong(pools []*site.Pool, r *site.Reservation) (*site.Pool, bool) {
	for _, p := range pools {
		if slices.ContainsFunc(p.Ranges, func(run address.Range) bool { return run.Contains(r.Address) }) {
			return p, true
		}
	}
	if len(pools) == 0 {
		return nil, false
	}
	return pools[0], true
}

// For is the client whose options are asked for: its network, pool, class and
// reservation. Each may be nil.
type For struct {
	Network     *site.Network
	Pool        *site.Pool
	Class       *site.VendorClass
	Reservation *site.Reservation
}

// learnt is what the uplinks of a site pass on of what they learn: the farthest level, so that whatever is
// set hides it.
func learnt(s *site.Site) []option.Set {
	var out []option.Set
	for _, d := range s.Devices {
		for _, i := range d.Interfaces {
			u := i.Uplink
			if u == nil || !u.PassesOn {
				continue
			}
			from := option.Source{Kind: site.KindInterface, ID: i.ID,
				Name: i.Name + " of " + d.Name + ", as it learns them"}
			if len(u.LearntServers) > 0 {
				servers := addressList(u.LearntServers)
				out = append(out, option.Set{Code: option.NameServers, Value: servers, Source: from})
			}
			if u.LearntDomain != "" {
				out = append(out, option.Set{Code: option.DomainName, Value: u.LearntDomain, Source: from})
			}
		}
	}
	return out
}

func addressList(list []netip.Addr) string {
	var out []string
	for _, a := range list {
		out = append(out, a.String())
	}
	return strings.Join(out, ", ")
}

// Effective lists the effective options of a client, ordered by code, each with the
// level it comes from: standard, customer, site, network, pool, vendor class or
// reservation, the nearest that sets it. The gateway is sent as option 3 and the
// site's domain as option 15 unless an option of the same level says otherwise.
func Effective(s *site.Site, c For) []option.Effective { return Common(s).Effective(c) }

// Everywhere is the options that every client of a site has, whatever its network.
// Made once, it serves for many clients.
type Everywhere []option.Effective

// Common works out what the standard, the customer and the site say.
func Common(s *site.Site) Everywhere {
	var domain []option.Set
	if s.Domain != "" {
		domain = []option.Set{{Code: option.DomainName, Value: s.Domain,
			Source: option.Source{Kind: site.KindSite, ID: s.ID, Name: s.Name}}}
	}
	return option.Resolve(
		learnt(s),
		set(site.KindStandard, s.Standard.ID, s.Standard.Name, s.Standard.Options),
		set(site.KindCustomer, s.Customer.ID, s.Customer.Name, s.Customer.Options),
		append(domain, set(site.KindSite, s.ID, s.Name, s.Options)...),
	)
}

// Effective lists the effective options of a client of that site.
func (e Everywhere) Effective(c For) []option.Effective {
	var levels [][]option.Set
	if n := c.Network; n != nil {
		var gateway []option.Set
		if n.Gateway.IsValid() {
			gateway = []option.Set{{Code: option.Router, Value: n.Gateway.String(),
				Source: option.Source{Kind: site.KindNetwork, ID: n.ID, Name: n.Name}}}
		}
		levels = append(levels, append(gateway, set(site.KindNetwork, n.ID, n.Name, n.Options)...))
	}
	if p := c.Pool; p != nil {
		levels = append(levels, set(site.KindPool, p.ID, p.Name, p.Options))
	}
	if k := c.Class; k != nil {
		levels = append(levels, set(site.KindVendorClass, k.ID, k.Name, ClassOptions(k)))
	}
	if r := c.Reservation; r != nil {
		levels = append(levels, set(site.KindReservation, r.ID, cmp.Or(r.Name, r.Address.String()), r.Options))
	}
	return option.Over(e, levels...)
}

func set(kind, id, name string, options []site.Option) []option.Set {
	var out []option.Set
	for _, o := range options {
		out = append(out, option.Set{Code: o.Code, Value: o.Value, Always: o.Always,
			Source: option.Source{Kind: kind, ID: id, Name: name}})
	}
	return out
}

// Value finds one told option.
func Value(told []option.Effective, code uint8) (option.Effective, bool) {
	i, ok := slices.BinarySearchFunc(
		told,
		code,
		func(t option.Effective, c uint8) int { return int(t.Code) - int(c) },
	)
	if !ok {
		return option.Effective{}, false
	}
	return told[i], true
}

// Timers is how long a client holds its lease, and when it renews (RFC 2131
// section 4.4.5).
type Timers struct{ Lease, T1, T2 time.Duration }

// TimersOf reads the lease time, T1 and T2 from effective options. Unset, T1 and T2 are a half
// and seven eighths of the lease. What cannot be read counts as unset.
func TimersOf(told []option.Effective) Timers {
	read := func(code uint8, otherwise time.Duration) time.Duration {
		if t, ok := Value(told, code); ok {
			if d, err := option.ParseDuration(t.Value); err == nil {
				return d
			}
		}
		return otherwise
	}
	lease := read(option.LeaseTime, option.DefaultLease)
	return Timers{lease, read(option.RenewalT1, lease/2), read(option.RebindingT2, lease/8*7)}
}

// Addresses reads the addresses of a told option, none when it is not told.
func Addresses(told []option.Effective, code uint8) []netip.Addr {
	t, ok := Value(told, code)
	if !ok {
		return nil
	}
	wire, err := option.Parse(code, t.Value)
	if err != nil {
		return nil
	}
	var out []netip.Addr
	for i := 0; i+4 <= len(wire); i += 4 {
		out = append(out, netip.AddrFrom4([4]byte(wire[i:i+4])))
	}
	return out
}

// Where says in words which interface a network lives on, empty when none.
func Where(s *site.Site, n *site.Network) string {
	d, i, _, ok := s.InterfaceOn(n)
	if !ok {
		return ""
	}
	return fmt.Sprintf("%s on %s", i.Name, d.Name)
}
