package topology

import (
	"lithos/core/site"
)

// Hearing is the interface where a network's DHCP requests are heard.
func Hearing(doc *site.Site, n *site.Network) (*site.Device, *site.Interface, bool) {
	d, i, _, ok := doc.InterfaceOn(n)
	for di := range doc.Devices {
		for ii := range doc.Devices[di].Interfaces {
			f := &doc.Devices[di].Interfaces[ii]
			for _, a := range f.Addresses {
				serves := len(f.RelayTo) > 0
				for _, p := range doc.Pools {
					serves = serves || p.Network == n.ID && p.Server == doc.Devices[di].ID && p.Enabled
				}
				if a.Masked() == n.Prefix.Masked() && serves {
					return &doc.Devices[di], f, true
				}
			}
		}
	}
	return d, i, ok
}
