// Package merge takes the lines of a table, or the parts of another site file, into a site: each line says first
// what it would do, and is taken or left.
package merge

import (
	"cmp"
	"errors"
	"fmt"
	"iter"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"lithos/core/address"
	"lithos/core/edit"
	"lithos/core/sheet"
	"lithos/core/site"
)

// What becomes of a line.
const (
	Added    = "added"
	Changed  = "changed"
	Same     = "same"     // the site has it so
	Conflict = "conflict" // the site says something else of the same address or machine
	Wrong    = "wrong"    // it cannot be read
	Skipped  = "skipped"  // it says nothing
)

// Outcome is what becomes of a line of a table, or of a part of a site file.
type Outcome struct {
	ID     string `json:"id"`
	Source string `json:"source" doc:"name of the file"`
	Number int    `json:"number" doc:"of the line in the file, from 1; 0 for a part of a site file"`
	Text   string `json:"text" doc:"the line as it was read"`
	// Cells are those of a line of a table, with what was corrected; a part of a site file has none.
	Cells []string `json:"cells,omitempty"`
	State string   `json:"state" enum:"added,changed,same,conflict,wrong,skipped"`
	Says  string   `json:"says" doc:"what becomes of it, or why nothing does"`
	Can   bool     `json:"can" doc:"whether it can be taken"`
	Taken bool     `json:"taken"`
}

// Merger takes lines into a site, one source after another.
type Merger struct {
	site   *site.Site
	takes  func(Outcome) bool
	newID  func(kind string) string
	lines  []Outcome
	edits  []edit.Edit
	source int
	typed  map[string]map[int]string // what cells say instead, by line and column

	owners map[netip.Addr]owner
	macs   map[string]machine // reservations by network and MAC, and fixed devices by MAC
	free   map[string]func() (netip.Addr, bool)
	named  map[netip.Addr]bool // by lines of tables
}

// owner is who has an address.
type owner struct {
	ref  site.Ref
	name string
	mac  string
	line int // of this source that took it; 0 for the site as it was
}

// machine is whose a MAC is.
type machine struct {
	ref  site.Ref
	at   netip.Addr
	line int // of this source that took it; 0 for the site as it was
}

// New begins with a site in normal form, which is not changed. takes says of a line that can be taken whether it is;
// newID makes ids of new parts of a kind.
func New(s *site.Site, takes func(Outcome) bool, newID func(kind string) string) *Merger {
	m := &Merger{site: s, takes: takes, newID: newID, owners: map[netip.Addr]owner{}, macs: map[string]machine{},
		free: map[string]func() (netip.Addr, bool){}, named: map[netip.Addr]bool{},
		typed: map[string]map[int]string{}}
	for _, d := range s.Devices {
		for _, i := range d.Interfaces {
			for _, a := range i.Addresses {
				m.owners[a.Addr()] = owner{ref: site.Ref{Kind: site.KindInterface, ID: i.ID},
					name: "interface " + i.Name + " of " + d.Name}
			}
		}
	}
	for _, r := range s.Reservations {
		m.note(site.Ref{Kind: site.KindReservation, ID: r.ID}, r.Address, r.MAC.String(), r.NameOrAddress(),
			r.Network, 0)
	}
	for _, f := range s.FixedDevices {
		m.note(site.Ref{Kind: site.KindFixedDevice, ID: f.ID}, f.Address, f.MAC.String(), f.Name, f.Network, 0)
	}
	return m
}

// note remembers who has an address and a MAC.
func (m *Merger) note(ref site.Ref, a netip.Addr, mac, name, network string, line int) {
	noun := map[string]string{site.KindReservation: "reservation ", site.KindFixedDevice: "fixed device "}[ref.Kind]
	m.owners[a] = owner{ref, noun + name, mac, line}
	if parsed, err := address.ParseMAC(mac); err == nil && !parsed.IsZero() {
		m.macs[macKey(ref.Kind, network, parsed.String())] = machine{ref, a, line}
	}
}

func macKey(kind, network, mac string) string { return kind + " " + network + " " + mac }

