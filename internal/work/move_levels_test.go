package work_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/internal/sites"
)

// clocks is what the customer of Moss End is kept to say of time servers for all sites, with the version of that.
func clocks(o *office) (value string, l sites.Level) {
	list, err := o.Sites.Standards(o.t.Context())
	require.NoError(o.t, err)
	customer := o.document("moss-end").Customer.ID
	for _, l = range list {
		if l.Kind == "customer" && l.Standard.ID == customer {
			for _, opt := range l.Standard.Options {
				if opt.Code == 42 {
					value = opt.Value
				}
			}
			return value, l
		}
	}
	return "", l
}

// keepClocks changes it.
func keepClocks(o *office, value string) {
	_, l := clocks(o)
	e := sites.LevelEntry{Version: l.Version, Name: l.Standard.Name,
		Options: []sites.LevelOption{{Code: 42, Value: value}}}
	for _, opt := range l.Standard.Options {
		if opt.Code != 42 {
			e.Options = append(e.Options, sites.LevelOption{Code: int(opt.Code), Value: opt.Value, Always: opt.Always})
		}
	}
	_, err := o.KeepLevel(o.t.Context(), o.mk, "customer", l.Standard.ID, e, nil)
	require.NoError(o.t, err)
}

// What is kept for all sites and names an old address names the new one once the swap has landed.
func TestMoveChangesWhatIsKeptForAllSites(t *testing.T) {
	t.Parallel()
	o := open(t)
	run(t, o.Service)
	ctx := t.Context()
	keepClocks(o, "10.84.52.12")
	r := theatre()
	r.OneNight = true
	plan, err := o.Moves.PlanMove(ctx, "moss-end", r)
	require.NoError(t, err)
	last := plan.Elsewhere[len(plan.Elsewhere)-1]
	require.Len(t, last.Rows, 1, "%v", last)
	assert.Empty(t, last.Site)
	assert.Equal(t, "10.84.53.12", last.Rows[0].Will)
	assert.Contains(t, last.Rows[0].What, ", NTP servers")

	id, err := o.Moves.BeginMove(ctx, o.mk, "moss-end", r)
	require.NoError(t, err)
	value, before := clocks(o)
	assert.Equal(t, "10.84.52.12", value, "nothing has landed yet")
	o.landPhase(o.move(id).Phases[0])
	value, after := clocks(o)
	assert.Equal(t, "10.84.53.12", value)
	assert.Equal(t, before.Version+1, after.Version)
	require.NoError(t, o.Moves.CarryMovesOn(ctx))
	_, again := clocks(o)
	assert.Equal(t, after.Version, again.Version, "it is done once")
	shown := o.move(id)
	assert.Equal(t, "10.84.52.12", shown.Elsewhere[len(shown.Elsewhere)-1].Rows[0].Was, "as it was, for the record")
}

// It names the old one again once the move is taken back; not where somebody has changed it since.
func TestMoveTakenBackGivesBackWhatIsKeptForAllSites(t *testing.T) {
	t.Parallel()
	for name, meanwhile := range map[string]string{"untouched": "", "changed since": "10.84.53.13"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			o := open(t)
			run(t, o.Service)
			ctx := t.Context()
			keepClocks(o, "10.84.52.12")
			id, err := o.Moves.BeginMove(ctx, o.mk, "moss-end", theatre())
			require.NoError(t, err)
			o.landPhase(o.move(id).Phases[0])
			o.landPhase(o.move(id).Phases[1])
			want := "10.84.52.12"
			if meanwhile != "" {
				keepClocks(o, meanwhile)
				want = meanwhile
			}
			_, err = o.Moves.TakeMoveBack(ctx, o.mk, id)
			require.NoError(t, err)
			phases := o.move(id).Phases
			o.landPhase(phases[len(phases)-1])
			assert.Equal(t, "back", o.move(id).State)
			value, _ := clocks(o)
			assert.Equal(t, want, value)
		})
	}
}
