package check_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/check"
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
