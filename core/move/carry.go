package move

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"lithos/core/site"
	"lithos/core/zone"
)

// carried is the site with every network moved and everything that mentions an old address.
func (m *mapping) carried(s *site.Site) (*site.Site, error) {
	doc, err := m.rewritten(s)
	if err != nil {
		return nil, err
	}
	for _, f := range m.sources {
		m.network(doc, f)
	}
	m.owners(s, doc)
	m.serving(s, doc)
	m.ports(s, doc)
	m.joined(doc)
	m.reverse(s, doc)
	if b := m.request.Block; b.IsValid() {
		doc.Block = []netip.Prefix{b}
	}
	return site.Normal(doc), nil
}

// pointed is another site with what points at moved addresses pointing at the new ones.
func (m *mapping) pointed(s *site.Site) (*site.Site, error) {
	if !mentions(s, func(a netip.Addr) bool { return m.to[a].IsValid() && m.to[a] != a }) && !m.reverseAsked(s) {
		return s, nil
	}
	return m.rewritten(s)
}

func mentions(s *site.Site, what func(netip.Addr) bool) bool {
	for a := range site.Mentioned(s) {
		if what(a.Address) {
			return true
		}
	}
	return false
}

func (m *mapping) reverseAsked(s *site.Site) bool {
	for _, r := range s.Resolvers {
		for _, d := range r.Domains {
			if len(m.domains(d.Domain)) > 0 {
				return true
			}
		}
	}
	return false
}

// rewritten is a site with each old address that a value names replaced, in one pass, so that swapped networks do not
// meet half way.
func (m *mapping) rewritten(s *site.Site) (*site.Site, error) {
	raw, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	var tree any
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.UseNumber()
	if err := dec.Decode(&tree); err != nil {
		return nil, err
	}
	if raw, err = json.Marshal(m.value("", tree)); err != nil {
		return nil, err
	}
	doc := &site.Site{}
	if err := json.Unmarshal(raw, doc); err != nil {
		return nil, fmt.Errorf("the moved site cannot be read back: %w", err)
	}
	for i := range doc.Resolvers {
		m.askedFor(&doc.Resolvers[i])
	}
	return doc, nil
}

func (m *mapping) value(key string, v any) any {
	switch v := v.(type) {
	case map[string]any:
		for k := range v {
			if !site.HoldsRanges(k) { // they are given their places by what they are, not by their text
				v[k] = m.value(k, v[k])
			}
		}
	case []any:
		for i := range v {
			v[i] = m.value(key, v[i])
		}
	case string:
		if !site.ForPeople(key) && !strings.Contains(v, ".arpa") {
			return site.Literal.ReplaceAllStringFunc(site.InOctets(key, v, m.now), m.literal)
		}
	}
	return v
}

// now is the address that one becomes; itself where it stays.
func (m *mapping) now(a netip.Addr) netip.Addr {
	if to, moves := m.to[a]; moves {
		return to
	}
	return a
}

// literal is an address or a prefix as it will be.
func (m *mapping) literal(text string) string {
	if p, err := netip.ParsePrefix(text); err == nil {
		for _, f := range m.sources {
			if f.target.fresh {
				continue
			}
			if p == f.was.Prefix.Masked() {
				return f.target.Prefix.String()
			}
			if to, ok := m.to[p.Addr()]; ok && p.Bits() == f.was.Prefix.Bits() && f.takes.Contains(p.Addr()) {
				of, _ := m.of(p.Addr())
				return netip.PrefixFrom(to, of.target.Prefix.Bits()).String()
			}
		}
		if to, ok := m.to[p.Addr()]; ok && p.Bits() == 32 {
			return netip.PrefixFrom(to, 32).String()
		}
		return text
	}
	if a, err := netip.ParseAddr(text); err == nil {
		return m.now(a).String()
	}
	return text
}

