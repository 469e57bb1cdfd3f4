package demotest

import (
	"bytes"
	"context"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lithos/core/check"
	"lithos/core/edit"
	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/internal/accounts"
	"lithos/internal/accounts/accountstest"
	"lithos/internal/actor"
	"lithos/internal/demo"
	"lithos/internal/draft"
	"lithos/internal/outbound"
	"lithos/internal/postgres/pgtest"
	"lithos/internal/push"
	"lithos/internal/standin"
	"lithos/internal/store"
	"lithos/internal/work"
)

// Desk is the use cases with one site, its devices and two technicians, without HTTP and without background jobs: what
// the tests of one use case need.
type Desk struct {
	testing.TB
	*work.Service
	URL     string // of the database
	Vault   *accounts.Vault
	Doc     *site.Site
	Devices map[string]*standin.Device // by id
	MK, Jo  actor.Technician
}

// JoPassword is the password of the second technician.
const JoPassword = "thistle-canal-lantern"

// NewDesk brings in a site of the scenario. It needs pgtest.Main in the package's TestMain.
func NewDesk(t testing.TB, code string) *Desk {
	t.Helper()
	d := &Desk{TB: t, URL: pgtest.Database(t), Vault: Vault(t), Doc: scenario.Site(code)}
	d.Doc.Following = nil // outside names need the small internet
	d.Service = d.Another()
	accountstest.Account(t, d.Store, demo.Account, demo.FullName, demo.Password)
	accountstest.Account(t, d.Store, "jo", "Jo Arden", JoPassword)
	d.MK, d.Jo = d.SignIn(demo.Account, demo.Password), d.SignIn("jo", JoPassword)
	for name, password := range scenario.Passwords[d.Doc.ID] {
		require.NoError(t, d.Accounts.KeepSecret(t.Context(), d.Doc, name, password))
	}
	d.Devices = StandIns(t, d.Service, d.Doc)
	return d
}

// Twin brings in another site of the same customer with its devices. It is laid out like Quill Street, which the desk
// must have, and has other ids and addresses.
func (d *Desk) Twin() *site.Site {
	d.Helper()
	raw, err := site.Encode(d.Doc)
	require.NoError(d, err)
	text := strings.NewReplacer("-quill", "-thrush", "quill-street", "thrush-lane", "10.7.", "10.9.", "quill.home.arpa",
		"thrush.home.arpa", "7.10.in-addr", "9.10.in-addr", "Quill Street home", "Thrush Lane home", "rt-quill",
		"rt-thrush").Replace(string(raw))
	doc, err := site.Read(strings.NewReader(strings.ReplaceAll(text, "cust-thrush", "cust-quill")))
	require.NoError(d, err)
	maps.Copy(d.Devices, StandIns(d.TB, d.Service, doc))
	return doc
}

// Another is one more process on the same database.
func (d *Desk) Another() *work.Service {
	d.Helper()
	s, err := store.Open(context.Background(), d.URL, 0)
	require.NoError(d, err)
	d.Cleanup(s.Close)
	w := work.New(s, d.Vault, slog.New(slog.DiscardHandler))
	w.Accounts.Outbound.Allowed = outbound.Loopback().Allowed // where the devices run
	return w
}

// SignIn gives the technician of an account.
func (d *Desk) SignIn(name, password string) actor.Technician {
	d.Helper()
	t, _, err := d.Accounts.SignIn(d.Context(), accounts.Attempt{Name: name, Password: password, Source: "test"})
	require.NoError(d, err)
	return t
}

// RunJobs works on background jobs until the test ends. Devices are read when a test says so.
func (d *Desk) RunJobs() {
	d.Helper()
	ctx, stop := context.WithCancel(context.Background())
	require.NoError(d, d.Run(ctx, time.Hour))
	d.Cleanup(func() {
		stop()
		d.Stopped()
	})
}

