package poll_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/internal/actor"
	"lithos/internal/demo/demotest"
	"lithos/internal/poll"
)

// fields are the fields that a refusal names, each with what it says.
func fields(t testing.TB, err error) map[string]string {
	t.Helper()
	var r *actor.Refusal
	require.ErrorAs(t, err, &r)
	out := map[string]string{}
	for _, f := range r.Fields {
		out[f.Field] = f.Says
	}
	return out
}

// reaching is how a device of the desk is reached.
func reaching(d *demotest.Desk, id string) poll.Reaching {
	at := d.Devices[id]
	return poll.Reaching{URL: at.URL, Fingerprint: poll.Colons(at.Fingerprint), Account: "lithos", Password: "secret"}
}

// A device is greeted, says what it is, and is kept once it has let Lithos in. Nothing is kept of one that has not.
func TestADeviceIsReached(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	ctx := t.Context()
	const sw = "dev-quill-sw"
	require.NoError(t, d.Poll.ForgetAccess(ctx, d.MK, d.Doc.Code, router))
	demotest.Refused(t, d.Poll.ForgetAccess(ctx, d.MK, d.Doc.Code, router), actor.Missing, "does not reach")
	g, err := d.Poll.Greet(ctx, strings.TrimPrefix(d.Devices[router].URL, "https://"))
	require.NoError(t, err)
	assert.Equal(t, d.Devices[router].URL, g.URL, "what was left out is filled in")
	assert.Equal(t, poll.Colons(d.Devices[router].Fingerprint), g.Fingerprint)
	assert.Equal(t, "00:0a:ff", poll.Colons([]byte{0, 10, 255}))
	_, err = d.Poll.Greet(ctx, "https://127.0.0.1:1")
	assert.Contains(t, fields(t, err), "url")

	try := func(id string, r poll.Reaching) (*poll.Introduced, error) {
		return d.Poll.Introduce(ctx, d.MK, d.Doc.Code, id, r)
	}
	_, err = try(router, poll.Reaching{URL: "http://x", Fingerprint: "zz"})
	assert.Len(t, fields(t, err), 3, "fingerprint, account and password")
	_, err = try("none", reaching(d, router))
	demotest.Refused(t, err, actor.Missing, "no such device")
	other := reaching(d, router)
	other.Fingerprint = poll.Colons(d.Devices[sw].Fingerprint)
	_, err = try(router, other)
	demotest.Refused(t, err, actor.Conflict, "certificate")
	wrong := reaching(d, router)
	wrong.Password = "guess"
	_, err = try(router, wrong)
	require.ErrorAs(t, err, new(*actor.Refusal))
	demotest.Refused(t, d.Poll.KeepAccess(ctx, d.MK, d.Doc.Code, router, wrong), actor.Conflict, "Nothing was kept")
	assert.False(t, reached(d, router))

	says, err := try(router, reaching(d, router))
	require.NoError(t, err)
	assert.Equal(t, len(d.Devices[router].Running().DHCP.Pool), says.Pools)
	assert.Contains(t, says.Interfaces, "lan 10.7.7.1/24")
	assert.Empty(t, says.Misfit)
	for _, a := range says.Can {
		assert.True(t, a.Has, a.What)
	}
	says, err = try(router, reaching(d, sw))
	require.NoError(t, err)
	assert.Contains(t, says.Misfit, "None of its interfaces")
	assert.Equal(t, []string{"sw-attic of " + d.Doc.Name}, says.Elsewhere)
	require.NoError(t, d.Poll.KeepAccess(ctx, d.MK, d.Doc.Code, router, reaching(d, router)))
	assert.True(t, reached(d, router))
	audit, err := d.Accounts.Audited(ctx, time.Now().Add(-time.Hour), "device-introduction", "", "Maren", 50)
	require.NoError(t, err)
	assert.NotEmpty(t, audit, "also what was refused is on record")
}

