package dhcp_test

import (
	"fmt"
	"net/netip"
	"runtime/debug"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lithos/core/address"
	"lithos/core/dhcp"
	"lithos/core/option"
	"lithos/core/yang"
)

var start = time.Date(2026, 11, 23, 21, 30, 0, 0, time.UTC)

func addr(s string) netip.Addr { return netip.MustParseAddr(s) }

// config serves 10.0.0.10-19 on lan, excluding .15, with .12 reserved, and a
// second subnet on guest.
func config() yang.Config {
	var c yang.Config
	for name, a := range map[string]string{"lan": "10.0.0.1", "guest": "10.0.1.1"} {
		c.Interfaces.Interface = append(c.Interfaces.Interface, yang.Interface{Name: name, Enabled: true,
			IPv4: &yang.IPv4{Enabled: true, Address: []yang.Address{{IP: addr(a), PrefixLength: 24}}}})
	}
	opts := []yang.Option{{Code: 3, Value: []byte{10, 0, 0, 1}}, {Code: 6, Value: []byte{10, 0, 0, 2}},
		{Code: 51, Value: []byte{0, 0, 0x0e, 0x10}}}
	c.DHCP.Pool = []yang.Pool{
		{ID: "p", Name: "PCs", Enabled: true, Interface: "lan", Subnet: netip.MustParsePrefix("10.0.0.0/24"),
			Range:     []yang.Span{{Start: addr("10.0.0.10"), End: addr("10.0.0.19")}},
			Exclusion: []yang.Exclusion{{Span: yang.Span{Start: addr("10.0.0.15"), End: addr("10.0.0.15")}}},
			Option:    opts},
		{ID: "g", Name: "Guests", Enabled: true, Interface: "guest", Subnet: netip.MustParsePrefix("10.0.1.0/24"),
			Range: []yang.Span{{Start: addr("10.0.1.10"), End: addr("10.0.1.11")}}},
	}
	c.DHCP.Reservation = []yang.Reservation{{ID: "r", Pool: "p", Name: "printer", Address: addr("10.0.0.12"),
		MAC: mac(200), Option: []yang.Option{{Code: 6, Value: []byte{9, 9, 9, 9}}}}}
	return c
}

func mac(i int) address.MAC { return address.MAC{0, 0, 0x5e, 0, byte(i >> 8), byte(i)} }

func wire(s *dhcp.Server, now time.Time, iface string) dhcp.Wire {
	return func(request []byte, to netip.Addr) ([]byte, string, error) {
		in, err := dhcp.ReadPacket(request)
		if err != nil {
			return nil, "", err
		}
		a := s.Handle(now, in, iface)
		if to.IsValid() {
			a = s.HandleSent(now, in, iface)
		}
		reply, _ := a.Wire()
		return reply, a.Why(), nil
	}
}

func lease(t require.TestingT, s *dhcp.Server, now time.Time, iface string, c *dhcp.Client) []dhcp.Message {
	passed, err := c.Exchange(wire(s, now, iface))
	require.NoError(t, err)
	return passed
}

func TestDiscoverToAck(t *testing.T) {
	s := dhcp.NewServer(config(), dhcp.NewLeaseDB())
	c := &dhcp.Client{MAC: mac(1), HostName: "recep-pc"}
	passed := lease(t, s, start, "lan", c)
	require.Len(t, passed, 4)
	assert.Equal(t, []string{"discover", "offer", "request", "ack"},
		[]string{passed[0].Type, passed[1].Type, passed[2].Type, passed[3].Type})
	ack := passed[3]
	assert.Equal(t, "10.0.0.10", ack.Your)
	assert.Equal(t, "255.255.255.0", ack.Option(1))
	assert.Equal(t, "10.0.0.1", ack.Option(3))
	assert.Equal(t, "1 hour", ack.Option(51))
	assert.Equal(t, "10.0.0.1", ack.Option(54))
	assert.Equal(t, time.Hour, c.Lease)
	assert.Greater(t, ack.Size, 240)
}

func TestReservationHasItsOwnOptionsAndName(t *testing.T) {
	s := dhcp.NewServer(config(), dhcp.NewLeaseDB())
	c := &dhcp.Client{MAC: mac(200)}
	ack := lease(t, s, start, "lan", c)[3]
	assert.Equal(t, "10.0.0.12", ack.Your)
	assert.Equal(t, "9.9.9.9", ack.Option(6))
	assert.Equal(t, "printer", ack.Option(12))
	other := &dhcp.Client{MAC: mac(200)}
	assert.Equal(t, "10.0.1.10", lease(t, s, start, "guest", other)[3].Your,
		"on another network it is a client like any")
}

