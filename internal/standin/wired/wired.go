// Package wired serves and relays DHCP on real network interfaces, as a device
// of a site file would: UDP ports 67 and 68 (RFC 2131 section 4.1), so that any
// client on the network can take a lease. It needs the rights of root, or
// CAP_NET_RAW and CAP_NET_BIND_SERVICE, and Linux.
package wired

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"sync"
	"syscall"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/prometheus/client_golang/prometheus"
	"golang.org/x/net/ipv4"
	"golang.org/x/sys/unix"

	"lithos/core/address"
	"lithos/core/dhcp"
	"lithos/core/site"
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
	Metrics    prometheus.Registerer // nil for none
}

// Serve answers on every interface until ctx ends. It is ready when the channel
// it is given is closed; nil for nobody who waits.
func Serve(ctx context.Context, c Config, ready chan<- struct{}) error {
	s := &server{Config: c, relay: dhcp.NewRelay(c.Device), probing: map[netip.Addr]bool{},
		report: newReport(c.Log, c.Metrics)}
	end := sync.OnceFunc(s.close)
	defer end()
	for _, name := range c.Interfaces {
		p, err := s.open(ctx, name)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		s.ports = append(s.ports, p)
	}
	var err error
	if s.onward, err = listen(ctx, ""); err != nil {
		return err
	}
	if s.prober, err = newProber(); err != nil {
		return err
	}
	s.engine = dhcp.NewServer(s.listenedOn(), c.LeaseDB)
	if ready != nil {
		close(ready)
	}
	for _, p := range s.ports {
		s.work.Go(func() { s.listen(ctx, p) })
		s.work.Go(func() { s.prober.hearARP(p) })
	}
	s.work.Go(s.hearReplies)
	s.work.Go(s.prober.hearEchoes)
	<-ctx.Done()
	end()
	s.work.Wait()
	return nil
}

type server struct {
	Config
	relay  *dhcp.Relay
	ports  []*port
	onward *net.UDPConn // port 67 of every interface, from which requests are passed on
	prober *prober
	report *report
	work   sync.WaitGroup

	mu      sync.Mutex // of what follows; never held while a probe waits
	engine  *dhcp.Server
	probing map[netip.Addr]bool
}

// port is one interface of the machine.
type port struct {
	name   string // of the device's interface
	index  int
	mac    net.HardwareAddr
	own    netip.Prefix
	conn   *net.UDPConn
	frames int // a packet socket, for clients that have no address yet
	arp    *arpSocket
}

// backlog is how many octets of packets wait while others are handled: two thousand clients that
// start at once, as after a power cut. The kernel's usual size holds about 160.
const backlog = 4 << 20

// widen makes room for the backlog; without the right to go past the system's limit, as much as
// that allows.
func widen(fd int) error {
	if unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, backlog) == nil {
		return nil
	}
	return unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_RCVBUF, backlog)
}

// listen opens port 67, of one interface alone where it is named.
func listen(ctx context.Context, iface string) (*net.UDPConn, error) {
	lc := net.ListenConfig{Control: func(_, _ string, raw syscall.RawConn) error {
		var failed error
		err := raw.Control(func(fd uintptr) {
			failed = errors.Join(
				unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEADDR, 1),
				unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_BROADCAST, 1),
				widen(int(fd)),
			)
			if iface != "" {
				failed = errors.Join(failed, unix.BindToDevice(int(fd), iface))
			}
		})
		return errors.Join(err, failed)
	}}
	conn, err := lc.ListenPacket(ctx, "udp4", ":67")
	if err != nil {
		return nil, err
	}
	return conn.(*net.UDPConn), nil
}

