package work_test

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/check"
	"lithos/core/dynamicnames"
	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/poll"
	"lithos/internal/standin/internet"
	"lithos/internal/view"
)

const (
	requestTo = "https://" + internet.RequestName
	untilTold = 20 * time.Second
)

// keepBy has a dynamic name of the Garret kept as said, by a push.
func (o *office) keepBy(fields ...string) {
	o.t.Helper()
	run(o.t, o.Service)
	id := o.at("the-garret")
	o.edit(id, entry("following", "following-home", fields...))
	require.Equal(o.t, "landed", o.pushed(o.Service, id).State)
}

// becomes waits until the world is told an address of the Garret's name.
func (o *office) becomes(typ, want string) {
	o.t.Helper()
	last := ""
	assert.Eventually(o.t, func() bool {
		z, _ := o.devices.Internet.Zone("garret.example")
		last = ""
		for _, r := range z.Record {
			if r.Owner == "home" && r.Type == typ {
				last += r.Data
			}
		}
		return last == want
	}, untilTold, 10*time.Millisecond, "%s is %s", want, last)
}

// readsTold reads the Garret's devices until the last that was told is an address: the world has it a moment before the
// device has written down that it was taken.
func (o *office) readsTold(address string) {
	o.t.Helper()
	assert.Eventually(o.t, func() bool {
		o.Poll.Observe(o.t.Context(), "site-the-garret")
		list := o.follows("the-garret").Attempts
		return len(list) > 0 && list[0].Address == address
	}, untilTold, 10*time.Millisecond, address)
}

// A device that keeps a name tells it when its line changes, without Lithos; the name's key was handed to it by the
// push. Lithos tells what the device has sent, and sends nothing itself.
func TestDeviceKeepsAName(t *testing.T) {
	o := openAll(t)
	garret := o.devices.ByID["dev-garret-rt"]
	o.keepBy("keeper", "device", "least", "1")
	o.becomes("A", "203.0.113.97")
	held := garret.Startup().Outside.Name
	require.Len(t, held, 1)
	raw, err := json.Marshal(garret.Running())
	require.NoError(t, err)
	key, _ := o.devices.Internet.Key("home.garret")
	assert.NotContains(t, string(raw), key.Secret)

	garret.SetLine("wan", netip.MustParseAddr("203.0.113.120"))
	o.becomes("A", "203.0.113.120")
	o.readsTold("203.0.113.120")
	f := o.follows("the-garret")
	assert.Equal(t, "follows", f.State)
	assert.Equal(t, "rt-garret, every 5 minutes and at a change, by an UPDATE", f.KeptBy)
	require.GreaterOrEqual(t, len(f.Attempts), 2)
	n := len(f.Attempts)
	o.Poll.Observe(t.Context(), "site-the-garret")
	assert.Len(t, o.follows("the-garret").Attempts, n, "what the device tells again is kept once")

	garret.SetLine("wan", netip.MustParseAddr("100.72.9.9"))
	o.Poll.Observe(t.Context(), "site-the-garret")
	assert.True(t, o.found("the-garret", "ddns-shared-address"))
	o.becomes("A", "203.0.113.120")
}

