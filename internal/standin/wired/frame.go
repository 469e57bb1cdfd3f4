package wired

import (
	"encoding/binary"
	"net"
	"net/netip"

	"golang.org/x/net/ipv4"
	"golang.org/x/sys/unix"

	"lithos/core/dhcp"
)

func (p *port) deliver(packet []byte, to dhcp.Destination, client net.HardwareAddr) error {
	if !to.Direct {
		_, err := p.conn.WriteToUDPAddrPort(packet, netip.AddrPortFrom(to.Address, uint16(to.Port)))
		return err
	}
	frame, err := datagram(p.own.Addr(), to.Address, to.Port, packet)
	if err != nil {
		return err
	}
	return unix.Sendto(p.frames, frame, 0, linkAddress(p.index, unix.ETH_P_IP, client))
}

// linkAddress is a hardware address on an interface, for frames of a protocol.
func linkAddress(index int, protocol uint16, to net.HardwareAddr) *unix.SockaddrLinklayer {
	at := &unix.SockaddrLinklayer{Protocol: swap(protocol), Ifindex: index, Halen: uint8(len(to))}
	copy(at.Addr[:], to)
	return at
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
