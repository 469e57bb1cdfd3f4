package dhcp

import (
	"bytes"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"lithos/core/address"
	"lithos/core/option"
)

// Event is what a message came to, for logs and counters.
type Event string

// The events of a server.
const (
	EventNone      Event = ""          // nothing to tell
	EventOffer     Event = "offer"     // an address was offered
	EventLease     Event = "lease"     // an address was given or its lease extended
	EventNak       Event = "nak"       // a client was refused its address
	EventDecline   Event = "decline"   // a client found its address in use
	EventRelease   Event = "release"   // a client gave its address back
	EventInform    Event = "inform"    // a client was told options alone
	EventExhausted Event = "exhausted" // there was no free address
	EventUnwritten Event = "unwritten" // the lease database could not be written, so the client was not told
)

// Answer is what a server makes of a message: a reply, or silence, and why.
type Answer struct {
	Reply *dhcpv4.DHCPv4 // nil for silence
	// Probe is an address of which it is to be found out whether a machine answers
	// there: before the reply is sent (RFC 2131 section 3.1), or after a client
	// declined it. Server.Taken takes what was found. It is invalid for none.
	Probe netip.Addr
	Event Event

	says  string
	grant grant // what the reply gives, none for a refusal
	asked []byte
	limit int
	mac   address.MAC
}

// Wire is the reply as it goes out, in the order the client asked for options
// and no larger than it accepts, and the codes that did not fit. It is nil for
// silence.
func (a Answer) Wire() (wire []byte, left []uint8) {
	if a.Reply == nil {
		return nil, nil
	}
	return Pack(a.Reply, a.asked, a.limit)
}

// Address is what the answer gives or refuses, invalid for none.
func (a Answer) Address() netip.Addr { return a.grant.address }

// Pool is the name of the pool the address is of, empty for none.
func (a Answer) Pool() string {
	if a.grant.pool == nil {
		return ""
	}
	return a.grant.pool.Name
}

// Why is one sentence for people.
func (a Answer) Why() string {
	switch {
	case a.grant.pool == nil || a.Reply == nil:
		return a.says
	case a.grant.own != nil:
		return fmt.Sprintf("%s %s, reserved for this client.%s", a.says, a.grant.address, a.leftOut())
	default:
		return fmt.Sprintf("%s %s from pool %s.%s", a.says, a.grant.address, a.grant.pool.Name, a.leftOut())
	}
}

func (a Answer) leftOut() string {
	_, left := a.Wire()
	if len(left) == 0 {
		return ""
	}
	return fmt.Sprintf(" Options %s did not fit the %d octets its client accepts.",
		strings.Trim(strings.ReplaceAll(fmt.Sprint(left), " ", ", "), "[]"), a.limit)
}

func silence(format string, args ...any) Answer { return Answer{says: fmt.Sprintf(format, args...)} }

// Handle answers a message that was broadcast on the network of an interface.
// Whatever the message, it does not panic, and the lease database changes only for
// valid ones.
func (s *Server) Handle(now time.Time, in *dhcpv4.DHCPv4, iface string) Answer {
	return s.handle(now, in, iface, false)
}

// HandleSent answers a message that was sent to an address of the interface: by a
// relay, or by a client that renews, gives its address back or asks for options
// alone. Such a client's network is that of its address (RFC 2131 section 4.3.2).
func (s *Server) HandleSent(now time.Time, in *dhcpv4.DHCPv4, iface string) Answer {
	return s.handle(now, in, iface, true)
}

func (s *Server) handle(now time.Time, in *dhcpv4.DHCPv4, iface string, sent bool) Answer {
	switch {
	case in == nil || in.OpCode != dhcpv4.OpcodeBootRequest || len(in.ClientHWAddr) != 6:
		return silence("Not a request from an Ethernet client.")
	case in.ClientHWAddr[0]&1 != 0:
		return silence("%s is the hardware address of a group, which no single client has.", in.ClientHWAddr)
	}
	v := s.visit(now, in, iface, sent)
	switch {
	case len(v.heard) == 0 && v.chosen.IsValid():
		return silence("No pool is served for the network of %s, which the request names.", v.chosen)
	case len(v.heard) == 0 && v.relay.IsValid():
		return silence("No pool is served for the network of relay %s.", v.relay)
	case len(v.heard) == 0 && sent:
		return silence("No pool is served for the network of %s.", v.ciaddr)
	case len(v.heard) == 0:
		return silence("No pool is served on %s.", iface)
	case len(v.pools) == 0 && !v.givesBack():
		return silence("No pool here is for this kind of client.")
	}
	a := s.answer(v)
	a.asked, a.limit, a.mac = in.Options[option.ParameterList], Accepts(in), v.mac
	return a
}

func (s *Server) answer(v *visit) Answer {
	switch v.in.MessageType() {
	case dhcpv4.MessageTypeDiscover:
		return s.discover(v)
	case dhcpv4.MessageTypeRequest:
		return s.request(v)
	case dhcpv4.MessageTypeDecline:
		return s.decline(v)
	case dhcpv4.MessageTypeRelease:
		return s.release(v)
	case dhcpv4.MessageTypeInform:
		return s.inform(v)
	default:
		return silence("A %s is not for servers.", v.in.MessageType())
	}
}

