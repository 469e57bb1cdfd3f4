package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"lithos/core/address"
	"lithos/core/dynamicnames"
	"lithos/core/edit"
	"lithos/core/forecast"
	"lithos/core/observed"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/core/zone"
)

// Surroundings are what some rules need beside the document.
type Surroundings struct {
	Now       time.Time
	Seen      []observed.Sighting
	Neighbors []Neighbor // sites that route to this one: those of the same customer
	// Programs are what listens for names beside the resolvers, by device id, as it was last read.
	Programs map[string][]yang.Program
	// AtServer is what outside zones held when their servers were last read, by zone id.
	AtServer map[string][]zone.Record
	// Lines are the addresses that lines had when they were last read (site.Following.Line).
	Lines map[string]dynamicnames.Line
	// Keys are what the providers of outside zones tell of keys, by zone id; those that never told any are not in it.
	Keys map[string][]dynamicnames.Key
	// Sets are the records that providers say who writes, by zone id.
	Sets map[string][]dynamicnames.Set
	// Readings are how devices were when they were read last, by id.
	Readings map[string]Reading
	// Shared are the levels above the site as they are kept for all sites.
	Shared SharedLevels
	// Elsewhere are devices of other sites that are reached at the same address with the same certificate, by device
	// id.
	Elsewhere map[string][]string
	// Strays are DHCP servers that devices heard and that none of them is.
	Strays []Stray
	// Reached are the devices that Lithos reads, by id.
	Reached map[string]bool
	// Moves are the moves of networks under way at the customer.
	Moves []Moving
	// Documents is set where addresses of documents (RFC 5737) stand for public ones.
	Documents bool
}

// Moving is a move of networks that is under way.
type Moving struct {
	ID       int64
	Site     string // id of the site whose networks move
	Title    string
	Networks []string       // ids of the networks
	Old      []netip.Prefix // that are nobody's when it is done
	New      []netip.Prefix
	Swapped  bool     // its networks have their new addresses
	Collides []string // what two have at once between its steps; sentences
	Stranded int      // clients that never have service again, as simulated
	Console  string   // the step that needs somebody at a console; a sentence
	Overdue  string   // the phase whose window has ended, and when; empty for none
}

// Neighbor is another site's networks.
type Neighbor struct {
	ID       string // of the site
	Name     string
	Networks []site.Network
	Domain   string   // its own
	Outside  []string // the names that its document says the world is told
}

// aroundRule needs surroundings.
type aroundRule struct {
	Rule
	find func(*around, func(Finding))
}

// around is a scene with its surroundings.
type around struct {
	*facts
	Surroundings
	leases map[string][]observed.Sighting // by network id
	looked []observed.One
}

// OutsideDiffers is the rule that the world is told what the document says.
const OutsideDiffers = "outside-differs"

// Drifted is the rule that a device holds what it was last given. The value of its findings is the device's id.
const Drifted = "drifted"

