package accounts_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/compile"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/accounts"
	"lithos/internal/actor"
	"lithos/internal/demo/demotest"
	"lithos/internal/device"
	"lithos/internal/outbound"
	"lithos/internal/standin"
	"lithos/internal/store"
)

// So many attempts are let through, and no more: at one name from one address, from one address, and at one name. A
// browser that the name has signed in from before counts by itself.
func TestHowManyAttemptsAreLetThrough(t *testing.T) {
	t.Parallel()
	d := office(t)
	ctx := t.Context()
	who, stamp, err := d.Accounts.SignIn(ctx, accounts.Attempt{Name: "jo", Password: demotest.JoPassword, Source: "x"})
	require.NoError(t, err)
	require.NoError(t, d.Accounts.StartSession(ctx, "t", accounts.Session{Technician: who.ID, Stamp: stamp,
		Browser: "hers", Expires: time.Now().Add(time.Hour)}))
	through := func(attempt func(n int) accounts.Attempt) int {
		_, err := d.Store.Pool.Exec(ctx, "DELETE FROM sign_in_attempt")
		require.NoError(t, err)
		for n := range 200 {
			_, _, err := d.Accounts.SignIn(ctx, attempt(n))
			var r *actor.Refusal
			require.ErrorAs(t, err, &r)
			if r.Kind == actor.Busy {
				return n
			}
		}
		return 200
	}
	jo := func(source, browser string) accounts.Attempt {
		return accounts.Attempt{Name: "jo", Password: "guess", Source: source, Browser: browser}
	}
	for what, c := range map[string]struct {
		most    int
		attempt func(n int) accounts.Attempt
	}{
		"a name from an address": {8, func(int) accounts.Attempt { return jo("192.0.2.1", "") }},
		"an address": {40, func(n int) accounts.Attempt {
			a := jo("192.0.2.1",
				"")
			a.Name += fmt.Sprint(n)
			return a
		}},
		"a name": {100, func(n int) accounts.Attempt { return jo(fmt.Sprint("192.0.2.", n), "") }},
		"a browser that is known": {8, func(n int) accounts.Attempt {
			return jo(fmt.Sprint("192.0.2.", n),
				"hers")
		}},
		"a browser that is not known": {100, func(n int) accounts.Attempt {
			return jo(fmt.Sprint("192.0.2.", n),
				"made up")
		}},
	} {
		assert.Equal(t, c.most, through(c.attempt), what)
	}
	assert.Equal(t, 100, through(func(n int) accounts.Attempt { return jo(fmt.Sprint("192.0.2.", n), "") }))
	_, _, err = d.Accounts.SignIn(ctx, accounts.Attempt{Name: "jo", Password: demotest.JoPassword, Source: "192.0.2.9",
		Browser: "hers"})
	require.NoError(t, err, "nobody elsewhere keeps her out of her own browser")
}

// A password, a name and a full name are taken at their longest, and not one longer.
func TestLengthsOfAnAccount(t *testing.T) {
	t.Parallel()
	d := office(t)
	words := strings.Repeat("otter-copper-signal-barn ", 9)
	put := func(name, fullName, password string) error {
		_, err := d.Accounts.PutTechnician(t.Context(), "an administrator", name, fullName, password)
		return err
	}
	require.NoError(t, put(strings.Repeat("j", 64), strings.Repeat("J", 80), words[:200]))
	demotest.Refused(t, put(strings.Repeat("j", 65), "Jo", words[:200]), actor.Invalid, "longer than 64")
	demotest.Refused(t, put("jo", strings.Repeat("J", 81), words[:200]), actor.Invalid, "longer than 80")
	demotest.Refused(t, put("jo", "Jo", words[:201]), actor.Invalid, "at most 200")
	require.NoError(t, put("jo", "Jo", "Xq7-vut-pr4k"))
	demotest.Refused(t, put("jo", "Jo", "Xq7-vut-pr4"), actor.Invalid, "at least 12")
	demotest.Refused(t, put("jo", "J\x07", words[:200]), actor.Invalid, "control character")
	demotest.Refused(t, put("jo", " ", words[:200]), actor.Invalid, "full name")
}

