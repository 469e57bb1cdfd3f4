package dhcp

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"lithos/core/option"
)

// Sizes of a message, in octets (RFC 2131 section 2).
const (
	// MaxPacket is the largest message ReadPacket takes.
	MaxPacket = 1500
	// MinAccepted is what every client accepts: an IP datagram of 576 octets.
	MinAccepted = 576
	// ipAndUDP is what of a datagram is no message.
	ipAndUDP = 28

	snameAt, fileAt, cookieAt, optionsAt = 44, 108, 236, 240
)

// Accepts is the largest reply the sender of a request takes, in octets of
// message: its option 57 less the IP and UDP headers, at least what every client
// takes (RFC 2132 section 9.10).
func Accepts(request *dhcpv4.DHCPv4) int {
	size := MinAccepted
	if v := request.Options[option.MaxMessageSize]; len(v) == 2 {
		size = max(size, int(binary.BigEndian.Uint16(v)))
	}
	return min(size-ipAndUDP, MaxPacket)
}

// Mark is where an option lies in a message, in octets from its first; From is
// the option's code and To the octet after its value.
type Mark struct {
	Code  uint8  `json:"code"`
	From  int    `json:"from"`
	To    int    `json:"to"`
	Field string `json:"field" enum:"options,sname,file"`
}

// area is a field of a message that carries options.
type area struct {
	field    string
	from, to int // to is the octet after the last that may be used, the end mark included
	at       int
	flag     byte // of option 52
}

// Pack encodes a message with its options in the given order, the rest by code
// and relay information last (RFC 3046 section 2.1). When they do not fit into
// limit octets the sname and file fields carry options too (option 52, RFC 2132
// section 9.3); the names those fields held are then in options 66 and 67
// alone. What does not fit even so is left out and its codes returned.
func Pack(m *dhcpv4.DHCPv4, order []byte, limit int) (wire []byte, left []uint8) {
	var codes [256]uint8
	sorted := inOrder(codes[:0], m.Options, order)
	size := optionsAt + 1
	for _, c := range sorted {
		size += 2 + len(m.Options[c])
	}
	if size <= limit {
		wire = header(m, max(size, minPacket))
		main := area{field: "options", to: size, at: optionsAt}
		for _, code := range sorted {
			main.put(wire, code, m.Options[code])
		}
		wire[main.at] = 255
		return wire, nil
	}
	if wire, left = overloaded(m, sorted, limit); len(left) > 0 {
		// What fits the options field alone goes first, and leaves the rest to the others.
		slices.SortStableFunc(sorted, func(a, b uint8) int { return large(m.Options[a]) - large(m.Options[b]) })
		wire, left = overloaded(m, sorted, limit)
	}
	return wire, left
}

// large is -1 for a value that fits no field but the options.
func large(value []byte) int {
	if 2+len(value)+1 > cookieAt-fileAt {
		return -1
	}
	return 0
}

// minPacket is the fewest octets of a message (RFC 1542 section 2.1).
const minPacket = 300

// header writes the fixed fields and the cookie into a message of size octets.
func header(m *dhcpv4.DHCPv4, size int) []byte {
	wire := make([]byte, size)
	wire[0], wire[1], wire[2], wire[3] = byte(m.OpCode), byte(m.HWType), byte(len(m.ClientHWAddr)), m.HopCount
	copy(wire[4:8], m.TransactionID[:])
	binary.BigEndian.PutUint16(wire[8:], m.NumSeconds)
	binary.BigEndian.PutUint16(wire[10:], m.Flags)
	copy(wire[12:16], m.ClientIPAddr.To4())
	copy(wire[16:20], m.YourIPAddr.To4())
	copy(wire[20:24], m.ServerIPAddr.To4())
	copy(wire[24:28], m.GatewayIPAddr.To4())
	copy(wire[28:snameAt], m.ClientHWAddr)
	copy(wire[snameAt:fileAt-1], m.ServerHostName)
	copy(wire[fileAt:cookieAt-1], m.BootFileName)
	copy(wire[cookieAt:], []byte{99, 130, 83, 99}) // RFC 2132 section 2
	return wire
}

func (a *area) put(wire []byte, code uint8, value []byte) {
	wire[a.at], wire[a.at+1] = code, byte(len(value))
	copy(wire[a.at+2:], value)
	a.at += 2 + len(value)
}

// overloaded spreads options over the fields in which they fit.
func overloaded(m *dhcpv4.DHCPv4, codes []uint8, limit int) (wire []byte, left []uint8) {
	bare := *m
	bare.ServerHostName, bare.BootFileName = "", ""
	wire = header(&bare, limit)
	areas := []*area{
		{field: "options", from: optionsAt, to: limit, at: optionsAt + 3}, // after option 52 itself
		{field: "file", from: fileAt, to: cookieAt, at: fileAt, flag: 1},
		{field: "sname", from: snameAt, to: fileAt, at: snameAt, flag: 2},
	}
	kept := 0 // room for relay information, which comes last, among the options alone, and must not be crowded out
	if info, ok := m.Options[option.RelayInfo]; ok {
		kept = 2 + len(info)
	}
	var overload byte
	for _, code := range codes {
		value := m.Options[code]
		i := slices.IndexFunc(areas, func(a *area) bool {
			end := a.at + 2 + len(value) + 1
			switch {
			case len(value) > option.MaxValue:
				return false
			case code == option.RelayInfo:
				return a == areas[0] && end <= a.to
			case a == areas[0]:
				return end+kept <= a.to
			default:
				return end <= a.to
			}
		})
		if i < 0 {
			left = append(left, code)
			continue
		}
		areas[i].put(wire, code, value)
		overload |= areas[i].flag
	}
	if overload != 0 {
		copy(wire[optionsAt:], []byte{option.Overload, 1, overload})
	}
	for _, a := range areas {
		if a.at > a.from {
			wire[a.at] = 255
		}
	}
	return wire[:areas[0].at+1], left
}

