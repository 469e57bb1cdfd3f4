package work_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/compile"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/accounts"
	"lithos/internal/actor"
	"lithos/internal/device"
	"lithos/internal/outbound"
	"lithos/internal/push"
	"lithos/internal/standin"
	"lithos/internal/store"
	"lithos/internal/store/gen"
	"lithos/internal/view"
	"lithos/internal/work"
)

// exec runs a statement on the office's database.
func (o *office) exec(sql string, args ...any) {
	o.t.Helper()
	conn, err := pgx.Connect(o.t.Context(), o.url)
	require.NoError(o.t, err)
	defer conn.Close(context.Background())
	_, err = conn.Exec(o.t.Context(), sql, args...)
	require.NoError(o.t, err)
}

// pushUntil waits until the latest push of an order is as is wants it.
func (o *office) pushUntil(s *work.Service, id int64, what string, is func(*push.PushView) bool) *push.PushView {
	o.t.Helper()
	var v *work.OrderView
	require.Eventually(o.t, func() bool {
		var err error
		v, err = s.Order(o.t.Context(), id)
		return err == nil && v.Push != nil && is(v.Push)
	}, 2*time.Minute, 10*time.Millisecond, what)
	return v.Push
}

// unchanged asserts that every device holds, and would start with, what it held.
func (o *office) unchanged(before map[string]yang.Config) {
	o.t.Helper()
	for name, held := range before {
		assert.True(o.t, o.devices.ByID[name].Running().Equal(held), "%s runs what it held", name)
		assert.True(o.t, o.devices.ByID[name].Startup().Equal(held), "%s starts with what it held", name)
	}
}

// Twenty pushes at once to twenty sites, from two processes, one of them with four connections, while pages are served.
func TestAttackTwentyPushesAtOnce(t *testing.T) {
	t.Parallel()
	o := openAll(t)
	s, err := store.Open(context.Background(), o.url, 4)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	vault, err := accounts.OpenVault(o.key)
	require.NoError(t, err)
	w := work.New(s, vault, o.logger())
	w.Accounts.Outbound.Allowed = outbound.Loopback().Allowed
	var orders []int64
	var codes []string
	for i := range 20 {
		doc := renamed(t, "quill-street", fmt.Sprintf("q%02d", i))
		_, err := w.Sites.Import(t.Context(), doc, 0, "for the test")
		require.NoError(t, err)
		fabric := standin.NewFabric()
		for _, d := range doc.Devices {
			if d.Kind == site.L2Switch {
				continue
			}
			secrets := map[string]string{}
			for _, name := range doc.Secrets() {
				secrets[name] = "x"
				require.NoError(t, w.Accounts.KeepSecret(t.Context(), doc, name, "x"))
			}
			dev, err := standin.Start(standin.Config{
				Name: d.ID, Kind: d.Kind, Fabric: fabric, Initial: compile.Device(doc, d.ID), Account: "lithos",
				Password: "secret", Secrets: secrets,
			})
			require.NoError(t, err)
			t.Cleanup(dev.Close)
			access := device.Access{URL: dev.URL, Account: "lithos", Password: "secret", Fingerprint: dev.Fingerprint}
			require.NoError(t, w.Accounts.PutAccess(t.Context(), "a test", doc.ID, d.ID, access))
		}
		id, err := w.Drafts.OpenOrder(t.Context(), o.mk, doc.Code, "All at once", "")
		require.NoError(t, err)
		pool := entry("pool", strings.ReplaceAll("pool-quill-lab", "quill", fmt.Sprintf("q%02d", i)), "ranges",
			"100-120")
		_, err = w.Drafts.Edit(t.Context(), o.mk, id, pool, nil)
		require.NoError(t, err)
		_, err = w.Pushes.Rehearse(t.Context(), o.mk, id, 1)
		require.NoError(t, err)
		orders, codes = append(orders, id), append(codes, doc.Code)
	}
	run(t, w)
	o.process() // another carries some of them out
	var all sync.WaitGroup
	for _, id := range orders {
		all.Go(func() {
			_, err := w.Pushes.Push(t.Context(), o.mk, id, 1)
			assert.NoError(t, err)
		})
	}
	served := 0
	require.Eventually(t, func() bool {
		ended := 0
		for i, id := range orders {
			_, err := w.Page(t.Context(), codes[i], 0)
			require.NoError(t, err)
			served++
			v, err := w.Order(t.Context(), id)
			require.NoError(t, err)
			if v.Push != nil && v.Push.Finished != nil {
				ended++
				assert.Equal(t, "landed", v.Push.State, v.Push.Problem)
			}
		}
		return ended == len(orders)
	}, 4*time.Minute, 10*time.Millisecond)
	all.Wait()
	assert.Positive(t, served)
}