// Lines are what becomes of each line so far, and the edits of those that are taken.
func (m *Merger) Lines() ([]Outcome, []edit.Edit) { return m.lines, m.edits }

// Correct has a cell of a table that is taken later say something else; line is the id of its line, column its index.
func (m *Merger) Correct(line string, column int, text string) {
	if m.typed[line] == nil {
		m.typed[line] = map[int]string{}
	}
	m.typed[line][column] = sheet.Cell(text)
}

// lineID is the id of a line of the source that is taken now.
func (m *Merger) lineID(number int) string { return fmt.Sprintf("%d.%d", m.source, number) }

// corrected are the rows of a table with what was typed in place of their cells.
func (m *Merger) corrected(rows []sheet.Row) []sheet.Row {
	rows = slices.Clone(rows)
	for i, row := range rows {
		for column, text := range m.typed[m.lineID(row.Number)] {
			cells := make([]string, max(len(rows[i].Cells), column+1))
			copy(cells, rows[i].Cells)
			cells[column], rows[i].Cells = text, cells
		}
	}
	return rows
}

// Table takes the lines of a table; head is the index of its heading, -1 for none.
func (m *Merger) Table(name string, rows []sheet.Row, head int, columns []string) {
	m.source++
	list := items(m.corrected(rows), head, columns)
	for _, o := range list {
		if a, err := netip.ParseAddr(o.fields["address"]); err == nil {
			m.named[a] = true
		}
	}
	// Networks come first, whatever stands above them: what lies on them needs them.
	order := func(o item) int {
		return slices.Index([]string{site.KindNetwork, site.KindPool}, o.kind) & 3
	}
	at := make([]int, len(list))
	for i := range at {
		at[i] = i
	}
	slices.SortStableFunc(at, func(a, b int) int { return cmp.Compare(order(list[a]), order(list[b])) })
	lines := make([]Outcome, len(list))
	for _, i := range at {
		o := &list[i]
		lines[i] = m.line(name, o)
	}
	m.lines = append(m.lines, lines...)
}

// line says what becomes of a line, and takes it.
func (m *Merger) line(source string, o *item) Outcome {
	l := Outcome{ID: m.lineID(o.number), Source: source, Number: o.number, Text: o.text, Cells: o.cells}
	switch {
	case o.skip:
		l.State, l.Says = Skipped, o.why
		return l
	case o.why != "":
		l.State, l.Says = Wrong, o.why
		return l
	}
	switch o.kind {
	case site.KindNetwork:
		m.network(&l, o)
	case site.KindPool:
		m.pool(&l, o)
	case site.KindExclusion:
		m.exclusion(&l, o)
	default:
		m.holder(&l, o)
	}
	if o.asTyped != "" && l.Can {
		l.Says += fmt.Sprintf("; %q is no host name, so it is called %s", clip(o.asTyped), o.fields["name"])
	}
	return l
}

// put reads an entry, and says what becomes of its line. done is called when it is taken.
func (m *Merger) put(l *Outcome, e edit.Entry, before []edit.Edit, done func()) {
	base := m.site
	if len(before) > 0 {
		now, err := edit.Apply(base, before...)
		if err != nil {
			l.State, l.Says = Wrong, "It cannot be added: "+err.Error()
			return
		}
		base = now
	}
	edits, err := edit.Read(base, e)
	var fields site.FieldErrors
	switch {
	case errors.As(err, &fields):
		var says []string
		for _, f := range fields {
			says = append(says, f.Field+": "+f.Says)
		}
		l.State, l.Says = Wrong, strings.Join(says, "; ")
		return
	case err != nil:
		l.State, l.Says = Wrong, err.Error()
		return
	case len(edits) == 0:
		if l.State == "" {
			l.State, l.Says = Same, "The site has it so"
		}
		return
	}
	if l.State == "" {
		l.State = Changed
		if e.New {
			l.State = Added
		}
	}
	if l.Says == "" {
		l.Says = edit.Describe(base, edits[0])
	}
	l.Can = true
	if l.Taken = m.takes(*l); !l.Taken {
		return
	}
	m.edits = append(append(m.edits, before...), edits...)
	if e.Kind == site.KindNetwork || e.Kind == site.KindPool || len(before) > 0 {
		// What holds an address is read without the others that do, so that it is put there all at once.
		if now, err := edit.Apply(base, edits...); err == nil {
			m.site = now
		}
	}
	if done != nil {
		done()
	}
}

