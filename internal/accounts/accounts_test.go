package accounts_test

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lithos/internal/accounts"
	"lithos/internal/actor"
	"lithos/internal/demo/demotest"
	"lithos/internal/store"
)

// office is the accounts alone, on a database of their own.
func office(t *testing.T) *demotest.Desk {
	t.Helper()
	return demotest.NewDesk(t, "quill-street")
}

func signIn(d *demotest.Desk, name, password, source string) error {
	_, _, err := d.Accounts.SignIn(d.Context(), accounts.Attempt{Name: name, Password: password, Source: source})
	return err
}

// A wrong password, an unknown name and an account that is switched off get the same answer.
func TestNobodyLearnsWhichNamesThereAre(t *testing.T) {
	t.Parallel()
	d := office(t)
	require.NoError(t, d.Accounts.SwitchAccount(t.Context(), "an administrator", "jo", true))
	var says []string
	for _, one := range [][2]string{{"mk", "wrong"}, {"nobody", "wrong"}, {"jo", demotest.JoPassword},
		{"m\x00k", "wrong"}} {
		err := signIn(d, one[0], one[1], "192.0.2.1")
		demotest.Refused(t, err, actor.Denied, "wrong")
		says = append(says, err.Error())
	}
	for _, s := range says {
		assert.Equal(t, says[0], s)
	}
	require.NoError(t, d.Accounts.SwitchAccount(t.Context(), "an administrator", "jo", false))
	require.NoError(t, signIn(d, " JO ", demotest.JoPassword, "192.0.2.1"), "a name is read without its case")
}

// After too many attempts from one place even the right password is refused there, and nowhere else; after a while it
// is taken again.
func TestTooManyAttempts(t *testing.T) {
	t.Parallel()
	d := office(t)
	refused := 0
	for range 40 {
		var r *actor.Refusal
		require.ErrorAs(t, signIn(d, "jo", "guess", "192.0.2.7"), &r)
		if r.Kind == actor.Busy {
			break
		}
		refused++
	}
	assert.Less(t, refused, 20)
	demotest.Refused(t, signIn(d, "jo", demotest.JoPassword, "192.0.2.7"), actor.Busy, "Too many failed attempts")
	require.NoError(t, signIn(d, "jo", demotest.JoPassword, "192.0.2.8"))
	_, err := d.Store.Pool.Exec(t.Context(), "UPDATE sign_in_attempt SET at = at - interval '16 minutes'")
	require.NoError(t, err)
	require.NoError(t, signIn(d, "jo", demotest.JoPassword, "192.0.2.7"))
}

// A session ends by itself, with its account, with its password, and when it is ended; others are left alone.
func TestSessionsEnd(t *testing.T) {
	t.Parallel()
	d := office(t)
	ctx := t.Context()
	begin := func(name, password, token string, expires time.Duration) error {
		who, stamp, err := d.Accounts.SignIn(ctx, accounts.Attempt{Name: name, Password: password, Source: "test"})
		require.NoError(t, err)
		return d.Accounts.StartSession(ctx, token, accounts.Session{Technician: who.ID, Stamp: stamp,
			Expires: time.Now().Add(expires)})
	}
	stands := func(token string) bool {
		_, _, ok, err := d.Accounts.SessionTechnician(ctx, token)
		require.NoError(t, err)
		return ok
	}
	require.NoError(t, begin("jo", demotest.JoPassword, "one", time.Hour))
	require.NoError(t, begin("jo", demotest.JoPassword, "two", time.Hour))
	require.NoError(t, begin("jo", demotest.JoPassword, "past", -time.Second))
	require.NoError(t, begin("mk", "slate-and-lichen", "other", time.Hour))
	assert.True(t, stands("one") && stands("two") && stands("other"))
	assert.False(t, stands("past"))
	assert.False(t, stands("made up"))
	open, err := d.Accounts.Sessions(ctx, "jo")
	require.NoError(t, err)
	assert.Len(t, open, 2)
	require.NoError(t, d.Accounts.EndSession(ctx, "one"))
	assert.False(t, stands("one"))
	assert.True(t, stands("two"))
	_, err = d.Accounts.PutTechnician(ctx, "an administrator", "jo", "Jo Arden", "copper-otter-signal-barn")
	require.NoError(t, err)
	assert.False(t, stands("two"), "its password was changed")
	require.NoError(t, begin("jo", "copper-otter-signal-barn", "three", time.Hour))
	require.NoError(t, d.Accounts.SwitchAccount(ctx, "an administrator", "jo", true))
	assert.False(t, stands("three"))
	_, err = d.Accounts.Acting(ctx, d.Jo.ID)
	assert.ErrorAs(t, err, new(*actor.Refusal), "nothing is done in the name of who is switched off")
	require.NoError(t, d.Accounts.EndSessions(ctx, "an administrator", "mk"))
	assert.False(t, stands("other"))
}

