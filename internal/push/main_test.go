package push_test

import (
	"flag"
	"testing"

	"lithos/internal/postgres/pgtest"
	"lithos/internal/store"
)

// These tests mostly wait for devices: more of them go on at once than there are processors.
func TestMain(m *testing.M) {
	if err := flag.Set("test.parallel", "6"); err != nil {
		panic(err)
	}
	pgtest.Main(m, store.Migrate)
}
