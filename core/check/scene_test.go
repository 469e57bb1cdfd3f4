package check_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"net/netip"
	"reflect"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lithos/core/address"
	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/edit/edittest"
	"lithos/core/site"
)

// The address offered to a device outside its network was taken by a pool that is now removed.
func TestAFreedAddressIsOfferedToADeviceElsewhere(t *testing.T) {
	doc := &site.Site{
		Networks: []site.Network{{ID: "net-bench", Name: "Bench", Prefix: netip.MustParsePrefix("10.84.32.0/28")}},
		Pools: []site.Pool{{ID: "pool-bench", Name: "Bench", Network: "net-bench", Ranges: []address.Range{
			{From: netip.MustParseAddr("10.84.32.2"), To: netip.MustParseAddr("10.84.32.9")}}}},
		FixedDevices: []site.FixedDevice{
			{ID: "fix-ap", Name: "ap", Network: "net-bench", Address: netip.MustParseAddr("10.84.33.5")}},
	}
	offered := func(sc *check.Scene) bool {
		for _, f := range sc.Findings {
			if f.Rule == "fixed-outside-network" {
				return f.Fix != nil
			}
		}
		t.Fatal("fixed-outside-network is not found")
		return false
	}
	sc := check.Of(doc)
	assert.False(t, offered(sc))
	remove := edit.Edit{Op: edit.Remove, Part: site.Ref{Kind: site.KindPool, ID: "pool-bench"}}
	after, err := edit.Apply(doc, remove)
	require.NoError(t, err)
	assert.True(t, offered(sc.After(after, []edit.Edit{remove})))
}

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
