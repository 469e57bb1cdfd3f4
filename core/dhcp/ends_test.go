package dhcp_test

import (
	"bytes"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/dhcp"
	"lithos/core/option"
	"lithos/core/yang"
)

// RFC 2131 section 4.3.4: what is meant for another server is left to it.
func Test36WhatIsGivenBackToAnotherServerStays(t *testing.T) {
	for what, send := range map[string]func(*dhcp.Client) *dhcpv4.DHCPv4{
		"release": (*dhcp.Client).Release, "decline": (*dhcp.Client).Decline,
	} {
		s := dhcp.NewServer(config(), dhcp.NewLeaseDB())
		c := &dhcp.Client{MAC: mac(1)}
		lease(t, s, start, "lan", c)
		own := c.ServerID
		c.ServerID = addr("10.0.0.250")
		s.Handle(start, send(c), "lan")
		assert.Equal(t, dhcp.Bound, s.Leases()[0].StateAt(start), what)
		c.ServerID = own
		s.Handle(start, send(c), "lan")
		assert.NotEqual(t, dhcp.Bound, s.Leases()[0].StateAt(start), what)
	}
}

// An address is free in the same instant, also in a pool for one kind of client: a release says nothing of the kind.
func Test36AReleasedAddressIsFreeAtOnce(t *testing.T) {
	c := config()
	c.DHCP.Reservation, c.DHCP.Pool = nil, c.DHCP.Pool[:1]
	c.DHCP.Class = []yang.Class{{ID: "phones", Name: "Phones", Match: "phone"}}
	p := &c.DHCP.Pool[0]
	p.Range, p.Exclusion, p.ForClass = p.Range[:1], nil, "phones"
	p.Range[0].End = p.Range[0].Start
	s := dhcp.NewServer(c, dhcp.NewLeaseDB())
	first, second := &dhcp.Client{MAC: mac(1), Class: "phone 1"}, &dhcp.Client{MAC: mac(2), Class: "phone 2"}
	lease(t, s, start, "lan", first)
	lease(t, s, start, "lan", second)
	require.False(t, second.Address.IsValid(), "the only address is taken")
	gone := first.Release()
	delete(gone.Options, option.VendorClass)
	require.Equal(t, dhcp.EventRelease, s.Handle(start, gone, "lan").Event)
	lease(t, s, start, "lan", second)
	assert.Equal(t, first.Address, second.Address)
}

// RFC 3925 section 3: option 124 says the kind of client as option 60 does.
func Test36ClassesByOption124(t *testing.T) {
	c := config()
	c.DHCP.Class = []yang.Class{{ID: "any", Name: "Any phone", Match: "phone"},
		{ID: "v2", Name: "New phone", Match: "phone v2", Option: []yang.Option{{Code: 42, Value: []byte{10, 0, 0, 9},
			Always: true}}}}
	s := dhcp.NewServer(c, dhcp.NewLeaseDB())
	told := func(value []byte) []byte {
		m := (&dhcp.Client{MAC: mac(1)}).Discover()
		m.Options[option.VendorClasses] = value
		return s.Handle(start, m, "lan").Reply.Options[42]
	}
	entry := func(text string) []byte { return append([]byte{byte(len(text))}, text...) }
	entries := append(entry("a"), entry("phone v2.1")...)
	whole := append([]byte{0, 0, 0x7e, 0xd9, byte(len(entries))}, entries...)
	assert.Equal(t, []byte{10, 0, 0, 9}, told(whole))
	assert.Equal(t, []byte{10, 0, 0, 9}, told(append([]byte{0, 0, 0, 1, 2, 1, 'x'}, whole...)), "the second enterprise")
	assert.Empty(t, told(whole[:len(whole)-1]), "cut short")
	assert.Empty(t, told([]byte{0, 0, 0x7e, 0xd9, 3, 200, 'p', 'h'}), "an entry longer than what is there")
	assert.Equal(t, "x", s.Leases()[0].Class)
}

// RFC 2131 section 3: what a message is comes first, also when its options are split over other fields.
func Test36TypeAndServerComeFirstWhateverIsSplit(t *testing.T) {
	m, err := dhcpv4.New()
	require.NoError(t, err)
	m.Options = dhcpv4.Options{option.MessageType: {5}, option.ServerID: {10, 0, 0, 1},
		option.Router: {10, 0, 0, 1}, option.VendorInfo: bytes.Repeat([]byte{7}, 280),
		120: bytes.Repeat([]byte{8}, 150)}
	for limit := 320; limit < 620; limit++ {
		wire, left := dhcp.Pack(m, nil, limit)
		assert.Equal(t, []byte{53, 1, 5, 54, 4, 10, 0, 0, 1}, wire[240:249], "limit %d", limit)
		back, err := dhcp.ReadPacket(wire)
		require.NoError(t, err)
		for code, value := range m.Options {
			if !bytes.Contains(left, []byte{code}) {
				assert.Equal(t, value, back.Options[code], "option %d, limit %d", code, limit)
			}
		}
	}
}

// A client that starts again keeps what it has until it asks anew: an offer shortens no lease, and nobody else gets the
// address meanwhile, nor when the offer would have ended.
func TestAnOfferShortensNoLease(t *testing.T) {
	s := dhcp.NewServer(config(), dhcp.NewLeaseDB())
	c := &dhcp.Client{MAC: mac(1)}
	lease(t, s, start, "lan", c)
	was := s.Leases()[0]
	require.Equal(t, dhcp.Bound, was.State)
	at := start.Add(time.Minute)
	offer := s.Handle(at, c.Discover(), "lan")
	require.Equal(t, dhcpv4.MessageTypeOffer, offer.Reply.MessageType())
	now := s.Leases()[0]
	assert.Equal(t, dhcp.Bound, now.State)
	assert.Equal(t, was.Expires, now.Expires)
	assert.Equal(t, was.Address, now.Address)
	// One that is new is held for the time of an offer, and no longer.
	other := &dhcp.Client{MAC: mac(2)}
	s.Handle(at, other.Discover(), "lan")
	for _, l := range s.Leases() {
		if l.MAC == mac(2) {
			assert.Equal(t, dhcp.Offered, l.State)
			assert.True(t, l.Expires.Before(was.Expires))
		}
	}
}
