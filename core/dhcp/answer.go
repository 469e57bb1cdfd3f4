package dhcp

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"lithos/core/option"
)

func (s *Server) discover(v *visit) Answer {
	g, ok := s.choose(v)
	if !ok {
		a := silence("Pool %s has no free address.", v.pools[0].Name)
		a.Event, a.grant.pool = EventExhausted, v.pools[0]
		return a
	}
	l := s.db.Holder(g.address)
	holds := l != nil && l.holds(v.now) && l.State != Declined && l.of(v.id, v.mac)
	if err := s.note(v, g, Offered, OfferHold); err != nil {
		return unwritten(g, err)
	}
	a := Answer{Reply: s.reply(v, g, dhcpv4.MessageTypeOffer, g.lease(v)), Event: EventOffer, says: "Offered", grant: g}
	if !holds {
		a.Probe = g.address
	}
	return a
}

// unwritten is the silence of a server that could not write down what it would promise.
func unwritten(g grant, err error) Answer {
	a := silence("The lease of %s could not be written down, so its client is not told of it: %v.", g.address, err)
	a.Event, a.grant = EventUnwritten, g
	return a
}

// request tells the client states apart as RFC 2131 section 4.3.2 does.
func (s *Server) request(v *visit) Answer {
	want := v.asked
	state := "init-reboot"
	switch {
	case v.serverID.IsValid():
		state = "selecting"
		if !s.own[v.serverID] && v.serverID != v.speaksAs {
			s.withdraw(v)
			return silence("The client chose the server %s.", v.serverID)
		}
	case v.ciaddr.IsValid():
		state, want = "renewing or rebinding", v.ciaddr
	}
	if !want.IsValid() {
		return silence("The request names no address.")
	}
	if !slices.ContainsFunc(v.heard, func(p *pool) bool { return p.Subnet.Contains(want) }) {
		return s.nak(v, want, fmt.Sprintf("%s is not on this network.", want))
	}
	g, ok := s.mayHold(v, want)
	l := s.db.Holder(want)
	switch {
	case !ok && g.pool == nil && !v.serverID.IsValid() && !s.knows(v):
		// RFC 2131 section 4.3.2: a server with no record of the client stays silent. The
		// address is none of its own, so it may be another server's.
		return silence("%s is not for this server to give, and it has no record of the client; another may have.", want)
	case !ok:
		return s.nak(v, want, fmt.Sprintf("%s is not this client's.", want))
	case state == "init-reboot" && g.own == nil && l == nil:
		return silence("The client remembers %s, and this server has no record of it.", want)
	case state == "init-reboot" && g.own == nil && !l.of(v.id, v.mac):
		return s.nak(v, want, fmt.Sprintf("%s was given to somebody else since.", want))
	}
	if err := s.note(v, g, Bound, g.lease(v)); err != nil {
		return unwritten(g, err)
	}
	return Answer{Reply: s.reply(v, g, dhcpv4.MessageTypeAck, g.lease(v)), Event: EventLease,
		says: "Acknowledged, the client was " + state + ":", grant: g}
}

// knows reports whether the server has any record of the client on its network.
func (s *Server) knows(v *visit) bool {
	if _, ok := s.reservationOf(v); ok {
		return true
	}
	return slices.ContainsFunc(v.heard, func(p *pool) bool {
		return s.db.byClient[clientKey(p.Subnet, v.id, v.mac)] != nil
	})
}

// withdraw frees what was offered to a client that chose another server.
func (s *Server) withdraw(v *visit) {
	for _, p := range v.pools {
		if l := s.db.byClient[clientKey(p.Subnet, v.id, v.mac)]; l != nil && l.State == Offered {
			_ = s.ended(l, v.now) // an offer ends by itself otherwise
		}
	}
}

func (s *Server) nak(v *visit, want netip.Addr, why string) Answer {
	r := newReply(v, dhcpv4.MessageTypeNak)
	r.Options[option.ServerID] = s.identifier(v, v.pools[0]).AsSlice()
	r.Options[option.Message] = []byte(why)
	if v.relay.IsValid() {
		r.SetBroadcast() // RFC 2131 section 4.3.2: the client may hold an unusable address
	}
	return Answer{Reply: r, Event: EventNak, says: "Refused: " + why, grant: grant{address: want}}
}

func (s *Server) decline(v *visit) Answer {
	if s.toAnother(v) {
		return silence("The client declined an address of another server, %s.", v.serverID)
	}
	l := s.db.Holder(v.asked)
	if l == nil || l.State == Declined || !l.of(v.id, v.mac) ||
		!slices.ContainsFunc(v.heard, func(p *pool) bool { return p.Subnet.Contains(v.asked) }) {
		return silence("The client declined an address it was not given.")
	}
	declined := *l
	declined.State, declined.Since, declined.Expires = Declined, v.now, v.now.Add(DeclineHold)
	_ = s.db.put(declined) // set aside even where it could not be written
	a := silence("%s is in use by somebody else; set aside for an hour.", v.asked)
	a.Event, a.Probe, a.grant = EventDecline, v.asked, grant{address: v.asked, pool: s.poolOf(v.asked)}
	return a
}

