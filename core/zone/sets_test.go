package zone

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func genSets(t *rapid.T, label string) []Record {
	var out []Record
	for range rapid.IntRange(0, 8).Draw(t, label) {
		r := Record{Owner: rapid.SampledFrom([]string{"@", "www", "mail", "a.b"}).Draw(t, label+" owner"),
			Type: rapid.SampledFrom([]string{"A", "TXT"}).Draw(t, label+" type"),
			Data: rapid.SampledFrom([]string{"203.0.113.1", "203.0.113.2"}).Draw(t, label+" data"), TTL: 60}
		if !slices.Contains(out, r) {
			out = append(out, r)
		}
	}
	return out
}

// Changes lead from what a zone has to what it must have, each on what it was; what is in neither
// document stays.
func TestChangesLeadToTheTarget(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		held, base, wanted := genSets(t, "held"), genSets(t, "base"), genSets(t, "wanted")
		target := Merged(held, base, wanted)
		now := slices.Clone(held)
		for _, c := range Changes(held, target) {
			same := func(r Record) bool { return r.Owner == c.Owner && r.Type == c.Type }
			here := slices.DeleteFunc(slices.Clone(now), func(r Record) bool { return !same(r) })
			assert.ElementsMatch(t, c.Was, here)
			now = append(slices.DeleteFunc(now, same), c.Now...)
		}
		assert.ElementsMatch(t, target, now)
		assert.Empty(t, Changes(now, Merged(now, base, wanted)), "what is done is not done again")
		of := func(list []Record, r Record) bool {
			return slices.ContainsFunc(list, func(o Record) bool { return o.Owner == r.Owner && o.Type == r.Type })
		}
		for _, r := range held {
			if !of(base, r) && !of(wanted, r) {
				assert.Contains(t, now, r, "nobody here speaks of it")
			}
		}
		for _, r := range wanted {
			assert.Contains(t, now, r)
		}
	})
}

func TestWhatGoesComesFirst(t *testing.T) {
	changes := Changes([]Record{{"www", "A", "203.0.113.1", 60}}, []Record{{"www", "CNAME", "edge", 60},
		{"aaa", "A", "203.0.113.2", 60}})
	assert.Equal(t, "A", changes[0].Type, "an address goes before an alias takes its name")
}
