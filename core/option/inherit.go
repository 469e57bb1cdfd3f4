package option

import "slices"

// Source is a level that sets options, such as a site or a pool.
type Source struct {
	Kind string `json:"kind"` // a part kind of package site, or "lithos" for what is computed
	ID   string `json:"id"`
	Name string `json:"name"`
}

// Set is one option as set by one level.
type Set struct {
	Code   uint8
	Value  string
	Source Source
	Always bool // sent to clients that do not ask for it as well
}

// Effective is the value of one option that reaches a client, the level it comes from, and
// the values of farther levels that it hides, nearest first.
type Effective struct {
	Code   uint8  `json:"code"`
	Value  string `json:"value"`
	From   Source `json:"from"`
	Hides  []Set  `json:"hides,omitempty"`
	Always bool   `json:"always,omitempty"`
}

// Resolve decides between levels given farthest first: for each code the
// nearest wins. Within one level the last wins. The result is ordered by code.
func Resolve(levels ...[]Set) []Effective { return Over(nil, levels...) }

// Over is Resolve where farther levels came to base, which stays as it is.
func Over(base []Effective, levels ...[]Set) []Effective {
	sets := 0
	for _, level := range levels {
		sets += len(level)
	}
	out := append(make([]Effective, 0, len(base)+sets), base...)
	for _, level := range levels {
		for _, set := range level {
			i, found := slices.BinarySearchFunc(out, set.Code,
				func(t Effective, code uint8) int { return int(t.Code) - int(code) })
			if !found {
				out = slices.Insert(
					out,
					i,
					Effective{Code: set.Code, Value: set.Value, From: set.Source, Always: set.Always},
				)
				continue
			}
			t := &out[i]
			hidden := Set{t.Code, t.Value, t.From, t.Always}
			*t = Effective{set.Code, set.Value, set.Source, append([]Set{hidden}, t.Hides...), set.Always}
		}
	}
	return out
}