// renamed is a site of the scenario under another name.
func renamed(t *testing.T, name, as string) *site.Site {
	t.Helper()
	raw, err := site.Encode(scenario.Site(name))
	require.NoError(t, err)
	doc, err := site.Read(strings.NewReader(strings.ReplaceAll(string(raw), "quill", as)))
	require.NoError(t, err)
	return doc
}

// Text that one column keeps and another refuses never gets in.
func TestAttackControlCharactersGetIn(t *testing.T) {
	t.Parallel()
	o := open(t)
	var r *actor.Refusal
	_, err := o.Drafts.OpenOrder(t.Context(), o.mk, "kelder-bridge", "Ward\x00", "44\x1b71")
	require.ErrorAs(t, err, &r)
	require.Len(t, r.Fields, 2)
	assert.Equal(t, "The title holds a control character; leave it out.", r.Fields[0].Says)
	id := o.order()
	for _, bad := range []string{"Scans\x00", "Sc\x1bans", "Sc\nans", "Sc\u202eans", "Sc\xffans"} {
		_, err = o.Drafts.Edit(t.Context(), o.mk, id, entry("network", "net-imaging", "name", bad), nil)
		require.ErrorAs(t, err, &r, "%q", bad)
		assert.Equal(t, "entries[0].fields.name", r.Fields[0].Field)
	}
	raw, err := site.Encode(scenario.Site("kelder-bridge"))
	require.NoError(t, err)
	_, err = site.Read(bytes.NewReader(bytes.Replace(raw, []byte(`"name": "Imaging"`),
		[]byte(`"name": "Imag\u0000ing"`), 1)))
	assert.ErrorContains(t, err, "holds a control character")
}

// A revision that lands while a push is under way: a file is refused.
func TestAttackRevisionLandsDuringAPush(t *testing.T) {
	t.Parallel()
	o := open(t)
	run(t, o.Service)
	gw := o.devices.ByID["dev-gw-1"]
	id := o.order()
	o.bigger(id)
	gw.Inject(standin.Faults{HoldWrite: 1})
	require.NoError(t, o.pushAll(o.Service, id))
	newer := scenario.Site("kelder-bridge")
	newer.Name = "Kelder Bridge practice"
	_, err := o.Sites.Import(t.Context(), newer, o.jo.ID, "from a file")
	refusal(t, err, actor.Conflict, "a push to Kelder Bridge surgery is under way")
	gw.Inject(standin.Faults{Unreachable: true}) // ends the write that is held
	gw.Inject(standin.Faults{})
	assert.Equal(t, "landed", o.waitPush(o.Service, id).Push.State)
}

