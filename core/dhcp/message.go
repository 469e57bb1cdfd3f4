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
	// Parts is what a vendor's options hold (43 and 125), where that adds up.
	Parts []MessagePart `json:"parts,omitempty"`
}

// MessagePart is one sub-option of a vendor. Without a name its value is hex.
type MessagePart struct {
	Code  uint8  `json:"code"`
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Words is what a site calls what is not in the registry: its own options, and
// the sub-options of the client's vendor class.
type Words struct {
	Own    option.Own
	Vendor []option.Definition
}

// Describe decodes a message as it went over the wire. why is the server's word
// on it. Octets that are no message give one of type "malformed".
func Describe(words Words, wire []byte, why string) Message {
	out := Message{Type: "malformed", FromSide: "client", Why: why, Bytes: hex.EncodeToString(wire), Size: len(wire),
		Options: []MessageOption{}, Marks: []Mark{}}
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
	out.Client, out.Your, out.Relay = shown(nonZero(m.ClientIPAddr)), shown(nonZero(m.YourIPAddr)),
		shown(nonZero(m.GatewayIPAddr))
	out.Server, out.File = shown(nonZero(m.ServerIPAddr)), clean(m.BootFileName)
	out.Marks = append(out.Marks, Marks(wire)...)
	for _, mark := range out.Marks {
		def, _ := words.Own.Lookup(mark.Code)
		value := wire[mark.From+2 : mark.To]
		out.Options = append(out.Options,
			MessageOption{mark.Code, def.Name, words.Own.Format(mark.Code, value), hex.EncodeToString(value),
				words.parts(mark.Code, value)})
	}
	slices.SortStableFunc(out.Options, func(a, b MessageOption) int { return int(a.Code) - int(b.Code) })
	return out
}

// parts splits a vendor's option: 43 as it is (RFC 2132 section 8.4), 125 behind
// the number of an enterprise and a length (RFC 3925 section 4).
func (w Words) parts(code uint8, value []byte) []MessagePart {
	const behind = 5 // octets of enterprise number and length
	switch {
	case code == option.VendorInfo && len(value) > behind && int(value[behind-1]) == len(value)-behind:
		value = value[behind:]
	case code != option.VendorSpecific:
		return nil
	}
	codes, values, ok := option.SubOptionsOf(value)
	if !ok {
		return nil
	}
	var out []MessagePart
	for i, code := range codes {
		part := MessagePart{Code: code, Value: hex.EncodeToString(values[i])}
		if k := slices.IndexFunc(w.Vendor, func(d option.Definition) bool { return d.Code == code }); k >= 0 {
			part.Name = w.Vendor[k].Name
			if text, ok := w.Vendor[k].Type.Format(values[i]); ok {
				part.Value = text
			}
		}
		out = append(out, part)
	}
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
