package dhcp_test

import (
	"bytes"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/dhcp"
	"lithos/core/option"
	"lithos/core/yang"
)

// A client says how large a message it takes as an IP datagram (RFC 2132 section 9.10): 28 octets of that are heads.
func TestTheLargestReplyAClientTakes(t *testing.T) {
	for said, want := range map[int]int{0: 548, 100: 548, 576: 548, 577: 549, 1000: 972, 1500: 1472, 9000: 1472} {
		assert.Equal(t, want, dhcp.Accepts((&dhcp.Client{MAC: mac(1), Largest: said}).Discover()), said)
	}
}

// A client says of itself what it has to say, and each exchange has an identifier of its own (RFC 2131 section 4.4.1).
func TestWhatAClientSays(t *testing.T) {
	c := &dhcp.Client{MAC: mac(1)}
	first, second := c.Discover(), c.Discover()
	assert.NotEqual(t, first.TransactionID, second.TransactionID)
	assert.NotContains(t, first.Options, uint8(option.ClientID))
	assert.NotContains(t, first.Options, uint8(option.MaxMessageSize))
	assert.Equal(t, dhcp.DefaultParameters, first.Options[option.ParameterList])
	c.ID, c.Largest, c.Parameters = []byte{1, 2}, 1, []byte{3}
	said := c.Discover().Options
	assert.Equal(t, []byte{1, 2}, said[option.ClientID])
	assert.Equal(t, []byte{0, 1}, said[option.MaxMessageSize])
	assert.Equal(t, []byte{3}, said[option.ParameterList])
}

// What fits exactly is sent in the options field alone; one octet more goes on in another field (RFC 2132 section 9.3).
func TestAMessageThatJustFits(t *testing.T) {
	at := func(octets int) ([]byte, []uint8) {
		m := (&dhcp.Client{MAC: mac(1)}).Discover()
		// 240 octets of head, 3 of the type, 4 of the heads of two values, 1 of the end.
		m.Options = dhcpv4.Options{53: {2}, 17: bytes.Repeat([]byte{'r'}, 200),
			18: bytes.Repeat([]byte{'e'}, octets-240-3-4-1-200)}
		return dhcp.Pack(m, nil, 548)
	}
	wire, left := at(548)
	require.Empty(t, left)
	assert.Len(t, wire, 548)
	assert.Equal(t, byte(255), wire[547])
	fields := func(wire []byte) (out []string) {
		for _, m := range dhcp.Marks(wire) {
			out = append(out, m.Field)
		}
		return slices.Compact(out)
	}
	assert.Equal(t, []string{"options"}, fields(wire))
	m := (&dhcp.Client{MAC: mac(1)}).Discover()
	m.Options = dhcpv4.Options{53: {2}, 17: bytes.Repeat([]byte{'r'}, 200), 18: bytes.Repeat([]byte{'e'}, 98),
		19: {1}}
	wire, left = dhcp.Pack(m, nil, 548)
	require.Empty(t, left)
	assert.Equal(t, []string{"options", "file"}, fields(wire))
	// The file field has 128 octets, its end mark included: a value of 125 just fits, with its own head.
	m.Options = dhcpv4.Options{53: {2}, 17: bytes.Repeat([]byte{'r'}, 250), 67: bytes.Repeat([]byte{'f'}, 125)}
	wire, left = dhcp.Pack(m, []byte{17, 67}, 548)
	require.Empty(t, left)
	assert.Equal(t, []string{"options", "file"}, fields(wire))
	back, err := dhcp.ReadPacket(wire)
	require.NoError(t, err)
	assert.Len(t, back.Options[67], 125)
	m.Options[67] = append(m.Options[67], 'f')
	_, left = dhcp.Pack(m, []byte{17, 67}, 548)
	assert.Equal(t, []uint8{67}, left, "only what is longer than one option is cut in two")
	// One that fits no other field is put among the options first, though it was asked for last.
	m.Options = dhcpv4.Options{53: {2}, 17: bytes.Repeat([]byte{'r'}, 100), 18: bytes.Repeat([]byte{'e'}, 50),
		19: bytes.Repeat([]byte{'l'}, 255), 20: bytes.Repeat([]byte{'m'}, 40)}
	_, left = dhcp.Pack(m, []byte{17, 18, 20, 19}, 548)
	assert.Empty(t, left)
	// Relay information has its room among the options kept, whatever else wants it.
	m.Options = dhcpv4.Options{53: {2}, 17: bytes.Repeat([]byte{'r'}, 250), 82: bytes.Repeat([]byte{1}, 60), 67: {'f'}}
	wire, left = dhcp.Pack(m, []byte{17}, 548)
	assert.Equal(t, []uint8{17}, left)
	back, err = dhcp.ReadPacket(wire)
	require.NoError(t, err)
	assert.Len(t, back.Options[82], 60)
	assert.Empty(t, back.ServerHostName+back.BootFileName, "fields that carry nothing are empty")
}