// network takes a line about a network.
func (m *Merger) network(l *Outcome, o *item) {
	p, err := address.ParsePrefix(o.fields["prefix"])
	if err != nil {
		l.State, l.Says = Wrong, err.Error()
		return
	}
	e := edit.Entry{Kind: site.KindNetwork, Fields: o.fields}
	for _, n := range m.site.Networks {
		switch {
		case n.Prefix.Masked() == p.Masked():
			e.ID = n.ID
		case n.Prefix.Overlaps(p):
			l.State, l.Says = Conflict, fmt.Sprintf("%s overlaps %s, %s", p, n.Name, n.Prefix)
			return
		}
	}
	if e.ID == "" {
		e.New, e.ID = true, m.newID(site.KindNetwork)
		if o.fields["name"] == "" {
			e.Fields["name"] = p.String()
		}
	}
	m.put(l, e, nil, nil)
}

// home is the network that a line is about: that of its address, else the one that it names. before makes a network
// that the site does not have and the line says the prefix of.
func (m *Merger) home(o *item) (n *site.Network, before []edit.Edit, why string) {
	at, _, _ := strings.Cut(o.fields["address"]+o.fields["ranges"], "-")
	if at = strings.TrimSpace(at); numbers.MatchString(at) {
		if _, err := netip.ParseAddr(at); err != nil {
			return nil, nil, fmt.Sprintf("%s is no address; its numbers end at 255", clip(at))
		}
	}
	if a, err := netip.ParseAddr(at); err == nil {
		for i := range m.site.Networks {
			if m.site.Networks[i].Prefix.Contains(a) {
				return &m.site.Networks[i], nil, ""
			}
		}
		if p, err := netip.ParsePrefix(o.prefix); err == nil && p.Contains(a) {
			return m.fresh(o)
		}
		return nil, nil, fmt.Sprintf("No network of the site has %s; add a line or a column with its prefix", a)
	}
	for i := range m.site.Networks {
		n := &m.site.Networks[i]
		if o.prefix == n.Prefix.String() || o.network != "" && strings.EqualFold(o.network, n.Name) ||
			o.prefix == "" && o.network == "" && o.vlan != "" && o.vlan == fmt.Sprint(n.VLAN) {
			return n, nil, ""
		}
	}
	if o.prefix != "" {
		return m.fresh(o)
	}
	return nil, nil, "It says of no address which network it is on"
}

// numbers is what looks like an address.
var numbers = regexp.MustCompile(`^\d+(\.\d+){3}$`)

// fresh makes the network of a line.
func (m *Merger) fresh(o *item) (*site.Network, []edit.Edit, string) {
	fields := map[string]string{"name": cmp.Or(o.network, o.prefix), "prefix": o.prefix}
	if o.vlan != "" {
		fields["vlan"] = o.vlan
	}
	id := m.newID(site.KindNetwork)
	edits, err := edit.Read(m.site, edit.Entry{Kind: site.KindNetwork, ID: id, New: true, Fields: fields})
	if err != nil {
		return nil, nil, "Its network cannot be added: " + err.Error()
	}
	now, err := edit.Apply(m.site, edits...)
	if err != nil {
		return nil, nil, "Its network cannot be added: " + err.Error()
	}
	n, _ := now.Network(id)
	return n, edits, ""
}

