package dhcp_test

import (
	"bytes"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lithos/core/dhcp"
	"lithos/core/option"
	"lithos/core/yang"
)

// relayed has a relay on clients, and server is what it passes requests to.
func relayed() (relay, server yang.Config) {
	relay.Interfaces.Interface = []yang.Interface{{Name: "clients", Enabled: true,
		IPv4: &yang.IPv4{Enabled: true, Address: []yang.Address{{IP: addr("10.0.5.1"), PrefixLength: 24}}}}}
	relay.Relays.Relay = []yang.Relay{{Interface: "clients", Server: []netip.Addr{addr("10.0.0.1")}}}
	server = config()
	server.DHCP.Pool = append(server.DHCP.Pool,
		yang.Pool{ID: "far", Name: "Far", Enabled: true, Subnet: netip.MustParsePrefix("10.0.5.0/24"),
			Range: []yang.Span{{Start: addr("10.0.5.10"), End: addr("10.0.5.19")}}})
	return relay, server
}

func TestRelayThereAndBack(t *testing.T) {
	rc, sc := relayed()
	relay, server := dhcp.NewRelay(rc), dhcp.NewServer(sc, dhcp.NewLeaseDB())
	require.True(t, relay.Active("clients"))
	c := &dhcp.Client{MAC: mac(1)}
	over := func(request []byte, _ netip.Addr) ([]byte, string, error) {
		in, err := dhcp.ReadPacket(request)
		require.NoError(t, err)
		out, servers, why := relay.Forward(in, "clients")
		require.NotNil(t, out, why)
		assert.Equal(t, []netip.Addr{addr("10.0.0.1")}, servers)
		assert.Equal(t, "10.0.5.1", out.GatewayIPAddr.String())
		assert.Equal(t, uint8(1), out.HopCount)
		a := server.Handle(start, out, "lan")
		require.NotNil(t, a.Reply, a.Why())
		assert.Equal(t, dhcp.Destination{Address: addr("10.0.5.1"), Port: 67}, dhcp.Deliver(a.Reply))
		assert.Equal(t, append([]byte{1, 7}, "clients"...), []byte(a.Reply.Options[option.RelayInfo]), "echoed")
		back, iface, ok := relay.Back(a.Reply)
		require.True(t, ok)
		assert.Equal(t, "clients", iface)
		assert.Nil(t, back.Options[option.RelayInfo])
		wire, _ := dhcp.Pack(back, nil, dhcp.Accepts(in))
		return wire, "", nil
	}
	_, err := c.Exchange(over)
	require.NoError(t, err)
	assert.Equal(t, "10.0.5.10", c.Address.String())
	assert.Equal(t, "10.0.0.1", c.ServerID.String())
}

func TestRelayRefuses(t *testing.T) {
	rc, _ := relayed()
	relay := dhcp.NewRelay(rc)
	discover := (&dhcp.Client{MAC: mac(1)}).Discover
	says := func(change func(*dhcpv4.DHCPv4), iface string) string {
		m := discover()
		change(m)
		out, _, why := relay.Forward(m, iface)
		assert.Nil(t, out)
		return why
	}
	assert.Contains(t, says(func(*dhcpv4.DHCPv4) {}, "lan"), "Nothing is relayed")
	assert.Contains(t, says(func(m *dhcpv4.DHCPv4) { m.OpCode = dhcpv4.OpcodeBootReply }, "clients"), "Not a request")
	assert.Contains(t, says(func(m *dhcpv4.DHCPv4) { m.HopCount = 17 }, "clients"), "circles")
	assert.Contains(
		t,
		says(func(m *dhcpv4.DHCPv4) { m.Options[82] = []byte{1, 1, 0x31} }, "clients"),
		"comes from no relay",
	)
	assert.Contains(t, says(func(m *dhcpv4.DHCPv4) { m.GatewayIPAddr = addr("10.0.5.1").AsSlice() }, "clients"),
		"claims")
	m := discover()
	m.GatewayIPAddr, m.Options[82] = addr("10.9.9.9").AsSlice(), []byte{1, 1, 'x'}
	out, _, _ := relay.Forward(m, "clients")
	assert.Equal(t, "10.9.9.9", out.GatewayIPAddr.String(), "the first relay's address stays")
	assert.Equal(t, []byte{1, 1, 'x'}, []byte(out.Options[82]))
	_, _, ok := relay.Back(m)
	assert.False(t, ok, "a request is no reply")
}

