// Package yang is what a device holds, as the data trees of its YANG modules:
// ietf-interfaces (RFC 8343), ietf-ip (RFC 8344) and Lithos's own published
// lithos-interfaces and lithos-dhcp-server (see modules/). The Go types carry
// the JSON names of RFC 7951, so they are read from and written to RESTCONF
// (RFC 8040) as they are.
package yang

import (
	"bytes"
	"embed"
	"encoding/json"
	"fmt"
	"net/netip"
	"net/url"
	"reflect"
	"slices"
	"strings"

	"lithos/core/address"
)

// Modules are the published YANG modules, one file each, and beside them the parts of standard
// ones that they refer to.
//
//go:embed modules/*.yang modules/standard/*.yang
var Modules embed.FS

// Config is a configuration datastore of a device (RFC 8342), running or
// startup. The zero value is an empty one.
type Config struct {
	Interfaces Interfaces `json:"ietf-interfaces:interfaces"`
	DHCP       DHCPServer `json:"lithos-dhcp-server:dhcp-server"`
	Relays     DHCPRelay  `json:"lithos-dhcp-relay:dhcp-relay"`
	Resolver   Resolver   `json:"lithos-resolver:resolver"`

	Outside OutsideNames `json:"lithos-outside-names:outside-names"`
}

// Interfaces is the container of RFC 8343.
type Interfaces struct {
	Interface []Interface `json:"interface,omitempty"`
}

// Interface types used from iana-if-type (RFC 7224).
const (
	TypeEthernet = "iana-if-type:ethernetCsmacd"
	TypeBridge   = "iana-if-type:bridge"
	TypeVLAN     = "iana-if-type:l2vlan"
	TypeLoopback = "iana-if-type:softwareLoopback"
	TypeTunnel   = "iana-if-type:tunnel"
)

// Interface is one list entry, keyed by name.
type Interface struct {
	Name    string `json:"name"`
	Type    string `json:"type"`
	Enabled bool   `json:"enabled"`
	VLAN    *VLAN  `json:"lithos-interfaces:vlan,omitempty"`
	IPv4    *IPv4  `json:"ietf-ip:ipv4,omitempty"`

	Switchport *Switchport `json:"lithos-interfaces:switchport,omitempty"`
	Member     []string    `json:"lithos-interfaces:member,omitempty"` // ports of a bridge
	Permit     []string    `json:"lithos-interfaces:permit,omitempty"` // none: everything
	Uplink     *Uplink     `json:"lithos-interfaces:uplink,omitempty"`
}

// Accepts reports whether the interface takes packets of a kind from its network.
func (i Interface) Accepts(what string) bool {
	return len(i.Permit) == 0 || slices.Contains(i.Permit, what)
}

// Switchport is which VLANs pass a port (IEEE 802.1Q).
type Switchport struct {
	Untagged int   `json:"untagged-vlan,omitempty"`
	Tagged   []int `json:"tagged-vlan,omitempty"`
}

// Uplink is how an interface reaches the internet. The PPPoE password is not
// here: it is kept in the device under PasswordName.
type Uplink struct {
	Method       string         `json:"method"`
	Gateway      netip.Addr     `json:"gateway,omitzero"`
	Account      string         `json:"account,omitempty"`
	PasswordName string         `json:"password-name,omitempty"`
	MTU          int            `json:"mtu"`
	Translate    []netip.Prefix `json:"translate,omitempty"`
}

// VLAN is the tag of a VLAN interface and what carries it: nothing named on a
// switch, where every port of the VLAN does.
type VLAN struct {
	Parent string `json:"parent,omitempty"`
	ID     int    `json:"id"`
}

// IPv4 holds an interface's addresses (RFC 8344).
type IPv4 struct {
	Enabled bool      `json:"enabled"`
	Address []Address `json:"address,omitempty"`
}

// Address is one address with its prefix length.
type Address struct {
	IP           netip.Addr `json:"ip"`
	PrefixLength int        `json:"prefix-length"`
}

// Prefix is the address in CIDR form, host bits kept.
func (a Address) Prefix() netip.Prefix { return netip.PrefixFrom(a.IP, a.PrefixLength) }

// DHCPServer is the configuration of a device's DHCP server.
type DHCPServer struct {
	Pool        []Pool        `json:"pool,omitempty"`
	Reservation []Reservation `json:"reservation,omitempty"`
	Class       []Class       `json:"class,omitempty"`
}

