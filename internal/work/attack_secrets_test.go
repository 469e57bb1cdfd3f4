package work_test

import (
	"crypto/sha256"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/edit"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/draft"
	"lithos/internal/outbound"
	"lithos/internal/poll"
)

// listener is somebody's machine that notes what it is sent.
type listener struct {
	*httptest.Server
	mu   sync.Mutex
	sent []string
}

func listens(t *testing.T) *listener {
	l := &listener{}
	l.Server = httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		l.mu.Lock()
		defer l.mu.Unlock()
		_, password, _ := r.BasicAuth()
		l.sent = append(l.sent, password+r.Header.Get("Authorization"))
		w.WriteHeader(http.StatusNotFound)
	}))
	t.Cleanup(l.Close)
	return l
}

func (l *listener) heard(secret string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return strings.Contains(strings.Join(l.sent, "\n"), secret)
}

// A kept password of a device goes only where it was kept for: not to another address, not to another certificate, not
// by way of another device. Each introduction is on record.
func TestAttack01AKeptPasswordGoesNowhereElse(t *testing.T) {
	o := open(t)
	ctx := t.Context()
	evil := listens(t)
	sum := sha256.Sum256(evil.Certificate().Raw)
	password := o.passwordOf("site-kelder-bridge", "dev-gw-1")
	gw := o.devices.ByID["dev-gw-1"]
	for what, r := range map[string]poll.Reaching{
		"another address":     {URL: evil.URL, Fingerprint: poll.Colons(sum[:])},
		"the same account":    {URL: evil.URL, Fingerprint: poll.Colons(sum[:]), Account: "lithos"},
		"another certificate": {URL: gw.URL, Fingerprint: poll.Colons(sum[:])},
		"like another":        {URL: evil.URL, Fingerprint: poll.Colons(sum[:]), Like: "dev-sw-core"},
	} {
		_, err := o.Poll.Introduce(ctx, o.mk, "kelder-bridge", "dev-gw-1", r)
		require.ErrorContains(t, err, "type it: the one that is kept", what)
		require.ErrorContains(t, o.Poll.KeepAccess(ctx, o.mk, "kelder-bridge", "dev-gw-1", r),
			"type it: the one that is kept", what)
	}
	assert.Empty(t, evil.sent)
	like := poll.Reaching{URL: evil.URL, Fingerprint: poll.Colons(sum[:]), Like: "dev-sw-core", Password: "a guess"}
	require.ErrorContains(t, o.Poll.KeepAccess(ctx, o.mk, "kelder-bridge", "dev-gw-1", like), "is not the one that")
	assert.Empty(t, evil.sent, "one that is typed wrong is not even tried: keeping it would bring the kept one there")

	own := poll.Reaching{URL: evil.URL, Fingerprint: poll.Colons(sum[:]), Account: "lithos", Password: "typed"}
	_, err := o.Poll.Introduce(ctx, o.mk, "kelder-bridge", "dev-gw-1", own)
	require.Error(t, err)
	assert.True(t, evil.heard("typed"), "what is typed goes there")
	assert.False(t, evil.heard(password))
	told, err := o.Accounts.Audited(ctx, time.Time{}, "device-introduction", "", "", 10)
	require.NoError(t, err)
	require.Len(t, told, 1)
	assert.Contains(t, told[0].Says, evil.URL)

	here := poll.Reaching{URL: gw.URL, Fingerprint: poll.Colons(gw.Fingerprint)}
	_, err = o.Poll.Introduce(ctx, o.mk, "kelder-bridge", "dev-gw-1", here)
	require.NoError(t, err, "where it was kept for it is used")
}

// The password of an account at a provider was typed for that provider: a draft that names another has none.
func TestAttack01AProvidersPasswordGoesNowhereElse(t *testing.T) {
	o := openAll(t)
	ctx := t.Context()
	evil := listens(t)
	o.Accounts.Web.Trust.AddCert(evil.Certificate())
	id, err := o.Drafts.OpenOrder(ctx, o.mk, "quill-street", "Keys", "")
	require.NoError(t, err)
	d, err := o.Drafts.Draft(ctx, id)
	require.NoError(t, err)
	var zone site.Zone
	for _, z := range d.Doc().Zones {
		if z.KeysAt != "" {
			zone = z
		}
	}
	require.NotEmpty(t, zone.ID)
	follower := d.Doc().Following[0]
	version := o.version(id)
	require.NoError(t, o.HaveKeyMade(ctx, o.mk, id, version, follower.ID, poll.KeyMaking{Follow: true}, nil),
		"the one it was typed for is asked")
	elsewhere := func(fields map[string]string) error {
		_, err := o.Drafts.Edit(ctx, o.mk, id, draft.Change{Version: o.version(id),
			Entries: []edit.Entry{{Kind: site.KindZone,
				ID: zone.ID, Fields: fields}}}, nil)
		return err
	}
	var refused *actor.Refusal
	require.ErrorAs(t, elsewhere(map[string]string{"keysAt": evil.URL}), &refused)
	assert.Equal(t, "entries[0].fields.account", refused.Fields[0].Field)
	assert.Contains(t, refused.Fields[0].Says, "type it again")
	require.NoError(t, elsewhere(map[string]string{"keysAt": evil.URL, "account": "typed for there"}))
	zone.KeysAt = evil.URL
	_, err = o.Accounts.Account(ctx, "site-quill-street", zone)
	require.ErrorContains(t, err, "was not typed for "+evil.URL, "however the document came to say so")
	assert.Empty(t, evil.sent)
}

// Where a signed-in browser may have Lithos connect to is one rule, also for what shows a certificate alone.
func TestAttack03GreetLooksAroundNowhere(t *testing.T) {
	o := open(t)
	o.Accounts.Outbound = outbound.Rule{Never: o.Accounts.Outbound.Never}
	evil := listens(t)
	for _, at := range []string{evil.URL, "https://127.0.0.1:1", "https://localhost:22", "https://169.254.169.254",
		"https://[::1]:443", "https://0.0.0.0:443", "https://[::ffff:127.0.0.1]:443"} {
		_, err := o.Poll.Greet(t.Context(), at)
		require.ErrorContains(t, err, "Lithos does not connect to", at)
		refusal(t, err, actor.Invalid, "Lithos does not connect to")
	}
	o.Accounts.Outbound = outbound.Loopback()
	o.Accounts.Outbound.Never = o.Store.Addresses()
	require.NotEmpty(t, o.Accounts.Outbound.Never)
	database := o.Accounts.Outbound.Never[0]
	_, err := o.Poll.Greet(t.Context(), "https://"+database.String())
	require.ErrorContains(t, err, "it is the database's")
	closed, err := netip.ParseAddrPort("127.0.0.1:1")
	require.NoError(t, err)
	plain := httptest.NewServer(http.NotFoundHandler())
	defer plain.Close()
	var says []string
	for _, at := range []string{closed.String(), strings.TrimPrefix(plain.URL, "http://")} {
		_, err := o.Poll.Greet(t.Context(), "https://"+at)
		require.Error(t, err)
		says = append(says, strings.ReplaceAll(err.Error(), at, "AT"))
	}
	assert.Equal(t, says[0], says[1], "a port that is closed and one that speaks something else are told alike")
}
