package draft_test

import (
	"encoding/json"
	"fmt"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"lithos/core/edit"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/demo/demotest"
)

// renamed is the edit that gives the lab another name.
func renamed(from, to string) []edit.Edit {
	quoted := func(s string) json.RawMessage { return json.RawMessage(fmt.Sprintf("%q", s)) }
	return []edit.Edit{{Op: edit.Change, Part: site.Ref{Kind: site.KindNetwork, ID: "net-quill-lab"},
		Fields: []edit.Field{{Name: "name", From: quoted(from), To: quoted(to)}}}}
}

// A draft that another process moves to a new revision is read as it was at one moment: the steps with the revision
// that they were made on.
func TestDraftIsReadAtOneMoment(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	for round := range 12 {
		id, name := d.Order(), fmt.Sprintf("Lab %d", round)
		d.Revise(func(doc *site.Site) {
			n, _ := doc.Network("net-quill-lab")
			n.Name = name
		})
		var filled atomic.Bool
		var readers errgroup.Group
		for range 4 {
			fresh := d.Another()
			readers.Go(func() error {
				for !filled.Load() {
					if _, err := fresh.Drafts.Draft(t.Context(), id); err != nil {
						return err
					}
				}
				return nil
			})
		}
		err := d.Drafts.Fill(t.Context(), d.MK, id, d.Version(id), renamed(name, "Workshop"))
		filled.Store(true)
		require.NoError(t, err)
		require.NoError(t, readers.Wait())
		require.NoError(t, d.Drafts.Drop(t.Context(), d.MK, id, d.Version(id)))
	}
}

// What fills a draft that it saw empty fills it once: who comes second is told so, and adds nothing.
func TestDraftIsFilledOnce(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	id := d.Order()
	seen := d.Version(id)
	require.NoError(t, d.Drafts.Fill(t.Context(), d.MK, id, seen, renamed("Lab", "Workshop")))
	err := d.Drafts.Fill(t.Context(), d.Jo, id, seen, renamed("Lab", "Workshop"))
	demotest.Refused(t, err, actor.Conflict, "made another edit")
	now, err := d.Drafts.Draft(t.Context(), id)
	require.NoError(t, err)
	assert.Len(t, now.Steps, 1)
	assert.Zero(t, now.Order.Lost)
}