// By the HTTPS request the same holds, for both addresses of a line and for every name below.
func TestDeviceKeepsANameByRequest(t *testing.T) {
	o := openAll(t)
	garret := o.devices.ByID["dev-garret-rt"]
	key, _ := o.devices.Internet.Key("home.garret")
	key.Names, key.Types = []string{"home.garret.example", "*.home.garret.example"}, []string{"A", "AAAA"}
	o.devices.Internet.AddKey(key)
	garret.SetLines("wan", dynamicnames.Line{IPv4: netip.MustParseAddr("203.0.113.98"),
		IPv6: netip.MustParseAddr("2001:db8::98")})
	o.keepBy("keeper", "device", "how", "request", "requestTo", requestTo, "addresses", "both", "wildcard", "true",
		"least", "1", "secret", key.Secret)
	o.becomes("A", "203.0.113.98")
	o.becomes("AAAA", "2001:db8::98")
	z, _ := o.devices.Internet.Zone("garret.example")
	assert.True(t, slices.ContainsFunc(z.Record, func(r yang.Record) bool {
		return r.Owner == "*.home" && r.Type == "AAAA" && r.Data == "2001:db8::98"
	}))
	o.Poll.Observe(t.Context(), "site-the-garret")
	f := o.follows("the-garret")
	assert.Equal(t, "follows", f.State)
	assert.Equal(t, "203.0.113.98 and 2001:db8::98", f.Address)
	require.Len(t, f.Tracks, 2)
	steps, err := o.Poll.TryFollowing(t.Context(), o.mk, "the-garret", "following-home")
	require.NoError(t, err)
	for _, s := range steps {
		assert.Equal(t, "pass", s.State, "%s: %s", s.Title, s.Says)
	}
}

// Behind another router the device asks outside which address it comes from, and tells that.
func TestAddressIsAskedOutside(t *testing.T) {
	o := openAll(t)
	garret := o.devices.ByID["dev-garret-rt"]
	garret.SetLineBehind("wan", netip.MustParseAddr("192.168.1.7"), netip.MustParseAddr("203.0.113.140"))
	o.keepBy("keeper", "device", "source", "asked", "asks", requestTo+"/v1/address", "every", "1", "least", "1")
	o.becomes("A", "203.0.113.140")
	o.readsTold("203.0.113.140")
	f := o.follows("the-garret")
	assert.Equal(t, "follows", f.State)
	assert.Equal(t, "203.0.113.140", f.Address)
	assert.False(t, o.found("the-garret", "ddns-private-address"), "what the uplink has is no matter")
	garret.SetLineBehind("wan", netip.MustParseAddr("192.168.1.7"), netip.MustParseAddr("203.0.113.141"))
	o.becomes("A", "203.0.113.141")
}

// A line that changes a hundred times is told of no more often than the least time allows, and the last address wins;
// nothing else of the zone is changed. It goes on after the device was without power.
func TestFlappingLineOfADevice(t *testing.T) {
	o := openAll(t)
	garret := o.devices.ByID["dev-garret-rt"]
	o.keepBy("keeper", "device", "least", "2")
	o.becomes("A", "203.0.113.97")
	o.readsTold("203.0.113.97")
	before := len(o.follows("the-garret").Attempts) // the push proves it, and has it told once more for that
	_, rest := o.says("garret.example", "home")
	var list []netip.Addr
	for i := range 100 {
		list = append(list, netip.AddrFrom4([4]byte{203, 0, 113, byte(100 + i)}))
	}
	stop := garret.ScheduleLine("wan", 10*time.Millisecond, list...)
	assert.Eventually(t, func() bool {
		o.Poll.Observe(t.Context(), "site-the-garret")
		return len(o.follows("the-garret").Attempts) >= before+2
	}, untilTold, 50*time.Millisecond)
	stop()
	garret.SetLine("wan", netip.MustParseAddr("203.0.113.222"))
	o.becomes("A", "203.0.113.222")
	_, now := o.says("garret.example", "home")
	assert.Equal(t, rest, now)
	o.readsTold("203.0.113.222")
	attempts := o.follows("the-garret").Attempts
	for i := range len(attempts) - before {
		assert.GreaterOrEqual(t, attempts[i].At.Sub(attempts[i+1].At), 2*time.Second-10*time.Millisecond)
	}
}

