package topology

import (
	"lithos/core/site"
	"lithos/core/yang"
)

var kinds = map[string]string{
	yang.TypeEthernet: site.Port, yang.TypeBridge: site.PortGroup, yang.TypeVLAN: site.VLAN,
	yang.TypeLoopback: site.Loopback, yang.TypeTunnel: site.Tunnel,
}

// ConfiguredInterfaces is the interfaces that a device has by its configuration, as far as they say which frames go
// where; those that are switched off are left out. Their ids are made of the device's and their names, and they have no
// cables.
func ConfiguredInterfaces(device string, c yang.Config) []site.Interface {
	var out []site.Interface
	for _, i := range c.Interfaces.Interface {
		if !i.Enabled {
			continue
		}
		f := site.Interface{Name: i.Name, ID: device + "/" + i.Name, Kind: kinds[i.Type], Members: i.Member,
			Permits: i.Permit}
		if i.Uplink != nil {
			f.Kind = site.Uplink
		}
		if i.VLAN != nil {
			f.VLAN, f.Parent = i.VLAN.ID, i.VLAN.Parent
		}
		if i.Switchport != nil {
			f.Untagged, f.Tagged = i.Switchport.Untagged, i.Switchport.Tagged
		}
		if i.IPv4 != nil {
			for _, a := range i.IPv4.Address {
				f.Addresses = append(f.Addresses, a.Prefix())
			}
		}
		out = append(out, f)
	}
	return out
}

// Heard lists the interfaces with an address that hear what a client sends without a tag at a port.
func (m *Map) Heard(device, port string) []End {
	d, ok := m.site.Device(device)
	if !ok {
		return nil
	}
	f, ok := d.Interface(port)
	if !ok {
		return nil
	}
	w := newWalk(m, &site.Network{})
	w.path.Segments = make([]Segment, 1)
	w.spread(d, carrier(d, f), Untagged(d, f), f)
	var out []End
	for i := range m.site.Devices {
		dev := &m.site.Devices[i]
		for k := range dev.Interfaces {
			if g := &dev.Interfaces[k]; len(g.Addresses) > 0 && w.hears(dev, g) {
				out = append(out, End{dev, g})
			}
		}
	}
	return out
}

// hears reports whether the frames of a walk came to an interface.
func (w *walk) hears(d *site.Device, f *site.Interface) bool {
	vlan, on := Untagged(d, f), f
	if f.Kind == site.VLAN {
		vlan = f.VLAN
		if parent, ok := d.Interface(f.Parent); ok {
			on = parent
		}
	}
	p := place{d.ID, carrier(d, on).Name, vlan}
	if d.IsSwitch() {
		p.group = ""
	}
	_, seen := w.seen[p]
	return seen
}