// pool takes a line about the addresses that are handed out.
func (m *Merger) pool(l *Outcome, o *item) {
	n, before, why := m.home(o)
	if n == nil {
		l.State, l.Says = Wrong, why
		return
	}
	r, err := address.ParseRange(o.fields["ranges"], n.Prefix)
	if err != nil {
		l.State, l.Says = Wrong, err.Error()
		return
	}
	e := edit.Entry{Kind: site.KindPool, Fields: o.fields}
	for _, p := range m.site.Pools {
		if p.Network != n.ID {
			continue
		}
		named := o.fields["name"] != "" && strings.EqualFold(p.Name, o.fields["name"])
		switch {
		case slices.Contains(p.Ranges, r):
			l.State, l.Says = Same, "The site has it so"
			return
		case slices.ContainsFunc(p.Ranges, func(own address.Range) bool { return own.Overlaps(r) }) && !named:
			l.State, l.Says = Conflict, fmt.Sprintf("%s is in pool %s already", r, p.Name)
			return
		case named && len(p.Ranges) == 1:
			e.ID = p.ID
		}
	}
	if e.ID == "" {
		e.New, e.ID = true, m.newID(site.KindPool)
		e.Fields["network"] = n.ID
		e.Fields["enabled"] = "true" // as one that is typed in
		if e.Fields["name"] == "" {
			e.Fields["name"] = n.Name
		}
	}
	m.put(l, e, before, nil)
}

// exclusion takes a line about an exclusion that the site has; others are typed into their pool.
func (m *Merger) exclusion(l *Outcome, o *item) {
	for _, p := range m.site.Pools {
		for _, x := range p.Exclusions {
			if r, err := address.ParseRange(o.fields["address"], netip.Prefix{}); err == nil && r == x.Range {
				l.State, l.Says = Same, "The site has it so"
				return
			}
		}
	}
	l.State, l.Says = Wrong, "An exclusion is made in its pool, with its reason"
}

// holder takes a line about a reservation, a fixed device or an interface.
func (m *Merger) holder(l *Outcome, o *item) {
	n, before, why := m.home(o)
	if n == nil {
		l.State, l.Says = Wrong, why
		return
	}
	mac := ""
	if parsed, err := address.ParseMAC(o.fields["mac"]); err == nil {
		mac = parsed.String()
	}
	a, err := address.ParseAddr(o.fields["address"], n.Prefix)
	known, has := m.macs[macKey(o.kind, n.ID, mac)]
	has = has && mac != ""
	if why := m.unusable(n, a, err == nil, o); why != "" {
		l.State, l.Says = Wrong, why
		return
	}
	if client := o.fields["clientId"]; client != "" && !m.knows(a, client) {
		l.State, l.Says = Wrong, fmt.Sprintf("%q is no MAC", clip(client))
		return
	}
	e := edit.Entry{Kind: o.kind, Fields: o.fields}
	switch {
	case err != nil && o.fields["address"] != "":
		l.State, l.Says = Wrong, err.Error()
		return
	case err != nil && has:
		if known.line != 0 {
			l.State, l.Says = Conflict, onLine(mac, known)
			return
		}
		e.ID = known.ref.ID
		m.put(l, e, before, nil)
		return
	case err != nil && o.kind == site.KindReservation && o.fields["name"]+mac != "":
		if a, has = m.nextFree(n); !has {
			l.State, l.Says = Wrong, fmt.Sprintf("No address, and none of %s is free", n.Prefix)
			return
		}
		o.fields["address"] = a.String()
		l.Says = "New, at the next free address, " + a.String()
		known, has = machine{}, false
	case err != nil:
		l.State, l.Says = Wrong, "No address; type the one that it holds"
		return
	}
	if !m.judgeAddress(l, o, a, mac, known, has, &e) {
		return
	}
	if e.ID == "" {
		e.New, e.ID = true, m.newID(o.kind)
		e.Fields["network"] = n.ID
	}
	ref := site.Ref{Kind: o.kind, ID: e.ID}
	m.put(l, e, before, func() {
		m.note(ref, a, mac, cmp.Or(o.fields["name"], a.String()), n.ID, o.number)
	})
}

// knows reports whether the reservation of an address is for a client identifier: new ones are typed into the site.
func (m *Merger) knows(a netip.Addr, client string) bool {
	r, ok := m.site.Reservation(m.owners[a].ref.ID)
	return ok && r.Client == client
}

