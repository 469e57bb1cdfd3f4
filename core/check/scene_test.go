package check_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"testing"

	"pgregory.net/rapid"

	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/site"
)

// someEdits draws what a technician may do to a site: change any field of any part to
// the value of another's, remove a part, add one, set an option, take a fix.
func someEdits(t *rapid.T, sc *check.Scene, i int) []edit.Edit {
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
		refs, owners, parts = append(refs, site.Ref{Kind: k.Name, ID: list.ID(i)}), append(owners, in), append(parts, list.At(i))
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
		entry = edit.Entry{Kind: site.KindOption, ID: fmt.Sprint(rapid.SampledFrom([]int{3, 6, 15, 51, 58}).Draw(t, "code")), In: refs[at].String(),
			Fields: map[string]string{"value": rapid.SampledFrom([]string{"", "10.84.18.57", "10.84.18.57, 192.0.2.1", "other.example", "10 days"}).Draw(t, "value")}}
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

// Whatever is done to a site, looking again at what was touched finds what looking at
// everything finds.
func TestIncrementalEqualsFromScratch(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		sc := check.Of(mangled(t))
		for i := range rapid.IntRange(1, 12).Draw(t, "edits") {
			edits := someEdits(t, sc, i)
			doc, err := edit.Apply(sc.Site, edits...)
			if err != nil {
				continue
			}
			sc = sc.After(doc, edits)
			want := check.Of(doc)
			if !inNormalForm(t, doc) {
				t.Fatalf("the document after %v is not in normal form", edits)
			}
			if !reflect.DeepEqual(sc.Findings, want.Findings) {
				for k := range max(len(sc.Findings), len(want.Findings)) {
					if k >= len(sc.Findings) || k >= len(want.Findings) || !reflect.DeepEqual(sc.Findings[k], want.Findings[k]) {
						t.Fatalf("after %v\nfound %+v\nwant  %+v", edits, sc.Findings[k:min(k+1, len(sc.Findings))], want.Findings[k:min(k+1, len(want.Findings))])
					}
				}
			}
		}
	})
}

func inNormalForm(t *rapid.T, s *site.Site) bool {
	is, err1 := json.Marshal(s)
	normal, err2 := json.Marshal(site.Normal(s))
	if err := errors.Join(err1, err2); err != nil {
		t.Fatal(err)
	}
	return bytes.Equal(is, normal)
}