// Class is one list entry, keyed by id: the options of clients whose option 60 begins
// with Match.
type Class struct {
	ID     string   `json:"id"`
	Name   string   `json:"name"`
	Match  string   `json:"match"`
	Option []Option `json:"option,omitempty"`
}

// DHCPRelay is the configuration of a device's DHCP relay (RFC 1542, RFC 3046).
type DHCPRelay struct {
	Relay []Relay `json:"relay,omitempty"`
}

// Relay is one list entry, keyed by interface: the servers that requests heard
// there are passed to.
type Relay struct {
	Interface string       `json:"interface"`
	Server    []netip.Addr `json:"server"`
}

// Pool is one list entry, keyed by id. One without an interface serves clients
// that a relay speaks for; one with a class or a client identifier serves only
// those.
type Pool struct {
	ID        string       `json:"id"`
	Name      string       `json:"name"`
	Enabled   bool         `json:"enabled"`
	Interface string       `json:"interface,omitempty"`
	ForClass  string       `json:"for-class,omitempty"`
	ForClient []byte       `json:"for-client,omitempty"` // how the client identifier begins
	Subnet    netip.Prefix `json:"subnet"`
	Range     []Span       `json:"range,omitempty"`
	Exclusion []Exclusion  `json:"exclusion,omitempty"`
	Option    []Option     `json:"option,omitempty"`
}

// HandsOut reports whether an address is in a range of the pool and in no exclusion.
func (p Pool) HandsOut(a netip.Addr) bool {
	return slices.ContainsFunc(p.Range, func(s Span) bool { return s.AddressRange().Contains(a) }) &&
		!slices.ContainsFunc(p.Exclusion, func(x Exclusion) bool { return x.AddressRange().Contains(a) })
}

// Span is an inclusive run of addresses.
type Span struct {
	Start netip.Addr `json:"start"`
	End   netip.Addr `json:"end"`
}

// AddressRange is the span as a range of package address.
func (s Span) AddressRange() address.Range { return address.Range{From: s.Start, To: s.End} }

// Exclusion is a span never handed out.
type Exclusion struct {
	Span
	Reason string `json:"reason"`
}

// Option is a DHCP option with its wire octets (a YANG binary: base64 in JSON).
type Option struct {
	Code   uint8  `json:"code"`
	Value  []byte `json:"value"`
	Always bool   `json:"always,omitempty"` // sent to clients that do not ask for it as well
	// Learnt is the uplink whose own value is sent in place of this one, once it has learnt any.
	Learnt string `json:"learnt,omitempty"`
}

// Reservation is one list entry, keyed by id.
type Reservation struct {
	ID      string      `json:"id"`
	Pool    string      `json:"pool"`
	Name    string      `json:"name,omitempty"`
	Address netip.Addr  `json:"address"`
	MAC     address.MAC `json:"hw-address,omitzero"`
	Client  []byte      `json:"client-id,omitempty"`
	Option  []Option    `json:"option,omitempty"`
}

// The list entries that RESTCONF paths reach.
const (
	interfacePath   = "/ietf-interfaces:interfaces/interface="
	poolPath        = "/lithos-dhcp-server:dhcp-server/pool="
	reservationPath = "/lithos-dhcp-server:dhcp-server/reservation="
	classPath       = "/lithos-dhcp-server:dhcp-server/class="
	relayPath       = "/lithos-dhcp-relay:dhcp-relay/relay="
	ipv4Suffix      = "/ietf-ip:ipv4"
)

// InterfacePath is the RESTCONF path of an interface, relative to a datastore.
func InterfacePath(name string) string { return interfacePath + url.PathEscape(name) }

// IPv4Path is the path of an interface's addresses.
func IPv4Path(name string) string { return InterfacePath(name) + ipv4Suffix }

// PoolPath is the path of a pool.
func PoolPath(id string) string { return poolPath + url.PathEscape(id) }

// ReservationPath is the path of a reservation.
func ReservationPath(id string) string { return reservationPath + url.PathEscape(id) }

// ClassPath is the path of a vendor class.
func ClassPath(id string) string { return classPath + url.PathEscape(id) }

// ZonePath is the path of a zone of the resolver.
func ZonePath(name string) string { return zonePath + url.PathEscape(name) }

// ProgramPath is the path of a program that listens for names beside the resolver.
func ProgramPath(name string) string { return programPath + url.PathEscape(name) }

// RelayPath is the path of an interface's relay.
func RelayPath(name string) string { return relayPath + url.PathEscape(name) }

// A PathError says that a path or body does not fit the modules.
type PathError struct{ Path, Says string }

