// Package move renumbers networks: it maps each old address to a new one, carries along everything that mentions an
// old one, cuts the change into phases that are work orders each, proves the order of their steps, and simulates the
// night for every known client with the real DHCP engine.
//
// It asks no database, no device and no clock.
package move

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/site"
)

// How host numbers are kept.
const (
	SameNumber = "number"   // the same offset from the first address of the network
	InWindow   = "window"   // the same offset in the same window of the standard
	Packed     = "packed"   // one after another from the lowest free one
	ByUse      = "standard" // each into the window that the standard sets aside for its use
)

// Request is what is to be moved, and how.
type Request struct {
	Title    string       `json:"title" maxLength:"120" doc:"what people call the move"`
	Ticket   string       `json:"ticket,omitempty" maxLength:"60"`
	Shifts   []Shift      `json:"shifts" maxItems:"200" doc:"the networks, each at most once; with a block and none listed, all of them"`
	Untagged []Retag      `json:"untagged,omitempty" maxItems:"200" doc:"untagged VLAN ids of ports, both ends of their cables"`
	Block    netip.Prefix `json:"block,omitzero" doc:"the block that takes the place of the site's; unchanged when not given"`
	Night    time.Time    `json:"night" doc:"when the swap begins"`
	Lease    int          `json:"lease,omitempty" minimum:"60" maximum:"86400" doc:"lease time before the swap, in seconds; none: 1800"`
	OneNight bool         `json:"oneNight,omitempty" doc:"a straight swap, with no phase before or after it"`
	Beside   bool         `json:"beside,omitempty" doc:"bring the new subnets up beside the old ones first"`
}

// Shift is what becomes of one network.
type Shift struct {
	Network string            `json:"network" doc:"id of the network"`
	Prefix  netip.Prefix      `json:"prefix,omitzero" doc:"its new subnet; unchanged when not given"`
	VLAN    int               `json:"vlan,omitempty" minimum:"0" maximum:"4094" doc:"its new VLAN id; unchanged when 0"`
	Gateway netip.Addr        `json:"gateway,omitzero" doc:"its new gateway; by the rule when not given"`
	Device  string            `json:"device,omitempty" doc:"id of the device that routes it from then on"`
	Parent  string            `json:"parent,omitempty" doc:"name of that device's interface that carries the new VLAN interface"`
	Rule    string            `json:"rule,omitempty" enum:"number,window,packed,standard" doc:"how host numbers are kept; none: number"`
	Grow    bool              `json:"grow,omitempty" doc:"pools grow with the network"`
	To      map[string]string `json:"to,omitempty" doc:"chosen new addresses by the old; +12 is the twelfth after the first"`
	Into    string            `json:"into,omitempty" doc:"id of the network that it joins"`
	Pieces  []Piece           `json:"pieces,omitempty" maxItems:"8" doc:"networks that parts of it become"`
}

// Piece is a network that a part of another becomes.
type Piece struct {
	Name   string        `json:"name" maxLength:"63"`
	Takes  address.Range `json:"takes" doc:"the old addresses that go there"`
	Prefix netip.Prefix  `json:"prefix"`
	VLAN   int           `json:"vlan,omitempty" minimum:"0" maximum:"4094"`
	// Gateway is the first free address of it where none is given.
	Gateway netip.Addr `json:"gateway,omitzero"`
	// Ports are the ids of the ports of the old network that are in the new one from then on.
	Ports []string `json:"ports,omitempty" maxItems:"1000"`
}

// Retag is the untagged VLAN id of a port and of the port at the other end of its cable.
type Retag struct {
	Interface string `json:"interface" doc:"id of a port"`
	VLAN      int    `json:"vlan" minimum:"1" maximum:"4094"`
}

// usualLease is the lease time before a swap where none is asked for, in seconds.
const usualLease = 1800

// Wrong is a field of a request that cannot be, with what to type instead.
type Wrong struct{ Field, Says string }

// Error implements error.
func (w *Wrong) Error() string { return w.Says }

