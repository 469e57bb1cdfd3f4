package work_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/draft"
)

// Of two servers on a network either may go on: both ways out are offered, each is one
// edit, and a finding with one way out has no other.
func TestTwoWaysOut(t *testing.T) {
	o := open(t)
	id := o.order()
	o.edit(id, draft.Change{Entries: []edit.Entry{
		{Kind: site.KindInterface, New: true, In: "device:dev-sw-core", Fields: map[string]string{
			"name": "vlan48", "kind": "vlan", "vlan": "48", "addresses": "10.84.20.2/26"}},
		{Kind: site.KindPool, New: true, Fields: map[string]string{
			"network": "net-imaging", "name": "Second", "ranges": "58-60", "server": "dev-sw-core", "enabled": "true"}},
	}})
	found := func() check.Finding {
		t.Helper()
		d, err := o.Drafts.Draft(t.Context(), id)
		require.NoError(t, err)
		i := slices.IndexFunc(d.Scene.Findings, func(f check.Finding) bool { return f.Rule == "two-servers" })
		require.GreaterOrEqual(t, i, 0, "%v %v", check.Added(d.Base.Findings, d.Scene.Findings), d.Doc().Pools)
		return d.Scene.Findings[i]
	}
	servers := func() map[string]string {
		t.Helper()
		d, err := o.Drafts.Draft(t.Context(), id)
		require.NoError(t, err)
		out := map[string]string{}
		for _, p := range d.Doc().Pools {
			if p.Network == "net-imaging" {
				out[p.Name] = p.Server
			}
		}
		return out
	}
	f := found()
	require.NotNil(t, f.Fix)
	require.NotNil(t, f.Other)
	assert.NotEqual(t, f.Fix.Title, f.Other.Title)
	before := servers()
	o.edit(id, draft.Change{Fix: f.ID})
	one := servers()
	_, err := o.Drafts.Undo(t.Context(), o.mk, id, o.version(id), false)
	require.NoError(t, err)
	assert.Equal(t, before, servers(), "one edit to undo")
	o.edit(id, draft.Change{Fix: f.ID, Other: true})
	other := servers()
	assert.NotEqual(t, one, other)
	for _, way := range []map[string]string{one, other} {
		assert.Equal(t, way["Imaging"], way["Second"], "one server for both pools")
	}

	d, err := o.Drafts.Draft(t.Context(), id)
	require.NoError(t, err)
	i := slices.IndexFunc(d.Scene.Findings, func(f check.Finding) bool { return f.Fix != nil && f.Other == nil })
	require.GreaterOrEqual(t, i, 0)
	_, err = o.Drafts.Edit(t.Context(), o.mk, id,
		draft.Change{Version: o.version(id), Fix: d.Scene.Findings[i].ID, Other: true}, nil)
	refusal(t, err, actor.Invalid, "no ready fix")
}
