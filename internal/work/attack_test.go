package work_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/address"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/internal/accounts"
	"lithos/internal/actor"
	"lithos/internal/demo"
	"lithos/internal/device"
	"lithos/internal/draft"
	"lithos/internal/poll"
)

// Sixty guesses at once: eight are looked at, and no more than four at a time.
func TestAttackSixtyGuessesAtOnce(t *testing.T) {
	t.Parallel()
	o := open(t)
	var all sync.WaitGroup
	var denied, throttled atomic.Int32
	for i := range 60 {
		all.Go(func() {
			_, err := o.signIn("mk", fmt.Sprintf("a guess number %d", i), "10.0.0.9")
			var r *actor.Refusal
			if !assert.ErrorAs(t, err, &r) {
				return
			}
			switch r.Kind {
			case actor.Denied:
				denied.Add(1)
			case actor.Busy:
				throttled.Add(1)
			}
		})
	}
	all.Wait()
	assert.LessOrEqual(t, denied.Load(), int32(8))
	assert.Equal(t, int32(60), denied.Load()+throttled.Load())
}

// Guesses from one address keep nobody out elsewhere, and a browser somebody has
// signed in from before is let through even then.
func TestAttackLockATechnicianOut(t *testing.T) {
	t.Parallel()
	o := open(t)
	try := func(name, password, source, browser string) error {
		_, _, err := o.Accounts.SignIn(t.Context(),
			accounts.Attempt{Name: name, Password: password, Source: source, Browser: browser})
		return err
	}
	_, stamp, err := o.Accounts.SignIn(t.Context(), accounts.Attempt{Name: "mk", Password: demo.Password,
		Source: "10.0.0.9"})
	require.NoError(t, err)
	require.NoError(t, o.Accounts.StartSession(t.Context(), "token", accounts.Session{
		Technician: o.mk.ID, Stamp: stamp, Browser: "known", Expires: time.Now().Add(time.Hour),
	}))
	for range 8 {
		refusal(t, try("mk", "a wrong password", "10.0.0.9", ""), actor.Denied, "wrong")
	}
	refusal(t, try("mk", demo.Password, "10.0.0.9", ""), actor.Busy, "Too many failed attempts")
	refusal(t, try("mk", demo.Password, "10.0.0.9", "made up"), actor.Busy, "Too many failed attempts")
	assert.NoError(t, try("mk", demo.Password, "10.0.0.10", ""), "from elsewhere")
	assert.NoError(t, try("mk", demo.Password, "10.0.0.9", "known"), "with the browser that is known")
	assert.NoError(t, try("jo", joPassword, "10.0.0.9", ""), "others from there")
	for range 8 {
		refusal(t, try("mk", "a wrong password", "10.0.0.9", "known"), actor.Denied, "wrong")
	}
	refusal(t, try("mk", demo.Password, "10.0.0.9", "known"), actor.Busy, "Too many")
	lines, err := o.Accounts.Audited(t.Context(), time.Time{}, "sign-in-throttled", "mk", "", 100)
	require.NoError(t, err)
	assert.Len(t, lines, 3)
}

