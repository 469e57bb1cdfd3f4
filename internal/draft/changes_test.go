package draft_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/edit"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/demo/demotest"
	"lithos/internal/draft"
	"lithos/internal/order"
)

// says is what the newest step of an order says.
func says(d *demotest.Desk, id int64) string {
	now, err := d.Drafts.Draft(d.Context(), id)
	require.NoError(d, err)
	return now.Steps[len(now.Steps)-1].Says
}

// refused makes a change that is refused, and leaves the draft as it was.
func refused(d *demotest.Desk, id int64, kind actor.Kind, text string, c draft.Change) {
	d.Helper()
	was := d.Version(id)
	c.Version = was
	_, err := d.Drafts.Edit(d.Context(), d.MK, id, c, nil)
	demotest.Refused(d, err, kind, text)
	assert.Equal(d, was, d.Version(id))
}

// A range of a pool and an exclusion are dragged to other ends; the pool's other ranges stay.
func TestRangesAreDragged(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	id := d.Order()
	d.Edit(id, demotest.Entry("pool", "pool-quill-lab", "ranges", "100-119, 130-149"))
	drag := func(part, in string, n int, to string) draft.Change {
		return draft.Change{Resize: &draft.Resize{Part: part, In: in, Range: n, To: to}}
	}
	ranges := func() string {
		p, ok := d.Draft(id).Pool("pool-quill-lab")
		require.True(t, ok)
		return fmt.Sprint(p.Ranges)
	}
	d.Edit(id, drag("pool:pool-quill-lab", "", 1, "130-159"))
	assert.Equal(t, "[10.7.8.100 - 10.7.8.119 10.7.8.130 - 10.7.8.159]", ranges())
	d.Edit(id, drag("pool:pool-quill-lab", "", 0, "90-119"))
	assert.Equal(t, "[10.7.8.90 - 10.7.8.119 10.7.8.130 - 10.7.8.159]", ranges())
	refused(d, id, actor.Conflict, "The range is not there any more", drag("pool:pool-quill-lab", "", 2, "1-2"))
	refused(d, id, actor.Conflict, "The range is not there any more", drag("pool:gone", "", 0, "1-2"))
	added := demotest.Entry("exclusion", "", "range", "140-142", "reason", "printers")
	added.Entries[0].In = "pool:pool-quill-lab"
	d.Edit(id, added)
	p, _ := d.Draft(id).Pool("pool-quill-lab")
	d.Edit(id, drag("exclusion:"+p.Exclusions[0].ID, "pool:pool-quill-lab", 0, "140-145"))
	p, _ = d.Draft(id).Pool("pool-quill-lab")
	assert.Equal(t, "10.7.8.140 - 10.7.8.145", p.Exclusions[0].Range.String())
	assert.Equal(t, "printers", p.Exclusions[0].Reason)
}

// All findings of a rule are fixed at once, as the preview said; what has no fix says so.
func TestAllFindingsOfARuleAreFixed(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	id := d.Order()
	for _, pool := range []string{"home", "lab", "things"} {
		d.Edit(id, demotest.Entry("pool", "pool-quill-"+pool, "enabled", "false"))
	}
	preview, err := d.Drafts.Fixes(t.Context(), id, "pool-off")
	require.NoError(t, err)
	require.Len(t, preview.Fixes, 3)
	for _, f := range preview.Fixes {
		assert.NotEmpty(t, f.Fix)
		assert.Contains(t, f.Says, "on")
	}
	d.Edit(id, draft.Change{FixAll: "pool-off"})
	for _, p := range d.Draft(id).Pools {
		assert.True(t, p.Enabled, p.Name)
	}
	preview, err = d.Drafts.Fixes(t.Context(), id, "pool-off")
	require.NoError(t, err)
	assert.Empty(t, preview.Fixes)
	refused(d, id, actor.Conflict, "finding is gone already", draft.Change{Fix: "none such"})
	now, err := d.Drafts.Draft(t.Context(), id)
	require.NoError(t, err)
	for _, f := range now.Scene.Findings {
		if f.Fix == nil {
			refused(d, id, actor.Invalid, "There is no ready fix", draft.Change{Fix: f.ID})
			fixes, err := d.Drafts.Fixes(t.Context(), id, f.Rule)
			require.NoError(t, err)
			assert.Contains(t, fixes.Fixes[0].Says, "no ready fix")
			return
		}
	}
}

