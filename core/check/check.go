// Package check is the rules a site's addressing must keep. Each rule says what
// will happen to whom, names the parts and addresses concerned, and where there
// is one carries its fix as edits.
package check

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/edit"
	"lithos/core/links"
	"lithos/core/option"
	"lithos/core/site"
)

// Severity says what a finding does to a push.
type Severity string

// The severities, gravest first.
const (
	Blocks Severity = "blocks" // nothing is pushed while a draft brings one in
	Warns  Severity = "warns"
	Notes  Severity = "notes"
)

// Graver reports whether s weighs more than other.
func (s Severity) Graver(other Severity) bool { return weight[s] < weight[other] }

// Finding is one broken rule with its evidence.
type Finding struct {
	// ID is the same in every revision for the same rule, parts, addresses and value:
	// another wrong value on the same part is another finding.
	ID        string          `json:"id"`
	Rule      string          `json:"rule"`
	Severity  Severity        `json:"severity" enum:"blocks,warns,notes"`
	Title     string          `json:"title"`
	Says      string          `json:"says"`
	Network   string          `json:"network,omitempty"`
	Parts     []site.Ref      `json:"parts"`
	Addresses []address.Range `json:"addresses,omitempty"`
	Fix       *Fix            `json:"fix,omitempty"`
	// Value is what is wrong where that is neither a part nor an address: a VLAN id,
	// an option's value.
	Value string `json:"-"`
}

// Fix removes the cause of a finding.
type Fix struct {
	Title string      `json:"title"`
	Edits []edit.Edit `json:"edits"`
}

// Rule is one row of the table of rules.
type Rule struct {
	Slug     string
	Family   string
	Severity Severity
	Promise  string // what holds where the rule is kept
	find     func(*facts, func(Finding))
}

// Rules is the table of all rules, by family.
func Rules() []Rule { return slices.Concat(documentRules, aroundRules()) }

// documentRules are those that need nothing but the document.
var documentRules = slices.Concat(addressing, linkRules, dhcpRules, servingRules, optionRules, tellingRules)

// Site runs every rule that needs only the document. Findings come gravest
// first, then by address. The result is the same for equal documents.
func Site(s *site.Site) []Finding {
	f := learn(s)
	f.wire()
	var out []Finding
	for _, r := range documentRules {
		r.find(f, func(found Finding) { out = append(out, r.signed(found)) })
	}
	Sort(out)
	return out
}

// signed puts a rule's name under what it found.
func (r Rule) signed(found Finding) Finding {
	found.Rule, found.Severity = r.Slug, r.Severity
	found.ID = r.Slug
	for _, p := range found.Parts {
		found.ID += "." + p.ID
	}
	for i, a := range found.Addresses {
		if i == maxAddressesInID {
			break
		}
		found.ID += "." + strings.ReplaceAll(a.String(), " ", "")
	}
	if found.Value != "" {
		sum := fnv.New32a()
		_, _ = sum.Write([]byte(found.Value))
		found.ID += fmt.Sprintf(".%x", sum.Sum32())
	}
	return found
}

// maxAddressesInID keeps ids short enough for the address of a page.
const maxAddressesInID = 4

// Sort puts findings in their order: gravest first, then by address.
func Sort(findings []Finding) {
	slices.SortStableFunc(findings, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(weight[a.Severity], weight[b.Severity]), first(a).Compare(first(b)), strings.Compare(a.ID, b.ID))
	})
}

var weight = map[Severity]int{Blocks: 0, Warns: 1, Notes: 2}

func first(f Finding) netip.Addr {
	if len(f.Addresses) == 0 {
		return netip.Addr{}
	}
	return f.Addresses[0].From
}

// Added lists the findings of a draft that its base did not have.
func Added(base, draft []Finding) []Finding {
	had := map[string]bool{}
	for _, f := range base {
		had[f.ID] = true
	}
	var out []Finding
	for _, f := range draft {
		if !had[f.ID] {
			out = append(out, f)
		}
	}
	return out
}

// owner is something that holds one address.
type owner struct {
	at    netip.Addr
	part  site.Ref
	name  string
	on    string // of an interface, its device
	mac   address.MAC
	named bool // by a client identifier
}

// what is how people speak of it, for example "Reservation xray-plate".
func (o owner) what() string {
	switch {
	case o.part.Kind == site.KindInterface:
		return "Interface " + o.name + " of " + o.on
	case o.part.Kind == site.KindFixedDevice:
		return "Fixed device " + o.name
	case o.name == "":
		return "Reservation"
	}
	return "Reservation " + o.name
}

// facts is what the rules ask of a document, worked out once.
type facts struct {
	*site.Site
	networks map[string]*site.Network
	pools    map[string][]*site.Pool // by network id
	held     []owner                 // see owners
	common   compile.Everywhere
	told     map[*site.Pool][]option.Told
	timed    map[*site.Pool]compile.Timers
	byStart  []*site.Network                  // networks by first address
	reach    []netip.Addr                     // the last address of any network up to the same place in byStart
	subnets  map[string]map[netip.Prefix]bool // that a device, by id, has an interface in
	homesOf  map[netip.Prefix][]home          // interfaces by their subnet
	uplinks  []*site.Interface
	own      option.Own
	joined   *links.Map
}