func (s *Server) release(v *visit) Answer {
	if s.toAnother(v) {
		return silence("The client gave its address back to another server, %s.", v.serverID)
	}
	l := s.db.Holder(v.ciaddr)
	if l == nil || l.State == Declined || !l.of(v.id, v.mac) {
		return silence("The client released an address it did not have.")
	}
	if err := s.ended(l, v.now); err != nil {
		return unwritten(grant{address: v.ciaddr}, err)
	}
	a := silence("%s was given back.", v.ciaddr)
	a.Event, a.grant = EventRelease, grant{address: v.ciaddr, pool: s.poolOf(v.ciaddr)}
	return a
}

func (s *Server) inform(v *visit) Answer {
	if !v.ciaddr.IsValid() {
		return silence("An inform must carry the client's address.")
	}
	for _, p := range v.pools {
		if !p.Subnet.Contains(v.ciaddr) {
			continue
		}
		g := grant{v.ciaddr, p, nil}
		if kept, ok := s.reservationOf(v); ok {
			g.own = kept.own // what its reservation says holds for it whatever address it has
		}
		r := s.reply(v, g, dhcpv4.MessageTypeAck, 0)
		r.YourIPAddr = net.IPv4zero.To4()
		return Answer{Reply: r, Event: EventInform, says: "Told options; the client keeps its own address."}
	}
	return silence("%s is not on this network.", v.ciaddr)
}

func newReply(v *visit, kind dhcpv4.MessageType) *dhcpv4.DHCPv4 {
	zero := net.IPv4zero.To4()
	r := &dhcpv4.DHCPv4{
		OpCode: dhcpv4.OpcodeBootReply, HWType: v.in.HWType, ClientHWAddr: v.in.ClientHWAddr,
		TransactionID: v.in.TransactionID,
		Flags:         v.in.Flags, ClientIPAddr: zero, YourIPAddr: zero, ServerIPAddr: zero,
		GatewayIPAddr: v.in.GatewayIPAddr,
		Options:       make(dhcpv4.Options, 16), // a usual reply's, so that it does not grow
	}
	r.Options[option.MessageType] = []byte{byte(kind)}
	if v.id != nil {
		r.Options[option.ClientID] = v.id // RFC 6842
	}
	if info, ok := v.in.Options[option.RelayInfo]; ok {
		r.Options[option.RelayInfo] = info // RFC 3046 section 2.2
	}
	if chosen, ok := v.in.Options[option.SubnetSelection]; ok {
		r.Options[option.SubnetSelection] = chosen // RFC 3011 section 2
	}
	return r
}

// reply builds an offer or acknowledgement. The client is told what its parameter
// request list names (RFC 2132 section 9.8), or everything when it sends none; and
// what its network, class and reservation set, asked for or not (RFC 2131 section
// 4.3.1).
func (s *Server) reply(v *visit, g grant, kind dhcpv4.MessageType, lease time.Duration) *dhcpv4.DHCPv4 {
	r := newReply(v, kind)
	r.YourIPAddr = g.address.AsSlice()
	if kind == dhcpv4.MessageTypeAck {
		r.ClientIPAddr = v.in.ClientIPAddr
	}
	r.Options[option.ServerID] = s.identifier(v, g.pool).AsSlice()
	wanted := v.in.Options[option.ParameterList]
	asks := func(code uint8) bool { return wanted == nil || slices.Contains(wanted, code) }
	if g.own != nil && g.own.Name != "" && asks(option.HostName) {
		r.Options[option.HostName] = []byte(g.own.Name)
	}
	for _, level := range g.levels(v) {
		for code, value := range level.values {
			if !isTimer(code) && (asks(code) || level.always[code]) {
				r.Options[code] = value
			}
		}
	}
	s.boot(v, g, r)
	if class := v.in.Options[option.VendorClass]; bytes.HasPrefix(class, []byte(httpBoot)) &&
		len(g.option(v, option.BootFile)) > 0 {
		// A client that boots over HTTP takes no address of a file from a server that does not
		// say its class back (UEFI Specification section 24.7.3).
		r.Options[option.VendorClass], r.Options[option.BootFile] = []byte(httpBoot), g.option(v, option.BootFile)
	}
	if len(r.Options[option.ClasslessRoutes]) > 0 && slices.Contains(wanted, option.ClasslessRoutes) {
		// RFC 3442: a client that asks for classless routes is not told the older two as well.
		delete(r.Options, option.Router)
		delete(r.Options, option.StaticRoutes)
	}
	if lease > 0 {
		r.Options[option.LeaseTime] = binary.BigEndian.AppendUint32(nil, uint32(lease/time.Second))
		for _, timer := range []uint8{option.RenewalT1, option.RebindingT2} {
			if value := g.option(v, timer); len(value) == 4 {
				r.Options[timer] = value
			}
		}
	}
	return r
}

// httpBoot is how the vendor class of a client that boots over HTTP begins.
const httpBoot = "HTTPClient"

func isTimer(code uint8) bool {
	return code == option.LeaseTime || code == option.RenewalT1 || code == option.RebindingT2
}

// boot fills the header fields that boot loaders read (RFC 2131 section 2): the
// next server's address, its name and the boot file.
func (s *Server) boot(v *visit, g grant, r *dhcpv4.DHCPv4) {
	server, file := g.option(v, option.BootServer), g.option(v, option.BootFile)
	if len(server) < 64 {
		r.ServerHostName = string(server)
	}
	if len(file) < 128 {
		r.BootFileName = string(file)
	}
	if next := g.option(v, option.BootServers); len(next) >= 4 {
		r.ServerIPAddr = net.IP(next[:4])
	} else if a, err := netip.ParseAddr(string(server)); err == nil && a.Is4() {
		r.ServerIPAddr = a.AsSlice()
	}
}
