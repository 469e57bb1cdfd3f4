package order_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/order"
)

// Each gate of a push is closed by what it is about alone, and says so; with none of them the push goes.
func TestEachGateOfAPush(t *testing.T) {
	ready := order.Head{State: "open", Edits: 1, Rehearsed: true}
	require.NoError(t, ready.RefusesPush())
	for says, close := range map[string]func(*order.Head){
		"has a newer revision":              func(h *order.Head) { h.Behind = true },
		"1 edit does not apply here":        func(h *order.Head) { h.Lost = 1 },
		"2 edits do not apply here":         func(h *order.Head) { h.Lost = 2 },
		"There is nothing to push":          func(h *order.Head) { h.Edits = 0 },
		"1 finding of this draft blocks":    func(h *order.Head) { h.Blocking = 1 },
		"2 findings of this draft block":    func(h *order.Head) { h.Blocking = 2 },
		"gw-1 was changed":                  func(h *order.Head) { h.Drifted = order.Drifted("gw-1", 1) },
		"not rehearsed since its last":      func(h *order.Head) { h.Rehearsed = false },
		"Its change window opens on Sunday": func(h *order.Head) { h.Window = "Its change window opens on Sunday." },
	} {
		h := ready
		close(&h)
		err := h.RefusesPush()
		require.ErrorContains(t, err, says)
		var r *actor.Refusal
		require.ErrorAs(t, err, &r)
		assert.Equal(t, actor.Conflict, r.Kind, says)
	}
	warned := ready
	warned.Warning = 3
	require.NoError(t, warned.RefusesPush(), "a warning keeps nobody")
}

// drafted is a draft of one edit.
func drafted(t *testing.T, o order.Order) *order.Draft {
	s := scenario.Site("kelder-bridge")
	edits, err := edit.Read(s, edit.Entry{Kind: site.KindNetwork, ID: s.Networks[0].ID,
		Fields: map[string]string{"name": "Bench lab"}})
	require.NoError(t, err)
	d, err := order.New(o, []order.Step{{Seq: 1, Says: "Change network Bench", Edits: edits, By: "Maren Kolb"},
		{Seq: 2, Says: "Change it again", Edits: edits, Undone: true}, {Seq: 3, Says: "And again", Undone: true}},
		check.Of(s))
	require.NoError(t, err)
	return d
}

// What the tray says of a draft comes from its steps, its findings, its version and its window.
func TestWhatTheTraySays(t *testing.T) {
	soon, past := time.Now().Add(time.Hour), time.Now().Add(-time.Hour)
	for _, c := range []struct {
		what   string
		order  order.Order
		added  []check.Finding
		refuse string
		leave  bool
	}{
		{"ready", order.Order{State: "open", Version: 3, Rehearsed: 3}, nil, "", false},
		{"changed since", order.Order{State: "open", Version: 4, Rehearsed: 3}, nil, "not rehearsed", false},
		{"never rehearsed", order.Order{State: "open", Version: 3, Rehearsed: -1}, nil, "not rehearsed", false},
		{"behind", order.Order{State: "open", Version: 3, Rehearsed: 3, Head: 2, BaseRevision: 1}, nil,
			"newer revision", false},
		{"landed, whatever came then", order.Order{State: "landed", Version: 3, Rehearsed: 3, Head: 2,
			BaseRevision: 1}, nil, "", false},
		{"blocked", order.Order{State: "open", Version: 3, Rehearsed: 3},
			[]check.Finding{{Severity: check.Warns}, {Severity: check.Blocks}}, "1 finding", false},
		{"before its window", order.Order{State: "open", Version: 3, Rehearsed: 3, NotBefore: &soon}, nil,
			"window opens", true},
		{"left to start", order.Order{State: "open", Version: 3, Rehearsed: 3, NotBefore: &soon, Waits: "Maren Kolb"},
			nil, "window opens", false},
		{"before its window, not rehearsed", order.Order{State: "open", Version: 3, NotBefore: &soon}, nil,
			"not rehearsed", false},
		{"in its window", order.Order{State: "open", Version: 3, Rehearsed: 3, NotBefore: &past, NotAfter: &soon}, nil,
			"", false},
		{"after its window", order.Order{State: "open", Version: 3, Rehearsed: 3, NotAfter: &past}, nil, "window ended",
			false},
	} {
		h := drafted(t, c.order).Head(nil, c.added)
		if c.refuse == "" {
			assert.Empty(t, h.Refuses, c.what)
		} else {
			assert.Contains(t, h.Refuses, c.refuse, c.what)
		}
		assert.Equal(t, c.leave, h.Leavable, c.what)
		assert.Equal(t, 1, h.Edits, "what was taken back is none")
		assert.Equal(t, "Change network Bench", h.Undo)
		assert.Equal(t, "Maren Kolb", h.UndoBy)
		assert.Equal(t, "Change it again", h.Redo, "the first that was taken back is done again first")
	}
	h := drafted(t, order.Order{State: "open"}).Head(nil, []check.Finding{{Severity: check.Warns},
		{Severity: check.Blocks}, {Severity: check.Blocks}})
	assert.Equal(t, []int{2, 1}, []int{h.Blocking, h.Warning})
}