// network is a network as it will be.
func (m *mapping) network(doc *site.Site, f *source) {
	if f.target.fresh {
		like, _ := doc.Network(f.target.like)
		n := f.target.Network
		n.Options = slices.Clone(like.Options)
		doc.Networks = append(doc.Networks, n)
		return
	}
	if n, ok := doc.Network(f.target.ID); ok {
		n.Prefix, n.VLAN, n.Gateway = f.target.Prefix, f.target.VLAN, f.target.Gateway
	}
}

// owners puts what has an address into the network that it goes to.
func (m *mapping) owners(s, doc *site.Site) {
	for i, r := range s.Reservations {
		if f, moves := m.of(r.Address); moves {
			doc.Reservations[i].Network = f.target.ID
		}
	}
	for i, x := range s.FixedDevices {
		if f, moves := m.of(x.Address); moves {
			doc.FixedDevices[i].Network = f.target.ID
		}
	}
}

// serving gives the pools their ranges, and the exclusions their places in them.
func (m *mapping) serving(s, doc *site.Site) {
	for i := range s.Pools {
		was := &s.Pools[i]
		for _, f := range m.sources {
			ranges, has := m.pools[site.Ref{Kind: f.target.ID, ID: was.ID}]
			if !has || f.was.ID != was.Network {
				continue
			}
			p := &doc.Pools[i]
			if f.target.fresh {
				copied := *was
				copied.ID = was.ID + strings.TrimPrefix(f.target.ID, f.target.like)
				copied.Name = was.Name + ", " + f.target.Name
				copied.Options = slices.Clone(p.Options)
				doc.Pools = append(doc.Pools, copied)
				p = &doc.Pools[len(doc.Pools)-1]
			}
			p.Network, p.Ranges = f.target.ID, ranges
			p.Exclusions = m.exclusions(s, f, was, p)
			if d := f.shift.Device; d != "" && !f.target.fresh {
				if was, _, _, ok := s.InterfaceOn(f.was); ok && was.ID == p.Server {
					p.Server = d
				}
			}
		}
	}
	doc.Pools = slices.DeleteFunc(doc.Pools, func(p site.Pool) bool { return len(p.Ranges) == 0 })
}

func (m *mapping) exclusions(s *site.Site, f *source, was, p *site.Pool) []site.Exclusion {
	var out []site.Exclusion
	for _, x := range was.Exclusions {
		part, goes := m.ownPart(f, x.Range)
		if !goes {
			continue
		}
		at, ok := f.placeOf(s, part)
		if !ok {
			continue
		}
		if f.target.fresh {
			x.ID += strings.TrimPrefix(f.target.ID, f.target.like)
		}
		id, pieces := x.ID, 0
		for _, r := range p.Ranges { // one over several ranges has a piece in each
			if in, ok := r.Intersect(at); ok {
				if pieces++; pieces > 1 {
					x.ID = fmt.Sprintf("%s-piece-%d", id, pieces)
				}
				x.Range = in
				out = append(out, x)
			}
		}
	}
	return out
}

// ports gives interfaces their VLAN ids and names, both ends of each trunk alike, and the device that routes a network
// from then on its interface.
func (m *mapping) ports(s, doc *site.Site) {
	for di := range doc.Devices {
		d := &doc.Devices[di]
		for ii := range d.Interfaces {
			i := &d.Interfaces[ii]
			if to, moves := m.vlans[i.VLAN]; moves && i.VLAN != 0 {
				renamed(d, i, to)
				i.VLAN = to
			}
			if to, moves := m.vlans[i.Untagged]; moves && i.Untagged != 0 {
				i.Untagged = to
			}
			if !slices.ContainsFunc(i.Tagged, func(id int) bool { _, moves := m.vlans[id]; return moves }) {
				continue
			}
			for t := range i.Tagged {
				if to, moves := m.vlans[i.Tagged[t]]; moves {
					i.Tagged[t] = to
				}
			}
			i.Tagged = tidyIDs(i.Tagged)
		}
	}
	for _, r := range m.request.Untagged {
		for _, id := range bothEnds(doc, r.Interface) {
			if _, i, ok := doc.Interface(id); ok {
				i.Untagged = r.VLAN
			}
		}
	}
	for _, f := range m.sources {
		switch {
		case f.target.fresh:
			m.pieceUp(doc, f)
		case f.shift.Device != "":
			m.rerouted(doc, f)
		}
	}
}

