// Package drawing works out the drawings of a site: the Section, the ruler and
// the list of owners, in offsets and weights that the browser only scales.
package drawing

import (
	"cmp"
	"math/bits"
	"net/netip"
	"slices"
	"time"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/observed"
	"lithos/core/site"
)

// Layer is one layer of the Section: a network, or free space between them.
type Layer struct {
	Kind     string         `json:"kind" enum:"network,free"`
	ID       string         `json:"id,omitempty"`
	Name     string         `json:"name,omitempty"`
	VLAN     int            `json:"vlan,omitempty"`
	Prefix   string         `json:"prefix,omitempty"` // empty for free space that is not one prefix
	Text     string         `json:"text"`             // the prefix, or the ends of such space
	Size     int            `json:"size"`             // addresses
	Weight   float64        `json:"weight"`           // thickness, log2 of the size
	Pool     int            `json:"pool"`             // addresses its pools can hand out
	Used     int            `json:"used"`             // of those, seen in use
	Percent  int            `json:"percent"`
	Crowded  bool           `json:"crowded,omitempty"` // more than crowded in 100 of its pools are in use
	Severity check.Severity `json:"severity,omitempty"`
	Findings int            `json:"findings"`
	Overlaps bool           `json:"overlaps,omitempty"` // with the network before it
	first    netip.Addr
}

// Section lists the layers of a site's blocks from low to high address. findings are
// all of the site, those of its surroundings included.
func Section(sc *check.Scene, findings []check.Finding, sightings []observed.Sighting) []Layer {
	marks := ByNetwork(findings)
	live := Live(sightings, nil)
	out := []Layer{}
	var taken []address.Range
	var reached netip.Addr
	for i := range sc.Networks {
		n := &sc.Networks[i]
		l := LayerOf(sc, n, marks[n.ID], live)
		l.Overlaps = reached.IsValid() && !reached.Less(n.Prefix.Masked().Addr())
		out = append(out, l)
		taken = append(taken, address.Of(n.Prefix.Masked()))
		if end := address.Of(n.Prefix).To; !reached.IsValid() || reached.Less(end) {
			reached = end
		}
	}
	var blocks []address.Range
	for _, b := range sc.Block {
		blocks = append(blocks, address.Of(b))
	}
	for _, r := range address.Ranges(blocks, taken) {
		l := Layer{Kind: "free", Size: r.Size(), Weight: float64(bits.Len(uint(r.Size())) - 1), first: r.From}
		if p, ok := onePrefix(r); ok {
			l.Prefix, l.Text = p.String(), p.String()
		} else {
			in := slices.IndexFunc(sc.Block, func(b netip.Prefix) bool { return b.Contains(r.From) })
			l.Text = r.Short(sc.Block[in])
		}
		at, _ := slices.BinarySearchFunc(out, r.From, func(l Layer, a netip.Addr) int { return l.first.Compare(a) })
		out = slices.Insert(out, at, l)
	}
	return out
}

// crowded is the share of a network's pool addresses in use, in 100, above which its
// layer says so.
const crowded = 85

// LayerOf is the layer of one network, as Section has it but for overlaps. live are the
// addresses seen in use.
func LayerOf(sc *check.Scene, n *site.Network, marks Marks, live []netip.Addr) Layer {
	u := usage(sc, n, live)
	l := Layer{
		Kind: "network", ID: n.ID, Name: n.Name, VLAN: n.VLAN, Prefix: n.Prefix.String(), Text: n.Prefix.String(),
		Size: address.Of(n.Prefix).Size(), Weight: float64(32 - n.Prefix.Bits()), Pool: u.pool, Used: u.used,
		Findings: marks.Findings, Severity: marks.Severity, first: n.Prefix.Masked().Addr(),
	}
	if u.pool > 0 {
		l.Percent = (100*u.used + u.pool/2) / u.pool
	}
	l.Crowded = l.Percent > crowded
	return l
}

func onePrefix(r address.Range) (netip.Prefix, bool) {
	p := netip.PrefixFrom(r.From, 33-bits.Len(uint(r.Size())))
	return p, p.IsValid() && address.Of(p) == r
}

// Marks are how many findings something has, and how grave they are.
type Marks struct {
	Findings int            `json:"findings"`
	Severity check.Severity `json:"severity,omitempty"` // of the gravest
}

// ByNetwork counts findings, which come gravest first, by network; those of no network
// in particular are at "".
func ByNetwork(findings []check.Finding) map[string]Marks {
	out := map[string]Marks{}
	for _, f := range findings {
		m := out[f.Network]
		m.Findings++
		m.Severity = cmp.Or(m.Severity, f.Severity)
		out[f.Network] = m
	}
	return out
}

type use struct{ pool, used int }

