package replicate_test

import (
	"encoding/json"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/edit"
	"lithos/core/replicate"
	"lithos/core/site"
)

// two are a site and a smaller one laid out alike: Desks is known by its VLAN there, Phones by its name, and Lab is
// missing.
func two() (here, there *site.Site) {
	net := func(id, name, prefix string, vlan int) site.Network {
		return site.Network{ID: id, Name: name, Prefix: netip.MustParsePrefix(prefix), VLAN: vlan}
	}
	here = &site.Site{ID: "h", Name: "Here", Domain: "here.example", Customer: site.Level{ID: "c"},
		Standard: site.Standard{Level: site.Level{ID: "s"}}, Networks: []site.Network{net("h1", "Desks",
			"10.1.0.0/24", 10),
			net("h2", "Phones", "10.1.1.0/25", 20), net("h3", "Lab", "10.1.2.0/24", 30), net("h4", "Loose",
				"10.1.3.0/24", 0)}}
	there = &site.Site{ID: "t", Name: "There", Domain: "there.example", Customer: site.Level{ID: "c"},
		Standard: site.Standard{Level: site.Level{ID: "other"}}, Networks: []site.Network{net("t1", "Office",
			"10.2.0.0/25", 10),
			net("t2", "phones", "10.2.1.0/25", 7), net("t4", "Nothing alike", "10.2.3.0/24", 0)}}
	return here, there
}

// option is an edit that sets an option for the whole site.
func option(value string) edit.Edit {
	raw, err := json.Marshal(site.Option{Code: 72, Value: value})
	if err != nil {
		panic(err)
	}
	return edit.Edit{Op: edit.Add, Part: site.Ref{Kind: site.KindOption, ID: "72"},
		In: site.Ref{Kind: site.KindSite, ID: "h"}, Value: raw}
}

// Addresses keep their host number in the network that takes the place of theirs, names their place below the domain,
// and what is of no network of the site stays as it is.
func TestValuesAreTranslated(t *testing.T) {
	for from, to := range map[string]string{
		"10.1.0.5": "10.2.0.5", "10.1.0.0": "10.2.0.0", "10.1.0.127": "10.2.0.127", "10.1.1.9": "10.2.1.9",
		"10.1.0.5, 10.1.1.9,192.0.2.1": "10.2.0.5, 10.2.1.9,192.0.2.1", "192.0.2.53": "192.0.2.53",
		"10.1.0.0/24": "10.2.0.0/25", "10.1.0.5/24": "10.2.0.5/25", "10.1.0.64/26": "10.2.0.64/26",
		"192.0.2.0/24": "192.0.2.0/24", "10.1.0.5/32": "10.2.0.5/32",
		"here.example": "there.example", "ns.here.example": "ns.there.example", "nowhere.example": "nowhere.example",
		"here.example.org": "here.example.org", "words": "words",
	} {
		here, there := two()
		placed, left := replicate.Place(here, here, there, []edit.Edit{option(from)}, ids())
		require.Empty(t, left, from)
		require.Len(t, placed, 1, from)
		var got site.Option
		require.NoError(t, json.Unmarshal(placed[0].Value, &got))
		assert.Equal(t, to, got.Value, from)
		assert.EqualValues(t, 72, got.Code)
		assert.Equal(t, site.Ref{Kind: site.KindSite, ID: "t"}, placed[0].In)
	}
	here, there := two()
	there.Domain = ""
	placed, _ := replicate.Place(here, here, there, []edit.Edit{option("ns.here.example")}, ids())
	assert.Contains(t, string(placed[0].Value), "ns.here.example", "a site without a domain has no place for it")
	here.Domain, there.Domain = "", "there.example"
	placed, _ = replicate.Place(here, here, there, []edit.Edit{option("ns.")}, ids())
	assert.Contains(t, string(placed[0].Value), `"ns."`)
}

