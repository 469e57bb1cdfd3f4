package standin

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"net"
	"net/netip"
	"slices"
	"time"

	"lithos/core/address"
	"lithos/core/dhcp"
)

// Client is a simulated machine on a network of a site.
type Client struct {
	Name  string
	MAC   address.MAC
	VLAN  int        // of the network it is plugged into at first, 0 for untagged
	Fixed netip.Addr // the address it holds itself; invalid for a DHCP client
}

// atRest is how many times as long clients take to renew as to come.
const atRest = 4

// tryAgain is after how many times the pace a client without an address asks again, and a machine with an address
// of its own says something again, at the earliest.
const tryAgain = 250

// guest is a client of a site and when it has something to do next.
type guest struct {
	Client
	dhcp dhcp.Client
	due  time.Time
}

// RunClients lets the clients of a site come at a pace, one after the other, and then renew at half of their lease
// (RFC 2131 section 4.4.5), until ctx ends. Each has a socket of its own and speaks real DHCP to every device that
// hears its network. Where something changes at the site, all of them look at once: nobody has to wait for half of a
// lease to see what became of it.
func (f *Fabric) RunClients(ctx context.Context, who []Client, pace time.Duration) {
	clients := make([]*guest, len(who))
	for i, c := range who {
		clients[i] = &guest{Client: c, dhcp: dhcp.Client{MAC: c.MAC, HostName: c.Name}}
	}
	if len(clients) == 0 {
		return
	}
	changed, between := f.changes(), pace
	for rest := len(clients); ; rest-- {
		if rest == 0 {
			between = atRest * pace // all have come
		}
		next := slices.MinFunc(clients, func(a, b *guest) int { return a.due.Compare(b.due) })
		select {
		case <-ctx.Done():
			return
		case <-changed:
			changed = f.changes()
			for _, m := range clients {
				m.due = time.Time{}
			}
		case <-time.After(max(between, time.Until(next.due))):
			next.due = f.visit(next, pace)
		}
	}
}

// visit is one turn of a client: it leases or renews, and is heard. It says when the next one is due.
func (f *Fabric) visit(m *guest, pace time.Duration) (due time.Time) {
	now := time.Now()
	again := now.Add(tryAgain * pace)
	at, vlan := f.hearing(m.Client)
	switch {
	case len(at) == 0:
		return again
	case m.Fixed.IsValid():
		f.hear(at, m.Client, m.Fixed)
		// Each in a rhythm of its own: two machines on one address are heard in turn.
		return again.Add(time.Duration(hashOf(m.MAC)%tryAgain) * pace)
	case f.lease(at, f.straysOn(vlan), &m.dhcp) != nil:
		return again
	}
	f.hear(at, m.Client, m.dhcp.Address)
	if m.dhcp.Lease == 0 {
		return again
	}
	return now.Add(m.dhcp.Lease / 2)
}

// hear enters a client in the neighbour tables of the devices on its network,
// and in what the site's switches have learnt of ports.
func (f *Fabric) hear(at []place, who Client, holds netip.Addr) {
	for _, p := range at {
		p.device.mu.Lock()
		for a, h := range p.device.heard {
			if h.mac == who.MAC && a != holds && h.name == who.Name && !who.Fixed.IsValid() {
				delete(p.device.heard, a)
			}
		}
		p.device.heard[holds] = heard{p.iface, who.MAC, who.Name}
		p.device.mu.Unlock()
	}
	h := f.hang(who)
	for _, d := range f.devices() {
		d.learn(who, h)
	}
}

// hearing lists who hears a client, and its VLAN: of those on that the ones that its frames get to from the port it is
// plugged into. Where the site has no port for it, behind a trunk, and of devices whose cables are not recorded, all
// are taken to. A client whose port is off is heard by nobody.
func (f *Fabric) hearing(who Client) (at []place, vlan int) {
	h := f.hang(who)
	vlan, on := h.vlan(who)
	if !on {
		return nil, 0
	}
	at = f.segment(vlan)
	if h.device == nil || h.tag != 0 {
		return at, vlan
	}
	wires := f.heardFrom(h.device, h.port)
	return slices.DeleteFunc(at, func(p place) bool {
		return len(p.device.config.Links) > 0 && !slices.Contains(wires, p.wire)
	}), vlan
}

func hashOf(mac address.MAC) uint32 {
	h := fnv.New32a()
	_, _ = h.Write(mac[:])
	return h.Sum32()
}

// learn notes which port of a switch a client is on: the one that it is plugged into, and no other switch's.
func (d *Device) learn(who Client, h hung) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if h.device == d {
		d.learnt[who.MAC] = h.port
	} else if h.device != nil {
		delete(d.learnt, who.MAC)
	}
}

var errNoLease = errors.New("no lease")

// patience is how long a client waits for a reply.
const patience = time.Second

// lease renews what the client holds, or starts over.
func (f *Fabric) lease(at []place, strays []*Stray, c *dhcp.Client) error {
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		return err
	}
	defer conn.Close()
	talk := c.Talk(f.wire(conn, at, strays), dhcp.Words{})
	if c.Address.IsValid() {
		if r, err := talk.Tell(c.Renew()); err == nil && r != nil && c.Address.IsValid() {
			return nil
		}
		c.Address = netip.Addr{}
	}
	if err := talk.Lease(); err != nil {
		return err
	}
	if !c.Address.IsValid() {
		return errNoLease
	}
	return nil
}

// wire sends to every device on a network, or to the one that holds an address, and takes
// the first reply.
func (f *Fabric) wire(conn *net.UDPConn, at []place, strays []*Stray) dhcp.Wire {
	return func(request []byte, to netip.Addr) ([]byte, string, error) {
		if err := conn.SetReadDeadline(time.Now().Add(patience)); err != nil {
			return nil, "", err
		}
		sent, err := dhcp.ReadPacket(request)
		if err != nil {
			return nil, "", err
		}
		var ends []netip.AddrPort
		if server, ok := f.holder(to); ok {
			ends = append(ends, server)
		} else if !to.IsValid() {
			for _, p := range at {
				ends = append(ends, p.wire)
			}
			for _, s := range strays {
				ends = append(ends, addrPort(s.conn))
			}
		}
		for _, end := range ends {
			if _, err := conn.WriteToUDPAddrPort(request, end); err != nil {
				return nil, "", fmt.Errorf("send to %s: %w", end, err)
			}
		}
		buf := make([]byte, dhcp.MaxPacket)
		for {
			n, err := conn.Read(buf)
			if err != nil {
				return nil, "", nil // nobody answered in time
			}
			if m, err := dhcp.ReadPacket(buf[:n]); err == nil && m.TransactionID == sent.TransactionID {
				return buf[:n], "", nil
			}
		}
	}
}
