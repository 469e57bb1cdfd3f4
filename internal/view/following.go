package view

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"lithos/core/check"
	"lithos/core/dynamicnames"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/core/zone"
	"lithos/internal/order"
)

// drawnFor is how much of the past the tracks of a dynamic name show: as much as is known, within these.
const (
	drawnFor      = 24 * time.Hour
	drawnForLeast = 10 * time.Minute
)

// Following is a dynamic name, with what the line had and what the world was told.
type Following struct {
	Ref      string          `json:"ref"`
	Name     string          `json:"name"`
	Site     string          `json:"site"` // code
	SiteName string          `json:"siteName"`
	Zone     string          `json:"zone,omitempty" doc:"id of the outside zone that it is in"`
	Line     string          `json:"line"` // in words
	KeptBy   string          `json:"keptBy" doc:"who tells it and how, in words"`
	Address  string          `json:"address,omitempty" doc:"what the line has now"`
	State    string          `json:"state" enum:"follows,wrong,untold,unreached,off,unknown"`
	Says     string          `json:"says"`
	Since    *time.Time      `json:"since,omitempty" doc:"since when it is so"`
	Begins   time.Time       `json:"begins" doc:"where the tracks begin"`
	Tracks   []FollowedTrack `json:"tracks" doc:"one for each type of record that it has"`
	Attempts []Attempt       `json:"attempts" doc:"what was sent, the newest first"`
	Key      *OutsideKey     `json:"key,omitempty" doc:"its key, where its provider tells of keys"`
	Proposed int             `json:"proposed,omitempty" doc:"how long others should keep it, in seconds, from how often its line has changed; nothing where too little is known"`
	TTL      int             `json:"ttl" doc:"how long they may, in seconds"`
	Notices  []Notice        `json:"notices" doc:"what else is wrong with it"`
}

// FollowedTrack is what the line had and what the world was told in one type of record.
type FollowedTrack struct {
	Type     string         `json:"type" enum:"A,AAAA"`
	Had      []FollowedSpan `json:"had" doc:"what the line had"`
	AtServer []FollowedSpan `json:"atServer" doc:"what the world was told"`
}

// FollowedSpan is a part of a track, from and to in parts of the whole.
type FollowedSpan struct {
	Address string  `json:"address"`
	From    float64 `json:"from"`
	To      float64 `json:"to"`
	Wrong   bool    `json:"wrong,omitempty"`
}

// Attempt is one update that was sent.
type Attempt struct {
	At      time.Time `json:"at"`
	Address string    `json:"address"`
	Taken   bool      `json:"taken"`
	Says    string    `json:"says"`
}

// Notice is something that somebody should see, in a line.
type Notice struct {
	Kind     string         `json:"kind" doc:"the rule that found it, or key-unused"`
	Severity check.Severity `json:"severity" enum:"blocks,warns,notes"`
	Says     string         `json:"says"`
}

// outer is what of a site is about its dynamic names and their keys, and what is known beside.
type outer struct {
	*site.Site
	beside   order.Beside
	findings []check.Finding
}

func (p *Page) outer() *outer { return &outer{p.Scene.Site, p.beside, p.Judgement.Findings} }

// Followings are the names of the site that follow lines.
func (p *Page) Followings(now time.Time) []Following { return p.outer().followings(now) }

// Followed are the dynamic names of sites, in the order of the sites.
func Followed(sites []order.Followed, now time.Time) []Following {
	out := []Following{}
	for _, f := range sites {
		o := &outer{f.Site, f.Beside, check.Following(f.Site, f.Beside.Around(f.Site))}
		out = append(out, o.followings(now)...)
	}
	return out
}

func (p *outer) followings(now time.Time) []Following {
	out := []Following{}
	for i := range p.Site.Following {
		out = append(out, p.following(&p.Site.Following[i], now))
	}
	return out
}

// nameSpans is an address over a time.
type nameSpans struct {
	address  netip.Addr
	from, to time.Time
}

