package view

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"lithos/core/check"
	"lithos/core/compile"
	"lithos/core/dhcp"
	"lithos/core/names"
	"lithos/core/rehearse"
	"lithos/core/site"
	"lithos/core/zone"
	"lithos/internal/order"
)

// The layers of the page of names that are no zone.
const (
	layerLeases     = "leases"
	layerReverse    = "reverse"
	layerServers    = "servers"
	layerHome       = "home"
	layerForwarders = "forwarders"
)

// NamesView is the names of a site: the layers that a question falls through, and what one of them
// holds.
type NamesView struct {
	Version  int32              `json:"version"`
	Layers   []ResolverLayer    `json:"layers"`
	Chosen   string             `json:"chosen"` // id of the layer that is listed
	Title    string             `json:"title"`
	Says     string             `json:"says"`
	Ref      string             `json:"ref,omitempty"` // of the zone or resolver listed
	Rows     []NameRow          `json:"rows"`
	Changes  []compile.Answered `json:"changes"` // what the draft changes in answers
	Askers   []AskerChoice      `json:"askers"`
	Resolver string             `json:"resolver,omitempty" doc:"ref of the one whose layers are listed"`
	Others   []AskerChoice      `json:"others" doc:"the site's resolvers, where it has several"`
	ReadAt   *time.Time         `json:"readAt,omitempty" doc:"when the device or server that told what is listed was read last"`
	ReadFrom string             `json:"readFrom,omitempty" doc:"that device or server"`
	Problem  string             `json:"problem,omitempty" doc:"why it could not be read the last time"`
	Lines    []Following        `json:"lines" doc:"dynamic names of the listed zone"`
	Keys     *OutsideKeys       `json:"keys,omitempty" doc:"of an outside zone whose provider makes keys"`
	Missing  string             `json:"missing,omitempty" enum:"resolver,zone" doc:"the first step of a site that keeps no names"`
}

// Layer is one layer that a question falls through.
type ResolverLayer struct {
	ID       string `json:"id"`
	Title    string `json:"title"`
	Says     string `json:"says"`
	Count    int    `json:"count"`
	Outside  bool   `json:"outside,omitempty"` // seen from outside
	Mono     bool   `json:"mono,omitempty"`    // the title is a name
	Severity string `json:"severity,omitempty"`
	Ref      string `json:"ref,omitempty" doc:"the zone or the resolver that it is of"`
}

// NameRow is one name of a list.
type NameRow struct {
	Key     string `json:"key"`
	Name    string `json:"name"` // as the list shows it: relative to its zone
	Whole   string `json:"whole"`
	Ref     string `json:"ref,omitempty"` // the part it is of
	In      string `json:"in,omitempty"`
	Type    string `json:"type"`
	Inside  string `json:"inside,omitempty"`
	Alias   bool   `json:"alias,omitempty"` // what is inside is another name
	Leads   string `json:"leads,omitempty"` // what an alias leads to, the whole chain
	Outside string `json:"outside,omitempty"`
	// OutsideSays is in words, where there is nothing outside to show.
	OutsideSays string `json:"outsideSays,omitempty"`
	Reverse     string `json:"reverse,omitempty"`
	ReverseSays string `json:"reverseSays,omitempty"`
	From        string `json:"from"` // where it comes from, in words
	TTL         int    `json:"ttl,omitempty"`
	Until       string `json:"until,omitempty"` // when a lease ends, RFC 3339
	Since       string `json:"since,omitempty" doc:"since when the site has the name, RFC 3339; nothing where that is not known"`
	AtServer    string `json:"atServer,omitempty" doc:"of an outside zone: what its server told when it was read last"`
	// Makes are fields of a reservation that gives what is listed a name of its own.
	Makes    map[string]string `json:"makes,omitempty"`
	Changed  string            `json:"changed,omitempty" enum:"added,changed"`
	Severity string            `json:"severity,omitempty"`
	Finding  string            `json:"finding,omitempty"` // id of the gravest
	Hidden   bool              `json:"hidden,omitempty"`  // another claims its name
	// Fields are the form fields that its cells change, where they can be.
	NameField  string `json:"nameField,omitempty"`
	ValueField string `json:"valueField,omitempty"`
}

