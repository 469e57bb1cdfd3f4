package order

import (
	"slices"
	"time"

	"lithos/core/check"
)

// Meant is somebody's word that a finding is meant so.
type Meant struct {
	Finding string
	Facts   string // of the finding then
	Reason  string
	Until   *time.Time // the last day on which it holds; nil for as long as the facts are the same
	By      string
	At      time.Time
}

// Answered is a finding that somebody has said is meant so.
type Answered struct {
	check.Finding
	Meant Meant
}

// holds reports whether the word still holds for a finding, at a moment of the site: the finding tells what it told
// then, and its last day has not passed. What blocks a push is never meant so.
func (m Meant) holds(id, facts string, severity check.Severity, now time.Time) bool {
	ended := m.Until != nil && m.Until.Format(time.DateOnly) < now.Format(time.DateOnly)
	return m.Finding == id && m.Facts == facts && severity != check.Blocks && !ended
}

// split takes the findings out that are meant so.
func split(all []check.Finding, said []Meant, now time.Time) (left []check.Finding, meant []Answered) {
	if len(said) == 0 {
		return all, nil
	}
	for _, f := range all {
		i := slices.IndexFunc(said, func(m Meant) bool { return m.holds(f.ID, f.Facts(), f.Severity, now) })
		if i < 0 {
			left = append(left, f)
			continue
		}
		meant = append(meant, Answered{f, said[i]})
	}
	return left, meant
}

// Unanswered are findings in one line each without those that are meant so.
func Unanswered(all []Brief, said []Meant, now time.Time) []Brief {
	return slices.DeleteFunc(slices.Clone(all), func(b Brief) bool {
		return slices.ContainsFunc(said, func(m Meant) bool { return m.holds(b.ID, b.Facts, b.Severity, now) })
	})
}
