package dhcp

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"lithos/core/address"
	"lithos/core/option"
)

// DefaultParameters is what an ordinary desktop client asks for.
var DefaultParameters = []uint8{
	option.SubnetMask, option.Router, option.NameServers, option.HostName, option.DomainName, option.InterfaceMTU,
	option.Broadcast,
	option.NTPServers,
	option.LeaseTime, option.RenewalT1, option.RebindingT2, option.SearchList, option.ClasslessRoutes,
}

// Client is the client's side of RFC 2131. It builds messages and takes
// replies; the caller carries them. The zero value but for MAC is ready.
type Client struct {
	MAC        address.MAC
	HostName   string
	ID         []byte  // option 61; none when empty
	Class      string  // option 60; none when empty
	Parameters []uint8 // option 55; DefaultParameters when empty
	Largest    int     // option 57, in octets of IP datagram; not sent when 0
	Broadcast  bool    // whether it asks for replies to everybody

	Address  netip.Addr // what it holds, or remembers
	ServerID netip.Addr
	Lease    time.Duration
	xid      uint32
}

func (c *Client) message(kind dhcpv4.MessageType) *dhcpv4.DHCPv4 {
	c.xid++
	var xid dhcpv4.TransactionID
	binary.BigEndian.PutUint32(xid[:], c.xid<<16|uint32(c.MAC[4])<<8|uint32(c.MAC[5]))
	zero := net.IPv4zero.To4()
	m := &dhcpv4.DHCPv4{
		OpCode: dhcpv4.OpcodeBootRequest, HWType: 1, ClientHWAddr: net.HardwareAddr(c.MAC[:]), TransactionID: xid,
		ClientIPAddr: zero, YourIPAddr: zero, ServerIPAddr: zero, GatewayIPAddr: zero,
		Options: dhcpv4.Options{option.MessageType: []byte{byte(kind)}},
	}
	if c.Broadcast {
		m.SetBroadcast()
	}
	if len(c.ID) > 0 {
		m.Options[option.ClientID] = c.ID
	}
	if kind == dhcpv4.MessageTypeRelease || kind == dhcpv4.MessageTypeDecline {
		return m
	}
	if c.HostName != "" {
		m.Options[option.HostName] = []byte(c.HostName)
	}
	if c.Class != "" {
		m.Options[option.VendorClass] = []byte(c.Class)
	}
	if c.Largest > 0 {
		m.Options[option.MaxMessageSize] = binary.BigEndian.AppendUint16(nil, uint16(min(c.Largest, 65535)))
	}
	m.Options[option.ParameterList] = DefaultParameters
	if len(c.Parameters) > 0 {
		m.Options[option.ParameterList] = c.Parameters
	}
	return m
}

// Discover asks any server for an address; the last one held is asked for again.
func (c *Client) Discover() *dhcpv4.DHCPv4 {
	m := c.message(dhcpv4.MessageTypeDiscover)
	if c.Address.IsValid() {
		m.Options[option.RequestedAddr] = c.Address.AsSlice()
	}
	return m
}

// Select requests what an offer holds out.
func (c *Client) Select(offer *dhcpv4.DHCPv4) *dhcpv4.DHCPv4 {
	m := c.message(dhcpv4.MessageTypeRequest)
	m.TransactionID = offer.TransactionID
	m.Options[option.RequestedAddr] = offer.YourIPAddr.To4()
	m.Options[option.ServerID] = offer.Options[option.ServerID]
	return m
}

// Reboot asks for the remembered address after a restart (INIT-REBOOT).
func (c *Client) Reboot() *dhcpv4.DHCPv4 {
	m := c.message(dhcpv4.MessageTypeRequest)
	m.Options[option.RequestedAddr] = c.Address.AsSlice()
	return m
}

// Renew asks the lease to be extended: the server that gave it when RENEWING, any when
// REBINDING.
func (c *Client) Renew() *dhcpv4.DHCPv4 {
	m := c.message(dhcpv4.MessageTypeRequest)
	m.ClientIPAddr = c.Address.AsSlice()
	return m
}

