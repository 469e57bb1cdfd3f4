package edit

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/address"
	"lithos/core/option"
	"lithos/core/site"
)

// The most a paste holds.
const (
	MaxPaste      = 1 << 20 // octets
	MaxPasteLines = 5000
)

// What becomes of a pasted line.
const (
	LineAdds    = "adds"
	LineChanges = "changes"
	LineSame    = "same" // recorded so already
	LineSkipped = "skipped"
	LineRefused = "refused"
)

// Line is what will happen to one line of a paste. Lines that are empty or
// begin with # are skipped, and said to be.
type Line struct {
	Number  int         `json:"number"` // counted from 1
	Text    string      `json:"text"`
	Outcome string      `json:"outcome" enum:"adds,changes,same,skipped,refused"`
	Says    string      `json:"says"`
	Address netip.Addr  `json:"address,omitzero"`
	MAC     address.MAC `json:"mac,omitzero"`
	Name    string      `json:"name,omitempty"`
	edits   []Edit
}

// Paste reads many reservations or fixed devices of a network, one a line: an
// address, a MAC and a name in any order, separated by commas, semicolons, tabs
// or spaces. kind is site.KindReservation or site.KindFixedDevice. A line whose
// client is recorded already changes it. Nothing is refused silently: there is
// a Line for every line, and the edits are those of the lines that add or
// change. newID makes the ids of what is added, from the line's number.
func Paste(s *site.Site, n *site.Network, kind, text string, newID func(line int) string) ([]Line, []Edit, error) {
	if len(text) > MaxPaste {
		return nil, nil, FieldErrors{{"text", fmt.Sprintf("has %d octets; paste at most %d at a time", len(text), MaxPaste)}}
	}
	rows := strings.Split(strings.TrimRight(text, "\r\n"), "\n")
	if len(rows) > MaxPasteLines {
		return nil, nil, FieldErrors{{"text", fmt.Sprintf("has %d lines; paste at most %d at a time", len(rows), MaxPasteLines)}}
	}
	p := &paster{site: s, network: n, kind: kind, at: map[netip.Addr]int{}, of: map[address.MAC]int{}}
	p.index()
	var lines []Line
	var edits []Edit
	for i, row := range rows {
		l := p.line(i+1, strings.TrimRight(row, "\r"), newID)
		lines, edits = append(lines, l), append(edits, l.edits...)
	}
	return lines, edits, nil
}

type paster struct {
	site    *site.Site
	network *site.Network
	kind    string
	at      map[netip.Addr]int  // line that took an address
	of      map[address.MAC]int // line that named a MAC
	mine    map[address.MAC]int // index of what is recorded, by MAC
	held    map[netip.Addr]string
	holder  map[netip.Addr]address.MAC
}

func (p *paster) index() {
	p.mine, p.held, p.holder = map[address.MAC]int{}, map[netip.Addr]string{}, map[netip.Addr]address.MAC{}
	for i, r := range p.site.Reservations {
		p.held[r.Address], p.holder[r.Address] = "reservation "+r.Name, r.MAC
		if p.kind == site.KindReservation && r.Network == p.network.ID && !r.MAC.IsZero() {
			p.mine[r.MAC] = i
		}
	}
	for i, f := range p.site.FixedDevices {
		p.held[f.Address], p.holder[f.Address] = "fixed device "+f.Name, f.MAC
		if p.kind == site.KindFixedDevice && f.Network == p.network.ID && !f.MAC.IsZero() {
			p.mine[f.MAC] = i
		}
	}
	for _, d := range p.site.Devices {
		for _, i := range d.Interfaces {
			for _, a := range i.Addresses {
				p.held[a.Addr()] = "interface " + i.Name + " of " + d.Name
			}
		}
	}
}

func (p *paster) line(number int, row string, newID func(int) string) Line {
	l := Line{Number: number, Text: row, Outcome: LineRefused}
	if t := strings.TrimSpace(row); t == "" || strings.HasPrefix(t, "#") {
		l.Outcome, l.Says = LineSkipped, "Nothing on this line"
		return l
	}
	if says := p.read(&l); says != "" {
		l.Says = says
		return l
	}
	if says := p.judge(&l); says != "" {
		l.Says = says
		return l
	}
	p.at[l.Address] = number
	if !l.MAC.IsZero() {
		p.of[l.MAC] = number
	}
	p.edit(&l, newID(number))
	return l
}