// AskerChoice is somebody who can ask.
type AskerChoice struct {
	Ref   string `json:"ref"`
	Label string `json:"label"`
	Group string `json:"group" enum:"networks,clients,devices,outside,resolvers"`
}

// ZoneReading is an outside zone as its server had it when it was last read; nil where it never was.
func (p *Page) ZoneReading(zoneID string) *order.ZoneReading { return p.outer().ZoneReading(zoneID) }

// ZoneReading is what an outside zone had when its server was read last; nil where nothing is known.
func (p *outer) ZoneReading(zoneID string) *order.ZoneReading {
	i := slices.IndexFunc(p.beside.Zones, func(z order.ZoneReading) bool { return z.ZoneID == zoneID })
	if i < 0 {
		return nil
	}
	return &p.beside.Zones[i]
}

// namer draws the page of names.
type namer struct {
	*Page
	book       *compile.Book
	resolver   *site.Resolver    // whose layers are listed, nil for none
	device     *site.Device      // that it runs on
	leaseNames []names.LeaseName // names of its leases
	leases     map[netip.Addr]dhcp.Lease
	ages       map[string]time.Time // since when there are names, by compile.NameKey
	reverse    map[netip.Addr][]string
	marks      map[site.Ref]check.Finding // the gravest finding of a part, of rules about names
	changed    map[string]string          // whole names that the draft adds or changes
}

// Names is the page of names; chosen is the layer that is listed, the site's own zone where empty, and
// resolver the id of the resolver, the site's first where empty. ages is since when there are names, by
// compile.NameKey.
func (p *Page) Names(chosen, resolver string, ages map[string]time.Time) *NamesView {
	n := p.namer(resolver)
	n.ages = ages
	v := &NamesView{Version: p.Version(), Rows: []NameRow{}, Changes: []compile.Answered{}, Askers: n.askers(),
		Others: n.resolvers(), Lines: []Following{}}
	if p.draft != nil {
		v.Changes = append(v.Changes, compile.Changes(p.draft.Base.Book(), n.book)...)
	}
	n.changed = map[string]string{}
	for _, c := range v.Changes {
		n.changed[c.Name] = "changed"
		if c.Was == "" {
			n.changed[c.Name] = "added"
		}
	}
	v.Layers = n.layers()
	if n.resolver != nil {
		v.Resolver = site.Ref{Kind: site.KindResolver, ID: n.resolver.ID}.String()
	}
	switch {
	case len(p.Resolvers) == 0:
		v.Missing = "resolver"
	case len(p.Zones) == 0:
		v.Missing = "zone"
	}
	n.choose(v, chosen)
	return v
}

// resolvers lists the site's resolvers where there are several.
func (n *namer) resolvers() []AskerChoice {
	out := []AskerChoice{}
	for _, r := range n.Resolvers {
		if d, ok := n.Device(r.Device); ok && len(n.Resolvers) > 1 {
			ref := site.Ref{Kind: site.KindResolver, ID: r.ID}
			out = append(out, AskerChoice{ref.String(), r.Name + " on " + d.Name, "resolvers"})
		}
	}
	return out
}

func (p *Page) namer(resolver string) *namer {
	n := &namer{Page: p, book: p.Book(), reverse: map[netip.Addr][]string{}, marks: map[site.Ref]check.Finding{}}
	for i := range p.Resolvers {
		wanted := n.resolver == nil || p.Resolvers[i].ID == resolver
		if d, ok := p.Device(p.Resolvers[i].Device); ok && wanted {
			n.resolver, n.device = &p.Resolvers[i], d
		}
	}
	if n.resolver != nil {
		leases := rehearse.LeasesOf(p.Site, p.beside.Seen, time.Now())[n.device.ID]
		n.leases = map[netip.Addr]dhcp.Lease{}
		for _, l := range leases {
			n.leases[l.Address] = l
		}
		n.leaseNames = names.HeldOf(compile.Device(p.Site, n.device.ID).DHCP, n.resolver.LeaseNames, leases, time.Now())
	}
	for _, z := range n.book.Inside {
		prefix, ok := zone.ReversePrefix(z.Name)
		if !ok {
			continue
		}
		for _, e := range z.Entries {
			name := z.Whole(e)
			if prefix.Bits() > 24 {
				name = e.Owner + "." + zone.ReverseParent(prefix)
			}
			if a, ok := zone.Reversed(name); ok && e.Type == "PTR" {
				n.reverse[a] = append(n.reverse[a], zone.Target(e.Data, z.Name))
			}
		}
	}
	families := map[string]string{}
	for _, r := range check.Rules() {
		families[r.Slug] = r.Family
	}
	for _, f := range p.Judgement.Findings {
		if families[f.Rule] != "Names" && f.Rule != "address-two-owners" {
			continue
		}
		for _, ref := range f.Parts {
			if _, had := n.marks[ref]; !had { // gravest first
				n.marks[ref] = f
			}
		}
	}
	return n
}