// A backup is restored over the database: nothing is pushed or read until it is
// released.
func TestAttackRestoredBackupPushes(t *testing.T) {
	t.Parallel()
	o := openAll(t)
	kill := run(t, o.Service)
	gw := o.devices.ByID["dev-gw-1"]
	id := o.order()
	o.bigger(id)
	gw.Inject(standin.Faults{HoldWrite: 2})
	require.NoError(t, o.pushAll(o.Service, id))
	o.pushUntil(o.Service, id, "the second step", func(p *push.PushView) bool { return len(p.Journal) == 4 })
	kill()
	gw.Inject(standin.Faults{})
	dump := filepath.Join(t.TempDir(), "dump")
	client(t, "pg_dump", "-Fc", "-f", dump, "-d", o.url)
	client(t, "pg_restore", "--clean", "--if-exists", "-d", o.url, dump)
	held := gw.Running()
	second, _ := o.another()
	run(t, second)
	since, err := second.Accounts.Holding(t.Context())
	require.NoError(t, err)
	require.NotNil(t, since)
	assert.Contains(t, since.Because, "was restored")
	other, err := second.Drafts.OpenOrder(t.Context(), o.mk, "quill-street", "After the restore", "")
	require.NoError(t, err)
	_, err = second.Drafts.Edit(t.Context(), o.mk, other, entry("pool", "pool-quill-lab", "ranges", "100-120"), nil)
	require.NoError(t, err)
	_, err = second.Pushes.Rehearse(t.Context(), o.mk, other, 1)
	require.NoError(t, err)
	_, err = second.Pushes.Push(t.Context(), o.mk, other, 1)
	refusal(t, err, actor.Conflict, "Pushes and readings are held")
	second.Poll.Observe(t.Context(), "site-kelder-bridge")
	assert.Contains(t, o.log.String(), "the devices of a site are not read")
	v, err := second.Order(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, "running", v.Push.State, "nobody has carried it on")
	assert.True(t, gw.Running().Equal(held))
	was, err := second.Accounts.ReleaseWork(t.Context(), "an administrator")
	require.NoError(t, err)
	assert.True(t, was)
	assert.Equal(t, "landed", o.waitPush(second, id).Push.State)
}

// client runs one of PostgreSQL's programs.
func client(t *testing.T, name string, args ...string) {
	t.Helper()
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/" + name)
	require.NoError(t, err)
	require.NotEmpty(t, found, name)
	out, err := exec.CommandContext(t.Context(), found[len(found)-1], args...).CombinedOutput()
	require.NoError(t, err, string(out))
}

// A missing key file is not made anew, and another key is not taken for the right one.
func TestAttackWrongKeyBecomesANewOne(t *testing.T) {
	t.Parallel()
	o := open(t)
	require.NoError(t, o.Accounts.UseKey(t.Context()))
	require.NoError(t, o.Accounts.UseKey(t.Context()))
	missing := filepath.Join(t.TempDir(), "key")
	_, err := accounts.OpenVault(missing)
	assert.ErrorContains(t, err, "there is no key file")
	_, err = os.Stat(missing)
	assert.ErrorIs(t, err, os.ErrNotExist)
	assert.ErrorContains(t, accounts.MakeKey(o.key), "file exists")
	require.NoError(t, accounts.MakeKey(missing))
	wrong := o.key
	o.key = missing
	stranger, s := o.another()
	o.key = wrong
	err = stranger.Accounts.UseKey(t.Context())
	assert.ErrorContains(t, err, "is not the one this database was used with")
	n, err := stranger.Accounts.ForgetKey(t.Context(), "an administrator")
	require.NoError(t, err)
	assert.Positive(t, n)
	require.NoError(t, stranger.Accounts.UseKey(t.Context()))
	left, err := s.CountSecrets(t.Context())
	require.NoError(t, err)
	assert.Zero(t, left)
	assert.Error(t, o.Accounts.UseKey(t.Context()), "the lost key is worth nothing now")
}

