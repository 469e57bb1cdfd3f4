package yang

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"lithos/core/address"
)

// Validate says why a device must refuse a configuration: overlapping
// interfaces, a VLAN id twice on one parent, a port in two groups, a pool
// without its interface's address, a relay that has none, a reservation without
// its pool.
func (c Config) Validate() error {
	v := validator{Config: c, byName: map[string]*Interface{}}
	for i := range c.Interfaces.Interface {
		v.byName[c.Interfaces.Interface[i].Name] = &c.Interfaces.Interface[i]
	}
	for _, rule := range []func() error{v.keys, v.carriers, v.groups, v.addresses, v.pools, v.ranges, v.reservations,
		v.relays, v.resolver, v.outside} {
		if err := rule(); err != nil {
			return err
		}
	}
	return nil
}

type namedPrefix struct {
	prefix netip.Prefix
	name   string
}

type validator struct {
	Config
	byName   map[string]*Interface
	prefixes []namedPrefix
}

// keys are unique in their lists.
func (v *validator) keys() error {
	c := v.Config
	for _, list := range []struct {
		what string
		keys []string
	}{
		{"interface", keysOf(c.Interfaces.Interface, interfaceKey)}, {"pool", keysOf(c.DHCP.Pool, poolKey)},
		{"reservation", keysOf(c.DHCP.Reservation, reservationKey)}, {"class", keysOf(c.DHCP.Class, classKey)},
		{"relay on", keysOf(c.Relays.Relay, relayKey)},
		{"zone", keysOf(c.Resolver.Zone, zoneKey)}, {"outside name", keysOf(c.Outside.Name, outsideKey)},
	} {
		slices.Sort(list.keys)
		for i := range list.keys {
			if i > 0 && list.keys[i] == list.keys[i-1] {
				return fmt.Errorf("%s %s is there twice", list.what, list.keys[i])
			}
		}
	}
	return nil
}

func keysOf[T any](list []T, key func(T) string) []string {
	out := make([]string, len(list))
	for i, t := range list {
		out[i] = key(t)
	}
	return out
}

// ranges of pools share no address, whatever clients the pools are for.
func (v *validator) ranges() error {
	type run struct {
		address.Range
		pool string
	}
	var all []run
	for _, p := range v.DHCP.Pool {
		for _, r := range p.Range {
			all = append(all, run{r.AddressRange(), p.called()})
		}
	}
	slices.SortFunc(all, func(a, b run) int { return a.From.Compare(b.From) })
	for i := 1; i < len(all); i++ {
		if all[i-1].Overlaps(all[i].Range) {
			return fmt.Errorf("pool %s: range %s overlaps %s of pool %s", all[i].pool, all[i].Range, all[i-1].Range,
				all[i-1].pool)
		}
	}
	return nil
}

// reservations keep an address for one client, and for a client one address a subnet.
func (v *validator) reservations() error {
	subnet := map[string]netip.Prefix{}
	for _, p := range v.DHCP.Pool {
		subnet[p.ID] = p.Subnet
	}
	at, of := map[netip.Addr]string{}, map[string]string{}
	for _, r := range v.DHCP.Reservation {
		if other, dup := at[r.Address]; dup {
			return fmt.Errorf("reservation %s: %s is kept by reservation %s", r.ID, r.Address, other)
		}
		at[r.Address] = r.ID
		if len(r.Client) == 0 && r.MAC.IsZero() {
			continue
		}
		who := fmt.Sprintf("%s %x %s", subnet[r.Pool], r.Client, r.MAC)
		if other, dup := of[who]; dup {
			return fmt.Errorf(
				"reservation %s: its client has reservation %s on %s already",
				r.ID,
				other,
				subnet[r.Pool],
			)
		}
		of[who] = r.ID
	}
	return nil
}

// called is the name of a pool, or its id where it has none.
func (p Pool) called() string { return cmp.Or(p.Name, p.ID) }