var surroundings = []aroundRule{
	{Rule{Slug: "networks-overlap-across-sites", Family: "Addressing", Severity: Blocks,
		Promise: "No two sites of a customer use the same addresses."}, overlapAcrossSites},
	{Rule{Slug: "mac-cloned", Family: "DHCP", Severity: Warns, Promise: "A MAC is in one place at a time."}, macCloned},
	{Rule{Slug: "address-answered-twice", Family: "Addressing", Severity: Warns,
		Promise: "One machine answers at an address."}, answeredTwice},
	{Rule{Slug: "pool-nearly-full", Family: "DHCP", Severity: Warns, Promise: "A pool has addresses to spare."},
		poolNearlyFull},
	{Rule{Slug: "pool-too-small", Family: "DHCP", Severity: Warns,
		Promise: "A pool is large enough for a day like the last ones."}, poolTooSmall},
	{Rule{Slug: "exclusion-ended", Family: "DHCP", Severity: Notes,
		Promise: "An exclusion with an end is removed after it."}, exclusionEnded},
	{Rule{Slug: "domain-at-two-sites", Family: "Names", Severity: Warns,
		Promise: "Each site of a customer has a domain of its own."}, domainAtTwoSites},
	{Rule{Slug: "outside-name-twice", Family: "Names", Severity: Blocks,
		Promise: "One site says what the world is told of a name."}, outsideNameTwice},
	{Rule{Slug: "zone-elsewhere", Family: "Names", Severity: Warns,
		Promise: "A site answers for its own domain, and asks the others."}, zoneElsewhere},
	{Rule{Slug: "port-taken", Family: "Names", Severity: Blocks,
		Promise: "A resolver has its ports to itself."}, portTaken},
	{Rule{Slug: OutsideDiffers, Family: "Names", Severity: Warns,
		Promise: "The world is told what the document says."}, outsideDiffers},
	{Rule{Slug: "dns-of-nobody", Family: "Options", Severity: Warns,
		Promise: "A name server with a private address is of a known site."}, dnsOfNobody},
	{Rule{Slug: "ddns-private-address", Family: "Names", Severity: Blocks,
		Promise: "The line of a dynamic name is reachable from the internet."}, followingPrivate},
	{Rule{Slug: "ddns-shared-address", Family: "Names", Severity: Blocks,
		Promise: "The line of a dynamic name has an address of its own."}, followingShared},
	{Rule{Slug: "ddns-record-missing", Family: "Names", Severity: Warns,
		Promise: "The server of a dynamic name has it."}, followingMissing},
	{Rule{Slug: "ddns-nobody-keeps", Family: "Names", Severity: Warns,
		Promise: "Something updates a dynamic name."}, followingNobody},
	{Rule{Slug: "ddns-key-ending", Family: "Names", Severity: Warns,
		Promise: "The key of a dynamic name is taken for weeks yet."}, followingKeyEnding},
	{Rule{Slug: "changing-line-by-hand", Family: "Names", Severity: Warns,
		Promise: "A name of a changing line follows it."}, followingByHand},
	{Rule{Slug: "ddns-key-gone", Family: "Names", Severity: Blocks,
		Promise: "The server of a dynamic name has its key."}, followingKeyGone},
	{Rule{Slug: "key-gone", Family: "Names", Severity: Warns,
		Promise: "The provider of a zone has every key that the site uses."}, keyGone},
	{Rule{Slug: "device-unread", Family: "Management", Severity: Warns,
		Promise: "A device that Lithos reaches can be read."}, deviceUnread},
	{Rule{Slug: Drifted, Family: "Management", Severity: Warns,
		Promise: "A device holds what it was last given."}, drifted},
	{Rule{Slug: "device-at-two-sites", Family: "Management", Severity: Warns,
		Promise: "A machine is one device of one site."}, deviceAtTwoSites},
	{Rule{Slug: "zone-without-server", Family: "Names", Severity: Warns,
		Promise: "An outside zone says which servers hold it."}, zoneWithoutServer},
	{Rule{Slug: "management-path-moves", Family: "Management", Severity: Warns,
		Promise: "A device keeps the address that Lithos reaches it at."}, managementPathMoves},
	{Rule{Slug: "unknown-server", Family: "Management", Severity: Warns,
		Promise: "Every DHCP server on a network is a device of the site."}, unknownServer},
	{Rule{Slug: "port-unknown", Family: "Management", Severity: Notes,
		Promise: "The interfaces of a device are recorded."}, portUnknown},
	{Rule{Slug: "off-standard", Family: "Management", Severity: Warns,
		Promise: "A site has its standard, and its customer's options, as they are kept for all sites."}, offStandard},
	{Rule{Slug: "move-overlap", Family: "Moves", Severity: Blocks,
		Promise: "Old and new addresses of a move never overlap those of others."}, moveOverlap},
	{Rule{Slug: "move-strands", Family: "Moves", Severity: Warns,
		Promise: "Every client of a network that moves has service again."}, moveStrands},
	{Rule{Slug: "move-path-late", Family: "Moves", Severity: Warns,
		Promise: "Lithos reaches each device of a move until its last step."}, movePathLate},
	{Rule{Slug: "move-left-behind", Family: "Moves", Severity: Warns,
		Promise: "Nothing names an address that a move has left nobody."}, moveLeftBehind},
	{Rule{Slug: "move-unfinished", Family: "Moves", Severity: Warns,
		Promise: "Each phase of a move is landed within its window."}, moveUnfinished},
	{Rule{Slug: "ddns-stale", Family: "Names", Severity: Blocks,
		Promise: "The world is told the address that the line has."}, followingStale},
}

