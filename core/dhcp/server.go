// Package dhcp is a DHCPv4 server and client over real packets (RFC 2131): the
// engine that rehearsal, the simulated devices and the tests all run. It keeps
// no clock and opens no socket: the caller gives the time and carries packets.
package dhcp

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"lithos/core/address"
	"lithos/core/option"
	"lithos/core/yang"
)

const (
	// OfferHold is how long an offered address waits for its request.
	OfferHold = 60 * time.Second
	// DeclineHold is how long a declined address is set aside.
	DeclineHold = time.Hour
)

// Server answers the clients of one device. It is not safe for concurrent use.
type Server struct {
	// InUse probes an address before it is offered (RFC 2131 section 3.1); nil
	// means no probe.
	InUse func(netip.Addr) bool

	pools    []*pool
	classes  []class
	heardOn  map[string][]*pool      // by interface
	reserved map[client]*reservation // by subnet and hardware address
	kept     map[netip.Addr]*reservation
	db       *LeaseDB
}

type pool struct {
	yang.Pool
	serverID netip.Addr
	spans    []address.Range // what may be handed out to anyone
	span     int             // where the next never-used address is looked for
	next     netip.Addr
	told     dhcpv4.Options
	lease    time.Duration
}

type reservation struct {
	yang.Reservation
	pool *pool
	told dhcpv4.Options
}

// class is a vendor class with the options of its clients.
type class struct {
	yang.Class
	told dhcpv4.Options
}

// NewServer serves the pools of a configuration with the leases of a lease database,
// which stays the caller's and is carried over from one configuration to the
// next. Pools that are switched off are not served.
func NewServer(c yang.Config, db *LeaseDB) *Server {
	s := &Server{heardOn: map[string][]*pool{}, reserved: map[client]*reservation{},
		kept: map[netip.Addr]*reservation{}, db: db}
	own := map[netip.Addr]bool{}
	var speaks netip.Addr // the identifier where a relay speaks for the clients
	at := map[string][]netip.Prefix{}
	for _, i := range c.Interfaces.Interface {
		if i.IPv4 == nil || !i.Enabled {
			continue
		}
		for _, a := range i.IPv4.Address {
			own[a.IP] = true
			at[i.Name] = append(at[i.Name], a.Prefix())
			if !speaks.IsValid() || a.IP.Less(speaks) {
				speaks = a.IP
			}
		}
	}
	byID := map[string]*pool{}
	for _, p := range c.DHCP.Pool {
		q := &pool{Pool: p, serverID: speaks, told: toldOptions(p.Option)}
		i := slices.IndexFunc(at[p.Interface], func(a netip.Prefix) bool { return a.Masked() == p.Subnet })
		switch {
		case !p.Enabled || !speaks.IsValid() || p.Interface != "" && i < 0:
			continue
		case p.Interface != "":
			q.serverID = at[p.Interface][i].Addr()
		}
		q.lease = leaseTime(q.told)
		q.told[option.SubnetMask] = address.Mask(p.Subnet.Bits()).AsSlice()
		q.told[28] = address.Of(p.Subnet).To.AsSlice()
		byID[p.ID] = q
		s.pools = append(s.pools, q)
		if p.Interface != "" {
			s.heardOn[p.Interface] = append(s.heardOn[p.Interface], q)
		}
	}
	for _, k := range c.DHCP.Class {
		s.classes = append(s.classes, class{k, toldOptions(k.Option)})
	}
	for _, r := range c.DHCP.Reservation {
		if p := byID[r.Pool]; p != nil {
			v := &reservation{r, p, toldOptions(r.Option)}
			s.reserved[clientKey(p.Subnet, r.Client, r.MAC)] = v
			s.kept[r.Address] = v
		}
	}
	for _, p := range s.pools {
		p.spans = s.offered(p, own)
		if len(p.spans) > 0 {
			p.next = p.spans[0].From
		}
	}
	return s
}

