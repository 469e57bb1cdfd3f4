package view

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"lithos/core/outside"
	"lithos/core/site"
	"lithos/core/zone"
	"lithos/internal/order"
)

// drawnFor is how much of the past the tracks of a following name show: as much as is known, within these.
const (
	drawnFor      = 24 * time.Hour
	drawnForLeast = 10 * time.Minute
)

// Following is an outside name that follows a line, with what the line had and what the world was told.
type Following struct {
	Ref      string         `json:"ref"`
	Name     string         `json:"name"`
	Site     string         `json:"site"` // code
	SiteName string         `json:"siteName"`
	Zone     string         `json:"zone,omitempty" doc:"id of the outside zone that it is in"`
	Line     string         `json:"line"` // in words
	Address  string         `json:"address,omitempty" doc:"what the line has now"`
	State    string         `json:"state" enum:"follows,wrong,unreached,off,unknown"`
	Says     string         `json:"says"`
	Since    *time.Time     `json:"since,omitempty" doc:"since when it is so"`
	Begins   time.Time      `json:"begins" doc:"where the tracks begin"`
	Had      []FollowedSpan `json:"had" doc:"what the line had"`
	Told     []FollowedSpan `json:"told" doc:"what the world was told"`
	Attempts []Attempt      `json:"attempts" doc:"what was sent, the newest first"`
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

// Followings are the names of the site that follow lines.
func (p *Page) Followings(now time.Time) []Following {
	out := []Following{}
	for i := range p.Site.Following {
		out = append(out, p.following(&p.Site.Following[i], now))
	}
	return out
}

// held is an address over a time.
type held struct {
	address  netip.Addr
	from, to time.Time
}

func (p *Page) following(w *site.Following, now time.Time) Following {
	f := Following{Ref: site.Ref{Kind: site.KindFollowing, ID: w.ID}.String(), Name: w.Name, Site: p.Site.Code,
		SiteName: p.Site.Name, Line: "no line", Begins: now.Add(-drawnFor), Attempts: []Attempt{}}
	if z, ok := p.ZoneOf(w.Name, site.Outside); ok {
		f.Zone = z.ID
	}
	if d, i, ok := p.Interface(w.Uplink); ok {
		f.Line = i.Name + " of " + d.Name
	}
	var had, told []held
	for _, l := range p.beside.Lines {
		if l.Interface == w.Uplink {
			had = append(had, held{l.Address, l.First, l.Last})
		}
	}
	for i := range had {
		if had[i].to = now; i+1 < len(had) {
			had[i].to = had[i+1].from
		}
	}
	for _, sent := range p.beside.SentOf(w.ID) {
		f.Attempts = append(f.Attempts, Attempt{sent.At, sent.Address.String(), sent.Taken, sent.Says})
		if !sent.Taken {
			continue
		}
		if n := len(told); n > 0 {
			told[n-1].to = sent.At
		}
		told = append(told, held{sent.Address, sent.At, now})
	}
	if len(had) > 0 && had[0].from.After(f.Begins) {
		f.Begins = had[0].from
	}
	if least := now.Add(-drawnForLeast); f.Begins.After(least) {
		f.Begins = least
	}
	if len(had) > 0 {
		told = p.read(w, told, had[0].from, now)
	}
	slices.Reverse(f.Attempts)
	f.Attempts = f.Attempts[:min(len(f.Attempts), 20)]
	f.Had, f.Told = f.spans(had, nil, now), f.spans(told, had, now)
	p.stand(&f, w, had)
	return f
}

// read ends what was told with what the server had when it was read last, where that is something else. Where
// nothing was told from here, the server has had it since it was read first, with the line.
func (p *Page) read(w *site.Following, told []held, first, now time.Time) []held {
	values, at := p.toldNow(w)
	if at == nil || len(values) != 1 {
		return told
	}
	value, err := netip.ParseAddr(values[0])
	if err != nil {
		return told
	}
	if len(told) == 0 {
		return []held{{value, first, now}}
	}
	if last := &told[len(told)-1]; last.address != value && at.After(last.from) {
		last.to = *at
		told = append(told, held{value, *at, now})
	}
	return told
}

// spans are the parts of a track; where beside is given, cut where that changes, and wrong where it is another.
func (f *Following) spans(list, beside []held, now time.Time) []FollowedSpan {
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

// stand says how a name stands now.
func (p *Page) stand(f *Following, w *site.Following, had []held) {
	if !w.Enabled {
		f.State, f.Says = "off", "It is switched off."
		return
	}
	if len(had) == 0 {
		f.State, f.Says = "unknown", "The line's address has not been read."
		return
	}
	line := had[len(had)-1]
	f.Address = line.address.String()
	reach := outside.ReachOf(line.address)
	if reach != outside.Public && (reach != outside.Documentation || !p.beside.Documents) {
		f.State, f.Says, f.Since = "unreached", "The line has no address that the world reaches.", &line.from
		return
	}
	told, at := p.toldNow(w)
	switch {
	case at == nil:
		f.State, f.Says = "unknown", "What the world is told has not been read."
	case len(told) == 1 && told[0] == f.Address:
		f.State, f.Says, f.Since = "follows", "The world is told what the line has.", at
	case len(told) == 0:
		f.State, f.Says, f.Since = "wrong", "The world knows no such name.", &line.from
	default:
		f.State, f.Since = "wrong", &line.from
		f.Says = fmt.Sprintf("The world is told %s.", strings.Join(told, ", "))
	}
	if f.State == "wrong" && len(f.Attempts) > 0 && !f.Attempts[0].Taken {
		f.Says += " The last update was not taken: " + f.Attempts[0].Says + "."
	}
}

// toldNow is what the server of a name had when it was read last; at is nil where it never was.
func (p *Page) toldNow(w *site.Following) (told []string, at *time.Time) {
	z, ok := p.ZoneOf(w.Name, site.Outside)
	if !ok {
		return nil, nil
	}
	reading := cmp.Or(p.Told(z.ID), &order.ZoneReading{})
	owner, _ := zone.Relative(w.Name, z.Name)
	for _, r := range reading.Records {
		if r.Type == "A" && strings.EqualFold(r.Owner, owner) {
			told = append(told, r.Data)
		}
	}
	return told, reading.ReadAt
}