func wrong(field, format string, args ...any) error {
	return &Wrong{field, fmt.Sprintf(format, args...)}
}

// Plan is a move of a site: the mapping, and the site as it will be.
type Plan struct {
	Request Request
	Was     *site.Site
	Will    *site.Site
	Threads []Thread
	Bands   []Band
	Rows    []Moved
	Notes   []Mention // free text that mentions an old address, to check by hand

	m *mapping
}

// Of plans a move of a site. An error of type *Wrong names the field of the request that cannot be.
func Of(s *site.Site, r Request) (*Plan, error) {
	if err := intoBlock(s, &r); err != nil {
		return nil, err
	}
	m, err := mapped(s, r)
	if err != nil {
		return nil, err
	}
	p := &Plan{Request: r, Was: s, m: m}
	if p.Will, err = m.carried(s); err != nil {
		return nil, err
	}
	p.Threads, p.Bands = m.threads, m.bands
	p.Rows = rowsOf(m, s, p.Will)
	p.Notes = m.mentions(s)
	return p, nil
}

// Old lists the prefixes that no network of the site has any more.
func (p *Plan) Old() []netip.Prefix {
	var out []netip.Prefix
	for _, f := range p.m.sources {
		gone := !slices.ContainsFunc(p.Will.Networks,
			func(n site.Network) bool { return n.Prefix.Overlaps(f.was.Prefix) })
		if gone && !slices.Contains(out, f.was.Prefix.Masked()) {
			out = append(out, f.was.Prefix.Masked())
		}
	}
	return out
}

// New are the subnets that the move brings in, where the site had nothing before: those that are gone when it is taken
// back.
func (p *Plan) New() []netip.Prefix {
	var out []netip.Prefix
	for _, f := range p.m.sources {
		to := f.target.Prefix.Masked()
		had := slices.ContainsFunc(p.Was.Networks, func(n site.Network) bool { return n.Prefix.Overlaps(to) })
		if !had && !slices.Contains(out, to) {
			out = append(out, to)
		}
	}
	return out
}

// Elsewhere is another site of the customer with what points at moved addresses, and a row for each such place. It is
// the site itself where nothing does.
func (p *Plan) Elsewhere(other *site.Site) (*site.Site, []Moved, error) {
	doc, err := p.m.pointed(other)
	if err != nil {
		return nil, nil, err
	}
	return doc, rowsOf(p.m, other, doc), nil
}

// Joined is what networks become part of, by their ids.
func (p *Plan) Joined() map[string]string {
	out := map[string]string{}
	for _, sh := range p.Request.Shifts {
		if sh.Into != "" {
			out[sh.Network] = sh.Into
		}
	}
	return out
}

// BroughtIn lists the findings that a move brings into a site: not those that it carries along to another address.
func BroughtIn(was, will []check.Finding) []check.Finding {
	type kind struct{ rule, parts string }
	of := func(f check.Finding) kind {
		// A reverse zone is another one afterwards.
		parts := slices.DeleteFunc(slices.Clone(f.Parts), func(r site.Ref) bool { return r.Kind == site.KindZone })
		if len(parts) == 0 {
			parts = f.Parts
		}
		return kind{f.Rule, fmt.Sprint(parts)}
	}
	had := map[kind]bool{}
	for _, f := range was {
		had[of(f)] = true
	}
	return slices.DeleteFunc(check.Added(was, will), func(f check.Finding) bool { return had[of(f)] })
}

// source is a network that moves, or a part of one, and the target it goes to.
type source struct {
	was    *site.Network
	shift  *Shift
	takes  address.Range // the old addresses that go to the target
	target *target
	ports  []string // ids of those that are in a piece from then on
}

// target is a network as it will be.
type target struct {
	site.Network
	fresh bool // no network has its id yet
	like  string
	taken map[netip.Addr]bool
	pools []address.Range
	// excluded are parts of them that are handed out to nobody.
	excluded []address.Range
}

func (t *target) usable(a netip.Addr) bool { return address.Usable(t.Prefix).Contains(a) }

