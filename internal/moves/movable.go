package moves

import (
	"context"
	"net/netip"
	"time"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/site"
)

// Movable is what of a site can be moved.
type Movable struct {
	Name     string           `json:"name"` // of the site
	Zone     string           `json:"zone"`
	Block    string           `json:"block"`
	Standard string           `json:"standard,omitempty" doc:"name of the standard, where it sets windows aside"`
	Night    string           `json:"night" doc:"when a swap could begin, on the clock at the site"`
	Networks []MovableNetwork `json:"networks"`
	Ports    []MovablePort    `json:"ports"`
	Devices  []MovableDevice  `json:"devices" doc:"that can route a network"`
}

// MovableNetwork is a network as it is.
type MovableNetwork struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Prefix  string `json:"prefix"`
	VLAN    int    `json:"vlan"`
	Gateway string `json:"gateway"`
	Owners  int    `json:"owners" doc:"reservations and fixed devices"`
	Free    string `json:"free,omitempty" doc:"the next free subnet of its size in the site's block"`
}

// MovablePort is a port with its untagged VLAN.
type MovablePort struct {
	ID       string `json:"id"`
	Name     string `json:"name"`
	Untagged int    `json:"untagged"`
	Access   bool   `json:"access" doc:"a client may be plugged in: it has no cable to another device, and no tagged VLANs"`
}

// MovableDevice is a device with what can carry a VLAN interface.
type MovableDevice struct {
	ID      string   `json:"id"`
	Name    string   `json:"name"`
	Parents []string `json:"parents"`
}

// nightHour is the hour at which a swap is proposed, in the site's zone.
const nightHour = 22

// Movable lists what of a site can be moved.
func (s *Service) Movable(ctx context.Context, code string) (*Movable, error) {
	sc, _, _, err := s.drafts.SceneOf(ctx, code, 0)
	if err != nil {
		return nil, err
	}
	at := time.Now().In(sc.Location()).AddDate(0, 0, 3)
	out := &Movable{Name: sc.Name, Zone: sc.TimeZone, Networks: []MovableNetwork{}, Ports: []MovablePort{},
		Devices: []MovableDevice{}, Night: time.Date(at.Year(), at.Month(), at.Day(), nightHour, 0, 0, 0,
			at.Location()).Format(site.Clock)}
	if len(sc.Block) > 0 {
		out.Block = sc.Block[0].String()
	}
	if len(sc.Standard.Windows) > 0 {
		out.Standard = sc.Standard.Name
	}
	out.networks(sc)
	out.ports(sc)
	return out, nil
}

// networks lists what could move, with the next free subnet of the same size.
func (out *Movable) networks(sc *check.Scene) {
	owners := map[string]int{}
	for _, r := range sc.Reservations {
		owners[r.Network]++
	}
	for _, x := range sc.FixedDevices {
		owners[x.Network]++
	}
	var used []netip.Prefix
	for _, n := range sc.Networks {
		used = append(used, n.Prefix)
	}
	for _, n := range sc.Networks {
		one := MovableNetwork{ID: n.ID, Name: n.Name, Prefix: n.Prefix.String(), VLAN: n.VLAN, Owners: owners[n.ID]}
		if n.Gateway.IsValid() {
			one.Gateway = n.Gateway.String()
		}
		if p, ok := address.NextPrefix(sc.Block, used, n.Prefix.Bits()); ok {
			one.Free = p.String()
		}
		out.Networks = append(out.Networks, one)
	}
}

// ports lists where a piece of a network could be plugged in, and the devices that could route it.
func (out *Movable) ports(sc *check.Scene) {
	cabled := map[string]bool{}
	for _, d := range sc.Devices {
		for _, i := range d.Interfaces {
			if i.Peer != "" {
				cabled[i.ID], cabled[i.Peer] = true, true
			}
		}
	}
	for _, d := range sc.Devices {
		routes := MovableDevice{ID: d.ID, Name: d.Name, Parents: []string{}}
		for _, i := range d.Interfaces {
			if i.Kind == site.Port || i.Kind == site.PortGroup {
				out.Ports = append(out.Ports, MovablePort{i.ID, d.Name + " " + i.Name, i.Untagged,
					i.Kind == site.Port && len(i.Tagged) == 0 && !cabled[i.ID] && d.Kind != site.Server})
				routes.Parents = append(routes.Parents, i.Name)
			}
		}
		if d.Kind != site.L2Switch && d.Kind != site.Server {
			out.Devices = append(out.Devices, routes)
		}
	}
}