// What was in a field that carries options is not its text any more.
func TestAFieldThatCarriesOptionsHasNoText(t *testing.T) {
	for over, want := range map[byte][2]string{0: {"boot", "start"}, 1: {"boot", ""}, 2: {"", "start"}, 3: {"", ""}} {
		m := (&dhcp.Client{MAC: mac(1)}).Discover()
		m.ServerHostName, m.BootFileName = "boot", "start"
		raw := m.ToBytes()
		if over != 0 {
			for _, at := range []int{44, 108} {
				copy(raw[at:], []byte{255}) // no options there, and none is wrong
			}
			end := bytes.LastIndexByte(raw, 255)
			raw = append(raw[:end:end], 52, 1, over, 255)
			if over == 1 {
				copy(raw[44:], "boot\x00")
			}
			if over == 2 {
				copy(raw[108:], "start\x00")
			}
		}
		back, err := dhcp.ReadPacket(raw)
		require.NoError(t, err)
		assert.Equal(t, want, [2]string{back.ServerHostName, back.BootFileName}, over)
	}
	_, err := dhcp.ReadPacket(make([]byte, 1501))
	assert.ErrorContains(t, err, "longer than 1500")
	_, err = dhcp.ReadPacket(make([]byte, 1500))
	assert.ErrorContains(t, err, "cookie")
	_, err = dhcp.ReadPacket(make([]byte, 240))
	assert.ErrorContains(t, err, "cookie")
	_, err = dhcp.ReadPacket(make([]byte, 239))
	assert.ErrorContains(t, err, "shorter")
	raw := (&dhcp.Client{MAC: mac(1)}).Discover().ToBytes()[:240]
	for tail, whole := range map[string]bool{"": true, "\x35": false, "\x35\x01": false, "\x35\x01\x01": true,
		"\x50\x00": true, "\x35\x02\x01": false, "\x00\x00": true} {
		_, err := dhcp.ReadPacket(append(slices.Clone(raw), tail...))
		assert.Equal(t, whole, err == nil, "%x", tail)
	}
}

// The header has room for 63 octets of a server's name and 127 of a file's; longer ones are told by options alone.
func TestTheNamesOfTheHeader(t *testing.T) {
	for _, c := range []struct {
		server, file int
		next         []byte
		in           [2]bool
	}{{63, 127, []byte{10, 0, 0, 7}, [2]bool{true, true}}, {64, 128, nil, [2]bool{}}} {
		conf := config()
		conf.DHCP.Pool[0].Option = append(slices.Clone(conf.DHCP.Pool[0].Option),
			yang.Option{Code: option.BootServer, Value: bytes.Repeat([]byte{'s'}, c.server)},
			yang.Option{Code: option.BootFile, Value: bytes.Repeat([]byte{'f'}, c.file)})
		if c.next != nil {
			conf.DHCP.Pool[0].Option = append(conf.DHCP.Pool[0].Option,
				yang.Option{Code: option.BootServers, Value: c.next})
		}
		s := dhcp.NewServer(conf, dhcp.NewLeaseDB())
		r := s.Handle(start, (&dhcp.Client{MAC: mac(1), Largest: 1500}).Discover(), "lan").Reply
		require.NotNil(t, r)
		assert.Equal(t, c.in, [2]bool{r.ServerHostName != "", r.BootFileName != ""}, "%d", c.server)
		if c.next != nil {
			assert.Equal(t, "10.0.0.7", r.ServerIPAddr.String())
		}
	}
}

// A client that boots over HTTP is said its class back with the file, and not without one. An identifier of one octet
// is none (RFC 2132 section 9.14).
func TestWhoAsks(t *testing.T) {
	s := dhcp.NewServer(config(), dhcp.NewLeaseDB())
	r := s.Handle(start, (&dhcp.Client{MAC: mac(1), Class: "HTTPClient:Arch:00016"}).Discover(), "lan").Reply
	require.NotNil(t, r)
	assert.NotContains(t, r.Options, uint8(option.VendorClass))
	for id, want := range map[string]string{"\x01": "", "\x01\x02": "\x01\x02"} {
		db := dhcp.NewLeaseDB()
		s := dhcp.NewServer(config(), db)
		lease(t, s, start, "lan", &dhcp.Client{MAC: mac(2), ID: []byte(id)})
		assert.Equal(t, want, string(s.Leases()[0].ClientID))
	}
}