// A process that is killed between learning an address and telling it leaves the address learnt; the next reading
// tells it. One that is killed between telling and writing that down tells it once more, which changes nothing.
func TestKilledBetweenLearningAndTelling(t *testing.T) {
	o := openAll(t)
	ctx := t.Context()
	o.Poll.Observe(ctx, "site-the-garret")
	o.devices.ByID["dev-garret-rt"].SetLine("wan", netip.MustParseAddr("203.0.113.150"))
	o.exec("DELETE FROM told_address")
	o.exec(`INSERT INTO line_address (site_id, interface_id, address) VALUES ('site-the-garret', 'if-garret-wan', ` +
		`'203.0.113.150')`)
	o.Poll.Observe(ctx, "site-the-garret")
	o.becomes("A", "203.0.113.150")
	zone, _ := o.devices.Internet.Zone("garret.example")
	o.exec("DELETE FROM told_address")
	o.Poll.Observe(ctx, "site-the-garret")
	again, _ := o.devices.Internet.Zone("garret.example")
	assert.Equal(t, zone, again)
	f := o.follows("the-garret")
	require.Len(t, f.Attempts, 1)
	assert.True(t, f.Attempts[0].Taken)
}

// A key is made for a name at its provider and handed over without anybody seeing it: it is in no answer, no draft,
// no document and no device's configuration. Nothing stops before the push, and the wide key before it is not the
// name's any more.
func TestKeyIsHandedOver(t *testing.T) {
	o := openAll(t)
	ctx := t.Context()
	run(t, o.Service)
	o.Poll.Observe(ctx, "site-quill-street")
	assert.True(t, o.found("quill-street", "ddns-key-too-wide"))
	id := o.at("quill-street")
	o.edit(id, entry("following", "following-remote", "least", "1"))
	require.NoError(t, o.HaveKeyMade(ctx, o.mk, id, o.version(id), "following-remote", poll.KeyMaking{}, nil))
	d, err := o.Drafts.Draft(ctx, id)
	require.NoError(t, err)
	w, _ := d.Doc().Follower("following-remote")
	assert.Equal(t, "key-1.remote.quill.example", w.Key)
	key, ok := o.devices.Internet.Key(w.Key)
	require.True(t, ok)
	assert.Equal(t, []string{"remote.quill.example"}, key.Names)
	assert.True(t, key.UpdateOnly)
	raw, err := json.Marshal([]any{d.Doc(), d.Steps})
	require.NoError(t, err)
	assert.NotContains(t, string(raw), key.Secret)

	require.Equal(t, "landed", o.pushed(o.Service, id).State)
	quill := o.devices.ByID["dev-quill-rt"]
	quill.SetLine("wan", netip.MustParseAddr("192.0.2.78"))
	assert.Eventually(t, func() bool {
		a, _ := o.says("quill.example", "remote")
		return a == "192.0.2.78"
	}, untilTold, 10*time.Millisecond, "it is told with the new key")
	o.Poll.Observe(ctx, "site-quill-street")
	assert.False(t, o.found("quill-street", "ddns-key-too-wide"))
	f := o.follows("quill-street")
	require.NotNil(t, f.Key)
	assert.GreaterOrEqual(t, f.Key.Uses, 1)
	assert.False(t, f.Key.Wide)
	raw, err = json.Marshal([]any{f, o.page("quill-street", 0).Names("zone-quill-out", "", nil)})
	require.NoError(t, err)
	assert.NotContains(t, string(raw), key.Secret)
	assert.NotContains(t, o.log.String(), key.Secret)
}

