package view

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"lithos/core/address"
	"lithos/core/compile"
	"lithos/core/drawing"
	"lithos/core/forecast"
	"lithos/core/observed"
	"lithos/core/option"
	"lithos/core/site"
	"lithos/internal/actor"
)

// ForecastRequest asks what a pool does through a day. What is left out is taken
// from the draft, or from what was seen.
type ForecastRequest struct {
	Pool      string `query:"pool" maxLength:"64" doc:"id of the pool"`
	Shape     string `query:"shape" maxLength:"40" doc:"name of a shape; \"as seen\" or empty for the leases of the last days"`
	PerDay    string `query:"perDay" maxLength:"60" doc:"clients a day, up to 1,000,000; as seen when empty"`
	Returning string `query:"returning" maxLength:"60" doc:"how many in 100 of them come every day; none when empty"`
	Stay      string `query:"stay" maxLength:"60" doc:"how long one stays, for example 40 minutes"`
	Lease     string `query:"lease" maxLength:"60" doc:"lease time; the pool's when empty"`
	Size      string `query:"size" maxLength:"60" doc:"addresses, up to 1,000,000; the pool's when empty"`
}

// ForecastView is a pool's day, and what would do.
type ForecastView struct {
	Pool      string       `json:"pool"`
	Size      int          `json:"size"`
	Lease     string       `json:"lease"`
	PerDay    float64      `json:"perDay"`
	Stay      string       `json:"stay"`
	Shape     string       `json:"shape"`
	Shapes    []string     `json:"shapes"` // that can be asked for
	Seen      int          `json:"seen"`   // clients the shape as seen rests on
	Hours     int          `json:"hours" doc:"how long the pool was read before, in hours; at most a week counts"`
	Leased    int          `json:"leased" doc:"addresses leased now"`
	TooFew    bool         `json:"tooFew" doc:"fewer than two days were read: too few for a verdict"`
	Low       bool         `json:"low" doc:"more addresses are leased now than these numbers ever give"`
	Returning int          `json:"returning" doc:"how many in 100 come on several days"`
	Day       forecast.Day `json:"day"`
	Course    int          `json:"course"` // addresses of a course of the ruler
	Base      int          `json:"base"`   // offset of the course's first address
	Pools     []Stretch    `json:"pools"`  // what the pool offers, on that course
	Filled    []Stretch    `json:"filled"` // as much of it as is held at the fullest
	// the longest lease time with which hardly anybody is turned away
	LeaseDoes string `json:"leaseDoes,omitempty"`
	SizeDoes  int    `json:"sizeDoes"` // the fewest addresses
}

// Stretch is a run of addresses on the ruler, in offsets of the network.
type Stretch struct {
	From int `json:"from"`
	To   int `json:"to"`
}

// ontoRuler lays what a pool offers, and as much of it as is held at the fullest,
// on the ruler's scale: from the course of its first address on.
func (v *ForecastView) ontoRuler(n *site.Network, offered []address.Range) {
	v.Pools, v.Filled = []Stretch{}, []Stretch{}
	v.Course = min(drawing.CourseSize, address.Of(n.Prefix).Size())
	left := int(v.Day.Peak + 0.5)
	for i, r := range offered {
		run := Stretch{address.Offset(n.Prefix, r.From), address.Offset(n.Prefix, r.To)}
		if i == 0 {
			v.Base = run.From / v.Course * v.Course
		}
		v.Pools = append(v.Pools, run)
		if taken := min(left, r.Size()); taken > 0 {
			v.Filled = append(v.Filled, Stretch{run.From, run.From + taken - 1})
			left -= taken
		}
	}
}

// asSeen is the shape of the leases seen.
const asSeen = "as seen"