func (n *namer) layers() []ResolverLayer {
	var out []ResolverLayer
	mark := func(s ResolverLayer, ref site.Ref) ResolverLayer {
		s.Ref = ref.String()
		if f, ok := n.marks[ref]; ok {
			s.Severity = string(f.Severity)
		}
		return s
	}
	resolver := site.Ref{}
	if n.resolver != nil {
		resolver = site.Ref{Kind: site.KindResolver, ID: n.resolver.ID}
		says := map[string]string{site.LeaseNamesAll: "names that clients say of themselves",
			site.LeaseNamesReserved: "names of reservations alone"}[n.resolver.LeaseNames]
		out = append(out, mark(ResolverLayer{ID: layerLeases, Title: "Leases", Says: cmp.Or(says, "carry no names"),
			Count: len(n.leaseNames)}, resolver))
	}
	var reverse []*compile.Pages
	answered := "answered by nobody yet"
	if n.resolver != nil {
		answered = "inside, answered by " + n.device.Name
	}
	for _, z := range n.book.Inside {
		if _, is := zone.ReversePrefix(z.Name); is {
			reverse = append(reverse, z)
			continue
		}
		out = append(out, mark(ResolverLayer{ID: z.Zone.ID, Title: z.Name, Says: answered, Count: len(n.rowsOf(z)),
			Mono: true},
			site.Ref{Kind: site.KindZone, ID: z.Zone.ID}))
	}
	if len(reverse) > 0 {
		s := ResolverLayer{ID: layerReverse, Title: "Reverse", Says: "written with the names", Count: len(n.reverse)}
		for _, z := range reverse {
			if z.Zone != nil {
				s.Severity = cmp.Or(s.Severity, mark(s, site.Ref{Kind: site.KindZone, ID: z.Zone.ID}).Severity)
			}
		}
		out = append(out, s)
	}
	if r := n.resolver; r != nil {
		var first string
		if len(r.Domains) > 0 {
			first = r.Domains[0].Domain + " → " + r.Domains[0].Servers[0].Address.String()
		}
		out = append(out, ResolverLayer{ID: layerServers, Title: "Other servers", Count: len(r.Domains),
			Says: cmp.Or(first, "none for a single domain"), Ref: resolver.String()})
		out = append(out, ResolverLayer{ID: layerHome, Title: "Not forwarded", Says: keptWords(r), Count: len(
			r.Silenced),
			Ref: resolver.String()})
		var to []string
		for _, f := range r.Forwarders {
			text := f.Address.String()
			if f.TLSName != "" {
				text += " (TLS)"
			}
			to = append(to, text)
		}
		out = append(out, mark(ResolverLayer{ID: layerForwarders, Title: "Forwarders", Count: len(r.Forwarders),
			Says: cmp.Or(strings.Join(to, ", "), "nobody else is asked")}, resolver))
	}
	for _, z := range n.book.Outside {
		says := "as the document has it"
		if told := n.ZoneReading(z.Zone.ID); told != nil && told.Problem != "" {
			says = "its server is not read"
		} else if told != nil {
			says = "read from " + z.Zone.Server.Address.String()
		}
		out = append(out, mark(ResolverLayer{ID: z.Zone.ID, Title: z.Name, Says: says, Outside: true,
			Mono:  true,
			Count: len(z.Entries)}, site.Ref{Kind: site.KindZone, ID: z.Zone.ID}))
	}
	return out
}

