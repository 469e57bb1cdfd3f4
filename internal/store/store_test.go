package store_test

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/scenario"
	"lithos/core/site"
	"lithos/internal/postgres/pgtest"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Migrate) }

func open(t *testing.T) *store.Store {
	t.Helper()
	s, err := store.Open(context.Background(), pgtest.Database(t), 0)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func add(t *testing.T, s *store.Store, doc *site.Site) {
	t.Helper()
	require.NoError(t, s.InTx(t.Context(), func(q *gen.Queries, _ pgx.Tx) error {
		return store.AddSite(t.Context(), q, doc, store.Author{Note: "first"})
	}))
}

func revise(t *testing.T, s *store.Store, doc *site.Site, head int32) error {
	t.Helper()
	return s.InTx(t.Context(), func(q *gen.Queries, _ pgx.Tx) error {
		return store.AddRevision(t.Context(), q, doc, head, store.Author{Note: "next"})
	})
}

func TestRevisionsComeBackByteForByte(t *testing.T) {
	s := open(t)
	for _, name := range scenario.Names {
		doc := scenario.Site(name)
		add(t, s, doc)
		back, err := s.Revision(t.Context(), doc.ID, 1)
		require.NoError(t, err)
		want, err := site.Encode(doc)
		require.NoError(t, err)
		got, err := site.Encode(back)
		require.NoError(t, err)
		assert.Equal(t, string(want), string(got))
	}
	_, err := s.Revision(t.Context(), "site-kelder-bridge", 9)
	assert.ErrorIs(t, err, store.ErrNotFound)
}

func TestOneHeadRevision(t *testing.T) {
	s := open(t)
	doc := scenario.Site("quill-street")
	add(t, s, doc)
	// Ten at once, all on revision 1: one lands.
	var wg sync.WaitGroup
	landed := make(chan error, 10)
	for range 10 {
		wg.Go(func() { landed <- revise(t, s, doc, 1) })
	}
	wg.Wait()
	close(landed)
	ok := 0
	for err := range landed {
		if err == nil {
			ok++
		} else {
			assert.ErrorIs(t, err, store.ErrMoved)
		}
	}
	assert.Equal(t, 1, ok)
	row, err := s.SiteByID(t.Context(), doc.ID)
	require.NoError(t, err)
	assert.Equal(t, int32(2), row.Head)

	_, err = s.Pool.Exec(t.Context(), "UPDATE site SET head = 7 WHERE id = $1", doc.ID)
	assert.ErrorContains(t, err, "site_head", "the head is a revision that exists")
	err = s.InTx(t.Context(), func(q *gen.Queries, _ pgx.Tx) error {
		return store.AddSite(t.Context(), q, doc, store.Author{})
	})
	assert.Error(t, err, "a site is added once")
}

func TestProjectionsFollowTheHead(t *testing.T) {
	s := open(t)
	doc := scenario.Site("kelder-bridge")
	add(t, s, doc)
	ctx := t.Context()
	at := func(a string) []gen.FindOwnersRow {
		rows, err := s.FindOwners(ctx, gen.FindOwnersParams{Address: a})
		require.NoError(t, err)
		return rows
	}
	assert.Len(t, at("10.84.18.57"), 2)
	r, ok := doc.Reservation("res-xray-plate")
	require.True(t, ok)
	r.Address = netip.MustParseAddr("10.84.18.61")
	n, _ := doc.Network("net-imaging")
	n.Name = "Scans and pictures"
	require.NoError(t, revise(t, s, doc, 1))
	assert.Len(t, at("10.84.18.57"), 1)
	assert.Equal(t, "xray-plate", at("10.84.18.61")[0].Name)
	byMAC, err := s.FindOwners(ctx, gen.FindOwnersParams{Mac: strings.ReplaceAll(r.MAC.String(), ":", "")})
	require.NoError(t, err)
	require.Len(t, byMAC, 1)
	assert.Equal(t, "net-clinic", byMAC[0].Network)
	byName, err := s.FindNetworksByName(ctx, "%pictures")
	require.NoError(t, err)
	assert.Len(t, byName, 1)
	inside, err := s.FindPrefixes(ctx, netip.MustParseAddr("10.84.19.9"))
	require.NoError(t, err)
	require.Len(t, inside, 1)
	assert.Equal(t, "10.84.18.0/23", inside[0].Prefix.String())
	vlans, err := s.FindByVLAN(ctx, 48)
	require.NoError(t, err)
	assert.Len(t, vlans, 1)

	// A projection that fails takes its revision along.
	doc.Networks[0].Name = "never seen"
	err = s.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		return errors.Join(store.AddRevision(ctx, q, doc, 2, store.Author{}), errors.New("killed here"))
	})
	require.ErrorContains(t, err, "killed here")
	byName, err = s.FindNetworksByName(ctx, "%never seen%")
	require.NoError(t, err)
	assert.Empty(t, byName)
}