// Forecast works a pool's day out.
func (pg *Page) Forecast(r ForecastRequest) (*ForecastView, error) {
	doc := pg.Site
	p, ok := doc.Pool(r.Pool)
	n, on := (*site.Network)(nil), false
	if ok {
		n, on = doc.Network(p.Network)
	}
	if !on {
		return nil, actor.Refuse(actor.Missing, "There is no such pool.")
	}
	v := &ForecastView{Pool: p.Name, Shapes: []string{asSeen}, Size: address.Count(drawing.Offered(pg.Scene, p))}
	in, err := r.read(v.Size, timersOf(doc, n, p).Lease)
	if err != nil {
		return nil, err
	}
	v.Size = in.size
	d, basis, held := demand(doc, p, pg.Seen, in.stay)
	v.Seen, v.Leased, v.Hours = basis.Clients, held, int(basis.Span.Hours())
	v.TooFew = in.perDay == 0 && r.Shape == "" && basis.Span < forecast.Enough
	for _, shape := range forecast.Shapes {
		v.Shapes = append(v.Shapes, shape.Name)
		if shape.Name == r.Shape || r.Shape == "" && v.Seen == 0 && shape.Name == "waiting room" {
			d.Shape = shape
		}
	}
	if in.perDay > 0 {
		d.PerDay = in.perDay
	} else if v.Seen == 0 {
		d.PerDay = 60
	}
	if strings.TrimSpace(r.Returning) != "" || in.perDay > 0 || d.Shape.Name != asSeen {
		d.Returning = in.returning / 100
	}
	v.Returning = int(d.Returning*100 + 0.5)
	v.Lease, v.Stay, v.PerDay, v.Shape = option.FormatDuration(in.lease), option.FormatDuration(in.stay), d.PerDay,
		d.Shape.Name
	v.Day = forecast.Pool(v.Size, in.lease, d)
	v.ontoRuler(n, drawing.Offered(pg.Scene, p))
	v.Low = float64(v.Leased) > v.Day.Peak+1
	if l, ok := forecast.LeaseThatDoes(v.Size, d); ok {
		v.LeaseDoes = option.FormatDuration(l)
	}
	v.SizeDoes = max(forecast.SizeThatDoes(in.lease, d), v.Leased)
	return v, nil
}

// supposed is what a forecast is to suppose.
type supposed struct {
	stay, lease       time.Duration
	perDay, returning float64 // clients a day, and how many of 100 of them come again
	size              int     // addresses
}

// read reads what is typed; what is not is as given, and a stay of 45 minutes.
func (r ForecastRequest) read(size int, lease time.Duration) (supposed, error) {
	out := supposed{stay: 45 * time.Minute, lease: lease}
	var wrong site.FieldErrors
	for field, one := range map[string]struct {
		text string
		into *time.Duration
	}{"stay": {r.Stay, &out.stay}, "lease": {r.Lease, &out.lease}} {
		if one.text == "" {
			continue
		}
		d, err := option.ParseDuration(one.text)
		if err != nil {
			wrong = append(wrong, site.FieldError{Field: field, Says: err.Error()})
		}
		*one.into = d
	}
	addresses := float64(size)
	const most = 1_000_000
	for field, one := range map[string]struct {
		text     string
		into     *float64
		from, to float64
		example  string
	}{
		"perDay":    {r.PerDay, &out.perDay, 1, most, "60"},
		"returning": {r.Returning, &out.returning, 0, 100, "40"},
		"size":      {r.Size, &addresses, 1, most, "64"},
	} {
		text := strings.TrimSpace(one.text)
		if text == "" {
			continue
		}
		n, err := strconv.ParseFloat(text, 64)
		if err != nil || !(n >= one.from && n <= one.to) || field == "size" && n != math.Trunc(n) {
			wrong = append(wrong, site.FieldError{Field: field, Says: fmt.Sprintf(
				"%q is not a number from %.0f to %.0f; type for example %s", one.text, one.from, one.to, one.example)})
		}
		*one.into = n
	}
	if len(wrong) > 0 {
		return out, actor.RefuseFields("Nothing was computed", wrong)
	}
	out.size = int(addresses)
	return out, nil
}

// seenFor is how far back leases count for a forecast.
const seenFor = 7 * 24 * time.Hour

