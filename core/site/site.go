// Package site is the site document: one site's intended addressing as plain
// data. It is what the store keeps for each revision, what the rules read and
// what import and export exchange.
//
// Every part has a stable id that survives renaming. Normal puts the parts of a
// document in their one order, so that equal sites are equal bytes (Encode).
// The package promises form only: whether the contents make sense is for
// package check.
package site

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"lithos/core/address"
)

// Site is the document. The zero value is an empty site.
type Site struct {
	ID           string         `json:"id" doc:"stable id of the site"`
	Code         string         `json:"code" form:"code" doc:"short code used in links and work orders"`
	Name         string         `json:"name" form:"name" doc:"what people call the site"`
	Customer     Level          `json:"customer" doc:"the customer the site belongs to, with the options set for all its sites"`
	Standard     Standard       `json:"standard,omitzero" doc:"the addressing standard the site follows"`
	TimeZone     string         `json:"timeZone,omitempty" form:"zone" doc:"IANA time zone, for example Europe/London"`
	Contacts     string         `json:"contacts,omitempty" doc:"who to ask there: a name, what they are and how they are reached, with semicolons between people"`
	Note         string         `json:"note,omitempty" doc:"free text"`
	Block        []netip.Prefix `json:"block" doc:"the prefixes allotted to the site"`
	Domain       string         `json:"domain,omitempty" doc:"the site's own domain; clients receive it as option 15"`
	Options      []Option       `json:"options,omitempty" doc:"DHCP options for every network of the site"`
	Devices      []Device       `json:"devices,omitempty" doc:"routers, firewalls, switches and servers"`
	Networks     []Network      `json:"networks,omitempty" doc:"the IP subnets of the site"`
	Pools        []Pool         `json:"pools,omitempty" doc:"what DHCP servers hand out"`
	Reservations []*Reservation `json:"reservations,omitempty" doc:"addresses always given to one client"`
	FixedDevices []FixedDevice  `json:"fixedDevices,omitempty" doc:"devices that hold an address configured on themselves"`

	Resolvers    []Resolver    `json:"resolvers,omitempty" doc:"the name servers of the site's devices"`
	Zones        []Zone        `json:"zones,omitempty" doc:"the site's DNS zones, inside and outside"`
	Services     []Service     `json:"services,omitempty" doc:"names of what is behind a proxy"`
	Following    []Following   `json:"following,omitempty" doc:"outside names kept at the changing address of a line"`
	Certificates []Certificate `json:"certificates,omitempty" doc:"names that certificates are had for, by a challenge in an outside zone"`

	VendorClasses     []VendorClass      `json:"vendorClasses,omitempty" doc:"kinds of client, told apart by what they send as option 60"`
	OptionDefinitions []OptionDefinition `json:"optionDefinitions,omitempty" doc:"the site's own options, by private code"`
	KnownClients      []KnownClient      `json:"knownClients,omitempty" doc:"what is known of clients that have neither reservation nor fixed address"`
}

// Location is the site's time zone; UTC where it has none that is known.
func (s *Site) Location() *time.Location {
	zone, err := time.LoadLocation(s.TimeZone)
	if err != nil {
		return time.UTC
	}
	return zone
}

// Level is a named owner of options above the site.
type Level struct {
	ID      string   `json:"id" doc:"stable id"`
	Name    string   `json:"name" doc:"what people call it"`
	Options []Option `json:"options,omitempty" doc:"DHCP options set at this level"`
}

// Standard is how networks of sites of one kind are laid out.
type Standard struct {
	Level
	Windows []Window `json:"windows,omitempty" doc:"the parts of a network set aside for one use"`
	Domain  string   `json:"domain,omitempty" doc:"pattern of the domains of sites that follow it: {code} stands for the site's code, for example {code}.larkrise.example"`
}

// Window sets aside part of every network, counted from its first address;
// negative numbers count back from the address after its last.
type Window struct {
	Use  string `json:"use" doc:"what the addresses are for" enum:"infrastructure,reserved,dynamic"`
	From int    `json:"from" doc:"offset of the first address"`
	To   int    `json:"to" doc:"offset of the last address"`
}

