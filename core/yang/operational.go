package yang

import (
	"net/netip"
	"slices"
	"time"

	"lithos/core/address"
)

// Operational is a device's operational state (RFC 8342), as far as Lithos
// reads it: who is heard on each interface, the leases, and where a test client
// can be attached.
type Operational struct {
	Interfaces struct {
		Interface []InterfaceState `json:"interface,omitempty"`
	} `json:"ietf-interfaces:interfaces"`
	DHCP struct {
		Lease []Lease `json:"lease,omitempty"`
		// Heard are servers other than the device's own that answered clients of its networks.
		Heard []HeardServer `json:"heard-server,omitempty"`
	} `json:"lithos-dhcp-server:dhcp-server"`
	Resolver *ResolverState `json:"lithos-resolver:resolver,omitempty"`
	Outside  *OutsideState  `json:"lithos-outside-names:outside-names,omitempty"`
	Stations struct {
		Station []Station `json:"station,omitempty"`
	} `json:"lithos-config:stations"`
	Links struct {
		Local    LinkSystem     `json:"local"`
		Neighbor []LinkNeighbor `json:"neighbor,omitempty"`
	} `json:"lithos-config:links"`
	Wires struct {
		Wire []Wire `json:"wire,omitempty"`
	} `json:"lithos-config:wires"`
}

// InterfaceState is one interface with its addresses and its neighbour table (RFC 8344).
type InterfaceState struct {
	Name       string `json:"name"`
	OperStatus string `json:"oper-status"` // up or down
	IPv4       struct {
		Address  []Address  `json:"address,omitempty"` // that it has now, however it got them
		Neighbor []Neighbor `json:"neighbor,omitempty"`
	} `json:"ietf-ip:ipv4"`
	IPv6 struct {
		Address []Address `json:"address,omitempty"`
	} `json:"ietf-ip:ipv6,omitzero"`
}

// Neighbor is an address with the hardware address that answers for it.
type Neighbor struct {
	IP  netip.Addr  `json:"ip"`
	MAC address.MAC `json:"link-layer-address"`
}

// Station is a hardware address a switch has learnt, and the port it was heard on.
type Station struct {
	MAC       address.MAC `json:"hw-address"`
	Interface string      `json:"interface"`
}

// Lease is one lease of the device's DHCP server.
type Lease struct {
	Address  netip.Addr  `json:"address"`
	MAC      address.MAC `json:"hw-address"`
	ClientID []byte      `json:"client-id,omitempty"`
	HostName string      `json:"host-name,omitempty"`
	Class    string      `json:"vendor-class,omitempty"`
	Pool     string      `json:"pool"`
	State    string      `json:"state"`
	Since    time.Time   `json:"since"`
	Expires  time.Time   `json:"expires"`
	// AnsweredBy is the machine that answered at an address set aside, where it is known.
	AnsweredBy address.MAC `json:"answered-by,omitzero"`
}

// HeardServer is a DHCP server that a device heard answer on one of its interfaces.
type HeardServer struct {
	Address   netip.Addr  `json:"address"`
	MAC       address.MAC `json:"hw-address,omitzero"`
	Interface string      `json:"interface"`
	Last      time.Time   `json:"last"`
}

// LinkNeighbor is what a port hears of the device at the other end of its cable (IEEE 802.1AB).
type LinkNeighbor struct {
	Interface  string `json:"interface"`
	SystemName string `json:"system-name"`
	PortID     string `json:"port-id"`
}

// LinkSystem is what a device tells those at the other ends of its cables of itself (IEEE 802.1AB sections 8.5.7 and
// 8.5.8).
type LinkSystem struct {
	SystemName string   `json:"system-name,omitempty"`
	Capability []string `json:"capability,omitempty"` // that are in use
}

// The capabilities that tell what a device is.
const (
	CapabilityBridge  = "bridge"
	CapabilityRouter  = "router"
	CapabilityStation = "station-only"
)

// Does reports whether a device uses a capability.
func (s LinkSystem) Does(capability string) bool { return slices.Contains(s.Capability, capability) }

// Wire is the UDP endpoints that carry DHCP messages of one interface: what its network
// hears, and what is sent to its addresses from anywhere.
type Wire struct {
	Interface string `json:"interface"`
	Endpoint  string `json:"endpoint"`
	Routed    string `json:"routed,omitempty"`
}
