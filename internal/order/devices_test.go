package order_test

import (
	"fmt"
	"reflect"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lithos/core/check"
	"lithos/core/compile"
	"lithos/core/edit"
	"lithos/core/plan"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/order"
)

// someEdits draws an edit of the kinds a push carries to devices, or the removal of a
// part.
func someEdits(t *rapid.T, s *site.Site, i int) []edit.Edit {
	k, _ := site.KindNamed(rapid.SampledFrom([]string{site.KindPool, site.KindReservation, site.KindNetwork,
		site.KindInterface, site.KindExclusion}).Draw(t, "kind"))
	var refs, owners []site.Ref
	k.Each(s, func(in site.Ref, list site.List, n int) bool {
		refs, owners = append(refs, site.Ref{Kind: k.Name, ID: list.ID(n)}), append(owners, in)
		return true
	})
	if len(refs) == 0 {
		return nil
	}
	at := rapid.IntRange(0, len(refs)-1).Draw(t, "part")
	if rapid.IntRange(0, 3).Draw(t, "remove") == 0 {
		edits, err := edit.Removing(s, refs[at], owners[at])
		require.NoError(t, err)
		return edits
	}
	fields := map[string]map[string]string{
		site.KindPool:        {"server": rapid.SampledFrom(s.Devices).Draw(t, "server").ID},
		site.KindReservation: {"name": fmt.Sprintf("host-%d", i)},
		site.KindNetwork:     {"gateway": ""}, site.KindInterface: {"permits": "dhcp, ping"},
		site.KindExclusion: {"reason": fmt.Sprintf("why %d", i)},
	}[k.Name]
	entry := edit.Entry{Kind: k.Name, ID: refs[at].ID, Fields: fields}
	if owners[at].ID != "" {
		entry.In = owners[at].String()
	}
	if k.SetsOptions() && rapid.Bool().Draw(t, "an option") {
		entry = edit.Entry{Kind: site.KindOption, ID: "42", In: refs[at].String(),
			Fields: map[string]string{"value": rapid.SampledFrom([]string{"", "10.84.16.1", "10.84.16.2"}).
				Draw(t, "value")}}
	}
	edits, err := edit.Read(s, entry)
	if err != nil {
		return nil
	}
	return edits
}

// steps is what steps do, in words; equal ones may be carried out in either order.
func steps(list []plan.Step) []string {
	out := []string{}
	for _, s := range list {
		out = append(out, s.Verb+" "+s.Text+" "+s.Path+" "+string(s.Body))
	}
	return out
}

// Which devices a draft changes is found edit by edit, and taken back step by step: it
// is what compiling every device says.
func TestTargetsAreTheDevicesThatDiffer(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		base := scenario.Site(rapid.SampledFrom(scenario.Names).Draw(t, "site"))
		d, err := order.New(order.Order{ID: 1}, nil, check.Of(base))
		require.NoError(t, err)
		same := func() {
			t.Helper()
			var got, want []string
			for _, target := range d.Targets(nil) {
				got = append(got, target.ID)
				// As much as differs is planned like the whole.
				require.Equal(t, steps(plan.Between(target.Configs(d))), steps(plan.Between(target.Differing(d))))
			}
			for _, dev := range d.Doc().Devices {
				if !reflect.DeepEqual(compile.Device(base, dev.ID), compile.Device(d.Doc(), dev.ID)) {
					want = append(want, dev.ID)
				}
			}
			slices.Sort(got)
			slices.Sort(want)
			require.Equal(t, want, got)
		}
		for i := range rapid.IntRange(1, 8).Draw(t, "edits") {
			edits := someEdits(t, d.Doc(), i)
			doc, err := edit.Apply(d.Doc(), edits...)
			if err != nil || len(edits) == 0 {
				continue
			}
			d = d.With(append(d.Standing(), d.NextStep(actor.Technician{}, doc, edits)), doc, edits)
			same()
		}
		for len(d.Steps) > 0 {
			last := d.Steps[len(d.Steps)-1]
			doc, err := edit.Apply(base, order.Live(d.Steps[:len(d.Steps)-1])...)
			require.NoError(t, err)
			d = d.With(d.Steps[:len(d.Steps)-1], doc, last.Edits)
			same()
		}
		require.Empty(t, d.Targets(nil), "with every step taken back nothing is left to push")
	})
}
