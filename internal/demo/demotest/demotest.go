// Package demotest runs the whole of Lithos for a test: a database of its own,
// the demonstration's sites and devices, background jobs, and the HTTP server.
package demotest

import (
	"context"
	"io/fs"
	"log/slog"
	"net/http/httptest"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/stretchr/testify/require"

	"lithos/internal/accounts"
	"lithos/internal/accounts/accountstest"
	"lithos/internal/api"
	"lithos/internal/demo"
	"lithos/internal/outbound"
	"lithos/internal/postgres/pgtest"
	"lithos/internal/push"
	"lithos/internal/store"
	"lithos/internal/work"
)

// Options of a running Lithos.
type Options struct {
	Files  fs.FS         // the front end
	Pace   time.Duration // between two messages of the simulated clients; 0 for none
	Past   bool          // lines had something in the day before
	Empty  bool          // there is an account, and no site
	Poll   time.Duration // between two readings of the devices; 0 for one after the other
	State  string        // folder the devices' configurations survive in; none when empty
	Timing push.Timing   // of pushes; the usual one when zero
	// Database and Vault are those of an earlier Start, whose doings go on; new ones when empty.
	Database string
	Vault    *accounts.Vault
}

// Running is Lithos until the test ends.
type Running struct {
	URL     string
	Stop    func() // ends it before the test does
	Work    *work.Service
	Store   *store.Store
	Devices *demo.Devices
	Counted prometheus.Gatherer // what the use cases count
}

// Vault is a vault with a key of its own.
func Vault(t testing.TB) *accounts.Vault {
	t.Helper()
	path := filepath.Join(t.TempDir(), "key")
	require.NoError(t, accounts.MakeKey(path))
	vault, err := accounts.OpenVault(path)
	require.NoError(t, err)
	return vault
}

// Start needs pgtest.Main in the package's TestMain.
func Start(t testing.TB, o Options) *Running {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	if o.Database == "" {
		o.Database = pgtest.Database(t)
	}
	if o.Vault == nil {
		o.Vault = Vault(t)
	}
	s, err := store.Open(ctx, o.Database, 0)
	require.NoError(t, err)
	quiet := slog.New(slog.DiscardHandler)
	w := work.New(s, o.Vault, quiet)
	if o.Timing != (push.Timing{}) {
		w.Pushes.Timing = o.Timing
	}
	accountstest.Account(t, s, demo.Account, demo.FullName, demo.Password)
	devices := &demo.Devices{}
	if !o.Empty {
		devices, err = demo.Start(ctx, w, demo.Options{Pace: o.Pace, State: o.State, Past: o.Past})
	}
	require.NoError(t, err)
	// The simulated devices are on this machine, also those of a test.
	w.Accounts.Outbound.Allowed = outbound.Loopback().Allowed
	require.NoError(t, w.Run(ctx, o.Poll))
	counted := prometheus.NewRegistry()
	server := httptest.NewServer(api.New(w, api.Options{Files: o.Files, Log: quiet, Metrics: counted}))
	var once sync.Once
	stop := func() {
		once.Do(func() {
			cancel()
			server.CloseClientConnections()
			server.Close()
			w.Stopped()
			devices.Close()
			s.Close()
		})
	}
	t.Cleanup(stop)
	return &Running{server.URL, stop, w, s, devices, counted}
}