// What is done to an account is on record, with who did it, and is told to whoever has a session of it.
func TestWhatIsDoneToAnAccountIsOnRecord(t *testing.T) {
	t.Parallel()
	d := office(t)
	ctx, began := t.Context(), time.Now().Add(-time.Hour)
	_, err := d.Accounts.PutTechnician(ctx, "Ada", "new", "New Person", "copper-otter-signal-barn")
	require.NoError(t, err)
	_, err = d.Accounts.PutTechnician(ctx, "Ada", "new", "New Person", "copper-otter-signal-barn")
	require.NoError(t, err)
	require.NoError(t, d.Accounts.SwitchAccount(ctx, "Ada", "new", true))
	require.NoError(t, d.Accounts.SwitchAccount(ctx, "Ada", "new", false))
	require.NoError(t, d.Accounts.EndSessions(ctx, "Ada", "new"))
	lines, err := d.Accounts.Audited(ctx, began, "", "new", "", 50)
	require.NoError(t, err)
	var acts []string
	for _, l := range lines {
		assert.Equal(t, "Ada", l.Who)
		acts = append(acts, l.Act)
	}
	assert.Equal(t, []string{"sessions-ended", "account-on", "account-off", "account-changed", "account-made"}, acts)
	for _, act := range []func(context string) error{
		func(name string) error { return d.Accounts.SwitchAccount(ctx, "Ada", name, true) },
		func(name string) error { return d.Accounts.EndSessions(ctx, "Ada", name) },
	} {
		demotest.Refused(t, act("nobody"), actor.Missing, `no account "nobody"`)
	}
	who, stamp, err := d.Accounts.SignIn(ctx, accounts.Attempt{Name: "new", Password: "copper-otter-signal-barn"})
	require.NoError(t, err)
	require.NoError(t, d.Accounts.StartSession(ctx, "s", accounts.Session{Technician: who.ID, Stamp: stamp,
		Source: "192.0.2.4", Agent: "a browser", Expires: time.Now().Add(time.Hour)}))
	all, err := d.Accounts.Accounts(ctx)
	require.NoError(t, err)
	assert.Len(t, all, 3)
	require.NoError(t, d.Accounts.EndSession(ctx, "s"))
	require.NoError(t, d.Accounts.EndSession(ctx, "s"), "it has ended")
	lines, err = d.Accounts.Audited(ctx, began, "sign-out", "new", "New", 50)
	require.NoError(t, err)
	assert.Len(t, lines, 1)
	demotest.Refused(t, d.Accounts.StartSession(ctx, "u", accounts.Session{Technician: who.ID, Stamp: "another",
		Expires: time.Now().Add(time.Hour)}), actor.Denied, "changed meanwhile")
	for _, look := range []func(int64) (actor.Technician, error){
		func(id int64) (actor.Technician, error) { return d.Accounts.Acting(ctx, id) },
		func(id int64) (actor.Technician, error) { return d.Accounts.TechnicianByID(ctx, id) },
	} {
		found, err := look(who.ID)
		require.NoError(t, err)
		assert.Equal(t, "New Person", found.FullName)
		_, err = look(who.ID + 99)
		demotest.Refused(t, err, actor.Missing, "no such account")
	}
}

