// Package dhcp is a DHCPv4 server and client over real packets (RFC 2131): the
// engine that rehearsal, the simulated devices and the tests all run. It keeps
// no clock and opens no socket: the caller gives the time and carries packets.
package dhcp

import (
	"encoding/binary"
	"net/netip"
	"slices"
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
	pools     []*pool
	classes   []class
	heardOn   map[string][]*pool      // by interface
	reserved  map[client]*reservation // by subnet and hardware address
	byAddress map[netip.Addr]*reservation
	own       map[netip.Addr]bool   // the addresses of the device
	answers   map[string]netip.Addr // by interface: the address it answers from; uplinks have none
	speaks    netip.Addr            // where no interface says it
	db        *LeaseDB
}

type pool struct {
	yang.Pool
	serverID netip.Addr      // of a pool on an interface
	spans    []address.Range // what may be handed out to anyone
	span     int             // where the next never-used address is looked for
	next     netip.Addr
	options  levelOptions
	lease    time.Duration
}

type reservation struct {
	yang.Reservation
	pool    *pool
	options levelOptions
}

// class is a vendor class with the options of its clients.
type class struct {
	yang.Class
	options levelOptions
}

// levelOptions is the options of one level, and which of them are sent unasked.
type levelOptions struct {
	values dhcpv4.Options
	always map[uint8]bool
}

func toldOptions(options []yang.Option) levelOptions {
	out := levelOptions{dhcpv4.Options{}, map[uint8]bool{}}
	for _, o := range options {
		out.values[o.Code] = o.Value
		if o.Always {
			out.always[o.Code] = true
		}
	}
	return out
}

// NewServer serves the pools of a configuration with the leases of a lease database,
// which stays the caller's and is carried over from one configuration to the
// next. Pools that are switched off are not served.
func NewServer(c yang.Config, db *LeaseDB) *Server {
	s := &Server{heardOn: map[string][]*pool{}, reserved: map[client]*reservation{},
		byAddress: map[netip.Addr]*reservation{}, own: map[netip.Addr]bool{}, answers: map[string]netip.Addr{}, db: db}
	at := s.listen(c)
	byID := map[string]*pool{}
	for _, p := range c.DHCP.Pool {
		q := &pool{Pool: p, options: toldOptions(p.Option)}
		i := slices.IndexFunc(at[p.Interface], func(a netip.Prefix) bool { return a.Masked() == p.Subnet })
		switch {
		case !p.Enabled || !s.speaks.IsValid() || p.Interface != "" && i < 0:
			continue
		case p.Interface != "":
			q.serverID = at[p.Interface][i].Addr()
		}
		q.lease = leaseTime(q.options.values)
		q.options.values[option.SubnetMask] = address.Mask(p.Subnet.Bits()).AsSlice()
		q.options.always[option.SubnetMask] = true // it is the network's own
		q.options.values[option.Broadcast] = address.Of(p.Subnet).To.AsSlice()
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
			s.byAddress[r.Address] = v
		}
	}
	for _, p := range s.pools {
		p.spans = s.offered(p)
		if len(p.spans) > 0 {
			p.next = p.spans[0].From
		}
	}
	db.settle(s.poolOf)
	return s
}

// listen notes where a device answers, and returns its addresses by interface. It answers
// from no uplink: what is behind one is no network of its own.
func (s *Server) listen(c yang.Config) map[string][]netip.Prefix {
	at := map[string][]netip.Prefix{}
	for _, i := range c.Interfaces.Interface {
		if i.IPv4 == nil || !i.Enabled {
			continue
		}
		for _, a := range i.IPv4.Address {
			s.own[a.IP] = true
			at[i.Name] = append(at[i.Name], a.Prefix())
			if i.Uplink != nil {
				continue
			}
			if !s.answers[i.Name].IsValid() {
				s.answers[i.Name] = a.IP
			}
			if !s.speaks.IsValid() || a.IP.Less(s.speaks) {
				s.speaks = a.IP
			}
		}
	}
	return at
}

// poolOf is the pool that hands out an address, or keeps it for a client; nil for none.
func (s *Server) poolOf(a netip.Addr) *pool {
	if r := s.byAddress[a]; r != nil {
		return r.pool
	}
	for _, p := range s.pools {
		if within(p.spans, a) {
			return p
		}
	}
	return nil
}

// offered is the pool's ranges minus its exclusions, the addresses reserved for
// single clients, the device's own addresses and what no host may hold.
func (s *Server) offered(p *pool) []address.Range {
	var keep, cut []address.Range
	for _, r := range p.Range {
		if part, ok := r.AddressRange().Intersect(address.Usable(p.Subnet)); ok {
			keep = append(keep, part)
		}
	}
	for _, x := range p.Exclusion {
		cut = append(cut, x.AddressRange())
	}
	take := func(a netip.Addr) {
		if p.Subnet.Contains(a) { // of a large site, a few of many
			cut = append(cut, address.Single(a))
		}
	}
	for a := range s.byAddress {
		take(a)
	}
	for a := range s.own {
		take(a)
	}
	return address.Ranges(keep, cut)
}

// Serves reports whether a pool is served on the network of an interface.
func (s *Server) Serves(iface string) bool { return len(s.heardOn[iface]) > 0 }

// Leases lists what the server holds, as copies.
func (s *Server) Leases() []Lease { return s.db.Leases() }

// Offered lists what the pool with the given id hands out to anyone.
func (s *Server) Offered(id string) []address.Range {
	for _, p := range s.pools {
		if p.ID == id {
			return slices.Clone(p.spans)
		}
	}
	return nil
}

func leaseTime(o dhcpv4.Options) time.Duration {
	if v := o[option.LeaseTime]; len(v) == 4 {
		return time.Duration(binary.BigEndian.Uint32(v)) * time.Second
	}
	return option.DefaultLease
}