// Revise makes another revision of the site, as if somebody had landed it.
func (d *Desk) Revise(change func(*site.Site)) {
	d.Helper()
	now, err := d.Sites.Export(d.Context(), d.Doc.Code)
	require.NoError(d, err)
	raw, err := site.Encode(now) // what is exported is shared, and is not to be changed
	require.NoError(d, err)
	doc, err := site.Read(bytes.NewReader(raw))
	require.NoError(d, err)
	change(doc)
	row, err := d.Store.Site(d.Context(), d.Doc.Code)
	require.NoError(d, err)
	made, err := d.Sites.Import(d.Context(), doc, 0, "meanwhile")
	require.NoError(d, err)
	require.Equal(d, row.Head+1, made)
}

// Order opens a work order.
func (d *Desk) Order() int64 {
	d.Helper()
	id, err := d.Drafts.OpenOrder(d.Context(), d.MK, d.Doc.Code, "Refit", "4471")
	require.NoError(d, err)
	return id
}

// Draft is an order's draft as it stands.
func (d *Desk) Draft(id int64) *site.Site {
	d.Helper()
	now, err := d.Drafts.Draft(d.Context(), id)
	require.NoError(d, err)
	return now.Doc()
}

// Version is the version of an order's draft.
func (d *Desk) Version(id int64) int32 {
	d.Helper()
	now, err := d.Drafts.Draft(d.Context(), id)
	require.NoError(d, err)
	return now.Order.Version
}

// Entry is the change that a form with some fields makes; of a new part where id is empty.
func Entry(kind, id string, fields ...string) draft.Change {
	e := edit.Entry{Kind: kind, ID: id, New: id == "", Fields: map[string]string{}}
	for i := 0; i < len(fields); i += 2 {
		e.Fields[fields[i]] = fields[i+1]
	}
	return draft.Change{Entries: []edit.Entry{e}}
}

// Edit makes a change at the draft's present version.
func (d *Desk) Edit(id int64, c draft.Change) {
	d.Helper()
	c.Version = d.Version(id)
	_, err := d.Drafts.Edit(d.Context(), d.MK, id, c, nil)
	require.NoError(d, err)
}

// Fix takes the fix of the first finding of a rule.
func (d *Desk) Fix(id int64, rule string) {
	d.Helper()
	now, err := d.Drafts.Draft(d.Context(), id)
	require.NoError(d, err)
	at := slices.IndexFunc(now.Scene.Findings, func(f check.Finding) bool { return f.Rule == rule })
	require.GreaterOrEqual(d, at, 0, rule)
	d.Edit(id, draft.Change{Fix: now.Scene.Findings[at].ID})
}

// Rehearse rehearses the draft as it stands.
func (d *Desk) Rehearse(id int64) *push.Rehearsed {
	d.Helper()
	r, err := d.Pushes.Rehearse(d.Context(), d.MK, id, d.Version(id))
	require.NoError(d, err)
	return r
}

// Push rehearses and pushes an order, and waits until that has ended or waits for somebody.
func (d *Desk) Push(id int64) *push.PushView {
	d.Helper()
	d.Rehearse(id)
	_, err := d.Pushes.Push(d.Context(), d.MK, id, d.Version(id))
	require.NoError(d, err)
	return d.Ended(id)
}

// Ended waits until the latest push of an order has ended.
func (d *Desk) Ended(id int64) (v *push.PushView) {
	d.Helper()
	require.Eventually(d, func() bool {
		var err error
		v, err = d.Pushes.Latest(d.Context(), id)
		require.NoError(d, err)
		return v != nil && (v.State == "landed" || v.State == "failed")
	}, time.Minute, 5*time.Millisecond)
	return v
}

// Refused requires an error to be a refusal of a kind that says something.
func Refused(t testing.TB, err error, kind actor.Kind, says string) {
	t.Helper()
	var r *actor.Refusal
	require.ErrorAs(t, err, &r)
	require.Equal(t, kind, r.Kind, r.Says)
	require.Contains(t, r.Says, says)
}