func keptWords(r *site.Resolver) string {
	var out []string
	if r.KeepsShort {
		out = append(out, "short names")
	}
	if r.KeepsPrivate {
		out = append(out, "private reverse", "home.arpa")
	}
	if len(r.Silenced) > 0 {
		out = append(out, site.Counted(len(r.Silenced), "silenced domain"))
	}
	return cmp.Or(strings.Join(out, ", "), "nothing")
}

// choose lists a layer.
func (n *namer) choose(v *NamesView, chosen string) {
	if z := n.pages(chosen); z != nil {
		n.listZone(v, z)
		return
	}
	v.Ref = v.Resolver
	switch {
	case chosen == layerReverse:
		v.Chosen, v.Title, v.Ref = chosen, "Reverse", ""
		v.Says = "The name of each address, in " + site.Counted(len(n.reverseZones()), "zone")
		v.Rows = n.reverseRows()
	case n.resolver == nil:
		n.listFirst(v)
	case chosen == layerLeases:
		v.Chosen, v.Title, v.Rows = chosen, "Leases", n.leaseRows()
		v.Says = "A record counts before a reservation, and that before the older lease"
		v.ReadAt, v.ReadFrom = readAt(order.On(n.beside.Access, n.device.ID)), n.device.Name
	case chosen == layerServers, chosen == layerHome, chosen == layerForwarders:
		v.Chosen = chosen
		v.Title = map[string]string{layerServers: "Other servers", layerHome: "Not forwarded",
			layerForwarders: "Forwarders"}[chosen]
		v.Says = map[string]string{
			layerServers:    "Who is asked for the names of one domain",
			layerHome:       "What " + n.resolver.Name + " answers itself and never sends out",
			layerForwarders: "Who is asked for everything else, in order",
		}[chosen]
		v.Rows = n.settingRows(chosen)
	default:
		n.listFirst(v)
	}
}

// listFirst lists the site's own zone, or the first there is.
func (n *namer) listFirst(v *NamesView) {
	if home, ok := n.HomeZone(); ok {
		n.listZone(v, n.pages(home.ID))
		return
	}
	for _, z := range slices.Concat(n.book.Inside, n.book.Outside) {
		if z.Zone != nil {
			n.listZone(v, z)
			return
		}
	}
	v.Title = "Names"
}

func (n *namer) pages(id string) *compile.Pages {
	for _, z := range slices.Concat(n.book.Inside, n.book.Outside) {
		if z.Zone != nil && z.Zone.ID == id {
			return z
		}
	}
	return nil
}

// everyNetwork is all of so many networks.
func everyNetwork(n int) string {
	if n == 1 {
		return "the network"
	}
	return fmt.Sprintf("all %d networks", n)
}

func (n *namer) listZone(v *NamesView, z *compile.Pages) {
	v.Chosen, v.Title, v.Ref = z.Zone.ID, z.Name, site.Ref{Kind: site.KindZone, ID: z.Zone.ID}.String()
	v.Says = "TTL " + secondsWords(cmp.Or(z.Zone.TTL, site.DefaultTTL))
	if z.Partial() {
		v.Says += " · names it does not have are asked of the forwarders"
	}
	switch {
	case z.Side == site.Outside:
		v.Says += " · seen from the internet"
	case n.resolver != nil && len(n.resolver.Askers) == 0:
		v.Says += " · " + everyNetwork(len(n.Networks)) + " may ask"
	case n.resolver != nil:
		v.Says += " · " + words(n.resolver.Askers) + " may ask"
	}
	v.Rows = n.rowsOf(z)
	if z.Side == site.Outside {
		v.Rows = append(v.Rows, n.challenges(z)...)
		v.Keys = n.outer().outsideKeys(z.Zone, time.Now())
		for _, f := range n.Followings(time.Now()) {
			if owner, in := zone.Relative(f.Name, z.Name); in && compile.Find(n.book.Outside, f.Name) == z {
				v.Lines = append(v.Lines, f)
				for _, track := range f.Tracks {
					r := NameRow{Key: f.Ref + track.Type, Name: owner, Whole: f.Name, Ref: f.Ref, Type: track.Type,
						From: "follows " + f.Line}
					if k := len(track.Had) - 1; k >= 0 {
						r.Outside = track.Had[k].Address
					}
					if mark, ok := n.marks[site.ParseRef(f.Ref)]; ok {
						r.Severity, r.Finding = string(mark.Severity), mark.ID
					}
					v.Rows = append(v.Rows, r)
					if w, ok := n.Follower(site.ParseRef(f.Ref).ID); ok && w.Wildcard {
						r.Key, r.Name, r.Whole = r.Key+"*", "*."+r.Name, "*."+r.Whole
						v.Rows = append(v.Rows, r)
					}
				}
			}
		}
	}
	if told := n.ZoneReading(z.Zone.ID); told != nil && z.Side == site.Outside {
		v.ReadAt, v.ReadFrom, v.Problem = told.ReadAt, z.Zone.Server.Address.String(), told.Problem
		if told.ReadAt != nil {
			v.Rows = n.compared(v.Rows, z, told.Records)
		}
	}
	if _, reverse := zone.ReversePrefix(z.Name); reverse {
		v.Rows = n.plainRows(z)
	}
}