// An order is copied to a site that is laid out alike: its edits find their place there, and the two belong together.
func TestAnOrderIsCopiedToAnotherSite(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	ctx, there := t.Context(), d.Twin().Code
	id := d.Order()
	_, err := d.Drafts.CopyTo(ctx, d.MK, id, []string{there})
	demotest.Refused(t, err, actor.Conflict, "no edits to copy yet")
	d.Edit(id, demotest.Entry("pool", "pool-quill-lab", "ranges", "100-139"))
	_, err = d.Drafts.CopyTo(ctx, d.MK, id, nil)
	demotest.Refused(t, err, actor.Invalid, "Choose the sites")
	_, err = d.Drafts.CopyTo(ctx, d.MK, id, make([]string, 201))
	demotest.Refused(t, err, actor.Invalid, "at most 200")
	nowhere := make([]string, 200)
	for i := range nowhere {
		nowhere[i] = "nowhere"
	}
	out, err := d.Drafts.CopyTo(ctx, d.MK, id, nowhere)
	require.NoError(t, err)
	assert.Contains(t, out[0].Says, "nowhere")
	out, err = d.Drafts.CopyTo(ctx, d.MK, id, []string{there})
	require.NoError(t, err)
	require.Len(t, out, 1)
	assert.Equal(t, []int{1, 0}, []int{out[0].Edits, out[0].Left})
	p, ok := d.Draft(out[0].Order).Pool("pool-thrush-lab")
	require.True(t, ok)
	assert.Equal(t, "[10.9.8.100 - 10.9.8.139]", fmt.Sprint(p.Ranges))
	together, err := d.Store.OrdersTogether(ctx, id)
	require.NoError(t, err)
	assert.Len(t, together, 2)
	again, err := d.Drafts.CopyTo(ctx, d.MK, out[0].Order, []string{there})
	require.NoError(t, err)
	assert.Contains(t, again[0].Says, "is open there already")
	assert.Zero(t, again[0].Order)
	require.NoError(t, d.Drafts.Drop(ctx, d.MK, out[0].Order, d.Version(out[0].Order)))
	again, err = d.Drafts.CopyTo(ctx, d.MK, id, []string{there})
	require.NoError(t, err)
	assert.NotZero(t, again[0].Order, "one that was dropped is not open")
	require.NoError(t, d.Drafts.TakeUp(ctx, d.MK, out[0].Order, d.Version(out[0].Order)))
	demotest.Refused(t, d.Drafts.TakeUp(ctx, d.MK, out[0].Order, d.Version(out[0].Order)), actor.Conflict, "")
}

// What has no place at the other site waits there, with the reason, and nothing is made of the rest that is so already.
func TestWhatDoesNotFitWaitsAtTheOtherSite(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	ctx, there := t.Context(), d.Twin().Code
	first := d.Order()
	d.Edit(first, demotest.Entry("pool", "pool-quill-lab", "note", "as it was"))
	d.Edit(first, draft.Change{Remove: "reservation:res-quill-nas"})
	doc, err := d.Sites.Export(ctx, there)
	require.NoError(t, err)
	raw, err := site.Encode(doc)
	require.NoError(t, err)
	other, err := site.Read(strings.NewReader(string(raw)))
	require.NoError(t, err)
	other.Reservations = other.Reservations[1:]
	_, err = d.Sites.Import(ctx, other, 0, "without the one")
	require.NoError(t, err)
	out, err := d.Drafts.CopyTo(ctx, d.MK, first, []string{there})
	require.NoError(t, err)
	require.Len(t, out, 1)
	now, err := d.Drafts.Draft(ctx, out[0].Order)
	require.NoError(t, err)
	lost, err := d.Drafts.Lost(ctx, now)
	require.NoError(t, err)
	assert.Equal(t, []int{1, 1}, []int{out[0].Edits, out[0].Left})
	assert.Len(t, lost, 1)
	for _, l := range lost {
		assert.NotEmpty(t, l.Why)
	}
}

// What devices hold that a push is to undo is a step of the draft, and says what.
func TestAStepThatPutsBack(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	id := d.Order()
	back := func(n int) (out []order.PutBack) {
		for i := range n {
			out = append(out, order.PutBack{What: fmt.Sprint("pool ", i)})
		}
		return out
	}
	d.Edit(id, draft.Change{PutBack: back(1)})
	assert.Equal(t, "Put back pool 0", says(d, id))
	d.Edit(id, draft.Change{PutBack: back(3)})
	assert.Equal(t, "Put back pool 0; 2 more", says(d, id))
	c := demotest.Entry("network", "net-quill-lab", "name", "Cellar")
	c.PutBack = back(2)
	d.Edit(id, c)
	assert.Contains(t, says(d, id), "Cellar")
	assert.True(t, strings.HasSuffix(says(d, id), "; Put back pool 0; 1 more"), says(d, id))
	now, err := d.Another().Drafts.Draft(t.Context(), id)
	require.NoError(t, err)
	assert.Len(t, now.Steps[2].PutBack, 2, "as it is read again")
}

