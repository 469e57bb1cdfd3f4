// Package postgres runs a PostgreSQL cluster of Lithos's own, from Debian's
// packages, on a free loopback port, beside any other the machine has.
package postgres

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Cluster is a running cluster. Stop it before the program ends.
type Cluster struct {
	port      int
	password  string
	throwaway bool
	cmd       *exec.Cmd
	exited    chan error
}

// Options choose between safety and speed.
type Options struct {
	// Throwaway turns fsync off and signs in by a cheap hash: for tests, whose data nobody misses.
	Throwaway bool
}

// Start runs the cluster in dir, made first where there is none. dir is the
// cluster's alone; PostgreSQL refuses to run as root, so for root it is run by
// the account postgres, which must be able to reach dir (see Dir).
func Start(ctx context.Context, dir string, o Options) (*Cluster, error) {
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	as, err := account()
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	if as != nil {
		if err := os.Chown(dir, int(as.Uid), int(as.Gid)); err != nil {
			return nil, err
		}
	}
	data, secret := filepath.Join(dir, "data"), filepath.Join(dir, "password")
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); errors.Is(err, fs.ErrNotExist) {
		if err := initialise(ctx, bin, dir, data, secret, as, o); err != nil {
			return nil, err
		}
	}
	password, err := os.ReadFile(secret)
	if err != nil {
		return nil, err
	}
	// One that an earlier run left behind when it was killed.
	_ = command(ctx, as, filepath.Join(bin, "pg_ctl"), "-D", data, "stop", "-m", "fast", "-w").Run()
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	args := []string{"-D", data, "-p", strconv.Itoa(port), "-c", "listen_addresses=127.0.0.1", "-c",
		"unix_socket_directories=", "-c", "log_min_messages=warning",
		// A small database writes whole pages after each checkpoint, more than what changed in them.
		"-c", "wal_compression=on", "-c", "checkpoint_timeout=30min"}
	if o.Throwaway {
		args = append(args, "-c", "fsync=off", "-c", "full_page_writes=off", "-c", "synchronous_commit=off")
	}
	c := &Cluster{port: port, password: strings.TrimSpace(string(password)), throwaway: o.Throwaway,
		exited: make(chan error, 1)}
	c.cmd = command(context.WithoutCancel(ctx), as, filepath.Join(bin, "postgres"), args...)
	log, err := os.Create(filepath.Join(dir, "log"))
	if err != nil {
		return nil, err
	}
	defer log.Close()
	c.cmd.Stdout, c.cmd.Stderr = log, log
	if err := c.cmd.Start(); err != nil {
		return nil, fmt.Errorf("start PostgreSQL: %w", err)
	}
	go func() { c.exited <- c.cmd.Wait() }()
	return c, c.await(ctx, log.Name())
}

func initialise(ctx context.Context, bin, dir, data, secret string, as *syscall.Credential, o Options) error {
	if err := os.RemoveAll(data); err != nil { // half made by a run that was killed
		return err
	}
	if err := os.WriteFile(secret, []byte(rand.Text()+"\n"), 0o600); err != nil {
		return err
	}
	if as != nil {
		if err := os.Chown(secret, int(as.Uid), int(as.Gid)); err != nil {
			return err
		}
	}
	args := []string{"-D", data, "--username=lithos", "--pwfile=" + secret, "--encoding=UTF8", "--locale=C.UTF-8"}
	if o.Throwaway {
		// SCRAM costs both ends 4096 hashes for each connection, and tests make thousands of them.
		args = append(args, "--no-sync", "--auth=md5")
	} else {
		args = append(args, "--auth=scram-sha-256")
	}
	cmd := command(ctx, as, filepath.Join(bin, "initdb"), args...)
	cmd.Dir = dir
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("make the PostgreSQL cluster in %s: %w\n%s", data, err, bytes.TrimSpace(out))
	}
	return nil
}