func reached(d *demotest.Desk, id string) bool {
	access, err := d.Store.Access(d.Context(), d.Doc.ID)
	require.NoError(d, err)
	for _, a := range access {
		if a.DeviceID == id {
			return true
		}
	}
	return false
}

// A kept password goes only to the address and the certificate that it was kept with; an account that devices share is
// used where it is used already, and replaced for all of them once each lets it in.
func TestAKeptPasswordGoesNowhereElse(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	ctx := t.Context()
	const sw = "dev-quill-sw"
	other := d.Twin()
	keep := func(code, id string, r poll.Reaching) error { return d.Poll.KeepAccess(ctx, d.MK, code, id, r) }
	blank := reaching(d, router)
	blank.Account, blank.Password = "", ""
	require.NoError(t, keep(d.Doc.Code, router, blank), "where it was kept with")
	away := blank
	away.URL = d.Devices[sw].URL
	assert.Contains(t, fields(t, keep(d.Doc.Code, router, away))["password"], "goes only to the address")
	away = blank
	away.Fingerprint = reaching(d, sw).Fingerprint
	assert.Contains(t, fields(t, keep(d.Doc.Code, router, away))["password"], "goes only to the address")
	another := blank
	another.Account = "guest"
	assert.Equal(t, map[string]string{"password": "type its password"}, fields(t, keep(d.Doc.Code, router, another)))

	like := reaching(d, sw)
	like.Account, like.Like = "", router
	like.Password = "guess"
	assert.Contains(t, fields(t, keep(d.Doc.Code, sw, like))["password"], "is not the one that dev-quill-rt")
	like.Password = "secret"
	require.NoError(t, keep(d.Doc.Code, sw, like))
	like.Password = ""
	require.NoError(t, keep(d.Doc.Code, sw, like), "it is used there already")
	there := reaching(d, "dev-thrush-rt")
	there.Account, there.Like = "", d.Doc.ID+"/"+router
	require.NoError(t, keep(other.Code, "dev-thrush-rt", there))
	kept, err := d.Poll.KeptAccounts(ctx, d.Doc.Code)
	require.NoError(t, err)
	require.Len(t, kept, 2, "one that three share, and the other switch's own")
	for _, k := range kept {
		assert.Contains(t, []int{1, 3}, len(k.At), k.At)
	}
	all := reaching(d, router)
	all.Password, all.All = "new-for-all", true
	demotest.Refused(t, keep(d.Doc.Code, router, all), actor.Conflict, "")
	all.Password = "secret"
	require.NoError(t, keep(d.Doc.Code, router, all))
}

// A simulated device says that it is one, and misbehaves as it is told; what it does not know it refuses.
func TestASimulatedDeviceMisbehaves(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	ctx := t.Context()
	f, err := d.Poll.Simulated(ctx, d.Doc.Code, router)
	require.NoError(t, err)
	assert.True(t, f.Simulated)
	f, err = d.Poll.Misbehave(ctx, d.MK, d.Doc.Code, router, poll.Fault{Fault: "slow", Amount: 5})
	require.NoError(t, err)
	assert.Equal(t, []string{"slow"}, f.Armed)
	_, err = d.Poll.Misbehave(ctx, d.MK, d.Doc.Code, router, poll.Fault{Fault: "dance"})
	demotest.Refused(t, err, actor.Conflict, "The device says")
	require.NoError(t, d.Poll.ForgetAccess(ctx, d.MK, d.Doc.Code, router))
	_, err = d.Poll.Simulated(ctx, d.Doc.Code, router)
	demotest.Refused(t, err, actor.Conflict, "does not reach this device")
	_, err = d.Poll.Simulated(ctx, "nowhere", router)
	demotest.Refused(t, err, actor.Missing, "no site")
	audit, err := d.Accounts.Audited(ctx, time.Now().Add(-time.Hour), "device-misbehaves", "", "", 50)
	require.NoError(t, err)
	assert.Len(t, audit, 1, "what was refused did not happen")
}