func TestDelivery(t *testing.T) {
	s := dhcp.NewServer(config(), dhcp.NewLeaseDB())
	c := &dhcp.Client{MAC: mac(1)}
	offer := s.Handle(start, c.Discover(), "lan").Reply
	assert.Equal(t, dhcp.Destination{Address: addr("10.0.0.10"), Port: 68, Direct: true}, dhcp.Deliver(offer))
	loud := &dhcp.Client{MAC: mac(2), Broadcast: true}
	assert.Equal(t, "255.255.255.255", dhcp.Deliver(s.Handle(start, loud.Discover(), "lan").Reply).Address.String())
	lease(t, s, start, "lan", c)
	assert.Equal(t, dhcp.Destination{Address: c.Address, Port: 68},
		dhcp.Deliver(s.Handle(start, c.Renew(), "lan").Reply))
	c.Address = addr("10.0.0.15")
	assert.Equal(t, "255.255.255.255", dhcp.Deliver(s.Handle(start, c.Renew(), "lan").Reply).Address.String(),
		"a refusal goes to everybody")
}

func TestReservedByClientIdentifier(t *testing.T) {
	c := config()
	c.DHCP.Reservation = append(c.DHCP.Reservation,
		yang.Reservation{ID: "id", Pool: "p", Address: addr("10.0.0.18"), Client: []byte("\x00cart")})
	s := dhcp.NewServer(c, dhcp.NewLeaseDB())
	assert.Equal(t, "10.0.0.18", lease(t, s, start, "lan", &dhcp.Client{MAC: mac(1), ID: []byte("\x00cart")})[3].Your)
	assert.Equal(t, "10.0.0.10", lease(t, s, start, "lan", &dhcp.Client{MAC: mac(1)})[3].Your)
	assert.Equal(t, "10.0.0.12",
		lease(t, s, start, "lan", &dhcp.Client{MAC: mac(200), ID: []byte("\x00other")})[3].Your,
		"a MAC's reservation holds whatever it calls itself")
}

func TestPoolsForSome(t *testing.T) {
	c := config()
	kept := c.DHCP.Pool[0]
	kept.ID, kept.Name, kept.ForClass, kept.Range = "k", "Kept", "phones",
		[]yang.Span{{Start: addr("10.0.0.30"), End: addr("10.0.0.30")}}
	byID := kept
	byID.ID, byID.ForClass, byID.ForClient, byID.Range = "i", "", []byte("\x00till-"),
		[]yang.Span{{Start: addr("10.0.0.40"), End: addr("10.0.0.41")}}
	c.DHCP.Pool = append(c.DHCP.Pool, kept, byID)
	c.DHCP.Class = []yang.Class{{ID: "phones", Name: "Phones", Match: "ward",
		Option: []yang.Option{{Code: 66, Value: []byte("10.0.0.7")}}}}
	s := dhcp.NewServer(c, dhcp.NewLeaseDB())
	get := func(client dhcp.Client) dhcp.Message {
		passed := lease(t, s, start, "lan", &client)
		return passed[len(passed)-1]
	}
	phone := get(dhcp.Client{MAC: mac(1), Class: "wardphone", Parameters: []uint8{3, 66}})
	assert.Equal(t, "10.0.0.30", phone.Your)
	assert.Equal(t, "10.0.0.7", phone.Option(66))
	assert.Equal(t, "10.0.0.7", phone.Server, "boot loaders read it from the header")
	assert.Contains(t, get(dhcp.Client{MAC: mac(2), Class: "wardphone"}).Why, "no free address",
		"what is for anyone is not for them")
	assert.Equal(t, "10.0.0.40", get(dhcp.Client{MAC: mac(3), ID: []byte("\x00till-1")}).Your)
	assert.Equal(t, "10.0.0.10", get(dhcp.Client{MAC: mac(4), ID: []byte("\x00tablet")}).Your)
	c.DHCP.Pool = []yang.Pool{kept}
	c.DHCP.Reservation = nil
	s = dhcp.NewServer(c, dhcp.NewLeaseDB())
	assert.Equal(t, "No pool here is for this kind of client.", get(dhcp.Client{MAC: mac(5)}).Why)
}

