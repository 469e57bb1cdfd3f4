package work_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/internal/sites"
)

// clinic is the clinic standard as it is kept, as it would be typed.
func clinic(o *office) (sites.Level, sites.LevelEntry) {
	list, err := o.Sites.Standards(o.t.Context())
	require.NoError(o.t, err)
	l := list[0]
	e := sites.LevelEntry{Version: l.Version, Name: l.Standard.Name}
	for _, opt := range l.Standard.Options {
		e.Options = append(e.Options, sites.LevelOption{Code: int(opt.Code), Value: opt.Value, Always: opt.Always})
	}
	for _, w := range l.Standard.Windows {
		e.Windows = append(e.Windows, sites.LevelWindow{Use: w.Use, From: w.From, To: w.To})
	}
	return l, e
}

// A standard is changed once for all sites: what becomes of each is shown first, a work order brings it to those
// that are chosen, and the others say that they have another form of it.
func TestAStandardIsChangedForAllSites(t *testing.T) {
	o := openAll(t)
	l, e := clinic(o)
	assert.Empty(t, l.Differs)
	require.Len(t, l.Sites, 3)
	id := l.Standard.ID
	same, err := o.PreviewLevel(t.Context(), "standard", id, e)
	require.NoError(t, err)
	for _, s := range same.Sites {
		assert.Empty(t, s.Words, "what is typed as it is changes nothing")
	}
	for i := range e.Options {
		if e.Options[i].Code == 51 {
			e.Options[i].Value = "30 minutes"
		}
	}
	v, err := o.PreviewLevel(t.Context(), "standard", id, e)
	require.NoError(t, err)
	require.Len(t, v.Sites, 3)
	for _, s := range v.Sites {
		require.NotEmpty(t, s.Words)
		assert.Contains(t, s.Words[0], "30 minutes")
		assert.Positive(t, s.Known)
	}
	kept, err := o.KeepLevel(t.Context(), o.mk, "standard", id, e, []string{"hallin-road"})
	require.NoError(t, err)
	require.Len(t, kept.Orders, 1)
	d, err := o.Drafts.Draft(t.Context(), kept.Orders[0].ID)
	require.NoError(t, err)
	assert.Equal(t, "hallin-road", d.Order.Code)
	assert.Empty(t, edit.Between(d.Doc(), d.Doc()))
	assert.Contains(t, rulesOf(o, 0), "off-standard", "Kelder Bridge has the older form yet")
	for _, f := range o.page("hallin-road", kept.Orders[0].ID).Judgement.Findings {
		assert.NotEqual(t, "off-standard", f.Rule, "in the draft it has the new one")
	}
	_, err = o.KeepLevel(t.Context(), o.mk, "standard", id, e, nil)
	require.ErrorContains(t, err, "Somebody has changed it meanwhile")

	// A file that has another form of it is taken, and says so.
	doc := scenario.Site("moss-end")
	doc.Standard.Name = "Clinic standard of old"
	_, err = o.Sites.Import(t.Context(), doc, o.mk.ID, "an old file")
	require.NoError(t, err)
	l, _ = clinic(o)
	assert.Contains(t, l.Differs, "Moss End hospital")
	assert.Equal(t, "Clinic standard", l.Standard.Name)
	again, err := o.Sites.Export(t.Context(), "moss-end")
	require.NoError(t, err)
	assert.Equal(t, "Clinic standard of old", again.Standard.Name, "an exported file holds what the site has")
}

// What is wrong in a standard is named, and nothing is kept; a new one is there for the next site, with its domain.
func TestANewStandard(t *testing.T) {
	o := openAll(t)
	wrong := sites.LevelEntry{Name: " ", Domain: "larkrise.example",
		Options: []sites.LevelOption{{Code: 51, Value: "soon"}, {Code: 6, Value: "10.0.0.1"}, {Code: 6,
			Value: "10.0.0.2"}},
		Windows: []sites.LevelWindow{{Use: "dynamic", From: 9, To: 3}}}
	_, err := o.KeepLevel(t.Context(), o.mk, "standard", "", wrong, nil)
	for _, says := range []string{"needs a name", "{code}", "option 6 is there twice", "ends before it begins"} {
		require.ErrorContains(t, err, says)
	}
	right := sites.LevelEntry{Name: "Branch standard", Domain: "{code}.heron.example",
		Options: []sites.LevelOption{{Code: 51, Value: "8 h"}}, Windows: []sites.LevelWindow{{Use: "dynamic",
			From: 20, To: -2}}}
	kept, err := o.KeepLevel(t.Context(), o.mk, "standard", "", right, nil)
	require.NoError(t, err)
	code, err := o.Sites.AddSite(t.Context(), o.mk, sites.NewSite{Customer: "Heron Ferry", Name: "The landing stage",
		Block: "10.200.0.0/20", TimeZone: "Europe/London", Standard: kept.ID})
	require.NoError(t, err)
	doc, err := o.Sites.Export(t.Context(), code)
	require.NoError(t, err)
	assert.Equal(t, "the-landing-stage.heron.example", doc.Domain)
	assert.Equal(t, "8 hours", doc.Standard.Options[0].Value)
}
