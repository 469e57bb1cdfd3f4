package dhcp

import (
	"encoding/hex"
	"net/netip"
	"slices"
	"strings"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"lithos/core/address"
	"lithos/core/option"
)

// Message is a DHCP message for people: its header fields that matter, every
// option decoded, and the octets.
type Message struct {
	Type     string          `json:"type"`
	FromMAC  address.MAC     `json:"mac"`
	Client   string          `json:"clientAddress,omitempty"` // ciaddr
	Your     string          `json:"yourAddress,omitempty"`   // yiaddr
	Relay    string          `json:"relay,omitempty"`         // giaddr
	FromSide string          `json:"from" enum:"client,server"`
	Options  []MessageOption `json:"options"`
	Server   string          `json:"nextServer,omitempty"` // siaddr
	File     string          `json:"bootFile,omitempty"`   // file
	Bytes    string          `json:"bytes"`                // hex
	Size     int             `json:"size"`                 // octets
	Accepts  int             `json:"accepts,omitempty"`    // of a reply: the most octets its client takes, where known
	Marks    []Mark          `json:"marks"`
	Why      string          `json:"why,omitempty"`
}

// MessageOption is one option of a message.
type MessageOption struct {
	Code  uint8  `json:"code"`
	Name  string `json:"name"`
	Value string `json:"value"`
	Bytes string `json:"bytes"` // hex of the value
}

// Describe decodes a message as it went over the wire, with the site's own
// options named. why is the server's word on it. Octets that are no message
// give one of type "malformed".
func Describe(own option.Own, wire []byte, why string) Message {
	out := Message{Type: "malformed", FromSide: "client", Why: why, Bytes: hex.EncodeToString(wire), Size: len(wire), Options: []MessageOption{}, Marks: []Mark{}}
	m, err := ReadPacket(wire)
	if err != nil {
		return out
	}
	out.Type = option.Format(option.MessageType, m.Options[option.MessageType])
	if len(m.ClientHWAddr) == 6 {
		out.FromMAC = address.MAC(m.ClientHWAddr)
	}
	if m.OpCode == dhcpv4.OpcodeBootReply {
		out.FromSide = "server"
	}
	out.Client, out.Your, out.Relay = shown(nonZero(m.ClientIPAddr)), shown(nonZero(m.YourIPAddr)), shown(nonZero(m.GatewayIPAddr))
	out.Server, out.File = shown(nonZero(m.ServerIPAddr)), clean(m.BootFileName)
	out.Marks = append(out.Marks, Marks(wire)...)
	for _, mark := range out.Marks {
		def, _ := own.Lookup(mark.Code)
		value := wire[mark.From+2 : mark.To]
		out.Options = append(out.Options, MessageOption{mark.Code, def.Name, own.Format(mark.Code, value), hex.EncodeToString(value)})
	}
	slices.SortStableFunc(out.Options, func(a, b MessageOption) int { return int(a.Code) - int(b.Code) })
	return out
}

func shown(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

// clean keeps of a header's text what can be shown.
func clean(text string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x20 || r > 0x7e {
			return -1
		}
		return r
	}, text)
}

// Option finds a decoded option of the message.
func (m Message) Option(code uint8) string {
	for _, o := range m.Options {
		if o.Code == code {
			return o.Value
		}
	}
	return ""
}

// Router is the first router the message tells of, invalid when none.
func (m Message) Router() netip.Addr {
	first, _, _ := strings.Cut(m.Option(option.Router), ",")
	router, err := netip.ParseAddr(first)
	if err != nil {
		return netip.Addr{}
	}
	return router
}