// A record that somebody wrote is said to become a following one, and does so when that is meant. A key whose draft
// has moved on is revoked at once.
func TestFixedRecordBecomesAFollowingOne(t *testing.T) {
	o := openAll(t)
	ctx := t.Context()
	id := o.at("quill-street")
	c := entry("following", "following-cloud", "name", "cloud.quill.example", "uplink", "if-quill-wan",
		"enabled", "true", "keeper", "device")
	c.Entries[0].New = true
	o.edit(id, c)
	err := o.HaveKeyMade(ctx, o.mk, id, o.version(id), "following-cloud", poll.KeyMaking{}, nil)
	var r *actor.Refusal
	require.ErrorAs(t, err, &r)
	require.Len(t, r.Fields, 1)
	assert.Equal(t, "follow", r.Fields[0].Field)
	assert.Contains(t, r.Says, "cloud.quill.example is written by hand as 192.0.2.77")
	assert.Contains(t, r.Says, "before this draft is pushed", "number 30: what is not with the push is said before")
	err = o.HaveKeyMade(ctx, o.mk, id, o.version(id)-1, "following-cloud", poll.KeyMaking{Follow: true}, nil)
	require.Error(t, err)
	_, left := o.devices.Internet.Key("key-1.cloud.quill.example")
	assert.False(t, left, "it is revoked")
	require.NoError(t, o.HaveKeyMade(ctx, o.mk, id, o.version(id), "following-cloud", poll.KeyMaking{Follow: true},
		nil))
	assert.True(t, slices.ContainsFunc(o.page("quill-street", id).Judgement.Findings,
		func(f check.Finding) bool { return f.Rule == "ddns-two-writers" }), "the document still writes it, too")
}

// Number 30: a key that is made again says that the one before lives, and ends it where one chooses so.
func Test30AKeyMadeAgainSaysThatTheOldOneLives(t *testing.T) {
	o := openAll(t)
	ctx := t.Context()
	id := o.at("quill-street")
	made := func(before string) error {
		return o.HaveKeyMade(ctx, o.mk, id, o.version(id), "following-remote", poll.KeyMaking{Before: before}, nil)
	}
	lives := func(name string) bool { _, ok := o.devices.Internet.Key(name); return ok }
	const first, second, third = "key-1.remote.quill.example", "key-2.remote.quill.example",
		"key-3.remote.quill.example"
	require.NoError(t, made(""), "the wide key before it is the zone's and none of its own")
	var r *actor.Refusal
	require.ErrorAs(t, made(""), &r)
	assert.Equal(t, "before", r.Fields[0].Field)
	assert.Contains(t, r.Says, first)
	assert.False(t, lives(second), "nothing is made before it is answered")
	require.NoError(t, made(poll.KeepBefore))
	assert.True(t, lives(first))
	assert.True(t, lives(second))
	require.NoError(t, made(poll.EndBefore))
	assert.False(t, lives(second))
	assert.True(t, lives(third))
}

// Number 34: a key that is replaced is replaced wherever the draft uses it, and one that is revoked is found.
func Test34AReplacedKeyIsReplacedWhereverItIsUsed(t *testing.T) {
	o := openAll(t)
	ctx := t.Context()
	run(t, o.Service)
	id := o.at("quill-street")
	replace := func(key string) error {
		return o.HaveKeyReplaced(ctx, o.mk, id, o.version(id), "zone-quill-out", key, nil)
	}
	require.ErrorContains(t, replace("challenge.nobody"), "Nothing of this draft uses")
	require.NoError(t, replace("lithos.quill"))
	d, err := o.Drafts.Draft(ctx, id)
	require.NoError(t, err)
	z, _ := d.Doc().Zone("zone-quill-out")
	w, _ := d.Doc().Follower("following-remote")
	assert.NotEqual(t, "lithos.quill", z.Key)
	assert.Equal(t, z.Key, w.Key, "the name that uses it has the new one, too")
	key, ok := o.devices.Internet.Key(z.Key)
	require.True(t, ok)
	raw, err := json.Marshal([]any{d.Doc(), d.Steps})
	require.NoError(t, err)
	assert.NotContains(t, string(raw), key.Secret)
	require.Equal(t, "landed", o.pushed(o.Service, id).State)

	o.Poll.Observe(ctx, "site-quill-street")
	assert.False(t, o.found("quill-street", "ddns-key-gone"))
	require.NoError(t, o.Poll.RevokeKey(ctx, o.mk, "quill-street", "zone-quill-out", w.Key))
	assert.True(t, o.found("quill-street", "ddns-key-gone"), "who revokes it is told what it stops")
	assert.True(t, o.found("quill-street", "key-gone"), "the zone's is that key, too")
}