// judgeAddress judges who has the address of a line, and whether the line is about them. It is false where that settles
// the line.
func (m *Merger) judgeAddress(
	l *Outcome, o *item, a netip.Addr, mac string, known machine, has bool, e *edit.Entry,
) (goesOn bool) {
	held, taken := m.owners[a]
	switch {
	case has && known.line != 0 && known.at != a:
		l.State, l.Says = Conflict, onLine(mac, known)
		return false
	case !taken && has:
		e.ID = known.ref.ID // it moves here
	case !taken:
	case held.line != 0:
		l.State, l.Says = Conflict, fmt.Sprintf("%s is on line %d already", a, held.line)
		return false
	case held.ref.Kind == site.KindInterface && (o.kind == site.KindInterface || mac == ""):
		l.State, l.Says = Same, fmt.Sprintf("The site has it as %s", held.name)
		return false
	case held.ref.Kind != o.kind:
		l.State, l.Says = Conflict, fmt.Sprintf("%s is the %s's. Settle that in the site first", a, held.name)
		return false
	case has && known.ref != held.ref:
		l.State, l.Says = Conflict, fmt.Sprintf("%s is the %s's, and %s has another address here", a, held.name, mac)
		return false
	default:
		e.ID = held.ref.ID
		if theirs, another := anotherMAC(held.mac, mac); another {
			l.State = Conflict
			l.Says = fmt.Sprintf("%s is the %s's, with the MAC %s; taken, it is given to %s", a, held.name, theirs, mac)
		}
	}
	if p, in := m.pooled(a); in && !taken && o.kind == site.KindFixedDevice {
		l.State = Conflict
		l.Says = fmt.Sprintf("%s is in pool %s, which may give it to a client; taken, it has to be excluded there", a,
			p)
	}
	if o.kind == site.KindInterface {
		l.State, l.Says = Wrong, "Interfaces are read from their device, or typed there"
		return false
	}
	return true
}

// anotherMAC is the MAC that holds an address, where that is known and not the one of a line.
func anotherMAC(holder, mac string) (theirs address.MAC, another bool) {
	theirs, err := address.ParseMAC(holder)
	return theirs, mac != "" && err == nil && !theirs.IsZero() && theirs.String() != mac
}

// pooled is the pool that hands out an address.
func (m *Merger) pooled(a netip.Addr) (name string, in bool) {
	for _, p := range m.site.Pools {
		excluded := slices.ContainsFunc(p.Exclusions, func(x site.Exclusion) bool { return x.Range.Contains(a) })
		if p.Enabled && !excluded && slices.ContainsFunc(p.Ranges,
			func(r address.Range) bool { return r.Contains(a) }) {
			return p.Name, true
		}
	}
	return "", false
}

// onLine says that a MAC stands on another line.
func onLine(mac string, known machine) string {
	return fmt.Sprintf("%s is on line %d already, with %s", mac, known.line, known.at)
}

// unusable says why nobody can have what a line says of a machine: an address that is none or that no host holds, a MAC
// of a group; empty where somebody may. read reports whether a is the address of the line.
func (m *Merger) unusable(n *site.Network, a netip.Addr, read bool, o *item) string {
	if mac, err := address.ParseMAC(o.fields["mac"]); err == nil && mac.IsGroup() {
		return fmt.Sprintf("%s is the MAC of a group, and of no machine; read it again from the machine", mac)
	}
	usable := address.Usable(n.Prefix)
	switch {
	case !read || usable.Contains(a) || !n.Prefix.Contains(a):
		return ""
	case a == n.Prefix.Masked().Addr():
		return fmt.Sprintf("%s is the address of the network %s itself", a, n.Name)
	}
	return fmt.Sprintf("%s is the broadcast address of %s", a, n.Name)
}

// nextFree is the next address of a network that nobody has and no line names.
func (m *Merger) nextFree(n *site.Network) (netip.Addr, bool) {
	if m.free[n.ID] == nil {
		m.free[n.ID], _ = iter.Pull(site.Free(m.site, n))
	}
	for {
		a, ok := m.free[n.ID]()
		if !ok {
			return a, false
		}
		if _, taken := m.owners[a]; !taken && !m.named[a] {
			return a, true
		}
	}
}