// Option is a DHCP option as written: a code of package option's registry and
// its value in that option's text form.
type Option struct {
	Code   uint8  `json:"code" doc:"option code, 1 to 254 (RFC 2132)"`
	Value  string `json:"value" doc:"the value in the option's text form"`
	Always bool   `json:"always,omitempty" doc:"sent to clients that do not ask for it as well; what networks, pools, classes and reservations set always is"`
}

// Device kinds.
const (
	Router   = "router"
	Firewall = "firewall"
	L3Switch = "layer 3 switch"
	L2Switch = "layer 2 switch"
	Server   = "server"
)

// Device is a router, firewall, switch or server with its interfaces.
type Device struct {
	ID         string      `json:"id" doc:"stable id"`
	Name       string      `json:"name" form:"name" doc:"host name of the device"`
	Kind       string      `json:"kind" doc:"what the device is" enum:"router,firewall,layer 3 switch,layer 2 switch,server"`
	Memory     int         `json:"memory,omitempty" range:"1-1048576" doc:"its memory in MiB, where known"`
	Interfaces []Interface `json:"interfaces,omitempty" doc:"ports, port groups, VLAN interfaces, uplinks and loopbacks"`
}

// Interface kinds.
const (
	Port      = "port"
	PortGroup = "port group"
	VLAN      = "vlan"
	Uplink    = "uplink"
	Loopback  = "loopback"
	Tunnel    = "tunnel" // what machines elsewhere come in by; the device gives them their addresses itself
)

// Interface is one interface of a device.
type Interface struct {
	ID        string         `json:"id" doc:"stable id"`
	Name      string         `json:"name" form:"name" doc:"the device's own name for it"`
	Kind      string         `json:"kind" doc:"what it is" enum:"port,port group,vlan,uplink,loopback,tunnel"`
	Parent    string         `json:"parent,omitempty" doc:"name of the interface that carries a VLAN interface"`
	VLAN      int            `json:"vlan,omitempty" doc:"VLAN id of a VLAN interface, 1 to 4094"`
	Addresses []netip.Prefix `json:"addresses,omitempty" doc:"addresses with their prefix lengths"`
	Members   []string       `json:"members,omitempty" doc:"names of the ports of a port group"`
	Untagged  int            `json:"untaggedVLAN,omitempty" doc:"VLAN id of untagged frames on a port or port group, 1 to 4094"`
	Tagged    []int          `json:"taggedVLANs,omitempty" doc:"VLAN ids a trunk carries tagged"`
	Peer      string         `json:"peer,omitempty" doc:"id of the interface at the other end of the cable; written on one end"`
	Permits   []string       `json:"permits,omitempty" doc:"what the interface accepts from its network: dhcp, dns, ntp, ping, administration; none listed means nothing is said and everything is accepted" enum:"dhcp,dns,ntp,ping,administration"`
	RelayTo   []netip.Addr   `json:"relayTo,omitempty" doc:"DHCP servers that requests heard here are passed to"`
	Uplink    *UplinkFacts   `json:"uplink,omitempty" doc:"how an uplink gets its address and what it translates"`
}

// What an interface may permit from its network.
const (
	PermitDHCP           = "dhcp"
	PermitDNS            = "dns"
	PermitNTP            = "ntp"
	PermitPing           = "ping"
	PermitAdministration = "administration"
)

// TunnelOf is the tunnel that the clients of a network come in by; ok is false for a network of cables.
func (s *Site) TunnelOf(n *Network) (d *Device, i *Interface, ok bool) {
	d, i, _, ok = s.InterfaceOn(n)
	return d, i, ok && i.Kind == Tunnel
}

// Permissions lists what an interface may permit, in the order they are shown.
var Permissions = []string{PermitDHCP, PermitDNS, PermitNTP, PermitPing, PermitAdministration}

