package rehearse

import (
	"time"

	"lithos/core/dhcp"
	"lithos/core/observed"
	"lithos/core/site"
)

// LeasesOf is what the devices of a site have leased, as they told last.
func LeasesOf(s *site.Site, all []observed.Heard, now time.Time) Leases {
	out := Leases{}
	// What has ended comes first, so that the lease that stands is the one kept.
	for _, standing := range []bool{false, true} {
		for _, h := range all {
			if h.Source != observed.Lease || h.Expires.IsZero() || (h.Bound && h.Expires.After(now)) != standing {
				continue
			}
			l := dhcp.Lease{
				Address: h.Address, MAC: h.MAC, ClientID: h.ClientID, HostName: h.Name,
				Class: h.Class, Pool: h.Pool,
				State: dhcp.State(h.State), Since: h.First, Expires: h.Expires,
			}
			p, ok := s.Pool(h.Pool)
			if !ok {
				continue
			}
			if n, ok := s.Network(p.Network); ok {
				l.Subnet = n.Prefix
				out[h.Device] = append(out[h.Device], l)
			}
		}
	}
	return out
}
