package ownership_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/ownership"
	"lithos/core/scenario"
	"lithos/core/site"
)

func TestOwners(t *testing.T) {
	s := scenario.Site("kelder-bridge")
	for text, want := range map[string][]string{
		"10.84.20.14":   {"plate-reader, reserved for 00:00:5e:00:53:50"},
		"10.84.20.0/26": {"Imaging 10.84.20.0/26, VLAN 48"},
		"10.84.16.1":    {"gw-1, on lan.11"},
		"10.84.20.200":  nil,
		"plate-reader":  {"A 10.84.20.14, inside"},
		"no-such-name":  nil,
	} {
		q, err := ownership.Ask(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, q.Owners(s), text)
	}
	for _, text := range []string{"", "10.84.20.0/99", "two words"} {
		_, err := ownership.Ask(text)
		assert.Error(t, err, text)
	}
}

// Who had an address changes where a revision says so, and not where it says the same.
func TestOver(t *testing.T) {
	start := time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)
	revision := func(n int32, change func(*site.Site)) ownership.Revision {
		s := scenario.Site("kelder-bridge")
		change(s)
		return ownership.Revision{Number: n, At: start.Add(time.Duration(n) * time.Hour), By: "Maren Kolb",
			Site: site.Normal(s)}
	}
	same := func(*site.Site) {}
	gone := func(s *site.Site) {
		s.Reservations = nil
	}
	q, err := ownership.Ask("10.84.20.14")
	require.NoError(t, err)
	spans := q.Over([]ownership.Revision{revision(1, same), revision(2, same), revision(3, gone), revision(4, same)})
	require.Len(t, spans, 3)
	assert.EqualValues(t, 4, spans[0].Revision)
	assert.Nil(t, spans[0].Until)
	assert.EqualValues(t, 3, spans[1].Revision)
	assert.NotEqual(t, spans[0].Owners, spans[1].Owners)
	assert.Equal(t, start.Add(3*time.Hour), *spans[2].Until)
	assert.Empty(t, q.Over(nil))
}