func (s *server) open(ctx context.Context, name string) (*port, error) {
	i, err := net.InterfaceByName(name)
	if err != nil {
		return nil, err
	}
	p := &port{index: i.Index, mac: i.HardwareAddr}
	if p.name, p.own, err = s.standsFor(i); err != nil {
		return nil, err
	}
	if p.conn, err = listen(ctx, name); err != nil {
		return nil, err
	}
	if p.frames, err = unix.Socket(unix.AF_PACKET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0); err != nil {
		_ = p.conn.Close()
		return nil, fmt.Errorf("packet socket: %w", err)
	}
	if p.arp, err = openARP(p.index); err != nil {
		return nil, errors.Join(fmt.Errorf("ARP: %w", err), p.conn.Close(), unix.Close(p.frames))
	}
	return p, nil
}

func (s *server) close() {
	for _, p := range s.ports {
		_ = p.conn.Close()
		_ = unix.Close(p.frames)
		p.arp.close()
	}
	if s.onward != nil {
		_ = s.onward.Close()
	}
	if s.prober != nil {
		s.prober.close()
	}
}

// standsFor finds the device's interface that has an address of the machine's.
func (s *server) standsFor(i *net.Interface) (name string, own netip.Prefix, err error) {
	addrs, err := i.Addrs()
	if err != nil {
		return "", netip.Prefix{}, err
	}
	for _, a := range addrs {
		p, err := netip.ParsePrefix(a.String())
		if err != nil {
			continue
		}
		for _, d := range s.Device.Interfaces.Interface {
			if d.IPv4 != nil && slices.ContainsFunc(d.IPv4.Address,
				func(h yang.Address) bool { return h.Prefix() == p }) {
				return d.Name, p, nil
			}
		}
	}
	return "", netip.Prefix{},
		errors.New("it has no address of the device's; give it one, for example with ip address add")
}

// listenedOn is the device's configuration with the interfaces that are listened on alone:
// the server answers from no other address.
func (s *server) listenedOn() yang.Config {
	c := s.Device
	c.Interfaces.Interface = slices.DeleteFunc(slices.Clone(c.Interfaces.Interface), func(i yang.Interface) bool {
		return !slices.ContainsFunc(s.ports, func(p *port) bool { return p.name == i.Name })
	})
	return c
}

func (s *server) permits(iface string) bool {
	return slices.ContainsFunc(s.Device.Interfaces.Interface, func(i yang.Interface) bool {
		return i.Name == iface && i.Accepts(site.PermitDHCP)
	})
}

func (s *server) listen(ctx context.Context, p *port) {
	packets := ipv4.NewPacketConn(p.conn)
	if err := packets.SetControlMessage(ipv4.FlagDst, true); err != nil {
		s.report.failed("the addresses packets are sent to cannot be read", p, err)
	}
	buf := make([]byte, dhcp.MaxPacket+1)
	for {
		n, about, _, err := packets.ReadFrom(buf)
		if err != nil {
			return
		}
		sent := about != nil && !about.Dst.Equal(net.IPv4bcast) &&
			!about.Dst.Equal(address.Of(p.own.Masked()).To.AsSlice())
		s.handle(ctx, p, buf[:n], sent)
	}
}

// hearReplies brings back the replies that come by interfaces that are not listened on.
func (s *server) hearReplies() {
	buf := make([]byte, dhcp.MaxPacket+1)
	for {
		n, err := s.onward.Read(buf)
		if err != nil {
			return
		}
		if m, err := dhcp.ReadPacket(buf[:n]); err == nil {
			s.bringBack(m, buf[:n])
		}
	}
}

// bringBack sends a reply on to the client of the relay; ok is false for what is none.
func (s *server) bringBack(m *dhcpv4.DHCPv4, packet []byte) (ok bool) {
	back, name, ok := s.relay.Back(m)
	if !ok {
		return false
	}
	i := slices.IndexFunc(s.ports, func(o *port) bool { return o.name == name })
	if i < 0 {
		return true // a client of an interface that is not listened on
	}
	wire, _ := dhcp.Pack(back, dhcp.Order(packet), dhcp.MaxReply)
	if err := s.ports[i].deliver(wire, dhcp.Deliver(back), back.ClientHWAddr); err != nil {
		s.report.failed("a relayed reply could not be sent", s.ports[i], err)
	}
	return true
}