// A device is given what it is to keep by name. What was typed for one place is sent to no other one, and what is not
// kept is asked for.
func TestWhatIsHandedToADevice(t *testing.T) {
	t.Parallel()
	d := office(t)
	ctx := t.Context()
	state := filepath.Join(t.TempDir(), "device")
	dev, err := standin.Start(standin.Config{Name: router, Kind: site.Router, State: state, Account: "lithos",
		Password: "secret", Initial: compile.Device(d.Doc, router)})
	require.NoError(t, err)
	t.Cleanup(dev.Close)
	driver := device.NewRESTCONF(device.Access{URL: dev.URL, Account: "lithos", Password: "secret",
		Fingerprint: dev.Fingerprint}, outbound.Loopback())
	doc := *d.Doc
	doc.Following = []site.Following{{ID: "f", Name: "a.example", How: site.ByRequest, Secret: "token",
		RequestTo: "https://one.example/tell"}}
	require.NoError(t, d.Accounts.KeepSecret(ctx, &doc, "line", "walnut"))
	require.NoError(t, d.Accounts.KeepSecret(ctx, &doc, "token", "harbour"))
	hand := func(line, token, to string) error {
		var c yang.Config
		c.Interfaces.Interface = []yang.Interface{{Name: "lan"}, {Name: "wan", Uplink: &yang.Uplink{
			PasswordName: line}}}
		c.Outside.Name = []yang.OutsideName{{Name: "a.example", SecretName: token, RequestTo: to}}
		return d.Accounts.HandOver(ctx, doc.ID, c, driver)
	}
	require.NoError(t, hand("line", "token", "https://one.example/other"), "the same place")
	raw, err := os.ReadFile(state + ".secrets")
	require.NoError(t, err)
	held := map[string]string{}
	require.NoError(t, json.Unmarshal(raw, &held))
	assert.Equal(t, map[string]string{"line": "walnut", "token": "harbour"}, held)
	require.NoError(t, hand("", "", ""), "nothing is named")
	require.ErrorContains(t, hand("lost", "token", "https://one.example"), "type it on the interface wan")
	require.ErrorContains(t, hand("line", "lost", "https://one.example"), "type it in the form of a.example")
	require.ErrorContains(t, hand("line", "token", "https://two.example"), "was not typed for https://two.example")
	require.NoError(t, hand("token", "", ""), "a device keeps it, and nobody is sent it")
}

const router = "dev-quill-rt"

// How a device is reached is kept for a device that there is; an account that is shared is replaced for all at once.
func TestHowADeviceIsReachedIsKept(t *testing.T) {
	t.Parallel()
	d := office(t)
	ctx, kept := t.Context(), d.Devices[router]
	a := device.Access{URL: kept.URL, Account: "lithos", Password: "secret", Fingerprint: kept.Fingerprint}
	demotest.Refused(t, d.Accounts.PutAccess(ctx, "Ada", "nowhere", router, a), actor.Missing,
		`site with the id "nowhere"`)
	demotest.Refused(t, d.Accounts.PutAccess(ctx, "Ada", d.Doc.ID, "none", a), actor.Missing,
		`device with the id "none"`)
	bad := a
	bad.URL = "http://10.0.0.1"
	demotest.Refused(t, d.Accounts.PutAccess(ctx, "Ada", d.Doc.ID, router, bad), actor.Invalid, "https")
	demotest.Refused(t, d.Accounts.KeepAccess(ctx, d.MK, d.Doc, d.Doc.Devices[0], bad), actor.Invalid, "https")
	reached := func(id string) (account, password, shared string) {
		rows, err := d.Store.Access(ctx, d.Doc.ID)
		require.NoError(t, err)
		for _, r := range rows {
			if r.DeviceID == id {
				account, password, err = d.Accounts.Opened(r)
				require.NoError(t, err)
				return account, password, r.Shared
			}
		}
		return "", "", ""
	}
	other := d.Doc.Devices[0]
	other.ID, other.Name = "dev-other", "other"
	require.NoError(t, d.Accounts.KeepShared(ctx, d.MK, d.Doc, other, a, d.Doc.ID, router))
	_, _, one := reached(router)
	account, password, two := reached("dev-other")
	assert.NotEmpty(t, one)
	assert.Equal(t, []string{one, "lithos", "secret"}, []string{two, account, password})
	require.NoError(t, d.Accounts.ReplaceShared(ctx, d.MK, one, "night", "slate"))
	for _, id := range []string{router, "dev-other"} {
		account, password, _ := reached(id)
		assert.Equal(t, []string{"night", "slate"}, []string{account, password}, id)
	}
	lines, err := d.Accounts.Audited(ctx, time.Now().Add(-time.Hour), "device-access", "", "Maren", 50)
	require.NoError(t, err)
	assert.Len(t, lines, 2)
}