func TestValuesWithoutAPlace(t *testing.T) {
	for value, why := range map[string]string{
		"10.1.0.128": "There has no address with the host number of 10.1.0.128: Office is smaller",
		"10.1.2.9":   "There has no network like Lab", "10.1.2.0/24": "There has no network like Lab",
		"10.1.3.9": "There has no network like Loose", "192.0.2.1, 10.1.2.9": "There has no network like Lab",
	} {
		here, there := two()
		placed, left := replicate.Place(here, here, there, []edit.Edit{option(value)}, ids())
		assert.Empty(t, placed, value)
		require.Len(t, left, 1, value)
		assert.Equal(t, why, left[0].Why)
	}
}

// The customer of both is one; a standard that the other does not follow is not edited there.
func TestLevelsAreTheirOwn(t *testing.T) {
	here, there := two()
	for kind, c := range map[string]struct{ id, left string }{site.KindCustomer: {"c", ""},
		site.KindStandard: {"s", "There has no standard like"}, site.KindSite: {"h", ""}} {
		e := option("words")
		e.In = site.Ref{Kind: kind, ID: c.id}
		_, left := replicate.Place(here, here, there, []edit.Edit{e}, ids())
		if c.left == "" {
			assert.Empty(t, left, kind)
		} else if assert.Len(t, left, 1, kind) {
			assert.Contains(t, left[0].Why, c.left)
		}
	}
	there.Customer.ID = "another"
	e := option("words")
	e.In = site.Ref{Kind: site.KindCustomer, ID: "c"}
	_, left := replicate.Place(here, here, there, []edit.Edit{e}, ids())
	assert.Len(t, left, 1)
}

// A secret is kept for its own site, whether it is changed or comes with what is added; an empty one is none.
func TestSecretsAreLeft(t *testing.T) {
	here, there := two()
	site1 := site.Ref{Kind: site.KindSite, ID: "h"}
	field := func(to string) edit.Edit {
		return edit.Edit{Op: edit.Change, Part: site1, Fields: []edit.Field{{Name: "secret", To: json.RawMessage(to)}}}
	}
	added := func(value string) edit.Edit {
		return edit.Edit{Op: edit.Add, Part: site.Ref{Kind: site.KindFixedDevice, ID: "f"}, Value: json.RawMessage(
			value)}
	}
	for what, c := range map[string]struct {
		edit   edit.Edit
		secret bool
	}{
		"changed": {field(`"k"`), true}, "taken away": {field(`""`), false}, "none": {field(`0`), false},
		"added":            {added(`{"id":"f","secret":"k"}`), true},
		"added without it": {added(`{"id":"f","secret":"","network":"h1","address":"10.1.0.9"}`), false},
	} {
		_, left := replicate.Place(here, here, there, []edit.Edit{c.edit}, ids())
		kept := len(left) == 1 && left[0].Why == "a password or key is kept for its own site; type it there"
		assert.Equal(t, c.secret, kept, "%s: %v", what, left)
	}
}

// What is added has an id of its own at the other site, also where later edits name it.
func TestAddedPartsHaveTheirOwnIDs(t *testing.T) {
	here, there := two()
	now, edits := edited(t, here, edit.Entry{Kind: "fixed", New: true, ID: "fix-door", Fields: map[string]string{
		"network": "h1", "address": "10.1.0.9", "name": "door"}},
		edit.Entry{Kind: "fixed", ID: "fix-door", Fields: map[string]string{"note": "at 10.1.0.9"}})
	placed, left := replicate.Place(here, now, there, edits, ids())
	require.Empty(t, left)
	after, err := edit.Apply(there, placed...)
	require.NoError(t, err)
	require.Len(t, after.FixedDevices, 1)
	assert.Equal(t, site.FixedDevice{ID: "fixed-new-1", Network: "t1", Name: "door", Note: "at 10.1.0.9",
		Address: netip.MustParseAddr("10.2.0.9")}, after.FixedDevices[0])
}