// Live lists the addresses seen in use, in order; those of one network where n is not
// nil.
func Live(sightings []observed.Sighting, n *site.Network) []netip.Addr {
	var live []netip.Addr
	for i := range sightings {
		if v := &sightings[i]; v.Live && (n == nil || n.Prefix.Contains(v.Address)) {
			live = append(live, v.Address)
		}
	}
	slices.SortFunc(live, netip.Addr.Compare)
	return slices.Compact(live)
}

// usage counts the addresses the pools of a network can hand out and those of them
// seen in use.
func usage(sc *check.Scene, n *site.Network, live []netip.Addr) use {
	var u use
	for _, p := range sc.PoolsOn(n) {
		for _, r := range Offered(sc, p) {
			u.pool += r.Size()
			u.used += len(site.Within(live, r, func(a *netip.Addr) netip.Addr { return *a }))
		}
	}
	return u
}

// Offered is what a pool may hand out to anyone: its ranges minus its
// exclusions minus every address something else owns.
func Offered(sc *check.Scene, p *site.Pool) []address.Range {
	keep := p.Ranges
	if n, ok := sc.Network(p.Network); ok {
		keep = nil
		for _, r := range p.Ranges {
			if part, ok := r.Intersect(address.Usable(n.Prefix)); ok {
				keep = append(keep, part)
			}
		}
	}
	var cut []address.Range
	for _, x := range p.Exclusions {
		cut = append(cut, x.Range)
	}
	for _, r := range keep {
		for _, a := range sc.Owned(r) {
			cut = append(cut, address.Single(a))
		}
	}
	return address.Ranges(keep, cut)
}

// Row is one line of the list of owners of a network.
type Row struct {
	Line
	Seen     *time.Time `json:"seen,omitempty"` // last seen
	Findings []string   `json:"findings,omitempty"`
}

// useOf is the kind of a row in words: that of its part, but for a gateway and for what no
// part owns.
func useOf(kind string) string {
	switch kind {
	case "gateway":
		return "Gateway"
	case "unrecorded":
		return "Unrecorded"
	}
	k, _ := site.KindNamed(kind)
	return k.Title()
}

// Line is what of a row can be compared as it is.
type Line struct {
	Ref      string         `json:"ref"` // kind:id of the part; "seen:address" for what no part owns
	In       string         `json:"in,omitempty"`
	Kind     string         `json:"kind" enum:"gateway,interface,fixed,reservation,pool,exclusion,unrecorded"`
	From     netip.Addr     `json:"from"`
	To       netip.Addr     `json:"to"`
	Use      string         `json:"use"`  // the kind in words
	Text     string         `json:"text"` // the address or range as shown
	Name     string         `json:"name"`
	MAC      address.MAC    `json:"mac,omitzero"`
	Detail   string         `json:"detail,omitempty"`
	Used     int            `json:"used,omitempty"` // of a pool
	Size     int            `json:"size,omitempty"` // of a pool, what it can hand out
	On       bool           `json:"on,omitempty"`   // of a pool
	Severity check.Severity `json:"severity,omitempty"`
}

// Equal reports whether two rows say the same.
func (r Row) Equal(o Row) bool {
	seen := r.Seen == o.Seen || r.Seen != nil && o.Seen != nil && r.Seen.Equal(*o.Seen)
	return r.Line == o.Line && seen && slices.Equal(r.Findings, o.Findings)
}

// Rows lists everything that owns an address of a network, in address order.
func Rows(sc *check.Scene, n *site.Network, findings []check.Finding, sightings []observed.Sighting) []Row {
	rows := holders(sc, n)
	recorded := make(map[netip.Addr]bool, len(rows))
	for i := range rows {
		recorded[rows[i].From] = true
	}
	for _, p := range sc.PoolsOn(n) {
		rows = append(rows, poolRows(sc, p, sightings)...)
	}
	for _, v := range sightings {
		if n.Prefix.Contains(v.Address) && v.Live && !recorded[v.Address] && !inPools(sc, n, v.Address) {
			rows = append(rows, Row{Line: Line{Ref: "seen:" + v.Address.String(), Kind: "unrecorded", From: v.Address,
				To: v.Address, Name: v.Name, MAC: v.MAC}})
		}
	}
	last := map[netip.Addr]time.Time{}
	for _, v := range sightings {
		if n.Prefix.Contains(v.Address) && v.Last.After(last[v.Address]) {
			last[v.Address] = v.Last.Truncate(observed.Grain)
		}
	}
	concerns := map[site.Ref][]check.Finding{}
	for _, f := range findings {
		for _, p := range f.Parts {
			concerns[p] = append(concerns[p], f)
		}
	}
	for i := range rows {
		r := &rows[i]
		r.Use = useOf(r.Kind)
		r.Text = address.Range{From: r.From, To: r.To}.Short(n.Prefix)
		if r.From == r.To {
			r.Text = r.From.String()
			if t, ok := last[r.From]; ok {
				r.Seen = &t
			}
		}
		if len(concerns) == 0 {
			continue
		}
		for _, f := range concerns[site.ParseRef(r.Ref)] {
			r.Findings = append(r.Findings, f.ID)
			if r.Severity == "" {
				r.Severity = f.Severity
			}
		}
	}
	slices.SortStableFunc(rows, inOrder)
	return rows
}

