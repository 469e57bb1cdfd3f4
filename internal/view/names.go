package view

import (
	"cmp"
	"errors"
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
	"lithos/internal/actor"
	"lithos/internal/order"
)

// The strata of the page of names that are no zone.
const (
	stratumLeases     = "leases"
	stratumReverse    = "reverse"
	stratumServers    = "servers"
	stratumHome       = "home"
	stratumForwarders = "forwarders"
)

// NamesView is the names of a site: the strata that a question falls through, and what one of them
// holds.
type NamesView struct {
	Version  int32              `json:"version"`
	Strata   []Stratum          `json:"strata"`
	Chosen   string             `json:"chosen"` // id of the stratum that is listed
	Title    string             `json:"title"`
	Says     string             `json:"says"`
	Ref      string             `json:"ref,omitempty"` // of the zone or resolver listed
	Rows     []NameRow          `json:"rows"`
	Changes  []compile.Answered `json:"changes"` // what the draft changes in answers
	Askers   []AskerChoice      `json:"askers"`
	Resolver string             `json:"resolver,omitempty" doc:"ref of the one whose strata are listed"`
	Others   []AskerChoice      `json:"others" doc:"the site's resolvers, where it has several"`
	ReadAt   *time.Time         `json:"readAt,omitempty" doc:"when the device or server that told what is listed was read last"`
	ReadFrom string             `json:"readFrom,omitempty" doc:"that device or server"`
	Problem  string             `json:"problem,omitempty" doc:"why it could not be read the last time"`
	Lines    []Following        `json:"lines" doc:"names of the listed zone that follow a line"`
	Keys     *OutsideKeys       `json:"keys,omitempty" doc:"of an outside zone whose provider makes keys"`
	Missing  string             `json:"missing,omitempty" enum:"resolver,zone" doc:"the first step of a site that keeps no names"`
}

