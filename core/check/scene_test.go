package check_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"reflect"
	"testing"

	"pgregory.net/rapid"

	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/edit/edittest"
	"lithos/core/site"
)

// Whatever is done to a site, looking again at what was touched finds what looking at
// everything finds.
func TestIncrementalEqualsFromScratch(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		sc := check.Of(mangled(t))
		for i := range rapid.IntRange(1, 12).Draw(t, "edits") {
			edits := edittest.Some(t, sc, i)
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
					if k >= len(sc.Findings) || k >= len(want.Findings) ||
						!reflect.DeepEqual(sc.Findings[k], want.Findings[k]) {
						t.Fatalf("after %v\nfound %+v\nwant  %+v", edits, sc.Findings[k:min(k+1, len(sc.Findings))],
							want.Findings[k:min(k+1, len(want.Findings))])
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