// offered is the pool's ranges minus its exclusions, the addresses reserved for
// single clients, the device's own addresses and what no host may hold.
func (s *Server) offered(p *pool, own map[netip.Addr]bool) []address.Range {
	var keep, cut []address.Range
	for _, r := range p.Range {
		if part, ok := r.AddressRange().Intersect(address.Usable(p.Subnet)); ok {
			keep = append(keep, part)
		}
	}
	for _, x := range p.Exclusion {
		cut = append(cut, x.AddressRange())
	}
	for a := range s.kept {
		cut = append(cut, address.Single(a))
	}
	for a := range own {
		cut = append(cut, address.Single(a))
	}
	return address.Ranges(keep, cut)
}

// Offered lists what the pool with the given id hands out to anyone.
func (s *Server) Offered(id string) []address.Range {
	for _, p := range s.pools {
		if p.ID == id {
			return slices.Clone(p.spans)
		}
	}
	return nil
}

func toldOptions(options []yang.Option) dhcpv4.Options {
	out := dhcpv4.Options{}
	for _, o := range options {
		out[o.Code] = o.Value
	}
	return out
}

func leaseTime(o dhcpv4.Options) time.Duration {
	if v := o[option.LeaseTime]; len(v) == 4 {
		return time.Duration(binary.BigEndian.Uint32(v)) * time.Second
	}
	return option.DefaultLease
}

