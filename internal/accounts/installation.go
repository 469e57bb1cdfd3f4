package accounts

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"lithos/internal/actor"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// Hold says since when and why pushes and readings of devices are held.
type Hold struct {
	Since   time.Time `json:"since"`
	Because string    `json:"because"`
}

const restored = "This database was restored, or copied, since it was last worked with"

// Recognise compares the database with what it was when it was last worked with.
// One that was restored from a backup must not carry on the pushes of that day:
// all work on devices is held until somebody releases it.
func (s *Service) Recognise(ctx context.Context) error {
	identity, err := s.store.Identity(ctx)
	if err != nil {
		return fmt.Errorf("recognise the database: %w", err)
	}
	return s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		if err := q.PutInstallation(ctx, identity); err != nil {
			return err
		}
		now, err := q.ReadInstallation(ctx)
		if err != nil || now.Identity == identity {
			return err
		}
		s.log.Warn("the database is not the one that was last worked with; pushes and readings are held until " +
			"lithos release")
		return s.holdIn(ctx, q, identity, restored)
	})
}

func (s *Service) holdIn(ctx context.Context, q *gen.Queries, identity, because string) error {
	return errors.Join(
		q.HoldWork(ctx, gen.HoldWorkParams{Identity: identity, Because: because}),
		actor.Record(ctx, q, actor.Technician{FullName: "Lithos"}, "work-held", "", because),
		actor.Publish(ctx, q, actor.Event{Topic: "work"}),
	)
}

// HoldWork keeps every push and reading from devices until ReleaseWork.
func (s *Service) HoldWork(ctx context.Context, by, because string) error {
	if err := s.Recognise(ctx); err != nil {
		return err
	}
	return s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		now, err := q.ReadInstallation(ctx)
		if err != nil {
			return err
		}
		return s.holdIn(ctx, q, now.Identity, because+", held by "+by)
	})
}

// ReleaseWork lets pushes and readings go on. It reports whether they were held.
func (s *Service) ReleaseWork(ctx context.Context, by string) (was bool, err error) {
	if err := s.Recognise(ctx); err != nil {
		return false, err
	}
	err = s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		n, err := q.ReleaseWork(ctx)
		if err != nil || n == 0 {
			return err
		}
		was = true
		return errors.Join(actor.Record(ctx, q, actor.Technician{FullName: by}, "work-released", "",
			"Pushes and readings go on"), actor.Publish(ctx, q, actor.Event{Topic: "work"}))
	})
	return was, err
}

// Holding is since when and why work on devices is held; nil when it is not.
func (s *Service) Holding(ctx context.Context) (*Hold, error) {
	now, err := store.Found(s.store.ReadInstallation(ctx))
	if errors.Is(err, store.ErrNotFound) || err == nil && now.HeldSince == nil {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return &Hold{*now.HeldSince, now.HeldBecause}, nil
}

// UseKey ties the vault's key to the database the first time it is used, and
// refuses another key: what the first has sealed would be lost unseen.
func (s *Service) UseKey(ctx context.Context) error {
	if err := s.Recognise(ctx); err != nil {
		return err
	}
	now, err := s.store.ReadInstallation(ctx)
	if err != nil || now.Key == s.vault.Public() {
		return err
	}
	if now.Key == "" && s.opens(ctx) {
		// Of two processes with two keys one is first, and the other is refused.
		n, err := s.store.SetKey(ctx, gen.SetKeyParams{Key: s.vault.Public()})
		if err != nil || n == 1 {
			return err
		}
		return s.UseKey(ctx)
	}
	return fmt.Errorf("the key file %s is not the one this database was used with: put the right one in its place, "+
		"or, when it is lost, run lithos key forget, which forgets every password sealed with it", s.vault.path)
}

// opens reports whether the vault's key opens what a database from before keys
// were recorded holds.
func (s *Service) opens(ctx context.Context) bool {
	sealed, err := store.Found(s.store.OneSecret(ctx))
	if errors.Is(err, store.ErrNotFound) {
		return true
	}
	if err == nil {
		_, err = s.vault.Open(sealed)
	}
	return err == nil
}

// ForgetKey accepts the vault's key in place of a lost one. Every secret sealed
// with that is forgotten: devices and lines must be given their passwords again.
func (s *Service) ForgetKey(ctx context.Context, by string) (forgotten int64, err error) {
	if err := s.Recognise(ctx); err != nil {
		return 0, err
	}
	err = s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		now, err := q.ReadInstallation(ctx)
		if err != nil || now.Key == s.vault.Public() {
			return err
		}
		n, err := q.CountSecrets(ctx)
		if err != nil {
			return err
		}
		forgotten = int64(n)
		if err := q.ForgetAllSecrets(ctx); err != nil {
			return err
		}
		if _, err := q.SetKey(ctx, gen.SetKeyParams{Key: s.vault.Public(), Was: now.Key}); err != nil {
			return err
		}
		says := fmt.Sprintf("%d passwords sealed with the lost key are forgotten", forgotten)
		return actor.Record(ctx, q, actor.Technician{FullName: by}, "key-forgotten", "", says)
	})
	return forgotten, err
}