func TestOnlyWhatIsAskedForIsTold(t *testing.T) {
	s := dhcp.NewServer(config(), dhcp.NewLeaseDB())
	c := &dhcp.Client{MAC: mac(1), Parameters: []uint8{option.Router}}
	ack := lease(t, s, start, "lan", c)[3]
	assert.NotEmpty(t, ack.Option(3))
	assert.Empty(t, ack.Option(6))
	assert.NotEmpty(t, ack.Option(51))
}

// Every client state of RFC 2131 section 4.3.2 and what the server says to it.
func TestClientStates(t *testing.T) {
	ask := func(s *dhcp.Server, now time.Time, m *dhcpv4.DHCPv4, iface string) string {
		a := s.Handle(now, m, iface)
		if a.Reply == nil {
			return "silence"
		}
		return option.Format(53, a.Reply.Options[53])
	}
	fresh := func() (*dhcp.Server, *dhcp.Client) {
		s := dhcp.NewServer(config(), dhcp.NewLeaseDB())
		c := &dhcp.Client{MAC: mac(1)}
		lease(t, s, start, "lan", c)
		return s, c
	}
	later := start.Add(30 * time.Minute)

	s, c := fresh()
	assert.Equal(t, "ack", ask(s, later, c.Renew(), "lan"), "renewing")
	assert.Equal(t, "ack", ask(s, start.Add(3*time.Hour), c.Renew(), "lan"), "renewing late, address still free")
	assert.Equal(t, "ack", ask(s, later, c.Reboot(), "lan"), "init-reboot")
	assert.Equal(t, "nak", ask(s, later, c.Reboot(), "guest"), "init-reboot on another network")
	c.Address = addr("10.0.0.13")
	assert.Equal(t, "silence", ask(s, later, c.Reboot(), "lan"), "init-reboot with no record")
	c.Address = addr("10.0.0.15")
	assert.Equal(t, "nak", ask(s, later, c.Renew(), "lan"), "renewing what is excluded")

	s, c = fresh()
	thief := &dhcp.Client{MAC: mac(2), Address: c.Address}
	assert.Equal(t, "nak", ask(s, later, thief.Renew(), "lan"), "renewing another's address")
	assert.Equal(t, "nak", ask(s, later, thief.Reboot(), "lan"), "rebooting with another's address")
	assert.Equal(t, "offer", ask(s, later, thief.Discover(), "lan"))
	assert.Equal(t, "10.0.0.11", s.Handle(later, thief.Discover(), "lan").Reply.YourIPAddr.String(),
		"asking for what another has gives something else")

	elsewhere := thief.Select(s.Handle(later, thief.Discover(), "lan").Reply)
	elsewhere.Options[54] = []byte{10, 9, 9, 9}
	assert.Equal(t, "silence", ask(s, later, elsewhere, "lan"), "another server was chosen")

	s, c = fresh()
	assert.Equal(t, "silence", ask(s, later, c.Release(), "lan"))
	assert.Equal(t, "10.0.0.10", lease(t, s, later, "lan", &dhcp.Client{MAC: mac(1)})[3].Your,
		"a returning client gets what it had")

	s, c = fresh()
	assert.Equal(t, "silence", ask(s, later, c.Decline(), "lan"))
	assert.Equal(t, "10.0.0.11", lease(t, s, later, "lan", &dhcp.Client{MAC: mac(1)})[3].Your,
		"a declined address is set aside")

	informed := s.Handle(later, (&dhcp.Client{MAC: mac(7), Address: addr("10.0.0.77")}).Inform(), "lan").Reply
	assert.Equal(t, "ack", option.Format(53, informed.Options[53]))
	assert.Equal(t, "0.0.0.0", informed.YourIPAddr.String())
	assert.Nil(t, informed.Options[51])
	assert.Equal(t, "silence", ask(s, later, c.Discover(), "nowhere"))
}

func TestRelayedRequestsAreServedByTheirSubnet(t *testing.T) {
	s := dhcp.NewServer(config(), dhcp.NewLeaseDB())
	m := (&dhcp.Client{MAC: mac(1)}).Discover()
	m.GatewayIPAddr = addr("10.0.1.1").AsSlice()
	m.Options[82] = []byte{1, 2, 'p', '7'}
	r := s.Handle(start, m, "lan").Reply
	require.NotNil(t, r)
	assert.Equal(t, "10.0.1.10", r.YourIPAddr.String())
	assert.Equal(t, []byte{1, 2, 'p', '7'}, []byte(r.Options[82]))
}

