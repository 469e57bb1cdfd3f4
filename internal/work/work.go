// Package work joins the use cases, runs their background jobs, and passes on live
// events.
package work

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"lithos/internal/accounts"
	"lithos/internal/actor"
	"lithos/internal/draft"
	"lithos/internal/moves"
	"lithos/internal/poll"
	"lithos/internal/push"
	"lithos/internal/sites"
	"lithos/internal/store"
)

// Service is all use cases on one database. It is safe for concurrent use, and any
// number of processes may run one on the same database.
type Service struct {
	Drafts   *draft.Service
	Pushes   *push.Service
	Poll     *poll.Service
	Accounts *accounts.Service
	Sites    *sites.Service
	Moves    *moves.Service
	Store    *store.Store
	Events   *actor.Hub

	log      *slog.Logger
	failures *failures
	jobs     interface{ Stopped() <-chan struct{} }
}

// New makes the use cases on a migrated database. Nothing runs in the background
// until Run.
func New(s *store.Store, vault *accounts.Vault, log *slog.Logger) *Service {
	p := accounts.New(s, vault, log)
	p.Outbound.Never = s.Addresses()
	d := draft.New(s, vault)
	w := poll.New(s, d, p, log)
	return &Service{
		Drafts: d, Pushes: push.New(s, d, p, p, w, log), Poll: w, Accounts: p, Sites: sites.New(s, d),
		Moves: moves.New(s, d, p, log), Store: s,
		Events: actor.NewHub(), log: log, failures: newFailures(log),
	}
}

// The workers of one process. A push waits for devices most of its time.
const (
	pushesAtOnce = 32
	readsAtOnce  = 4 // of a group of sites each
	othersAtOnce = 4
)

// FinishWithin is how long a process that is told to end goes on with what must not
// be left halfway: devices that are confirming, and landing.
const FinishWithin = 15 * time.Second

// Run works on background jobs and passes on live events until ctx ends. every
// is how often devices are read for leases and neighbours.
func (s *Service) Run(ctx context.Context, every time.Duration) error {
	if err := s.Accounts.Recognise(ctx); err != nil {
		return err
	}
	workers := river.NewWorkers()
	s.Pushes.Work(workers)
	s.Poll.Work(workers, every)
	s.Moves.Work(workers)
	jobs, err := river.NewClient(riverpgxv5.New(s.Store.Pool), &river.Config{
		Logger: s.log,
		Queues: map[string]river.QueueConfig{
			push.QueuePush: {MaxWorkers: pushesAtOnce}, poll.QueueRead: {MaxWorkers: readsAtOnce},
			river.QueueDefault: {MaxWorkers: othersAtOnce},
		},
		Workers:      workers,
		ErrorHandler: s.failures,
		// PostgreSQL tells of new jobs; looking for some is for when the connection that it tells on was lost.
		FetchPollInterval: 5 * time.Second,
		// Of two jobs inserted within this time only the first is told of; the second could wait for the next look.
		FetchCooldown:   time.Millisecond,
		SoftStopTimeout: FinishWithin,
		// A job of a process that was killed is taken up by another after this; a
		// push is taken up by its own package long before.
		RescueStuckJobsAfter: 40 * time.Minute,
		PeriodicJobs:         poll.Periodic(every),
	})
	if err != nil {
		return fmt.Errorf("background jobs: %w", err)
	}
	s.jobs = jobs
	s.Pushes.Use(ctx, jobs)
	s.Poll.Use(ctx, jobs)
	if err := jobs.Start(ctx); err != nil {
		return fmt.Errorf("background jobs: %w", err)
	}
	go s.listen(ctx)
	go s.Pushes.TakeUpLeft(ctx)
	go s.startDue(ctx, jobs)
	return nil
}

// dueEvery is how often it is looked for what begins by the clock, or after something else has ended.
const dueEvery = 5 * time.Second

// startDue makes jobs of what is due, until ctx ends. A job is written several times to the database, so that none is
// made for nothing.
func (s *Service) startDue(ctx context.Context, jobs *river.Client[pgx.Tx]) {
	tick := time.NewTicker(dueEvery)
	defer tick.Stop()
	for ctx.Err() == nil {
		for _, due := range []func(context.Context) (river.JobArgs, error){s.Pushes.Due, s.Moves.Due,
			s.Poll.Due} {
			args, err := due(ctx)
			if err == nil && args != nil {
				_, err = jobs.Insert(ctx, args, nil)
			}
			if err != nil && ctx.Err() == nil {
				s.log.Warn("cannot look for what is due; trying again", "error", err)
			}
		}
		select {
		case <-ctx.Done():
		case <-tick.C:
		}
	}
}

// WatchSite has the devices of a site be read in short intervals until stop is called.
func (s *Service) WatchSite(ctx context.Context, code string) (stop func(), err error) {
	row, err := store.Found(s.Store.SiteByCode(ctx, code))
	if err != nil {
		return nil, err
	}
	return s.Poll.Watch(row.ID), nil
}

// Stopped waits until the background jobs have ended after Run's ctx did.
func (s *Service) Stopped() { <-s.jobs.Stopped() }

// listen passes on what any process published, until ctx ends. It reconnects
// after a dropped connection.
func (s *Service) listen(ctx context.Context) {
	for ctx.Err() == nil {
		err := s.Store.Listen(ctx, s.Events.Hears, func(payload string) {
			var e actor.Event
			if json.Unmarshal([]byte(payload), &e) == nil {
				s.Events.Send(e)
			}
		})
		if ctx.Err() != nil {
			return
		}
		s.log.Warn("lost the connection for live events; trying again", "error", err)
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}