func (e *PathError) Error() string { return e.Path + ": " + e.Says }

// Put replaces the node at path by body, or creates it, as RESTCONF's PUT does
// (RFC 8040 section 4.5). It does not judge the result; see Validate.
func (c *Config) Put(path string, body []byte) error {
	entry, name, err := parsePath(path)
	if err != nil {
		return err
	}
	switch entry {
	case interfacePath:
		return putEntry(&c.Interfaces.Interface, path, name, body, "ietf-interfaces:interface", interfaceKey)
	case poolPath:
		return putEntry(&c.DHCP.Pool, path, name, body, "lithos-dhcp-server:pool", poolKey)
	case reservationPath:
		return putEntry(&c.DHCP.Reservation, path, name, body, "lithos-dhcp-server:reservation", reservationKey)
	case classPath:
		return putEntry(&c.DHCP.Class, path, name, body, "lithos-dhcp-server:class", classKey)
	case relayPath:
		return putEntry(&c.Relays.Relay, path, name, body, "lithos-dhcp-relay:relay", relayKey)
	case zonePath:
		return putEntry(&c.Resolver.Zone, path, name, body, zoneMember, zoneKey)
	case programPath:
		return putEntry(&c.Resolver.Program, path, name, body, programMember, programKey)
	case outsidePath:
		return putEntry(&c.Outside.Name, path, name, body, outsideMember, outsideKey)
	case settingsPath:
		var doc map[string]*ResolverSettings
		if err := strictly(body, &doc); err != nil || len(doc) != 1 || doc[settingsMember] == nil {
			return &PathError{path, "the body must hold one " + settingsMember}
		}
		c.Resolver.Settings = doc[settingsMember]
		return nil
	}
	i := slices.IndexFunc(c.Interfaces.Interface, func(i Interface) bool { return i.Name == name })
	if i < 0 {
		return &PathError{path, "no such interface"}
	}
	var doc map[string]*IPv4
	if err := strictly(body, &doc); err != nil || len(doc) != 1 || doc["ietf-ip:ipv4"] == nil {
		return &PathError{path, "the body must hold one ietf-ip:ipv4"}
	}
	c.Interfaces.Interface = slices.Clone(c.Interfaces.Interface)
	c.Interfaces.Interface[i].IPv4 = doc["ietf-ip:ipv4"]
	return nil
}

// Delete removes the node at path (RFC 8040 section 4.7).
func (c *Config) Delete(path string) error {
	entry, name, err := parsePath(path)
	if err != nil {
		return err
	}
	var found bool
	switch entry {
	case interfacePath:
		found = deleteEntry(&c.Interfaces.Interface, name, interfaceKey)
	case poolPath:
		found = deleteEntry(&c.DHCP.Pool, name, poolKey)
	case reservationPath:
		found = deleteEntry(&c.DHCP.Reservation, name, reservationKey)
	case classPath:
		found = deleteEntry(&c.DHCP.Class, name, classKey)
	case relayPath:
		found = deleteEntry(&c.Relays.Relay, name, relayKey)
	case zonePath:
		found = deleteEntry(&c.Resolver.Zone, name, zoneKey)
	case programPath:
		found = deleteEntry(&c.Resolver.Program, name, programKey)
	case outsidePath:
		found = deleteEntry(&c.Outside.Name, name, outsideKey)
	case settingsPath:
		found = c.Resolver.Settings != nil
		c.Resolver.Settings = nil
	default:
		i := slices.IndexFunc(c.Interfaces.Interface, func(i Interface) bool { return i.Name == name })
		if found = i >= 0 && c.Interfaces.Interface[i].IPv4 != nil; found {
			c.Interfaces.Interface = slices.Clone(c.Interfaces.Interface)
			c.Interfaces.Interface[i].IPv4 = nil
		}
	}
	if !found {
		return &PathError{path, "no such node"}
	}
	return nil
}

func interfaceKey(i Interface) string     { return i.Name }
func poolKey(p Pool) string               { return p.ID }
func reservationKey(r Reservation) string { return r.ID }
func classKey(c Class) string             { return c.ID }
func relayKey(r Relay) string             { return r.Interface }

