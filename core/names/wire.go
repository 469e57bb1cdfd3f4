package names

import (
	"encoding/hex"
	"fmt"

	"github.com/miekg/dns"

	"lithos/core/zone"
)

// Wire is a message octet by octet (RFC 1035 section 4).
type Wire struct {
	Bytes string   `json:"bytes"` // hex
	Size  int      `json:"size"`  // octets
	Marks []Octets `json:"marks"`
	// Records is how many the message carries, whichever section they are in.
	Records       int  `json:"records"`
	Authoritative bool `json:"authoritative"`
	Truncated     bool `json:"truncated"`
}

// Octets says what some octets of a message are. To is the octet after the last.
type Octets struct {
	From int    `json:"from"`
	To   int    `json:"to"`
	What string `json:"what"`
	Says string `json:"says"`
}

// Decode puts a message on the wire and says what its octets are; nil for one that cannot be packed.
func Decode(m *dns.Msg) *Wire {
	raw, err := m.Pack()
	if err != nil {
		return nil
	}
	w := &Wire{Bytes: hex.EncodeToString(raw), Size: len(raw), Authoritative: m.Authoritative, Truncated: m.Truncated,
		Records: len(m.Answer) + len(m.Ns) + len(m.Extra), Marks: []Octets{}}
	w.mark(0, 2, "id", "The asker chose it, and knows the answer by it")
	w.mark(2, 4, "flags", flags(m))
	for i, c := range []struct {
		what string
		n    int
	}{{"questions", len(m.Question)}, {"answers", len(m.Answer)}, {"authority", len(m.Ns)}, {"additional",
		len(m.Extra)}} {
		w.mark(4+2*i, 6+2*i, c.what, fmt.Sprint(c.n))
	}
	off := 12
	for _, q := range m.Question {
		end, ok := nameEnd(raw, off)
		if !ok {
			return w
		}
		w.mark(off, end, "name asked for", zone.Tidy(q.Name))
		w.mark(end, end+4, "type and class", typeName(q.Qtype)+" "+dns.ClassToString[q.Qclass])
		off = end + 4
	}
	for _, section := range []struct {
		name string
		list []dns.RR
	}{{"answer", m.Answer}, {"authority", m.Ns}, {"additional", m.Extra}} {
		for _, rr := range section.list {
			next, ok := w.record(raw, off, section.name, rr)
			if !ok {
				return w
			}
			off = next
		}
	}
	return w
}

func (w *Wire) mark(from, to int, what, says string) {
	w.Marks = append(w.Marks, Octets{from, to, what, says})
}

// record marks one record: name, type and class, TTL, length and data (RFC 1035 section 3.2.1).
func (w *Wire) record(raw []byte, off int, section string, rr dns.RR) (next int, ok bool) {
	end, ok := nameEnd(raw, off)
	if !ok || end+10 > len(raw) {
		return 0, false
	}
	length := int(raw[end+8])<<8 | int(raw[end+9])
	next = end + 10 + length
	if next > len(raw) {
		return 0, false
	}
	h := rr.Header()
	if opt, is := rr.(*dns.OPT); is {
		w.mark(off, next, "extension", fmt.Sprintf("EDNS: answers up to %d octets are taken (RFC 6891)", opt.UDPSize()))
		return next, true
	}
	w.mark(off, end, section+", name", zone.Tidy(h.Name))
	w.mark(end, end+4, "type and class", typeName(h.Rrtype)+" "+dns.ClassToString[h.Class])
	w.mark(end+4, end+8, "TTL", fmt.Sprintf("%d s", h.Ttl))
	w.mark(end+8, end+10, "length of the data", fmt.Sprint(length))
	w.mark(end+10, next, "data", zone.DataOf(rr, ""))
	return next, true
}

// nameEnd is the offset after a name, which may end in a pointer to an earlier one (RFC 1035 section
// 4.1.4).
func nameEnd(raw []byte, off int) (end int, ok bool) {
	for off < len(raw) {
		n := int(raw[off])
		switch {
		case n == 0:
			return off + 1, true
		case n >= 0xc0:
			return off + 2, off+2 <= len(raw)
		}
		off += 1 + n
	}
	return 0, false
}

func flags(m *dns.Msg) string {
	out := dns.RcodeToString[m.Rcode&0xf]
	if m.Response {
		out = "answer, " + out
	}
	for _, f := range []struct {
		on   bool
		says string
	}{{m.Authoritative, "authoritative"}, {m.Truncated, "cut off"}, {m.RecursionDesired, "recursion asked for"},
		{m.RecursionAvailable, "recursion done"}, {m.AuthenticatedData, "signatures hold"}} {
		if f.on {
			out += ", " + f.says
		}
	}
	return out
}