// Whatever the options, order and limit: what is packed reads back, is no larger
// than allowed, and nothing is lost that is not said to be.
func TestPackReadsBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := (&dhcp.Client{MAC: mac(1)}).Discover()
		m.OpCode = dhcpv4.OpcodeBootReply
		m.BootFileName, m.ServerHostName = "boot/start", "boot"
		m.Options = dhcpv4.Options{53: {2}}
		for _, code := range rapid.SliceOfNDistinct(rapid.Uint8Range(1, 254), 0, 12, rapid.ID).Draw(t, "codes") {
			if code != option.Overload {
				m.Options[code] = rapid.SliceOfN(rapid.Byte(), 1, 255).Draw(t, "value")
			}
		}
		limit := rapid.IntRange(548, 1400).Draw(t, "limit")
		wire, left := dhcp.Pack(m, rapid.SliceOf(rapid.Byte()).Draw(t, "asked"), limit)
		if len(wire) > limit {
			t.Fatalf("%d octets, at most %d", len(wire), limit)
		}
		back, err := dhcp.ReadPacket(wire)
		if err != nil {
			t.Fatal(err)
		}
		for code, value := range m.Options {
			if bytes.Contains(left, []byte{code}) {
				continue
			}
			if !bytes.Equal(back.Options[code], value) {
				t.Fatalf("option %d is %x, was %x", code, back.Options[code], value)
			}
		}
		for _, mark := range dhcp.Marks(wire) {
			if mark.Code != option.Overload && !bytes.Equal(wire[mark.From+2:mark.To], m.Options[mark.Code]) {
				t.Fatalf("the mark of option %d is elsewhere", mark.Code)
			}
		}
	})
}

func TestOverloadIsUsedWhenNeeded(t *testing.T) {
	m := (&dhcp.Client{MAC: mac(1)}).Discover()
	m.Options = dhcpv4.Options{53: {2}, 17: bytes.Repeat([]byte{'r'}, 200), 67: bytes.Repeat([]byte{'f'}, 100),
		66: bytes.Repeat([]byte{'s'}, 40), 82: {1, 1, 'x'}}
	wire, left := dhcp.Pack(m, []byte{17, 67, 66}, 548)
	assert.Empty(t, left)
	got := dhcp.Describe(dhcp.Words{}, wire, "")
	assert.Equal(t, "file", got.Option(52))
	where := map[uint8]string{}
	for _, mark := range got.Marks {
		where[mark.Code] = mark.Field
	}
	assert.Equal(t, map[uint8]string{52: "options", 53: "options", 17: "options", 67: "file", 66: "options",
		82: "options"}, where)
	_, left = dhcp.Pack(m, nil, 1400)
	assert.Empty(t, left)
	m.Options[18] = bytes.Repeat([]byte{'e'}, 250)
	_, left = dhcp.Pack(m, nil, 548)
	assert.NotEmpty(t, left)
}