func (v *validator) carriers() error {
	tags := map[VLAN]string{}
	for _, i := range v.Interfaces.Interface {
		if p := i.Switchport; p != nil {
			for _, id := range append([]int{p.Untagged}, p.Tagged...) {
				if id < 0 || id > 4094 {
					return fmt.Errorf("interface %s: VLAN id %d is not from 1 to 4094", i.Name, id)
				}
			}
		}
		if i.VLAN == nil {
			continue
		}
		if i.VLAN.ID < 1 || i.VLAN.ID > 4094 {
			return fmt.Errorf("interface %s: VLAN id %d is not from 1 to 4094", i.Name, i.VLAN.ID)
		}
		if i.VLAN.Parent != "" && v.byName[i.VLAN.Parent] == nil {
			return fmt.Errorf("interface %s: its parent %s does not exist", i.Name, i.VLAN.Parent)
		}
		if other, dup := tags[*i.VLAN]; dup {
			return fmt.Errorf("interface %s: VLAN %d on %s is already %s", i.Name, i.VLAN.ID, i.VLAN.Parent, other)
		}
		tags[*i.VLAN] = i.Name
	}
	return nil
}

func (v *validator) groups() error {
	in := map[string]string{}
	for _, i := range v.Interfaces.Interface {
		for _, m := range i.Member {
			if v.byName[m] == nil {
				return fmt.Errorf("interface %s: its member %s does not exist", i.Name, m)
			}
			if other, dup := in[m]; dup {
				return fmt.Errorf("interface %s: %s is already in %s", i.Name, m, other)
			}
			in[m] = i.Name
		}
	}
	return nil
}

func (v *validator) addresses() error {
	for _, i := range v.Interfaces.Interface {
		if i.IPv4 == nil {
			continue
		}
		for _, a := range i.IPv4.Address {
			if !a.Prefix().IsValid() || !a.IP.Is4() {
				return fmt.Errorf("interface %s: %s/%d is not an address", i.Name, a.IP, a.PrefixLength)
			}
			for _, h := range v.prefixes {
				if h.prefix.Overlaps(a.Prefix()) {
					return fmt.Errorf("interface %s: %s overlaps %s on %s", i.Name, a.Prefix(), h.prefix, h.name)
				}
			}
			v.prefixes = append(v.prefixes, namedPrefix{a.Prefix(), i.Name})
		}
	}
	return nil
}

func (v *validator) pools() error {
	pools, classes := map[string]bool{}, map[string]bool{}
	for _, k := range v.DHCP.Class {
		classes[k.ID] = true
	}
	for _, p := range v.DHCP.Pool {
		pools[p.ID] = true
		on := slices.ContainsFunc(v.prefixes,
			func(h namedPrefix) bool { return h.name == p.Interface && h.prefix.Masked() == p.Subnet })
		switch {
		case p.Interface != "" && !on:
			return fmt.Errorf("pool %s: interface %s has no address in %s", p.called(), p.Interface, p.Subnet)
		case len(v.prefixes) == 0:
			return fmt.Errorf("pool %s: the device has no address to answer from", p.called())
		case p.ForClass != "" && !classes[p.ForClass]:
			return fmt.Errorf("pool %s: its class %s does not exist", p.called(), p.ForClass)
		}
		for _, r := range p.Range {
			if !address.Of(p.Subnet).Covers(r.AddressRange()) {
				return fmt.Errorf("pool %s: range %s is not inside %s", p.called(), r.AddressRange(), p.Subnet)
			}
		}
	}
	for _, r := range v.DHCP.Reservation {
		if !pools[r.Pool] {
			return fmt.Errorf("reservation %s: its pool %s does not exist", r.ID, r.Pool)
		}
	}
	return nil
}

func (v *validator) relays() error {
	for _, r := range v.Relays.Relay {
		if !slices.ContainsFunc(v.prefixes, func(h namedPrefix) bool { return h.name == r.Interface }) {
			return fmt.Errorf("relay on %s: the interface has no address to speak from", r.Interface)
		}
		if len(r.Server) == 0 {
			return fmt.Errorf("relay on %s: it names no server", r.Interface)
		}
	}
	return nil
}
