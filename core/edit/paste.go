package edit

import (
	"encoding/csv"
	"fmt"
	"iter"
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

// Line is what will happen to one line of a paste. Lines that are empty, begin
// with # or are a heading are skipped, and said to be.
type Line struct {
	Number  int         `json:"number"` // counted from 1
	Text    string      `json:"text"`
	Outcome string      `json:"outcome" enum:"adds,changes,same,skipped,refused"`
	Says    string      `json:"says"`
	Address netip.Addr  `json:"address,omitzero"`
	MAC     address.MAC `json:"mac,omitzero"`
	Name    string      `json:"name,omitempty"`
	edits   []Edit
	asTyped string // the name as it was typed, where it is no lawful one
}

// Paste reads many parts of a kind that can be pasted, one a line: an address, a MAC
// and a name in any order, separated by commas, semicolons or tabs, quoted where they
// hold one (RFC 4180), or by spaces. A first line of headings says which column is
// which. A reservation without an address takes the next free one; a name that is no
// lawful host name is given as one that is. A line whose client is recorded already
// changes it. Nothing is refused silently: there is a Line for every line, and the
// edits are those of the lines that add or change. newID makes the ids of what is
// added, from the line's number.
func Paste(s *site.Site, n *site.Network, kind, text string, newID func(line int) string) ([]Line, []Edit, error) {
	k, ok := site.KindNamed(kind)
	if !ok || !k.Pasted {
		return nil, nil,
			site.FieldErrors{{Field: "kind",
				Says: fmt.Sprintf("%q cannot be pasted; paste reservations or fixed devices", kind)}}
	}
	rows, err := pastedRows(text)
	if err != nil {
		return nil, nil, err
	}
	p := newPaster(s, n, k)
	lines := make([]Line, len(rows))
	for i, row := range rows {
		lines[i] = p.read(i+1, strings.TrimRight(row, "\r"))
	}
	var edits []Edit
	for i := range lines {
		p.finish(&lines[i], newID)
		edits = append(edits, lines[i].edits...)
	}
	return lines, edits, nil
}

type paster struct {
	site    *site.Site
	network *site.Network
	kind    *site.Kind
	columns []string // what each column holds, where a heading said so
	begun   bool     // a line that says something was read

	typed  map[netip.Addr]bool // addresses that some line names
	at     map[netip.Addr]int  // line that took an address
	of     map[address.MAC]int // line that named a MAC
	mine   map[address.MAC]int // index of what is recorded on the network, by MAC
	list   site.List
	owners map[netip.Addr]string
	holder map[netip.Addr]address.MAC
	free   func() (netip.Addr, bool)
}

func newPaster(s *site.Site, n *site.Network, k *site.Kind) *paster {
	p := &paster{
		site: s, network: n, kind: k, typed: map[netip.Addr]bool{}, at: map[netip.Addr]int{}, of: map[address.MAC]int{},
		mine: map[address.MAC]int{}, owners: map[netip.Addr]string{}, holder: map[netip.Addr]address.MAC{},
	}
	p.list, _ = site.ListOf(scratch(s), k.Name, site.Ref{})
	for _, other := range site.Kinds() {
		if other.Pasted {
			p.index(other)
		}
	}
	for _, d := range s.Devices {
		for _, i := range d.Interfaces {
			for _, a := range i.Addresses {
				p.owners[a.Addr()] = "interface " + i.Name + " of " + d.Name
			}
		}
	}
	p.free, _ = iter.Pull(site.Free(s, n))
	return p
}

// index notes what the parts of a kind hold, and those of the network by their MACs.
func (p *paster) index(k *site.Kind) {
	at, _ := k.Field("address")
	mac, _ := k.Field("mac")
	k.Each(p.site, func(_ site.Ref, list site.List, i int) bool {
		part := list.At(i)
		a, err := netip.ParseAddr(at.Text(part))
		if err != nil {
			return true
		}
		m, _ := address.ParseMAC(mac.Text(part))
		p.owners[a], p.holder[a] = k.Noun+" "+k.Called(part), m
		if k == p.kind && !m.IsZero() && onNetwork(k, part) == p.network.ID {
			p.mine[m] = i
		}
		return true
	})
}

// onNetwork is the network that a part lives on.
func onNetwork(k *site.Kind, part any) string {
	f, ok := k.Field("network")
	if !ok {
		return ""
	}
	return strings.Join(f.Points(part), "")
}

// read tells the words of a line apart by their form, or by the heading.
func (p *paster) read(number int, row string) Line {
	l := Line{Number: number, Text: row, Outcome: LineRefused}
	if t := strings.TrimSpace(row); t == "" || strings.HasPrefix(t, "#") {
		l.Outcome, l.Says = LineSkipped, "Nothing on this line"
		return l
	}
	cells, spaced := split(row)
	if first := !p.begun; first {
		p.begun = true
		if columns, ok := heading(cells); ok {
			p.columns, l.Outcome, l.Says = columns, LineSkipped, "A heading"
			return l
		}
	}
	var names []string
	for i, cell := range cells {
		column := ""
		if i < len(p.columns) {
			column = p.columns[i]
		}
		if says := p.cell(&l, &names, cell, column); says != "" {
			l.Says = says
			return l
		}
	}
	l.Says = p.name(&l, names, spaced)
	if l.Address.IsValid() {
		p.typed[l.Address] = true
	}
	return l
}

// split cuts a line at tabs, semicolons or commas, whichever comes first outside
// quotes, else at spaces.
func split(row string) (cells []string, spaced bool) {
	comma := ' '
	quoted := false
	for _, c := range row {
		if c == '"' {
			quoted = !quoted
		}
		if !quoted && (c == '\t' || c == ';' || c == ',') {
			comma = c
			break
		}
	}
	r := csv.NewReader(strings.NewReader(row))
	r.Comma, r.LazyQuotes, r.TrimLeadingSpace, r.FieldsPerRecord = comma, true, true, -1
	record, err := r.Read()
	if err != nil {
		record = strings.FieldsFunc(row, func(c rune) bool { return c == comma })
	}
	for _, cell := range record {
		cells = append(cells, strings.TrimSpace(cell))
	}
	return cells, comma == ' '
}

// What a column is for, by the words of its heading, which are of letters alone: "IPv4" is ipv.
var headings = map[string]string{
	"ip": "address", "ipv": "address", "address": "address", "mac": "mac", "hardware": "mac", "physical": "mac",
	"ethernet": "mac",
	"name":     "name", "host": "name", "hostname": "name", "device": "name", "client": "name",
	"comment": "other", "comments": "other", "description": "other", "note": "other", "notes": "other",
	"vendor": "other", "maker": "other", "owner": "other",
	"lease": "other", "type": "other", "vlan": "other", "network": "other", "location": "other", "no": "other",
	"number": "other",
}

// heading reads a line of headings. There is one where every cell has a word that
// says what a column is for, and one of them is for MACs, addresses or names.
func heading(cells []string) (columns []string, ok bool) {
	for _, cell := range cells {
		column := ""
		for word := range strings.FieldsFuncSeq(strings.ToLower(cell),
			func(c rune) bool { return c < 'a' || c > 'z' }) {
			// "MAC address" is for MACs, "host name" for names: what says more counts.
			if of, known := headings[word]; known && (column == "" || column == "address") {
				column = of
			}
		}
		if column == "" && cell != "" {
			return nil, false
		}
		columns = append(columns, column)
		ok = ok || column != "" && column != "other"
	}
	return columns, ok
}

// cell reads one cell of a line into it. column is what the heading says of it.
func (p *paster) cell(l *Line, names *[]string, cell, column string) (says string) {
	if cell == "" || column == "other" {
		return ""
	}
	if column != "name" {
		if m, err := address.ParseMAC(cell); err == nil {
			if !l.MAC.IsZero() {
				return fmt.Sprintf("Two MACs, %s and %s; leave one", l.MAC, m)
			}
			l.MAC = m
			return ""
		}
		if a, err := address.ParseAddr(cell, p.within(cell)); err == nil {
			if l.Address.IsValid() {
				return fmt.Sprintf("Two addresses, %s and %s; leave one", l.Address, a)
			}
			l.Address = a
			return ""
		}
	}
	switch column {
	case "address":
		return fmt.Sprintf("%q is no address", clip(cell))
	case "mac":
		return fmt.Sprintf("%q is no MAC", clip(cell))
	}
	// Words with spaces between may be several cells of a line that is cut at commas.
	if words := strings.Fields(cell); column == "" && len(words) > 1 && slices.ContainsFunc(words, p.isAddress) {
		for _, word := range words {
			if says = p.cell(l, names, word, ""); says != "" {
				return says
			}
		}
		return ""
	}
	*names = append(*names, cell)
	return ""
}

func (p *paster) isAddress(word string) bool {
	_, noMAC := address.ParseMAC(word)
	_, noAddr := address.ParseAddr(word, p.within(word))
	return noMAC == nil || noAddr == nil
}

// within lets ".57" stand for an address of the network, but not "57", which
// may be a name.
func (p *paster) within(word string) netip.Prefix {
	if strings.HasPrefix(word, ".") {
		return p.network.Prefix
	}
	return netip.Prefix{}
}

// name reads what of a line is neither address nor MAC. Words with spaces between are
// one name; several cells are not.
func (p *paster) name(l *Line, names []string, spaced bool) (says string) {
	switch {
	case len(names) == 0:
		return ""
	case len(names) > 1 && !spaced:
		return fmt.Sprintf("Two names, %s and %s; leave one, or say in a first line which column is the name",
			clip(names[0]), clip(names[1]))
	}
	typed := strings.Join(names, " ")
	lawful, ok := option.LawfulLabel(typed)
	if !ok {
		return fmt.Sprintf("%q is neither an address, nor a MAC, nor a name", clip(typed))
	}
	if l.Name = lawful; !strings.EqualFold(lawful, typed) {
		l.asTyped = typed
	}
	return ""
}

func clip(s string) string {
	if len(s) > 40 {
		return strings.ToValidUTF8(s[:40], "") + "…"
	}
	return s
}

// finish decides what becomes of a line that was read.
func (p *paster) finish(l *Line, newID func(line int) string) {
	if l.Says != "" {
		return
	}
	i, recorded := p.mine[l.MAC]
	recorded = recorded && !l.MAC.IsZero()
	given := l.Address.IsValid()
	if !given {
		p.findAddress(l, i, recorded)
	}
	if l.Says = p.judge(l); l.Says != "" {
		return
	}
	p.at[l.Address] = l.Number
	if !l.MAC.IsZero() {
		p.of[l.MAC] = l.Number
	}
	p.edit(l, i, recorded, newID)
	if !given && l.Outcome == LineAdds {
		l.Says = "New, at the next free address, " + l.Address.String()
	}
	if l.asTyped != "" {
		l.Says += fmt.Sprintf("; %q is no host name, so it is called %s", clip(l.asTyped), l.Name)
	}
}

// findAddress gives a line without an address the one its client has, or the next free
// one that no line names. A fixed device holds an address of its own already, which
// only a person knows.
func (p *paster) findAddress(l *Line, i int, recorded bool) {
	if recorded {
		at, _ := p.kind.Field("address")
		l.Address, _ = netip.ParseAddr(at.Text(p.list.At(i)))
		return
	}
	if p.kind.Name == site.KindFixedDevice || l.MAC.IsZero() {
		return
	}
	for {
		a, ok := p.free()
		if !ok {
			return
		}
		if _, taken := p.at[a]; !taken && !p.typed[a] {
			l.Address = a
			return
		}
	}
}

// judge says why a line that reads well cannot be taken, empty when it can.
func (p *paster) judge(l *Line) string {
	fixed := p.kind.Name == site.KindFixedDevice
	switch {
	case l.MAC.IsZero() && !fixed:
		return "No MAC; a reservation needs one, for example 00:00:5e:00:53:1c"
	case !l.Address.IsValid() && fixed:
		return fmt.Sprintf("No address; add the one of %s that it holds", p.network.Prefix)
	case !l.Address.IsValid():
		return fmt.Sprintf("No address, and none of %s is free", p.network.Prefix)
	case !address.Usable(p.network.Prefix).Contains(l.Address):
		return fmt.Sprintf("No host in %s can hold %s", p.network.Prefix, l.Address)
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
	if what, taken := p.owners[l.Address]; taken && (p.holder[l.Address] != l.MAC || l.MAC.IsZero()) {
		return fmt.Sprintf("%s is the %s's", l.Address, what)
	}
	return ""
}

// edit makes the edit of a line: a new part, or another value of the one recorded.
func (p *paster) edit(l *Line, i int, recorded bool, newID func(line int) string) {
	var id string
	var was, now any
	if recorded {
		id, was = p.list.ID(i), p.list.At(i)
		now = p.kind.Copy(was)
	} else {
		id = newID(l.Number)
		now = p.kind.Empty(id)
		p.kind.Fresh(p.site, p.network, now)
	}
	p.set(now, "address", l.Address.String())
	if !l.MAC.IsZero() {
		p.set(now, "mac", l.MAC.String())
	}
	if l.Name != "" {
		p.set(now, "name", l.Name)
	}
	if !recorded {
		l.Outcome, l.Says = LineAdds, "New, at "+l.Address.String()
		l.edits = []Edit{Adding(p.kind.Name, id, site.Ref{}, now)}
		if p.kind.Name == site.KindFixedDevice && p.inPool(l.Address) {
			l.Says += "; inside a pool, so exclude it there"
		}
		return
	}
	e, differs := Changing(p.kind.Name, id, site.Ref{}, was, now)
	if !differs {
		l.Outcome, l.Says = LineSame, "Already recorded like this"
		return
	}
	l.Outcome, l.Says, l.edits = LineChanges, "Takes another name", []Edit{e}
	at, _ := p.kind.Field("address")
	if from := at.Text(was); from != l.Address.String() {
		l.Says = "Moves here from " + from
	}
}

// set gives a part a value that was checked already.
func (p *paster) set(part any, field, text string) {
	f, ok := p.kind.Field(field)
	if !ok {
		panic("a kind that is pasted has the field " + field)
	}
	if err := f.Read(&site.Reading{Site: p.site}, part, text); err != nil {
		panic(fmt.Sprintf("a pasted %s that was read once: %v", field, err))
	}
}

func (p *paster) inPool(a netip.Addr) bool {
	return slices.ContainsFunc(p.site.Pools, func(q site.Pool) bool { return q.Network == p.network.ID && q.Offers(a) })
}
