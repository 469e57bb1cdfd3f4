package work_test

// The longest tests stand in the first file, so that others run beside them from the start.

import (
	"context"
	"fmt"
	"io"
	"maps"
	"net"
	"net/url"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/yang"
	"lithos/internal/accounts"
	"lithos/internal/device"
	"lithos/internal/order"
	"lithos/internal/outbound"
	"lithos/internal/store"
	"lithos/internal/work"
)

// gate stops whoever writes of a push at one of its writes, until it is opened. What it stops at is counted, or named
// by the journal's stage and device.
type gate struct {
	o    *office
	conn *pgx.Conn
}

const gateSQL = `
CREATE SEQUENCE gate_count;
CREATE TABLE gate (at bigint NOT NULL, stage text NOT NULL, device text NOT NULL);
INSERT INTO gate VALUES (0, '', '');
CREATE FUNCTION gate_stops() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE g gate; n bigint;
BEGIN
    SELECT * INTO g FROM gate;
    IF g.at > 0 THEN
        n := nextval('gate_count');
        IF n = g.at THEN PERFORM pg_advisory_xact_lock(4711); END IF;
    END IF;
    IF g.stage <> '' AND TG_TABLE_NAME = 'push_journal' AND TG_OP = 'INSERT' THEN
        IF NEW.stage = g.stage AND NEW.device = g.device THEN PERFORM pg_advisory_xact_lock(4711); END IF;
    END IF;
    RETURN NEW;
END $$;
CREATE TRIGGER gate BEFORE INSERT OR UPDATE ON push_journal FOR EACH ROW EXECUTE FUNCTION gate_stops();
CREATE TRIGGER gate BEFORE INSERT OR UPDATE ON push_device FOR EACH ROW EXECUTE FUNCTION gate_stops();
CREATE TRIGGER gate BEFORE INSERT ON site_revision FOR EACH ROW EXECUTE FUNCTION gate_stops();
CREATE TRIGGER gate BEFORE UPDATE OF state ON push FOR EACH ROW EXECUTE FUNCTION gate_stops();`

func (o *office) gate() *gate {
	o.t.Helper()
	conn, err := pgx.Connect(o.t.Context(), o.url)
	require.NoError(o.t, err)
	o.t.Cleanup(func() { _ = conn.Close(context.Background()) })
	g := &gate{o, conn}
	g.do(gateSQL)
	return g
}

func (g *gate) do(sql string, args ...any) {
	g.o.t.Helper()
	_, err := g.conn.Exec(g.o.t.Context(), sql, args...)
	require.NoError(g.o.t, err)
}

// close stops at the nth write from now, or at the first line of a stage on a device.
func (g *gate) close(n int, stage, device string) {
	g.do("SELECT setval('gate_count', 1, false)")
	g.do("SELECT pg_advisory_lock(4711)")
	g.do("UPDATE gate SET at = $1, stage = $2, device = $3", n, stage, device)
}

// open lets everybody through from now on.
func (g *gate) open() {
	g.do("UPDATE gate SET at = 0, stage = '', device = ''")
	g.do("SELECT pg_advisory_unlock(4711)")
}

// reached waits until somebody stands at the gate, or a push has ended without coming to it.
func (g *gate) reached(id int64) bool {
	g.o.t.Helper()
	stands := false
	require.Eventually(g.o.t, func() bool {
		var ended bool
		err := g.conn.QueryRow(g.o.t.Context(), `SELECT
			EXISTS (SELECT FROM pg_locks WHERE locktype = 'advisory' AND objid = 4711 AND NOT granted AND database =
				(SELECT oid FROM pg_database WHERE datname = current_database())),
			NOT EXISTS (SELECT FROM push WHERE order_id = $1 AND finished_at IS NULL)`, id).Scan(&stands, &ended)
		require.NoError(g.o.t, err)
		return stands || ended
	}, time.Minute, 5*time.Millisecond)
	return stands
}

// cable is the way of one process to PostgreSQL, which can be cut.
type cable struct {
	net.Listener
	mu    sync.Mutex
	conns []net.Conn
	cut   bool
}

