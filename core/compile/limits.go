package compile

import (
	"cmp"
	"errors"
	"fmt"

	"lithos/core/site"
	"lithos/core/yang"
)

// Limits says why a device of a kind must refuse a configuration that is sound
// in itself: what that kind cannot do. An unknown kind has no limits.
//
//   - A layer 2 switch has one interface with an address, for its management,
//     serves DHCP only there, relays nothing and leads nowhere.
//   - A layer 3 switch neither translates addresses nor speaks PPPoE, and keeps
//     reservations out of the ranges of its pools.
//   - A server carries no VLANs for others and relays nothing.
//
// A layer 2 switch has no resolver, either, and no switch keeps outside names.
func Limits(kind string, c yang.Config) error {
	addressed := 0
	for _, i := range c.Interfaces.Interface {
		if i.IPv4 != nil && i.Type != yang.TypeLoopback {
			addressed++
		}
		if err := uplinkLimits(kind, i); err != nil {
			return err
		}
	}
	switch {
	case len(c.Outside.Name) > 0 && !KeepsNames(kind):
		return fmt.Errorf("outside name %s: a %s keeps none", c.Outside.Name[0].Name, kind)
	case kind == site.L2Switch && c.Resolver.Settings != nil:
		return errors.New("a layer 2 switch has no resolver")
	case kind == site.L2Switch && addressed > 1:
		return fmt.Errorf("a layer 2 switch has one interface with an address, and this would be %d", addressed)
	case kind == site.L2Switch && len(c.Relays.Relay) > 0, kind == site.Server && len(c.Relays.Relay) > 0:
		return fmt.Errorf("relay on %s: a %s relays nothing", c.Relays.Relay[0].Interface, kind)
	case kind == site.Server:
		return carriesNothing(c)
	case kind == site.L2Switch:
		return servesItsOwn(c)
	case kind == site.L3Switch:
		return keptApart(c)
	}
	return nil
}

// uplinkLimits says what of an uplink a kind of device cannot have.
func uplinkLimits(kind string, i yang.Interface) error {
	switch {
	case i.Uplink == nil:
	case kind == site.L2Switch:
		return fmt.Errorf("interface %s: a layer 2 switch has no uplink of its own", i.Name)
	case kind == site.L3Switch && len(i.Uplink.Translate) > 0:
		return fmt.Errorf("interface %s: a layer 3 switch does not translate addresses", i.Name)
	case kind == site.L3Switch && i.Uplink.Method == site.ByPPPoE:
		return fmt.Errorf("interface %s: a layer 3 switch does not speak PPPoE", i.Name)
	}
	return nil
}

// carriesNothing refuses a server that carries VLANs.
func carriesNothing(c yang.Config) error {
	for _, i := range c.Interfaces.Interface {
		if i.Switchport != nil || i.Type == yang.TypeBridge {
			return fmt.Errorf("interface %s: a server carries no VLANs for others", i.Name)
		}
	}
	return nil
}

// servesItsOwn refuses a layer 2 switch that serves clients behind relays.
func servesItsOwn(c yang.Config) error {
	for _, p := range c.DHCP.Pool {
		if p.Interface == "" {
			return fmt.Errorf("pool %s: a layer 2 switch serves only the network of its management interface", p.Name)
		}
	}
	return nil
}

// keptApart refuses a reservation inside the ranges of a pool.
func keptApart(c yang.Config) error {
	for _, r := range c.DHCP.Reservation {
		for _, p := range c.DHCP.Pool {
			if p.HandsOut(r.Address) {
				return fmt.Errorf("reservation %s: a layer 3 switch reserves only outside the ranges of its pools, "+
					"and %s is in %s", cmp.Or(r.Name, r.ID), r.Address, cmp.Or(p.Name, p.ID))
			}
		}
	}
	return nil
}