// stopping are the rules whose findings keep a push from doing what it does: the device refuses it, or nobody is told.
var stopping = []string{"port-taken", "ddns-key-gone", "ddns-private-address", "ddns-shared-address"}

// Stops reports whether what a rule finds keeps a push from carrying out what it is about. Such a finding holds for a
// draft that does it, though the site had it before.
func Stops(rule string) bool { return slices.Contains(stopping, rule) }

func aroundRules() []Rule {
	var out []Rule
	for _, r := range surroundings {
		out = append(out, r.Rule)
	}
	return out
}

// Around runs the rules that need a site's surroundings: the day, what is seen
// on its networks, and the sites beside it. The findings come in no order.
func Around(sc *Scene, with Surroundings) []Finding {
	a := &around{facts: sc.facts, Surroundings: with, leases: map[string][]observed.Sighting{}}
	if len(with.Seen) > 0 {
		a.looked = observed.Look(sc.Site, with.Seen)
	}
	for _, v := range with.Seen {
		if n, ok := a.NetworkOf(v.Address); ok && v.Source == observed.Lease {
			a.leases[n.ID] = append(a.leases[n.ID], v)
		}
	}
	var out []Finding
	for _, r := range surroundings {
		r.find(a, func(found Finding) {
			found = r.signed(found)
			found.scope = scope{"around", r.Slug}
			out = append(out, found)
		})
	}
	return out
}

// everyPool visits the pools whose network exists.
func (a *around) everyPool(do func(p *site.Pool, n *site.Network)) {
	for i := range a.Pools {
		if n := a.networks[a.Pools[i].Network]; n != nil {
			do(&a.Pools[i], n)
		}
	}
}

// namedSites is how many sites a finding names; of a customer with hundreds that
// are all laid out alike, the others are counted.
const namedSites = 3

// elsewhere is a network of a neighbor, at its place among all of them.
type elsewhere struct {
	address.Range
	place int
	id    string
	name  string // with its site
}

// beside is the networks of all neighbors by their first addresses, with the last
// address of any up to the same place.
func (a *around) beside() (all []elsewhere, reach []netip.Addr) {
	for _, other := range a.Neighbors {
		for _, o := range other.Networks {
			all = append(all, elsewhere{address.Of(o.Prefix.Masked()), len(all), o.ID, o.Name + " at " + other.Name})
		}
	}
	slices.SortStableFunc(all, func(a, b elsewhere) int { return a.From.Compare(b.From) })
	for i, o := range all {
		if i > 0 && o.To.Less(reach[i-1]) {
			o.To = reach[i-1]
		}
		reach = append(reach, o.To)
	}
	return all, reach
}

func overlapAcrossSites(a *around, report func(Finding)) {
	all, reach := a.beside()
	for _, n := range a.Networks {
		own := address.Of(n.Prefix.Masked())
		after, _ := slices.BinarySearchFunc(all, own.To, func(o elsewhere, a netip.Addr) int {
			if o.From.Compare(a) <= 0 {
				return -1
			}
			return 1
		})
		var hits []elsewhere
		for i := after - 1; i >= 0 && !reach[i].Less(own.From); i-- {
			if own.Overlaps(all[i].Range) {
				hits = append(hits, all[i])
			}
		}
		slices.SortFunc(hits, func(a, b elsewhere) int { return a.place - b.place })
		refs := []site.Ref{networkRef(n.ID)}
		var at []string
		var shared []address.Range
		for _, o := range hits {
			part, _ := own.Intersect(o.Range)
			if shared = append(shared, part); len(shared) <= namedSites {
				at, refs = append(at, o.name), append(refs, networkRef(o.id))
			}
		}
		if len(shared) == 0 {
			continue
		}
		if more := len(shared) - len(at); more > 0 {
			at = append(at, fmt.Sprintf("%d more", more))
		}
		parts := address.Ranges(shared, nil)
		report(Finding{
			Title: fmt.Sprintf("%s is also %s", n.Name, strings.Join(at, ", ")), Network: n.ID, Parts: refs,
			Addresses: parts,
			Says: fmt.Sprintf("%s is used at both sites. Routes between them lead to one of the two, and the "+
				"other is cut off.", join(parts)),
		})
	}
}