// A password or a key that is typed is kept under a name of its own, and the draft holds the name alone. One that goes
// to another place from now on has to be typed again.
func TestTypedPasswordsAndKeys(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	id := d.Order()
	zoneKey := func(fields ...string) draft.Change { return demotest.Entry("zone", "zone-quill-out", fields...) }
	refused(d, id, actor.Invalid, "the key ", zoneKey("secret", "not base64!"))
	refused(d, id, actor.Invalid, "has 201 characters", demotest.Entry("interface", "if-quill-wan",
		"method", "pppoe", "account", "a", "secret", strings.Repeat("p", 201)))
	d.Edit(id, zoneKey("secret", "d2FsbnV0LWhhcmJvdXItcXVhcnR6"))
	z := zoneOf(d, id)
	assert.NotEqual(t, "key-quill", z.Secret)
	assert.True(t, strings.HasPrefix(z.Secret, "key-"), z.Secret)
	d.Edit(id, zoneKey("account", "walnut-harbour"))
	assert.True(t, strings.HasPrefix(zoneOf(d, id).Account, "account-"))
	c := zoneKey("keysAt", "https://elsewhere.example")
	c.Version = d.Version(id)
	_, err := d.Drafts.Edit(t.Context(), d.MK, id, c, nil)
	var r *actor.Refusal
	require.ErrorAs(t, err, &r)
	require.Len(t, r.Fields, 1)
	assert.Equal(t, "entries[0].fields.account", r.Fields[0].Field)
	assert.Contains(t, r.Fields[0].Says, "type it again")
	d.Edit(id, zoneKey("keysAt", "https://elsewhere.example", "account", "slate-canal"))
	assert.Equal(t, "https://elsewhere.example", zoneOf(d, id).KeysAt)
}

func zoneOf(d *demotest.Desk, id int64) site.Zone {
	for _, z := range d.Draft(id).Zones {
		if z.ID == "zone-quill-out" {
			return z
		}
	}
	require.Fail(d, "the zone is gone")
	return site.Zone{}
}

// Two technicians change other parts of a draft at once, each on the version that they saw; the same part is refused to
// the later one, and so is what depends on the whole draft.
func TestChangesOfOtherPartsGoTogether(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	id := d.Order()
	seen := d.Version(id)
	try := func(c draft.Change) error {
		c.Version = seen
		_, err := d.Another().Drafts.Edit(t.Context(), d.Jo, id, c, nil)
		return err
	}
	d.Edit(id, demotest.Entry("reservation", "res-quill-nas", "name", "store"))
	require.NoError(t, try(demotest.Entry("network", "net-quill-lab", "name", "Cellar")))
	require.NoError(t, try(draft.Change{Remove: "reservation:res-quill-kettle"}))
	demotest.Refused(t, try(demotest.Entry("reservation", "res-quill-nas", "name", "late")), actor.Conflict, "")
	demotest.Refused(t, try(draft.Change{FixAll: "pool-off"}), actor.Conflict, "")
	demotest.Refused(t, try(draft.Change{Resize: &draft.Resize{Part: "network:net-quill-lab", To: "1-2"}}),
		actor.Conflict,
		"")
	_, err := d.Drafts.Undo(t.Context(), d.Jo, id, d.Version(id), true)
	require.NoError(t, err)
	demotest.Refused(t, try(demotest.Entry("network", "net-quill-home", "name", "House")), actor.Conflict, "")
}

// Edits that come from elsewhere are taken as they are, and refused where they do not apply.
func TestEditsAsTheyAre(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	id := d.Order()
	gone, err := edit.Removing(d.Doc, site.Ref{Kind: "reservation", ID: "res-quill-nas"}, site.Ref{})
	require.NoError(t, err)
	d.Edit(id, draft.Change{Edits: gone})
	_, has := d.Draft(id).Reservation("res-quill-nas")
	assert.False(t, has)
	refused(d, id, actor.Conflict, "", draft.Change{Edits: gone})
	refused(d, id, actor.Conflict, "It cannot be removed", draft.Change{Remove: "reservation:res-quill-nas"})
}