func (p *outer) following(w *site.Following, now time.Time) Following {
	f := Following{Ref: site.Ref{Kind: site.KindFollowing, ID: w.ID}.String(), Name: w.Name, Site: p.Site.Code,
		SiteName: p.Site.Name, Line: "no line", Begins: now.Add(-drawnFor), Attempts: []Attempt{},
		TTL: cmp.Or(w.TTL, site.FollowingTTL), Tracks: []FollowedTrack{}, Notices: []Notice{}}
	z, hasZone := p.ZoneOf(w.Name, site.Outside)
	if hasZone {
		f.Zone = z.ID
	}
	device := "nobody"
	if d, i, ok := p.Interface(w.Uplink); ok {
		f.Line, device = i.Name+" of "+d.Name, d.Name
	}
	f.KeptBy = keptBy(w, device)
	had := map[string][]nameSpans{}
	first := now
	for _, typ := range w.Types() {
		for _, l := range p.beside.Lines {
			if l.Interface == w.Line() && l.Address.Is4() == (typ == "A") {
				had[typ] = append(had[typ], nameSpans{l.Address, l.First, l.Last})
			}
		}
		for i, list := 0, had[typ]; i < len(list); i++ {
			if list[i].to = now; i+1 < len(list) {
				list[i].to = list[i+1].from
			}
			if list[i].from.Before(first) {
				first = list[i].from
			}
		}
	}
	if first.After(f.Begins) {
		f.Begins = first
	}
	if least := now.Add(-drawnForLeast); f.Begins.After(least) {
		f.Begins = least
	}
	sent := p.beside.SentOf(w.ID)
	for _, sent := range sent {
		f.Attempts = append(f.Attempts, Attempt{sent.At, sent.Address.String(), sent.Taken, sent.Says})
	}
	slices.Reverse(f.Attempts)
	f.Attempts = f.Attempts[:min(len(f.Attempts), 20)]
	for _, typ := range w.Types() {
		told := toldSpans(sent, p.beside.ReadOf(w.ID, typ), typ, now)
		if len(told) > 0 && len(had[typ]) > 0 && told[0].from.After(had[typ][0].from) && len(sent) == 0 {
			told[0].from = had[typ][0].from // its server has had it since before it was read first
		}
		f.Tracks = append(f.Tracks, FollowedTrack{typ, f.spans(had[typ], nil, now), f.spans(told, had[typ], now)})
	}
	p.stand(&f, w, had)
	f.propose(had, first, now)
	if hasZone {
		f.Key = p.outsideKey(z, w.Key, now)
	}
	p.notice(&f)
	return f
}

// keptBy says who tells a name and how.
func keptBy(w *site.Following, device string) string {
	how := "an UPDATE"
	if w.How == site.ByRequest {
		how = "an HTTPS request"
	}
	if w.Keeper != site.KeptByDevice {
		return fmt.Sprintf("Lithos, when it reads %s, by %s", device, how)
	}
	every := time.Duration(cmp.Or(w.Every, site.FollowingEvery)) * time.Second
	if w.Source == site.AskedOutside {
		return fmt.Sprintf("%s, which asks outside every %s, by %s", device, option.FormatDuration(every), how)
	}
	return fmt.Sprintf("%s, every %s and at a change, by %s", device, option.FormatDuration(every), how)
}

// toldSpans is what the world was told over time: what was sent from here, and what its server was read to answer,
// which counts where the two differ. An answer of none or several addresses is no span.
func toldSpans(all []order.SentAddress, read []order.ReadAddress, typ string, now time.Time) []nameSpans {
	var events []nameSpans
	for _, sent := range all {
		if sent.Taken && sent.Address.Is4() == (typ == "A") {
			events = append(events, nameSpans{sent.Address, sent.At, now})
		}
	}
	for _, r := range read {
		a := netip.Addr{}
		if len(r.Data) == 1 {
			a, _ = netip.ParseAddr(r.Data[0])
		}
		events = append(events, nameSpans{a, r.First, now})
	}
	slices.SortStableFunc(events, func(a, b nameSpans) int { return a.from.Compare(b.from) })
	var told []nameSpans
	for _, e := range events {
		n := len(told)
		if n > 0 && told[n-1].address == e.address {
			continue
		}
		if n > 0 {
			told[n-1].to = e.from
		}
		told = append(told, e)
	}
	return slices.DeleteFunc(told, func(h nameSpans) bool { return !h.address.IsValid() })
}

// watchedFor is how long a line has to be known before a TTL is proposed from how often it changes.
const watchedFor = 24 * time.Hour

// propose is the TTL for how often the line has changed, where it has been known for long enough.
func (f *Following) propose(had map[string][]nameSpans, first, now time.Time) {
	known := now.Sub(first)
	if known < watchedFor {
		return
	}
	changes := 0
	for _, list := range had {
		changes = max(changes, len(list)-1)
	}
	f.Proposed = int(dynamicnames.ProposedTTL(changes, known) / time.Second)
}

// notice is what the rules found about a name beside how it stands, and whether its key is used at all.
func (p *outer) notice(f *Following) {
	stands := []string{"ddns-stale", "ddns-record-missing", "ddns-shared-address", "ddns-private-address"}
	for _, found := range p.findings {
		about := slices.ContainsFunc(found.Parts, func(r site.Ref) bool { return r.String() == f.Ref })
		if about && !slices.Contains(stands, found.Rule) {
			f.Notices = append(f.Notices, Notice{found.Rule, found.Severity, found.Title})
		}
	}
	if f.Key != nil && f.Key.Unused {
		f.Notices = append(f.Notices, Notice{"key-unused", check.Notes,
			fmt.Sprintf("The key %s was never used", f.Key.Name)})
	}
}

