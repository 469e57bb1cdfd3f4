package ownership

import (
	"fmt"
	"net/netip"

	"lithos/core/site"
)

// Nearest is what a site has now that is nearest to a part which it had: a link to that part still leads somewhere. It
// is a network, and a part of it where one has the address of the old one; network is empty where the site has none.
func Nearest(was, now *site.Site, gone site.Ref) (network string, part site.Ref, why string) {
	old, ok := was.Network(site.NetworkOfPart(was, gone))
	if gone.Kind == site.KindNetwork {
		old, ok = was.Network(gone.ID)
	}
	if !ok {
		return "", part, ""
	}
	at := addressOf(was, gone)
	for _, n := range now.Networks {
		switch {
		case n.ID == old.ID:
			network, why = n.ID, "it was in "+n.Name
		case network == "" && n.Prefix.Overlaps(old.Prefix):
			network, why = n.ID, fmt.Sprintf("%s has its addresses now", n.Name)
		}
	}
	for _, n := range now.Networks {
		switch {
		case network != "":
		case n.VLAN != 0 && n.VLAN == old.VLAN:
			network, why = n.ID, fmt.Sprintf("%s has its VLAN now", n.Name)
		case n.Name == old.Name:
			network, why = n.ID, "it has the same name"
		}
	}
	if at.IsValid() {
		part = holderOf(now, at)
		if part.ID != "" {
			name, _ := site.NameOf(now, part)
			why = fmt.Sprintf("%s has %s now", name, at)
		}
	}
	return network, part, why
}

// addressOf is the address of a reservation or a fixed device; invalid for any other part.
func addressOf(s *site.Site, ref site.Ref) netip.Addr {
	if r, ok := s.Reservation(ref.ID); ok && ref.Kind == site.KindReservation {
		return r.Address
	}
	if f, ok := s.FixedDevice(ref.ID); ok && ref.Kind == site.KindFixedDevice {
		return f.Address
	}
	return netip.Addr{}
}

// holderOf is the reservation or fixed device that has an address.
func holderOf(s *site.Site, at netip.Addr) site.Ref {
	for _, r := range s.Reservations {
		if r.Address == at {
			return site.Ref{Kind: site.KindReservation, ID: r.ID}
		}
	}
	for _, f := range s.FixedDevices {
		if f.Address == at {
			return site.Ref{Kind: site.KindFixedDevice, ID: f.ID}
		}
	}
	return site.Ref{}
}
