package dhcp

import (
	"fmt"
	"net/netip"
	"slices"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"lithos/core/option"
	"lithos/core/yang"
)

// maxHops is how many relays a request may pass (RFC 1542 section 4.1.1).
const maxHops = 16

// circuitID is the sub-option of relay information that names the interface a
// request was heard on (RFC 3046 section 3.1).
const circuitID = 1

// Relay passes requests heard on a device's interfaces to servers elsewhere and
// their replies back (RFC 1542 section 4, RFC 3046). It keeps no state and is
// safe for concurrent use.
type Relay struct {
	on map[string]relayed
}

type relayed struct {
	address netip.Addr
	servers []netip.Addr
}

// NewRelay relays as a configuration says.
func NewRelay(c yang.Config) *Relay {
	r := &Relay{on: map[string]relayed{}}
	for _, want := range c.Relays.Relay {
		for _, i := range c.Interfaces.Interface {
			if i.Name == want.Interface && i.Enabled && i.IPv4 != nil && len(i.IPv4.Address) > 0 {
				r.on[i.Name] = relayed{i.IPv4.Address[0].IP, want.Server}
			}
		}
	}
	return r
}

// Active reports whether the relay listens on an interface.
func (r *Relay) Active(iface string) bool { return len(r.on[iface].servers) > 0 }

// Forward is the message to pass on and the servers to pass it to, none when it
// is not to be relayed; why says so in words. in is not changed.
func (r *Relay) Forward(in *dhcpv4.DHCPv4, iface string) (out *dhcpv4.DHCPv4, servers []netip.Addr, why string) {
	on, ok := r.on[iface]
	switch {
	case !ok:
		return nil, nil, fmt.Sprintf("Nothing is relayed from %s.", iface)
	case in == nil || in.OpCode != dhcpv4.OpcodeBootRequest:
		return nil, nil, "Not a request."
	case in.HopCount > maxHops:
		return nil, nil, fmt.Sprintf("The request has passed %d relays already; it is going in circles.", in.HopCount)
	}
	giaddr := nonZero(in.GatewayIPAddr)
	if r.owns(giaddr) {
		return nil, nil, "The request claims to come from this relay."
	}
	if _, says := in.Options[option.RelayInfo]; says && !giaddr.IsValid() {
		// RFC 3046 section 2.1.1: no circuit here is trusted to say where it is.
		return nil, nil, "The request carries relay information (option 82) and comes from no relay; it is discarded."
	}
	copied := *in
	out = &copied
	out.HopCount++
	out.Options = make(dhcpv4.Options, len(in.Options)+1)
	for code, value := range in.Options {
		out.Options[code] = value
	}
	if !giaddr.IsValid() {
		out.GatewayIPAddr = on.address.AsSlice()
		out.Options[option.RelayInfo] = append([]byte{circuitID, byte(min(len(iface), 200))},
			iface[:min(len(iface), 200)]...)
	}
	return out, slices.Clone(on.servers), fmt.Sprintf("Relayed from %s.", iface)
}

func (r *Relay) owns(a netip.Addr) bool {
	for _, on := range r.on {
		if a.IsValid() && on.address == a {
			return true
		}
	}
	return false
}

// Back is the reply to send to the client and the interface to send it on; ok is
// false for a reply that is not for a client of this relay. in is not changed.
func (r *Relay) Back(in *dhcpv4.DHCPv4) (out *dhcpv4.DHCPv4, iface string, ok bool) {
	if in == nil || in.OpCode != dhcpv4.OpcodeBootReply {
		return nil, "", false
	}
	for name, on := range r.on {
		if nonZero(in.GatewayIPAddr) != on.address {
			continue
		}
		copied := *in
		out, iface = &copied, name
		out.Options = make(dhcpv4.Options, len(in.Options))
		for code, value := range in.Options {
			if code != option.RelayInfo { // RFC 3046 section 2.1: removed before it reaches the client
				out.Options[code] = value
			}
		}
		out.GatewayIPAddr = netip.IPv4Unspecified().AsSlice()
		return out, iface, true
	}
	return nil, "", false
}
