package store

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"lithos/internal/store/gen"
)

// DatabaseError is an error of the database itself: it could not be asked, or refused what it was asked. What is
// amid its work tells it from the word of a device, and tries again.
type DatabaseError struct{ Err error }

// Error implements error.
func (e *DatabaseError) Error() string { return "the database: " + e.Err.Error() }

// Unwrap gives the driver's error.
func (e *DatabaseError) Unwrap() error { return e.Err }

// failed marks an error as the database's. That there is no row, and that the caller gave up, are none.
func failed(err error) error {
	if err == nil || errors.Is(err, pgx.ErrNoRows) || errors.Is(err, context.Canceled) ||
		errors.As(err, new(*DatabaseError)) {
		return err
	}
	return &DatabaseError{err}
}

// marked is a connection whose errors are marked as the database's.
type marked struct{ gen.DBTX }

func (m marked) Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error) {
	tag, err := m.DBTX.Exec(ctx, sql, args...)
	return tag, failed(err)
}

func (m marked) Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error) {
	rows, err := m.DBTX.Query(ctx, sql, args...)
	if err != nil {
		return rows, failed(err)
	}
	return markedRows{rows}, nil
}

func (m marked) QueryRow(ctx context.Context, sql string, args ...any) pgx.Row {
	return markedRow{m.DBTX.QueryRow(ctx, sql, args...)}
}

func (m marked) CopyFrom(
	ctx context.Context, table pgx.Identifier, columns []string, rows pgx.CopyFromSource,
) (int64, error) {
	n, err := m.DBTX.CopyFrom(ctx, table, columns, rows)
	return n, failed(err)
}

type markedRow struct{ pgx.Row }

func (r markedRow) Scan(into ...any) error { return failed(r.Row.Scan(into...)) }

type markedRows struct{ pgx.Rows }

func (r markedRows) Scan(into ...any) error { return failed(r.Rows.Scan(into...)) }

func (r markedRows) Err() error { return failed(r.Rows.Err()) }
