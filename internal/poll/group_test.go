package poll

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Each site is in one group, however many there are.
func TestEachSiteIsInOneGroup(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		id, groups := rapid.String().Draw(r, "id"), rapid.IntRange(1, 80).Draw(r, "groups")
		in := 0
		for g := range groups {
			if (readArgs{Group: g, Groups: groups}).holds(id) {
				in++
			}
		}
		require.Equal(r, 1, in)
	})
}
