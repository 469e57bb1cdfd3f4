package edit_test

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/edit/edittest"
	"lithos/core/scenario"
	"lithos/core/site"
)

// The edits between two documents turn the one into the other, there and back; between equal ones there is none.
func TestBetweenLeadsThere(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		was := scenario.Site(rapid.SampledFrom(scenario.Names).Draw(t, "site"))
		sc := check.Of(was)
		for i := range rapid.IntRange(0, 6).Draw(t, "edits") {
			edits := edittest.Some(t, sc, i)
			if now, err := edit.Apply(sc.Site, edits...); err == nil {
				sc = sc.After(now, edits)
			}
		}
		for _, pair := range [][2]*site.Site{{was, sc.Site}, {sc.Site, was}} {
			edits := edit.Between(pair[0], pair[1])
			got, err := edit.Apply(pair[0], edits...)
			if err != nil {
				t.Fatalf("%v: %v", edits, err)
			}
			want, _ := site.Encode(pair[1])
			is, _ := site.Encode(got)
			if !bytes.Equal(want, is) {
				t.Fatalf("it leads elsewhere:\n%s\n%s", want, is)
			}
		}
	})
}

func TestBetweenEqualsIsNothing(t *testing.T) {
	for _, name := range scenario.Names {
		assert.Empty(t, edit.Between(scenario.Site(name), scenario.Site(name)), name)
	}
}

// A pool that comes brings its exclusions, and a site that is wiped goes whole.
func TestBetweenEmptyAndWhole(t *testing.T) {
	whole := scenario.Site("kelder-bridge")
	empty := site.Normal(&site.Site{ID: whole.ID, Code: whole.Code, Name: whole.Name, Customer: whole.Customer,
		Standard: whole.Standard})
	for _, pair := range [][2]*site.Site{{empty, whole}, {whole, empty}} {
		got, err := edit.Apply(pair[0], edit.Between(pair[0], pair[1])...)
		require.NoError(t, err)
		want, err := site.Encode(pair[1])
		require.NoError(t, err)
		is, err := site.Encode(got)
		require.NoError(t, err)
		assert.Equal(t, string(want), string(is))
	}
}
