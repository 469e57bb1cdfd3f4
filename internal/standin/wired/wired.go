// Package wired serves and relays DHCP on real network interfaces, as a device
// of a site file would: UDP ports 67 and 68 (RFC 2131 section 4.1), so that any
// client on the network can take a lease. It needs the rights of root, or
// CAP_NET_RAW and CAP_NET_BIND_SERVICE, and Linux.
package wired

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"slices"
	"sync"
	"syscall"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/sys/unix"

	"lithos/core/dhcp"
	"lithos/core/yang"
)

// Config is what is served where.
type Config struct {
	Device yang.Config
	// Interfaces are the machine's, by name. Each stands for the device's
	// interface that has the same address.
	Interfaces []string
	LeaseDB    *dhcp.LeaseDB
	Log        *slog.Logger
}

// Serve answers on every interface until ctx ends. It is ready when the channel
// it is given is closed; nil for nobody who waits.
func Serve(ctx context.Context, c Config, ready chan<- struct{}) error {
	s := &server{Config: c, engine: dhcp.NewServer(c.Device, c.LeaseDB), relay: dhcp.NewRelay(c.Device)}
	s.engine.InUse = func(a netip.Addr) bool { return s.answers(a) }
	var ports []*port
	defer func() {
		for _, p := range ports {
			_ = p.conn.Close()
			_ = unix.Close(p.frames)
		}
	}()
	for _, name := range c.Interfaces {
		p, err := s.open(ctx, name)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		ports = append(ports, p)
	}
	s.ports = ports
	if ready != nil {
		close(ready)
	}
	var all sync.WaitGroup
	for _, p := range ports {
		all.Go(func() { s.listen(p) })
	}
	<-ctx.Done()
	for _, p := range ports {
		_ = p.conn.SetDeadline(time.Now())
	}
	all.Wait()
	return nil
}

type server struct {
	Config
	mu     sync.Mutex
	engine *dhcp.Server
	relay  *dhcp.Relay
	ports  []*port
}

// port is one interface of the machine.
type port struct {
	name   string // of the device's interface
	index  int
	own    netip.Addr
	conn   *net.UDPConn
	frames int // a packet socket, for clients that have no address yet
}

// open listens on an interface, and on it alone.
func (s *server) open(ctx context.Context, name string) (*port, error) {
	i, err := net.InterfaceByName(name)
	if err != nil {
		return nil, err
	}
	p := &port{index: i.Index}
	if p.name, p.own, err = s.standsFor(i); err != nil {
		return nil, err
	}
	lc := net.ListenConfig{Control: func(_, _ string, raw syscall.RawConn) error {
		var failed error
		err := raw.Control(func(fd uintptr) {
			failed = errors.Join(
				unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEADDR, 1),
				unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_BROADCAST, 1),
				unix.BindToDevice(int(fd), name),
			)
		})
		return errors.Join(err, failed)
	}}
	conn, err := lc.ListenPacket(ctx, "udp4", ":67")
	if err != nil {
		return nil, err
	}
	p.conn = conn.(*net.UDPConn)
	if p.frames, err = unix.Socket(unix.AF_PACKET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0); err != nil {
		_ = conn.Close()
		return nil, fmt.Errorf("packet socket: %w", err)
	}
	return p, nil
}

// standsFor finds the device's interface that has an address of the machine's.
func (s *server) standsFor(i *net.Interface) (name string, own netip.Addr, err error) {
	addrs, err := i.Addrs()
	if err != nil {
		return "", netip.Addr{}, err
	}
	for _, a := range addrs {
		p, err := netip.ParsePrefix(a.String())
		if err != nil {
			continue
		}
		for _, d := range s.Device.Interfaces.Interface {
			if d.IPv4 != nil && slices.ContainsFunc(d.IPv4.Address,
				func(h yang.Address) bool { return h.Prefix() == p }) {
				return d.Name, p.Addr(), nil
			}
		}
	}
	return "", netip.Addr{},
		fmt.Errorf("it has no address of the device's; give it one, for example with ip address add")
}

func (s *server) listen(p *port) {
	buf := make([]byte, dhcp.MaxPacket+1)
	for {
		n, err := p.conn.Read(buf)
		if err != nil {
			return
		}
		m, err := dhcp.ReadPacket(buf[:n])
		if err != nil {
			continue
		}
		s.mu.Lock()
		err = s.handle(p, buf[:n])
		s.mu.Unlock()
		if err != nil && s.Log != nil {
			s.Log.Warn("a DHCP message could not be answered", "on", p.name, "from", m.ClientHWAddr.String(),
				"error", err)
		}
	}
}

