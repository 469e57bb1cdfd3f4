package check_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/check"
	"lithos/core/compile"
	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
)

// A site that is new: what clients are told as a name server must answer them, and the fix that makes it answer is the
// one that is offered.
func Test10WhatClientsAreToldAnswersThem(t *testing.T) {
	s := scenario.Site("the-garret")
	s.Resolvers, s.Options, s.Standard.Options, s.Customer.Options = nil, nil, nil, nil
	for i := range s.Networks {
		s.Networks[i].Options = nil
	}
	for i := range s.Pools {
		s.Pools[i].Options = nil
	}
	found := func(rule string) *check.Finding {
		for _, f := range check.Site(s) {
			if f.Rule == rule {
				return &f
			}
		}
		return nil
	}
	missing := found("dns-missing")
	require.NotNil(t, missing)
	require.NotNil(t, missing.Fix)
	assert.Contains(t, missing.Fix.Title, "Answer names on rt-garret")
	told := s
	told.Networks[0].Options = []site.Option{{Code: 6, Value: told.Networks[0].Gateway.String()}}
	silent := found("resolver-not-listening")
	require.NotNil(t, silent, "nobody answers at the gateway, also where the site has no resolver at all")
	assert.Equal(t, "Answer names on rt-garret", silent.Fix.Title)
	s.Networks[0].Options = nil
	var err error
	for _, e := range missing.Fix.Edits {
		s, err = edit.Apply(s, e)
		require.NoError(t, err)
	}
	assert.Nil(t, found("dns-missing"))
	assert.Nil(t, found("resolver-not-listening"), "taken, it is answered")
	s.Networks[0].Options = []site.Option{{Code: 6, Value: "192.0.2.53"}}
	assert.Nil(t, found("resolver-not-listening"), "one outside is not ours to judge")
}

// Number 20: a complaint as it is said leads to the rules that may be why; each of those is one.
func Test20AComplaintLeadsToRules(t *testing.T) {
	known := map[string]bool{}
	for _, r := range check.Rules() {
		known[r.Slug] = true
	}
	for _, said := range []string{"The till gets no address", "NO  INTERNET in the ward", "name not found",
		"it comes and goes",
		"everything is slow", "vpn"} {
		rules := check.RulesFor(said)
		assert.NotEmpty(t, rules, said)
		for _, slug := range rules {
			assert.True(t, known[slug], "%s is no rule", slug)
		}
	}
	assert.Empty(t, check.RulesFor("a vpnless thing"))
	assert.Empty(t, check.RulesFor(""))
}

// Number 13: of a record by hand and a machine with its only name the record wins. The finding says so, and blocks.
func Test13WhoWinsAName(t *testing.T) {
	s := clean()
	record(home, "pbx", "A", "10.84.16.131")(s)
	i := slices.IndexFunc(check.Site(site.Normal(s)), func(f check.Finding) bool { return f.Rule == "name-lost" })
	require.GreaterOrEqual(t, i, 0)
	f := check.Site(site.Normal(s))[i]
	assert.Equal(t, check.Blocks, f.Severity)
	assert.Contains(t, f.Says, "pbx is answered with 10.84.16.131: what is written by hand counts first.")
	assert.Contains(t, f.Says, "none in reverse")
	book := compile.Names(site.Normal(s))
	assert.Equal(t, []string{"10.84.16.131"}, compile.Find(book.Inside, "pbx.kelder.larkrise.example").Values(
		"pbx.kelder.larkrise.example", "A"), "which is what is answered")
}

// Number 29: a new dynamic name that an inside zone hides is found, and each of the two fixes has it answered inside.
func Test29AHiddenFollowingNameIsFound(t *testing.T) {
	s := clean()
	follows(func(w *site.Following) { w.Name = "away.kelder.larkrise.example" })(s)
	found := check.Site(site.Normal(s))
	i := slices.IndexFunc(found, func(f check.Finding) bool { return f.Rule == "following-hidden-inside" })
	require.GreaterOrEqual(t, i, 0)
	asks, err := edit.Apply(s, found[i].Fix.Edits...)
	require.NoError(t, err)
	z, _ := asks.Zone(home)
	assert.True(t, z.Partial)
	require.NotNil(t, found[i].Other)
	names, err := edit.Apply(s, found[i].Other.Edits...)
	require.NoError(t, err)
	at := compile.Find(compile.Names(names).Inside, "away.kelder.larkrise.example").Values(
		"away.kelder.larkrise.example", "A")
	require.Len(t, at, 1)
	d, _, ok := names.HolderOf(addr(at[0]))
	require.True(t, ok, "it is an address of a device")
	uplink, _, _ := names.Interface(names.Following[0].Uplink)
	assert.Equal(t, uplink.ID, d.ID)
}
