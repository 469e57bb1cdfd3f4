package dhcp_test

import (
	"bytes"
	"errors"
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

func kind(a dhcp.Answer) string {
	if a.Reply == nil {
		return "silence"
	}
	return option.Format(option.MessageType, a.Reply.Options[option.MessageType])
}

// behindRelay is a server with a client of a relay's network that has a lease.
func behindRelay(t *testing.T) (*dhcp.Server, *dhcp.Client) {
	_, sc := relayed()
	s := dhcp.NewServer(sc, dhcp.NewLeaseDB())
	c := &dhcp.Client{MAC: mac(1)}
	_, err := c.Exchange(func(request []byte, _ netip.Addr) ([]byte, string, error) {
		m, err := dhcp.ReadPacket(request)
		require.NoError(t, err)
		m.GatewayIPAddr = addr("10.0.5.1").AsSlice()
		reply, _ := s.HandleSent(start, m, "lan").Wire()
		return reply, "", nil
	})
	require.NoError(t, err)
	require.Equal(t, addr("10.0.5.10"), c.Address)
	return s, c
}

// RFC 2131 section 4.3.2: what a client sends to the server alone is of the network of its
// address, whatever interface it comes to.
func TestAClientBehindARelayRenewsByUnicast(t *testing.T) {
	s, c := behindRelay(t)
	assert.Equal(t, "ack", kind(s.HandleSent(start.Add(time.Minute), c.Renew(), "lan")))
	assert.Equal(t, "nak", kind(s.Handle(start.Add(time.Minute), c.Renew(), "lan")),
		"to everybody on another network it is in the wrong place")
	informed := s.HandleSent(start, (&dhcp.Client{MAC: mac(7), Address: addr("10.0.5.77")}).Inform(), "lan")
	assert.Equal(t, "ack", kind(informed))
	s.HandleSent(start.Add(2*time.Minute), c.Release(), "lan")
	other := &dhcp.Client{MAC: mac(2), Address: c.Address}
	m := other.Discover()
	m.GatewayIPAddr = addr("10.0.5.1").AsSlice()
	assert.Equal(t, c.Address.String(), s.HandleSent(start.Add(3*time.Minute), m, "lan").Reply.YourIPAddr.String(),
		"what was given back is free")
}

func TestAnInformIsToldWhatItsReservationSays(t *testing.T) {
	s := dhcp.NewServer(config(), dhcp.NewLeaseDB())
	a := s.Handle(start, (&dhcp.Client{MAC: mac(200), Address: addr("10.0.0.12")}).Inform(), "lan")
	assert.Equal(t, []byte{9, 9, 9, 9}, []byte(a.Reply.Options[option.NameServers]))
}

// An address that somebody declined is set aside, a reserved one like any other, with a note
// of which machine answers there.
func TestADeclinedReservationIsSetAside(t *testing.T) {
	db := dhcp.NewLeaseDB()
	s := dhcp.NewServer(config(), db)
	c := &dhcp.Client{MAC: mac(200)}
	lease(t, s, start, "lan", c)
	require.Equal(t, addr("10.0.0.12"), c.Address)
	a := s.Handle(start, c.Decline(), "lan")
	assert.Equal(t, dhcp.EventDecline, a.Event)
	assert.Equal(t, addr("10.0.0.12"), a.Probe, "who is there?")
	require.True(t, s.Taken(start, a, mac(9)))
	assert.Equal(t, mac(9), db.Holder(addr("10.0.0.12")).AnsweredBy)
	assert.Equal(t, mac(200), db.Holder(addr("10.0.0.12")).MAC)
	again := &dhcp.Client{MAC: mac(200)}
	assert.Equal(t, "10.0.0.10", lease(t, s, start.Add(time.Minute), "lan", again)[3].Your)
	later := start.Add(dhcp.DeclineHold + time.Minute)
	assert.Equal(t, "nak", kind(s.Handle(later, again.Renew(), "lan")), "it goes back to what is kept for it")
	assert.Equal(t, "10.0.0.12", lease(t, s, later, "lan", &dhcp.Client{MAC: mac(200)})[3].Your)
}

// Reserved addresses and those that were held before are probed as well.
func TestWhatIsProbed(t *testing.T) {
	s := dhcp.NewServer(config(), dhcp.NewLeaseDB())
	reserved := &dhcp.Client{MAC: mac(200)}
	assert.Equal(t, addr("10.0.0.12"), s.Handle(start, reserved.Discover(), "lan").Probe)
	c := &dhcp.Client{MAC: mac(1)}
	lease(t, s, start, "lan", c)
	assert.False(t, s.Handle(start.Add(time.Minute), c.Discover(), "lan").Probe.IsValid(), "its lease stands")
	assert.Equal(t, c.Address, s.Handle(start.Add(5*time.Hour), c.Discover(), "lan").Probe, "its lease has ended")
}

// A client is told of its lease only when it is written down.
func TestNothingIsPromisedThatIsNotWritten(t *testing.T) {
	db := dhcp.NewLeaseDB()
	s := dhcp.NewServer(config(), db)
	c := &dhcp.Client{MAC: mac(1)}
	offer := s.Handle(start, c.Discover(), "lan").Reply
	var full error
	db.Changed = func(dhcp.Lease) error { return full }
	full = errors.New("no space left on device")
	a := s.Handle(start, c.Select(offer), "lan")
	assert.Equal(t, "silence", kind(a))
	assert.Equal(t, dhcp.EventUnwritten, a.Event)
	assert.Contains(t, a.Why(), "no space left on device")
	assert.Equal(t, dhcp.Offered, db.Holder(addr("10.0.0.10")).State)
	full = nil
	assert.Equal(t, "ack", kind(s.Handle(start, c.Select(offer), "lan")))
	require.NoError(t, c.Take(s.Handle(start, c.Select(offer), "lan").Reply))
	full = errors.New("no space left on device")
	assert.Equal(t, "silence", kind(s.Handle(start.Add(30*time.Minute), c.Renew(), "lan")))
	assert.Equal(t, start.Add(time.Hour), db.Holder(c.Address).Expires, "the lease is as long as the client was told")
	s.Handle(start, c.Decline(), "lan")
	assert.Equal(t, dhcp.Declined, db.Holder(c.Address).State, "set aside all the same")
}

// A client that has two leases is found by the later one, in whatever order they are read,
// and may renew either.
func TestTheLaterLeaseCounts(t *testing.T) {
	c := config()
	old := dhcp.Lease{
		Address: addr("10.0.0.19"),
		MAC:     mac(1),
		Subnet:  netip.MustParsePrefix("10.0.0.0/24"),
		Pool:    "p",
		State:   dhcp.Bound,
		Since:   start,
		Expires: start.Add(time.Hour),
	}
	now := old
	now.Address, now.Since, now.Expires = addr("10.0.0.10"), start.Add(10*time.Minute), start.Add(70*time.Minute)
	for _, order := range [][]dhcp.Lease{{old, now}, {now, old}} {
		s := dhcp.NewServer(c, dhcp.NewLeaseDB(order...))
		client := &dhcp.Client{MAC: mac(1)}
		assert.Equal(
			t,
			"10.0.0.10",
			s.Handle(start.Add(20*time.Minute), client.Discover(), "lan").Reply.YourIPAddr.String(),
		)
		client.Address = old.Address
		assert.Equal(t, "ack", kind(s.Handle(start.Add(20*time.Minute), client.Renew(), "lan")))
	}
}

// A pool in place of another on the same range goes on with what that one gave.
func TestAReplacedPoolDoesNotStarve(t *testing.T) {
	c := config()
	db := dhcp.NewLeaseDB()
	s := dhcp.NewServer(c, db)
	for i := range 2 {
		lease(t, s, start, "guest", &dhcp.Client{MAC: mac(i)})
	}
	c.DHCP.Pool[1].ID = "g2"
	s = dhcp.NewServer(c, db)
	assert.Equal(t, "silence", kind(s.Handle(start.Add(time.Hour), (&dhcp.Client{MAC: mac(9)}).Discover(), "guest")))
	later := start.Add(option.DefaultLease + time.Minute)
	assert.Equal(t, "10.0.1.10", lease(t, s, later, "guest", &dhcp.Client{MAC: mac(9)})[3].Your)
	grown := config()
	grown.Interfaces.Interface = slices.Clone(grown.Interfaces.Interface)
	i := slices.IndexFunc(grown.Interfaces.Interface, func(i yang.Interface) bool { return i.Name == "guest" })
	grown.Interfaces.Interface[i].IPv4 = &yang.IPv4{Enabled: true,
		Address: []yang.Address{{IP: addr("10.0.1.1"), PrefixLength: 23}}}
	grown.DHCP.Pool[1].Subnet = netip.MustParsePrefix("10.0.0.0/23")
	client := &dhcp.Client{MAC: mac(9), Address: addr("10.0.1.10")}
	assert.Equal(t, "ack", kind(dhcp.NewServer(grown, db).Handle(later, client.Renew(), "guest")),
		"it keeps its lease when its network grows")
}

func TestARebootWithAnothersEndedAddressIsRefused(t *testing.T) {
	s := dhcp.NewServer(config(), dhcp.NewLeaseDB())
	c := &dhcp.Client{MAC: mac(1)}
	lease(t, s, start, "lan", c)
	other := &dhcp.Client{MAC: mac(2), Address: c.Address}
	assert.Equal(t, "nak", kind(s.Handle(start.Add(2*time.Hour), other.Reboot(), "lan")))
	assert.Equal(t, "ack", kind(s.Handle(start.Add(2*time.Hour), c.Reboot(), "lan")))
}

// RFC 2131 section 4.3.2: silence about an address that another server may have given.
func TestSilentAboutAnotherServersAddress(t *testing.T) {
	s := dhcp.NewServer(config(), dhcp.NewLeaseDB())
	stranger := &dhcp.Client{MAC: mac(1), Address: addr("10.0.0.99")}
	assert.Equal(t, "silence", kind(s.Handle(start, stranger.Renew(), "lan")))
	assert.Equal(t, "silence", kind(s.Handle(start, stranger.Reboot(), "lan")))
	lease(t, s, start, "lan", &dhcp.Client{MAC: mac(1)})
	assert.Equal(t, "nak", kind(s.Handle(start, stranger.Renew(), "lan")), "it has a record of this one")
	kept := &dhcp.Client{MAC: mac(200), Address: addr("10.0.0.99")}
	assert.Equal(t, "nak", kind(s.Handle(start, kept.Reboot(), "lan")), "and keeps an address for this one")
}

// The server identifier of a relayed answer is where the request came to, never an uplink's.
func TestServerIdentifier(t *testing.T) {
	_, c := relayed()
	c.Interfaces.Interface = append(c.Interfaces.Interface,
		yang.Interface{Name: "wan", Enabled: true, Uplink: &yang.Uplink{Method: "fixed"},
			IPv4: &yang.IPv4{Enabled: true, Address: []yang.Address{{IP: addr("9.0.0.1"), PrefixLength: 30}}}})
	s := dhcp.NewServer(c, dhcp.NewLeaseDB())
	id := func(iface string, sub ...byte) string {
		m := (&dhcp.Client{MAC: mac(1)}).Discover()
		m.GatewayIPAddr = addr("10.0.5.1").AsSlice()
		m.Options[option.RelayInfo] = sub
		return option.Format(option.ServerID, s.HandleSent(start, m, iface).Reply.Options[option.ServerID])
	}
	assert.Equal(t, "10.0.1.1", id("guest"))
	assert.Equal(t, "10.0.0.1", id("lan"))
	assert.Equal(t, "10.0.0.1", id("wan"))
	assert.Equal(t, "10.0.5.1", id("lan", 11, 4, 10, 0, 5, 1), "the relay asks to be named (RFC 5107)")
	m := (&dhcp.Client{MAC: mac(1), Address: addr("10.0.5.10")}).Reboot()
	m.GatewayIPAddr = addr("10.0.5.1").AsSlice()
	m.Options[option.ServerID], m.Options[option.RelayInfo] = []byte{10, 0, 5, 1}, []byte{11, 4, 10, 0, 5, 1}
	assert.Equal(t, "ack", kind(s.HandleSent(start, m, "lan")), "and what it asks for is then this server")
	wan := c
	wan.Interfaces.Interface = wan.Interfaces.Interface[2:]
	assert.Equal(t, "silence", kind(dhcp.NewServer(wan, dhcp.NewLeaseDB()).HandleSent(start, m, "wan")),
		"a server with nothing but an uplink serves nobody")
}

// RFC 3527 and RFC 3011: a relay or a client may name the network in place of giaddr.
func TestTheNetworkThatIsNamed(t *testing.T) {
	_, c := relayed()
	s := dhcp.NewServer(c, dhcp.NewLeaseDB())
	m := (&dhcp.Client{MAC: mac(1)}).Discover()
	m.GatewayIPAddr = addr("10.0.0.5").AsSlice()
	m.Options[option.RelayInfo] = []byte{5, 4, 10, 0, 5, 0}
	assert.Equal(t, "10.0.5.10", s.HandleSent(start, m, "lan").Reply.YourIPAddr.String())
	m.Options = dhcpv4.Options{option.MessageType: {1}, option.SubnetSelection: {10, 0, 1, 0}}
	a := s.HandleSent(start, m, "lan")
	assert.Equal(t, "10.0.1.10", a.Reply.YourIPAddr.String())
	assert.Equal(t, []byte{10, 0, 1, 0}, []byte(a.Reply.Options[option.SubnetSelection]), "said back")
	m.Options[option.SubnetSelection] = []byte{10, 9, 9, 0}
	assert.Contains(t, s.HandleSent(start, m, "lan").Why(), "No pool is served for the network of 10.9.9.0")
}

// Groups have no lease.
func TestGroupAddressesAreNotServed(t *testing.T) {
	s := dhcp.NewServer(config(), dhcp.NewLeaseDB())
	for _, m := range [][6]byte{{0xff, 0xff, 0xff, 0xff, 0xff, 0xff}, {0x01, 0, 0x5e, 0, 0, 1}} {
		assert.Equal(t, "silence", kind(s.Handle(start, (&dhcp.Client{MAC: m}).Discover(), "lan")))
	}
}

// RFC 2132 section 3.3, RFC 3442 and RFC 2131 section 4.3.1.
func TestWhatIsToldAndInWhichOrder(t *testing.T) {
	c := config()
	p := &c.DHCP.Pool[0]
	p.Option = append(p.Option, yang.Option{Code: option.StaticRoutes, Value: []byte{10, 9, 9, 9, 10, 0, 0, 1}},
		yang.Option{Code: option.ClasslessRoutes, Value: []byte{0, 10, 0, 0, 1}},
		yang.Option{Code: 42, Value: []byte{10, 0, 0, 7}, Always: true})
	s := dhcp.NewServer(c, dhcp.NewLeaseDB())
	codes := func(asked ...uint8) []uint8 {
		wire, _ := s.Handle(start, (&dhcp.Client{MAC: mac(1), Parameters: asked}).Discover(), "lan").Wire()
		return dhcp.Order(wire)
	}
	assert.Equal(t, []uint8{53, 54, 51, 1, 3, 42}, codes(3, 1), "the mask before the router; 42 is always sent")
	assert.Equal(t, []uint8{53, 54, 51, 121, 1, 42}, codes(121, 3, 33), "no older routes beside the classless ones")
	assert.Equal(t, []uint8{53, 54, 51, 1, 3, 33, 42}, codes(3, 33), "the mask also where it is not asked for")
	assert.Equal(t, []uint8{53, 54, 51, 6, 1, 42}, codes(6))
}

// A client that boots over HTTP is said its class back with the file; what a class sets as
// option 60 is said to its clients.
func TestNetworkBootClientsAreSaidTheirClassBack(t *testing.T) {
	c := config()
	c.DHCP.Pool[0].Option = append(c.DHCP.Pool[0].Option,
		yang.Option{Code: option.BootFile, Value: []byte("http://boot.example/start.efi")})
	c.DHCP.Class = []yang.Class{{ID: "pxe", Name: "PXE", Match: "PXEClient",
		Option: []yang.Option{{Code: option.VendorClass, Value: []byte("PXEClient"), Always: true}}}}
	s := dhcp.NewServer(c, dhcp.NewLeaseDB())
	told := func(class string) string {
		client := &dhcp.Client{MAC: mac(1), Class: class, Parameters: []uint8{3}}
		return string(s.Handle(start, client.Discover(), "lan").Reply.Options[option.VendorClass])
	}
	assert.Equal(t, "HTTPClient", told("HTTPClient:Arch:00016:UNDI:003001"))
	assert.Equal(t, "PXEClient", told("PXEClient:Arch:00007"))
	assert.Empty(t, told("laptop"))
}

// RFC 3396: a value over 255 octets is split, over the fields where it must be, and joined.
func TestLongOptions(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := (&dhcp.Client{MAC: mac(1)}).Discover()
		m.OpCode = dhcpv4.OpcodeBootReply
		long := rapid.SliceOfN(rapid.Byte(), 256, 700).Draw(t, "routes")
		info := rapid.SliceOfN(rapid.Byte(), 0, 400).Draw(t, "relay")
		m.Options = dhcpv4.Options{53: {2}, 54: {10, 0, 0, 1}, option.ClasslessRoutes: long, option.RelayInfo: info}
		limit := rapid.IntRange(548, dhcp.MaxReply).Draw(t, "limit")
		wire, left := dhcp.Pack(m, nil, limit)
		if len(wire) > limit {
			t.Fatalf("%d octets, at most %d", len(wire), limit)
		}
		back, err := dhcp.ReadPacket(wire)
		if err != nil {
			t.Fatal(err)
		}
		for _, code := range []uint8{option.ClasslessRoutes, option.RelayInfo} {
			if !slices.Contains(left, code) && !bytes.Equal(back.Options[code], m.Options[code]) {
				t.Fatalf("option %d came back otherwise", code)
			}
		}
		fields := 2 * (len(long)/255 + 1 + len(info)/255 + 1)
		if len(long)+len(info)+fields+270 < limit && len(left) > 0 {
			t.Fatalf("%v was left out, with room for it", left)
		}
	})
	m := (&dhcp.Client{MAC: mac(1)}).Discover()
	m.Options = dhcpv4.Options{53: {2}, option.ClasslessRoutes: bytes.Repeat([]byte{7}, 420)}
	wire, left := dhcp.Pack(m, nil, 548)
	assert.Empty(t, left, "it goes on in the file and sname fields")
	back, err := dhcp.ReadPacket(wire)
	require.NoError(t, err)
	assert.Len(t, back.Options[option.ClasslessRoutes], 420)
	got := dhcp.Describe(dhcp.Words{}, wire, "")
	assert.Len(t, slices.DeleteFunc(got.Options, func(o dhcp.MessageOption) bool { return o.Code != 121 }), 1,
		"shown as one")
}