// inOrder is the order of the list: by address, what is larger first.
func inOrder(a, b Row) int {
	return cmp.Or(a.From.Compare(b.From), b.To.Compare(a.To), cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Ref, b.Ref))
}

// called is what people call what the row is of: its name, or for an interface the
// device's name with its own.
func (l *Line) called() string {
	if l.Kind == "interface" {
		return l.Detail + " of " + l.Name
	}
	return cmp.Or(l.Name, l.From.String())
}

// spare is room for the rows of a network beside its reservations.
const spare = 32

// holds reports whether the row is of something that holds one address for itself.
func (l *Line) holds() bool {
	return l.Kind == "gateway" || l.Kind == "interface" || l.Kind == "fixed" || l.Kind == "reservation"
}

// holders lists what holds one address of a network for itself, in no order.
func holders(sc *check.Scene, n *site.Network) []Row {
	many := spare
	for range sc.On(n) {
		many++
	}
	rows := make([]Row, 0, many)
	sc.InterfacesIn(n, func(d *site.Device, i *site.Interface, at netip.Addr) {
		kind := "interface"
		if at == n.Gateway {
			kind = "gateway"
		}
		rows = append(rows, Row{Line: Line{Ref: site.KindInterface + ":" + i.ID, In: site.KindDevice + ":" + d.ID,
			Kind: kind, From: at, To: at, Name: d.Name, Detail: i.Name}})
	})
	for i := range sc.FixedDevices {
		if f := &sc.FixedDevices[i]; f.Network == n.ID {
			rows = append(rows, Row{Line: Line{Ref: site.KindFixedDevice + ":" + f.ID, Kind: "fixed", From: f.Address,
				To: f.Address, Name: f.Name, MAC: f.MAC, Detail: f.Note}})
		}
	}
	for r := range sc.On(n) {
		rows = append(rows, Row{Line: Line{Ref: site.KindReservation + ":" + r.ID, Kind: "reservation", From: r.Address,
			To: r.Address, Name: r.Name, MAC: r.MAC}})
	}
	return rows
}

func inPools(sc *check.Scene, n *site.Network, a netip.Addr) bool {
	return slices.ContainsFunc(sc.PoolsOn(n), func(p *site.Pool) bool { return p.Offers(a) })
}

// poolRows cuts a pool's ranges at its exclusions, so that the list reads in
// address order.
func poolRows(sc *check.Scene, p *site.Pool, sightings []observed.Sighting) []Row {
	var rows []Row
	var cut []address.Range
	in := site.KindPool + ":" + p.ID
	for _, x := range p.Exclusions {
		cut = append(cut, x.Range)
		rows = append(rows, Row{Line: Line{Ref: site.KindExclusion + ":" + x.ID, In: in, Kind: "exclusion",
			From: x.Range.From, To: x.Range.To, Name: x.Reason}})
	}
	offered := Offered(sc, p)
	for _, r := range address.Ranges(p.Ranges, cut) {
		row := Row{Line: Line{Ref: in, Kind: "pool", From: r.From, To: r.To, Name: p.Name, On: p.Enabled}}
		for _, o := range offered {
			if part, ok := o.Intersect(r); ok {
				row.Size += part.Size()
			}
		}
		for _, v := range sightings {
			if v.Live && r.Contains(v.Address) &&
				slices.ContainsFunc(offered, func(o address.Range) bool { return o.Contains(v.Address) }) {
				row.Used++
			}
		}
		rows = append(rows, row)
	}
	return rows
}

// Places is the network that each of some parts belongs to, where it has one.
func Places(s *site.Site, of map[site.Ref]bool) map[site.Ref]string {
	at := map[site.Ref]string{}
	put := func(kind, id, network string) {
		if ref := (site.Ref{Kind: kind, ID: id}); of[ref] {
			at[ref] = network
		}
	}
	for _, n := range s.Networks {
		put(site.KindNetwork, n.ID, n.ID)
	}
	for _, p := range s.Pools {
		put(site.KindPool, p.ID, p.Network)
		for _, x := range p.Exclusions {
			put(site.KindExclusion, x.ID, p.Network)
		}
	}
	for _, r := range s.Reservations {
		put(site.KindReservation, r.ID, r.Network)
	}
	for _, f := range s.FixedDevices {
		put(site.KindFixedDevice, f.ID, f.Network)
	}
	for _, d := range s.Devices {
		for _, i := range d.Interfaces {
			if len(i.Addresses) == 0 {
				continue
			}
			if n, ok := s.NetworkOf(i.Addresses[0].Addr()); ok {
				put(site.KindInterface, i.ID, n.ID)
			}
		}
	}
	return at
}
