package drawing

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/observed"
	"lithos/core/site"
)

const (
	// CourseSize is how many addresses one course of the ruler shows.
	CourseSize = 256
	// MaxCourses is how many courses are drawn at once: a /20.
	MaxCourses = 16
	// MaxBins is how many parts the overview of a larger network has at most.
	MaxBins = 1024
)

// Ruler is the horizontal drawing of a network. Offsets count from the first
// address of the network.
type Ruler struct {
	RulerHead
	Courses []Course `json:"courses"`
}

// RulerHead is what of a ruler lies in no course.
type RulerHead struct {
	Base   netip.Addr `json:"base"`
	Size   int        `json:"size"`           // addresses of the network
	Ends   bool       `json:"ends,omitempty"` // the first and the last are no host's (RFC 950)
	Course int        `json:"course"`         // addresses a course, 256 or the whole of a smaller network
	From   int        `json:"from"`           // offset of the first course drawn
	Bins   []Bin      `json:"bins,omitempty"` // the overview of a network larger than what is drawn
	Bin    int        `json:"bin,omitempty"`  // addresses a bin
	Pool   int        `json:"pool"`
	Used   int        `json:"used"`
}

// Course is one row of addresses.
type Course struct {
	From      int        `json:"from"`
	To        int        `json:"to"` // last offset
	First     string     `json:"first"`
	Last      string     `json:"last"`
	Spans     []Span     `json:"spans"`
	Pins      []Pin      `json:"pins"`
	Names     []int      `json:"names"`
	Seen      []int      `json:"seen"`
	Conflicts []Conflict `json:"conflicts"`
}

// Span is a run of the plan track, clipped to its course. Starts and Ends tell
// which of its edges are in this course.
type Span struct {
	Kind   string `json:"kind" enum:"infrastructure,reserved,dynamic,pool,exclusion"`
	Ref    string `json:"ref,omitempty"`
	In     string `json:"in,omitempty"`
	Range  int    `json:"range"` // which of the pool's ranges
	From   int    `json:"from"`
	To     int    `json:"to"`
	Starts bool   `json:"starts"`
	Ends   bool   `json:"ends"`
	Label  string `json:"label,omitempty"`
	What   string `json:"what"`          // in words: "pool Clinic PCs"
	Says   string `json:"says"`          // the same with its addresses and use
	Off    bool   `json:"off,omitempty"` // a pool that is switched off
}

// Pin is a reservation, fixed device or interface.
type Pin struct {
	Kind string `json:"kind" enum:"reservation,fixed,interface,gateway"`
	Ref  string `json:"ref"`
	At   int    `json:"at"`
	What string `json:"what"` // in words: "reservation xray-plate"
}

// Conflict is where a finding strikes through all tracks.
type Conflict struct {
	From     int            `json:"from"`
	To       int            `json:"to"`
	Finding  string         `json:"finding"`
	Severity check.Severity `json:"severity"`
	Title    string         `json:"title"`
}

// Bin is a part of a large network's overview: a course, or several of a network
// of more than MaxBins courses.
type Bin struct {
	Pool int `json:"pool"` // addresses in pools
	Pins int `json:"pins"`
	Seen int `json:"seen"`
}

// Draw works out the ruler of a network, whose rows are those of Rows. Of a network
// larger than MaxCourses courses, those from the course that holds offset from on are
// drawn.
func Draw(
	sc *check.Scene, n *site.Network, rows []Row, findings []check.Finding, sightings []observed.Sighting, from int,
) Ruler {
	size := address.Of(n.Prefix).Size()
	r := Ruler{RulerHead: RulerHead{Base: n.Prefix.Masked().Addr(), Size: size, Ends: n.Prefix.Bits() < 31,
		Course: min(CourseSize, size)}}
	u := usage(sc, n, Live(sightings, n))
	r.Pool, r.Used = u.pool, u.used
	total := max(1, size/CourseSize)
	first := min(max(from/CourseSize, 0), max(total-MaxCourses, 0))
	r.From = first * CourseSize
	for c := first; c < min(total, first+MaxCourses); c++ {
		at := c * CourseSize
		to := min(at+CourseSize, size) - 1
		r.Courses = append(r.Courses, Course{
			From: at, To: to, First: text(r.Base, at), Last: text(r.Base, to),
			Spans: []Span{}, Pins: []Pin{}, Names: []int{}, Seen: []int{}, Conflicts: []Conflict{},
		})
	}
	if total > MaxCourses {
		r.Bin = CourseSize * ((total + MaxBins - 1) / MaxBins)
		r.Bins = make([]Bin, (size+r.Bin-1)/r.Bin)
	}
	d := drawing{&r, n.Prefix}
	for _, w := range sc.Standard.Windows {
		if run, ok := site.WindowIn(n.Prefix, w); ok {
			d.span(run, Span{Kind: w.Use, Label: w.Use, What: w.Use + " window", Says: d.says(w.Use+" window", run)})
		}
	}
	for _, p := range sc.PoolsOn(n) {
		d.pool(p, poolRows(sc, p, sightings))
	}
	for i := range rows {
		if row := &rows[i]; row.holds() {
			d.pin(row)
		}
	}
	for _, v := range sightings {
		if v.Live && n.Prefix.Contains(v.Address) {
			d.seen(v.Address)
		}
	}
	for _, f := range findings {
		if f.Network == n.ID && f.Severity != check.Notes {
			for _, run := range f.Addresses {
				d.conflict(run, f)
			}
		}
	}
	return r
}