// domainAtTwoSites is about sites of a customer whose own domains are the same: each answers for it alone.
func domainAtTwoSites(a *around, report func(Finding)) {
	var at []string
	for _, n := range a.Neighbors {
		if a.Domain != "" && strings.EqualFold(n.Domain, a.Domain) {
			at = append(at, n.Name)
		}
	}
	if len(at) == 0 {
		return
	}
	if more := len(at) - namedSites; more > 0 {
		at = append(at[:namedSites], fmt.Sprintf("%d more", more))
	}
	report(Finding{
		Title: fmt.Sprintf("%s is the domain of %s, too", a.Domain, strings.Join(at, ", ")),
		Parts: []site.Ref{{Kind: site.KindSite, ID: a.Site.ID}}, Value: a.Domain,
		Says: "Each site answers for it with its own names alone; a machine of one is not found from the other, " +
			"and one name may be two machines. Give one of them a domain below it, such as its code before the dot.",
	})
}

func macCloned(a *around, report func(Finding)) {
	told := map[address.MAC]bool{}
	for _, o := range a.looked {
		i := slices.IndexFunc(o.Remarks, func(r observed.Remark) bool { return r.Kind == observed.Cloned })
		if i < 0 || told[o.MAC] {
			continue
		}
		told[o.MAC] = true
		found := Finding{
			Title: fmt.Sprintf("%s is in two places", o.MAC), Network: o.Network,
			Parts:     []site.Ref{{Kind: "seen", ID: o.Address.String()}},
			Addresses: []address.Range{address.Single(o.Address)},
			Says:      fmt.Sprintf("It was heard at %s. %s", o.Address, o.Remarks[i].Says),
		}
		report(found)
	}
}

// answeredTwice is about addresses at which two machines answer.
func answeredTwice(a *around, report func(Finding)) {
	told := map[netip.Addr]bool{}
	for _, o := range a.looked {
		i := slices.IndexFunc(o.Remarks, func(r observed.Remark) bool { return r.Kind == observed.Contested })
		if i < 0 || told[o.Address] {
			continue
		}
		told[o.Address] = true
		report(Finding{
			Title: fmt.Sprintf("Two machines answer at %s", o.Address), Network: o.Network,
			Parts:     []site.Ref{{Kind: "seen", ID: o.Address.String()}},
			Addresses: []address.Range{address.Single(o.Address)}, Says: o.Remarks[i].Says,
		})
	}
}

// offers counts what a pool can hand out and what of it is leased now.
func (a *around) offers(p *site.Pool, n *site.Network) (size, used int) {
	var cut []address.Range
	for _, x := range p.Exclusions {
		cut = append(cut, x.Range)
	}
	for _, r := range p.Ranges {
		for _, o := range a.ownersIn(r) {
			cut = append(cut, address.Single(o.at))
		}
	}
	free := address.Ranges(p.Ranges, cut)
	held := map[netip.Addr]bool{}
	for _, v := range a.leases[n.ID] {
		if v.Live && slices.ContainsFunc(free, func(r address.Range) bool { return r.Contains(v.Address) }) {
			held[v.Address] = true
		}
	}
	return address.Count(free), len(held)
}

func poolNearlyFull(a *around, report func(Finding)) {
	a.everyPool(func(p *site.Pool, n *site.Network) {
		if len(a.leases[n.ID]) == 0 {
			return
		}
		size, used := a.offers(p, n)
		if size == 0 || !p.Enabled || used*10 < size*9 {
			return
		}
		report(Finding{
			Title: fmt.Sprintf("%d of %d addresses of %s are taken", used, size, p.Name), Network: n.ID,
			Parts: []site.Ref{poolRef(p.ID)},
			Says:  fmt.Sprintf("%d more clients can come. The next is turned away until a lease ends.", size-used),
			Fix:   a.widen(p, n, max(size/2, 8)),
		})
	})
}