// A session ends with the password it was begun with, with its account, and with
// the account's being switched off.
func TestAttackSessionOutlivesItsAccount(t *testing.T) {
	t.Parallel()
	o := open(t)
	begin := func(token string) {
		_, stamp, err := o.Accounts.SignIn(t.Context(), accounts.Attempt{Name: "jo", Password: joPassword,
			Source: "test"})
		require.NoError(t, err)
		require.NoError(t, o.Accounts.StartSession(t.Context(), token,
			accounts.Session{Technician: o.jo.ID, Stamp: stamp, Expires: time.Now().Add(time.Hour)}))
	}
	stands := func(token string) bool {
		_, _, ok, err := o.Accounts.SessionTechnician(t.Context(), token)
		require.NoError(t, err)
		return ok
	}
	ends := map[string]func(){
		"a changed password": func() {
			_, err := o.Accounts.PutTechnician(t.Context(), "a test", "jo", "Jo Arden", joPassword)
			require.NoError(t, err)
		},
		"switched off": func() { require.NoError(t, o.Accounts.SwitchAccount(t.Context(), "a test", "jo", true)) },
		"ended":        func() { require.NoError(t, o.Accounts.EndSessions(t.Context(), "a test", "jo")) },
		"deleted":      func() { o.exec("DELETE FROM technician WHERE name = 'jo'") },
	}
	for _, how := range []string{"a changed password", "ended", "switched off", "deleted"} {
		begin(how)
		require.True(t, stands(how), how)
		sessions, err := o.Accounts.Sessions(t.Context(), "jo")
		require.NoError(t, err)
		assert.Len(t, sessions, 1)
		ends[how]()
		assert.False(t, stands(how), how)
		if how == "switched off" {
			_, err := o.signIn("jo", joPassword, "test")
			refusal(t, err, actor.Denied, "wrong")
			require.NoError(t, o.Accounts.SwitchAccount(t.Context(), "a test", "jo", false))
		}
	}
	// Between the look at the password and the session the account is changed.
	_, stamp, err := o.Accounts.SignIn(t.Context(), accounts.Attempt{Name: "mk", Password: demo.Password,
		Source: "test"})
	require.NoError(t, err)
	_, err = o.Accounts.PutTechnician(t.Context(), "a test", "mk", "Maren Kolb", "lantern-gravel-otter")
	require.NoError(t, err)
	refusal(t, o.Accounts.StartSession(t.Context(), "late",
		accounts.Session{Technician: o.mk.ID, Stamp: stamp, Expires: time.Now().Add(time.Hour)}), actor.Denied,
		"changed meanwhile")
}

// Names that do not begin with ASCII, passwords in characters, and passwords that
// everybody has.
func TestAttackNamesAndPasswords(t *testing.T) {
	t.Parallel()
	o := open(t)
	put := func(name, full, password string) error {
		_, err := o.Accounts.PutTechnician(t.Context(), "a test", name, full, password)
		return err
	}
	require.NoError(t, put("os", "Østen Łukasz Ávila", "höhenrauch-ördög-ñandú"))
	who, err := o.signIn("OS", "höhenrauch-ördög-ñandú", "test")
	require.NoError(t, err)
	assert.Equal(t, "ØŁÁ", who.Initials)
	for password, says := range map[string]string{
		"ööööööö": "has 7 characters", "password1234": "commonly used", "qwertyuiop123": "commonly used",
		"aaaaaaaaaaaa":  "commonly used",
		"Maren Kolb 12": "commonly used", strings.Repeat("x y", 100): "has 300 characters",
		"a\xffbcdefghijklm": "not UTF-8",
	} {
		refusal(t, put("nn", "Maren Kolb", password), actor.Invalid, says)
	}
	for name, says := range map[string]string{"": "needs a name", "  ": "needs a name", "a b": "a space",
		"a\x00b": "control character", strings.Repeat("n", 65): "longer than 64"} {
		refusal(t, put(name, "N", "lantern-gravel-otter"), actor.Invalid, says)
	}
	refusal(t, put("nn", " ", "lantern-gravel-otter"), actor.Invalid, "needs a full name")
}

// A device's address that would send its password in clear, or lead elsewhere, is
// not kept; nor is a site or device that is not there.
func TestAttackDeviceAddresses(t *testing.T) {
	t.Parallel()
	o := open(t)
	good := device.Access{URL: "https://192.0.2.1:443", Account: "lithos", Password: "secret",
		Fingerprint: make([]byte, 32)}
	put := func(siteID, deviceID string, change func(*device.Access)) error {
		a := good
		change(&a)
		return o.Accounts.PutAccess(t.Context(), "a test", siteID, deviceID, a)
	}
	same := func(*device.Access) {}
	require.NoError(t, put("site-kelder-bridge", "dev-gw-1", same))
	for url, says := range map[string]string{
		"http://192.0.2.1": "only https is used", "192.0.2.1:443": "cannot be read", "https://": "cannot be read",
		"https://a:b@192.0.2.1":      "holds an account",
		"https://192.0.2.1/restconf": "goes on after its port", "ftp://192.0.2.1": "only https is used",
	} {
		refusal(t, put("site-kelder-bridge", "dev-gw-1", func(a *device.Access) { a.URL = url }), actor.Invalid, says)
	}
	refusal(t, put("site-kelder-bridge", "dev-gw-1", func(a *device.Access) { a.Fingerprint = nil }), actor.Invalid,
		"fingerprint")
	refusal(t, put("site-nowhere", "dev-gw-1", same), actor.Missing, "no site with the id")
	refusal(t, put("site-kelder-bridge", "dev-none", same), actor.Missing, "no device with the id")
}