func text(base netip.Addr, offset int) string {
	return address.FromUint(address.Uint(base) + uint32(offset)).String()
}

type drawing struct {
	*Ruler
	prefix netip.Prefix
}

// says is what something is with its addresses: "Pool Clinic PCs, .96 to .119 of
// 10.84.18.0".
func (d drawing) says(what string, run address.Range) string {
	from, to := address.Short(run.From, d.prefix), address.Short(run.To, d.prefix)
	where := from + " to " + to
	if run.From == run.To {
		where = from
	}
	return fmt.Sprintf("%s%s, %s of %s", strings.ToUpper(what[:1]), what[1:], where, d.prefix.Masked().Addr())
}

// clip visits the courses a run crosses with its offsets inside each.
func (d drawing) clip(run address.Range, visit func(c *Course, from, to int)) {
	run, ok := run.Intersect(address.Of(d.prefix))
	if !ok {
		return
	}
	from, to := address.Offset(d.prefix, run.From), address.Offset(d.prefix, run.To)
	for i := range d.Courses {
		if c := &d.Courses[i]; from <= c.To && to >= c.From {
			visit(c, max(from, c.From), min(to, c.To))
		}
	}
}

func (d drawing) span(run address.Range, s Span) {
	first, last := address.Offset(d.prefix, run.From), address.Offset(d.prefix, run.To)
	d.clip(run, func(c *Course, from, to int) {
		s.From, s.To, s.Starts, s.Ends = from, to, from == first, to == last
		c.Spans = append(c.Spans, s)
	})
}

func (d drawing) pool(p *site.Pool, rows []Row) {
	ref := site.KindPool + ":" + p.ID
	what := "pool " + p.Name
	if !p.Enabled {
		what += ", switched off"
	}
	for i, run := range p.Ranges {
		used, size := 0, 0
		for k := range rows {
			if r := &rows[k]; r.Kind == "pool" && run.Contains(r.From) {
				used, size = used+r.Used, size+r.Size
			}
		}
		says := fmt.Sprintf("%s, %d of %d in use", d.says(what, run), used, size)
		d.span(run, Span{Kind: "pool", Ref: ref, Range: i, Label: p.Name, What: what, Says: says, Off: !p.Enabled})
		if part, ok := run.Intersect(address.Of(d.prefix)); ok && d.Bins != nil {
			from, to := address.Offset(d.prefix, part.From), address.Offset(d.prefix, part.To)
			for b := from / d.Bin; b <= to/d.Bin; b++ {
				d.Bins[b].Pool += min(to, b*d.Bin+d.Bin-1) - max(from, b*d.Bin) + 1
			}
		}
	}
	for _, x := range p.Exclusions {
		what := "exclusion " + x.Reason
		d.span(x.Range, Span{Kind: "exclusion", Ref: site.KindExclusion + ":" + x.ID, In: ref, Label: x.Reason,
			What: what, Says: d.says(what, x.Range)})
	}
}

func (d drawing) pin(row *Row) {
	if d.Bins != nil && d.prefix.Contains(row.From) {
		d.Bins[address.Offset(d.prefix, row.From)/d.Bin].Pins++
	}
	d.clip(address.Single(row.From), func(c *Course, at, _ int) {
		c.Pins = append(c.Pins, Pin{row.Kind, row.Ref, at, strings.ToLower(row.Use) + " " + row.called()})
		if row.Name != "" && !slices.Contains(c.Names, at) {
			c.Names = append(c.Names, at)
		}
	})
}

func (d drawing) seen(a netip.Addr) {
	if d.Bins != nil {
		d.Bins[address.Offset(d.prefix, a)/d.Bin].Seen++
	}
	d.clip(address.Single(a), func(c *Course, at, _ int) {
		if i, dup := slices.BinarySearch(c.Seen, at); !dup {
			c.Seen = slices.Insert(c.Seen, i, at)
		}
	})
}

func (d drawing) conflict(run address.Range, f check.Finding) {
	d.clip(run, func(c *Course, from, to int) {
		c.Conflicts = append(c.Conflicts, Conflict{from, to, f.ID, f.Severity, f.Title})
		slices.SortStableFunc(c.Conflicts, func(a, b Conflict) int { return cmp.Compare(a.From, b.From) })
	})
}