// A push that has no time for its ladder does not say that it verified.
func TestAttackLadderCutShortIsCalledVerified(t *testing.T) {
	t.Parallel()
	o := open(t)
	o.Pushes.Timing.ConfirmWithin = 10 * time.Second
	run(t, o.Service)
	id := o.order()
	o.edit(id, entry("pool", "pool-imaging", "ranges", "26-55"))
	o.devices.ByID["dev-gw-1"].Inject(standin.Faults{SlowWrite: 5500 * time.Millisecond})
	require.NoError(t, o.pushAll(o.Service, id))
	v := o.waitPush(o.Service, id)
	require.Equal(t, "landed", v.Push.State, v.Push.Problem)
	assert.Equal(t, "Pushed and landed, not all of it verified", v.Push.Title)
	require.Len(t, v.Push.Unverified, 1)
	assert.Equal(t, "Imaging", v.Push.Unverified[0].Name)
	assert.Contains(t, v.Push.Unverified[0].Why, "no time to climb")
	o.journalSays(v.Push, "skipped", "Imaging is not verified")
}

func (o *office) journalSays(p *push.PushView, state, says string) {
	o.t.Helper()
	for _, l := range p.Journal {
		if l.State == state && strings.Contains(l.Says, says) {
			return
		}
	}
	assert.Fail(o.t, "no such line in the journal", "%s %s in %v", state, says, p.Journal)
}

// An order none of whose devices is reached is done by hand, and says everywhere what nobody has proved, until
// somebody has seen to it.
func TestAttackNoDeviceReachedIsCalledVerified(t *testing.T) {
	t.Parallel()
	o := open(t)
	run(t, o.Service)
	o.exec("DELETE FROM device_access WHERE site_id = 'site-kelder-bridge'")
	id := o.order()
	o.edit(id, entry("pool", "pool-imaging", "ranges", "26-55"))
	require.NoError(t, o.pushAll(o.Service, id))
	o.tickAll(id)
	v := o.waitPush(o.Service, id)
	require.Equal(t, "landed", v.Push.State, v.Push.Problem)
	assert.Equal(t, "Done by hand and landed, not all of it verified", v.Push.Title)
	require.Len(t, v.Push.Unverified, 1)
	assert.Equal(t, "Imaging", v.Push.Unverified[0].Name)
	o.journalSays(v.Push, "skipped", "Not reached by Lithos")
	unverified := func() []string {
		history, err := o.Sites.History(t.Context(), "kelder-bridge")
		require.NoError(t, err)
		return history[0].Unverified
	}
	assert.Equal(t, []string{"Imaging not verified"}, unverified())
	require.NoError(t, o.Pushes.Verify(t.Context(), o.jo, id, 0))
	assert.Error(t, o.Pushes.Verify(t.Context(), o.mk, id, 0), "once")
	assert.Equal(t, []string{"Imaging verified by hand by Jo Arden"}, unverified())
	v, err := o.Order(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, "Done and verified by hand, and landed", v.Push.Title)
}

// What a draft adds is judged alike by its page, the tray and Push.
func TestAttackPageOffersWhatPushRefuses(t *testing.T) {
	t.Parallel()
	o := open(t)
	id := o.order()
	// Addresses of another surgery: only the surroundings know.
	o.edit(id, entry("network", "", "name", "Annexe", "prefix", "10.84.32.0/24", "vlan", "77"))
	v, err := o.Order(t.Context(), id)
	require.NoError(t, err)
	head := o.page("kelder-bridge", id).Head()
	across := slices.IndexFunc(v.Findings,
		func(f view.Finding) bool { return f.Rule == "networks-overlap-across-sites" })
	assert.GreaterOrEqual(t, across, 0)
	assert.Equal(t, head.Warning, v.Head.Warning)
	assert.Equal(t, head.Blocking, v.Head.Blocking)
	assert.NotEmpty(t, v.Findings)
	assert.Equal(t, v.Head.Refuses, head.Refuses)
	_, err = o.Pushes.Push(t.Context(), o.mk, id, o.version(id))
	require.Error(t, err)
	assert.Equal(t, v.Head.Refuses, err.Error(), "what is refused is what was said")
}

