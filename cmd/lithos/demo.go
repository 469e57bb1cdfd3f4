package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"lithos/core/scenario"
	"lithos/internal/accounts"
	"lithos/internal/api"
	"lithos/internal/demo"
	"lithos/internal/postgres"
	"lithos/internal/store"
)

type demoCommand struct {
	Data   string `help:"Folder for the database and the devices' state." default:".lithos" type:"path"`
	Listen string `help:"Address and port to serve on." env:"LITHOS_LISTEN" default:"127.0.0.1:8471"`
}

// Run starts everything the demonstration needs and stops it again at the end.
func (c *demoCommand) Run(ctx context.Context, out io.Writer) error {
	if err := os.MkdirAll(c.Data, 0o755); err != nil {
		return err
	}
	unlock, err := lock(filepath.Join(c.Data, "lock"))
	if err != nil {
		return err
	}
	defer unlock()
	dir, err := postgres.Dir(c.Data)
	if err != nil {
		return err
	}
	cluster, err := postgres.Start(ctx, dir, postgres.Options{})
	if err != nil {
		return err
	}
	defer func() { _ = cluster.Stop() }()
	if err := cluster.CreateDatabase(ctx, "lithos", ""); err != nil {
		return err
	}
	db := database{Database: cluster.URL("lithos"), Key: filepath.Join(c.Data, "lithos.key")}
	if err := store.Migrate(ctx, db.Database); err != nil {
		return err
	}
	if _, err := os.Stat(db.Key); errors.Is(err, fs.ErrNotExist) {
		if err := accounts.MakeKey(db.Key); err != nil {
			return err
		}
	}
	w, s, err := db.open(ctx, 0)
	if err != nil {
		return err
	}
	defer closeStore(s)
	devices, err := demo.Start(ctx, w,
		demo.Options{State: filepath.Join(c.Data, "devices"), Pace: 120 * time.Millisecond, Log: logger(), Past: true,
			Programs: scenario.Programs, ByHand: true})
	if err != nil {
		return err
	}
	defer devices.Close()
	listener, err := listen(c.Listen)
	if err != nil {
		return err
	}
	fmt.Fprintf(out,
		"\n  Lithos is ready:  http://%s\n  Sign in as        %s\n  with the password %s\n\n  Ctrl-C stops "+
			"everything.\n\n", listener.Addr(), demo.Account, demo.Password)
	if err := demo.Moving(ctx, w); err != nil {
		return err
	}
	return serve(ctx, w, listener, 30*time.Second, api.Options{})
}

// lock keeps two demonstrations out of one folder: the second would stop the
// first one's database. The system frees the lock with the process.
func lock(path string) (unlock func(), err error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		_ = f.Close()
		return nil, fmt.Errorf("a demonstration is running in %s already; stop it, or give another folder with --data",
			filepath.Dir(path))
	}
	return func() { _ = f.Close() }, nil
}

// listen takes the address asked for, or when it is in use any free port beside it.
func listen(addr string) (net.Listener, error) {
	l, err := net.Listen("tcp", addr)
	if err == nil {
		return l, nil
	}
	host, _, bad := net.SplitHostPort(addr)
	if bad != nil {
		return nil, bad
	}
	return net.Listen("tcp", net.JoinHostPort(host, "0"))
}
