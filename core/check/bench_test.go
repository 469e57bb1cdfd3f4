package check_test

import (
	"fmt"
	"net/netip"
	"reflect"
	"testing"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/site"
)

// large is a site of 50 networks with reservations, fixed devices and pools.
func large(reservations int) *site.Site {
	s := &site.Site{ID: "site-large", Code: "large", Name: "Large", Customer: site.Level{ID: "c", Name: "C"},
		Block: []netip.Prefix{prefix("10.0.0.0/8")}, Domain: "large.example",
		Options: []site.Option{{Code: 6, Value: "192.0.2.53"}}}
	d := site.Device{ID: "gw", Name: "gw", Kind: site.Firewall,
		Interfaces: []site.Interface{{ID: "if-lan", Name: "lan", Kind: site.PortGroup}}}
	const networks = 50
	for i := range networks {
		p := netip.PrefixFrom(address.FromUint(10<<24|uint32(i)<<16), 16)
		gw := p.Addr().Next()
		n := site.Network{ID: fmt.Sprintf("net-%d", i), Name: fmt.Sprintf("Net %d", i), Prefix: p, VLAN: i + 2,
			Gateway: gw}
		s.Networks = append(s.Networks, n)
		d.Interfaces = append(d.Interfaces,
			site.Interface{ID: fmt.Sprintf("if-%d", i), Name: fmt.Sprintf("lan.%d", i+2), Kind: site.VLAN,
				Parent: "lan", VLAN: i + 2, Addresses: []netip.Prefix{netip.PrefixFrom(gw, 16)}})
		base := address.Uint(p.Addr())
		s.Pools = append(s.Pools,
			site.Pool{ID: fmt.Sprintf("pool-%d", i), Name: n.Name, Network: n.ID, Server: "gw", Enabled: true,
				Ranges: []address.Range{{From: address.FromUint(base + 0x8000), To: address.FromUint(base + 0x80ff)}}})
		for k := range reservations / networks {
			id := i*(reservations/networks) + k
			s.Reservations = append(s.Reservations,
				&site.Reservation{ID: fmt.Sprintf("r-%d", id), Name: fmt.Sprintf("host-%d", id), Network: n.ID,
					Address: address.FromUint(base + 16 + uint32(k)),
					MAC:     address.MAC{0, 0, 0x5e, byte(id >> 16), byte(id >> 8), byte(id)}})
		}
	}
	s.Devices = []site.Device{d}
	return site.Normal(s)
}

// BenchmarkCheck times every rule over a site of 50 networks after one edit,
// against merely walking the document once.
func BenchmarkCheck(b *testing.B) {
	for _, n := range []int{500, 5_000, 50_000} {
		s := large(n)
		p := s.Pools[0]
		now := p
		now.Ranges = []address.Range{{From: p.Ranges[0].From, To: p.Ranges[0].To.Next()}}
		e, _ := edit.Changing(site.KindPool, p.ID, site.Ref{}, p, now)
		after, err := edit.Apply(s, e)
		if err != nil {
			b.Fatal(err)
		}
		if found := check.Site(after); len(found) > 0 {
			b.Fatalf("the site is to be clean: %v", found[0])
		}
		b.Run(fmt.Sprintf("rules/reservations=%d", n), func(b *testing.B) {
			for b.Loop() {
				check.Site(after)
			}
		})
		b.Run(fmt.Sprintf("walk/reservations=%d", n), func(b *testing.B) {
			for b.Loop() {
				if walk(reflect.ValueOf(after).Elem()) == 0 {
					b.Fatal("nothing was walked")
				}
			}
		})
	}
}

// walk visits every value of a document once.
func walk(v reflect.Value) int {
	n := 1
	switch v.Kind() {
	case reflect.Struct:
		for i := range v.NumField() {
			n += walk(v.Field(i))
		}
	case reflect.Slice, reflect.Array:
		for i := range v.Len() {
			n += walk(v.Index(i))
		}
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			n += walk(v.Elem())
		}
	}
	return n
}
