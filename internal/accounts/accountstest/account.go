// Package accountstest makes accounts for tests.
package accountstest

import (
	"testing"

	"github.com/alexedwards/argon2id"
	"github.com/stretchr/testify/require"

	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// cheap is what a password of a test costs to look at. A hash says itself what it cost, so that nothing of how Lithos
// looks at passwords is another in a test.
var cheap = &argon2id.Params{Memory: 64, Iterations: 1, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// Account makes an account with a password that is looked at in no time.
func Account(t testing.TB, s *store.Store, name, fullName, password string) {
	t.Helper()
	hash, err := argon2id.CreateHash(password, cheap)
	require.NoError(t, err)
	_, err = s.PutTechnician(t.Context(), gen.PutTechnicianParams{Name: name, FullName: fullName, PasswordHash: hash})
	require.NoError(t, err)
}
