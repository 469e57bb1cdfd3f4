package postgres_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/internal/postgres"
)

// Data outlives the cluster, and a second start of a cluster that was left
// running, as after a kill, takes it over.
func TestClusterStartsAgain(t *testing.T) {
	dir := t.TempDir()
	for d := dir; d != "/" && d != os.TempDir(); d = filepath.Dir(d) {
		require.NoError(t, os.Chmod(d, 0o755))
	}
	ctx := t.Context()
	first, err := postgres.Start(ctx, filepath.Join(dir, "pg"), postgres.Options{Throwaway: true})
	require.NoError(t, err)
	require.NoError(t, first.CreateDatabase(ctx, "kept", ""))
	require.NoError(t, first.CreateDatabase(ctx, "kept", ""), "made once")

	second, err := postgres.Start(ctx, filepath.Join(dir, "pg"), postgres.Options{Throwaway: true})
	require.NoError(t, err)
	conn, err := pgx.Connect(ctx, second.URL("kept"))
	require.NoError(t, err)
	require.NoError(t, conn.Close(ctx))
	require.NoError(t, first.Stop())
	require.NoError(t, second.Stop())
}

func TestDirIsWherePostgresCanGo(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root runs PostgreSQL as another account")
	}
	closed := t.TempDir()
	require.NoError(t, os.Chmod(closed, 0o700))
	dir, err := postgres.Dir(filepath.Join(closed, "data"))
	require.NoError(t, err)
	assert.Contains(t, dir, "/var/lib/lithos/")
}
