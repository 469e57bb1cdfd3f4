package push_test

import (
	"testing"

	"lithos/internal/postgres/pgtest"
	"lithos/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Migrate) }
