package edit_test

import (
	"bytes"
	"errors"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
)

// typed draws what somebody might type into a field: what another part of the kind has
// there, something that is nearly right, or something else.
func typed(t *rapid.T, f *site.Field, like any) string {
	text := f.Text(like)
	switch rapid.IntRange(0, 4).Draw(t, "how") {
	case 0:
		return text
	case 1:
		return strings.ToUpper(" " + text + " ")
	case 2:
		return text + rapid.SampledFrom([]string{"0", ",", " - ", "/", ".", "\x00", "\u202e", "é"}).Draw(t, "slip")
	case 3:
		return rapid.SampledFrom([]string{
			"", "0", "-1", "4095", "65536", "true", ".1", "96-119", "10.84.18.0/23", "255.255.255.255",
			"ff:ff:ff:ff:ff:ff",
			"8 hours", "9999999999 days", "a.example", strings.Repeat("a", 300), "a b", "fd00::1", "1 2 3", "dev-gw-1",
			"net-clinic",
		}).Draw(t, "another kind of value")
	}
	return rapid.String().Draw(t, "anything")
}

// Whatever is typed into the form of whichever part: a refusal names fields the form
// has and says what to type, and what is accepted makes a site file that reads back as
// it was.
func TestWhatIsAcceptedReadsBack(t *testing.T) {
	accepted := 0
	rapid.Check(t, func(t *rapid.T) {
		s := scenario.Site(rapid.SampledFrom(scenario.Names).Draw(t, "site"))
		kinds := slices.DeleteFunc(site.Kinds(), func(k *site.Kind) bool { return len(k.Fields) == 0 })
		k := rapid.SampledFrom(kinds).Draw(t, "kind")
		var entries []edit.Entry
		var parts []any
		k.Each(s, func(owner site.Ref, list site.List, i int) bool {
			e := edit.Entry{Kind: k.Name, ID: list.ID(i), Fields: map[string]string{}}
			if owner.ID != "" {
				e.In = owner.String()
			}
			entries, parts = append(entries, e), append(parts, list.At(i))
			return true
		})
		if len(entries) == 0 {
			return
		}
		entry := entries[rapid.IntRange(0, len(entries)-1).Draw(t, "part")]
		for range rapid.IntRange(1, 3).Draw(t, "fields") {
			f := rapid.SampledFrom(k.Fields).Draw(t, "field")
			entry.Fields[f.Name] = typed(t, f, rapid.SampledFrom(parts).Draw(t, "like"))
		}
		edits, err := edit.Read(s, entry)
		if refused := (site.FieldErrors)(nil); errors.As(err, &refused) {
			for _, r := range refused {
				require.True(t, slices.ContainsFunc(k.Fields, func(f *site.Field) bool { return f.Name == r.Field }),
					"%s has no field %q", k.Name, r.Field)
				require.NotEmpty(t, r.Says)
			}
			return
		}
		require.NoError(t, err)
		after, err := edit.Apply(s, edits...)
		require.NoError(t, err)
		file, err := site.Encode(after)
		require.NoError(t, err)
		back, err := site.Read(bytes.NewReader(file))
		require.NoError(t, err, "%v", entry.Fields)
		again, err := site.Encode(back)
		require.NoError(t, err)
		require.Equal(t, string(file), string(again))
		check.Of(after)
		accepted++
	})
	require.Positive(t, accepted)
}