// A second wrong value on the same part is new, and blocks.
func TestAttackSecondMistakeOnTheSamePart(t *testing.T) {
	t.Parallel()
	o := open(t)
	bad := scenario.Site("kelder-bridge")
	r, ok := bad.Reservation("res-xray-plate")
	require.True(t, ok)
	r.Address = scenario.Outside // outside its network
	_, err := o.Sites.Import(t.Context(), bad, 0, "with a mistake")
	require.NoError(t, err)
	id := o.order()
	o.edit(id, entry("network", "net-imaging", "purpose", "x"))
	d, err := o.Drafts.Draft(t.Context(), id)
	require.NoError(t, err)
	assert.Zero(t, blocking(d), "the mistake was there before")
	o.edit(id, entry("reservation", "res-xray-plate", "address", "10.84.40.40"))
	d, err = o.Drafts.Draft(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, 1, blocking(d))
}

// A database that cannot be asked amid a push keeps it from going on, and sends no device back: it pauses, and goes on
// once the database allows, as at the confirm.
func Test51AHiccupOfTheDatabasePausesAPush(t *testing.T) {
	t.Parallel()
	o := open(t)
	run(t, o.Service)
	id := o.outside()
	gw := o.devices.ByID["dev-gw-1"]
	gw.Inject(standin.Faults{HoldWrite: 1})
	require.NoError(t, o.pushAll(o.Service, id))
	o.pushUntil(o.Service, id, "the first step", func(p *push.PushView) bool { return len(p.Journal) >= 3 })
	o.exec("ALTER TABLE secret RENAME TO secret_away")
	gw.Inject(standin.Faults{})
	require.Eventually(t, func() bool { return strings.Contains(o.log.String(), "secret") }, time.Minute,
		10*time.Millisecond, "the key of the zone cannot be read")
	o.exec("ALTER TABLE secret_away RENAME TO secret")
	v := o.waitPush(o.Service, id)
	assert.Equal(t, "landed", v.Push.State, v.Push.Problem)
	for _, l := range v.Push.Journal {
		assert.NotEqual(t, "return", l.Stage, "no device was sent back")
	}
	assert.Equal(t, "203.0.113.81", o.told("www", "A"))
}

// What a run writes of devices, and of what was not verified, names the run: one that has lost its hold changes
// nothing.
func Test52EveryWriteNamesTheRun(t *testing.T) {
	t.Parallel()
	o := open(t)
	run(t, o.Service)
	id := o.order()
	o.bigger(id)
	require.NoError(t, o.pushAll(o.Service, id))
	v := o.waitPush(o.Service, id)
	require.Equal(t, "landed", v.Push.State, v.Push.Problem)
	o.exec("UPDATE push SET held_by = 'mine'")
	ctx, q := t.Context(), o.Store.Queries
	for run, rows := range map[string]int64{"mine": 1, "another": 0} {
		n, err := q.SetPushDevice(ctx, gen.SetPushDeviceParams{PushID: v.Push.ID, DeviceID: "dev-gw-1",
			State: "confirmed",
			Run:   run})
		require.NoError(t, err)
		assert.Equal(t, rows, n, "the state of a device, %s", run)
		n, err = q.PutPushDevice(ctx, gen.PutPushDeviceParams{PushID: v.Push.ID, DeviceID: "dev-gw-1", Name: "gw-1",
			Before: []byte("{}"), Run: run})
		require.NoError(t, err)
		assert.Equal(t, rows, n, "what a device held, %s", run)
		n, err = q.PutUnverified(ctx, gen.PutUnverifiedParams{PushID: v.Push.ID, Name: "x", Why: "y", Run: run})
		require.NoError(t, err)
		assert.Equal(t, rows, n, "what was not verified, %s", run)
		n, err = q.ForgetUnverified(ctx, gen.ForgetUnverifiedParams{PushID: v.Push.ID, Run: run})
		require.NoError(t, err)
		assert.Equal(t, rows, n, "what is verified anew, %s", run)
	}
}