// A server is asked with the key of its zone, by its algorithm; without a key by none. A key that is not kept is asked
// for.
func TestServersAndAccountsOfAZone(t *testing.T) {
	t.Parallel()
	d := office(t)
	ctx := t.Context()
	at := netip.MustParseAddrPort("192.0.2.53:53")
	z := site.Zone{Name: "quill.example", Server: site.Forwarder{Address: at.Addr(), Port: int(at.Port())}}
	server, err := d.Accounts.Holder(ctx, d.Doc.ID, z)
	require.NoError(t, err)
	assert.Equal(t, []string{"quill.example", "", "", "hmac-sha256", at.String()},
		[]string{server.Zone, server.Key, server.Secret, server.Algorithm, server.At.String()})
	here := netip.MustParseAddrPort("127.0.0.1:5353")
	d.Accounts.Reaches = map[netip.AddrPort]netip.AddrPort{at: here}
	z.Key, z.Secret, z.KeyAlgorithm = "quill-key", "key-quill-zone", "hmac-sha512"
	_, err = d.Accounts.Holder(ctx, d.Doc.ID, z)
	require.ErrorContains(t, err, "no key is kept for quill.example; type quill-key again")
	require.NoError(t, d.Accounts.KeepSecret(ctx, d.Doc, "key-quill-zone", "d2FsbnV0"))
	server, err = d.Accounts.Holder(ctx, d.Doc.ID, z)
	require.NoError(t, err)
	assert.Equal(t, []string{"quill-key", "d2FsbnV0", "hmac-sha512", here.String()},
		[]string{server.Key, server.Secret, server.Algorithm, server.At.String()})

	z.KeysAt, z.Account = "https://keys.example/api", "account-quill"
	_, err = d.Accounts.Account(ctx, d.Doc.ID, z)
	require.ErrorContains(t, err, "no password is kept for https://keys.example/api")
	doc := *d.Doc
	doc.Zones = []site.Zone{z}
	require.NoError(t, d.Accounts.KeepSecret(ctx, &doc, "account-quill", "walnut"))
	account, err := d.Accounts.Account(ctx, d.Doc.ID, z)
	require.NoError(t, err)
	assert.Equal(t, "walnut", account.Password)
	z.KeysAt = "https://elsewhere.example"
	_, err = d.Accounts.Account(ctx, d.Doc.ID, z)
	require.ErrorContains(t, err, "was not typed for https://elsewhere.example")

	f := site.Following{Name: "a.quill.example", How: site.ByRequest, RequestTo: "https://tell.example", Key: "k"}
	err = d.Accounts.TellName(ctx, d.Doc.ID, z, &f, f.Name, netip.MustParseAddr("192.0.2.7"))
	require.ErrorContains(t, err, "no key is kept for a.quill.example; type k again")
}

// A lost key is given up: what it sealed is forgotten, and the new one is taken from then on. Work that is held says by
// whom and why.
func TestALostKeyIsGivenUp(t *testing.T) {
	t.Parallel()
	d := office(t)
	ctx := t.Context()
	require.NoError(t, d.Accounts.UseKey(ctx))
	n, err := d.Accounts.ForgetKey(ctx, "Ada")
	require.NoError(t, err)
	assert.Zero(t, n, "it is not lost")
	sealed, err := d.Store.CountSecrets(ctx)
	require.NoError(t, err)
	require.Positive(t, sealed)
	d.Vault = demotest.Vault(t)
	other := d.Another().Accounts
	require.Error(t, other.UseKey(ctx))
	n, err = other.ForgetKey(ctx, "Ada")
	require.NoError(t, err)
	assert.EqualValues(t, sealed, n)
	require.NoError(t, other.UseKey(ctx))
	require.Error(t, d.Accounts.UseKey(ctx), "the old one is another now")
	_, err = store.Found(d.Store.OneSecret(ctx))
	assert.True(t, errors.Is(err, store.ErrNotFound))

	require.NoError(t, other.HoldWork(ctx, "Ada", "Cabling"))
	held, err := other.Holding(ctx)
	require.NoError(t, err)
	require.NotNil(t, held)
	assert.Equal(t, "Cabling, held by Ada", held.Because)
	assert.WithinDuration(t, time.Now(), held.Since, time.Minute)
	lines, err := other.Audited(ctx, time.Now().Add(-time.Hour), "", "", "Ada", 50)
	require.NoError(t, err)
	assert.Len(t, lines, 1)
}