func TestFullPoolReusesWhatEndedFirst(t *testing.T) {
	s := dhcp.NewServer(config(), dhcp.NewLeaseDB())
	lease(t, s, start, "guest", &dhcp.Client{MAC: mac(1)})
	lease(t, s, start.Add(time.Minute), "guest", &dhcp.Client{MAC: mac(2)})
	third := &dhcp.Client{MAC: mac(3)}
	passed := lease(t, s, start.Add(time.Hour), "guest", third)
	assert.Len(t, passed, 1)
	assert.Equal(t, "Pool Guests has no free address.", passed[0].Why)
	assert.Equal(t, "10.0.1.10", lease(t, s, start.Add(option.DefaultLease+time.Second), "guest", third)[3].Your)
}

func TestAddressInUseIsNotOffered(t *testing.T) {
	s := dhcp.NewServer(config(), dhcp.NewLeaseDB())
	c := &dhcp.Client{MAC: mac(1)}
	a := s.Handle(start, c.Discover(), "lan")
	assert.Equal(t, addr("10.0.0.10"), a.Probe)
	assert.False(t, s.Taken(start, a, mac(1)), "the client itself answers")
	assert.True(t, s.Taken(start, a, mac(9)))
	a = s.Handle(start, c.Discover(), "lan")
	assert.Equal(t, addr("10.0.0.11"), a.Probe)
	assert.Equal(t, "10.0.0.11", a.Reply.YourIPAddr.String())
	assert.False(t, s.Handle(start, c.Discover(), "lan").Probe.IsValid(), "it was probed already")
}

func TestBookOutlivesAConfiguration(t *testing.T) {
	db := dhcp.NewLeaseDB()
	c := &dhcp.Client{MAC: mac(1)}
	lease(t, dhcp.NewServer(config(), db), start, "lan", c)
	again := dhcp.NewServer(config(), dhcp.NewLeaseDB(db.Leases()...))
	assert.Equal(t, "10.0.0.11", lease(t, again, start, "lan", &dhcp.Client{MAC: mac(2)})[3].Your)
	off := config()
	off.DHCP.Pool[0].Enabled = false
	assert.Contains(t, dhcp.NewServer(off, db).Handle(start, c.Discover(), "lan").Why(), "No pool is served")
}

// A pool hands out exactly its ranges minus its exclusions minus addresses
// otherwise owned, each to one client at a time, whatever the pool.
func TestOfferedSet(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := config()
		p := &c.DHCP.Pool[0]
		host := func(label string) netip.Addr {
			return address.FromUint(0x0a000000 + rapid.Uint32Range(0, 40).Draw(t, label))
		}
		span := func(label string) yang.Span {
			a, b := host(label+" a"), host(label+" b")
			if b.Less(a) {
				a, b = b, a
			}
			return yang.Span{Start: a, End: b}
		}
		p.Range = []yang.Span{span("range"), span("range2")}
		p.Exclusion = []yang.Exclusion{{Span: span("excluded")}}
		c.DHCP.Reservation[0].Address = host("reserved")
		want := map[netip.Addr]bool{}
		for u := uint32(0x0a000000); u <= 0x0a000000+40; u++ {
			a := address.FromUint(u)
			in := p.Range[0].AddressRange().Contains(a) || p.Range[1].AddressRange().Contains(a)
			if in && !p.Exclusion[0].AddressRange().Contains(a) && a != addr("10.0.0.0") && a != addr("10.0.0.1") &&
				a != c.DHCP.Reservation[0].Address {
				want[a] = true
			}
		}
		s := dhcp.NewServer(c, dhcp.NewLeaseDB())
		got := map[netip.Addr]bool{}
		for i := range len(want) + 1 {
			client := &dhcp.Client{MAC: mac(i)}
			_, _ = client.Exchange(wire(s, start, "lan"))
			if client.Address.IsValid() {
				if got[client.Address] {
					t.Fatalf("%s given twice", client.Address)
				}
				got[client.Address] = true
			}
		}
		if fmt.Sprint(got) != fmt.Sprint(want) {
			t.Fatalf("handed out %v, want %v", got, want)
		}
	})
}