// Passwords that anybody guesses are not taken, and an account is left as it was.
func TestPasswordsThatAreNotTaken(t *testing.T) {
	t.Parallel()
	d := office(t)
	for password, says := range map[string]string{
		"short":                      "at least",
		strings.Repeat("ab1!", 99):   "at most",
		"password1234":               "commonly used",
		"Jo Arden 2026":              "commonly used",
		"\xff\xfe long enough it is": "UTF-8",
	} {
		_, err := d.Accounts.PutTechnician(t.Context(), "an administrator", "jo", "Jo Arden", password)
		demotest.Refused(t, err, actor.Invalid, says)
	}
	for name, says := range map[string]string{"": "needs a name", "j o": "space", strings.Repeat("j", 200): "longer"} {
		_, err := d.Accounts.PutTechnician(t.Context(), "an administrator", name, "Jo Arden",
			"copper-otter-signal-barn")
		demotest.Refused(t, err, actor.Invalid, says)
	}
	require.NoError(t, signIn(d, "jo", demotest.JoPassword, "192.0.2.1"))
}

// What is sealed opens to the same, with this key and no other, and one octet changed opens to nothing.
func TestVault(t *testing.T) {
	t.Parallel()
	vault, other := demotest.Vault(t), demotest.Vault(t)
	rapid.Check(t, func(r *rapid.T) {
		secret := rapid.String().Draw(r, "secret")
		sealed, err := vault.Seal(secret)
		require.NoError(r, err)
		opened, err := vault.Open(sealed)
		require.NoError(r, err)
		require.Equal(r, secret, opened)
		_, err = other.Open(sealed)
		require.Error(r, err)
		sealed[rapid.IntRange(0, len(sealed)-1).Draw(r, "at")] ^= 1
		if again, err := vault.Open(sealed); err == nil {
			require.Equal(r, secret, again)
			r.Log("the octet does not matter")
		}
	})
	path := filepath.Join(t.TempDir(), "key")
	require.NoError(t, accounts.MakeKey(path))
	require.Error(t, accounts.MakeKey(path), "a key that is there is not overwritten")
}

// A password is kept sealed: no table of the database holds it.
func TestSecretsAreNotKeptInClear(t *testing.T) {
	t.Parallel()
	d := office(t)
	require.NoError(t, d.Accounts.KeepSecret(t.Context(), d.Doc, "key-quill", "walnut-harbour-quartz"))
	rows, err := d.Store.Pool.Query(t.Context(),
		"SELECT table_name FROM information_schema.tables WHERE table_schema = 'public'")
	require.NoError(t, err)
	var tables []string
	for rows.Next() {
		var name string
		require.NoError(t, rows.Scan(&name))
		tables = append(tables, name)
	}
	require.Greater(t, len(tables), 20)
	for _, name := range tables {
		var found int
		require.NoError(t, d.Store.Pool.QueryRow(t.Context(),
			`SELECT count(*) FROM "`+name+`" x WHERE x::text LIKE '%walnut-harbour%'`).Scan(&found))
		assert.Zero(t, found, name)
	}
}

// Another key is refused before it seals anything, and the work of a copied database is held until it is released.
func TestAnotherKeyAndACopiedDatabase(t *testing.T) {
	t.Parallel()
	d := office(t)
	ctx := t.Context()
	require.NoError(t, d.Accounts.UseKey(ctx))
	d.Vault = demotest.Vault(t)
	require.ErrorContains(t, d.Another().Accounts.UseKey(ctx), "not the one this database was used with")
	held, err := d.Accounts.Holding(ctx)
	require.NoError(t, err)
	assert.Nil(t, held)
	_, err = d.Store.Pool.Exec(ctx, "UPDATE installation SET identity = 'elsewhere'")
	require.NoError(t, err)
	require.NoError(t, d.Accounts.Recognise(ctx))
	held, err = d.Accounts.Holding(ctx)
	require.NoError(t, err)
	require.NotNil(t, held)
	assert.Contains(t, held.Because, "restored, or copied")
	assert.False(t, d.Poll.ReadDevices(ctx, d.Doc.ID), "nothing is read meanwhile")
	was, err := d.Accounts.ReleaseWork(ctx, "an administrator")
	require.NoError(t, err)
	assert.True(t, was)
	assert.True(t, d.Poll.ReadDevices(ctx, d.Doc.ID))
	was, err = d.Accounts.ReleaseWork(ctx, "an administrator")
	require.NoError(t, err)
	assert.False(t, was)
	_, err = store.Found(d.Store.ReadInstallation(ctx))
	require.NoError(t, err)
}
