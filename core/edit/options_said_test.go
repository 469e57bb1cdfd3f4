package edit_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
)

// A change of options is said as people say it: each by its name, with what it is and what it was.
func TestOptionsAreSaidByTheirNames(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	p, ok := s.Pool("pool-clinic")
	require.True(t, ok)
	was, now := *p, *p
	was.Options = []site.Option{{Code: 6, Value: "192.0.2.53"}, {Code: 51, Value: "8 hours"},
		{Code: 231, Value: "x"}}
	now.Options = []site.Option{{Code: 6, Value: "10.97.20.1"}, {Code: 42, Value: "10.84.16.1"},
		{Code: 231, Value: "x", Always: true}}
	e, changed := edit.Changing(site.KindPool, p.ID, site.Ref{}, was, now)
	require.True(t, changed)
	assert.Equal(t, "Change pool Clinic PCs: name servers 10.97.20.1, was 192.0.2.53; NTP servers 10.84.16.1, was "+
		"not set; option 231 x, also to clients that do not ask for it; lease time not set, was 8 hours",
		edit.Describe(s, e))
}