// Permitted reports whether the interface accepts what from its network. One
// that lists nothing accepts everything.
func (i *Interface) Permitted(what string) bool {
	return len(i.Permits) == 0 || slices.Contains(i.Permits, what)
}

// Carries reports whether frames of a VLAN pass through a port or port group,
// and whether they are tagged there. A port with no VLANs listed and VLAN 0
// asked for carries plain untagged frames.
func (i *Interface) Carries(vlan int) (carries, tagged bool) {
	if vlan != 0 && slices.Contains(i.Tagged, vlan) {
		return true, true
	}
	return i.Untagged == vlan, false
}

// Ways an uplink gets its address.
const (
	ByDHCP  = "dhcp"
	ByFixed = "fixed"
	ByPPPoE = "pppoe"
)

// UplinkFacts is what an uplink needs to reach the internet.
type UplinkFacts struct {
	Method     string     `json:"method" doc:"how it gets its address" enum:"dhcp,fixed,pppoe"`
	Gateway    netip.Addr `json:"gateway,omitzero" doc:"the gateway at the provider, of a fixed address"`
	Account    string     `json:"account,omitempty" doc:"PPPoE account name"`
	Secret     string     `json:"secret,omitempty" doc:"name under which Lithos keeps the PPPoE password; never the password"`
	MTU        int        `json:"mtu,omitempty" range:"576-9000" doc:"largest packet, 576 to 9000 octets; 1500 when not given, 1492 for PPPoE"`
	Translates []string   `json:"translates,omitempty" doc:"ids of the networks whose addresses it translates"`
	// What the provider tells the uplink, and whether clients are told it where nothing is set.
	PassesOn      bool         `json:"passesOn,omitempty" doc:"whether clients receive the name servers and the domain that the uplink learns, where nothing is set"`
	LearntServers []netip.Addr `json:"learntServers,omitempty" doc:"the name servers that the uplink learnt from the provider, as recorded"`
	LearntDomain  string       `json:"learntDomain,omitempty" doc:"the domain that the uplink learnt from the provider, as recorded"`
}

// Largest is the largest packet of the uplink in octets.
func (u *UplinkFacts) Largest() int {
	switch {
	case u.MTU != 0:
		return u.MTU
	case u.Method == ByPPPoE:
		return 1492 // RFC 2516 section 7
	default:
		return 1500
	}
}

// Network is one IP subnet.
type Network struct {
	ID      string       `json:"id" doc:"stable id"`
	Name    string       `json:"name" form:"name" doc:"what people call the network"`
	Purpose string       `json:"purpose,omitempty" doc:"who uses it"`
	Prefix  netip.Prefix `json:"prefix" form:"prefix" doc:"the subnet, for example 10.84.20.0/26"`
	VLAN    int          `json:"vlan,omitempty" doc:"VLAN id, 1 to 4094; none where untagged"`
	Gateway netip.Addr   `json:"gateway,omitzero" doc:"the router's address; clients receive it as option 3"`
	Options []Option     `json:"options,omitempty" doc:"DHCP options for clients of this network"`
}

// Pool is what one server hands out on one network.
type Pool struct {
	ID         string          `json:"id" doc:"stable id"`
	Name       string          `json:"name" form:"name" doc:"what people call the pool"`
	Network    string          `json:"network" doc:"id of its network"`
	Server     string          `json:"server" doc:"id of the device that serves it"`
	Enabled    bool            `json:"enabled" doc:"whether the server hands out its addresses"`
	Ranges     []address.Range `json:"ranges" doc:"the addresses handed out"`
	Exclusions []Exclusion     `json:"exclusions,omitempty" doc:"addresses inside the ranges never handed out"`
	ForClass   string          `json:"forClass,omitempty" doc:"id of the vendor class whose clients alone are given its addresses"`
	ForClient  string          `json:"forClient,omitempty" doc:"how the client identifiers begin whose clients alone are given its addresses, as option 61 is written"`
	Options    []Option        `json:"options,omitempty" doc:"DHCP options for clients of this pool"`
	Note       string          `json:"note,omitempty" doc:"free text"`
}