// parsePath splits a path into the list it is in and the entry's key; the
// addresses of an interface come back under ipv4Suffix.
func parsePath(path string) (entry, key string, err error) {
	if path == settingsPath {
		return settingsPath, "", nil
	}
	for _, prefix := range []string{interfacePath, poolPath, reservationPath, classPath, relayPath, zonePath,
		programPath, outsidePath} {
		rest, ok := strings.CutPrefix(path, prefix)
		if !ok {
			continue
		}
		entry = prefix
		if cut, ok := strings.CutSuffix(rest, ipv4Suffix); ok && prefix == interfacePath {
			entry, rest = ipv4Suffix, cut
		}
		if key, err = url.PathUnescape(rest); err == nil && key != "" && !strings.Contains(rest, "/") {
			return entry, key, nil
		}
	}
	return "", "", &PathError{path, "not a node of this device's modules"}
}

func putEntry[T any](list *[]T, path, name string, body []byte, member string, key func(T) string) error {
	var doc map[string][]T
	if err := strictly(body, &doc); err != nil {
		return &PathError{path, err.Error()}
	}
	if len(doc) != 1 || len(doc[member]) != 1 {
		return &PathError{path, fmt.Sprintf("the body must hold one %s", member)}
	}
	entry := doc[member][0]
	if key(entry) != name {
		return &PathError{path, "the key in the body differs from the path's"}
	}
	*list = slices.Clone(*list)
	if i := slices.IndexFunc(*list, func(t T) bool { return key(t) == name }); i >= 0 {
		(*list)[i] = entry
	} else {
		*list = append(*list, entry)
	}
	return nil
}

func deleteEntry[T any](list *[]T, name string, key func(T) string) bool {
	i := slices.IndexFunc(*list, func(t T) bool { return key(t) == name })
	if i >= 0 {
		*list = slices.Delete(slices.Clone(*list), i, i+1)
	}
	return i >= 0
}

func strictly(body []byte, v any) error {
	dec := json.NewDecoder(bytes.NewReader(body))
	dec.DisallowUnknownFields()
	return dec.Decode(v)
}

// Body is the RESTCONF body that Put takes for a node.
func Body(node any) []byte {
	var doc any
	switch n := node.(type) {
	case Interface:
		doc = map[string][]Interface{"ietf-interfaces:interface": {n}}
	case *IPv4:
		doc = map[string]*IPv4{"ietf-ip:ipv4": n}
	case Pool:
		doc = map[string][]Pool{"lithos-dhcp-server:pool": {n}}
	case Reservation:
		doc = map[string][]Reservation{"lithos-dhcp-server:reservation": {n}}
	case Class:
		doc = map[string][]Class{"lithos-dhcp-server:class": {n}}
	case Relay:
		doc = map[string][]Relay{"lithos-dhcp-relay:relay": {n}}
	case Zone:
		doc = map[string][]Zone{zoneMember: {n}}
	case Program:
		doc = map[string][]Program{programMember: {n}}
	case OutsideName:
		doc = map[string][]OutsideName{outsideMember: {n}}
	case *ResolverSettings:
		doc = map[string]*ResolverSettings{settingsMember: n}
	}
	raw, err := json.Marshal(doc)
	if err != nil {
		panic("a configuration node always marshals: " + err.Error())
	}
	return raw
}

// Sorted is c with its lists in the order of their keys, so that equal
// configurations compare equal.
func (c Config) Sorted() Config {
	c.Interfaces.Interface = sortedBy(c.Interfaces.Interface, interfaceKey)
	c.DHCP.Pool = sortedBy(c.DHCP.Pool, poolKey)
	c.DHCP.Reservation = sortedBy(c.DHCP.Reservation, reservationKey)
	c.DHCP.Class = sortedBy(c.DHCP.Class, classKey)
	c.Relays.Relay = sortedBy(c.Relays.Relay, relayKey)
	c.Resolver.Zone = sortedBy(c.Resolver.Zone, zoneKey)
	c.Resolver.Program = sortedBy(c.Resolver.Program, programKey)
	c.Outside.Name = sortedBy(c.Outside.Name, outsideKey)
	for i := range c.Resolver.Zone {
		c.Resolver.Zone[i].Record = sortedBy(c.Resolver.Zone[i].Record, recordKey)
	}
	return c
}

func sortedBy[T any](list []T, key func(T) string) []T {
	out := slices.Clone(list)
	slices.SortFunc(out, func(a, b T) int { return strings.Compare(key(a), key(b)) })
	return out
}

// Equal reports whether two configurations hold the same, in any order.
func (c Config) Equal(o Config) bool { return reflect.DeepEqual(canonical(c), canonical(o)) }

func canonical(c Config) any {
	raw, err := json.Marshal(c.Sorted())
	if err != nil {
		panic("a configuration always marshals: " + err.Error())
	}
	var v any
	_ = json.Unmarshal(raw, &v)
	return v
}
