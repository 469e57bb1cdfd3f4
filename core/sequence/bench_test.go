package sequence_test

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/sequence"
	"lithos/core/site"
	"lithos/core/yang"
)

// grown is the mill with a number of networks, and as many reservations in each as make the parts.
func grown(b *testing.B, networks, parts int) *site.Site {
	s := read(b, mill)
	gw := &s.Devices[0]
	for n := range networks {
		at := func(host int) netip.Addr { return netip.AddrFrom4([4]byte{10, 40, byte(100 + n), byte(host)}) }
		id, vlan := fmt.Sprint("net-g", n), 100+n
		prefix := netip.PrefixFrom(at(0), 24)
		s.Networks = append(s.Networks, site.Network{ID: id, Name: id, Prefix: prefix, VLAN: vlan, Gateway: at(1)})
		gw.Interfaces = append(gw.Interfaces, site.Interface{ID: "if-" + id, Name: fmt.Sprint("p1.", vlan),
			Kind:   site.VLAN,
			Parent: "p1", VLAN: vlan, Addresses: []netip.Prefix{netip.PrefixFrom(at(1), 24)}})
		s.Pools = append(s.Pools, site.Pool{ID: "pool-" + id, Name: id, Network: id, Server: gw.ID, Enabled: true,
			Ranges: []address.Range{{From: at(200), To: at(250)}}})
		for h := range parts / networks {
			s.Reservations = append(s.Reservations, &site.Reservation{ID: fmt.Sprint("res-", n, "-", h), Network: id,
				Name: fmt.Sprint("host-", n, "-", h), Address: at(2 + h%190),
				MAC: address.MAC{0, 0, 0x5e, 0, byte(n), byte(h)}})
		}
	}
	return site.Normal(s)
}

// Planning a site of so many parts, whose networks get another mask and another pool each, against reading what its
// firewall holds once.
func BenchmarkPlan(b *testing.B) {
	for _, parts := range []int{1250, 2500, 5000} {
		b.Run(fmt.Sprint(parts), func(b *testing.B) {
			base := grown(b, 30, parts)
			goal := grown(b, 30, parts)
			for i := range goal.Pools {
				goal.Pools[i].Ranges[0].To = goal.Pools[i].Ranges[0].To.Prev()
			}
			for _, r := range goal.Reservations {
				r.Name += "x"
			}
			var devices []sequence.Device
			for _, d := range goal.Devices {
				devices = append(devices, sequence.Device{ID: d.ID, Name: d.Name, Kind: d.Kind,
					Running: compile.Device(base, d.ID), Goal: compile.Device(goal, d.ID)})
			}
			raw, err := json.Marshal(devices[0].Running)
			require.NoError(b, err)
			var reading, planning time.Duration
			for b.Loop() {
				began := time.Now()
				var c yang.Config
				require.NoError(b, json.Unmarshal(raw, &c))
				reading += time.Since(began)
				began = time.Now()
				o := sequence.Of(base, goal, devices)
				planning += time.Since(began)
				require.Greater(b, len(o.Steps), parts)
			}
			b.ReportMetric(float64(planning)/float64(reading), "x-reading")
		})
	}
}