// Offers reports whether a lies in a range of the pool and in no exclusion.
// Whether something else owns it is for the caller.
func (p *Pool) Offers(a netip.Addr) bool {
	return slices.ContainsFunc(p.Ranges, func(r address.Range) bool { return r.Contains(a) }) &&
		!slices.ContainsFunc(p.Exclusions, func(x Exclusion) bool { return x.Range.Contains(a) })
}

// Exclusion is a run inside a pool that is never handed out.
type Exclusion struct {
	ID     string        `json:"id" doc:"stable id"`
	Range  address.Range `json:"range" doc:"the addresses never handed out"`
	Reason string        `json:"reason" doc:"why they are excluded"`
	Until  Date          `json:"until,omitzero" doc:"last day they are excluded, for example 2027-03-31; none for good"`
}

// Reservation is an address always given to one client.
type Reservation struct {
	ID      string      `json:"id" doc:"stable id"`
	Name    string      `json:"name,omitempty" doc:"host name of the client"`
	Network string      `json:"network" doc:"id of its network"`
	Address netip.Addr  `json:"address" doc:"the address kept for it"`
	MAC     address.MAC `json:"mac,omitzero" doc:"the client's hardware address"`
	Client  string      `json:"clientId,omitempty" doc:"the client's identifier, as option 61 is written, in place of a MAC"`
	Options []Option    `json:"options,omitempty" doc:"DHCP options for this client alone"`

	NoReverse bool `json:"noReverse,omitempty" doc:"whether its address is not given its name in reverse"`
}

// NameOrAddress is what a reservation is called on screen: its address where it has no name.
func (r *Reservation) NameOrAddress() string { return cmp.Or(r.Name, r.Address.String()) }

// VendorClass is a kind of client, told apart by what it sends as option 60.
type VendorClass struct {
	ID         string      `json:"id" doc:"stable id"`
	Name       string      `json:"name" doc:"what people call these clients"`
	Match      string      `json:"match" doc:"how their option 60 begins"`
	Enterprise int         `json:"enterprise,omitempty" doc:"IANA enterprise number; the sub-options are then sent as option 125 too"`
	SubOptions []SubOption `json:"subOptions,omitempty" doc:"what option 43 tells them"`
	Options    []Option    `json:"options,omitempty" doc:"DHCP options for these clients"`
}

// SubOption is one vendor-specific option with its value (RFC 2132 section 8.4).
type SubOption struct {
	Code  uint8  `json:"code" doc:"the vendor's own code, 1 to 254"`
	Name  string `json:"name" doc:"what it is for"`
	Type  string `json:"type" doc:"a type of package option" enum:"address,addresses,address pairs,IPv6 address,text,number (8 bits),number (16 bits),number (32 bits),signed number (32 bits),numbers (16 bits),switch,duration,domain name,domain name (DNS form),domain names,routes,call servers,addresses or only these,text or only this,servers by service,names by service,lists of addresses,name servers for domains,URIs,prefix with mask and relays,identifier,sub-options,octets or text,octets"`
	Value string `json:"value" doc:"the value in the type's text form"`
}

// OptionDefinition gives a private option code (224 to 254, RFC 3942) a name
// and a type at this site.
type OptionDefinition struct {
	ID      string `json:"id" doc:"stable id"`
	Code    uint8  `json:"code" doc:"private option code, 224 to 254"`
	Name    string `json:"name" doc:"what people call it"`
	Type    string `json:"type" doc:"a type of package option" enum:"address,addresses,address pairs,IPv6 address,text,number (8 bits),number (16 bits),number (32 bits),signed number (32 bits),numbers (16 bits),switch,duration,domain name,domain name (DNS form),domain names,routes,call servers,addresses or only these,text or only this,servers by service,names by service,lists of addresses,name servers for domains,URIs,prefix with mask and relays,identifier,sub-options,octets or text,octets"`
	Meaning string `json:"meaning,omitempty" doc:"one line for people"`
}