// A lease whose name holds what cannot be kept spoils only itself.
func TestAttackBadNameFromADevice(t *testing.T) {
	t.Parallel()
	o := open(t)
	for i, name := range []string{"good", "b\x00a\x1bd", "ill\xff"} {
		r, err := o.Poll.Try(t.Context(), "kelder-bridge",
			poll.TryRequest{Network: "net-imaging", MAC: fmt.Sprintf("00:00:5e:00:53:f%d", i), HostName: name,
				Against: "device"})
		require.NoError(t, err)
		require.NotEmpty(t, r.Address, r.Why)
	}
	o.Poll.Observe(t.Context(), "site-kelder-bridge")
	var names []string
	for _, s := range o.page("kelder-bridge", 0).SeenAt().Seen {
		if s.Network == "net-imaging" {
			names = append(names, s.Name)
		}
	}
	assert.Contains(t, names, "good")
	assert.Contains(t, names, "bad")
	assert.Len(t, names, 3)
}

// A rehearsal of many clients is answered with counts and those that move, a page
// at a time.
func TestAttackRehearsalOfThousands(t *testing.T) {
	t.Parallel()
	o := open(t)
	doc := scenario.Site("kelder-bridge")
	n, _ := doc.Network("net-clinic")
	n.Prefix, n.Gateway = netip.MustParsePrefix("10.84.64.0/18"), netip.MustParseAddr("10.84.64.1")
	doc.Block = append(doc.Block, netip.MustParsePrefix("10.84.64.0/18"))
	doc.FixedDevices, doc.Pools = nil, nil
	var kept []*site.Reservation
	for _, r := range doc.Reservations {
		if r.Network != "net-clinic" {
			kept = append(kept, r)
		}
	}
	for i := range 5000 {
		kept = append(kept, &site.Reservation{
			ID: fmt.Sprintf("res-many-%d", i), Network: "net-clinic",
			Address: address.FromUint(address.Uint(n.Prefix.Addr()) + uint32(i) + 10),
			MAC:     address.MAC{2, 0, 0x5e, 9, byte(i >> 8), byte(i)}, Name: fmt.Sprintf("m%d", i),
		})
	}
	doc.Reservations = kept
	_, err := o.Sites.Import(t.Context(), doc, 0, "many")
	require.NoError(t, err)
	id := o.order()
	o.edit(id, entry("network", "net-clinic", "purpose", "x"))
	r, err := o.Pushes.Rehearse(t.Context(), o.mk, id, o.version(id))
	require.NoError(t, err)
	assert.GreaterOrEqual(t, r.Report.Clients, 5000)
	v, err := o.Order(t.Context(), id)
	require.NoError(t, err)
	raw, err := json.Marshal(v)
	require.NoError(t, err)
	assert.Less(t, len(raw), 100_000)
	page, err := o.Pushes.RehearsedClients(t.Context(), id, false, 100)
	require.NoError(t, err)
	assert.Len(t, page.Clients, 100)
	assert.True(t, page.More)
	_, err = o.Pushes.RehearsedReply(t.Context(), id, 1_000_000)
	refusal(t, err, actor.Missing, "no such reply")
}

// A browser that does not keep up is told to ask for everything again.
func TestAttackLiveEventsOverflow(t *testing.T) {
	t.Parallel()
	o := open(t)
	run(t, o.Service)
	events, cancel := o.Events.Subscribe()
	defer cancel()
	// The first says that the process listens now.
	require.Equal(t, "all", (<-events).Topic)
	id := o.order()
	for i := range 200 {
		o.edit(id, entry("network", "net-imaging", "purpose", fmt.Sprint(i)))
	}
	topics := map[string]int{}
	require.Eventually(t, func() bool {
		select {
		case e := <-events:
			topics[e.Topic]++
		default:
		}
		return topics["all"] > 0 && topics["order"] > 0
	}, time.Minute, time.Millisecond)
	assert.Less(t, topics["order"], 200)
	// What comes after is heard again.
	for len(events) > 0 {
		<-events
	}
	require.Eventually(t, func() bool {
		o.edit(id, entry("network", "net-imaging", "purpose", "again"))
		o.edit(id, entry("network", "net-imaging", "purpose", "and again"))
		return len(events) > 0
	}, time.Minute, 10*time.Millisecond)
}

