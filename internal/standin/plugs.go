package standin

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/address"
	"lithos/core/yang"
)

// machine is who a simulated machine is: of two with one MAC each has an address of its own.
type machine struct {
	mac   address.MAC
	fixed netip.Addr
}

// hung is where a simulated machine is plugged in. It stays there, whatever VLAN the port is in: at a port without a
// tag it is in the port's VLAN, and behind a trunk, as at an access point, in a VLAN of its own.
type hung struct {
	device  *Device // nil where the site has no port for it: it is in its VLAN
	port    string
	tag     int   // behind a trunk; 0 at a port without a tag
	carried []int // what the trunk carried when it carried the tag last
}

// hang finds where a machine is plugged in. The first time that is a port of its VLAN, always the same for the same
// machine.
func (f *Fabric) hang(who Client) hung {
	key := machine{who.MAC, who.Fixed}
	f.mu.Lock()
	h, known := f.hung[key]
	f.mu.Unlock()
	if !known {
		h = f.place(who)
	}
	if h.device != nil && h.tag != 0 {
		h = h.followed()
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.hung == nil {
		f.hung = map[machine]hung{}
	}
	if f.hung[key] = h; who.Name != "" {
		f.calls(who)
	}
	return h
}

// calls remembers what a machine is called, for who looks for it.
func (f *Fabric) calls(who Client) {
	if f.called == nil {
		f.called = map[address.MAC]string{}
	}
	f.called[who.MAC] = who.Name
}

// place chooses where a machine is plugged in at first.
func (f *Fabric) place(who Client) hung {
	devices := f.devices()
	slices.SortFunc(devices, func(a, b *Device) int { return strings.Compare(a.config.Name, b.config.Name) })
	var ports, trunks []hung
	for _, d := range devices {
		d.mu.Lock()
		for _, i := range d.running.Interfaces.Interface {
			_, open := d.plugs[i.Name]
			switch {
			case open && i.Switchport.Untagged == who.VLAN && len(i.Switchport.Tagged) == 0:
				ports = append(ports, hung{device: d, port: i.Name})
			case i.Switchport != nil && !d.cabled(i.Name) && slices.Contains(i.Switchport.Tagged, who.VLAN):
				trunks = append(trunks, hung{device: d, port: i.Name, tag: who.VLAN, carried: i.Switchport.Tagged})
			}
		}
		d.mu.Unlock()
	}
	for _, list := range [][]hung{ports, trunks} {
		if len(list) > 0 {
			return list[int(hashOf(who.MAC))%len(list)]
		}
	}
	return hung{}
}

// followed is a machine behind a trunk whose VLAN has another number by now: what is at the other end is set with the
// trunk, where one VLAN has taken the place of one.
func (h hung) followed() hung {
	h.device.mu.Lock()
	defer h.device.mu.Unlock()
	i, there := h.device.iface(h.port)
	if !there || i.Switchport == nil {
		return h
	}
	if slices.Contains(i.Switchport.Tagged, h.tag) {
		h.carried = i.Switchport.Tagged
		return h
	}
	fresh := slices.DeleteFunc(slices.Clone(i.Switchport.Tagged),
		func(id int) bool { return slices.Contains(h.carried, id) })
	if len(fresh) == 1 {
		h.tag, h.carried = fresh[0], i.Switchport.Tagged
	}
	return h
}

// vlan is the VLAN that a machine is in now; false where its port is off, or in none.
func (h hung) vlan(who Client) (int, bool) {
	if h.device == nil {
		return who.VLAN, true
	}
	h.device.mu.Lock()
	defer h.device.mu.Unlock()
	i, there := h.device.iface(h.port)
	if !there || i.Switchport == nil || !h.device.up(i) {
		return 0, false
	}
	if h.tag == 0 {
		return i.Switchport.Untagged, i.Switchport.Untagged != 0
	}
	return h.tag, slices.Contains(i.Switchport.Tagged, h.tag)
}

// cabled reports whether a port has a cable to another device. The caller holds mu.
func (d *Device) cabled(port string) bool {
	return slices.ContainsFunc(d.config.Links, func(n yang.LinkNeighbor) bool { return n.Interface == port })
}

// iface is an interface of the running configuration. The caller holds mu.
func (d *Device) iface(name string) (yang.Interface, bool) {
	i := slices.IndexFunc(d.running.Interfaces.Interface, func(i yang.Interface) bool { return i.Name == name })
	if i < 0 {
		return yang.Interface{}, false
	}
	return d.running.Interfaces.Interface[i], true
}

// up reports whether an interface is switched on, and somebody has not pulled its plug. The caller holds mu.
func (d *Device) up(i yang.Interface) bool { return i.Enabled && !d.off[i.Name] }

// Plug plugs a simulated machine in at a port of the device, where it stays.
func (d *Device) Plug(mac address.MAC, port string) error {
	f := d.config.Fabric
	d.mu.Lock()
	i, there := d.iface(port)
	free := there && i.Switchport != nil && !d.cabled(port)
	d.mu.Unlock()
	if !free {
		return fmt.Errorf("%q is no port of this device that a machine can be plugged in at", port)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	found := false
	for key := range f.hung {
		if key.mac == mac {
			f.hung[key], found = hung{device: d, port: port}, true
		}
	}
	if !found {
		return fmt.Errorf("no simulated machine of this site has the MAC %s", mac)
	}
	return nil
}

// SwitchPort has a port off, as if its plug were pulled, or on again.
func (d *Device) SwitchPort(port string, on bool) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if i, there := d.iface(port); !there || i.Switchport == nil {
		return fmt.Errorf("%q is no port of this device", port)
	}
	if d.off = maps.Clone(d.off); d.off == nil {
		d.off = map[string]bool{}
	}
	if d.off[port] = true; on {
		delete(d.off, port)
	}
	return d.plugSockets()
}

// sockets is the operation of module lithos-standin that lists ports, lines and machines.
const listSockets = "/restconf/operations/lithos-standin:sockets"

// Sockets is what of a simulated device can be plugged and unplugged.
type Sockets struct {
	Port    []Port    `json:"port"`
	Line    []string  `json:"line"` // uplinks whose line can be given another address
	Machine []Machine `json:"machine"`
}

// Port is a port of a simulated device.
type Port struct {
	Name string `json:"name"`
	Up   bool   `json:"up"`
}

// Machine is a simulated machine of the device's site, with where it is plugged in.
type Machine struct {
	MAC  address.MAC `json:"hw-address"`
	Name string      `json:"name"`
	At   string      `json:"at"`
}

func (d *Device) listsSockets(w http.ResponseWriter, r *http.Request) {
	if isYANG(w, r) {
		write(w, http.StatusOK, map[string]any{"lithos-standin:output": d.Sockets()})
	}
}

// Sockets lists what of the device can be plugged and unplugged, and the machines of its site.
func (d *Device) Sockets() Sockets {
	out := Sockets{Port: []Port{}, Line: []string{}, Machine: []Machine{}}
	d.mu.Lock()
	for _, i := range d.running.Interfaces.Interface {
		if i.Switchport != nil {
			out.Port = append(out.Port, Port{i.Name, d.up(i)})
		}
		if i.Uplink != nil && i.Uplink.Method != "fixed" {
			out.Line = append(out.Line, i.Name)
		}
	}
	d.mu.Unlock()
	f := d.config.Fabric
	f.mu.Lock()
	defer f.mu.Unlock()
	for key, h := range f.hung {
		m := Machine{MAC: key.mac, Name: f.called[key.mac]}
		if h.device != nil {
			m.At = h.port + " of " + h.device.config.Name
		}
		out.Machine = append(out.Machine, m)
	}
	slices.SortFunc(out.Machine, func(a, b Machine) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), strings.Compare(a.MAC.String(), b.MAC.String()))
	})
	return out
}

// placeFault does what of the faults concerns a place: a port, or the line of an uplink. ok is false for any other
// fault.
func (d *Device) placeFault(fault, place, value string) (ok bool, err error) {
	switch fault {
	case "port-off", "port-on":
		return true, d.SwitchPort(place, fault == "port-on")
	case "plug":
		mac, err := address.ParseMAC(value)
		if err == nil {
			err = d.Plug(mac, place)
		}
		return true, err
	case "line":
		d.mu.Lock()
		i, there := d.iface(place)
		d.mu.Unlock()
		if !there || i.Uplink == nil {
			return true, fmt.Errorf("%q is no uplink of this device", place)
		}
		if value == "" {
			d.SetLine(place, netip.Addr{})
			return true, nil
		}
		a, err := netip.ParseAddr(value)
		if err != nil || !a.Is4() {
			return true, errors.New("value is an IPv4 address, or nothing for a line that is dropped")
		}
		d.SetLine(place, a)
		return true, nil
	}
	return false, nil
}
