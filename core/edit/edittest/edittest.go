// Package edittest draws edits for tests of what follows from an edit.
package edittest

import (
	"fmt"
	"slices"

	"pgregory.net/rapid"

	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/site"
)

// Some draws what a technician may do to a site: change any field of any part to
// the value of another's, remove a part, add one, set an option, take a fix.
func Some(t *rapid.T, sc *check.Scene, i int) []edit.Edit {
	s := sc.Site
	if len(sc.Findings) > 0 && rapid.IntRange(0, 3).Draw(t, "take a fix") == 0 {
		if f := rapid.SampledFrom(sc.Findings).Draw(t, "finding"); f.Fix != nil {
			return f.Fix.Edits
		}
	}
	kinds := slices.DeleteFunc(site.Kinds(), func(k *site.Kind) bool { return len(k.Fields) == 0 })
	k := rapid.SampledFrom(kinds).Draw(t, "kind")
	var refs, owners []site.Ref
	var parts []any
	k.Each(s, func(in site.Ref, list site.List, i int) bool {
		refs, owners, parts = append(refs, site.Ref{Kind: k.Name, ID: list.ID(i)}), append(owners, in),
			append(parts, list.At(i))
		return true
	})
	if len(refs) == 0 {
		return nil
	}
	at := rapid.IntRange(0, len(refs)-1).Draw(t, "part")
	other := parts[rapid.IntRange(0, len(refs)-1).Draw(t, "other")]
	entry := edit.Entry{Kind: k.Name, ID: refs[at].ID, Fields: map[string]string{}}
	if owners[at].ID != "" {
		entry.In = owners[at].String()
	}
	switch rapid.IntRange(0, 5).Draw(t, "what") {
	case 0:
		if k.Fixed() {
			return nil
		}
		edits, err := edit.Removing(s, refs[at], owners[at])
		if err != nil {
			t.Fatal(err)
		}
		return edits
	case 1:
		if k.Fixed() {
			return nil
		}
		entry.New, entry.ID = true, fmt.Sprintf("new-%d", i)
		for _, f := range k.Fields {
			if k.Applies(f, other) {
				entry.Fields[f.Name] = f.Text(other)
			}
		}
		if a, ok := entry.Fields["address"]; ok && rapid.Bool().Draw(t, "elsewhere") {
			entry.Fields["address"] = a[:len(a)-1] + fmt.Sprint(rapid.IntRange(0, 9).Draw(t, "digit"))
		}
	case 2:
		if !k.SetsOptions() || k.Fixed() {
			return nil
		}
		entry = edit.Entry{Kind: site.KindOption,
			ID: fmt.Sprint(rapid.SampledFrom([]int{3, 6, 15, 51, 58}).Draw(t, "code")), In: refs[at].String(),
			Fields: map[string]string{"value": rapid.SampledFrom([]string{"", "10.84.18.57", "10.84.18.57, 192.0.2.1",
				"other.example", "10 days"}).Draw(t, "value")}}
	default:
		f := rapid.SampledFrom(k.Fields).Draw(t, "field")
		entry.Fields[f.Name] = f.Text(other)
	}
	edits, err := edit.Read(s, entry)
	if err != nil {
		return nil // what is refused is for the tests of forms
	}
	return edits
}