func secondsWords(s int) string {
	switch {
	case s%86400 == 0:
		return site.Counted(s/86400, "day")
	case s%3600 == 0:
		return site.Counted(s/3600, "hour")
	case s%60 == 0:
		return site.Counted(s/60, "minute")
	}
	return site.Counted(s, "second")
}

// settingRows lists what of the resolver's settings a layer is.
func (n *namer) settingRows(layer string) []NameRow {
	out := []NameRow{}
	add := func(name, value, from string) {
		out = append(out, NameRow{Key: fmt.Sprint(len(out)), Name: name, Inside: value, From: from,
			Ref: site.Ref{Kind: site.KindResolver, ID: n.resolver.ID}.String()})
	}
	switch layer {
	case layerServers:
		for _, d := range n.resolver.Domains {
			var to []string
			for _, f := range d.Servers {
				to = append(to, f.String())
			}
			add(d.Domain, strings.Join(to, ", "), "with all below it")
		}
	case layerForwarders:
		for i, f := range n.resolver.Forwarders {
			how := "UDP and TCP"
			if f.TLSName != "" {
				how = "TLS, as " + f.TLSName
			}
			add(fmt.Sprint(i+1), f.AddrPort().String(), how)
		}
	case layerHome:
		says := map[bool]string{true: "never sent out", false: "sent to the forwarders"}
		add("names of one word", says[n.resolver.KeepsShort], "that are not there")
		add("reverse names of private addresses", says[n.resolver.KeepsPrivate], "RFC 6303")
		add("localhost, .local, home.arpa and others", says[n.resolver.KeepsPrivate], "RFC 6761")
		for _, d := range n.resolver.Silenced {
			add(d, "blocked", "with all below it")
		}
	}
	return out
}

// askers lists who can ask: each network, each pinned client, each device, and the internet.
func (n *namer) askers() []AskerChoice {
	out := []AskerChoice{}
	for _, v := range n.Networks {
		out = append(out, AskerChoice{site.Ref{Kind: site.KindNetwork, ID: v.ID}.String(), "a client of " + v.Name,
			"networks"})
	}
	on := func(id string) string {
		if v, ok := n.Scene.Network(id); ok {
			return ", " + v.Name
		}
		return ""
	}
	const most = 500 // more are found by their address
	for _, r := range n.Reservations[:min(len(n.Reservations), most)] {
		out = append(out, AskerChoice{site.Ref{Kind: site.KindReservation, ID: r.ID}.String(),
			r.NameOrAddress() + on(r.Network), "clients"})
	}
	for _, f := range n.FixedDevices[:min(len(n.FixedDevices), most)] {
		out = append(out, AskerChoice{site.Ref{Kind: site.KindFixedDevice, ID: f.ID}.String(), f.Name + on(f.Network),
			"clients"})
	}
	for _, d := range n.Devices {
		out = append(out, AskerChoice{site.Ref{Kind: site.KindDevice, ID: d.ID}.String(), d.Name + " itself",
			"devices"})
	}
	return append(out, AskerChoice{names.Internet, "the internet", "outside"})
}