// A bound lease has expired from its end on; one that is set aside stays so.
func TestTheStateOfALease(t *testing.T) {
	bound := dhcp.Lease{State: dhcp.Bound, Expires: start}
	assert.Equal(t, dhcp.Bound, bound.StateAt(start.Add(-time.Second)))
	assert.Equal(t, dhcp.Expired, bound.StateAt(start))
	declined := dhcp.Lease{State: dhcp.Declined, Expires: start}
	assert.Equal(t, dhcp.Declined, declined.StateAt(start.Add(time.Hour)))
}

// A lease database has another generation after each change, so that what was copied of it is known to be old.
func TestAChangeOfTheLeasesIsSeen(t *testing.T) {
	db := dhcp.NewLeaseDB()
	s := dhcp.NewServer(config(), db)
	c := &dhcp.Client{MAC: mac(1)}
	before := db.Generation()
	seen := map[uint64]bool{before: true}
	for range 3 {
		lease(t, s, start, "lan", c)
		now := db.Generation()
		assert.False(t, seen[now], "it was %d before", now)
		seen[now] = true
	}
	s.Handle(start, c.Decline(), "lan")
	assert.False(t, seen[db.Generation()])
}

// Of what a client says of its name only what can be shown is kept.
func TestNamesThatClientsSay(t *testing.T) {
	db := dhcp.NewLeaseDB()
	s := dhcp.NewServer(config(), db)
	c := &dhcp.Client{MAC: mac(1), HostName: "a b!\x7f~\x1f" + strings.Repeat("x", 80), Class: "k \x1f~\x7f"}
	lease(t, s, start, "lan", c)
	require.Len(t, s.Leases(), 1)
	l := s.Leases()[0]
	assert.Equal(t, "ab!~"+strings.Repeat("x", 63-7), l.HostName)
	wire := (&dhcp.Client{MAC: mac(1)}).Discover()
	for code := uint8(10); code < 40; code++ {
		wire.Options[code] = []byte{1, 2, 3, 4}
	}
	wire.OpCode, wire.BootFileName = dhcpv4.OpcodeBootReply, "a b\x1f~\x7f"
	got := dhcp.Describe(dhcp.Words{}, wire.ToBytes(), "")
	assert.Equal(t, "a b~", got.File)
	assert.Equal(t, "server", got.FromSide)
	assert.Equal(t, mac(1), got.FromMAC)
	assert.Equal(t, "client", dhcp.Describe(dhcp.Words{}, c.Discover().ToBytes(), "").FromSide)
	var codes []int
	for _, o := range got.Options {
		codes = append(codes, int(o.Code))
	}
	assert.True(t, slices.IsSorted(codes))
	wire.ClientHWAddr = wire.ClientHWAddr[:5]
	assert.Equal(t, address.MAC{}, dhcp.Describe(dhcp.Words{}, wire.ToBytes(), "").FromMAC)
}

// The router of a message is the first of option 3, or that of the default route where there are routes (RFC 3442).
func TestTheRouterOfAMessage(t *testing.T) {
	for _, c := range []struct {
		options dhcpv4.Options
		want    string
	}{
		{dhcpv4.Options{3: {10, 0, 0, 1, 10, 0, 0, 2}}, "10.0.0.1"},
		{dhcpv4.Options{3: {10, 0, 0, 1}, 121: {24, 10, 0, 9, 10, 0, 0, 5, 0, 10, 0, 0, 3}}, "10.0.0.3"},
		{dhcpv4.Options{3: {10, 0, 0, 1}, 121: {24, 10, 0, 9, 10, 0, 0, 5}}, "invalid IP"},
		{dhcpv4.Options{}, "invalid IP"},
	} {
		m := (&dhcp.Client{MAC: mac(1)}).Discover()
		m.Options = c.options
		assert.Equal(t, c.want, dhcp.Describe(dhcp.Words{}, m.ToBytes(), "").Router().String())
	}
}

// An answer says what it gives, of which pool, and why; one without an address gives none.
func TestWhatAnAnswerSays(t *testing.T) {
	s := dhcp.NewServer(config(), dhcp.NewLeaseDB())
	a := s.Handle(start, (&dhcp.Client{MAC: mac(1)}).Discover(), "lan")
	assert.Equal(t, "PCs", a.Pool())
	assert.True(t, strings.HasSuffix(a.Why(), a.Address().String()+" from pool PCs."), a.Why())
	a = s.Handle(start, (&dhcp.Client{MAC: mac(200)}).Discover(), "lan")
	assert.True(t, strings.HasSuffix(a.Why(), "10.0.0.12, reserved for this client."), a.Why())
	a = s.Handle(start, (&dhcp.Client{MAC: mac(1)}).Discover(), "nowhere")
	assert.Empty(t, a.Pool())
	assert.False(t, a.Address().IsValid())
	assert.True(t, s.Serves("lan"))
	assert.False(t, s.Serves("nowhere"))
	assert.Equal(t, []address.Range{{From: addr("10.0.0.10"), To: addr("10.0.0.11")},
		{From: addr("10.0.0.13"), To: addr("10.0.0.14")}, {From: addr("10.0.0.16"), To: addr("10.0.0.19")}},
		s.Offered("p"))
	assert.Nil(t, s.Offered("none"))
}

