package wired

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"sync"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/sys/unix"

	"lithos/core/address"
)

// How an address is probed: how long it is given to answer, and how often it is asked.
const (
	probeFor   = 200 * time.Millisecond
	probeTimes = 2
)

// prober finds out whether a machine answers at an address: by ARP on a network the server
// is on (RFC 5227 section 2.1), else by an echo request (RFC 792). Any number of addresses
// are asked beside one another.
type prober struct {
	echoes *icmp.PacketConn

	mu      sync.Mutex
	waiting map[netip.Addr]chan address.MAC
}

func newProber() (*prober, error) {
	conn, err := icmp.ListenPacket("ip4:icmp", "0.0.0.0")
	if err != nil {
		return nil, fmt.Errorf("a socket for echo requests: %w", err)
	}
	return &prober{echoes: conn, waiting: map[netip.Addr]chan address.MAC{}}, nil
}

func (pr *prober) close() { _ = pr.echoes.Close() }

// ask tells whether a machine answers at an address, and by ARP which. An address is asked
// for by one caller at a time.
func (pr *prober) ask(ctx context.Context, p *port, a netip.Addr) (by address.MAC, answers bool) {
	heard := make(chan address.MAC, 1)
	pr.mu.Lock()
	pr.waiting[a] = heard
	pr.mu.Unlock()
	defer func() {
		pr.mu.Lock()
		delete(pr.waiting, a)
		pr.mu.Unlock()
	}()
	for range probeTimes {
		var err error
		if p.own.Contains(a) {
			err = p.arp.request(p, a)
		} else {
			err = pr.echo(a)
		}
		if err != nil {
			return address.MAC{}, false // what cannot be asked does not answer
		}
		select {
		case by = <-heard:
			return by, true
		case <-time.After(probeFor / probeTimes):
		case <-ctx.Done():
			return address.MAC{}, false
		}
	}
	return address.MAC{}, false
}

func (pr *prober) heard(a netip.Addr, by address.MAC) {
	pr.mu.Lock()
	defer pr.mu.Unlock()
	select {
	case pr.waiting[a] <- by:
	default: // nobody waits, or it was heard before
	}
}

func (pr *prober) echo(a netip.Addr) error {
	request, err := (&icmp.Message{Type: ipv4.ICMPTypeEcho, Body: &icmp.Echo{ID: echoID, Seq: 1}}).Marshal(nil)
	if err != nil {
		return err
	}
	_, err = pr.echoes.WriteTo(request, &net.IPAddr{IP: a.AsSlice()})
	return err
}

var echoID = os.Getpid() & 0xffff

// hearEchoes takes echo replies until the socket is closed.
func (pr *prober) hearEchoes() {
	buf := make([]byte, 1500)
	for {
		n, from, err := pr.echoes.ReadFrom(buf)
		if err != nil {
			return
		}
		m, err := icmp.ParseMessage(ipv4.ICMPTypeEcho.Protocol(), buf[:n])
		if err != nil || m.Type != ipv4.ICMPTypeEchoReply {
			continue
		}
		reply, ok := m.Body.(*icmp.Echo)
		a, err := netip.ParseAddr(from.String())
		if ok && err == nil && reply.ID == echoID {
			pr.heard(a, address.MAC{})
		}
	}
}

// arpSocket sends and hears ARP (RFC 826) on one interface.
type arpSocket struct {
	fd   int
	file *os.File // reads through the runtime's poller, so that closing ends a read
}

func openARP(index int) (*arpSocket, error) {
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK,
		int(swap(unix.ETH_P_ARP)))
	if err != nil {
		return nil, err
	}
	if err := unix.Bind(fd, linkAddress(index, unix.ETH_P_ARP, nil)); err != nil {
		return nil, errors.Join(err, unix.Close(fd))
	}
	return &arpSocket{fd, os.NewFile(uintptr(fd), "arp")}, nil
}

func (s *arpSocket) close() { _ = s.file.Close() }

// The layout of ARP for IPv4 on Ethernet, in octets.
const (
	arpLength    = 28
	arpOp        = 6
	arpSender    = 8
	arpSenderIP  = 14
	arpTargetIP  = 24
	arpIsRequest = 1
	arpIsReply   = 2
)

// request asks who has an address.
func (s *arpSocket) request(p *port, a netip.Addr) error {
	packet := make([]byte, arpLength)
	binary.BigEndian.PutUint16(packet[0:], unix.ARPHRD_ETHER)
	binary.BigEndian.PutUint16(packet[2:], unix.ETH_P_IP)
	packet[4], packet[5] = 6, 4 // octets of a hardware address and of an IPv4 address
	binary.BigEndian.PutUint16(packet[arpOp:], arpIsRequest)
	copy(packet[arpSender:], p.mac)
	copy(packet[arpSenderIP:], p.own.Addr().AsSlice())
	copy(packet[arpTargetIP:], a.AsSlice())
	everybody := net.HardwareAddr{0xff, 0xff, 0xff, 0xff, 0xff, 0xff}
	return unix.Sendto(s.fd, packet, 0, linkAddress(p.index, unix.ETH_P_ARP, everybody))
}

// hearARP takes ARP replies of a port's network until its socket is closed.
func (pr *prober) hearARP(p *port) {
	buf := make([]byte, 128)
	for {
		n, err := p.arp.file.Read(buf)
		if err != nil {
			return
		}
		if by, a, ok := readARP(buf[:n]); ok {
			pr.heard(a, by)
		}
	}
}

// readARP reads who answers for which address.
func readARP(packet []byte) (by address.MAC, a netip.Addr, ok bool) {
	if len(packet) < arpLength || packet[4] != 6 || packet[5] != 4 ||
		binary.BigEndian.Uint16(packet[arpOp:]) != arpIsReply {
		return address.MAC{}, netip.Addr{}, false
	}
	return address.MAC(packet[arpSender:arpSenderIP]), netip.AddrFrom4([4]byte(packet[arpSenderIP:])), true
}
