package standin

import (
	"net"
	"net/netip"
	"slices"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"lithos/core/dhcp"
	"lithos/core/site"
	"lithos/core/topology"
	"lithos/core/yang"
)

// socket is a port of a switch where a client can be plugged in. What is sent there goes as a frame of the port's VLAN
// over the cables between the devices, as far as each of them carries it.
type socket struct{ conn *net.UDPConn }

// sockets are the ports of a switch with no cable to another device.
func (d *Device) sockets() []string {
	if d.config.Kind != site.L2Switch && d.config.Kind != site.L3Switch {
		return nil
	}
	var out []string
	for _, i := range d.running.Interfaces.Interface {
		cabled := d.cabled(i.Name)
		if d.up(i) && i.Type == yang.TypeEthernet && i.Switchport != nil && i.Switchport.Untagged != 0 &&
			i.IPv4 == nil &&
			!cabled {
			out = append(out, i.Name)
		}
	}
	return out
}

// plugSockets opens the sockets that the running configuration has, and closes the others.
func (d *Device) plugSockets() error {
	wanted := d.sockets()
	for _, name := range wanted {
		if _, has := d.plugs[name]; has {
			continue
		}
		conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
		if err != nil {
			return err
		}
		d.plugs[name] = socket{conn}
		d.done.Go(func() { d.carry(name, conn) })
	}
	for name, s := range d.plugs {
		if !slices.Contains(wanted, name) {
			_ = s.conn.Close()
			delete(d.plugs, name)
		}
	}
	return nil
}

// carry takes what clients send at a port to whoever hears it there, and the answers back.
func (d *Device) carry(port string, conn *net.UDPConn) {
	clients := map[dhcpv4.TransactionID]netip.AddrPort{}
	buf := make([]byte, dhcp.MaxPacket+1)
	for {
		n, from, err := conn.ReadFromUDPAddrPort(buf)
		if err != nil {
			return
		}
		m, err := dhcp.ReadPacket(buf[:n])
		if err != nil {
			continue
		}
		if m.OpCode == dhcpv4.OpcodeBootReply {
			if to, known := clients[m.TransactionID]; known {
				_, _ = conn.WriteToUDPAddrPort(buf[:n], to)
			}
			continue
		}
		if len(clients) >= maxWaiting {
			clear(clients)
		}
		clients[m.TransactionID] = from
		for _, wire := range d.config.Fabric.heardFrom(d, port) {
			_, _ = conn.WriteToUDPAddrPort(buf[:n], wire)
		}
	}
}

// heardFrom lists the endpoints of the interfaces that hear what is sent at a port of a device.
func (f *Fabric) heardFrom(from *Device, port string) []netip.AddrPort {
	f.mu.Lock()
	wires := map[string]netip.AddrPort{} // by device and interface
	var devices []*Device
	for d, at := range f.places {
		devices = append(devices, d)
		for _, p := range at {
			wires[d.config.System+"/"+p.iface] = p.wire
		}
	}
	f.mu.Unlock()
	s := &site.Site{}
	for _, d := range devices {
		d.mu.Lock()
		s.Devices = append(s.Devices, site.Device{ID: d.config.System, Name: d.config.System, Kind: d.config.Kind,
			Interfaces: topology.ConfiguredInterfaces(d.config.System, d.running)})
		d.mu.Unlock()
	}
	for i := range s.Devices {
		for _, n := range linksOf(devices, s.Devices[i].ID) {
			if pulled(devices, s.Devices[i].ID, n.Interface) || pulled(devices, n.SystemName, n.PortID) {
				continue
			}
			if f, ok := s.Devices[i].Interface(n.Interface); ok {
				f.Peer = n.SystemName + "/" + n.PortID
			}
		}
	}
	var out []netip.AddrPort
	for _, e := range topology.Learn(s).Heard(from.config.System, port) {
		if wire, up := wires[e.Device.ID+"/"+e.Interface.Name]; up {
			out = append(out, wire)
		}
	}
	return out
}

func linksOf(devices []*Device, name string) []yang.LinkNeighbor {
	for _, d := range devices {
		if d.config.System == name {
			return d.config.Links
		}
	}
	return nil
}

// pulled reports whether the plug of a device's port is pulled.
func pulled(devices []*Device, name, port string) bool {
	for _, d := range devices {
		if d.config.System == name {
			d.mu.Lock()
			defer d.mu.Unlock()
			return d.off[port]
		}
	}
	return false
}