// KnownClient is a machine people know without having pinned it: it is given a
// name, or its sightings are ignored.
type KnownClient struct {
	ID      string      `json:"id" doc:"stable id"`
	MAC     address.MAC `json:"mac" doc:"its hardware address"`
	Name    string      `json:"name,omitempty" doc:"what people call it"`
	Ignored string      `json:"ignored,omitempty" doc:"why what is seen of it needs no attention; not ignored when empty"`
}

// Date is a day, written 2027-03-31. The zero value is unset.
type Date struct {
	Year  int
	Month time.Month
	Day   int
}

// ParseDate reads a day.
func ParseDate(text string) (Date, error) {
	t, err := time.Parse(time.DateOnly, strings.TrimSpace(text))
	if err != nil || t.Year() < 2000 {
		return Date{}, fmt.Errorf("%q is not a date; type year, month and day, for example 2027-03-31", text)
	}
	return DateOf(t), nil
}

// DateOf is the day of a moment, in that moment's location.
func DateOf(t time.Time) Date {
	y, m, d := t.Date()
	return Date{y, m, d}
}

// IsZero reports whether d is unset.
func (d Date) IsZero() bool { return d == Date{} }

// Before reports whether d is an earlier day than o.
func (d Date) Before(o Date) bool {
	return cmp.Or(cmp.Compare(d.Year, o.Year), cmp.Compare(d.Month, o.Month), cmp.Compare(d.Day, o.Day)) < 0
}

func (d Date) String() string {
	if d.IsZero() {
		return ""
	}
	return fmt.Sprintf("%04d-%02d-%02d", d.Year, d.Month, d.Day)
}

// MarshalText implements encoding.TextMarshaler.
func (d Date) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler; empty text is unset.
func (d *Date) UnmarshalText(text []byte) error {
	if len(text) == 0 {
		*d = Date{}
		return nil
	}
	v, err := ParseDate(string(text))
	if err == nil {
		*d = v
	}
	return err
}

// FixedDevice holds an address configured on itself.
type FixedDevice struct {
	ID      string      `json:"id" doc:"stable id"`
	Name    string      `json:"name" doc:"what people call it"`
	Network string      `json:"network" doc:"id of its network"`
	Address netip.Addr  `json:"address" doc:"the address it holds"`
	MAC     address.MAC `json:"mac,omitzero" doc:"its hardware address, where known"`
	Note    string      `json:"note,omitempty" doc:"free text"`

	NoReverse bool `json:"noReverse,omitempty" doc:"whether its address is not given its name in reverse"`
}

// Part kinds, as they appear in references, edits and links.
const (
	KindSite        = "site"
	KindCustomer    = "customer"
	KindStandard    = "standard"
	KindDevice      = "device"
	KindInterface   = "interface"
	KindNetwork     = "network"
	KindPool        = "pool"
	KindExclusion   = "exclusion"
	KindReservation = "reservation"
	KindFixedDevice = "fixed"
	KindVendorClass = "class"
	KindDefinition  = "definition"
	KindKnownClient = "known"
	KindResolver    = "resolver"
	KindZone        = "zone"
	KindRecord      = "record"
	KindService     = "service"
	KindCertificate = "certificate"
	KindFollowing   = "following"
	// KindOption is a DHCP option that a level sets: its id is the code, and it lies in
	// the level.
	KindOption = "option"
)

// Ref names one part of a document. Its text form is "kind:id".
type Ref struct{ Kind, ID string }

func (r Ref) String() string { return r.Kind + ":" + r.ID }

// ParseRef reads "kind:id"; text without a colon gives a Ref with no kind.
func ParseRef(text string) Ref {
	kind, id, ok := strings.Cut(text, ":")
	if !ok {
		return Ref{ID: text}
	}
	return Ref{kind, id}
}

// MarshalText implements encoding.TextMarshaler.
func (r Ref) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (r *Ref) UnmarshalText(text []byte) error {
	*r = ParseRef(string(text))
	return nil
}