// spans are the parts of a track; where beside is given, cut where that changes, and wrong where it is another.
func (f *Following) spans(list, beside []nameSpans, now time.Time) []FollowedSpan {
	out := []FollowedSpan{}
	add := func(a netip.Addr, from, to time.Time, wrong bool) {
		if from.Before(f.Begins) {
			from = f.Begins
		}
		if !to.After(from) {
			return
		}
		at := func(t time.Time) float64 { return float64(t.Sub(f.Begins)) / float64(now.Sub(f.Begins)) }
		out = append(out, FollowedSpan{Address: a.String(), From: at(from), To: at(to), Wrong: wrong})
	}
	for _, h := range list {
		from := h.from
		for _, o := range beside {
			if !o.to.After(from) || !o.from.Before(h.to) {
				continue
			}
			to := h.to
			if o.to.Before(to) {
				to = o.to
			}
			if o.from.After(from) {
				add(h.address, from, o.from, false)
				from = o.from
			}
			add(h.address, from, to, o.address != h.address)
			from = to
		}
		add(h.address, from, h.to, false)
	}
	return out
}

// stand says how a name stands now: as the worst of its addresses does.
func (p *outer) stand(f *Following, w *site.Following, had map[string][]nameSpans) {
	if !w.Enabled {
		f.State, f.Says = "off", "It is switched off."
		return
	}
	rank := map[string]int{"follows": 1, "unknown": 2, "untold": 3, "unreached": 4, "wrong": 5}
	var addresses []string
	for _, typ := range w.Types() {
		state, says, since := p.standOf(w, typ, had[typ])
		if list := had[typ]; len(list) > 0 {
			addresses = append(addresses, list[len(list)-1].address.String())
		}
		if rank[state] > rank[f.State] {
			f.State, f.Says, f.Since = state, says, since
		}
	}
	f.Address = strings.Join(addresses, " and ")
	if (f.State == "wrong" || f.State == "untold") && len(f.Attempts) > 0 && !f.Attempts[0].Taken {
		f.Says += " The last update was not taken: " + f.Attempts[0].Says + "."
	}
}

func (p *outer) standOf(w *site.Following, typ string, had []nameSpans) (state, says string, since *time.Time) {
	if len(had) == 0 {
		return "unknown", "The line’s address has not been read.", nil
	}
	line := had[len(had)-1]
	reach := dynamicnames.ReachOf(line.address)
	if reach != dynamicnames.Public && (reach != dynamicnames.Documentation || !p.beside.Documents) {
		return "unreached", "The line has no address that the world reaches.", &line.from
	}
	told, at := p.toldNow(w, typ)
	switch {
	case at == nil:
		return "unknown", "What the world is told has not been read.", nil
	case len(told) == 1 && told[0] == line.address.String():
		return "follows", "The world is told what the line has.", at
	case len(told) == 0 && p.neverTold(w, typ):
		return "untold", "The world was never told it, and knows no such name.", nil
	case len(told) == 0:
		return "wrong", "The world knows no such name any more.", p.otherwiseSince(w, typ, line)
	}
	return "wrong", fmt.Sprintf("The world is told %s.", strings.Join(told, ", ")), p.otherwiseSince(w, typ, line)
}

// neverTold reports whether a name was never told, as far back as is known: nothing of it was taken, and its server was
// never read to have it.
func (p *outer) neverTold(w *site.Following, typ string) bool {
	taken := slices.ContainsFunc(p.beside.SentOf(w.ID), func(s order.SentAddress) bool {
		return s.Taken && s.Address.Is4() == (typ == "A")
	})
	had := slices.ContainsFunc(p.beside.ReadOf(w.ID, typ), func(r order.ReadAddress) bool { return len(r.Data) > 0 })
	return !taken && !had
}

// otherwiseSince is since when the world has been told something else than the line has: since the line has its
// address, or since the server was first read to answer that, whichever came later. It is nil where neither is known.
func (p *outer) otherwiseSince(w *site.Following, typ string, line nameSpans) *time.Time {
	read := p.beside.ReadOf(w.ID, typ)
	if len(read) == 0 {
		return nil
	}
	since := read[len(read)-1].First
	if line.from.After(since) {
		since = line.from
	}
	return &since
}

// toldNow is what the server of a name had when it was read last; at is nil where it never was.
func (p *outer) toldNow(w *site.Following, typ string) (told []string, at *time.Time) {
	z, ok := p.ZoneOf(w.Name, site.Outside)
	if !ok {
		return nil, nil
	}
	reading := cmp.Or(p.ZoneReading(z.ID), &order.ZoneReading{})
	owner, _ := zone.Relative(w.Name, z.Name)
	return zone.DataAt(reading.Records, owner, typ), reading.ReadAt
}