// widen is the fix that gives a pool more addresses where the network has them
// free: after its last range, else before its first.
func (a *around) widen(p *site.Pool, n *site.Network, by int) *Fix {
	taken := site.Taken(a.Site, n)
	for _, w := range a.Standard.Windows {
		if r, ok := site.WindowIn(n.Prefix, w); ok && w.Use != "dynamic" {
			taken = append(taken, r)
		}
	}
	ranges := slices.Clone(p.Ranges)
	for _, free := range slices.Backward(address.Ranges([]address.Range{address.Usable(n.Prefix)}, taken)) {
		if by <= 0 {
			break
		}
		take := free
		if free.Size() > by {
			take.To = address.FromUint(address.Uint(free.From) + uint32(by) - 1)
			if last := p.Ranges[len(p.Ranges)-1].To; last.Less(free.From) && last.Next() != free.From {
				take = address.Range{From: address.FromUint(address.Uint(free.To) - uint32(by) + 1), To: free.To}
			}
		}
		ranges = append(ranges, take)
		by -= take.Size()
	}
	ranges = address.Ranges(ranges, nil)
	if address.Count(ranges) == address.Count(p.Ranges) {
		return nil
	}
	return withRanges(fmt.Sprintf("Give it %d more", address.Count(ranges)-address.Count(p.Ranges)), p, ranges)
}

// usualStay is how long a client is taken to stay where nothing is known of it.
const usualStay = time.Hour

// poolTooSmall forecasts a day like the last seven from the leases first seen
// in them.
func poolTooSmall(a *around, report func(Finding)) {
	a.everyPool(func(p *site.Pool, n *site.Network) {
		week := a.Now.Add(-7 * 24 * time.Hour)
		var came []forecast.Visit
		for _, v := range a.leases[n.ID] {
			if p.Offers(v.Address) && v.First.After(week) {
				came = append(came, forecast.Visit{Client: v.Client(), First: v.First, Last: v.Last})
			}
		}
		d, basis := forecast.Observed(came, week, a.Now, usualStay, time.UTC)
		if basis.Clients < 20 || basis.Span < forecast.Enough || !p.Enabled {
			return // too few to say anything of a day
		}
		size, _ := a.offers(p, n)
		lease := a.timers(p).Lease
		day := forecast.Pool(size, lease, d)
		if day.Share <= 0.01 || size == 0 {
			return
		}
		found := Finding{
			Title: fmt.Sprintf("Pool %s is too small for its days", p.Name), Network: n.ID,
			Parts: []site.Ref{poolRef(p.ID)},
			Says: fmt.Sprintf("Of %.0f clients a day about %.0f are turned away: %d addresses for %s each are not "+
				"enough. %d addresses would do.",
				d.PerDay, day.TurnedAway, size, option.FormatDuration(lease), forecast.SizeThatDoes(lease, d)),
		}
		if shorter, ok := forecast.LeaseThatDoes(size, d); ok && shorter < lease {
			found.Fix = setOption("Lease for "+option.FormatDuration(shorter), p, option.LeaseTime,
				option.FormatDuration(shorter))
		} else {
			found.Fix = a.widen(p, n, forecast.SizeThatDoes(lease, d)-size)
		}
		report(found)
	})
}

func exclusionEnded(a *around, report func(Finding)) {
	today := site.DateOf(a.Now)
	a.everyPool(func(p *site.Pool, n *site.Network) {
		for _, x := range p.Exclusions {
			if x.Until.IsZero() || !x.Until.Before(today) {
				continue
			}
			in := poolRef(p.ID)
			fix := &Fix{Title: "Remove the exclusion"}
			fix.Edits, _ = edit.Removing(a.Site, site.Ref{Kind: site.KindExclusion, ID: x.ID}, in)
			report(Finding{
				Title: fmt.Sprintf("An exclusion of %s has ended", p.Name), Network: n.ID,
				Parts: []site.Ref{{Kind: site.KindExclusion, ID: x.ID}, in}, Addresses: []address.Range{x.Range},
				Says: fmt.Sprintf("%s was excluded (%s) until %s, and still is.", x.Range, x.Reason, x.Until), Fix: fix,
			})
		}
	})
}
