package view

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"lithos/core/drawing"
)

// applied is a list after splices.
func applied(list []int, all []Splice[int]) []int {
	out := slices.Clone(list)
	for _, s := range all {
		out = slices.Replace(out, s.At, s.At+s.Remove, s.Put...)
	}
	return out
}

func TestSplices(t *testing.T) {
	for _, c := range []struct {
		was, now []int
		want     []Splice[int]
	}{
		{[]int{1, 2, 3}, []int{1, 2, 3}, nil},
		{nil, []int{1}, []Splice[int]{{0, 0, []int{1}}}},
		{[]int{1}, nil, []Splice[int]{{0, 1, []int{}}}},
		{[]int{1, 2, 3}, []int{1, 9, 3}, []Splice[int]{{1, 1, []int{9}}}},
		{[]int{1, 2, 3}, []int{1, 3}, []Splice[int]{{1, 1, []int{}}}},
		{[]int{1, 3}, []int{1, 2, 3}, []Splice[int]{{1, 0, []int{2}}}},
		{[]int{1, 2, 3, 4, 5}, []int{0, 1, 2, 3, 4}, []Splice[int]{{0, 0, []int{0}}, {5, 1, []int{}}}},
	} {
		got := splices(c.was, c.now, equal)
		assert.Equal(t, c.want, got, "%v to %v", c.was, c.now)
		assert.Equal(t, len(c.now), len(applied(c.was, got)))
	}
}

// Whatever two lists are, the splices turn one into the other; where one element of a
// long list is another, they carry little more than it.
func TestSplicesTurnOneListIntoTheOther(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		some := rapid.SliceOfN(rapid.IntRange(0, 9), 0, 60)
		was, now := some.Draw(t, "was"), some.Draw(t, "now")
		if got := applied(was, splices(was, now, equal)); !slices.Equal(got, now) {
			t.Fatalf("%v becomes %v, not %v", was, got, now)
		}
	})
	rapid.Check(t, func(t *rapid.T) {
		was := make([]int, rapid.IntRange(1, 3000).Draw(t, "many"))
		for i := range was {
			was[i] = i
		}
		now := slices.Clone(was)
		at := rapid.IntRange(0, len(was)-1).Draw(t, "at")
		switch rapid.IntRange(0, 2).Draw(t, "what") {
		case 0:
			now[at] = -1
		case 1:
			now = slices.Delete(now, at, at+1)
		default:
			now = slices.Insert(now, at, -1)
		}
		got := splices(was, now, equal)
		if !slices.Equal(applied(was, got), now) || len(got) != 1 || len(got[0].Put) > 1 || got[0].Remove > 1 {
			t.Fatalf("one element at %d of %d is told by %v", at, len(was), got)
		}
	})
}

// What a browser has of a network that is not known any more, or of another network, is
// no ground for a change: it is told all.
func TestShownAnswersWholeWhereItMust(t *testing.T) {
	network := func(id, first string, names ...string) *NetworkView {
		v := &NetworkView{NetworkHead: NetworkHead{ID: id}}
		v.Ruler.Courses = []drawing.Course{{First: first, Last: first}}
		for _, name := range names {
			v.Rows = append(v.Rows, drawing.Row{Line: drawing.Line{Ref: "reservation:" + name, Name: name}})
		}
		return v
	}
	s := NewShown()
	a := s.Answer(network("net-a", "10.0.0.0", "x", "y"), "")
	assert.NotNil(t, a.Network)
	same := s.Answer(network("net-a", "10.0.0.0", "x", "y"), a.Stamp)
	assert.Equal(t, a.Stamp, same.Stamp, "nothing is different")
	assert.Nil(t, same.Network)
	one := s.Answer(network("net-a", "10.0.0.0", "x", "z"), a.Stamp)
	assert.NotEqual(t, a.Stamp, one.Stamp)
	assert.Equal(t, a.Stamp, one.Changed.From)
	assert.Len(t, one.Changed.Rows, 1)
	assert.Nil(t, one.Changed.Head)
	assert.NotNil(t, s.Answer(network("net-b", "10.0.0.0", "x"), a.Stamp).Network, "another network")
	assert.NotNil(t, s.Answer(network("net-a", "10.0.1.0", "x"), a.Stamp).Network, "other courses")
	assert.NotNil(t, NewShown().Answer(network("net-a", "10.0.0.0"), a.Stamp).Network, "another process")
	assert.Empty(t, s.Answer(nil, a.Stamp).Stamp, "a site without networks")
	for range 2 * shownNetworks {
		s.Answer(network("net-a", "10.0.0.0"), "")
	}
	assert.NotNil(t, s.Answer(network("net-a", "10.0.0.0", "x"), a.Stamp).Network, "forgotten")
}