// 0 is the id of what has no VLAN: a network that loses its VLAN id leaves no trunk with one.
func tidyIDs(ids []int) []int {
	out := slices.DeleteFunc(slices.Clone(ids), func(n int) bool { return n == 0 })
	slices.Sort(out)
	if out = slices.Compact(out); len(out) == 0 {
		return nil
	}
	return out
}

// renamed gives an interface that is called by its VLAN id, as lan.31 or vlan31, the new id in its name, and what names
// it follows.
func renamed(d *site.Device, i *site.Interface, to int) {
	head, ok := strings.CutSuffix(i.Name, strconv.Itoa(i.VLAN))
	if !ok || head == "" || head[len(head)-1] >= '0' && head[len(head)-1] <= '9' {
		return
	}
	name := head + strconv.Itoa(to)
	if slices.ContainsFunc(d.Interfaces, func(o site.Interface) bool { return o.Name == name }) {
		return
	}
	for k := range d.Interfaces {
		o := &d.Interfaces[k]
		if o.Parent == i.Name {
			o.Parent = name
		}
		if at := slices.Index(o.Members, i.Name); at >= 0 {
			o.Members = slices.Clone(o.Members)
			o.Members[at] = name
		}
	}
	i.Name = name
}

// bothEnds is an interface and the one at the other end of its cable.
func bothEnds(s *site.Site, id string) []string {
	out := []string{id}
	for _, d := range s.Devices {
		for _, i := range d.Interfaces {
			if i.Peer == id {
				out = append(out, i.ID)
			}
			if i.ID == id && i.Peer != "" {
				out = append(out, i.Peer)
			}
		}
	}
	return out
}

// pieceUp gives a network that a part of another becomes an interface on each device that has one in that, and its
// VLAN to the trunks that carry that one's.
func (m *mapping) pieceUp(doc *site.Site, f *source) {
	old, _ := doc.Network(f.target.like)
	suffix := strings.TrimPrefix(f.target.ID, f.target.like)
	for di := range doc.Devices {
		d := &doc.Devices[di]
		for ii := range len(d.Interfaces) {
			i := d.Interfaces[ii]
			routes := slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool { return p.Masked() == old.Prefix })
			if routes && old.Gateway == i.Addresses[0].Addr() {
				i.ID += suffix
				i.Addresses = []netip.Prefix{netip.PrefixFrom(f.target.Gateway, f.target.Prefix.Bits())}
				i.VLAN, i.Peer = f.target.VLAN, ""
				i.Kind = site.VLAN
				i.Name = fmt.Sprintf("vlan%d", i.VLAN)
				if i.Parent != "" {
					i.Name = fmt.Sprintf("%s.%d", i.Parent, i.VLAN)
				}
				d.Interfaces = append(d.Interfaces, i)
			}
			if slices.Contains(d.Interfaces[ii].Tagged, old.VLAN) && old.VLAN != 0 {
				d.Interfaces[ii].Tagged = tidyIDs(append(d.Interfaces[ii].Tagged, f.target.VLAN))
			}
			if u := d.Interfaces[ii].Uplink; u != nil && slices.Contains(u.Translates, old.ID) {
				u.Translates = append(u.Translates, f.target.ID)
			}
		}
	}
	for _, id := range f.ports {
		if _, port, ok := doc.Interface(id); ok {
			port.Untagged = f.target.VLAN
		}
	}
	for i := range doc.Resolvers {
		if r := &doc.Resolvers[i]; slices.Contains(r.Networks, old.ID) {
			r.Networks = append(r.Networks, f.target.ID)
		}
	}
}

