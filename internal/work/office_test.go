package work_test

import (
	"bytes"
	"context"
	"flag"
	"log/slog"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/internal/accounts"
	"lithos/internal/accounts/accountstest"
	"lithos/internal/actor"
	"lithos/internal/demo"
	"lithos/internal/draft"
	"lithos/internal/order"
	"lithos/internal/outbound"
	"lithos/internal/postgres/pgtest"
	"lithos/internal/store"
	"lithos/internal/view"
	"lithos/internal/work"
)

// The tests here wait more than they compute: for devices that are silent, for a timed return. Twice as many go on at
// once as there are processors, unless -parallel says otherwise.
func TestMain(m *testing.M) {
	_ = flag.Set("test.parallel", strconv.Itoa(2*runtime.GOMAXPROCS(0)))
	pgtest.Main(m, store.Migrate)
}

// page reads the page of a site, or of what an order makes of it.
func (o *office) page(code string, id int64) *view.Page {
	o.t.Helper()
	p, err := o.Page(o.t.Context(), code, id)
	require.NoError(o.t, err)
	return p
}

// blocking counts the findings a draft brings in that keep it from being pushed.
func blocking(d *order.Draft) int {
	n := 0
	for _, f := range d.Added() {
		if f.Severity == check.Blocks {
			n++
		}
	}
	return n
}

// office is a service with the demonstration on it, and two technicians.
type office struct {
	*work.Service
	t        testing.TB
	url, key string
	log      *safeBuffer
	devices  *demo.Devices
	mk, jo   actor.Technician
}

// open has the sites that most tests are about.
func open(t testing.TB) *office { return openWith(t, "kelder-bridge", "hallin-road", "moss-end") }

// openAll has all sites of the demonstration.
func openAll(t testing.TB) *office { return openWith(t, scenario.Names...) }

func openWith(t testing.TB, sites ...string) *office {
	t.Helper()
	o := &office{t: t, url: pgtest.Database(t), key: filepath.Join(t.TempDir(), "key"), log: &safeBuffer{}}
	require.NoError(t, accounts.MakeKey(o.key))
	var kept *store.Store
	o.Service, kept = o.another()
	accountstest.Account(t, kept, demo.Account, demo.FullName, demo.Password)
	accountstest.Account(t, kept, "jo", "Jo Arden", joPassword)
	var err error
	o.devices, err = demo.Start(t.Context(), o.Service, demo.Options{Sites: sites})
	require.NoError(t, err)
	t.Cleanup(o.devices.Close)
	o.mk, err = o.signIn("mk", demo.Password, "test")
	require.NoError(t, err)
	o.jo, err = o.signIn("jo", joPassword, "test")
	require.NoError(t, err)
	return o
}

const joPassword = "thistle-canal-lantern"

func (o *office) signIn(name, password, source string) (actor.Technician, error) {
	t, _, err := o.Accounts.SignIn(o.t.Context(), accounts.Attempt{Name: name, Password: password, Source: source})
	return t, err
}

// safeBuffer is a log that several goroutines write.
type safeBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *safeBuffer) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *safeBuffer) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

func (o *office) logger() *slog.Logger { return slog.New(slog.NewTextHandler(o.log, nil)) }

// another is one more process on the same database.
func (o *office) another() (*work.Service, *store.Store) {
	o.t.Helper()
	s, err := store.Open(context.Background(), o.url, 0)
	require.NoError(o.t, err)
	o.t.Cleanup(s.Close)
	vault, err := accounts.OpenVault(o.key)
	require.NoError(o.t, err)
	w := work.New(s, vault, o.logger())
	w.Accounts.Outbound.Allowed = outbound.Loopback().Allowed // where the devices run
	return w, s
}

// run works on the background jobs until the returned function is called.
func run(t testing.TB, s *work.Service) (stop func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	require.NoError(t, s.Run(ctx, time.Hour))
	var once sync.Once
	stop = func() { once.Do(func() { cancel(); s.Stopped() }) }
	t.Cleanup(stop)
	return stop
}

func (o *office) order() int64 {
	o.t.Helper()
	id, err := o.Drafts.OpenOrder(o.t.Context(), o.mk, "kelder-bridge", "Imaging room refit", "4471")
	require.NoError(o.t, err)
	return id
}

func (o *office) version(id int64) int32 {
	o.t.Helper()
	d, err := o.Drafts.Draft(o.t.Context(), id)
	require.NoError(o.t, err)
	return d.Order.Version
}

func entry(kind, id string, fields ...string) draft.Change {
	e := edit.Entry{Kind: kind, ID: id, New: id == "", Fields: map[string]string{}}
	for i := 0; i < len(fields); i += 2 {
		e.Fields[fields[i]] = fields[i+1]
	}
	return draft.Change{Entries: []edit.Entry{e}}
}

// fix takes the fix of the first finding of a rule.
func (o *office) fix(id int64, rule string) {
	o.t.Helper()
	d, err := o.Drafts.Draft(o.t.Context(), id)
	require.NoError(o.t, err)
	at := slices.IndexFunc(d.Scene.Findings, func(f check.Finding) bool { return f.Rule == rule })
	require.GreaterOrEqual(o.t, at, 0, rule)
	o.edit(id, draft.Change{Fix: d.Scene.Findings[at].ID})
}

// edit makes a change at the draft's present version.
func (o *office) edit(id int64, c draft.Change) {
	o.t.Helper()
	c.Version = o.version(id)
	_, err := o.Drafts.Edit(o.t.Context(), o.mk, id, c, nil)
	require.NoError(o.t, err)
}

func refusal(t *testing.T, err error, kind actor.Kind, says string) {
	t.Helper()
	var r *actor.Refusal
	require.ErrorAs(t, err, &r)
	assert.Equal(t, kind, r.Kind, r.Says)
	assert.Contains(t, r.Says, says)
}

// waitPush waits until the push of an order has ended.
func (o *office) waitPush(s *work.Service, id int64) *work.OrderView {
	o.t.Helper()
	var v *work.OrderView
	require.Eventually(o.t, func() bool {
		d, err := o.Drafts.Draft(o.t.Context(), id) // less than the page of the order
		require.NoError(o.t, err)
		if d.Order.State == "pushing" {
			return false
		}
		v, err = s.Order(o.t.Context(), id)
		require.NoError(o.t, err)
		return v.Push != nil && v.Push.Finished != nil && v.Head.State != "pushing"
	}, 2*time.Minute, 10*time.Millisecond)
	return v
}

func (o *office) pushAll(s *work.Service, id int64) error {
	o.t.Helper()
	_, err := s.Pushes.Rehearse(o.t.Context(), o.mk, id, o.version(id))
	require.NoError(o.t, err)
	_, err = s.Pushes.Push(o.t.Context(), o.mk, id, o.version(id))
	return err
}

// bigger gives Imaging a larger prefix: pools and interfaces must move.
func (o *office) bigger(id int64) {
	o.edit(id, entry("network", "net-imaging", "prefix", "10.84.20.0/25"))
	o.fix(id, "interface-mask-differs")
}