// An offer that its client does not choose is free again; a lease of the same client is not touched by that.
func TestAnOfferThatIsNotChosen(t *testing.T) {
	db := dhcp.NewLeaseDB()
	s := dhcp.NewServer(config(), db)
	c := &dhcp.Client{MAC: mac(1)}
	offer := s.Handle(start, c.Discover(), "lan").Reply
	elsewhere := c.Select(offer)
	elsewhere.Options[option.ServerID] = []byte{10, 0, 0, 99}
	s.Handle(start, elsewhere, "lan")
	for _, l := range s.Leases() {
		assert.NotEqual(t, dhcp.Offered, l.StateAt(start.Add(time.Second)), "it was given back")
	}
	lease(t, s, start, "lan", c)
	s.Handle(start, elsewhere, "lan")
	require.NotEmpty(t, s.Leases())
	assert.Equal(t, dhcp.Bound, s.Leases()[0].StateAt(start))
}

// Of two classes that fit what a client says the longer one is its own (option 60 and 124).
func TestTheLongestClassFits(t *testing.T) {
	c := config()
	c.DHCP.Class = []yang.Class{{ID: "Phones", Match: "Phone"}, {ID: "New phones", Match: "PhoneNew"}}
	for i, name := range []string{"Phones", "New phones"} {
		p := c.DHCP.Pool[0]
		p.ID, p.Name, p.ForClass = name, name, name
		p.Range = []yang.Span{{}}
		p.Range[0].Start = netip.AddrFrom4([4]byte{10, 0, 0, byte(100 + 20*i)})
		p.Range[0].End = netip.AddrFrom4([4]byte{10, 0, 0, byte(110 + 20*i)})
		c.DHCP.Pool = append(c.DHCP.Pool, p)
	}
	s := dhcp.NewServer(c, dhcp.NewLeaseDB())
	assert.Equal(t, "New phones", s.Handle(start, (&dhcp.Client{MAC: mac(1), Class: "PhoneNew 3"}).Discover(),
		"lan").Pool())
	assert.Equal(t, "Phones", s.Handle(start, (&dhcp.Client{MAC: mac(2), Class: "Phone 2"}).Discover(), "lan").Pool())
	assert.Equal(t, "PCs", s.Handle(start, (&dhcp.Client{MAC: mac(3), Class: "Other"}).Discover(), "lan").Pool())
	for i, said := range [][2]string{{"Phone", "PhoneNew"}, {"PhoneNew", "Phone"}} {
		m := (&dhcp.Client{MAC: mac(10 + i), Class: said[0]}).Discover()
		m.Options[option.VendorClasses] = append([]byte{0, 0, 0, 9, byte(len(said[1]) + 1), byte(len(said[1]))},
			said[1]...)
		assert.Equal(t, "New phones", s.Handle(start, m, "lan").Pool(), "%v", said)
	}
}

// A relay passes a request on until it has gone through sixteen others (RFC 1542 section 4.1.1), from interfaces that
// have an address.
func TestHowFarARequestGoes(t *testing.T) {
	conf, _ := relayed()
	for i := range conf.Interfaces.Interface {
		bare := conf.Interfaces.Interface[i]
		bare.Name, bare.IPv4 = "bare", &yang.IPv4{Enabled: true}
		conf.Interfaces.Interface = append(conf.Interfaces.Interface, bare)
		break
	}
	on := conf.Relays.Relay[0].Interface
	conf.Relays.Relay = append(conf.Relays.Relay, yang.Relay{Interface: "bare", Server: conf.Relays.Relay[0].Server})
	r := dhcp.NewRelay(conf)
	assert.True(t, r.Active(on))
	assert.False(t, r.Active("bare"))
	assert.False(t, r.Active("nowhere"))
	for hops, goes := range map[uint8]bool{0: true, 16: true, 17: false} {
		m := (&dhcp.Client{MAC: mac(1)}).Discover()
		m.HopCount = hops
		out, servers, why := r.Forward(m, on)
		assert.Equal(t, goes, out != nil && len(servers) > 0, why)
	}
}