// await waits until the cluster takes connections, or has given up.
func (c *Cluster) await(ctx context.Context, log string) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for {
		conn, err := pgx.Connect(ctx, c.URL("postgres"))
		if err == nil {
			return conn.Close(ctx)
		}
		select {
		case exit := <-c.exited:
			said, _ := os.ReadFile(log)
			return fmt.Errorf("PostgreSQL ended at once: %w\n%s", exit, bytes.TrimSpace(said))
		case <-ctx.Done():
			_ = c.Stop()
			return fmt.Errorf("PostgreSQL does not answer: %w", err)
		case <-tick.C:
		}
	}
}

// URL is how to connect to a database of the cluster.
func (c *Cluster) URL(database string) string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword("lithos", c.password),
		Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(c.port)), Path: database, RawQuery: "sslmode=disable"}
	return u.String()
}

// withStrategy is the version from which on one chooses how a template is copied; earlier ones copy files.
const withStrategy = 150000

// CreateDatabase makes a database, or leaves the one there is. template may be empty.
func (c *Cluster) CreateDatabase(ctx context.Context, name, template string) error {
	conn, err := pgx.Connect(ctx, c.URL("postgres"))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	var there bool
	var version int
	if err := conn.QueryRow(ctx, `SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1),
		current_setting('server_version_num')::int`, name).Scan(&there, &version); err != nil || there {
		return err
	}
	sql := "CREATE DATABASE " + pgx.Identifier{name}.Sanitize()
	if template != "" {
		sql += " TEMPLATE " + pgx.Identifier{template}.Sanitize()
		if c.throwaway && version >= withStrategy {
			// Files are copied as they are, and not through the log: a third of a second of processor time for each
			// of the hundreds of databases that the tests make. Without fsync the checkpoint it needs costs nothing.
			sql += " STRATEGY FILE_COPY"
		}
	}
	_, err = conn.Exec(ctx, sql)
	return err
}

// Stop ends the cluster in an orderly way and waits for it.
func (c *Cluster) Stop() error {
	if err := c.cmd.Process.Signal(syscall.SIGINT); err != nil { // PostgreSQL's fast shutdown
		return nil // it has ended already
	}
	select {
	case <-c.exited:
		return nil
	case <-time.After(20 * time.Second):
		return c.cmd.Process.Kill()
	}
}

// Dir is where to put a cluster that belongs to the given folder: inside it, or
// for root, where the account postgres cannot enter it, under /var/lib/lithos.
func Dir(home string) (string, error) {
	inside := filepath.Join(home, "postgres")
	if os.Getuid() != 0 || enterable(home) {
		return inside, nil
	}
	path, err := filepath.Abs(home)
	if err != nil {
		return "", err
	}
	name := strings.Trim(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
			return r
		}
		return '-'
	}, path), "-")
	outside := filepath.Join("/var/lib/lithos", name)
	if err := os.MkdirAll(filepath.Dir(outside), 0o755); err != nil {
		return "", err
	}
	return outside, nil
}

// enterable reports whether any account may pass through path.
func enterable(path string) bool {
	path, err := filepath.Abs(path)
	if err != nil {
		return false
	}
	for ; path != "/"; path = filepath.Dir(path) {
		if info, err := os.Stat(path); err == nil && info.Mode().Perm()&0o001 == 0 {
			return false
		}
	}
	return true
}

func binaries() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		return "", errors.New("PostgreSQL is not installed; run: apt-get install postgresql")
	}
	version := func(path string) int {
		n, _ := strconv.Atoi(strings.Split(path, "/")[4])
		return n
	}
	slices.SortFunc(found, func(a, b string) int { return version(a) - version(b) })
	return filepath.Dir(found[len(found)-1]), nil
}

// account is who runs the cluster: nil for the present account.
func account() (*syscall.Credential, error) {
	if os.Getuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("PostgreSQL refuses to run as root and there is no account postgres: %w", err)
	}
	uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
	gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, errors.Join(err1, err2)
}

// command runs in a process group of its own, so that Ctrl-C reaches Lithos
// first and the cluster is stopped in order.
func command(ctx context.Context, as *syscall.Credential, name string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Dir = "/"
	cmd.Env = []string{"LC_ALL=C.UTF-8", "PATH=" + os.Getenv("PATH")}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Credential: as}
	return cmd
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}
