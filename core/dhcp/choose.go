package dhcp

import (
	"cmp"
	"encoding/binary"
	"net/netip"
	"slices"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"lithos/core/address"
	"lithos/core/option"
)

// grant is an address for one client with its options.
type grant struct {
	address netip.Addr
	pool    *pool
	own     *reservation // nil for an address of the pool
}

// levels is what tells the client of a grant options, farthest first.
func (g grant) levels(v *visit) []levelOptions {
	out := []levelOptions{g.pool.options}
	if v.class != nil {
		out = append(out, v.class.options)
	}
	if g.own != nil {
		out = append(out, g.own.options)
	}
	return out
}

func (g grant) option(v *visit, code uint8) []byte {
	levels := g.levels(v)
	for i := len(levels) - 1; i >= 0; i-- {
		if value := levels[i].values[code]; value != nil {
			return value
		}
	}
	return nil
}

func (g grant) lease(v *visit) time.Duration {
	if value := g.option(v, option.LeaseTime); len(value) == 4 {
		return time.Duration(binary.BigEndian.Uint32(value)) * time.Second
	}
	return g.pool.lease
}

// reservationOf finds the address kept for the client, if any. One at which somebody else
// was found is set aside like any other, and the client gets one of the pool meanwhile.
func (s *Server) reservationOf(v *visit) (grant, bool) {
	for _, p := range v.heard {
		r := s.reserved[clientKey(p.Subnet, v.id, v.mac)]
		if r == nil && v.id != nil {
			r = s.reserved[clientKey(p.Subnet, nil, v.mac)]
		}
		if r == nil {
			continue
		}
		if l := s.db.Holder(r.Address); l == nil || !l.setAside(v.now) {
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
		if within(p.spans, a) {
			l := s.db.Holder(a)
			return grant{a, p, nil}, l == nil || !l.holds(v.now) || l.State != Declined && l.of(v.id, v.mac)
		}
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
	if g, ok := s.mayHold(v, v.asked); ok {
		return g, true
	}
	for _, p := range v.pools {
		if a, ok := p.fresh(s.db); ok {
			return grant{a, p, nil}, true
		}
	}
	for _, p := range v.pools {
		if a, ok := s.idle(p, v.now); ok {
			return grant{a, p, nil}, true
		}
	}
	return grant{}, false
}

// fresh is the lowest address of the pool the lease database knows nothing of.
func (p *pool) fresh(db *LeaseDB) (netip.Addr, bool) {
	for p.span < len(p.spans) {
		for p.spans[p.span].Contains(p.next) {
			if db.Holder(p.next) == nil {
				return p.next, true // it stays the next one until the lease is noted
			}
			p.next = p.next.Next()
		}
		if p.span++; p.span < len(p.spans) {
			p.next = p.spans[p.span].From
		}
	}
	return netip.Addr{}, false
}

// idle is the address of the pool whose lease ended first.
func (s *Server) idle(p *pool, now time.Time) (netip.Addr, bool) {
	for {
		l, ok := s.db.idlest(p.ID, now)
		if !ok {
			return netip.Addr{}, false
		}
		if within(p.spans, l.Address) {
			return l.Address, true
		}
		s.db.drop(l.Address) // it left the pool with an earlier configuration
	}
}

// note writes a lease to the lease database. An address that is already the client's own
// is never shortened by a new offer.
func (s *Server) note(v *visit, g grant, state State, hold time.Duration) error {
	next := Lease{
		Address: g.address, MAC: v.mac, ClientID: slices.Clone(v.id), HostName: hostName(v.in),
		Class: className(v.in), Subnet: g.pool.Subnet,
		Pool: g.pool.ID, State: state, Since: v.now, Expires: v.now.Add(hold),
	}
	l := s.db.Holder(g.address)
	if l == nil || l.State == Declined || l.Pool != next.Pool || l.Subnet != next.Subnet || !l.of(v.id, v.mac) {
		return s.db.put(next)
	}
	if state == Offered && l.State == Bound && l.Expires.After(next.Expires) {
		return nil
	}
	next.HostName, next.Class = cmp.Or(next.HostName, l.HostName), cmp.Or(next.Class, l.Class)
	return s.db.change(l, next)
}

// ended writes that a client's lease is over.
func (s *Server) ended(l *Lease, now time.Time) error {
	next := *l
	next.State, next.Since, next.Expires = Released, now, now
	return s.db.change(l, next)
}

// Taken takes what a probe found: that a machine answers at the address of an answer.
// The address is then set aside for DeclineHold, with a note of the machine, which is
// zero where it is not known. It reports whether the answer may not be sent: it is false
// when the machine is the client itself.
func (s *Server) Taken(now time.Time, a Answer, by address.MAC) bool {
	g := a.grant
	if g.pool == nil || by == a.mac {
		return false
	}
	next := Lease{Address: g.address, Subnet: g.pool.Subnet, Pool: g.pool.ID, State: Declined, Since: now,
		Expires: now.Add(DeclineHold), AnsweredBy: by}
	if l := s.db.Holder(g.address); l != nil && l.State == Declined {
		next.MAC, next.ClientID, next.HostName, next.Since, next.Expires = l.MAC, l.ClientID, l.HostName, l.Since,
			l.Expires
	}
	_ = s.db.put(next) // set aside even where it could not be written
	return true
}

// className is what a client says of its kind first.
func className(in *dhcpv4.DHCPv4) string {
	said := classesSaid(in)
	if len(said) == 0 {
		return ""
	}
	return cleanClass(said[0])
}

func hostName(in *dhcpv4.DHCPv4) string { return cleanName(string(in.Options[option.HostName])) }