// handle answers a request, passes it on, or brings a reply back. sent says that it was sent
// to an address of the machine, and not to everybody.
func (s *server) handle(ctx context.Context, p *port, packet []byte, sent bool) {
	m, err := dhcp.ReadPacket(packet)
	if err != nil {
		s.report.refused(p, nil, "malformed: "+err.Error())
		return
	}
	if s.bringBack(m, packet) {
		return
	}
	if !s.permits(p.name) {
		s.report.refused(p, m, p.name+" does not permit DHCP")
		return
	}
	if !sent && s.relay.Active(p.name) {
		out, servers, why := s.relay.Forward(m, p.name)
		if out == nil {
			s.report.refused(p, m, why)
			return
		}
		s.report.relayed(p, m)
		s.pass(p, out.ToBytes(), servers)
		if !s.engine.Serves(p.name) {
			return
		}
	}
	s.serve(ctx, p, m, sent)
}

// pass sends a request on to every server, whichever of them can be reached.
func (s *server) pass(p *port, packet []byte, servers []netip.Addr) {
	for _, to := range servers {
		if _, err := s.onward.WriteToUDPAddrPort(packet, netip.AddrPortFrom(to, dhcpv4.ServerPort)); err != nil {
			s.report.failed("a request could not be relayed to "+to.String(), p, err)
		}
	}
}

// maxProbes bounds how many addresses are probed at a time. A client whose request is
// dropped asks again.
const maxProbes = 1024

// serve answers a request. Where the engine wants an address probed, the reply waits for
// that alone, beside everything else.
func (s *server) serve(ctx context.Context, p *port, m *dhcpv4.DHCPv4, sent bool) {
	s.mu.Lock()
	a := s.ask(p, m, sent)
	again := a.Event == dhcp.EventOffer && s.probing[a.Address()] // asked again while its address is probed
	probe := a.Probe.IsValid() && !again && len(s.probing) < maxProbes
	if probe {
		s.probing[a.Probe] = true
	}
	s.mu.Unlock()
	switch {
	case again || a.Probe.IsValid() && !probe:
	case probe:
		s.work.Go(func() { s.probe(ctx, p, m, sent, a) })
	default:
		s.reply(p, m, sent, a)
	}
}

func (s *server) ask(p *port, m *dhcpv4.DHCPv4, sent bool) dhcp.Answer {
	if sent {
		return s.engine.HandleSent(time.Now(), m, p.name)
	}
	return s.engine.Handle(time.Now(), m, p.name)
}

// probe finds out whether a machine answers at the address an answer would give, and sends
// the answer when none does. After a client has declined an address it only notes which
// machine is there.
func (s *server) probe(ctx context.Context, p *port, m *dhcpv4.DHCPv4, sent bool, a dhcp.Answer) {
	by, answers := s.prober.ask(ctx, p, a.Probe)
	s.mu.Lock()
	delete(s.probing, a.Probe)
	taken := answers && s.engine.Taken(time.Now(), a, by)
	s.mu.Unlock()
	if taken {
		s.report.taken(p, a.Probe, by)
	}
	switch {
	case ctx.Err() != nil:
	case taken && a.Reply != nil:
		s.serve(ctx, p, m, sent)
	default:
		s.reply(p, m, sent, a)
	}
}

func (s *server) reply(p *port, m *dhcpv4.DHCPv4, sent bool, a dhcp.Answer) {
	s.report.answered(p, m, sent, a)
	wire, _ := a.Wire()
	if wire == nil {
		return
	}
	if err := p.deliver(wire, dhcp.Deliver(a.Reply), m.ClientHWAddr); err != nil {
		s.report.failed("a reply could not be sent", p, err)
	}
}