// Stratum is one layer that a question falls through.
type Stratum struct {
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
	Told        string `json:"told,omitempty" doc:"of an outside zone: what its server told when it was read last"`
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

// Told is an outside zone as its server had it when it was last read; nil where it never was.
func (p *Page) Told(zoneID string) *order.ZoneReading { return p.outer().Told(zoneID) }

// Told is what an outside zone had when its server was read last; nil where nothing is known.
func (p *outer) Told(zoneID string) *order.ZoneReading {
	i := slices.IndexFunc(p.beside.Zones, func(z order.ZoneReading) bool { return z.ZoneID == zoneID })
	if i < 0 {
		return nil
	}
	return &p.beside.Zones[i]
}

// namer draws the page of names.
type namer struct {
	*Page
	book     *compile.Book
	resolver *site.Resolver // whose strata are listed, nil for none
	device   *site.Device   // that it runs on
	held     []names.Held   // names of its leases
	leases   map[netip.Addr]dhcp.Lease
	ages     map[string]time.Time // since when there are names, by compile.NameKey
	reverse  map[netip.Addr][]string
	marks    map[site.Ref]check.Finding // the gravest finding of a part, of rules about names
	changed  map[string]string          // whole names that the draft adds or changes
}

// Names is the page of names; chosen is the stratum that is listed, the site's own zone where empty, and
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
	v.Strata = n.strata()
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

// ZoneText is a zone in an open format.
type ZoneText struct {
	Name string   `json:"name" doc:"of the file"`
	Text string   `json:"text"`
	Left []string `json:"left" doc:"what the format cannot carry"`
}

// ZoneText writes a zone of the site out. told is of an outside zone: what its server told when it was
// read last, in place of what the document says.
func (p *Page) ZoneText(id, format string, told bool) (ZoneText, error) {
	z, ok := p.Zone(id)
	pages := (*compile.Pages)(nil)
	if ok {
		pages, ok = names.FindPages(p.Book(), z.Side, z.Name)
	}
	if !ok {
		return ZoneText{}, actor.Refuse(actor.Missing, "This site has no such zone; look at its names anew.")
	}
	out := ZoneText{Name: strings.ReplaceAll(z.Name, "/", "-") + "." + format, Left: []string{}}
	if told {
		read := p.Told(id)
		if read == nil || read.ReadAt == nil {
			return out, actor.Refuse(actor.Conflict, "The server of %s has not been read yet.", z.Name)
		}
		as := *pages
		as.Entries = nil
		for _, r := range read.Records {
			as.Entries = append(as.Entries, compile.Entry{Record: r, From: site.Ref{Kind: site.KindZone, ID: id}})
		}
		pages = &as
	}
	var b strings.Builder
	left, err := names.Write(&b, p.Site, pages, format, uint32(time.Now().Unix()))
	if err != nil {
		return out, actor.Refuse(actor.Invalid, "%s", err)
	}
	out.Text, out.Left = b.String(), append(out.Left, left...)
	return out, nil
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
		n.held = names.HeldOf(compile.Device(p.Site, n.device.ID).DHCP, n.resolver.LeaseNames, leases, time.Now())
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

func (n *namer) strata() []Stratum {
	var out []Stratum
	mark := func(s Stratum, ref site.Ref) Stratum {
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
		out = append(out, mark(Stratum{ID: stratumLeases, Title: "Leases", Says: cmp.Or(says, "carry no names"),
			Count: len(n.held)}, resolver))
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
		out = append(out, mark(Stratum{ID: z.Zone.ID, Title: z.Name, Says: answered, Count: len(n.rowsOf(z)),
			Mono: true},
			site.Ref{Kind: site.KindZone, ID: z.Zone.ID}))
	}
	if len(reverse) > 0 {
		s := Stratum{ID: stratumReverse, Title: "Reverse", Says: "written with the names", Count: len(n.reverse)}
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
		out = append(out, Stratum{ID: stratumServers, Title: "Other servers", Count: len(r.Domains),
			Says: cmp.Or(first, "none for a single domain"), Ref: resolver.String()})
		out = append(out, Stratum{ID: stratumHome, Title: "Kept at home", Says: kept(r), Count: len(r.Silenced),
			Ref: resolver.String()})
		var to []string
		for _, f := range r.Forwarders {
			text := f.Address.String()
			if f.TLSName != "" {
				text += " (TLS)"
			}
			to = append(to, text)
		}
		out = append(out, mark(Stratum{ID: stratumForwarders, Title: "Forwarders", Count: len(r.Forwarders),
			Says: cmp.Or(strings.Join(to, ", "), "nobody else is asked")}, resolver))
	}
	for _, z := range n.book.Outside {
		says := "as the document has it"
		if told := n.Told(z.Zone.ID); told != nil && told.Problem != "" {
			says = "its server is not read"
		} else if told != nil {
			says = "read from " + z.Zone.Server.Address.String()
		}
		out = append(out, mark(Stratum{ID: z.Zone.ID, Title: z.Name, Says: says, Outside: true,
			Mono:  true,
			Count: len(z.Entries)}, site.Ref{Kind: site.KindZone, ID: z.Zone.ID}))
	}
	return out
}

func kept(r *site.Resolver) string {
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

// choose lists a stratum.
func (n *namer) choose(v *NamesView, chosen string) {
	if z := n.pages(chosen); z != nil {
		n.listZone(v, z)
		return
	}
	v.Ref = v.Resolver
	switch {
	case chosen == stratumReverse:
		v.Chosen, v.Title, v.Ref = chosen, "Reverse", ""
		v.Says = "The name of each address, in " + site.Counted(len(n.reverseZones()), "zone")
		v.Rows = n.reverseRows()
	case n.resolver == nil:
		n.listFirst(v)
	case chosen == stratumLeases:
		v.Chosen, v.Title, v.Rows = chosen, "Leases", n.leaseRows()
		v.Says = "A record counts before a reservation, and that before the older lease"
		v.ReadAt, v.ReadFrom = readAt(order.On(n.beside.Access, n.device.ID)), n.device.Name
	case chosen == stratumServers, chosen == stratumHome, chosen == stratumForwarders:
		v.Chosen = chosen
		v.Title = map[string]string{stratumServers: "Other servers", stratumHome: "Kept at home",
			stratumForwarders: "Forwarders"}[chosen]
		v.Says = map[string]string{
			stratumServers:    "Who is asked for the names of one domain",
			stratumHome:       "What " + n.resolver.Name + " answers itself and never sends out",
			stratumForwarders: "Who is asked for everything else, in order",
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
	if told := n.Told(z.Zone.ID); told != nil && z.Side == site.Outside {
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

// rowsOf lists a zone by names: one row for what one part says of a name in one type.
func (n *namer) rowsOf(z *compile.Pages) []NameRow {
	if z.Side == site.Outside {
		return n.plainRows(z)
	}
	out := []NameRow{}
	index := map[string]int{}
	add := func(e compile.Entry, hidden bool) {
		of := n.ownerOf(e)
		key := e.Owner + "/" + e.Type + "/" + of.String()
		if i, ok := index[key]; ok { // another address of the same machine
			out[i].Inside += ", " + e.Data
			out[i].ReverseSays = cmp.Or(out[i].ReverseSays, n.reverseSays(z.Whole(e), e))
			return
		}
		index[key] = len(out)
		out = append(out, n.row(z, e, of, key, hidden))
	}
	for _, e := range z.Entries {
		add(e, false)
	}
	for _, e := range z.Hidden {
		add(e, true)
	}
	slices.SortStableFunc(out, func(a, b NameRow) int { return cmp.Compare(sortName(a.Name), sortName(b.Name)) })
	return out
}

// challenges are the records by which certificates are had, which their keys write.
func (n *namer) challenges(z *compile.Pages) []NameRow {
	var out []NameRow
	for i := range n.Certificates {
		c := &n.Certificates[i]
		owner, in := zone.Relative(c.Challenge(), z.Name)
		if best := compile.Find(n.book.Outside, c.Challenge()); !in || best != z {
			continue
		}
		ref := site.Ref{Kind: site.KindCertificate, ID: c.ID}
		r := NameRow{Key: ref.String(), Name: owner, Whole: c.Challenge(), Ref: ref.String(), Type: "TXT",
			OutsideSays: "written at need", From: "certificate"}
		if f, ok := n.marks[ref]; ok {
			r.Severity, r.Finding = string(f.Severity), f.ID
		}
		out = append(out, r)
	}
	return out
}

// compared puts what the world is told beside what the document says, and adds what only the server has.
func (n *namer) compared(rows []NameRow, z *compile.Pages, told []zone.Record) []NameRow {
	values := map[string][]string{}
	for _, r := range told {
		key := strings.ToLower(r.Owner) + "/" + r.Type
		values[key] = append(values[key], r.Data)
	}
	ours := map[string]bool{}
	for i := range rows {
		key := rows[i].Name + "/" + rows[i].Type
		ours[key] = true
		if rows[i].From == "certificate" {
			continue
		}
		rows[i].Told = "nothing"
		if list := values[key]; slices.Contains(list, rows[i].Outside) {
			rows[i].Told = rows[i].Outside
		} else if len(list) > 0 {
			rows[i].Told = strings.Join(list, ", ")
		}
	}
	for _, r := range told {
		if key := strings.ToLower(r.Owner) + "/" + r.Type; !ours[key] {
			rows = append(rows, NameRow{Key: "told/" + key + "/" + r.Data, Name: r.Owner,
				Whole: zone.Absolute(r.Owner, z.Name), Type: r.Type, Told: r.Data, TTL: r.TTL,
				From: "its server alone"})
		}
	}
	slices.SortStableFunc(rows, func(a, b NameRow) int { return cmp.Compare(sortName(a.Name), sortName(b.Name)) })
	return rows
}

// age is since when the site has a name.
func (n *namer) age(z *compile.Pages, whole, typ string) string {
	if since, known := n.ages[compile.NameKey(z.Side, whole, typ)]; known && n.changed[whole] != "added" {
		return since.UTC().Format(time.RFC3339)
	}
	return ""
}

// sortName puts the zone itself first, and a wildcard where its domain is.
func sortName(name string) string {
	if name == zone.Apex {
		return ""
	}
	return strings.TrimPrefix(name, "*.")
}

// ownerOf is the part that people know an entry by: a device for its interfaces.
func (n *namer) ownerOf(e compile.Entry) site.Ref {
	if e.From.Kind == site.KindInterface {
		if d, _, ok := n.Interface(e.From.ID); ok {
			return site.Ref{Kind: site.KindDevice, ID: d.ID}
		}
	}
	return e.From
}

func (n *namer) row(z *compile.Pages, e compile.Entry, of site.Ref, key string, hidden bool) NameRow {
	whole := z.Whole(e)
	r := NameRow{Key: key, Name: e.Owner, Whole: whole, Ref: of.String(), Type: e.Type, Inside: e.Data, TTL: z.TTL(e),
		From: n.fromWords(e), Hidden: hidden, Changed: n.changed[whole], Since: n.age(z, whole, e.Type)}
	if e.In.ID != "" {
		r.In = e.In.String()
	}
	switch e.From.Kind {
	case site.KindRecord:
		r.NameField, r.ValueField = "owner", "data"
	case site.KindService:
		r.NameField, r.ValueField = "name", "base"
	case site.KindReservation, site.KindFixedDevice:
		r.NameField, r.ValueField = "name", "address"
	case site.KindInterface:
		r.NameField = "name"
	}
	if e.Type == "CNAME" {
		r.Alias = true
		aliases, addresses, _ := compile.Leads(n.book.Inside, whole)
		r.Leads = strings.Join(append(aliases, addresses...), " → ")
	}
	if e.Type == "A" || e.Type == "CNAME" || e.Type == "AAAA" {
		r.Outside, r.OutsideSays = n.outside(whole, e.From.Kind == site.KindRecord || e.From.Kind == site.KindService)
	}
	if e.Type == "A" {
		r.Reverse, r.ReverseSays = "", n.reverseSays(whole, e)
		if a, err := netip.ParseAddr(e.Data); err == nil && r.ReverseSays == "" && slices.Contains(n.reverse[a],
			whole) {
			r.Reverse = e.Data
		}
	}
	for _, ref := range []site.Ref{e.From, of} {
		if f, ok := n.marks[ref]; ok && r.Finding == "" {
			r.Severity, r.Finding = string(f.Severity), f.ID
		}
	}
	return r
}

// outside is what the world is told of a name. That it is told nothing is said of names that somebody
// wrote.
func (n *namer) outside(whole string, byHand bool) (text, says string) {
	if compile.Find(n.book.Outside, whole) == nil {
		return "", ""
	}
	_, addresses, there := compile.Leads(n.book.Outside, whole)
	switch {
	case len(addresses) > 0:
		return strings.Join(addresses, ", "), ""
	case there:
		return "", "leads nowhere"
	case byHand:
		return "", "inside only"
	}
	return "", ""
}

func (n *namer) reverseSays(whole string, e compile.Entry) string {
	a, err := netip.ParseAddr(e.Data)
	if err != nil || !n.Site.Inside(a) || e.From.Kind == site.KindRecord && len(n.reverse[a]) < 2 {
		return "" // a record by hand leaves reverse to what is at its address
	}
	list := n.reverse[a]
	switch {
	case len(list) > 1:
		return fmt.Sprintf("%s names", map[int]string{2: "two", 3: "three"}[min(len(list), 3)])
	case len(list) == 1 && list[0] != whole:
		return list[0]
	case len(list) == 0:
		return "none"
	}
	return ""
}

func (n *namer) fromWords(e compile.Entry) string {
	switch e.From.Kind {
	case site.KindRecord:
		return "by hand"
	case site.KindService:
		if i := slices.IndexFunc(n.Services, func(s site.Service) bool { return s.ID == e.From.ID }); i >= 0 {
			return "service on " + n.Services[i].Base
		}
	case site.KindInterface:
		return "interface"
	}
	if k, ok := site.KindNamed(e.From.Kind); ok {
		return k.Noun
	}
	return ""
}

// plainRows lists a zone as it is: each record by itself.
func (n *namer) plainRows(z *compile.Pages) []NameRow {
	out := []NameRow{}
	for _, e := range z.Entries {
		of := n.ownerOf(e)
		r := NameRow{Key: e.Owner + "/" + e.Type + "/" + e.Data + "/" + of.String(), Name: e.Owner, Whole: z.Whole(e),
			Ref: of.String(), Type: e.Type, TTL: z.TTL(e),
			From: n.fromWords(e), Changed: n.changed[z.Whole(e)], Since: n.age(z, z.Whole(e), e.Type)}
		if e.In.ID != "" {
			r.In = e.In.String()
		}
		if z.Side == site.Outside {
			r.Outside = e.Data
		} else {
			r.Inside = e.Data
		}
		if e.From.Kind == site.KindRecord && e.In.ID == z.Zone.ID {
			r.NameField, r.ValueField = "owner", "data"
		}
		if f, ok := n.marks[e.From]; ok {
			r.Severity, r.Finding = string(f.Severity), f.ID
		}
		out = append(out, r)
	}
	slices.SortStableFunc(out, func(a, b NameRow) int { return cmp.Compare(sortName(a.Name), sortName(b.Name)) })
	return out
}

func (n *namer) reverseZones() []*compile.Pages {
	return slices.DeleteFunc(slices.Clone(n.book.Inside), func(z *compile.Pages) bool {
		_, is := zone.ReversePrefix(z.Name)
		return !is || z.Zone == nil
	})
}

// reverseRows lists addresses by their names, over all reverse zones.
func (n *namer) reverseRows() []NameRow {
	out := []NameRow{}
	for _, z := range n.reverseZones() {
		for _, r := range n.plainRows(z) {
			if r.Type != "PTR" {
				continue
			}
			prefix, _ := zone.ReversePrefix(z.Name)
			name := r.Whole
			if prefix.Bits() > 24 {
				name = r.Name + "." + zone.ReverseParent(prefix)
			}
			if a, ok := zone.Reversed(name); ok {
				r.Name = a.String()
			}
			out = append(out, r)
		}
	}
	slices.SortStableFunc(out, func(a, b NameRow) int {
		x, _ := netip.ParseAddr(a.Name)
		y, _ := netip.ParseAddr(b.Name)
		return x.Compare(y)
	})
	return out
}

func (n *namer) leaseRows() []NameRow {
	out := []NameRow{}
	table := names.NewTable(n.held)
	clash := map[netip.Addr]bool{}
	for _, h := range table.Clashes(n.held) {
		clash[h.Address] = true
	}
	home := compile.Find(n.book.Inside, n.Domain)
	for _, h := range n.held {
		whole := zone.Absolute(h.Name, n.Domain)
		r := NameRow{Key: h.Address.String(), Name: h.Name, Whole: whole, Type: "A", Inside: h.Address.String(),
			From: "lease", Until: h.Expires.UTC().Format(time.RFC3339), Ref: kindSeen + ":" + h.Address.String()}
		l := n.leases[h.Address]
		r.Since = l.Since.UTC().Format(time.RFC3339)
		at := slices.IndexFunc(n.Reservations, func(v *site.Reservation) bool { return v.Address == h.Address })
		if at >= 0 {
			r.From, r.NameField = "lease of a reservation", "name"
			r.Ref = site.Ref{Kind: site.KindReservation, ID: n.Reservations[at].ID}.String()
		} else {
			r.NameField = "name"
			r.Makes = map[string]string{"address": h.Address.String(), "mac": l.MAC.String()}
			if v, in := n.NetworkOf(h.Address); in {
				r.Makes["network"] = v.ID
			}
		}
		if home != nil {
			if _, written := home.At(whole); written {
				r.Hidden, r.From = true, "lease; what is written counts"
			}
		}
		if clash[h.Address] {
			r.Hidden, r.From = true, "lease; an older one has the name"
		}
		out = append(out, r)
	}
	slices.SortStableFunc(out, func(a, b NameRow) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// settingRows lists what of the resolver's settings a stratum is.
func (n *namer) settingRows(stratum string) []NameRow {
	out := []NameRow{}
	add := func(name, value, from string) {
		out = append(out, NameRow{Key: fmt.Sprint(len(out)), Name: name, Inside: value, From: from,
			Ref: site.Ref{Kind: site.KindResolver, ID: n.resolver.ID}.String()})
	}
	switch stratum {
	case stratumServers:
		for _, d := range n.resolver.Domains {
			var to []string
			for _, f := range d.Servers {
				to = append(to, f.String())
			}
			add(d.Domain, strings.Join(to, ", "), "with all below it")
		}
	case stratumForwarders:
		for i, f := range n.resolver.Forwarders {
			how := "UDP and TCP"
			if f.TLSName != "" {
				how = "TLS, as " + f.TLSName
			}
			add(fmt.Sprint(i+1), f.AddrPort().String(), how)
		}
	case stratumHome:
		says := map[bool]string{true: "never sent out", false: "sent to the forwarders"}
		add("names of one word", says[n.resolver.KeepsShort], "that are not there")
		add("reverse names of private addresses", says[n.resolver.KeepsPrivate], "RFC 6303")
		add("localhost, .local, home.arpa and others", says[n.resolver.KeepsPrivate], "RFC 6761")
		for _, d := range n.resolver.Silenced {
			add(d, "answered with nothing", "with all below it")
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

// AskedView is the answer to a question, with what would make one where there is none.
type AskedView struct {
	names.Answer
	Version int32 `json:"version"`
	// WhyNot is the finding that says why there is no answer.
	WhyNot *Finding `json:"whyNot,omitempty"`
	// Form makes a name that is not there.
	Form *Opens `json:"form,omitempty"`
}

// Ask asks a question of the site as the page has it.
func (p *Page) Ask(q names.Question) (*AskedView, error) {
	leases := rehearse.LeasesOf(p.Site, p.beside.Seen, time.Now())
	w := names.NewWorld(time.Now(), p.Site, p.Book(), leases)
	w.Read(p.readZones())
	w.Beside(order.Programs(p.beside.Access))
	a, err := w.Ask(q)
	var fields site.FieldErrors
	if errors.As(err, &fields) {
		return nil, actor.RefuseFields("Nothing was asked", fields)
	}
	if err != nil {
		return nil, err
	}
	out := &AskedView{Answer: a, Version: p.Version()}
	if a.Outcome != names.Found {
		p.whyNot(out, q)
	}
	return out, nil
}

// readZones is what the servers of the outside zones held when they were read last, by the name of the zone.
func (p *Page) readZones() map[string]names.ReadZone {
	out := map[string]names.ReadZone{}
	for _, z := range p.Site.Zones {
		read := p.Told(z.ID)
		if z.Side == site.Outside && read != nil && read.ReadAt != nil {
			out[z.Name] = names.ReadZone{At: *read.ReadAt, Serial: read.Serial, Records: read.Records,
				Whole: p.draft == nil}
		}
	}
	return out
}

// whyNot finds the first step that would make an answer.
func (p *Page) whyNot(out *AskedView, q names.Question) {
	for _, s := range out.Steps {
		if s.Rule == "" {
			continue
		}
		for _, f := range p.Judgement.Findings {
			if f.Rule == s.Rule && (f.Network == "" || f.Network == out.Network) {
				found := p.finding(f)
				out.WhyNot = &found
				return
			}
		}
	}
	side := site.Inside
	if q.Who == names.Internet {
		side = site.Outside
	}
	if out.Outcome != names.NoName && out.Outcome != names.Nothing {
		return
	}
	missing := out.Name
	if n := len(out.Values); n > 0 {
		missing = out.Values[n-1] // what its aliases lead to is not there
	}
	z, ok := p.ZoneOf(missing, side)
	if !ok {
		return
	}
	owner, _ := zone.Relative(missing, z.Name)
	typ := out.Type
	if !slices.Contains(zone.Types(), typ) {
		return
	}
	out.Form = &Opens{Kind: site.KindRecord, In: site.Ref{Kind: site.KindZone, ID: z.ID}.String(),
		Title: "Add " + missing, Values: map[string]string{"owner": owner, "type": typ}}
}