// Network finds a network by id.
func (s *Site) Network(id string) (*Network, bool) {
	return find(s.Networks, func(n *Network) string { return n.ID }, id)
}

// Device finds a device by id.
func (s *Site) Device(id string) (*Device, bool) {
	return find(s.Devices, func(d *Device) string { return d.ID }, id)
}

// Pool finds a pool by id.
func (s *Site) Pool(id string) (*Pool, bool) {
	return find(s.Pools, func(p *Pool) string { return p.ID }, id)
}

// Reservation finds a reservation by id.
func (s *Site) Reservation(id string) (*Reservation, bool) {
	for _, r := range s.Reservations {
		if r.ID == id {
			return r, true
		}
	}
	return nil, false
}

// FixedDevice finds a fixed device by id.
func (s *Site) FixedDevice(id string) (*FixedDevice, bool) {
	return find(s.FixedDevices, func(f *FixedDevice) string { return f.ID }, id)
}

// VendorClass finds a vendor class by id.
func (s *Site) VendorClass(id string) (*VendorClass, bool) {
	return find(s.VendorClasses, func(c *VendorClass) string { return c.ID }, id)
}

// KnownClient finds what is known of a hardware address.
func (s *Site) KnownClient(mac address.MAC) (*KnownClient, bool) {
	i := slices.IndexFunc(s.KnownClients, func(k KnownClient) bool { return k.MAC == mac })
	if i < 0 {
		return nil, false
	}
	return &s.KnownClients[i], true
}

// Interface finds an interface by id, with its device.
func (s *Site) Interface(id string) (*Device, *Interface, bool) {
	for d := range s.Devices {
		if i, ok := find(s.Devices[d].Interfaces, func(i *Interface) string { return i.ID }, id); ok {
			return &s.Devices[d], i, true
		}
	}
	return nil, nil, false
}

// IsSwitch reports whether a device passes frames between all its ports.
func (d *Device) IsSwitch() bool { return d.Kind == L2Switch || d.Kind == L3Switch }

// Interface finds an interface of the device by name.
func (d *Device) Interface(name string) (*Interface, bool) {
	return find(d.Interfaces, func(i *Interface) string { return i.Name }, name)
}

// HolderOf finds the device interface that holds an address.
func (s *Site) HolderOf(a netip.Addr) (*Device, *Interface, bool) {
	for d := range s.Devices {
		for i := range s.Devices[d].Interfaces {
			if slices.ContainsFunc(s.Devices[d].Interfaces[i].Addresses,
				func(p netip.Prefix) bool { return p.Addr() == a }) {
				return &s.Devices[d], &s.Devices[d].Interfaces[i], true
			}
		}
	}
	return nil, nil, false
}

func find[T any](list []T, id func(*T) string, want string) (*T, bool) {
	for i := range list {
		if id(&list[i]) == want {
			return &list[i], true
		}
	}
	return nil, false
}

// NetworkOf is the most specific network whose prefix holds a.
func (s *Site) NetworkOf(a netip.Addr) (*Network, bool) {
	var best *Network
	for i := range s.Networks {
		n := &s.Networks[i]
		if n.Prefix.Contains(a) && (best == nil || n.Prefix.Bits() > best.Prefix.Bits()) {
			best = n
		}
	}
	return best, best != nil
}

// InterfaceOn finds the device interface that has an address inside n, and that
// address; the gateway's interface is preferred.
func (s *Site) InterfaceOn(n *Network) (d *Device, i *Interface, at netip.Prefix, ok bool) {
	for di := range s.Devices {
		for ii := range s.Devices[di].Interfaces {
			for _, p := range s.Devices[di].Interfaces[ii].Addresses {
				if !n.Prefix.Contains(p.Addr()) {
					continue
				}
				if !ok || p.Addr() == n.Gateway {
					d, i, at, ok = &s.Devices[di], &s.Devices[di].Interfaces[ii], p, true
				}
			}
		}
	}
	return d, i, at, ok
}
