package device

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"slices"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"lithos/core/dhcp"
	"lithos/core/topology"
	"lithos/core/yang"
)

// silenceAfter is how long a test client waits for a reply.
const silenceAfter = 2 * time.Second

// Attach connects a test client to the network of an interface. The wire takes
// real DHCP messages, which everybody there hears; detach ends it.
func (r *RESTCONF) Attach(ctx context.Context, iface string) (wire dhcp.Wire, detach func(), err error) {
	return r.attach(ctx, iface, func(w yang.Wire) string { return w.Endpoint })
}

// Plugs reports whether a test client can be attached to an interface.
func (r *RESTCONF) Plugs(ctx context.Context, iface string) (bool, error) {
	o, err := r.Observe(ctx)
	return slices.ContainsFunc(o.Wires.Wire, func(w yang.Wire) bool {
		return w.Interface == iface && w.Endpoint != ""
	}), err
}

// Farthest finds the port of a network that is farthest from its router and takes a test client; the driver is nil
// where no port does. plugs are the network's ports, in the order in which one comes to them from the router. reach
// gives the driver of a device, nil for one that is not reached.
func Farthest(ctx context.Context, plugs []topology.End, reach func(device string) (*RESTCONF, error)) (*RESTCONF,
	topology.End, error) {
	for _, e := range slices.Backward(plugs) {
		driver, err := reach(e.Device.ID)
		if err != nil {
			return nil, e, err
		}
		if driver == nil {
			continue
		}
		can, err := driver.Plugs(ctx, e.Interface.Name)
		if err != nil {
			return nil, e, fmt.Errorf("%s: %w", e.Device.Name, err)
		}
		if can {
			return driver, e, nil
		}
	}
	return nil, topology.End{}, nil
}

// AttachTo connects a test client to the addresses of an interface, wherever the client is:
// the wire takes what it sends to them alone.
func (r *RESTCONF) AttachTo(ctx context.Context, iface string) (wire dhcp.Wire, detach func(), err error) {
	return r.attach(ctx, iface, func(w yang.Wire) string { return w.Routed })
}

func (r *RESTCONF) attach(
	ctx context.Context, iface string, end func(yang.Wire) string,
) (wire dhcp.Wire, detach func(), err error) {
	o, err := r.Observe(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, w := range o.Wires.Wire {
		if w.Interface != iface || end(w) == "" {
			continue
		}
		conn, err := r.to.ToDevices(0).DialContext(ctx, "udp4", end(w))
		if err != nil {
			return nil, nil, err
		}
		return r.over(conn), func() { _ = conn.Close() }, nil
	}
	return nil, nil, fmt.Errorf("the device has no network on %s", iface)
}

// expectsReply are the messages a server answers.
func expectsReply(m *dhcpv4.DHCPv4) bool {
	return m.MessageType() != dhcpv4.MessageTypeRelease && m.MessageType() != dhcpv4.MessageTypeDecline
}

// collects is how long a test client takes offers after the first (RFC 2131 section 4.4.1). It chooses the first, and
// knows then of every server that answers.
const collects = 100 * time.Millisecond

// Servers are the DHCP servers that answered the test clients that were attached, in order.
func (r *RESTCONF) Servers() []netip.Addr {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.SortedFunc(maps.Keys(r.servers), netip.Addr.Compare)
}

// noteServer remembers who sent a reply.
func (r *RESTCONF) noteServer(reply *dhcpv4.DHCPv4) {
	if at, ok := netip.AddrFromSlice(reply.ServerIdentifier().To4()); ok {
		r.mu.Lock()
		r.servers[at] = true
		r.mu.Unlock()
	}
}

func (r *RESTCONF) over(conn net.Conn) dhcp.Wire {
	return func(request []byte, _ netip.Addr) ([]byte, string, error) {
		m, err := dhcp.ReadPacket(request)
		if err != nil {
			return nil, "", err
		}
		if err := conn.SetDeadline(time.Now().Add(silenceAfter)); err != nil {
			return nil, "", err
		}
		if _, err := conn.Write(request); err != nil {
			return nil, "", fmt.Errorf("send the DHCP message: %w", err)
		}
		if !expectsReply(m) {
			return nil, "", nil
		}
		buf := make([]byte, dhcp.MaxPacket)
		for {
			n, err := conn.Read(buf)
			if netErr := net.Error(nil); errors.As(err, &netErr) && netErr.Timeout() {
				return nil, "No reply within 2 seconds.", nil
			}
			if err != nil {
				return nil, "", fmt.Errorf("wait for the DHCP reply: %w", err)
			}
			reply, err := dhcp.ReadPacket(buf[:n])
			if err != nil || reply.TransactionID != m.TransactionID {
				continue
			}
			r.noteServer(reply)
			if reply.MessageType() == dhcpv4.MessageTypeOffer {
				r.collect(conn, m.TransactionID)
			}
			return buf[:n], "", nil
		}
	}
}

// collect hears the other offers to a client.
func (r *RESTCONF) collect(conn net.Conn, id dhcpv4.TransactionID) {
	if conn.SetDeadline(time.Now().Add(collects)) != nil {
		return
	}
	buf := make([]byte, dhcp.MaxPacket)
	for {
		n, err := conn.Read(buf)
		if err != nil {
			return
		}
		if other, err := dhcp.ReadPacket(buf[:n]); err == nil && other.TransactionID == id {
			r.noteServer(other)
		}
	}
}