// Devices that accept a connection and say nothing do not keep others unread: all
// sites of a group are read at once, and a group has one job at a time.
func TestAttackSilentDevicesKeepOthersUnread(t *testing.T) {
	t.Parallel()
	o := open(t)
	hole, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer hole.Close()
	o.exec("UPDATE device_access SET url = $1 WHERE site_id <> 'site-kelder-bridge'", "https://"+hole.Addr().String())
	ctx, cancel := context.WithCancel(context.Background())
	require.NoError(t, o.Run(ctx, time.Second))
	t.Cleanup(func() { cancel(); o.Stopped() })
	_, s := o.another()
	require.Eventually(t, func() bool {
		access, err := s.AccessOfSite(t.Context(), "site-kelder-bridge")
		require.NoError(t, err)
		read := true
		for _, a := range access {
			read = read && a.ReadAt != nil
		}
		var twice, groups int
		require.NoError(t, s.Pool.QueryRow(t.Context(),
			`SELECT count(*) FILTER (WHERE n > 1), count(*) FROM (SELECT args, count(*) AS n FROM river_job
			WHERE kind = 'read' AND state IN ('available', 'scheduled', 'running', 'retryable')
			GROUP BY args) j`).Scan(&twice, &groups))
		assert.Zero(t, twice, "a group has one job at a time")
		return read && groups > 0 // the silent ones are still being waited for
	}, time.Minute, 10*time.Millisecond)
}

// Devices of a site that are silent do not keep the others of it unread: each is read by itself.
func Test54SilentDevicesOfOneSite(t *testing.T) {
	t.Parallel()
	o := open(t)
	hole, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer hole.Close()
	o.exec(`INSERT INTO device_access (site_id, device_id, url, account, secret, fingerprint)
		SELECT site_id, 'a-silent-' || n, $1, account, secret, fingerprint
		FROM device_access, generate_series(1, 5) n WHERE device_id = 'dev-gw-1'`, "https://"+hole.Addr().String())
	ctx, cancel := context.WithCancel(t.Context())
	read := make(chan bool, 1)
	go func() { read <- o.Poll.ReadDevices(ctx, "site-kelder-bridge") }()
	_, s := o.another()
	require.Eventually(t, func() bool {
		access, err := s.AccessOfSite(t.Context(), "site-kelder-bridge")
		require.NoError(t, err)
		unread := 0
		for _, a := range access {
			if !strings.HasPrefix(a.DeviceID, "a-silent-") && a.ReadAt == nil {
				unread++
			}
		}
		return unread == 0
	}, 12*time.Second, 10*time.Millisecond, "before the first silent one is given up")
	cancel()
	assert.False(t, <-read)
}

// What somebody else did elsewhere in the draft does not refuse a form, what they did
// to the same part does.
func TestAttackEditElsewhereRefusesAForm(t *testing.T) {
	t.Parallel()
	o := open(t)
	id := o.order()
	o.edit(id, entry("network", "net-imaging", "purpose", "x"))
	seen := o.version(id)
	// Somebody else, meanwhile.
	theirs := entry("network", "net-bench", "name", "Workbench")
	theirs.Version = seen
	_, err := o.Drafts.Edit(t.Context(), o.jo, id, theirs, nil)
	require.NoError(t, err)
	mine := entry("network", "net-imaging", "name", "Scans")
	mine.Version = seen
	d, err := o.Drafts.Edit(t.Context(), o.mk, id, mine, nil)
	require.NoError(t, err, "nothing the form shows has changed")
	assert.Len(t, d.After.Steps, 3)
	late := entry("network", "net-bench", "name", "Benches")
	late.Version = seen
	_, err = o.Drafts.Edit(t.Context(), o.mk, id, late, nil)
	refusal(t, err, actor.Conflict, "meanwhile")
	// After an undo nothing is known of what was seen.
	_, err = o.Drafts.Undo(t.Context(), o.jo, id, o.version(id), true)
	require.NoError(t, err)
	last := entry("network", "net-cameras", "name", "Eyes")
	last.Version = seen
	_, err = o.Drafts.Edit(t.Context(), o.mk, id, last, nil)
	refusal(t, err, actor.Conflict, "meanwhile")
}