// Release gives the address back. The client still remembers it.
func (c *Client) Release() *dhcpv4.DHCPv4 {
	m := c.message(dhcpv4.MessageTypeRelease)
	m.ClientIPAddr = c.Address.AsSlice()
	m.Options[option.ServerID] = c.ServerID.AsSlice()
	return m
}

// Decline says that the address just given is in use by somebody else.
func (c *Client) Decline() *dhcpv4.DHCPv4 {
	m := c.message(dhcpv4.MessageTypeDecline)
	m.Options[option.RequestedAddr] = c.Address.AsSlice()
	m.Options[option.ServerID] = c.ServerID.AsSlice()
	return m
}

// Inform asks for options only; the client has an address of its own.
func (c *Client) Inform() *dhcpv4.DHCPv4 {
	m := c.message(dhcpv4.MessageTypeInform)
	m.ClientIPAddr = c.Address.AsSlice()
	return m
}

// Take accepts a reply. After an acknowledgement the client is bound; after a
// refusal it holds nothing. A reply to somebody else is an error.
func (c *Client) Take(r *dhcpv4.DHCPv4) error {
	if !bytes.Equal(r.ClientHWAddr, c.MAC[:]) {
		return fmt.Errorf("the reply is for %s", r.ClientHWAddr)
	}
	switch r.MessageType() {
	case dhcpv4.MessageTypeAck:
		c.Address, c.ServerID = nonZero(r.YourIPAddr), optionAddr(r, option.ServerID)
		c.Lease = leaseTime(r.Options)
	case dhcpv4.MessageTypeNak:
		c.Address, c.ServerID, c.Lease = netip.Addr{}, netip.Addr{}, 0
	}
	return nil
}

// Wire carries a message to a server and brings its reply; nil for silence. to is the
// server's address, invalid for a message to everybody on the network. Why is the server's
// own word on it, where it can be had.
type Wire func(request []byte, to netip.Addr) (reply []byte, why string, err error)

// A Talk is the messages of a client and its servers, as they pass.
type Talk struct {
	Messages []Message
	words    Words
	wire     Wire
	c        *Client
}

// Talk begins a conversation over a wire.
func (c *Client) Talk(wire Wire, words Words) *Talk { return &Talk{words: words, wire: wire, c: c} }

// Say sends a message to everybody on the network, and takes the reply when there is one.
func (t *Talk) Say(m *dhcpv4.DHCPv4) (reply *dhcpv4.DHCPv4, err error) { return t.say(m, netip.Addr{}) }

// Tell sends a message to the server that gave the client its address alone, and takes the
// reply when there is one. A client that knows no server tells everybody.
func (t *Talk) Tell(m *dhcpv4.DHCPv4) (reply *dhcpv4.DHCPv4, err error) {
	return t.say(m, t.c.ServerID)
}

func (t *Talk) say(m *dhcpv4.DHCPv4, to netip.Addr) (reply *dhcpv4.DHCPv4, err error) {
	sent := m.ToBytes()
	at := len(t.Messages)
	t.Messages = append(t.Messages, Describe(t.words, sent, ""))
	raw, why, err := t.wire(sent, to)
	if err != nil || raw == nil {
		t.Messages[at].Why = why
		return nil, err
	}
	answer := Describe(t.words, raw, why)
	answer.Accepts = Accepts(m)
	t.Messages = append(t.Messages, answer)
	if reply, err = ReadPacket(raw); err != nil {
		return nil, err
	}
	return reply, t.c.Take(reply)
}

// Lease takes a client without a lease through discover, offer, request and
// acknowledgement.
func (t *Talk) Lease() error {
	offer, err := t.Say(t.c.Discover())
	if err != nil || offer == nil || offer.MessageType() != dhcpv4.MessageTypeOffer {
		return err
	}
	_, err = t.Say(t.c.Select(offer))
	return err
}

// Exchange is a Talk that takes a lease, and returns every message that passed.
func (c *Client) Exchange(wire Wire) ([]Message, error) {
	t := c.Talk(wire, Words{})
	err := t.Lease()
	return t.Messages, err
}