// What a vendor's options hold is named by the class, where it adds up.
func TestVendorOptionsAreTakenApart(t *testing.T) {
	words := dhcp.Words{Vendor: []option.Definition{{Code: 1, Name: "Call server", Type: option.Address},
		{Code: 3, Name: "Ring", Type: option.Number8}}}
	describe := func(code uint8, value []byte) dhcp.MessageOption {
		m := (&dhcp.Client{MAC: mac(1)}).Discover()
		m.Options = dhcpv4.Options{53: {2}, code: value}
		got := dhcp.Describe(words, m.ToBytes(), "").Options
		return got[max(0, slices.IndexFunc(got, func(o dhcp.MessageOption) bool { return o.Code == code }))]
	}
	subs := []byte{1, 4, 10, 84, 16, 130, 2, 2, 0xab, 0xcd, 3, 2, 1, 1}
	want := []dhcp.MessagePart{{Code: 1, Name: "Call server", Value: "10.84.16.130"}, {Code: 2, Value: "abcd"},
		{Code: 3, Name: "Ring", Value: "0101"}}
	assert.Equal(t, want, describe(43, subs).Parts)
	ours := slices.Clone(want)
	for i := range ours {
		ours[i].Enterprise = 0x7fff
	}
	info := append([]byte{0, 0, 0x7f, 0xff, byte(len(subs))}, subs...)
	assert.Equal(t, ours, describe(125, info).Parts)
	other := dhcp.MessagePart{Enterprise: 9, Code: 7, Value: "aa"}
	assert.Equal(
		t,
		append(ours, other),
		describe(125, append(info, 0, 0, 0, 9, 3, 7, 1, 0xaa)).Parts,
		"of several makers",
	)
	assert.Equal(t, []dhcp.MessagePart{{Code: 1, Name: "Circuit", Value: "vlan24"}, {Code: 5, Name: "Link selection",
		Value: "10.0.5.0"}}, describe(82, append([]byte{1, 6}, "vlan24\x05\x04\x0a\x00\x05\x00"...)).Parts)
	assert.Empty(t, describe(43, []byte{1, 9, 1}).Parts, "octets that do not add up stay octets")
	assert.Empty(t, describe(125, []byte{0, 0, 1, 1, 9, 1}).Parts)
}

func TestBookIsBounded(t *testing.T) {
	db := dhcp.NewLeaseDB()
	c := config()
	for i := range 500 {
		now := start.Add(time.Duration(i) * 48 * time.Hour)
		_, _ = (&dhcp.Client{MAC: mac(i)}).Exchange(wire(dhcp.NewServer(c, db), now, "lan"))
	}
	assert.LessOrEqual(t, db.Len(), 9, "no more than the pool has addresses")
}

// Whatever arrives, a relay neither panics nor answers for others.
func FuzzRelay(f *testing.F) {
	c := &dhcp.Client{MAC: mac(1), Address: addr("10.0.5.10"), ServerID: addr("10.0.0.1")}
	for _, m := range []*dhcpv4.DHCPv4{c.Discover(), c.Renew(), c.Release()} {
		f.Add(m.ToBytes())
		m.OpCode, m.GatewayIPAddr = dhcpv4.OpcodeBootReply, addr("10.0.5.1").AsSlice()
		f.Add(m.ToBytes())
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := dhcp.ReadPacket(data)
		if err != nil {
			return
		}
		rc, sc := relayed()
		relay := dhcp.NewRelay(rc)
		db := dhcp.NewLeaseDB()
		if out, _, _ := relay.Forward(m, "clients"); out != nil {
			if out.HopCount == 0 {
				t.Fatal("a hop was not counted")
			}
			raw := out.ToBytes()
			if again, err := dhcp.ReadPacket(raw); err == nil {
				dhcp.NewServer(sc, db).Handle(start, again, "lan").Wire()
			}
		}
		if back, _, ok := relay.Back(m); ok {
			if back.Options[option.RelayInfo] != nil {
				t.Fatal("relay information reached the client")
			}
			dhcp.Pack(back, nil, 548)
		}
		if db.Len() > 1 {
			t.Fatalf("one message made %d leases", db.Len())
		}
	})
}