func (t *target) inPool(a netip.Addr) bool { return among(t.pools, a) && !among(t.excluded, a) }

func among(ranges []address.Range, a netip.Addr) bool {
	return slices.ContainsFunc(ranges, func(r address.Range) bool { return r.Contains(a) })
}

// free is the lowest usable address that nothing has and no pool may hand out.
func (t *target) free() (netip.Addr, bool) {
	u := address.Usable(t.Prefix)
	for n := address.Uint(u.From); n <= address.Uint(u.To); n++ {
		if a := address.FromUint(n); !t.taken[a] && !among(t.pools, a) {
			return a, true
		}
	}
	return netip.Addr{}, false
}

// targets reads a request: where each network, or part of one, goes.
func targets(s *site.Site, r Request) ([]*source, error) {
	if len(r.Shifts)+len(r.Untagged) == 0 {
		return nil, wrong("shifts", "Choose at least one network to move, or a port whose untagged VLAN changes")
	}
	if b := r.Block; b.IsValid() && (b != b.Masked() || !b.Addr().Is4() || b.Bits() < 8 || b.Bits() > 30) {
		return nil, wrong("block", "%s is not a block; type its first address and a length of 8 to 30", b)
	}
	byID := map[string]*target{}
	var out []*source
	for i := range r.Shifts {
		f, err := shifted(s, &r.Shifts[i], fmt.Sprintf("shifts[%d].", i), byID)
		if err != nil {
			return nil, err
		}
		out = append(out, f...)
	}
	for _, f := range out {
		if f.shift.Into == "" {
			continue
		}
		into, ok := byID[f.shift.Into]
		if !ok {
			n, known := s.Network(f.shift.Into)
			if !known || n.ID == f.was.ID {
				return nil, wrong("shifts", "%s joins a network that is not there; choose another one", f.was.Name)
			}
			into = &target{Network: *n, taken: map[netip.Addr]bool{}}
			byID[n.ID] = into
			out = append(out, &source{was: n, shift: &Shift{Network: n.ID}, takes: address.Of(n.Prefix), target: into})
		}
		f.target = into
	}
	return out, overlapping(s, out)
}

// intoBlock gives networks that have no new subnet of their own their place in the site's new block: the same offset.
func intoBlock(s *site.Site, r *Request) error {
	if !r.Block.IsValid() {
		return nil
	}
	r.Shifts = slices.Clone(r.Shifts)
	if len(r.Shifts) == 0 {
		for _, n := range s.Networks {
			r.Shifts = append(r.Shifts, Shift{Network: n.ID})
		}
	}
	for i := range r.Shifts {
		n, ok := s.Network(r.Shifts[i].Network)
		at := slices.IndexFunc(s.Block, func(b netip.Prefix) bool { return ok && b.Overlaps(n.Prefix) })
		if r.Shifts[i].Prefix.IsValid() || at < 0 {
			continue
		}
		first := address.Uint(n.Prefix.Masked().Addr()) - address.Uint(s.Block[at].Masked().Addr())
		p := netip.PrefixFrom(address.FromUint(address.Uint(r.Block.Addr())+first), n.Prefix.Bits())
		if !r.Block.Overlaps(p) || p.Bits() < r.Block.Bits() || p != p.Masked() {
			return wrong("block",
				"%s is too small: %s does not fit in it at its place. Type a larger block, or give the "+
					"network a subnet of its own", r.Block, n.Name)
		}
		r.Shifts[i].Prefix = p
	}
	return nil
}

