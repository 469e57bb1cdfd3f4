package rehearse_test

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/rehearse"
	"lithos/core/scenario"
	"lithos/core/site"
)

// crowded is a site with a network of n reserved clients, on an interface that
// serves them.
func crowded(n int) *site.Site {
	s := scenario.Site("kelder-bridge")
	prefix := netip.MustParsePrefix("10.128.0.0/13")
	s.Block = append(s.Block, prefix)
	at := func(i int) netip.Addr { return address.FromUint(address.Uint(prefix.Addr()) + uint32(i)) }
	s.Networks = append(s.Networks,
		site.Network{ID: "net-crowd", Name: "Crowd", Prefix: prefix, VLAN: 99, Gateway: at(1)})
	for i := range s.Devices {
		if d := &s.Devices[i]; d.ID == "dev-gw-1" {
			d.Interfaces = append(d.Interfaces, site.Interface{
				ID: "if-crowd", Name: "lan.99", Kind: site.VLAN, Parent: "lan", VLAN: 99,
				Addresses: []netip.Prefix{netip.PrefixFrom(at(1), 13)},
			})
		}
	}
	s.Pools = append(s.Pools, site.Pool{ID: "pool-crowd", Name: "Crowd", Network: "net-crowd", Server: "dev-gw-1",
		Enabled: true, Ranges: []address.Range{{From: at(1 << 18), To: at(1<<18 + 99)}}})
	for i := range n {
		s.Reservations = append(s.Reservations, &site.Reservation{
			ID: fmt.Sprintf("res-crowd-%d", i), Network: "net-crowd", Address: at(i + 10),
			MAC: address.MAC{2, 0, 0x5e, byte(i >> 16), byte(i >> 8), byte(i)}, Name: fmt.Sprintf("h%d", i),
		})
	}
	return site.Normal(s)
}

// BenchmarkRehearsal rehearses a draft for every known client.
func BenchmarkRehearsal(b *testing.B) {
	for _, n := range []int{5_000, 20_000} {
		s := crowded(n)
		b.Run(fmt.Sprintf("%d clients", n), func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				report, err := rehearse.Run(rehearse.Start{Now: time.Now(), Site: s}, s, nil,
					func(rehearse.Client) error { return nil })
				require.NoError(b, err)
				require.GreaterOrEqual(b, report.Clients, n)
			}
		})
	}
}