// visit is one message with what is known of its sender.
type visit struct {
	now      time.Time
	in       *dhcpv4.DHCPv4
	iface    string
	heard    []*pool // of the network the client is on
	pools    []*pool // of those, the ones for this client
	class    *class  // of its vendor class, nil for none
	mac      address.MAC
	id       []byte
	relay    netip.Addr // giaddr, invalid when not relayed
	chosen   netip.Addr // what names the client's network in place of giaddr (RFC 3527, RFC 3011)
	speaksAs netip.Addr // the server identifier a relay asks for (RFC 5107)
	ciaddr   netip.Addr
	asked    netip.Addr // option 50
	serverID netip.Addr // option 54
}

// The sub-options of relay information that a server heeds.
const (
	linkSelection    = 5  // RFC 3527 section 3
	serverIDOverride = 11 // RFC 5107 section 4
)

func (s *Server) visit(now time.Time, in *dhcpv4.DHCPv4, iface string, sent bool) *visit {
	v := &visit{
		now: now, in: in, iface: iface, mac: address.MAC(in.ClientHWAddr), id: in.Options[option.ClientID],
		relay: nonZero(in.GatewayIPAddr), ciaddr: nonZero(in.ClientIPAddr),
		asked: optionAddr(in, option.RequestedAddr), serverID: optionAddr(in, option.ServerID),
		chosen: optionAddr(in, option.SubnetSelection),
	}
	if len(v.id) < 2 { // RFC 2132 section 9.14: type octet and at least one more
		v.id = nil
	}
	if codes, values, ok := option.SubOptionsOf(in.Options[option.RelayInfo]); ok && v.relay.IsValid() {
		for i, code := range codes {
			switch a := fourOctets(values[i]); code {
			case linkSelection:
				v.chosen = a
			case serverIDOverride:
				v.speaksAs = a
			}
		}
	}
	switch {
	case v.chosen.IsValid():
		v.heard = s.serving(v.chosen)
	case v.relay.IsValid():
		v.heard = s.serving(v.relay)
	case sent:
		v.heard = s.serving(v.ciaddr)
	default:
		v.heard = s.heardOn[iface]
	}
	v.class = s.classOf(in)
	v.pools = meant(v)
	return v
}

// serving is the pools of the network an address is in.
func (s *Server) serving(a netip.Addr) []*pool {
	var out []*pool
	for _, p := range s.pools {
		if p.Subnet.Contains(a) {
			out = append(out, p)
		}
	}
	return out
}

// identifier is the address the server names itself by to the clients of a pool
// (RFC 2131 section 4.1): the one a relay asks for, that on the clients' network, else
// that of the interface the request came to.
func (s *Server) identifier(v *visit, p *pool) netip.Addr {
	switch a := s.answers[v.iface]; {
	case v.speaksAs.IsValid():
		return v.speaksAs
	case p.serverID.IsValid():
		return p.serverID
	case a.IsValid():
		return a
	default:
		return s.speaks
	}
}

// givesBack reports whether a message ends a lease. Such a message says nothing of the kind of client (RFC 2131 table
// 5), so that it is heeded whatever kinds the pools are for.
func (v *visit) givesBack() bool {
	kind := v.in.MessageType()
	return kind == dhcpv4.MessageTypeRelease || kind == dhcpv4.MessageTypeDecline
}

// toAnother reports whether a message names another server as the one it is meant for (RFC 2131 section 4.3.4).
func (s *Server) toAnother(v *visit) bool {
	return v.serverID.IsValid() && v.serverID != v.speaksAs && !s.own[v.serverID]
}

// classOf is the class of the client that sent in, nil when there is none.
func (s *Server) classOf(in *dhcpv4.DHCPv4) *class {
	var best *class
	for _, said := range classesSaid(in) {
		c := option.MatchClass(s.classes, said, func(c *class) string { return c.Match })
		if c != nil && (best == nil || len(c.Match) > len(best.Match)) {
			best = c
		}
	}
	return best
}

// classesSaid is what a client says of its kind.
func classesSaid(in *dhcpv4.DHCPv4) []string {
	return option.ClassesSaid(in.Options[option.VendorClass], in.Options[option.VendorClasses])
}

// meant is the pools for this client: those kept for its class or identifier
// where there are any, else those for anyone.
func meant(v *visit) []*pool {
	if !slices.ContainsFunc(v.heard, (*pool).choosy) {
		return v.heard
	}
	var own, anyone []*pool
	for _, p := range v.heard {
		switch {
		case !p.choosy():
			anyone = append(anyone, p)
		case (p.ForClass == "" || v.class != nil && v.class.ID == p.ForClass) &&
			(len(p.ForClient) == 0 || bytes.HasPrefix(v.id, p.ForClient)):
			own = append(own, p)
		}
	}
	if len(own) > 0 {
		return own
	}
	return anyone
}

func (p *pool) choosy() bool { return p.ForClass != "" || len(p.ForClient) > 0 }

func nonZero(ip net.IP) netip.Addr {
	a, ok := netip.AddrFromSlice(ip.To4())
	if !ok || a.IsUnspecified() {
		return netip.Addr{}
	}
	return a
}

func optionAddr(in *dhcpv4.DHCPv4, code uint8) netip.Addr { return fourOctets(in.Options[code]) }

// fourOctets is a value that must be one address; invalid for any other.
func fourOctets(value []byte) netip.Addr {
	if len(value) == 4 {
		return nonZero(net.IP(value))
	}
	return netip.Addr{}
}