func (o *office) cable() (*cable, string) {
	o.t.Helper()
	config, err := pgx.ParseConfig(o.url)
	require.NoError(o.t, err)
	at, err := url.Parse(o.url)
	require.NoError(o.t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(o.t, err)
	c := &cable{Listener: listener}
	go func() {
		for {
			near, err := listener.Accept()
			if err != nil {
				return
			}
			network, address := "tcp", fmt.Sprintf("%s:%d", config.Host, config.Port)
			if config.Host[0] == '/' {
				network, address = "unix", fmt.Sprintf("%s/.s.PGSQL.%d", config.Host, config.Port)
			}
			far, err := net.Dial(network, address)
			if err != nil || !c.keep(near, far) {
				_ = near.Close()
				continue
			}
			go func() { _, _ = io.Copy(far, near) }()
			go func() { _, _ = io.Copy(near, far) }()
		}
	}()
	o.t.Cleanup(c.kill)
	at.Host = listener.Addr().String()
	query := at.Query()
	query.Del("host")
	query.Del("port")
	query.Set("sslmode", "disable")
	query.Set("application_name", "process")
	at.RawQuery = query.Encode()
	return c, at.String()
}

func (c *cable) keep(conns ...net.Conn) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.conns = append(c.conns, conns...)
	return !c.cut
}

func (c *cable) kill() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.cut = true
	_ = c.Listener.Close()
	for _, one := range c.conns {
		_ = one.Close()
	}
}

// process is one that carries out pushes until it is killed: it writes nothing any more then, and asks no device.
func (o *office) process() (w *work.Service, kill func()) {
	o.t.Helper()
	c, at := o.cable()
	s, err := store.Open(context.Background(), at, 8)
	require.NoError(o.t, err)
	vault, err := accounts.OpenVault(o.key)
	require.NoError(o.t, err)
	w = work.New(s, vault, o.logger())
	w.Accounts.Outbound.Allowed = outbound.Loopback().Allowed
	w.Pushes.Timing = o.Pushes.Timing
	ctx, cancel := context.WithCancel(context.Background())
	require.NoError(o.t, w.Run(ctx, time.Hour))
	var once sync.Once
	kill = func() {
		once.Do(func() {
			c.kill()
			cancel()
			go s.Close() // it waits for what cannot answer any more
		})
	}
	o.t.Cleanup(kill)
	return w, kill
}

// tidies puts what a killed process leaves to time out in its final state: its connections and its hold.
func (g *gate) tidies() {
	g.do(`SELECT pg_terminate_backend(l.pid) FROM pg_locks l WHERE l.locktype = 'advisory' AND l.objid = 4711
		AND NOT l.granted
		AND l.database = (SELECT oid FROM pg_database WHERE datname = current_database())`)
	g.open()
	g.do("UPDATE push SET held_until = 'epoch' WHERE finished_at IS NULL")
}

// flips is a draft at Moss End that changes its server, its switch and its firewall, there and back by turns.
func (o *office) flips(times int) int64 {
	o.t.Helper()
	id := o.at("moss-end")
	last, ward, inside := "170", "dhcp, dns, ping", "dns, ping"
	if times%2 == 1 {
		last, ward, inside = "160", "dhcp, dns", "dns, ping, ntp"
	}
	o.edit(id, entry("pool", "pool-moss-kennels", "ranges", "60-"+last))
	o.edit(id, interfaceOf("dev-moss-sw", "if-moss-sw-v70", "relayTo", "10.84.48.10", "permits", ward))
	o.edit(id, interfaceOf("dev-moss-gw", "if-moss-in", "permits", inside))
	return id
}

var moss = []string{"dev-moss-srv", "dev-moss-sw", "dev-moss-gw"}

func (o *office) held() map[string]yang.Config {
	out := map[string]yang.Config{}
	for _, name := range moss {
		out[name] = o.devices.ByID[name].Running()
	}
	return out
}

// agrees asserts that every device holds the old configuration or every one the new, that it would start with it, and
// that what is stored and said is so. It returns what became of the push.
func (o *office) agrees(id int64, before map[string]yang.Config, what string) string {
	o.t.Helper()
	v := o.waitPush(o.Service, id)
	d, err := o.Drafts.Draft(o.t.Context(), id)
	require.NoError(o.t, err)
	row, err := o.Store.Site(o.t.Context(), "moss-end")
	require.NoError(o.t, err)
	landed := v.Push.State == "landed"
	assert.Equal(o.t, landed, v.Head.State == "landed", what)
	assert.Equal(o.t, landed, row.Head == d.Order.BaseRevision+1, "%s: the revision is there where the push landed",
		what)
	for _, name := range moss {
		dev := o.devices.ByID[name]
		running := dev.Running()
		changed := !running.Equal(before[name])
		assert.Equal(o.t, landed, changed, "%s: %s holds %s; %s", what, name,
			map[bool]string{true: "something else", false: "what it held"}[changed], v.Push.Problem)
		assert.True(o.t, dev.Startup().Equal(running), "%s: %s starts with what it runs", what, name)
	}
	if !landed {
		assert.NotEmpty(o.t, v.Push.Problem, what)
		require.NoError(o.t, o.Drafts.Drop(o.t.Context(), o.mk, id, o.version(id)))
	}
	return v.Push.State
}