// inOrder appends the codes of options as they are to be sent to out.
func inOrder(out []uint8, o dhcpv4.Options, asked []byte) []uint8 {
	var rank [256]int
	for i, c := range asked {
		if rank[c] == 0 {
			rank[c] = i + 1
		}
	}
	rank[option.MessageType], rank[option.ServerID], rank[option.LeaseTime], rank[option.RelayInfo] = -3, -2, -1, 1<<10
	for c := range o {
		if c == option.Overload || c == 0 || c == 255 {
			continue
		}
		if rank[c] == 0 {
			rank[c] = 256 + int(c)
		}
		out = append(out, c)
	}
	slices.SortFunc(out, func(a, b uint8) int { return rank[a] - rank[b] })
	return out
}

// ReadPacket decodes a message from the wire, options in overloaded fields
// included. Malformed ones are an error, never a panic.
func ReadPacket(wire []byte) (m *dhcpv4.DHCPv4, err error) {
	if len(wire) > MaxPacket {
		return nil, fmt.Errorf("a message of %d octets is longer than %d", len(wire), MaxPacket)
	}
	defer func() {
		if r := recover(); r != nil {
			m, err = nil, fmt.Errorf("malformed message: %v", r)
		}
	}()
	if m, err = dhcpv4.FromBytes(wire); err != nil {
		return nil, err
	}
	if over := m.Options[option.Overload]; len(over) == 1 && over[0] != 0 {
		for _, mark := range Marks(wire) {
			if mark.Field != "options" && m.Options[mark.Code] == nil {
				m.Options[mark.Code] = wire[mark.From+2 : mark.To]
			}
		}
		if over[0]&1 != 0 {
			m.BootFileName = ""
		}
		if over[0]&2 != 0 {
			m.ServerHostName = ""
		}
	}
	return m, nil
}

// Marks finds every option of a message, in the options field and in those
// overloaded. It stops where an option does not fit.
func Marks(wire []byte) []Mark {
	if len(wire) < optionsAt {
		return nil
	}
	out, overload := marksIn(wire, "options", optionsAt, len(wire))
	if overload&1 != 0 {
		more, _ := marksIn(wire, "file", fileAt, cookieAt)
		out = append(out, more...)
	}
	if overload&2 != 0 {
		more, _ := marksIn(wire, "sname", snameAt, fileAt)
		out = append(out, more...)
	}
	return out
}

// Order is the codes of a message's options in the order they lie in it, for a
// relay to pass them on so.
func Order(wire []byte) []byte {
	var out []byte
	for _, m := range Marks(wire) {
		out = append(out, m.Code)
	}
	return out
}

func marksIn(wire []byte, field string, from, to int) (out []Mark, overload byte) {
	for at := from; at < to && wire[at] != 255; {
		if wire[at] == 0 {
			at++
			continue
		}
		if at+1 >= to || at+2+int(wire[at+1]) > to {
			return out, overload
		}
		end := at + 2 + int(wire[at+1])
		if wire[at] == option.Overload && end == at+3 {
			overload = wire[at+2]
		}
		out = append(out, Mark{wire[at], at, end, field})
		at = end
	}
	return out, overload
}

// Destination is where a server sends a reply (RFC 2131 section 4.1).
type Destination struct {
	Address netip.Addr // of the datagram
	Port    int        // 67 for a relay, 68 for a client
	// Direct says that the client has not got Address yet: the frame goes to its
	// hardware address without asking who has it.
	Direct bool
}

// Deliver says where a reply goes: to the relay, to the address the client has,
// to everybody when the client asks for that or is refused, else straight to
// the client.
func Deliver(reply *dhcpv4.DHCPv4) Destination {
	everybody := Destination{netip.AddrFrom4([4]byte{255, 255, 255, 255}), dhcpv4.ClientPort, false}
	switch relay, ciaddr := nonZero(reply.GatewayIPAddr), nonZero(reply.ClientIPAddr); {
	case relay.IsValid():
		return Destination{relay, dhcpv4.ServerPort, false}
	case reply.MessageType() == dhcpv4.MessageTypeNak:
		return everybody
	case ciaddr.IsValid():
		return Destination{ciaddr, dhcpv4.ClientPort, false}
	case reply.IsBroadcast() || !nonZero(reply.YourIPAddr).IsValid():
		return everybody
	default:
		return Destination{nonZero(reply.YourIPAddr), dhcpv4.ClientPort, true}
	}
}
