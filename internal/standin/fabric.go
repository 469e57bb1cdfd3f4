package standin

import (
	"maps"
	"net/netip"
	"slices"
	"sync"

	"lithos/core/address"
	"lithos/core/site"
	"lithos/internal/standin/resolve"
)

// Fabric joins the stand-ins of one site: it knows which of them are on a
// network, and which holds an address. The packets themselves pass over UDP.
type Fabric struct {
	mu      sync.Mutex
	places  map[*Device][]place
	names   map[*Device]resolve.Endpoint // their name servers
	outer   *Outer                       // nil where nothing is beyond the site
	strays  []*Stray
	hung    map[machine]hung       // where the simulated machines of the site are plugged in
	called  map[address.MAC]string // and what they are called
	stirred chan struct{}          // closed at the next change
	own     *resolve.Authority     // signs the certificates of name servers where there is no world
}

// place is one interface of a device on a network.
type place struct {
	device    *Device
	iface     string
	vlan      int
	addresses []netip.Prefix
	wire      netip.AddrPort // of the network's clients
	routed    netip.AddrPort // of what is sent to the device's addresses
}

// NewFabric is one that joins nothing yet.
func NewFabric() *Fabric {
	return &Fabric{places: map[*Device][]place{}, names: map[*Device]resolve.Endpoint{}}
}

func (f *Fabric) join(d *Device, at []place) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.places[d] = at
	f.stir()
}

// changes is closed when the devices of the site, or what is plugged in there, are next changed.
func (f *Fabric) changes() <-chan struct{} {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.stirred == nil {
		f.stirred = make(chan struct{})
	}
	return f.stirred
}

// stir says that something has changed. f.mu is held.
func (f *Fabric) stir() {
	if f.stirred != nil {
		close(f.stirred)
		f.stirred = nil
	}
}

func (f *Fabric) leave(d *Device) {
	f.mu.Lock()
	defer f.mu.Unlock()
	delete(f.places, d)
	delete(f.names, d)
	f.stir()
}

// devices lists those that are joined, in no order.
func (f *Fabric) devices() []*Device {
	f.mu.Lock()
	defer f.mu.Unlock()
	return slices.Collect(maps.Keys(f.places))
}

// holder is where packets for an address go.
func (f *Fabric) holder(a netip.Addr) (netip.AddrPort, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, at := range f.places {
		for _, p := range at {
			if slices.ContainsFunc(p.addresses, func(h netip.Prefix) bool { return h.Addr() == a }) {
				return p.routed, true
			}
		}
	}
	return netip.AddrPort{}, false
}

// segment lists who hears a client on a VLAN: the interfaces of that VLAN, and
// those that share a subnet with them and say nothing of VLANs.
func (f *Fabric) segment(vlan int) []place {
	f.mu.Lock()
	defer f.mu.Unlock()
	var out, silent []place
	subnets := map[netip.Prefix]bool{}
	for _, at := range f.places {
		for _, p := range at {
			switch {
			case p.vlan == vlan && (vlan != 0 || p.device.config.Kind != site.Server):
				out = append(out, p)
				for _, a := range p.addresses {
					subnets[a.Masked()] = true
				}
			case p.vlan == 0:
				silent = append(silent, p)
			}
		}
	}
	for _, p := range silent {
		if vlan != 0 && slices.ContainsFunc(p.addresses, func(a netip.Prefix) bool { return subnets[a.Masked()] }) {
			out = append(out, p)
		}
	}
	return out
}

// outside reports whether some device lets packets from an address out.
func (f *Fabric) outside(from netip.Addr, but *Device) bool {
	return slices.ContainsFunc(f.devices(), func(d *Device) bool {
		if d == but {
			return false
		}
		d.mu.Lock()
		defer d.mu.Unlock()
		return d.translates(from)
	})
}