// Keys of a zone are made and shown once, replaced while the old one is taken yet, and revoked; wrong values are
// named. Each is written down with who did it.
func TestKeysOfAZone(t *testing.T) {
	o := openAll(t)
	ctx := t.Context()
	const code, zone = "quill-street", "zone-quill-out"
	_, err := o.Poll.MakeKey(ctx, o.mk, code, zone, poll.KeyWish{Names: "a b", Types: "A, X", From: "here",
		Ends: "soon"})
	var r *actor.Refusal
	require.ErrorAs(t, err, &r)
	var fields []string
	for _, f := range r.Fields {
		fields = append(fields, f.Field)
	}
	assert.Equal(t, []string{"name", "types", "from", "ends"}, fields)
	made, err := o.Poll.MakeKey(ctx, o.mk, code, zone, poll.KeyWish{Name: "printer.quill",
		Names: "printer.quill.example",
		Types: "a", UpdateOnly: true, Ends: time.Now().AddDate(0, 0, 3).Format(time.DateOnly)})
	require.NoError(t, err)
	assert.NotEmpty(t, made.Secret)
	v := o.page(code, 0).Names(zone, "", nil).Keys
	require.NotNil(t, v)
	i := slices.IndexFunc(v.Keys, func(k view.OutsideKey) bool { return k.Name == "printer.quill" })
	require.GreaterOrEqual(t, i, 0)
	assert.Equal(t, "A of printer.quill.example; update only", v.Keys[i].May)
	assert.True(t, v.Keys[i].Ending)
	fresh, err := o.Poll.ReplaceKey(ctx, o.mk, code, zone, "printer.quill")
	require.NoError(t, err)
	assert.NotEqual(t, made.Secret, fresh.Secret)
	require.NoError(t, o.Poll.RevokeKey(ctx, o.mk, code, zone, "printer.quill"))
	refusal(t, o.Poll.RevokeKey(ctx, o.mk, code, zone, "printer.quill"), actor.Conflict, "has no key printer.quill")
	refusal(t, o.Poll.RevokeKey(ctx, o.mk, "the-garret", "zone-garret-out", "x"), actor.Missing,
		"where keys of this zone")
	audit, err := o.Accounts.Audited(ctx, time.Time{}, "outside-key", "", "", 50)
	require.NoError(t, err)
	says := fmt.Sprint(audit)
	for _, want := range []string{"had the key printer.quill made", "replaced by", "had the key printer.quill of"} {
		assert.Contains(t, says, want)
	}
	assert.NotContains(t, says, made.Secret)
	o.devices.Internet.Inject(internet.Faults{Silent: true})
	_, err = o.Poll.MakeKey(ctx, o.mk, code, zone, poll.KeyWish{Name: "other.quill"})
	refusal(t, err, actor.Conflict, "did not answer in time")
}

// A key that is about to end is found, and having a new one made is what helps.
func TestKeyIsAboutToEnd(t *testing.T) {
	o := openAll(t)
	key, _ := o.devices.Internet.Key("hut.tidewater")
	key.Ends = time.Now().AddDate(0, 0, 5)
	o.devices.Internet.AddKey(key)
	o.Poll.Observe(t.Context(), "site-the-hut")
	findings := o.page("the-hut", 0).Judgement.Findings
	i := slices.IndexFunc(findings, func(f check.Finding) bool { return f.Rule == "ddns-key-ending" })
	require.GreaterOrEqual(t, i, 0)
	require.NotNil(t, findings[i].Remedy)
	assert.Equal(t, check.RemedyKey, findings[i].Remedy.Do)
	f := o.follows("the-hut")
	assert.Equal(t, "unreached", f.State)
	assert.True(t, slices.ContainsFunc(f.Notices, func(n view.Notice) bool { return n.Kind == "ddns-key-ending" }))
	assert.True(t, strings.HasPrefix(f.KeptBy, "rt-hut, every 5 minutes"))
}