// demand is what the leases of a pool's last days show, and how many are held now.
func demand(doc *site.Site, p *site.Pool, all []observed.Sighting, stay time.Duration) (
	d forecast.Demand, b forecast.Basis, held int,
) {
	now := time.Now()
	var came []forecast.Visit
	for _, v := range all {
		if v.Source != observed.Lease ||
			!slices.ContainsFunc(p.Ranges, func(r address.Range) bool { return r.Contains(v.Address) }) {
			continue
		}
		if v.Live {
			held++
		}
		came = append(came, forecast.Visit{Client: v.Client(), First: v.First, Last: v.Last})
	}
	d, b = forecast.Observed(came, now.Add(-seenFor), now, stay, doc.Location())
	return d, b, held
}

// timersOf is how long a pool's clients hold their leases.
func timersOf(doc *site.Site, n *site.Network, p *site.Pool) compile.Timers {
	return compile.TimersOf(compile.Effective(doc, compile.For{Network: n, Pool: p}))
}

// SpreadView is how a changed option reaches a network's clients.
type SpreadView struct {
	Pool    string    `json:"pool"`
	Lease   string    `json:"lease"`
	T1      string    `json:"t1"`
	Clients int       `json:"clients"` // with leases; 0 when the spread is that of any
	Half    string    `json:"half"`
	Most    string    `json:"most"`
	All     string    `json:"all"`
	Last    string    `json:"last"`
	Curve   []float64 `json:"curve"`
	Minutes float64   `json:"minutes"` // what the whole curve spans
	Target  string    `json:"target"`
	Needed  bool      `json:"needed"` // whether a shorter lease must be set beforehand
	Set     string    `json:"set,omitempty"`
	Before  string    `json:"before,omitempty"`
	Sleeper string    `json:"sleepers,omitempty"`
}

// Spread works out when a pool's clients learn of a changed option, and what to
// set beforehand so that they all do within a target.
func (pg *Page) Spread(pool, target string) (*SpreadView, error) {
	doc := pg.Site
	p, ok := doc.Pool(pool)
	if !ok {
		return nil, actor.Refuse(actor.Missing, "There is no such pool.")
	}
	n, ok := doc.Network(p.Network)
	if !ok {
		return nil, actor.Refuse(actor.Missing, "The pool has no network.")
	}
	within := 15 * time.Minute
	if target != "" {
		var err error
		if within, err = option.ParseDuration(target); err != nil {
			return nil, &actor.Refusal{Kind: actor.Invalid, Says: "Nothing was computed: " + err.Error() + ".",
				Fields: []site.FieldError{{Field: "target", Says: err.Error()}}}
		}
	}
	timers := timersOf(doc, n, p)
	lease, t1 := timers.Lease, timers.T1
	var holders []forecast.Holder
	for _, v := range pg.Seen {
		if v.Source == observed.Lease && v.Live &&
			slices.ContainsFunc(p.Ranges, func(r address.Range) bool { return r.Contains(v.Address) }) {
			holders = append(holders, forecast.Holder{Granted: v.Expires.Add(-lease), Lease: lease, T1: t1})
		}
	}
	sp := forecast.LearnAny(lease, t1)
	if len(holders) > 0 {
		sp = forecast.Learn(time.Now(), holders)
	}
	words := func(d time.Duration) string {
		if d < time.Minute {
			return "under a minute"
		}
		return option.FormatDuration(d.Round(time.Minute))
	}
	v := &SpreadView{
		Pool: p.Name, Lease: words(lease), T1: words(t1), Clients: sp.Clients, Half: words(sp.Half),
		Most: words(sp.Most), All: words(sp.All), Last: words(sp.Last),
		Curve: sp.Curve, Minutes: sp.All.Minutes(), Target: words(within),
	}
	ahead := forecast.Prepare(within, lease, t1)
	if v.Needed = ahead.Needed; v.Needed {
		v.Set, v.Before, v.Sleeper = words(ahead.Lease), words(ahead.Before), words(ahead.Sleepers)
	}
	return v, nil
}
