package dhcp

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/insomniacslk/dhcp/iana"

	"lithos/core/option"
)

// Sizes of a message, in octets (RFC 2131 section 2).
const (
	// MaxPacket is the largest message ReadPacket takes.
	MaxPacket = 1500
	// MaxReply is the largest message that is sent: what a frame of Ethernet carries.
	MaxReply = MaxPacket - ipAndUDP
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
	return min(size-ipAndUDP, MaxReply)
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
// and relay information last (RFC 3046 section 2.1). A value over 255 octets is split
// into several options (RFC 3396 section 5). When they do not fit into limit octets the
// sname and file fields carry options too (option 52, RFC 2132 section 9.3); the names
// those fields held are then in options 66 and 67 alone. What does not fit even so is
// left out and its codes returned.
func Pack(m *dhcpv4.DHCPv4, order []byte, limit int) (wire []byte, left []uint8) {
	var codes [256]uint8
	sorted := inOrder(codes[:0], m.Options, order)
	size := optionsAt + 1
	for _, c := range sorted {
		size += room(m.Options[c])
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

// longest is how many octets of a value one option carries.
const longest = 255

// room is how many octets a value takes, the code and length of each of its parts included.
func room(value []byte) int { return len(value) + 2*max(1, (len(value)+longest-1)/longest) }

// large is -1 for a value that fits no field but the options.
func large(value []byte) int {
	if room(value)+1 > cookieAt-fileAt {
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
	copy(wire[cookieAt:], cookie)
	return wire
}

// put writes a value, in parts of at most 255 octets.
func (a *area) put(wire []byte, code uint8, value []byte) {
	for {
		part := value[:min(len(value), longest)]
		wire[a.at], wire[a.at+1] = code, byte(len(part))
		copy(wire[a.at+2:], part)
		a.at += 2 + len(part)
		if value = value[len(part):]; len(value) == 0 {
			return
		}
	}
}

// holds is how many octets of a value fit into n octets.
func holds(n int) int {
	whole := n / (longest + 2)
	return max(0, whole*longest+max(0, n%(longest+2)-2))
}

// overloaded spreads options over the fields in which they fit. One that fits none whole
// begins in one and goes on in the next, in the order in which they are read: options,
// file, sname (RFC 3396 section 6).
func overloaded(m *dhcpv4.DHCPv4, codes []uint8, limit int) (wire []byte, left []uint8) {
	bare := *m
	bare.ServerHostName, bare.BootFileName = "", ""
	wire = header(&bare, limit)
	main := &area{field: "options", from: optionsAt, to: limit, at: optionsAt}
	codes = slices.DeleteFunc(slices.Clone(codes), func(code uint8) bool {
		first := code == option.MessageType || code == option.ServerID
		if first { // what says which reply this is, is read before anything else
			main.put(wire, code, m.Options[code])
		}
		return first
	})
	overloadAt := main.at
	main.at += 3
	areas := []*area{
		main,
		{field: "file", from: fileAt, to: cookieAt, at: fileAt, flag: 1},
		{field: "sname", from: snameAt, to: fileAt, at: snameAt, flag: 2},
	}
	kept := 0 // room for relay information, which comes last, among the options alone, and must not be crowded out
	if info, ok := m.Options[option.RelayInfo]; ok {
		kept = room(info)
	}
	free := func(a *area, code uint8) int {
		n := a.to - 1 - a.at
		switch {
		case code == option.RelayInfo && a != areas[0]:
			return 0
		case code != option.RelayInfo && a == areas[0]:
			return n - kept
		default:
			return n
		}
	}
	var overload byte
	for _, code := range codes {
		value := m.Options[code]
		if i := slices.IndexFunc(areas, func(a *area) bool { return room(value) <= free(a, code) }); i >= 0 {
			areas[i].put(wire, code, value)
			overload |= areas[i].flag
			continue
		}
		fits := 0
		for _, a := range areas {
			fits += holds(free(a, code))
		}
		if fits < len(value) || len(value) <= longest {
			left = append(left, code)
			continue
		}
		for _, a := range areas {
			part := value[:min(len(value), holds(free(a, code)))]
			if len(part) > 0 {
				a.put(wire, code, part)
				overload |= a.flag
				value = value[len(part):]
			}
		}
	}
	if overload != 0 {
		copy(wire[overloadAt:], []byte{option.Overload, 1, overload})
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
			rank[c] = 2 * (i + 1)
		}
	}
	if r, mask := rank[option.Router], rank[option.SubnetMask]; r != 0 && (mask == 0 || r < mask) {
		rank[option.SubnetMask] = r - 1 // RFC 2132 section 3.3
	}
	rank[option.MessageType], rank[option.ServerID], rank[option.LeaseTime], rank[option.RelayInfo] = -3, -2, -1, 1<<12
	for c := range o {
		if c == option.Overload || c == 0 || c == 255 {
			continue
		}
		if rank[c] == 0 {
			rank[c] = 1<<10 + int(c)
		}
		out = append(out, c)
	}
	slices.SortFunc(out, func(a, b uint8) int { return rank[a] - rank[b] })
	return out
}

// ReadPacket decodes a message from the wire, options in overloaded fields included. Parts
// of one option are joined in the order options, file, sname (RFC 3396 section 6). An
// options field may end without its end mark. Malformed messages are an error.
func ReadPacket(wire []byte) (*dhcpv4.DHCPv4, error) {
	switch {
	case len(wire) > MaxPacket:
		return nil, fmt.Errorf("a message of %d octets is longer than %d", len(wire), MaxPacket)
	case len(wire) < optionsAt:
		return nil, fmt.Errorf("a message of %d octets is shorter than its fixed fields, %d", len(wire), optionsAt)
	case !bytes.Equal(wire[cookieAt:optionsAt], cookie):
		return nil, errors.New("the options do not begin with the cookie 99.130.83.99")
	}
	marks, whole := marksOf(wire)
	if !whole {
		return nil, errors.New("an option is longer than what is left of the message")
	}
	m := &dhcpv4.DHCPv4{
		OpCode: dhcpv4.OpcodeType(wire[0]), HWType: iana.HWType(wire[1]), HopCount: wire[3],
		TransactionID: dhcpv4.TransactionID(wire[4:8]), NumSeconds: binary.BigEndian.Uint16(wire[8:]),
		Flags:        binary.BigEndian.Uint16(wire[10:]),
		ClientIPAddr: ip(wire[12:16]), YourIPAddr: ip(wire[16:20]), ServerIPAddr: ip(wire[20:24]),
		GatewayIPAddr:  ip(wire[24:28]),
		ClientHWAddr:   slices.Clone(net.HardwareAddr(wire[28 : 28+min(wire[2], 16)])),
		ServerHostName: text(wire[snameAt:fileAt]), BootFileName: text(wire[fileAt:cookieAt]),
		Options: make(dhcpv4.Options, len(marks)),
	}
	for _, mark := range marks {
		m.Options[mark.Code] = append(m.Options[mark.Code], wire[mark.From+2:mark.To]...)
		if m.Options[mark.Code] == nil {
			m.Options[mark.Code] = []byte{}
		}
	}
	if over := m.Options[option.Overload]; len(over) == 1 {
		if over[0]&1 != 0 {
			m.BootFileName = ""
		}
		if over[0]&2 != 0 {
			m.ServerHostName = ""
		}
	}
	return m, nil
}

var cookie = []byte{99, 130, 83, 99} // RFC 2132 section 2

func ip(octets []byte) net.IP { return slices.Clone(net.IP(octets)) }

// text is a header's text, which ends at its first zero octet.
func text(field []byte) string {
	before, _, _ := bytes.Cut(field, []byte{0})
	return string(before)
}

// Marks finds every option of a message, in the options field and in those
// overloaded. It stops where an option does not fit.
func Marks(wire []byte) []Mark {
	marks, _ := marksOf(wire)
	return marks
}

// marksOf also tells whether every option was whole.
func marksOf(wire []byte) (out []Mark, whole bool) {
	if len(wire) < optionsAt {
		return nil, false
	}
	out, overload, whole := marksIn(wire, "options", optionsAt, len(wire))
	for _, f := range []struct {
		flag     byte
		field    string
		from, to int
	}{{1, "file", fileAt, cookieAt}, {2, "sname", snameAt, fileAt}} {
		if overload&f.flag != 0 {
			more, _, fits := marksIn(wire, f.field, f.from, f.to)
			out, whole = append(out, more...), whole && fits
		}
	}
	return out, whole
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

func marksIn(wire []byte, field string, from, to int) (out []Mark, overload byte, whole bool) {
	for at := from; at < to && wire[at] != 255; {
		if wire[at] == 0 {
			at++
			continue
		}
		if at+1 >= to || at+2+int(wire[at+1]) > to {
			return out, overload, false
		}
		end := at + 2 + int(wire[at+1])
		if wire[at] == option.Overload && end == at+3 {
			overload = wire[at+2]
		}
		out = append(out, Mark{wire[at], at, end, field})
		at = end
	}
	return out, overload, true
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