// read tells the words of a line apart by their form.
func (p *paster) read(l *Line) string {
	words := strings.FieldsFunc(l.Text, func(c rune) bool { return c == ',' || c == ';' || c == '\t' || c == ' ' || c == '"' })
	for _, w := range words {
		if m, err := address.ParseMAC(w); err == nil {
			if !l.MAC.IsZero() {
				return fmt.Sprintf("Two MACs, %s and %s; leave one", l.MAC, m)
			}
			l.MAC = m
			continue
		}
		if a, err := address.ParseAddr(w, p.within(w)); err == nil {
			if l.Address.IsValid() {
				return fmt.Sprintf("Two addresses, %s and %s; leave one", l.Address, a)
			}
			l.Address = a
			continue
		}
		if err := option.CheckLabel(w); err != nil {
			return fmt.Sprintf("%q is neither an address, nor a MAC, nor a name", clip(w))
		}
		if l.Name != "" {
			return fmt.Sprintf("Two names, %s and %s; leave one", l.Name, w)
		}
		l.Name = strings.ToLower(w)
	}
	return ""
}

// within lets ".57" stand for an address of the network, but not "57", which
// may be a name.
func (p *paster) within(word string) netip.Prefix {
	if strings.HasPrefix(word, ".") {
		return p.network.Prefix
	}
	return netip.Prefix{}
}

func clip(s string) string {
	if len(s) > 40 {
		return strings.ToValidUTF8(s[:40], "") + "…"
	}
	return s
}

// judge says why a line that reads well cannot be taken, empty when it can.
func (p *paster) judge(l *Line) string {
	fixed := p.kind == site.KindFixedDevice
	switch {
	case !l.Address.IsValid():
		return fmt.Sprintf("No address; add one of %s", p.network.Prefix)
	case !address.Usable(p.network.Prefix).Contains(l.Address):
		return fmt.Sprintf("No host in %s can hold %s", p.network.Prefix, l.Address)
	case l.MAC.IsZero() && !fixed:
		return "No MAC; a reservation needs one, for example 00:00:5e:00:53:1c"
	case l.MAC.IsGroup():
		return fmt.Sprintf("%s is a group address; no single client has it", l.MAC)
	case l.Name == "" && fixed:
		return "No name; a fixed device needs one, for example label-prn"
	}
	if other, dup := p.at[l.Address]; dup {
		return fmt.Sprintf("%s is on line %d already", l.Address, other)
	}
	if other, dup := p.of[l.MAC]; dup && !l.MAC.IsZero() {
		return fmt.Sprintf("%s is on line %d already", l.MAC, other)
	}
	if l.Address == p.network.Gateway {
		return fmt.Sprintf("%s is the gateway of %s", l.Address, p.network.Name)
	}
	if what, taken := p.held[l.Address]; taken && (p.holder[l.Address] != l.MAC || l.MAC.IsZero()) {
		return fmt.Sprintf("%s is the %s's", l.Address, what)
	}
	return ""
}

func (p *paster) edit(l *Line, id string) {
	i, recorded := p.mine[l.MAC]
	recorded = recorded && !l.MAC.IsZero()
	if p.kind == site.KindFixedDevice {
		var was site.FixedDevice
		now := site.FixedDevice{ID: id, Network: p.network.ID}
		if recorded {
			was = p.site.FixedDevices[i]
			now = was
		}
		now.Name, now.Address, now.MAC = l.Name, l.Address, l.MAC
		outcome(p, l, recorded, id, was.ID, was, now, was.Address)
		return
	}
	var was site.Reservation
	now := site.Reservation{ID: id, Network: p.network.ID, MAC: l.MAC}
	if recorded {
		was = p.site.Reservations[i]
		now = was
	}
	if now.Address = l.Address; l.Name != "" {
		now.Name = l.Name
	}
	outcome(p, l, recorded, id, was.ID, was, now, was.Address)
}

func outcome[T any](p *paster, l *Line, recorded bool, id, wasID string, was, now T, wasAt netip.Addr) {
	if !recorded {
		l.Outcome, l.Says = LineAdds, "New, at "+l.Address.String()
		l.edits = []Edit{Adding(p.kind, id, site.Ref{}, now)}
		if p.inPool(l.Address) && p.kind == site.KindFixedDevice {
			l.Says += "; inside a pool, so exclude it there"
		}
		return
	}
	e, differs := Changing(p.kind, wasID, site.Ref{}, was, now)
	if !differs {
		l.Outcome, l.Says = LineSame, "Recorded so already"
		return
	}
	l.Outcome, l.Says, l.edits = LineChanges, "Takes another name", []Edit{e}
	if wasAt != l.Address {
		l.Says = fmt.Sprintf("Moves here from %s", wasAt)
	}
}

func (p *paster) inPool(a netip.Addr) bool {
	return slices.ContainsFunc(p.site.Pools, func(q site.Pool) bool { return q.Network == p.network.ID && q.Offers(a) })
}
