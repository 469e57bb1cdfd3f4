package dhcp

import (
	"encoding/binary"
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
	// Parts is what a vendor's options (43 and 125) and relay information (82) hold, where
	// that adds up.
	Parts []MessagePart `json:"parts,omitempty"`
}

// MessagePart is one sub-option. Without a name its value is hex.
type MessagePart struct {
	Enterprise uint32 `json:"enterprise,omitempty"` // of option 125: whose it is
	Code       uint8  `json:"code"`
	Name       string `json:"name"`
	Value      string `json:"value"`
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
	for code, value := range m.Options {
		def, _ := words.Own.Lookup(code)
		out.Options = append(out.Options, MessageOption{code, def.Name, words.Own.Format(code, value),
			hex.EncodeToString(value), words.parts(code, value)})
	}
	slices.SortStableFunc(out.Options, func(a, b MessageOption) int { return int(a.Code) - int(b.Code) })
	return out
}

// parts splits a vendor's option and relay information: 43 as it is (RFC 2132 section 8.4), 82
// by the names of its sub-options, 125 by enterprises (RFC 3925 section 4).
func (w Words) parts(code uint8, value []byte) []MessagePart {
	switch code {
	case option.VendorSpecific:
		return subOptions(0, value, w.Vendor)
	case option.RelayInfo:
		return subOptions(0, value, relayParts)
	case option.VendorInfo:
		return enterprises(value, w.Vendor)
	}
	return nil
}

// relayParts are the sub-options of relay information in IANA's registry.
var relayParts = []option.Definition{
	{Code: 1, Name: "Circuit", Type: option.Plain},
	{Code: 2, Name: "Remote end", Type: option.Plain},
	{Code: 4, Name: "Cable device class", Type: option.OpaqueOctets},
	{Code: linkSelection, Name: "Link selection", Type: option.Address},
	{Code: 6, Name: "Subscriber", Type: option.Text},
	{Code: 9, Name: "Vendor-specific", Type: option.OpaqueOctets},
	{Code: 10, Name: "Relay flags", Type: option.OpaqueOctets},
	{Code: serverIDOverride, Name: "Server identifier override", Type: option.Address},
	{Code: 12, Name: "Relay identifier", Type: option.OpaqueOctets},
	{Code: 19, Name: "Relay source port", Type: option.Number16},
	{Code: 151, Name: "Virtual subnet", Type: option.OpaqueOctets},
}

// enterprises splits option 125: each enterprise's number, a length, and its sub-options.
func enterprises(value []byte, vendor []option.Definition) (out []MessagePart) {
	const head = 5
	for len(value) > 0 {
		if len(value) < head || len(value) < head+int(value[head-1]) {
			return nil
		}
		end := head + int(value[head-1])
		parts := subOptions(binary.BigEndian.Uint32(value), value[head:end], vendor)
		if parts == nil {
			return nil
		}
		out, value = append(out, parts...), value[end:]
	}
	return out
}

func subOptions(enterprise uint32, value []byte, names []option.Definition) (out []MessagePart) {
	codes, values, ok := option.SubOptionsOf(value)
	if !ok {
		return nil
	}
	for i, code := range codes {
		part := MessagePart{Enterprise: enterprise, Code: code, Value: hex.EncodeToString(values[i])}
		if k := slices.IndexFunc(names, func(d option.Definition) bool { return d.Code == code }); k >= 0 {
			part.Name = names[k].Name
			if text, ok := names[k].Type.Format(values[i]); ok {
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

// Router is where the client sends what is for other networks: the router of its default
// classless route where it is told classless routes, which hide option 3 (RFC 3442), else
// the first of option 3. It is invalid when there is none.
func (m Message) Router() netip.Addr {
	first, _, _ := strings.Cut(m.Option(option.Router), ",")
	if routes := m.Option(option.ClasslessRoutes); routes != "" {
		first = ""
		for route := range strings.SplitSeq(routes, ", ") {
			if via, ok := strings.CutPrefix(route, "0.0.0.0/0 via "); ok {
				first = via
			}
		}
	}
	router, err := netip.ParseAddr(first)
	if err != nil {
		return netip.Addr{}
	}
	return router
}