// Edits that no longer apply on a newer revision are kept until somebody decides.
func TestAttackRebaseDropsEdits(t *testing.T) {
	t.Parallel()
	o := open(t)
	run(t, o.Service)
	id := o.order()
	o.edit(id, entry("network", "net-imaging", "vlan", "49"))
	o.edit(id, entry("reservation", "res-xray-plate", "name", "xray-new"))
	o.edit(id, draft.Change{Remove: "network:net-waiting"})
	newer := scenario.Site("kelder-bridge")
	n, _ := newer.Network("net-imaging")
	n.VLAN = 50
	r, _ := newer.Reservation("res-xray-plate")
	r.Name = "xray-old"
	w, _ := newer.Network("net-waiting")
	w.Purpose = "now with a purpose"
	_, err := o.Sites.Import(t.Context(), newer, 0, "from a file")
	require.NoError(t, err)
	_, err = o.Drafts.Rebase(t.Context(), id, o.version(id))
	require.NoError(t, err)
	fresh, _ := o.another()
	v, err := fresh.Order(t.Context(), id)
	require.NoError(t, err)
	require.Len(t, v.Lost, 3)
	assert.Equal(t, "Reservation xray-new: name is now \"xray-old\", and was \"xray-plate\" when it was changed here",
		v.Lost[1].Why)
	assert.Equal(t, "Maren Kolb", v.Lost[1].By)
	assert.True(t, v.Lost[0].Mine)
	assert.Contains(t, v.Head.Refuses, "3 edits do not apply here")
	_, err = fresh.Drafts.Decide(t.Context(), o.jo, id, v.Head.Version, draft.Decision{Seq: v.Lost[0].Seq,
		Take: draft.TakeMine})
	require.NoError(t, err)
	_, err = fresh.Drafts.Decide(t.Context(), o.jo, id, o.version(id), draft.Decision{Seq: v.Lost[0].Seq,
		Take: draft.TakeMine})
	refusal(t, err, actor.Conflict, "decided about this edit already")
	other := draft.Decision{Seq: v.Lost[1].Seq, Take: draft.TakeAnother, Fields: map[string]string{"name": "no name"}}
	_, err = fresh.Drafts.Decide(t.Context(), o.jo, id, o.version(id), other)
	refusal(t, err, actor.Invalid, "name")
	other.Fields["name"] = "xray-third"
	_, err = fresh.Drafts.Decide(t.Context(), o.jo, id, o.version(id), other)
	require.NoError(t, err)
	_, err = fresh.Drafts.Decide(t.Context(), o.jo, id, o.version(id), draft.Decision{Seq: v.Lost[2].Seq,
		Take: draft.TakeTheirs})
	require.NoError(t, err)
	v, err = fresh.Order(t.Context(), id)
	require.NoError(t, err)
	assert.Empty(t, v.Lost)
	assert.Equal(t, "Change network Imaging: VLAN 49, was 50", v.Steps[len(v.Steps)-2].Says)
	assert.Contains(t, v.Steps[len(v.Steps)-1].Says, "xray-third")
	d, err := fresh.Drafts.Draft(t.Context(), id)
	require.NoError(t, err)
	kept, _ := d.Doc().Reservation("res-xray-plate")
	assert.Equal(t, "xray-third", kept.Name)
}

// The audit table only grows.
func TestAttackAuditIsRewritten(t *testing.T) {
	t.Parallel()
	o := openAll(t)
	_, s := o.another()
	for _, sql := range []string{"DELETE FROM audit", "UPDATE audit SET who = 'nobody'", "TRUNCATE audit"} {
		_, err := s.Pool.Exec(t.Context(), sql)
		assert.ErrorContains(t, err, "append only", sql)
	}
	_, err := o.Accounts.PutTechnician(t.Context(), "a test", "ta", "Tove Aske", joPassword)
	require.NoError(t, err)
	lines, err := o.Accounts.Audited(t.Context(), time.Time{}, "", "", "", 1000)
	require.NoError(t, err)
	acts := map[string]int{}
	for _, l := range lines {
		acts[l.Act]++
	}
	assert.Equal(t, 1, acts["account-made"])
	assert.Equal(t, 2, acts["sign-in"])
	assert.Equal(t, len(scenario.Names), acts["site-imported"])
	assert.Positive(t, acts["device-access"])
}
