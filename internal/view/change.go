package view

import (
	"crypto/rand"
	"reflect"
	"slices"
	"strconv"
	"sync/atomic"

	lru "github.com/hashicorp/golang-lru/v2"

	"lithos/core/drawing"
)

// NetworkAnswer is the network a look is at, whole or as what is different in it from
// the one that a browser has already. It has neither at a site without networks.
type NetworkAnswer struct {
	// Stamp names what the network looks like now, to be given with the next request.
	Stamp   string         `json:"stamp,omitempty"`
	Network *NetworkView   `json:"network,omitempty"`
	Changed *NetworkChange `json:"changed,omitempty"`
}

// NetworkChange is what is different in a network from what a stamp names. What is not
// listed has stayed as it was.
type NetworkChange struct {
	From    string                `json:"from"` // the stamp it is a change of
	Head    *NetworkHead          `json:"head,omitempty"`
	Ruler   *drawing.RulerHead    `json:"ruler,omitempty"`
	Courses []CourseChange        `json:"courses,omitempty"`
	Rows    []Splice[drawing.Row] `json:"rows,omitempty"`
	Seen    []Splice[SeenRow]     `json:"seen,omitempty"`
}

// CourseChange is what is different in one course of the ruler.
type CourseChange struct {
	Course    int                   `json:"course"` // its place in the list
	Spans     []drawing.Span        `json:"spans"`
	Conflicts []drawing.Conflict    `json:"conflicts"`
	Pins      []Splice[drawing.Pin] `json:"pins,omitempty"`
	Names     []Splice[int]         `json:"names,omitempty"`
	Seen      []Splice[int]         `json:"seen,omitempty"`
}

// Splice puts elements in the place of others in a list. Splices are carried out in
// their order, and each counts in the list that those before it have left.
type Splice[T any] struct {
	At     int `json:"at"`
	Remove int `json:"remove"`
	Put    []T `json:"put"`
}

// Shown remembers what networks looked like when browsers were last told, so that they
// are told of changes only. It may be used by several goroutines.
type Shown struct {
	networks *lru.Cache[string, *NetworkView]
	begins   string // of every stamp of this process
	count    atomic.Int64
}

// shownNetworks is how many networks are remembered, some 100 kB each at 500 parts.
const shownNetworks = 64

// NewShown remembers nothing yet.
func NewShown() *Shown {
	kept, err := lru.New[string, *NetworkView](shownNetworks)
	if err != nil {
		panic("a cache of a positive size is always made: " + err.Error())
	}
	return &Shown{networks: kept, begins: rand.Text()[:8] + "-"}
}

// Answer is what a browser is to be told of a network, which may be nil, when it has
// what the stamp have names; empty for nothing.
func (s *Shown) Answer(v *NetworkView, have string) *NetworkAnswer {
	if v == nil {
		return &NetworkAnswer{}
	}
	was, ok := s.networks.Get(have)
	if !ok || !sameCourses(was.Ruler.Courses, v.Ruler.Courses) || was.ID != v.ID {
		return &NetworkAnswer{Stamp: s.stamp(v), Network: v}
	}
	c := v.since(was)
	c.From = have
	if c.Head == nil && c.Ruler == nil && len(c.Courses)+len(c.Rows)+len(c.Seen) == 0 {
		return &NetworkAnswer{Stamp: have, Changed: c}
	}
	return &NetworkAnswer{Stamp: s.stamp(v), Changed: c}
}

func (s *Shown) stamp(v *NetworkView) string {
	stamp := s.begins + strconv.FormatInt(s.count.Add(1), 10)
	s.networks.Add(stamp, v)
	return stamp
}

func sameCourses(a, b []drawing.Course) bool {
	return slices.EqualFunc(a, b, func(a, b drawing.Course) bool { return a.First == b.First && a.Last == b.Last })
}

// since is what is different from an older view with the same courses.
func (v *NetworkView) since(was *NetworkView) *NetworkChange {
	c := &NetworkChange{
		Rows: splices(was.Rows, v.Rows, drawing.Row.Equal),
		Seen: splices(was.Seen, v.Seen, func(a, b SeenRow) bool { return reflect.DeepEqual(a, b) }),
	}
	if !reflect.DeepEqual(was.NetworkHead, v.NetworkHead) {
		c.Head = &v.NetworkHead
	}
	if !reflect.DeepEqual(was.Ruler.RulerHead, v.Ruler.RulerHead) {
		c.Ruler = &v.Ruler.RulerHead
	}
	for i := range v.Ruler.Courses {
		a, b := &was.Ruler.Courses[i], &v.Ruler.Courses[i]
		one := CourseChange{
			Course: i, Spans: b.Spans, Conflicts: b.Conflicts,
			Pins: splices(a.Pins, b.Pins, equal), Names: splices(a.Names, b.Names, equal),
			Seen: splices(a.Seen, b.Seen, equal),
		}
		plan := slices.Equal(a.Spans, b.Spans) && slices.Equal(a.Conflicts, b.Conflicts)
		if !plan || len(one.Pins)+len(one.Names)+len(one.Seen) > 0 {
			c.Courses = append(c.Courses, one)
		}
	}
	return c
}

func equal[T comparable](a, b T) bool { return a == b }

// nearby is how many elements ahead two lists are compared to find where they agree
// again.
const nearby = 32

// splices turns the list was into the list now. It finds few splices rather than the
// fewest: elements that lie far from where they were are sent again.
func splices[T any](was, now []T, same func(a, b T) bool) []Splice[T] {
	var out []Splice[T]
	i, j := 0, 0
	for i < len(was) || j < len(now) {
		if i < len(was) && j < len(now) && same(was[i], now[j]) {
			i, j = i+1, j+1
			continue
		}
		gone, put := apart(was[i:], now[j:], same)
		out = append(out, Splice[T]{At: j, Remove: gone, Put: append([]T{}, now[j:j+put]...)})
		i, j = i+gone, j+put
	}
	return out
}

// apart is how many elements at the beginning of each list to skip until they agree, or
// all of both where they do not soon.
func apart[T any](was, now []T, same func(a, b T) bool) (gone, put int) {
	for far := 1; far <= nearby; far++ {
		for gone := range far + 1 {
			put := far - gone
			if gone < len(was) && put < len(now) && same(was[gone], now[put]) {
				return gone, put
			}
		}
		if far < len(was) && far < len(now) && same(was[far], now[far]) {
			return far, far
		}
	}
	return len(was), len(now)
}
