package move_test

import (
	"bytes"
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/dhcp"
	"lithos/core/move"
	"lithos/core/rehearse"
	"lithos/core/scenario"
	"lithos/core/site"
)

// wide is a site of 50 networks with 100 reservations each, and a request that moves all of them.
func wide() (*site.Site, move.Request, []move.Client) {
	s := scenario.Site("kelder-bridge")
	s.Block = append(s.Block, netip.MustParsePrefix("10.128.0.0/16"))
	r := move.Request{Title: "All of it", Night: night}
	var clients []move.Client
	for i := range 50 {
		at := func(n int) netip.Addr { return netip.AddrFrom4([4]byte{10, 128, byte(i), byte(n)}) }
		id := fmt.Sprintf("net-wide-%d", i)
		p := netip.PrefixFrom(at(0), 24)
		s.Networks = append(s.Networks, site.Network{ID: id, Name: fmt.Sprint("Wide ", i), Prefix: p, VLAN: 1000 + i,
			Gateway: at(1)})
		s.Devices[0].Interfaces = append(s.Devices[0].Interfaces, site.Interface{ID: "if-wide-" + fmt.Sprint(i),
			Name: fmt.Sprintf("lan.%d", 1000+i), Kind: site.VLAN, Parent: "lan", VLAN: 1000 + i,
			Addresses: []netip.Prefix{netip.PrefixFrom(at(1), 24)}})
		s.Pools = append(s.Pools, site.Pool{ID: "pool-wide-" + fmt.Sprint(i), Name: fmt.Sprint("Wide ", i), Network: id,
			Server: "dev-gw-1", Enabled: true, Ranges: []address.Range{{From: at(150), To: at(200)}}})
		for k := range 100 {
			mac := address.MAC{2, 0, 0x5e, 1, byte(i), byte(k)}
			name := fmt.Sprintf("w%d-%d", i, k)
			s.Reservations = append(s.Reservations, &site.Reservation{ID: "res-" + name, Name: name, Network: id,
				Address: at(10 + k), MAC: mac})
			clients = append(clients, move.Client{Name: name, MAC: mac, Network: id, Address: at(10 + k)})
		}
		r.Shifts = append(r.Shifts, move.Shift{Network: id, VLAN: 2000 + i,
			Prefix: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, 200, byte(i), 0}), 24)})
	}
	return site.Normal(s), r, clients
}

// Planning a move of 50 networks and 5,000 addresses, against copying the document once by its site file.
func BenchmarkPlan(b *testing.B) {
	s, r, _ := wide()
	var planning, copying time.Duration
	turns := 0
	for b.Loop() {
		began := time.Now()
		p, err := move.Of(s, r)
		require.NoError(b, err)
		require.Len(b, p.Phases(), 3)
		planning += time.Since(began)
		began = time.Now()
		raw, err := site.Encode(s)
		require.NoError(b, err)
		_, err = site.Read(bytes.NewReader(raw))
		require.NoError(b, err)
		copying += time.Since(began)
		turns++
	}
	b.ReportMetric(float64(planning.Milliseconds())/float64(turns), "ms-plan")
	b.ReportMetric(float64(planning)/float64(copying), "x-copy")
}

// Simulating its night, for 5,000 clients, in seconds of the engine's exchanges on the same machine.
func BenchmarkNight(b *testing.B) {
	s, r, clients := wide()
	p, err := move.Of(s, r)
	require.NoError(b, err)
	acts := acts(p)
	perSecond := exchanges(b, s)
	var took time.Duration
	turns := 0
	for b.Loop() {
		began := time.Now()
		n := move.Simulate(s, clients, acts)
		took += time.Since(began)
		require.Equal(b, 5000, n.Affected)
		require.Zero(b, n.Stranded)
		turns++
	}
	b.ReportMetric(took.Seconds()/float64(turns), "s-night")
	b.ReportMetric(perSecond, "exchanges/s")
	b.ReportMetric(took.Seconds()/float64(turns)*perSecond/5000, "exchanges/client")
}

// exchanges is how many leases a second the engine gives at a site.
func exchanges(b *testing.B, s *site.Site) float64 {
	st := rehearse.NewStage(night, s, nil)
	n, _ := s.Network("net-wide-0")
	wire := st.Wire(n)
	began := time.Now()
	const times = 2000
	for i := range times {
		c := dhcp.Client{MAC: address.MAC{2, 0, 0x5e, 1, 0, byte(i % 100)}}
		_, err := c.Exchange(wire)
		require.NoError(b, err)
	}
	return times / time.Since(began).Seconds()
}