func TestOnePushASite(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	doc := scenario.Site("kelder-bridge")
	add(t, s, doc)
	who, err := s.PutTechnician(ctx, gen.PutTechnicianParams{Name: "mk", FullName: "Maren Kolb", PasswordHash: "x"})
	require.NoError(t, err)
	order, err := s.OpenOrder(ctx, gen.OpenOrderParams{Title: "T", OpenedBy: who.ID, SiteID: doc.ID})
	require.NoError(t, err)
	start := func() (int64, error) {
		return s.StartPush(ctx, gen.StartPushParams{OrderID: order, SiteID: doc.ID, StartedBy: who.ID})
	}
	first, err := start()
	require.NoError(t, err)
	_, err = start()
	assert.True(t, store.IsDuplicate(err, "push_one_a_site"))
	row, err := s.HoldPush(ctx, gen.HoldPushParams{ID: first, Run: "one", Seconds: 60})
	require.NoError(t, err)
	assert.Equal(t, "one", row.HeldBy)
	_, err = store.Found(s.HoldPush(ctx, gen.HoldPushParams{ID: first, Run: "two", Seconds: 60}))
	assert.ErrorIs(t, err, store.ErrNotFound, "one run at a time holds it")
	write := func(run, state string) int64 {
		n, err := s.WriteJournal(ctx,
			gen.WriteJournalParams{PushID: first, Run: run, Device: "gw-1", Stage: "step", Says: "Serve", State: state})
		require.NoError(t, err)
		return n
	}
	assert.Equal(t, []int64{1, 1, 0}, []int64{write("one", "running"), write("one", "done"), write("two", "done")},
		"only the run that holds it writes")
	_, err = s.CloseJournal(ctx, gen.CloseJournalParams{PushID: first, Run: "one", State: "failed", Detail: ": cut"})
	require.NoError(t, err)
	lines, err := s.Journal(ctx, first)
	require.NoError(t, err)
	require.Len(t, lines, 2)
	assert.Equal(t, "failed Serve: cut", lines[0].State+" "+lines[0].Says)
	assert.Equal(t, "done Serve", lines[1].State+" "+lines[1].Says)
	move := func(run, state string, expected ...string) int64 {
		n, err := s.MovePush(ctx,
			gen.MovePushParams{ID: first, Run: run, State: state, Problem: "p", Expected: expected})
		require.NoError(t, err)
		return n
	}
	assert.Zero(t, move("one", "landed", "landing"), "a state that is not there is not left")
	assert.Zero(t, move("two", "failed", "queued"))
	assert.Equal(t, int64(1), move("one", "failed", "queued"))
	_, err = start()
	assert.NoError(t, err, "a push that has ended makes room")
	_, err = s.Pool.Exec(ctx, "UPDATE push SET state = 'dancing'")
	assert.Error(t, err)
}

