// Package pgtest gives tests a real PostgreSQL, one cluster a test binary and
// one database a test.
package pgtest

import (
	"context"
	"fmt"
	"os"
	"strings"
	"sync/atomic"
	"testing"

	"lithos/internal/postgres"
)

var (
	cluster *postgres.Cluster
	count   atomic.Int64
)

const template = "template_lithos"

// Main runs the tests of a package with a cluster at hand. prepare is given the
// URL of the database that every test's is a copy of.
func Main(m *testing.M, prepare func(ctx context.Context, url string) error) {
	os.Exit(run(m, prepare))
}

func run(m *testing.M, prepare func(ctx context.Context, url string) error) int {
	ctx := context.Background()
	dir, err := os.MkdirTemp("", "lithos-test-")
	if err == nil {
		defer os.RemoveAll(dir)
		err = os.Chmod(dir, 0o755) // the account postgres passes through
	}
	if err == nil {
		cluster, err = postgres.Start(ctx, dir+"/cluster",
			postgres.Options{Throwaway: os.Getenv("LITHOS_DURABLE") == ""})
	}
	if err == nil {
		defer func() { _ = cluster.Stop() }()
		err = cluster.CreateDatabase(ctx, template, "")
	}
	if err == nil {
		err = prepare(ctx, cluster.URL(template))
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "PostgreSQL for the tests:", err)
		return 1
	}
	return m.Run()
}

// Database makes a database for one test and returns its URL.
func Database(t testing.TB) string {
	t.Helper()
	name := fmt.Sprintf("test_%d_%s", count.Add(1), strings.ToLower(strings.Map(func(r rune) rune {
		if r == '/' || r == ' ' {
			return '_'
		}
		return r
	}, t.Name())))
	name = name[:min(len(name), 60)]
	if err := cluster.CreateDatabase(t.Context(), name, template); err != nil {
		t.Fatal(err)
	}
	return cluster.URL(name)
}
