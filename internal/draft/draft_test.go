package draft_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/demo/demotest"
	"lithos/internal/draft"
)

func network(d *demotest.Desk, id int64, of string) *site.Network {
	n, ok := d.Draft(id).Network(of)
	require.True(d, ok, of)
	return n
}

// Whatever was edited, undone it is as before and done again as after, also where somebody else reads it from the
// database.
func TestUndoneIsAsBefore(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	ctx, id := t.Context(), d.Order()
	states := []*site.Site{d.Draft(id)}
	for _, c := range []draft.Change{
		demotest.Entry("network", "net-quill-lab", "name", "Workshop"),
		demotest.Entry("pool", "pool-quill-lab", "ranges", "100-120, 130-140"),
		demotest.Entry("fixed", "", "network", "net-quill-lab", "address", ".9", "name", "lathe"),
		demotest.Entry("reservation", "res-quill-nas", "address", ".21"),
		{Remove: "reservation:res-quill-kettle"},
		demotest.Entry("exclusion", "", "pool", "pool-quill-things", "range", "60-69", "reason", "bulbs"),
	} {
		if c.Remove == "" && c.Entries[0].Kind == "exclusion" {
			delete(c.Entries[0].Fields, "pool")
			c.Entries[0].In = "pool:pool-quill-things"
		}
		d.Edit(id, c)
		states = append(states, d.Draft(id))
	}
	fresh := d.Another()
	read := func() *site.Site {
		now, err := fresh.Drafts.Draft(ctx, id)
		require.NoError(t, err)
		return now.Doc()
	}
	for i := len(states) - 2; i >= 0; i-- {
		_, err := d.Drafts.Undo(ctx, d.MK, id, d.Version(id), false)
		require.NoError(t, err)
		require.Equal(t, states[i], d.Draft(id), "after %d edits", i)
		require.Equal(t, states[i], read(), "after %d edits, as another process reads it", i)
	}
	version := d.Version(id)
	_, err := d.Drafts.Undo(ctx, d.MK, id, version, false)
	require.NoError(t, err, "there is nothing to undo")
	assert.Equal(t, version, d.Version(id))
	for i := 1; i < len(states); i++ {
		_, err := d.Drafts.Redo(ctx, d.MK, id, d.Version(id))
		require.NoError(t, err)
		require.Equal(t, states[i], read(), "after %d edits", i)
	}
	version = d.Version(id)
	_, err = d.Drafts.Redo(ctx, d.MK, id, version)
	require.NoError(t, err, "there is nothing to redo")
	assert.Equal(t, version, d.Version(id))
}

// An edit on a version that is not the newest is refused, and says who was first; nothing of it is kept.
func TestEditsOnAnOldVersionAreRefused(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	id := d.Order()
	seen := d.Version(id)
	d.Edit(id, demotest.Entry("network", "net-quill-lab", "name", "Workshop"))
	late := demotest.Entry("network", "net-quill-lab", "name", "Cellar")
	late.Version = seen
	_, err := d.Drafts.Edit(t.Context(), d.Jo, id, late, nil)
	demotest.Refused(t, err, actor.Conflict, "Maren Kolb made another edit")
	assert.Equal(t, "Workshop", network(d, id, "net-quill-lab").Name)
	// What another did is undone only by who knows that it is another's.
	_, err = d.Drafts.Undo(t.Context(), d.Jo, id, d.Version(id), false)
	demotest.Refused(t, err, actor.Conflict, "Maren Kolb")
	_, err = d.Drafts.Undo(t.Context(), d.Jo, id, d.Version(id), true)
	require.NoError(t, err)
	assert.Equal(t, "Lab", network(d, id, "net-quill-lab").Name)
	assert.ErrorAs(t, d.Drafts.Drop(t.Context(), d.MK, id, seen), new(*actor.Refusal))
	require.NoError(t, d.Drafts.Drop(t.Context(), d.MK, id, d.Version(id)))
	late.Version = d.Version(id)
	_, err = d.Drafts.Edit(t.Context(), d.MK, id, late, nil)
	demotest.Refused(t, err, actor.Conflict, "dropped")
}

// A bad value is refused by the name of its field, and the draft stays as it is.
func TestBadValuesNameTheirField(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	id := d.Order()
	for field, c := range map[string]draft.Change{
		"ranges": demotest.Entry("pool", "pool-quill-lab", "ranges", "100-"),
		"mac":    demotest.Entry("reservation", "res-quill-nas", "mac", "02:00"),
		"vlan":   demotest.Entry("network", "net-quill-lab", "vlan", "many"),
	} {
		version := d.Version(id)
		c.Version = version
		_, err := d.Drafts.Edit(t.Context(), d.MK, id, c, nil)
		var r *actor.Refusal
		require.ErrorAs(t, err, &r, field)
		assert.Equal(t, actor.Invalid, r.Kind)
		require.Len(t, r.Fields, 1)
		assert.Equal(t, "entries[0].fields."+field, r.Fields[0].Field)
		assert.Equal(t, version, d.Version(id))
	}
}

