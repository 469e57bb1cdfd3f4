package sites

import (
	"github.com/pmezard/go-difflib/difflib"
)

// FileLine is a line of a text that was compared with another.
type FileLine struct {
	Op   string `json:"op" enum:"same,gone,new,skip" doc:"skip stands for lines that are the same and not shown"`
	Text string `json:"text"`
}

// around is how many lines that are the same are shown beside those that differ, and mostLines how many are shown.
const (
	linesBeside = 3
	mostLines   = 2000
)

// Lines compares two texts line by line. Of what is the same only what is beside a difference is given; lines over two
// thousand are left out.
func Lines(was, now string) []FileLine {
	a, b := difflib.SplitLines(was), difflib.SplitLines(now)
	out := []FileLine{}
	add := func(op string, lines []string) {
		for _, l := range lines {
			out = append(out, FileLine{op, l})
		}
	}
	for i, group := range difflib.NewMatcher(a, b).GetGroupedOpCodes(linesBeside) {
		if i > 0 {
			add("skip", []string{""})
		}
		for _, c := range group {
			switch c.Tag {
			case 'e':
				add("same", a[c.I1:c.I2])
			default:
				add("gone", a[c.I1:c.I2])
				add("new", b[c.J1:c.J2])
			}
		}
		if len(out) > mostLines {
			return append(out[:mostLines], FileLine{"skip", ""})
		}
	}
	return out
}