// A process is killed at each write of a push over three devices, one after another, and another takes it up: all
// devices hold the new configuration or all the old one, and the store agrees.
func TestKilledAtEveryWrite(t *testing.T) {
	t.Parallel()
	o := open(t)
	g := o.gate()
	outcomes := map[string]int{}
	turns := 0
	for n, stands := 1, true; stands; n++ {
		before := o.held()
		id := o.flips(turns)
		g.close(n, "", "")
		first, kill := o.process()
		require.NoError(t, o.pushAll(first, id))
		stands = g.reached(id)
		kill()
		g.tidies()
		_, second := o.process()
		became := o.agrees(id, before, fmt.Sprintf("killed at write %d", n))
		second()
		outcomes[became]++
		if became == "landed" {
			turns++
		}
	}
	t.Logf("killed at each of %d writes: %v", outcomes["landed"]+outcomes["failed"]-1, outcomes)
	assert.Greater(t, outcomes["landed"]+outcomes["failed"], 40)
}

// Every fault strikes every kind of device at every stage of a push: all devices hold the new configuration or all the
// old one, the store agrees, and nothing is stuck.
func TestEveryFaultAtEveryStage(t *testing.T) {
	t.Parallel()
	stages := []string{"read", "begin", "step", "compare", "confirm"}
	faults := map[string]int{"slow": 20, "cut": 40, "reset": 0, "lost-answer": 0, "refuse": 0, "restart": 300,
		"garbage":      0,
		"lost-confirm": 0, "lost-confirm-answer": 0, "full-startup": 1, "line-down": 700, "elsewhere": 0}
	var mu sync.Mutex
	outcomes := map[string]int{}
	t.Run("on", func(t *testing.T) {
		for _, name := range moss {
			t.Run(name, func(t *testing.T) {
				t.Parallel()
				o := open(t)
				o.Pushes.Timing.ConfirmWithin = 20 * time.Second
				g := o.gate()
				w, _ := o.process()
				turns := 0
				for _, stage := range stages {
					for _, fault := range slices.Sorted(maps.Keys(faults)) {
						became := o.struck(w, g, turns, name, stage, fault, faults[fault])
						mu.Lock()
						outcomes[became]++
						mu.Unlock()
						if became == "landed" {
							turns++
						}
					}
				}
			})
		}
	})
	t.Logf("%d faults at %d stages of %d kinds of devices: %v", len(faults), len(stages), len(moss), outcomes)
	assert.Greater(t, outcomes["landed"], 0)
	assert.Greater(t, outcomes["failed"], 0)
}

// struck pushes, has a fault strike a device as a stage of it begins, and returns what became of the push.
func (o *office) struck(w *work.Service, g *gate, turns int, name, stage, fault string, amount int) string {
	o.t.Helper()
	what := fmt.Sprintf("%s at %s of %s", fault, stage, name)
	before := o.held()
	id := o.flips(turns)
	doc := o.page("moss-end", 0).Site
	d, ok := doc.Device(name)
	require.True(o.t, ok)
	g.close(0, stage, d.Name)
	require.NoError(o.t, o.pushAll(w, id), what)
	require.True(o.t, g.reached(id), what)
	dev := o.devices.ByID[name]
	require.NoError(o.t, dev.Misbehave(fault, amount))
	g.open()
	if fault == "elsewhere" { // a technician finds it, and records where it is
		rows, err := o.Store.Access(o.t.Context(), doc.ID)
		require.NoError(o.t, err)
		account, password, err := o.Accounts.Opened(*order.On(rows, name))
		require.NoError(o.t, err)
		require.NoError(o.t, o.Accounts.PutAccess(o.t.Context(), "a test", doc.ID, name,
			device.Access{URL: dev.URL, Account: account, Password: password, Fingerprint: dev.Fingerprint}))
	}
	became := o.agrees(id, before, what)
	require.NoError(o.t, dev.Misbehave("none", 0))
	return became
}

// PostgreSQL drops every connection amid a push; the push goes on.
func TestStoreRestartsAmidAPush(t *testing.T) {
	t.Parallel()
	o := open(t)
	o.Pushes.Timing.HoldFor = 2 * time.Second
	g := o.gate()
	w, _ := o.process()
	before := o.held()
	id := o.flips(0)
	g.close(0, "step", "sw-moss")
	require.NoError(t, o.pushAll(w, id))
	require.True(t, g.reached(id))
	g.do(`SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database()
		AND application_name = 'process'`)
	g.open()
	assert.Equal(t, "landed", o.agrees(id, before, "PostgreSQL restarted"))
}