// A draft follows the site: what still applies is carried along, and what does not waits for a decision.
func TestRebase(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	ctx, id := t.Context(), d.Order()
	d.Edit(id, demotest.Entry("network", "net-quill-lab", "name", "Workshop"))
	d.Edit(id, demotest.Entry("network", "net-quill-home", "purpose", "everybody"))
	d.Revise(func(doc *site.Site) {
		n, ok := doc.Network("net-quill-lab")
		require.True(t, ok)
		n.Name = "Cellar"
	})
	_, err := d.Drafts.Rebase(ctx, id, d.Version(id))
	require.NoError(t, err)
	assert.Equal(t, "Cellar", network(d, id, "net-quill-lab").Name)
	assert.Equal(t, "everybody", network(d, id, "net-quill-home").Purpose)
	now, err := d.Drafts.Draft(ctx, id)
	require.NoError(t, err)
	lost, err := d.Drafts.Lost(ctx, now)
	require.NoError(t, err)
	require.Len(t, lost, 1)
	assert.True(t, lost[0].Mine)
	decide := func(take string, fields map[string]string) error {
		_, err := d.Drafts.Decide(ctx, d.Jo, id, d.Version(id),
			draft.Decision{Seq: lost[0].Seq, Take: take, Fields: fields})
		return err
	}
	require.NoError(t, decide(draft.TakeMine, nil))
	assert.Equal(t, "Workshop", network(d, id, "net-quill-lab").Name)
	demotest.Refused(t, decide(draft.TakeTheirs, nil), actor.Conflict, "decided about this edit already")
}

// Pasted lines are read as they will be taken; a line that cannot be read changes nothing of the others.
func TestPaste(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	id := d.Order()
	r := draft.PasteRequest{Network: "net-quill-lab", Kind: "reservation",
		Text: "10.7.8.20 02:00:5e:00:10:01 kiln\n10.7.8.21,02:00:5e:00:10:02,press\nnonsense\n"}
	p, err := d.Drafts.Paste(t.Context(), id, r)
	require.NoError(t, err)
	require.Len(t, p.Lines, 3)
	assert.Equal(t, 2, p.Edits)
	before := len(d.Draft(id).Reservations)
	d.Edit(id, draft.Change{Paste: &r})
	assert.Len(t, d.Draft(id).Reservations, before+2)
	again, err := d.Drafts.Paste(t.Context(), id, r)
	require.NoError(t, err)
	assert.Zero(t, again.Edits, "the same lines again change nothing")
}

// The order that somebody worked on last is theirs, and dropped ones are nobody's.
func TestLastWorkedOn(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	first, second := d.Order(), d.Order()
	d.Edit(second, demotest.Entry("network", "net-quill-lab", "name", "Workshop"))
	d.Edit(first, demotest.Entry("network", "net-quill-lab", "name", "Cellar"))
	last, err := d.Drafts.LastWorkedOn(t.Context(), d.MK.ID)
	require.NoError(t, err)
	assert.Equal(t, first, last)
	require.NoError(t, d.Drafts.Drop(t.Context(), d.MK, first, d.Version(first)))
	last, err = d.Drafts.LastWorkedOn(t.Context(), d.MK.ID)
	require.NoError(t, err)
	assert.Equal(t, second, last)
	none, err := d.Drafts.LastWorkedOn(t.Context(), d.Jo.ID)
	require.NoError(t, err)
	assert.Zero(t, none)
}

// Who took whose step back is on record, and asked about first. An edit after an undo ends what could be redone. A
// dropped order takes no edits until it is taken up again.
func TestWhoseStepIsUndone(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	ctx, id := t.Context(), d.Order()
	d.Edit(id, demotest.Entry("network", "net-quill-lab", "name", "Workshop"))
	_, err := d.Drafts.Undo(ctx, d.Jo, id, d.Version(id), false)
	demotest.Refused(t, err, actor.Conflict,
		"The last step is Maren Kolb's (Change network Lab: name Workshop, was Lab).")
	_, err = d.Drafts.Undo(ctx, d.Jo, id, d.Version(id), true)
	require.NoError(t, err)
	fresh, err := d.Another().Drafts.Draft(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, []string{"Maren Kolb", "Jo Arden"}, []string{fresh.Steps[0].By, fresh.Steps[0].UndoneBy})
	d.Edit(id, demotest.Entry("network", "net-quill-lab", "purpose", "x"))
	_, err = d.Drafts.Redo(ctx, d.MK, id, d.Version(id))
	require.NoError(t, err)
	assert.Equal(t, "Lab", network(d, id, "net-quill-lab").Name)

	version := d.Version(id)
	require.NoError(t, d.Drafts.Drop(ctx, d.Jo, id, version))
	for _, v := range []int32{version, version + 1} {
		c := demotest.Entry("network", "net-quill-lab", "purpose", "y")
		c.Version = v
		_, err := d.Drafts.Edit(ctx, d.MK, id, c, nil)
		demotest.Refused(t, err, actor.Conflict, "was dropped by Jo Arden")
	}
	require.NoError(t, d.Drafts.TakeUp(ctx, d.MK, id, d.Version(id)))
	demotest.Refused(t, d.Drafts.TakeUp(ctx, d.MK, id, d.Version(id)), actor.Conflict, "not dropped")
	d.Edit(id, demotest.Entry("network", "net-quill-lab", "vlan", "49"))
}