// Answer is what a server makes of a message: a reply, or silence, and why.
type Answer struct {
	Reply *dhcpv4.DHCPv4 // nil for silence
	says  string
	grant grant // what the reply gives, none for a refusal
	asked []byte
	limit int
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

// Why is one sentence for people.
func (a Answer) Why() string {
	switch {
	case a.grant.pool == nil:
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

// Handle answers a message heard on an interface. Whatever the message, it
// does not panic, and the lease database changes only for valid ones.
func (s *Server) Handle(now time.Time, in *dhcpv4.DHCPv4, iface string) Answer {
	if in == nil || in.OpCode != dhcpv4.OpcodeBootRequest || len(in.ClientHWAddr) != 6 {
		return silence("Not a request from an Ethernet client.")
	}
	v := s.visit(now, in, iface)
	switch {
	case len(v.heard) == 0 && v.relay.IsValid():
		return silence("No pool is served for the network of relay %s.", v.relay)
	case len(v.heard) == 0:
		return silence("No pool is served on %s.", iface)
	case len(v.pools) == 0:
		return silence("No pool here is for this kind of client.")
	}
	a := s.answer(v)
	a.asked, a.limit = in.Options[option.ParameterList], Accepts(in)
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
	heard    []*pool // of the network the client is on
	pools    []*pool // of those, the ones for this client
	class    *class  // of its vendor class, nil for none
	mac      address.MAC
	id       []byte
	relay    netip.Addr // giaddr, invalid when not relayed
	ciaddr   netip.Addr
	asked    netip.Addr // option 50
	serverID netip.Addr // option 54
}

func (s *Server) visit(now time.Time, in *dhcpv4.DHCPv4, iface string) *visit {
	v := &visit{
		now: now, in: in, mac: address.MAC(in.ClientHWAddr), id: in.Options[option.ClientID],
		relay: nonZero(in.GatewayIPAddr), ciaddr: nonZero(in.ClientIPAddr),
		asked: optionAddr(in, option.RequestedAddr), serverID: optionAddr(in, option.ServerID),
	}
	if len(v.id) < 2 { // RFC 2132 section 9.14: type octet and at least one more
		v.id = nil
	}
	v.heard = s.heardOn[iface]
	if v.relay.IsValid() {
		v.heard = nil
		for _, p := range s.pools {
			if p.Subnet.Contains(v.relay) {
				v.heard = append(v.heard, p)
			}
		}
	}
	v.class = s.classOf(in)
	v.pools = meant(v)
	return v
}

// classOf is the class of the client that sent in, nil when there is none.
func (s *Server) classOf(in *dhcpv4.DHCPv4) *class {
	return option.MatchClass(s.classes, string(in.Options[option.VendorClass]),
		func(c *class) string { return c.Match })
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

func optionAddr(in *dhcpv4.DHCPv4, code uint8) netip.Addr {
	if v := in.Options[code]; len(v) == 4 {
		return nonZero(net.IP(v))
	}
	return netip.Addr{}
}

// grant is an address for one client with its options.
type grant struct {
	address netip.Addr
	pool    *pool
	own     *reservation // nil for an address of the pool
}

// levels is what tells the client of a grant options, farthest first.
func (g grant) levels(v *visit) []dhcpv4.Options {
	out := []dhcpv4.Options{g.pool.told}
	if v.class != nil {
		out = append(out, v.class.told)
	}
	if g.own != nil {
		out = append(out, g.own.told)
	}
	return out
}

func (g grant) told(v *visit, code uint8) []byte {
	if g.own != nil && g.own.told[code] != nil {
		return g.own.told[code]
	}
	if v.class != nil && v.class.told[code] != nil {
		return v.class.told[code]
	}
	return g.pool.told[code]
}

func (g grant) lease(v *visit) time.Duration {
	if value := g.told(v, option.LeaseTime); len(value) == 4 {
		return time.Duration(binary.BigEndian.Uint32(value)) * time.Second
	}
	return g.pool.lease
}

// reservationOf finds the address kept for the client, if any.
func (s *Server) reservationOf(v *visit) (grant, bool) {
	for _, p := range v.heard {
		if v.id != nil {
			if r := s.reserved[clientKey(p.Subnet, v.id, v.mac)]; r != nil {
				return grant{r.Address, r.pool, r}, true
			}
		}
		if r := s.reserved[clientKey(p.Subnet, nil, v.mac)]; r != nil {
			return grant{r.Address, r.pool, r}, true
		}
	}
	return grant{}, false
}

// mayHold reports whether the client may have address a now, and under which grant.
func (s *Server) mayHold(v *visit, a netip.Addr) (grant, bool) {
	if g, ok := s.reservationOf(v); ok {
		return g, g.address == a
	}
	for _, p := range v.pools {
		if !within(p.spans, a) {
			continue
		}
		l := s.db.Holder(a)
		free := l == nil || !l.holds(v.now) || l.State != Declined &&
			s.db.byClient[clientKey(p.Subnet, v.id, v.mac)] == l
		return grant{a, p, nil}, free
	}
	return grant{}, false
}

func within(spans []address.Range, a netip.Addr) bool {
	_, ok := slices.BinarySearchFunc(spans, a, func(r address.Range, a netip.Addr) int {
		switch {
		case r.To.Less(a):
			return -1
		case a.Less(r.From):
			return 1
		}
		return 0
	})
	return ok
}

// choose picks an address as RFC 2131 section 4.3.1 lists: the client's own,
// the one it had, the one it asks for, one nobody ever had, the one idle longest.
func (s *Server) choose(v *visit) (grant, bool) {
	if g, ok := s.reservationOf(v); ok {
		return g, true
	}
	for _, p := range v.pools {
		if l := s.db.byClient[clientKey(p.Subnet, v.id, v.mac)]; l != nil {
			if g, ok := s.mayHold(v, l.Address); ok {
				return g, true
			}
		}
	}
	if g, ok := s.mayHold(v, v.asked); ok && !s.inUse(v, g) {
		return g, true
	}
	for _, p := range v.pools {
		for {
			a, ok := p.fresh(s.db)
			if !ok {
				break
			}
			if g := (grant{a, p, nil}); !s.inUse(v, g) {
				return g, true
			}
		}
	}
	for _, p := range v.pools {
		for {
			l, ok := s.db.idlest(p.ID, v.now)
			if !ok {
				break
			}
			if g := (grant{l.Address, p, nil}); within(p.spans, l.Address) && !s.inUse(v, g) {
				return g, true
			}
			if s.db.Holder(l.Address) != nil && !within(p.spans, l.Address) {
				s.db.drop(l.Address) // left the pool with an earlier configuration
			}
		}
	}
	return grant{}, false
}

// inUse probes the address of a grant and sets it aside when somebody answers.
func (s *Server) inUse(v *visit, g grant) bool {
	if s.InUse == nil || !s.InUse(g.address) {
		return false
	}
	s.db.put(Lease{Address: g.address, Subnet: g.pool.Subnet, Pool: g.pool.ID, State: Declined, Since: v.now,
		Expires: v.now.Add(DeclineHold)})
	return true
}

// fresh is the lowest address of the pool the lease database knows nothing of.
func (p *pool) fresh(db *LeaseDB) (netip.Addr, bool) {
	for p.span < len(p.spans) {
		for p.spans[p.span].Contains(p.next) {
			a := p.next
			p.next = a.Next()
			if db.Holder(a) == nil {
				return a, true
			}
		}
		if p.span++; p.span < len(p.spans) {
			p.next = p.spans[p.span].From
		}
	}
	return netip.Addr{}, false
}

func (s *Server) discover(v *visit) Answer {
	g, ok := s.choose(v)
	if !ok {
		return silence("Pool %s has no free address.", v.pools[0].Name)
	}
	s.note(v, g, Offered, OfferHold)
	return Answer{Reply: s.reply(v, g, dhcpv4.MessageTypeOffer, g.lease(v)), says: "Offered", grant: g}
}

// note writes a lease to the lease database. An address that is already the client's own
// is never shortened by a new offer.
func (s *Server) note(v *visit, g grant, state State, hold time.Duration) {
	expires := v.now.Add(hold)
	if l := s.db.Holder(g.address); l != nil && s.db.byClient[clientKey(g.pool.Subnet, v.id, v.mac)] == l {
		if state == Offered && l.State == Bound && l.Expires.After(expires) {
			return
		}
		if name := hostName(v.in); name != "" {
			l.HostName = name
		}
		s.db.extend(l, state, v.now, expires)
		return
	}
	s.db.put(Lease{
		Address: g.address, MAC: v.mac, ClientID: slices.Clone(v.id), HostName: hostName(v.in), Subnet: g.pool.Subnet,
		Pool: g.pool.ID, State: state, Since: v.now, Expires: expires,
	})
}

func hostName(in *dhcpv4.DHCPv4) string { return cleanName(string(in.Options[option.HostName])) }

// request tells the client states apart as RFC 2131 section 4.3.2 does.
func (s *Server) request(v *visit) Answer {
	want := v.asked
	state := "init-reboot"
	switch {
	case v.serverID.IsValid():
		state = "selecting"
		if !slices.ContainsFunc(v.pools, func(p *pool) bool { return p.serverID == v.serverID }) {
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
		return s.nak(v, fmt.Sprintf("%s is not on this network.", want))
	}
	g, ok := s.mayHold(v, want)
	if !ok {
		return s.nak(v, fmt.Sprintf("%s is not this client's.", want))
	}
	if l := s.db.Holder(want); state == "init-reboot" && g.own == nil && l == nil {
		// RFC 2131 section 4.3.2: a server with no record of the client stays silent.
		return silence("The client remembers %s, and this server has no record of it.", want)
	}
	s.note(v, g, Bound, g.lease(v))
	return Answer{Reply: s.reply(v, g, dhcpv4.MessageTypeAck, g.lease(v)),
		says: "Acknowledged, the client was " + state + ":", grant: g}
}

// withdraw frees what was offered to a client that chose another server.
func (s *Server) withdraw(v *visit) {
	for _, p := range v.pools {
		if l := s.db.byClient[clientKey(p.Subnet, v.id, v.mac)]; l != nil && l.State == Offered {
			s.db.extend(l, Released, v.now, v.now)
		}
	}
}

func (s *Server) nak(v *visit, why string) Answer {
	r := newReply(v, dhcpv4.MessageTypeNak)
	r.Options[option.ServerID] = v.pools[0].serverID.AsSlice()
	r.Options[56] = []byte(why)
	if v.relay.IsValid() {
		r.SetBroadcast() // RFC 2131 section 4.3.2: the client may hold an unusable address
	}
	return Answer{Reply: r, says: "Refused: " + why}
}

func (s *Server) decline(v *visit) Answer {
	for _, p := range v.pools {
		if l := s.db.Holder(v.asked); l != nil && s.db.byClient[clientKey(p.Subnet, v.id, v.mac)] == l {
			declined := *l
			declined.State, declined.Since, declined.Expires = Declined, v.now, v.now.Add(DeclineHold)
			s.db.put(declined)
			return silence("%s is in use by somebody else; set aside for an hour.", v.asked)
		}
	}
	return silence("The client declined an address it was not given.")
}

func (s *Server) release(v *visit) Answer {
	for _, p := range v.pools {
		if l := s.db.Holder(v.ciaddr); l != nil && s.db.byClient[clientKey(p.Subnet, v.id, v.mac)] == l {
			s.db.extend(l, Released, v.now, v.now)
			return silence("%s was given back.", v.ciaddr)
		}
	}
	return silence("The client released an address it did not have.")
}

func (s *Server) inform(v *visit) Answer {
	if !v.ciaddr.IsValid() {
		return silence("An inform must carry the client's address.")
	}
	for _, p := range v.pools {
		if p.Subnet.Contains(v.ciaddr) {
			r := s.reply(v, grant{v.ciaddr, p, nil}, dhcpv4.MessageTypeAck, 0)
			r.YourIPAddr = net.IPv4zero.To4()
			return Answer{Reply: r, says: "Told options; the client keeps its own address."}
		}
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
	return r
}

// reply builds an offer or acknowledgement. The client is told what its
// parameter request list names (RFC 2132 section 9.8), or everything when it
// sends none.
func (s *Server) reply(v *visit, g grant, kind dhcpv4.MessageType, lease time.Duration) *dhcpv4.DHCPv4 {
	r := newReply(v, kind)
	r.YourIPAddr = g.address.AsSlice()
	if kind == dhcpv4.MessageTypeAck {
		r.ClientIPAddr = v.in.ClientIPAddr
	}
	r.Options[option.ServerID] = g.pool.serverID.AsSlice()
	wanted := v.in.Options[option.ParameterList]
	put := func(code uint8, value []byte) {
		timer := code == option.LeaseTime || code == option.RenewalT1 || code == option.RebindingT2
		if len(value) > 0 && !timer && (wanted == nil || slices.Contains(wanted, code)) {
			r.Options[code] = value
		}
	}
	if g.own != nil && g.own.Name != "" {
		put(option.HostName, []byte(g.own.Name))
	}
	for _, level := range g.levels(v) {
		for code, value := range level {
			put(code, value)
		}
	}
	s.boot(v, g, r)
	if lease > 0 {
		r.Options[option.LeaseTime] = binary.BigEndian.AppendUint32(nil, uint32(lease/time.Second))
		for _, timer := range []uint8{option.RenewalT1, option.RebindingT2} {
			if value := g.told(v, timer); len(value) == 4 {
				r.Options[timer] = value
			}
		}
	}
	return r
}

// boot fills the header fields that boot loaders read (RFC 2131 section 2): the
// next server's address, its name and the boot file.
func (s *Server) boot(v *visit, g grant, r *dhcpv4.DHCPv4) {
	server, file := g.told(v, option.BootServer), g.told(v, option.BootFile)
	if len(server) < 64 {
		r.ServerHostName = string(server)
	}
	if len(file) < 128 {
		r.BootFileName = string(file)
	}
	if next := g.told(v, option.BootServers); len(next) >= 4 {
		r.ServerIPAddr = net.IP(next[:4])
	} else if a, err := netip.ParseAddr(string(server)); err == nil && a.Is4() {
		r.ServerIPAddr = a.AsSlice()
	}
}