func TestSizesAndEnds(t *testing.T) {
	c := &dhcp.Client{MAC: mac(1), Largest: 65535}
	assert.Equal(t, 1472, dhcp.Accepts(c.Discover()))
	raw := (&dhcp.Client{MAC: mac(1)}).Discover().ToBytes()
	end := bytes.LastIndexByte(raw, 255)
	m, err := dhcp.ReadPacket(raw[:end])
	require.NoError(t, err, "the end mark is missing")
	assert.Equal(t, dhcpv4.MessageTypeDiscover, m.MessageType())
	_, err = dhcp.ReadPacket(append(slices.Clone(raw[:end]), 12, 9, 'x'))
	assert.ErrorContains(t, err, "longer than what is left")
	_, err = dhcp.ReadPacket(raw[:200])
	assert.ErrorContains(t, err, "shorter")
	raw[236] = 0
	_, err = dhcp.ReadPacket(raw)
	assert.ErrorContains(t, err, "cookie")
}

// Whatever order leases are given and ended in, none is held by two clients at once.
func TestNoAddressHasTwoClients(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := config()
		db := dhcp.NewLeaseDB()
		s := dhcp.NewServer(c, db)
		now := start
		clients := map[int]*dhcp.Client{}
		until := map[int]time.Time{}
		for range rapid.IntRange(1, 60).Draw(t, "steps") {
			now = now.Add(time.Duration(rapid.IntRange(0, 90).Draw(t, "minutes")) * time.Minute)
			i := rapid.IntRange(1, 14).Draw(t, "who")
			if clients[i] == nil {
				clients[i] = &dhcp.Client{MAC: mac(i)}
			}
			me := clients[i]
			talk := me.Talk(wire(s, now, "lan"), dhcp.Words{})
			switch rapid.SampledFrom([]string{"lease", "renew", "release", "decline", "reboot", "new"}).Draw(t, "act") {
			case "lease":
				_ = talk.Lease()
			case "renew":
				if me.Address.IsValid() {
					_, _ = talk.Say(me.Renew())
				}
			case "reboot":
				if me.Address.IsValid() {
					_, _ = talk.Say(me.Reboot())
				}
			case "release", "decline":
				if me.Address.IsValid() && now.Before(until[i]) {
					_, _ = talk.Say(me.Release())
				}
				me.Address = netip.Addr{}
			case "new":
				db = dhcp.NewLeaseDB(db.Leases()...)
				s = dhcp.NewServer(c, db)
			}
			until[i] = time.Time{}
			if l := db.Holder(me.Address); me.Address.IsValid() && l != nil && l.MAC == me.MAC &&
				l.State == dhcp.Bound {
				until[i] = l.Expires
			}
			held := map[string]int{}
			for j, other := range clients {
				if other.Address.IsValid() && now.Before(until[j]) {
					if k, twice := held[other.Address.String()]; twice {
						t.Fatalf("%s is held by %d and %d", other.Address, j, k)
					}
					held[other.Address.String()] = j
				}
			}
		}
	})
}
