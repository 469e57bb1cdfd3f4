package view_test

import (
	"fmt"
	"net/netip"
	"testing"

	"lithos/core/check"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/internal/order"
	"lithos/internal/view"
)

// BenchmarkNames times the page of names of a site of 25,000 reservations against one of 2,500: it is worked out
// whole after each edit.
func BenchmarkNames(b *testing.B) {
	took := map[int]float64{}
	for _, n := range []int{2_500, 25_000} {
		s := scenario.Site("kelder-bridge")
		s.Networks = append(s.Networks, site.Network{ID: "net-large", Name: "Large",
			Prefix: netip.MustParsePrefix("10.128.0.0/16")})
		for i := range n {
			s.Reservations = append(s.Reservations, &site.Reservation{ID: fmt.Sprintf("res-x-%05d", i),
				Name: fmt.Sprintf("pc-%05d", i), Network: "net-large",
				Address: netip.AddrFrom4([4]byte{10, 128, byte(i >> 8), byte(i)})})
		}
		sc := check.Of(site.Normal(s))
		b.Run(fmt.Sprint(n, "-reservations"), func(b *testing.B) {
			for b.Loop() {
				view.Of(sc, nil, 1, order.Beside{}).Names("", "", nil)
			}
			took[n] = float64(b.Elapsed()) / float64(b.N)
			if n == 25_000 {
				b.ReportMetric(took[n]/took[2_500], "x-2500")
			}
		})
	}
}