// A running resolver is looked into, forgets what it keeps, and writes questions down for a while; who did it is kept.
func TestARunningResolver(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	ctx := t.Context()
	look, err := d.Poll.LookInto(ctx, d.Doc.Code, "resolver-quill")
	require.NoError(t, err)
	assert.Equal(t, "rt-quill", look.Device)
	assert.WithinDuration(t, time.Now(), look.At, time.Minute)
	for _, a := range []poll.ResolverAct{{Flush: true}, {Flush: true, Name: "photos.quill.home.arpa"}, {Watch: 60},
		{Watch: -1}, {}} {
		_, err := d.Poll.Act(ctx, d.MK, d.Doc.Code, "resolver-quill", a)
		require.NoError(t, err, a)
	}
	audit, err := d.Accounts.Audited(ctx, time.Now().Add(-time.Hour), "resolver", "", "", 50)
	require.NoError(t, err)
	var says []string
	for _, l := range audit {
		says = append(says, l.Says)
	}
	assert.Equal(t, []string{"ended the writing down of questions to rt-quill",
		"had questions to rt-quill written down for 60 seconds", "made rt-quill forget 0 answers",
		"made rt-quill forget 0 answers"}, says)
	_, err = d.Poll.LookInto(ctx, d.Doc.Code, "none")
	demotest.Refused(t, err, actor.Missing, "no such resolver")
	require.NoError(t, d.Poll.ForgetAccess(ctx, d.MK, d.Doc.Code, router))
	_, err = d.Poll.LookInto(ctx, d.Doc.Code, "resolver-quill")
	demotest.Refused(t, err, actor.Conflict, "does not reach rt-quill")
}

// Each field of a client that is tried is judged at its ends, and all that are wrong are named.
func TestFieldsOfAClientThatIsTried(t *testing.T) {
	t.Parallel()
	d := demotest.NewDesk(t, "quill-street")
	try := func(r poll.TryRequest) error {
		r.Network = "net-quill-lab"
		_, err := d.Poll.Try(t.Context(), d.Doc.Code, r)
		return err
	}
	wrong := poll.TryRequest{MAC: "01:00:5e:00:53:01", Parameters: "1, 255", Largest: "575",
		HostName: strings.Repeat("h", 64), Class: strings.Repeat("c", 256)}
	assert.Len(t, fields(t, try(wrong)), 5)
	for _, r := range []poll.TryRequest{{MAC: "00:00:00:00:00:00"}, {MAC: "x"}, {Parameters: "0"}, {Parameters: "256"},
		{Largest: "65536"}, {Largest: "many"}} {
		assert.Len(t, fields(t, try(r)), 1, "%+v", r)
	}
	require.NoError(t, try(poll.TryRequest{MAC: "00:00:5e:00:53:fe", Parameters: "1, 254", Largest: "65535",
		HostName: strings.Repeat("h", 63), Class: strings.Repeat("c", 255), ClientID: "kiln-1"}))
	require.NoError(t, try(poll.TryRequest{Largest: "576"}))
	_, err := d.Poll.Try(t.Context(), d.Doc.Code, poll.TryRequest{Network: "none"})
	demotest.Refused(t, err, actor.Conflict, "does not have this network yet")
	_, err = d.Poll.Try(t.Context(), d.Doc.Code, poll.TryRequest{Network: "net-quill-lab", Port: "none"})
	demotest.Refused(t, err, actor.Missing, "no such port")
	out, err := d.Poll.Try(t.Context(), d.Doc.Code, poll.TryRequest{Network: "net-quill-home", Port: "if-quill-sw-2",
		Against: "device"})
	require.NoError(t, err)
	assert.Equal(t, "port2 of sw-attic", out.On, "its network is the port's")
	assert.True(t, strings.HasPrefix(out.Address, "10.7.8."), out.Address)
	assert.Empty(t, out.Strangers)
	require.NotEmpty(t, out.Rungs)
}