// rerouted moves the interface that routes a network to another device.
func (m *mapping) rerouted(doc *site.Site, f *source) {
	was, i, _, ok := doc.InterfaceOn(&f.target.Network)
	to, known := doc.Device(f.shift.Device)
	if !ok || !known || was.ID == to.ID {
		return
	}
	moved := *i
	was.Interfaces = slices.DeleteFunc(was.Interfaces, func(o site.Interface) bool { return o.ID == moved.ID })
	moved.Parent = f.shift.Parent
	moved.Name = fmt.Sprintf("vlan%d", moved.VLAN)
	if moved.Parent != "" {
		moved.Name = fmt.Sprintf("%s.%d", moved.Parent, moved.VLAN)
	}
	to.Interfaces = append(to.Interfaces, moved)
}

// joined takes away the networks that have become part of others, with the interfaces that routed them.
func (m *mapping) joined(doc *site.Site) {
	for _, f := range m.sources {
		if f.shift.Into == "" || f.target.fresh {
			continue
		}
		gone := f.was.ID
		doc.Networks = slices.DeleteFunc(doc.Networks, func(n site.Network) bool { return n.ID == gone })
		repoint := func(ids []string) []string {
			out := slices.DeleteFunc(slices.Clone(ids), func(id string) bool { return id == gone })
			if len(out) < len(ids) && !slices.Contains(out, f.target.ID) {
				out = append(out, f.target.ID)
			}
			return out
		}
		for di := range doc.Devices {
			d := &doc.Devices[di]
			for ii := range d.Interfaces {
				i := &d.Interfaces[ii]
				if i.Uplink != nil {
					i.Uplink.Translates = repoint(i.Uplink.Translates)
				}
			}
			d.Interfaces = slices.DeleteFunc(d.Interfaces, func(i site.Interface) bool {
				return i.Kind == site.VLAN && i.VLAN == f.target.VLAN && m.wasIn(f.was, i)
			})
		}
		for i := range doc.Resolvers {
			doc.Resolvers[i].Networks = repoint(doc.Resolvers[i].Networks)
		}
	}
}

// wasIn reports whether an interface, which has its new addresses already, had its old one in a network that is gone.
func (m *mapping) wasIn(n *site.Network, i site.Interface) bool {
	return slices.ContainsFunc(i.Addresses, func(p netip.Prefix) bool {
		for was, now := range m.to {
			if now == p.Addr() && n.Prefix.Contains(was) {
				return true
			}
		}
		return false
	})
}

// domains are the reverse zones that take the place of one that held old addresses alone; none where it stays.
func (m *mapping) domains(name string) []string {
	p, ok := zone.ReversePrefix(name)
	if !ok {
		return nil
	}
	var out []string
	for _, f := range m.sources {
		if f.was.Prefix.Overlaps(p) && !f.target.Prefix.Overlaps(p) {
			for _, z := range zone.ReverseZones(wide(f.target.Prefix)) {
				if !slices.Contains(out, z) {
					out = append(out, z)
				}
			}
		}
	}
	return out
}

// wide is the prefix whose reverse zones are plain ones: at least a /24 (RFC 2317 is for what others delegate).
func wide(p netip.Prefix) netip.Prefix {
	if p.Bits() > 24 {
		return netip.PrefixFrom(p.Addr(), 24).Masked()
	}
	return p
}

// askedFor has a resolver ask for the new reverse names where it asked for the old ones.
func (m *mapping) askedFor(r *site.Resolver) {
	for _, d := range slices.Clone(r.Domains) {
		for _, name := range m.domains(d.Domain) {
			if !slices.ContainsFunc(r.Domains, func(o site.DomainServer) bool { return o.Domain == name }) {
				r.Domains = append(r.Domains, site.DomainServer{Domain: name, Servers: slices.Clone(d.Servers)})
			}
		}
	}
	r.Domains = slices.DeleteFunc(r.Domains, func(d site.DomainServer) bool { return m.emptied(d.Domain) })
}