func shifted(s *site.Site, sh *Shift, at string, byID map[string]*target) ([]*source, error) {
	n, ok := s.Network(sh.Network)
	if !ok {
		return nil, wrong(at+"network", "There is no such network; choose one of the site's")
	}
	if _, twice := byID[n.ID]; twice {
		return nil, wrong(at+"network", "%s is listed twice; list each network once", n.Name)
	}
	t := &target{Network: *n, taken: map[netip.Addr]bool{}}
	if sh.Prefix.IsValid() {
		if sh.Prefix != sh.Prefix.Masked() || !sh.Prefix.Addr().Is4() || sh.Prefix.Bits() < 8 || sh.Prefix.Bits() > 30 {
			return nil, wrong(at+"prefix", "%s is not a subnet; type its first address and a length of 8 to 30, "+
				"for example %s", sh.Prefix, sh.Prefix.Masked())
		}
		t.Prefix = sh.Prefix
	}
	if sh.VLAN != 0 {
		t.VLAN = sh.VLAN
	}
	if sh.Gateway.IsValid() && !t.usable(sh.Gateway) {
		return nil, notIn(at+"gateway", sh.Gateway, t.Prefix)
	}
	byID[n.ID] = t
	out := []*source{{was: n, shift: sh, takes: address.Of(n.Prefix), target: t}}
	for k := range sh.Pieces {
		piece, err := pieceOf(s, n, sh, k, fmt.Sprintf("%spieces[%d].", at, k))
		if err != nil {
			return nil, err
		}
		byID[piece.target.ID] = piece.target
		out = append(out, piece)
	}
	slices.Reverse(out) // the pieces' addresses are told first
	return out, nil
}

// pieceOf is the new network that a piece of one becomes, numbered from 0. Its fields begin with field.
func pieceOf(s *site.Site, n *site.Network, sh *Shift, number int, field string) (*source, error) {
	piece := sh.Pieces[number]
	if !piece.Prefix.IsValid() || piece.Prefix != piece.Prefix.Masked() || piece.Prefix.Bits() > 30 {
		return nil, wrong(field+"prefix", "Type the subnet of %s, for example 10.84.22.0/24", piece.Name)
	}
	if strings.TrimSpace(piece.Name) == "" {
		return nil, wrong(field+"name", "Type what the new network is called")
	}
	if !address.Of(n.Prefix).Covers(piece.Takes) {
		return nil, wrong(field+"takes", "%s has no addresses %s; type a range of %s", n.Name, piece.Takes, n.Prefix)
	}
	np := &target{Network: *n, fresh: true, like: n.ID, taken: map[netip.Addr]bool{}}
	np.ID = fmt.Sprintf("%s-%d", n.ID, number+2)
	np.Name, np.Prefix, np.VLAN, np.Gateway = piece.Name, piece.Prefix, piece.VLAN, piece.Gateway
	if piece.Gateway.IsValid() && !np.usable(piece.Gateway) {
		return nil, notIn(field+"gateway", piece.Gateway, piece.Prefix)
	}
	np.taken[piece.Gateway] = piece.Gateway.IsValid()
	for _, id := range piece.Ports {
		if _, port, ok := s.Interface(id); !ok || port.Untagged != n.VLAN {
			return nil, wrong(field+"ports", "One of the ports is not in %s without a tag; choose others", n.Name)
		}
	}
	return &source{was: n, shift: sh, takes: piece.Takes, target: np, ports: piece.Ports}, nil
}

func notIn(field string, a netip.Addr, p netip.Prefix) error {
	return wrong(field, "%s is no usable address of %s; type one of %s", a, p, address.Usable(p))
}

// overlapping refuses targets that overlap each other or networks that stay.
func overlapping(s *site.Site, all []*source) error {
	moved := map[string]bool{}
	for _, f := range all {
		moved[f.was.ID] = true
	}
	for i, f := range all {
		for _, o := range all[i+1:] {
			if f.target != o.target && f.target.Prefix.Overlaps(o.target.Prefix) {
				return wrong("shifts", "%s and %s would overlap: %s and %s. Give one of them another subnet",
					f.target.Name,
					o.target.Name, f.target.Prefix, o.target.Prefix)
			}
		}
		for _, n := range s.Networks {
			if !moved[n.ID] && n.Prefix.Overlaps(f.target.Prefix) {
				return wrong("shifts", "%s would overlap %s, which has %s. Give it another subnet", f.target.Name,
					n.Name,
					n.Prefix)
			}
		}
	}
	return nil
}
