package standin

import (
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"lithos/core/address"
	"lithos/core/dhcp"
	"lithos/core/yang"
)

// Stray is a DHCP server on a network of a site that nobody recorded, such as a router from home with its own server
// on. It answers on a socket of its own, and devices on its network hear it.
type Stray struct {
	fabric *Fabric
	vlan   int
	mac    address.MAC
	at     netip.Addr
	conn   *net.UDPConn
	done   sync.WaitGroup

	mu     sync.Mutex
	server *dhcp.Server
}

// heardServer is a server that a device heard.
type heardServer struct {
	on   string // interface
	mac  address.MAC
	last time.Time
}

const strayPort = "lan"

// PlugIn has a stray server answer on a VLAN until it is closed: it holds an address and hands out a range of its
// subnet.
func (f *Fabric) PlugIn(vlan int, mac address.MAC, at netip.Prefix, from, to netip.Addr) (*Stray, error) {
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		return nil, err
	}
	c := yang.Config{
		Interfaces: yang.Interfaces{Interface: []yang.Interface{{Name: strayPort, Type: yang.TypeEthernet,
			Enabled: true,
			IPv4: &yang.IPv4{Enabled: true,
				Address: []yang.Address{{IP: at.Addr(), PrefixLength: at.Bits()}}}}}},
		DHCP: yang.DHCPServer{Pool: []yang.Pool{{ID: strayPort, Name: strayPort, Enabled: true, Interface: strayPort,
			Subnet: at.Masked(), Range: []yang.Span{{Start: from, End: to}}}}},
	}
	s := &Stray{fabric: f, vlan: vlan, mac: mac, at: at.Addr(), conn: conn, server: dhcp.NewServer(c,
		dhcp.NewLeaseDB())}
	f.mu.Lock()
	f.strays = append(f.strays, s)
	f.stir()
	f.mu.Unlock()
	s.done.Go(s.run)
	return s, nil
}

// Close unplugs it.
func (s *Stray) Close() {
	s.fabric.mu.Lock()
	s.fabric.strays = slices.DeleteFunc(slices.Clone(s.fabric.strays), func(o *Stray) bool { return o == s })
	s.fabric.stir()
	s.fabric.mu.Unlock()
	_ = s.conn.Close()
	s.done.Wait()
}

func (s *Stray) run() {
	buf := make([]byte, dhcp.MaxPacket+1)
	for {
		n, from, err := s.conn.ReadFromUDPAddrPort(buf)
		if err != nil {
			return
		}
		m, err := dhcp.ReadPacket(buf[:n])
		if err != nil {
			continue
		}
		if reply := s.answer(m); reply != nil {
			_, _ = s.conn.WriteToUDPAddrPort(reply, from)
		}
	}
}

// answer is its reply, nil for none. The devices of its network hear it.
func (s *Stray) answer(m *dhcpv4.DHCPv4) []byte {
	s.mu.Lock()
	now := time.Now()
	reply, _ := s.server.Handle(now, m, strayPort).Wire()
	s.mu.Unlock()
	if reply == nil {
		return nil
	}
	for _, p := range s.fabric.segment(s.vlan) {
		p.device.mu.Lock()
		p.device.servers[s.at] = heardServer{p.iface, s.mac, now}
		p.device.mu.Unlock()
	}
	return reply
}

// straysOn lists the stray servers of a VLAN.
func (f *Fabric) straysOn(vlan int) []*Stray {
	f.mu.Lock()
	defer f.mu.Unlock()
	return slices.DeleteFunc(slices.Clone(f.strays), func(s *Stray) bool { return s.vlan != vlan })
}

// strayReplies is what stray servers answer to a message heard on an interface of a device.
func (f *Fabric) strayReplies(d *Device, iface string, m *dhcpv4.DHCPv4) [][]byte {
	f.mu.Lock()
	vlan, known := 0, false
	for _, p := range f.places[d] {
		if p.iface == iface {
			vlan, known = p.vlan, true
		}
	}
	f.mu.Unlock()
	if !known {
		return nil
	}
	var out [][]byte
	for _, s := range f.straysOn(vlan) {
		if reply := s.answer(m); reply != nil {
			out = append(out, reply)
		}
	}
	return out
}