// emptied reports whether a reverse zone held old addresses and holds none of the new ones.
func (m *mapping) emptied(name string) bool {
	p, ok := zone.ReversePrefix(name)
	if !ok || slices.ContainsFunc(m.stays, p.Overlaps) {
		return false
	}
	held := false
	for _, f := range m.sources {
		if f.target.Prefix.Overlaps(p) {
			return false
		}
		held = held || f.was.Prefix.Overlaps(p) && p.Bits() >= min(f.was.Prefix.Bits(), 24)
	}
	return held
}

// reverse adds the zones of the new prefixes, like those of the old, and takes those away that nothing is left in.
func (m *mapping) reverse(s, doc *site.Site) {
	for _, z := range s.Zones {
		if z.Side != site.Inside {
			continue
		}
		for _, name := range m.domains(z.Name) {
			p, _ := zone.ReversePrefix(name)
			if slices.ContainsFunc(doc.Zones, func(o site.Zone) bool {
				q, ok := zone.ReversePrefix(o.Name)
				return ok && o.Side == site.Inside && q.Overlaps(p) && q.Bits() <= p.Bits()
			}) {
				continue
			}
			like := z
			like.ID, like.Name, like.Records = freeID(doc, "zone-"+strings.ReplaceAll(p.Masked().Addr().String(), ".",
				"-")), name, nil
			doc.Zones = append(doc.Zones, like)
		}
	}
	doc.Zones = slices.DeleteFunc(doc.Zones, func(z site.Zone) bool {
		if z.Side != site.Inside || !m.emptied(z.Name) {
			return false
		}
		m.pointers(doc, z)
		return true
	})
}

func freeID(doc *site.Site, id string) string {
	for {
		if _, taken := doc.Zone(id); !taken {
			return id
		}
		id += "-2"
	}
}

// pointers moves the records that were written by hand in a reverse zone that goes.
func (m *mapping) pointers(doc *site.Site, z site.Zone) {
	for _, r := range z.Records {
		was, ok := zone.Reversed(strings.TrimSuffix(r.Owner, ".") + "." + z.Name)
		to, moves := m.to[was]
		if !ok || !moves {
			continue
		}
		name := zone.Reverse(to)
		for i := range doc.Zones {
			if o := &doc.Zones[i]; o.Side == site.Inside && o.ID != z.ID && zone.Within(name, o.Name) {
				copied := *r
				copied.Owner = strings.TrimSuffix(strings.TrimSuffix(name, o.Name), ".")
				o.Records = append(slices.Clone(o.Records), &copied)
				break
			}
		}
	}
}

// mentioned is each old address that a value names, with what names it first.
func (m *mapping) mentioned(s *site.Site) map[netip.Addr]string {
	out := map[netip.Addr]string{}
	names := namesOf(s)
	for l := range site.Mentioned(s) {
		if _, moves := m.of(l.Address); l.Words || !moves {
			continue
		}
		if _, known := out[l.Address]; !known {
			out[l.Address] = "named by " + names[l.Part]
		}
	}
	return out
}

// Mention is free text that names an old address.
type Mention struct {
	Part    site.Ref   `json:"part"`
	Name    string     `json:"name" doc:"of the part"`
	Text    string     `json:"text"`
	Address netip.Addr `json:"address"`
}

func (m *mapping) mentions(s *site.Site) []Mention {
	out := []Mention{}
	for l := range site.Mentioned(s) {
		if _, moves := m.of(l.Address); moves && l.Words {
			name, _ := site.NameOf(s, l.Part)
			out = append(out, Mention{l.Part, name, l.Text, l.Address})
		}
	}
	slices.SortStableFunc(out, func(a, b Mention) int { return a.Address.Compare(b.Address) })
	return out
}