// Whatever arrives, the server does not panic and the lease database stays within the pools.
func FuzzHandle(f *testing.F) {
	c := &dhcp.Client{MAC: mac(1), Address: addr("10.0.0.10"), ServerID: addr("10.0.0.1")}
	for _, m := range []*dhcpv4.DHCPv4{c.Discover(), c.Reboot(), c.Renew(), c.Release(), c.Decline(), c.Inform()} {
		f.Add(m.ToBytes())
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := dhcp.ReadPacket(data)
		if err != nil {
			return
		}
		db := dhcp.NewLeaseDB()
		s := dhcp.NewServer(config(), db)
		s.Handle(start, m, "lan").Wire()
		s.HandleSent(start, m, "guest").Wire()
		dhcp.Describe(dhcp.Words{}, data, "")
		for _, l := range db.Leases() {
			if !address.Of(l.Subnet).Contains(l.Address) {
				t.Fatalf("lease of %s outside %s", l.Address, l.Subnet)
			}
		}
		if db.Len() > 2 {
			t.Fatalf("a message heard twice made %d leases", db.Len())
		}
	})
}

// BenchmarkExchange times discover to acknowledgement against merely decoding
// and encoding the packets, and with many leases held against few.
func BenchmarkExchange(b *testing.B) {
	defer debug.SetGCPercent(debug.SetGCPercent(400)) // as the lithos command does
	c := config()
	c.DHCP.Pool[0].Subnet = netip.MustParsePrefix("10.0.0.0/8")
	for i := range c.Interfaces.Interface {
		if c.Interfaces.Interface[i].Name == "lan" {
			c.Interfaces.Interface[i].IPv4 = &yang.IPv4{Enabled: true,
				Address: []yang.Address{{IP: addr("10.0.0.1"), PrefixLength: 8}}}
		} else {
			c.Interfaces.Interface[i].IPv4 = nil
		}
	}
	c.DHCP.Pool[0].Range = []yang.Span{{Start: addr("10.1.0.0"), End: addr("10.200.0.0")}}
	b.Run("engine", func(b *testing.B) {
		s := dhcp.NewServer(c, dhcp.NewLeaseDB())
		for i := 0; b.Loop(); i++ {
			client := dhcp.Client{MAC: mac(i)} // 65,536 of them, who come again
			exchange(b, &client, func(wire []byte) []byte {
				in, err := dhcp.ReadPacket(wire)
				if err != nil {
					b.Fatal(err)
				}
				reply, _ := s.Handle(start, in, "lan").Wire()
				return reply
			})
		}
		b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "exchanges/s")
	})
	for _, held := range []int{1_000, 100_000} {
		b.Run(fmt.Sprintf("engine/leases=%d", held), func(b *testing.B) {
			s := dhcp.NewServer(c, dhcp.NewLeaseDB())
			who := func(i int) dhcp.Client {
				i %= held
				return dhcp.Client{MAC: address.MAC{0, 0, 0x5e, byte(i >> 16), byte(i >> 8), byte(i)}}
			}
			serve := func(wire []byte) []byte {
				in, err := dhcp.ReadPacket(wire)
				if err != nil {
					b.Fatal(err)
				}
				reply, _ := s.Handle(start, in, "lan").Wire()
				return reply
			}
			for i := range held {
				client := who(i)
				exchange(b, &client, serve)
			}
			// They come again in an order of no pattern, as real ones do.
			for i := 0; b.Loop(); i++ {
				client := who(i * 7919)
				exchange(b, &client, serve)
			}
			b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "exchanges/s")
		})
	}
	b.Run("codec", func(b *testing.B) {
		s := dhcp.NewServer(c, dhcp.NewLeaseDB())
		client := dhcp.Client{MAC: mac(1)}
		offer := s.Handle(start, client.Discover(), "lan").Reply
		ack := s.Handle(start, client.Select(offer), "lan").Reply
		for b.Loop() {
			client := dhcp.Client{MAC: mac(1)}
			replies := []*dhcpv4.DHCPv4{offer, ack}
			exchange(b, &client, func(wire []byte) []byte {
				if _, err := dhcp.ReadPacket(wire); err != nil {
					b.Fatal(err)
				}
				out := replies[0].ToBytes()
				replies = replies[1:]
				return out
			})
		}
		b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "exchanges/s")
	})
}

// exchange passes the four messages as bytes through answer.
func exchange(b *testing.B, c *dhcp.Client, answer func([]byte) []byte) {
	offer, err := dhcp.ReadPacket(answer(c.Discover().ToBytes()))
	if err != nil {
		b.Fatal(err)
	}
	ack, err := dhcp.ReadPacket(answer(c.Select(offer).ToBytes()))
	if err != nil {
		b.Fatal(err)
	}
	if err := c.Take(ack); err != nil {
		b.Fatal(err)
	}
}