// handle answers a request, passes it on, or brings a reply back.
func (s *server) handle(p *port, packet []byte) error {
	m, err := dhcp.ReadPacket(packet)
	if err != nil {
		return err
	}
	if back, name, ok := s.relay.Back(m); ok {
		i := slices.IndexFunc(s.ports, func(o *port) bool { return o.name == name })
		if i < 0 {
			return fmt.Errorf("a reply for %s, which is not listened on", name)
		}
		wire, _ := dhcp.Pack(back, dhcp.Order(packet), dhcp.MaxPacket)
		return s.ports[i].deliver(wire, dhcp.Deliver(back), back.ClientHWAddr)
	}
	if a := s.engine.Handle(time.Now(), m, p.name); a.Reply != nil {
		wire, _ := a.Wire()
		return p.deliver(wire, dhcp.Deliver(a.Reply), m.ClientHWAddr)
	}
	out, servers, _ := s.relay.Forward(m, p.name)
	for _, to := range servers {
		if err := pass(out.ToBytes(), to); err != nil {
			return err
		}
	}
	return nil
}

// pass sends a relayed request on, by whatever way leads to the server.
func pass(packet []byte, to netip.Addr) error {
	conn, err := net.DialUDP("udp4", nil, net.UDPAddrFromAddrPort(netip.AddrPortFrom(to, 67)))
	if err != nil {
		return err
	}
	defer conn.Close()
	_, err = conn.Write(packet)
	return err
}

func (p *port) deliver(packet []byte, to dhcp.Destination, client net.HardwareAddr) error {
	if !to.Direct {
		_, err := p.conn.WriteToUDPAddrPort(packet, netip.AddrPortFrom(to.Address, uint16(to.Port)))
		return err
	}
	at := &unix.SockaddrLinklayer{Protocol: swap(unix.ETH_P_IP), Ifindex: p.index, Halen: uint8(len(client))}
	copy(at.Addr[:], client)
	frame, err := datagram(p.own, to.Address, to.Port, packet)
	if err != nil {
		return err
	}
	return unix.Sendto(p.frames, frame, 0, at)
}

func swap(n uint16) uint16 { return n<<8 | n>>8 }

// datagram wraps a message in UDP (RFC 768) and IP (RFC 791), for a client that
// does not answer ARP yet.
func datagram(from, to netip.Addr, port int, payload []byte) ([]byte, error) {
	const udp = 8
	h := ipv4.Header{
		Version: ipv4.Version, Len: ipv4.HeaderLen, TotalLen: ipv4.HeaderLen + udp + len(payload), TTL: 64,
		Protocol: unix.IPPROTO_UDP,
		Src:      from.AsSlice(), Dst: to.AsSlice(),
	}
	head, err := h.Marshal()
	if err != nil {
		return nil, err
	}
	binary.BigEndian.PutUint16(head[10:], ^sum(0, head))
	body := make([]byte, udp, udp+len(payload))
	binary.BigEndian.PutUint16(body[0:], 67)
	binary.BigEndian.PutUint16(body[2:], uint16(port))
	binary.BigEndian.PutUint16(body[4:], uint16(udp+len(payload)))
	body = append(body, payload...)
	pseudo := append(append([]byte{}, head[12:20]...), 0, unix.IPPROTO_UDP, body[4], body[5])
	check := ^sum(sum(0, pseudo), body)
	if check == 0 {
		check = 0xffff
	}
	binary.BigEndian.PutUint16(body[6:], check)
	return append(head, body...), nil
}

// sum is the ones' complement sum of octets (RFC 1071).
func sum(start uint16, b []byte) uint16 {
	total := uint32(start)
	for i := 0; i < len(b); i += 2 {
		word := uint32(b[i]) << 8
		if i+1 < len(b) {
			word |= uint32(b[i+1])
		}
		total += word
	}
	for total > 0xffff {
		total = total>>16 + total&0xffff
	}
	return uint16(total)
}

// probeFor is how long an address is given to answer before it is offered.
const probeFor = 200 * time.Millisecond

// answers sends an echo request (RFC 792) and waits for the reply.
func (s *server) answers(a netip.Addr) bool {
	conn, err := icmp.ListenPacket("ip4:icmp", "0.0.0.0")
	if err != nil {
		return false
	}
	defer conn.Close()
	ask := icmp.Echo{ID: os.Getpid() & 0xffff, Seq: 1}
	request, err := (&icmp.Message{Type: ipv4.ICMPTypeEcho, Body: &ask}).Marshal(nil)
	if err != nil || conn.SetDeadline(time.Now().Add(probeFor)) != nil {
		return false
	}
	if _, err := conn.WriteTo(request, &net.IPAddr{IP: a.AsSlice()}); err != nil {
		return false
	}
	buf := make([]byte, 128)
	for {
		n, from, err := conn.ReadFrom(buf)
		if err != nil {
			return false
		}
		m, err := icmp.ParseMessage(ipv4.ICMPTypeEcho.Protocol(), buf[:n])
		if err != nil || m.Type != ipv4.ICMPTypeEchoReply || from.String() != a.String() {
			continue
		}
		if reply, ok := m.Body.(*icmp.Echo); ok && reply.ID == ask.ID {
			return true
		}
	}
}
