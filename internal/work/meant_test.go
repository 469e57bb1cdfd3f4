package work_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/draft"
	"lithos/internal/sites"
	"lithos/internal/view"
	"lithos/internal/work"
)

// A network that is shut off on purpose is answered once: it is counted and not among what wants something done, on the
// site's page, on Rounds and in a draft; taken back, or with other facts, or after its last day, it is shown again.
func Test48AFindingIsMeantSo(t *testing.T) {
	o := open(t)
	ctx := t.Context()
	found := func() *check.Finding {
		list := o.page("hallin-road", 0).Judgement.Findings
		i := slices.IndexFunc(list, func(f check.Finding) bool { return f.Rule == "pool-off" })
		if i < 0 {
			return nil
		}
		return &list[i]
	}
	rounds := func() (findings, meant int) {
		rows, err := o.Sites.Sites(ctx, false)
		require.NoError(t, err)
		i := slices.IndexFunc(rows, func(r sites.SiteRow) bool { return r.Code == "hallin-road" })
		return rows[i].Findings, rows[i].Meant
	}
	f := found()
	require.NotNil(t, f)
	before, _ := rounds()
	refusal(t, o.MeanSo(ctx, o.mk, "hallin-road", work.MeantSo{Finding: f.ID}), actor.Invalid, "Type why")
	refusal(t, o.MeanSo(ctx, o.mk, "hallin-road", work.MeantSo{Finding: f.ID, Reason: "let", Until: "2020-01-01"}),
		actor.Invalid, "that day has passed")
	refusal(t, o.MeanSo(ctx, o.mk, "hallin-road", work.MeantSo{Finding: "pool-off.none", Reason: "let"}), actor.Missing,
		"gone")
	next := time.Now().AddDate(0, 0, 30).Format(time.DateOnly)
	require.NoError(t, o.MeanSo(ctx, o.mk, "hallin-road", work.MeantSo{Finding: f.ID, Reason: "The room is not let yet",
		Until: next}))
	assert.Nil(t, found())
	page := o.page("hallin-road", 0)
	part := page.Part(view.Look{Network: f.Network, Select: f.Parts[0].String()})
	require.Len(t, part.Meant, 1)
	assert.Equal(t, "The room is not let yet, by Maren Kolb", part.Meant[0].Reason+", by "+part.Meant[0].By)
	after, meant := rounds()
	assert.Equal(t, []int{before - 1, 1}, []int{after, meant})

	id := o.at("hallin-road")
	o.edit(id, draft.Change{Entries: []edit.Entry{{Kind: site.KindPool, ID: f.Parts[0].ID,
		Fields: map[string]string{"name": "Shut off"}}}})
	shown := slices.ContainsFunc(o.page("hallin-road", id).Judgement.Findings, func(f check.Finding) bool {
		return f.Rule == "pool-off"
	})
	assert.True(t, shown, "its facts have changed")
	o.exec("UPDATE finding_meant SET until = now() - interval '2 days'")
	assert.NotNil(t, found(), "its last day has passed")
	o.exec("UPDATE finding_meant SET until = NULL")
	assert.Nil(t, found())
	require.NoError(t, o.MeanNoMore(ctx, o.mk, "hallin-road", f.ID))
	assert.NotNil(t, found())
	refusal(t, o.MeanNoMore(ctx, o.mk, "hallin-road", f.ID), actor.Missing, "Nobody has said")

	blocks := o.page("kelder-bridge", 0).Judgement.Findings
	i := slices.IndexFunc(blocks, func(f check.Finding) bool { return f.Severity == check.Blocks })
	require.GreaterOrEqual(t, i, 0)
	refusal(t, o.MeanSo(ctx, o.mk, "kelder-bridge", work.MeantSo{Finding: blocks[i].ID, Reason: "so"}), actor.Conflict,
		"cannot be meant")
}
