package move

import (
	"net/netip"
	"slices"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"lithos/core/dhcp"
)

type actor struct {
	dhcp.Client
	known    Client
	bound    time.Time // when its lease was given or last extended
	lease    time.Duration
	t1, t2   time.Duration
	router   netip.Addr
	servers  []netip.Addr
	tries    int
	asleep   bool
	settled  bool
	at       time.Time // its next event
	place    int       // in the heap
	outages  []outage
	nameless spell // without name servers
	name     spell // its own name leads elsewhere
}

// spell is how long something was so, in all.
type spell struct {
	all   time.Duration
	since time.Time // zero where it is not so now
	first time.Time
	ended time.Time
}

func (s *spell) is(so bool, now time.Time) {
	switch {
	case so && s.since.IsZero():
		s.since = now
		if s.first.IsZero() {
			s.first = now
		}
	case !so && !s.since.IsZero():
		s.all += now.Sub(s.since)
		s.since, s.ended = time.Time{}, now
	}
}

// lack is the spell as it is at the end.
func (s *spell) lack(end time.Time) Lack {
	out := Lack{Seconds: int(s.all.Seconds())}
	switch {
	case !s.since.IsZero():
		out.Seconds += int(end.Sub(s.since).Seconds())
	case !s.ended.IsZero():
		out.Until = &s.ended
	}
	if !s.first.IsZero() {
		out.From = &s.first
	}
	return out
}

type outage struct{ from, to time.Time }

type clock []*actor

func (c clock) Len() int { return len(c) }

func (c clock) Less(i, j int) bool { return c[i].at.Before(c[j].at) }

func (c clock) Swap(i, j int) { c[i], c[j] = c[j], c[i]; c[i].place, c[j].place = i, j }

// Push implements heap.Interface.
func (c *clock) Push(x any) {
	a := x.(*actor)
	a.place = len(*c)
	*c = append(*c, a)
}

// Pop implements heap.Interface.
func (c *clock) Pop() any {
	last := (*c)[len(*c)-1]
	*c = (*c)[:len(*c)-1]
	return last
}

// turn is what a client does when its time has come.
func (n *night) turn(a *actor) {
	switch age := n.now.Sub(a.bound); {
	case a.asleep:
		a.asleep = false
		if !a.Address.IsValid() || age >= a.lease || !n.say(a, a.Reboot(), false) {
			n.discover(a)
		}
	case a.lease == 0 || age >= a.lease:
		a.lease = 0
		n.discover(a)
	case age < a.t2:
		if !n.say(a, a.Renew(), true) {
			a.at = n.now.Add(max(a.bound.Add(a.t2).Sub(n.now)/2, time.Minute))
			if a.at.After(a.bound.Add(a.t2)) || a.bound.Add(a.t2).Sub(n.now) <= time.Minute {
				a.at = a.bound.Add(a.t2)
			}
		}
	default:
		if !n.say(a, a.Renew(), false) {
			a.at = n.now.Add(max(a.bound.Add(a.lease).Sub(n.now)/2, time.Minute))
			if end := a.bound.Add(a.lease); a.at.After(end) {
				a.at = end
			}
		}
	}
}

// discover starts over: discover, offer, request, acknowledgement.
func (n *night) discover(a *actor) {
	a.lease = 0
	if offer := n.send(a, a.Discover(), netip.Addr{}); offer != nil && offer.MessageType() == dhcpv4.MessageTypeOffer {
		if n.say(a, a.Select(offer), false) {
			return
		}
	}
	a.at = n.now.Add(min(4*time.Second<<min(a.tries, 4), 64*time.Second))
	a.tries++
}

// say sends a request and takes what comes back. It reports whether the client has a lease now; one that is refused
// starts over at once.
func (n *night) say(a *actor, m *dhcpv4.DHCPv4, toServer bool) bool {
	to := netip.Addr{}
	if toServer {
		if to = a.ServerID; !n.onSubnet(a) {
			return false // what it sends to its server has no way there
		}
	}
	reply := n.send(a, m, to)
	if reply == nil {
		return false
	}
	if a.Take(reply) != nil {
		return false
	}
	switch reply.MessageType() {
	case dhcpv4.MessageTypeAck:
		n.bind(a, reply)
		return true
	case dhcpv4.MessageTypeNak:
		n.discover(a)
		return true // it has done what it could
	}
	return false
}

func (n *night) bind(a *actor, ack *dhcpv4.DHCPv4) {
	a.bound, a.tries, a.lease = n.now, 0, max(a.Lease, time.Second)
	a.t1, a.t2 = a.lease/2, a.lease*7/8
	a.t1 = ack.IPAddressRenewalTime(a.t1)
	a.t2 = ack.IPAddressRebindingTime(a.t2)
	a.router = netip.Addr{}
	if r := ack.Router(); len(r) > 0 {
		a.router, _ = netip.AddrFromSlice(r[0].To4())
	}
	a.servers = a.servers[:0]
	for _, d := range ack.DNS() {
		if s, ok := netip.AddrFromSlice(d.To4()); ok {
			a.servers = append(a.servers, s)
		}
	}
	a.at = n.now.Add(a.t1)
	a.settled = true
}

func (n *night) send(a *actor, m *dhcpv4.DHCPv4, to netip.Addr) *dhcpv4.DHCPv4 {
	net, ok := n.doc.Network(a.known.Network)
	if !ok || n.down[net.ID] {
		return nil
	}
	raw, _, err := n.world.Wire(net)(m.ToBytes(), to)
	if err != nil || raw == nil {
		return nil
	}
	reply, err := dhcp.ReadPacket(raw)
	if err != nil {
		return nil
	}
	return reply
}

// onSubnet reports whether a client's address is of the subnet that its network has.
func (n *night) onSubnet(a *actor) bool {
	net, ok := n.doc.Network(a.known.Network)
	return ok && a.Address.IsValid() && net.Prefix.Contains(a.Address)
}

// served reports whether a client has service.
func (n *night) served(a *actor) bool {
	return n.onSubnet(a) && a.lease > 0 && n.now.Before(a.bound.Add(a.lease)) && !n.down[a.known.Network] &&
		(!a.router.IsValid() || n.routers[a.router])
}

// named reports whether a client has a name server.
func (n *night) named(a *actor) bool {
	return len(a.servers) == 0 || n.served(a) && slices.ContainsFunc(a.servers, func(s netip.Addr) bool {
		return n.routers[s] || !n.doc.Inside(s)
	})
}