// links is how the devices are joined, worked out when first asked for.
func (f *facts) links() *links.Map {
	if f.joined == nil {
		f.joined = links.Learn(f.Site)
	}
	return f.joined
}

// limits says what about a device's configuration its kind cannot do.
func (f *facts) limits(d *site.Device) error {
	if d.Kind == site.Router || d.Kind == site.Firewall {
		return nil
	}
	return compile.Limits(d.Kind, compile.Device(f.Site, d.ID))
}

func learn(s *site.Site) *facts {
	f := &facts{Site: s, networks: map[string]*site.Network{}, pools: map[string][]*site.Pool{}, told: map[*site.Pool][]option.Told{}, timed: map[*site.Pool]compile.Timers{}, common: compile.Common(s)}
	for i := range s.Networks {
		f.networks[s.Networks[i].ID] = &s.Networks[i]
	}
	for i := range s.Pools {
		p := &s.Pools[i]
		f.pools[p.Network] = append(f.pools[p.Network], p)
	}
	return f
}

// owners lists who holds an address, by address: interfaces, fixed devices and
// reservations.
func (f *facts) owners() []owner {
	if f.held != nil {
		return f.held
	}
	f.held = make([]owner, 0, len(f.FixedDevices)+len(f.Reservations)+len(f.Networks))
	for _, d := range f.Devices {
		for _, i := range d.Interfaces {
			for _, a := range i.Addresses {
				f.held = append(f.held, owner{at: a.Addr(), part: interfaceRef(i.ID), name: i.Name, on: d.Name})
			}
		}
	}
	for i := range f.FixedDevices {
		v := &f.FixedDevices[i]
		f.held = append(f.held, owner{at: v.Address, part: site.Ref{Kind: site.KindFixedDevice, ID: v.ID}, name: v.Name, mac: v.MAC})
	}
	for i := range f.Reservations {
		v := &f.Reservations[i]
		f.held = append(f.held, owner{at: v.Address, part: site.Ref{Kind: site.KindReservation, ID: v.ID}, name: v.Name, mac: v.MAC, named: v.Client != ""})
	}
	slices.SortStableFunc(f.held, func(a, b owner) int { return a.at.Compare(b.at) })
	return f.held
}

// wire finds out what lives where: the questions of the rules about links.
func (f *facts) wire() {
	f.own = f.Own()
	f.subnets, f.homesOf = map[string]map[netip.Prefix]bool{}, map[netip.Prefix][]home{}
	for di := range f.Devices {
		d := &f.Devices[di]
		f.subnets[d.ID] = map[netip.Prefix]bool{}
		for ii := range d.Interfaces {
			i := &d.Interfaces[ii]
			for _, a := range i.Addresses {
				f.subnets[d.ID][a.Masked()] = true
				f.homesOf[a.Masked()] = append(f.homesOf[a.Masked()], home{d, i, a.Addr()})
			}
			if i.Kind == site.Uplink {
				f.uplinks = append(f.uplinks, i)
			}
		}
	}
}

// line puts the networks in the order of their addresses.
func (f *facts) line() {
	f.byStart = make([]*site.Network, len(f.Networks))
	for i := range f.Networks {
		f.byStart[i] = &f.Networks[i]
	}
	slices.SortStableFunc(f.byStart, func(a, b *site.Network) int { return a.Prefix.Masked().Addr().Compare(b.Prefix.Masked().Addr()) })
	for i, n := range f.byStart {
		end := address.Of(n.Prefix).To
		if i > 0 && end.Less(f.reach[i-1]) {
			end = f.reach[i-1]
		}
		f.reach = append(f.reach, end)
	}
}

// NetworkOf is the most specific network that holds a, as site.Site's, without
// walking all of them.
func (f *facts) NetworkOf(a netip.Addr) (*site.Network, bool) {
	if f.byStart == nil {
		f.line()
	}
	at, _ := slices.BinarySearchFunc(f.byStart, a, func(n *site.Network, a netip.Addr) int {
		if n.Prefix.Masked().Addr().Compare(a) <= 0 {
			return -1
		}
		return 1
	})
	var best *site.Network
	for i := at - 1; i >= 0 && !f.reach[i].Less(a); i-- {
		if n := f.byStart[i]; n.Prefix.Contains(a) && (best == nil || n.Prefix.Bits() > best.Prefix.Bits()) {
			best = n
		}
	}
	return best, best != nil
}

// toldIn is what clients of a pool are told, worked out once for all rules.
func (f *facts) toldIn(p *site.Pool, n *site.Network) []option.Told {
	told, ok := f.told[p]
	if !ok {
		told = f.common.Told(compile.For{Network: n, Pool: p})
		f.told[p] = told
	}
	return told
}

// timers is how long clients of a pool hold their leases.
func (f *facts) timers(p *site.Pool, n *site.Network) compile.Timers {
	t, ok := f.timed[p]
	if !ok {
		t = compile.TimersOf(f.toldIn(p, n))
		f.timed[p] = t
	}
	return t
}

// ownersIn lists the owners inside a range.
func (f *facts) ownersIn(r address.Range) []owner {
	owners := f.owners()
	from, _ := slices.BinarySearchFunc(owners, r.From, func(o owner, a netip.Addr) int { return o.at.Compare(a) })
	to := from
	for to < len(owners) && r.Contains(owners[to].at) {
		to++
	}
	return owners[from:to]
}
