package compile_test

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lithos/core/compile"
	"lithos/core/option"
	"lithos/core/scenario"
	"lithos/core/site"
)

func TestToldSaysWhereItComesFrom(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	n, _ := s.Network("net-clinic")
	p, _ := s.Pool("pool-clinic")
	r, _ := s.Reservation("res-xray-plate")
	r.Options = []site.Option{{Code: 6, Value: "10.84.16.1"}}
	var got []string
	for _, told := range compile.Effective(s, compile.For{Network: n, Pool: p, Reservation: r}) {
		got = append(got, fmt.Sprintf("%d %s from %s", told.Code, told.Value, told.From.Kind))
	}
	assert.Equal(t, []string{
		"3 10.84.18.1 from network",
		"6 10.84.16.1 from reservation",
		"15 kelder.larkrise.example from site",
		"42 10.84.16.1 from customer",
		"51 8 hours from pool",
		"119 kelder.larkrise.example, larkrise.example from site",
	}, got)
	lease, ok := compile.Value(compile.Effective(s, compile.For{Network: n, Pool: p, Reservation: r}), option.LeaseTime)
	require.True(t, ok)
	assert.Equal(t, "1 day", lease.Hides[0].Value)

	// An option of the same level goes before what is told by itself.
	n.Options = append(n.Options, site.Option{Code: 3, Value: "10.84.18.9"})
	s.Options = append(s.Options, site.Option{Code: 15, Value: "other.example"})
	told := compile.Effective(s, compile.For{Network: n})
	assert.Equal(t, []netip.Addr{netip.MustParseAddr("10.84.18.9")}, compile.Addresses(told, option.Router))
	domain, _ := compile.Value(told, option.DomainName)
	assert.Equal(t, "other.example", domain.Value)
	_, ok = compile.Value(told, 150)
	assert.False(t, ok)
	assert.Nil(t, compile.Addresses(told, 150))
}

func TestAReservationFollowsThePoolThatHoldsIt(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	second := site.Pool{ID: "pool-2", Name: "Second", Network: "net-imaging", Server: "dev-gw-1", Enabled: true}
	second.Ranges = append(second.Ranges, s.Pools[0].Ranges[0])
	second.Ranges[0].From, second.Ranges[0].To = netip.MustParseAddr("10.84.20.10"), netip.MustParseAddr("10.84.20.15")
	s.Pools = append(s.Pools, second)
	r, _ := s.Reservation("res-plate-reader")
	p, ok := compile.PoolOf(s, r)
	require.True(t, ok)
	assert.Equal(t, "pool-2", p.ID)
	r.Address = netip.MustParseAddr("10.84.20.60")
	p, _ = compile.PoolOf(s, r)
	assert.Equal(t, "pool-imaging", p.ID, "outside all ranges it is the network's first pool")
	r.Network = "net-none"
	_, ok = compile.PoolOf(s, r)
	assert.False(t, ok)
}

func TestDeviceHoldsOnlyWhatItCanServe(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	p, _ := s.Pool("pool-imaging")
	p.Options = []site.Option{{Code: 26, Value: "lots"}}
	c := compile.Device(s, "dev-gw-1")
	for _, q := range c.DHCP.Pool {
		for _, o := range q.Option {
			assert.NotEqual(t, uint8(26), o.Code, "what does not encode is left out")
		}
	}
	assert.Len(t, c.DHCP.Pool, 6)
	assert.Len(t, c.DHCP.Reservation, len(s.Reservations))
	n, _ := s.Network("net-imaging")
	n.Prefix = netip.MustParsePrefix("10.84.20.0/25") // the interface is still on the /26
	c = compile.Device(s, "dev-gw-1")
	assert.Len(t, c.DHCP.Pool, 5)
	assert.Equal(t, "lan.24 on gw-1", compile.Where(s, &s.Networks[3]))
	assert.Empty(t, compile.Where(s, &site.Network{Prefix: netip.MustParsePrefix("192.0.2.0/24")}))
	sw := compile.Device(s, "dev-sw-core")
	assert.Len(t, sw.Interfaces.Interface, 8)
	assert.Empty(t, sw.DHCP.Pool)
}

// Whatever is set where, the nearest level wins, and compiling is a function of
// the document alone.
func TestNearestWins(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := scenario.Site("quill-street")
		n, _ := s.Network("net-quill-lab")
		p, _ := s.Pool("pool-quill-lab")
		want := ""
		for i, level := range []*[]site.Option{&s.Standard.Options, &s.Customer.Options, &s.Options, &n.Options,
			&p.Options} {
			*level = nil
			if rapid.Bool().Draw(t, "set") {
				want = fmt.Sprintf("%d hours", i+2)
				*level = []site.Option{{Code: 51, Value: want}}
			}
		}
		told, ok := compile.Value(compile.Effective(s, compile.For{Network: n, Pool: p}), option.LeaseTime)
		if ok != (want != "") || told.Value != want {
			t.Fatalf("told %q, want %q", told.Value, want)
		}
		if a, b := compile.Device(s, "dev-quill-rt"), compile.Device(s, "dev-quill-rt"); !a.Equal(b) {
			t.Fatal("compiled differently the second time")
		}
	})
}
