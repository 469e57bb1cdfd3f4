package site_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
)

// A made-up kind takes one entry of the table: then it is typed into forms, described,
// undone, conflicts, is removed with what it lies in, and found by its name.
func TestAnotherKindIsOneEntry(t *testing.T) {
	t.Cleanup(site.With(site.SubOptionKind()))
	base := scenario.Site("kelder-bridge")
	class, err := edit.Read(base,
		edit.Entry{Kind: "class", ID: "class-x", New: true,
			Fields: map[string]string{"name": "Badge readers", "match": "badge"}})
	require.NoError(t, err)
	base, err = edit.Apply(base, class...)
	require.NoError(t, err)

	in := site.Ref{Kind: "class", ID: "class-x"}
	form, err := edit.FormOf(base, "sub", "", in, nil)
	require.NoError(t, err)
	assert.Equal(t, "Add a sub-option", form.Title)
	require.Len(t, form.Fields, 3)
	assert.True(t, form.Fields[2].Mono)

	_, err = edit.Read(base, edit.Entry{Kind: "sub", ID: "server", New: true, In: in.String(),
		Fields: map[string]string{"value": "10.0.0.1"}})
	assert.ErrorContains(t, err, "name: a sub-option needs a name")
	_, err = edit.Read(base, edit.Entry{Kind: "sub", ID: "server", New: true, In: "class:gone",
		Fields: map[string]string{"name": "server"}})
	assert.ErrorContains(t, err, "is not a vendor class of this site")
	edits, err := edit.Read(base,
		edit.Entry{Kind: "sub", ID: "server", New: true, In: in.String(),
			Fields: map[string]string{"name": "server", "value": "10.0.0.1"}})
	require.NoError(t, err)
	added, err := edit.Apply(base, edits...)
	require.NoError(t, err)
	assert.Equal(t, "Add sub-option server", edit.Describe(added, edits[0]))
	name, ok := site.NameOf(added, site.Ref{Kind: "sub", ID: "server"})
	assert.True(t, ok)
	assert.Equal(t, "server", name)

	edits, err = edit.Read(added,
		edit.Entry{Kind: "sub", ID: "server", In: in.String(), Fields: map[string]string{"value": "10.0.0.2"}})
	require.NoError(t, err)
	assert.Equal(t, "Change sub-option server: content 10.0.0.2, was 10.0.0.1", edit.Describe(added, edits[0]))
	changed, err := edit.Apply(added, edits...)
	require.NoError(t, err)
	_, err = edit.Apply(changed, edits...)
	assert.ErrorContains(t, err, "value is now")
	var conflict *edit.Conflict
	require.ErrorAs(t, err, &conflict)
	assert.Contains(t, edit.Why(added, changed, *conflict), "Sub-option server: content is now")

	gone, err := edit.Removing(changed, site.Ref{Kind: "sub", ID: "server"}, in)
	require.NoError(t, err)
	after, err := edit.Apply(changed, gone...)
	require.NoError(t, err)
	assert.Equal(t, base, after, "removed again nothing is left of it")
}

// Every field of every part of the made-up sites says what it holds in its form's own
// text: typed again it changes nothing.
func TestWhatAFormShowsReadsBack(t *testing.T) {
	for _, name := range scenario.Names {
		s := scenario.Site(name)
		for _, k := range site.Kinds() {
			k.Each(s, func(in site.Ref, list site.List, i int) bool {
				fields := map[string]string{}
				for _, f := range k.Fields {
					if text := f.Text(list.At(i)); k.Applies(f, list.At(i)) {
						fields[f.Name] = text
					}
				}
				if len(fields) == 0 {
					return true
				}
				ref := ""
				if in.ID != "" {
					ref = in.String()
				}
				edits, err := edit.Read(s, edit.Entry{Kind: k.Name, ID: list.ID(i), In: ref, Fields: fields})
				require.NoError(t, err, "%s of %s", list.ID(i), name)
				assert.Empty(t, edits, "%s of %s", list.ID(i), name)
				return true
			})
		}
	}
}

// Every kind with fields is whole: it says what it is called, and each field how it is
// asked for.
func TestEveryKindIsWhole(t *testing.T) {
	for _, k := range site.Kinds() {
		assert.NotEmpty(t, k.Noun, k.Name)
		if len(k.Fields) > 0 && !k.Fixed() {
			assert.NotEmpty(t, k.Adds, k.Name)
			assert.NotEmpty(t, k.Begins, k.Name)
		}
		for _, f := range k.Fields {
			assert.NotEmpty(t, f.Label, "%s.%s", k.Name, f.Name)
			assert.NotEmpty(t, f.Input, "%s.%s", k.Name, f.Name)
			for _, w := range f.When {
				_, ok := k.Field(w.Field)
				assert.True(t, ok, "%s.%s is shown by %s", k.Name, f.Name, w.Field)
			}
			if f.Of != "" {
				_, ok := site.KindNamed(f.Of)
				assert.True(t, ok, "%s.%s names %s", k.Name, f.Name, f.Of)
			}
		}
	}
}