func TestSightingsKeepWhenTheyWereFirstSeen(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	add(t, s, scenario.Site("quill-street"))
	see := func(mac byte, at time.Time) gen.Sighting {
		row := gen.PutSightingParams{SiteID: "site-quill-street", DeviceID: "d", Source: "lease",
			Address: netip.MustParseAddr("10.7.7.100"),
			Mac:     net.HardwareAddr{0, 0, 0x5e, 0, 0x53, mac}, ClientID: []byte{}, State: "bound", Last: at}
		results := s.PutSighting(ctx, []gen.PutSightingParams{row})
		results.Exec(func(_ int, err error) { require.NoError(t, err) })
		ended := s.SupersedeLease(ctx,
			[]gen.SupersedeLeaseParams{{SiteID: row.SiteID, DeviceID: row.DeviceID, Address: row.Address,
				Mac: row.Mac}})
		ended.Exec(func(_ int, err error) { require.NoError(t, err) })
		rows, err := s.SightingsOfSite(ctx, "site-quill-street")
		require.NoError(t, err)
		i := slices.IndexFunc(rows, func(r gen.Sighting) bool { return r.Mac[5] == mac })
		require.GreaterOrEqual(t, i, 0)
		for k, r := range rows {
			assert.Equal(t, map[bool]string{true: "bound", false: "expired"}[k == i], r.State,
				"an address has one lease")
		}
		return rows[i]
	}
	start := time.Date(2026, 11, 23, 21, 0, 0, 0, time.UTC)
	see(1, start)
	again := see(1, start.Add(time.Hour))
	assert.True(t, again.First.Equal(start))
	assert.True(t, again.Last.Equal(start.Add(time.Hour)))
	other := see(2, start.Add(2*time.Hour))
	assert.True(t, other.First.Equal(start.Add(2*time.Hour)),
		"another client at the address is seen for the first time")
}

func TestNotificationsAreHeard(t *testing.T) {
	s := open(t)
	ctx, cancel := context.WithCancel(t.Context())
	heard := make(chan string)
	ended := make(chan error, 1)
	go func() {
		ended <- s.Listen(ctx, func() {}, func(payload string) {
			select {
			case heard <- payload:
			case <-ctx.Done():
			}
		})
	}()
	go func() { // until the listener is there
		for ctx.Err() == nil {
			_ = s.Notify(ctx, "hello")
		}
	}()
	assert.Equal(t, "hello", <-heard)
	cancel()
	assert.ErrorIs(t, <-ended, context.Canceled)
}

func TestSeveralProcessesMigrateAtOnce(t *testing.T) {
	url := pgtest.Database(t)
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() { assert.NoError(t, store.Migrate(context.Background(), url)) })
	}
	wg.Wait()
	_, err := store.Open(t.Context(), "postgres://nobody@127.0.0.1:1/none", 0)
	assert.ErrorContains(t, err, "connect to PostgreSQL")
}

// What a snapshot reads stays as it was when it began, whatever is written meanwhile; it writes nothing itself.
func TestSnapshotStaysAsItWas(t *testing.T) {
	s := open(t)
	kelder := scenario.Site("kelder-bridge")
	add(t, s, kelder)
	name := func(into *string) func(pgx.Row) error { return func(r pgx.Row) error { return r.Scan(into) } }
	const read = "SELECT name FROM site WHERE code = $1"
	var before, after string
	// Between its two readings it waits for a lock that another connection has, which writes meanwhile.
	other, err := s.Pool.Acquire(t.Context())
	require.NoError(t, err)
	defer other.Release()
	do := func(sql string, args ...any) {
		_, err := other.Exec(t.Context(), sql, args...)
		require.NoError(t, err)
	}
	do("SELECT pg_advisory_lock(77)")
	done := make(chan error, 1)
	go func() {
		done <- s.Snapshot(t.Context(), func(batch *pgx.Batch) {
			batch.Queue(read, kelder.Code).QueryRow(name(&before))
			batch.Queue("SELECT pg_advisory_xact_lock_shared(77)")
			batch.Queue(read, kelder.Code).QueryRow(name(&after))
		})
	}()
	require.Eventually(t, func() (waits bool) {
		const sql = "SELECT EXISTS (SELECT FROM pg_locks WHERE locktype = 'advisory' AND objid = 77 AND NOT granted)"
		return s.Pool.QueryRow(t.Context(), sql).Scan(&waits) == nil && waits
	}, 10*time.Second, 10*time.Millisecond)
	do("UPDATE site SET name = 'Another' WHERE code = $1", kelder.Code)
	do("SELECT pg_advisory_unlock(77)")
	require.NoError(t, <-done)
	assert.Equal(t, kelder.Name, before)
	assert.Equal(t, before, after)
	err = s.Snapshot(t.Context(), func(batch *pgx.Batch) { batch.Queue("UPDATE site SET name = 'A third'") })
	require.ErrorContains(t, err, "read-only")
	row, err := s.SiteByCode(t.Context(), kelder.Code)
	require.NoError(t, err, "the connection of the one that failed is not used again")
	assert.Equal(t, "Another", row.Name)
}
