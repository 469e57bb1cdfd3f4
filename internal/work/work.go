// Package work joins the use cases, runs their background jobs, and passes on live
// events.
package work

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"lithos/internal/act"
	"lithos/internal/draft"
	"lithos/internal/fleet"
	"lithos/internal/people"
	"lithos/internal/push"
	"lithos/internal/renumber"
	"lithos/internal/store"
	"lithos/internal/watch"
)

// Service is all use cases on one database. It is safe for concurrent use, and any
// number of processes may run one on the same database.
type Service struct {
	Drafts *draft.Service
	Pushes *push.Service
	Watch  *watch.Service
	People *people.Service
	Fleet  *fleet.Service
	Moves  *renumber.Service
	Store  *store.Store
	Events *act.Hub

	log  *slog.Logger
	jobs interface{ Stopped() <-chan struct{} }
}

// New makes the use cases on a migrated database. Nothing runs in the background
// until Run.
func New(s *store.Store, vault *people.Vault, log *slog.Logger) *Service {
	p := people.New(s, vault, log)
	p.Outbound.Never = s.At()
	d := draft.New(s, vault)
	w := watch.New(s, d, p, log)
	return &Service{
		Drafts: d, Pushes: push.New(s, d, p, p, w, log), Watch: w, People: p, Fleet: fleet.New(s, d),
		Moves: renumber.New(s, d, p, log), Store: s,
		Events: act.NewHub(), log: log,
	}
}

// The workers of one process. A push waits for devices most of its time.
const (
	pushesAtOnce = 32
	readsAtOnce  = 8
	othersAtOnce = 4
)

// FinishWithin is how long a process that is told to end goes on with what must not
// be left halfway: devices that are confirming, and landing.
const FinishWithin = 15 * time.Second

// Run works on background jobs and passes on live events until ctx ends. poll
// is how often devices are read for leases and neighbours.
func (s *Service) Run(ctx context.Context, poll time.Duration) error {
	if err := s.People.Recognise(ctx); err != nil {
		return err
	}
	workers := river.NewWorkers()
	s.Pushes.Work(workers)
	s.Watch.Work(workers, poll)
	s.Moves.Work(workers)
	jobs, err := river.NewClient(riverpgxv5.New(s.Store.Pool), &river.Config{
		Logger: s.log,
		Queues: map[string]river.QueueConfig{
			push.QueuePush: {MaxWorkers: pushesAtOnce}, watch.QueueRead: {MaxWorkers: readsAtOnce},
			river.QueueDefault: {MaxWorkers: othersAtOnce},
		},
		Workers:           workers,
		FetchPollInterval: time.Second,
		FetchCooldown:     50 * time.Millisecond,
		SoftStopTimeout:   FinishWithin,
		// A job of a process that was killed is taken up by another after this; a
		// push is taken up by its own package long before.
		RescueStuckJobsAfter: 40 * time.Minute,
		PeriodicJobs:         append(watch.Periodic(poll), push.Periodic(), renumber.Periodic()),
	})
	if err != nil {
		return fmt.Errorf("background jobs: %w", err)
	}
	s.jobs = jobs
	s.Pushes.Use(ctx, jobs)
	s.Watch.Use(ctx, jobs)
	if err := jobs.Start(ctx); err != nil {
		return fmt.Errorf("background jobs: %w", err)
	}
	go s.listen(ctx)
	go s.Pushes.TakeUpLeft(ctx)
	return nil
}

// Stopped waits until the background jobs have ended after Run's ctx did.
func (s *Service) Stopped() { <-s.jobs.Stopped() }

// listen passes on what any process published, until ctx ends. It reconnects
// after a dropped connection.
func (s *Service) listen(ctx context.Context) {
	for ctx.Err() == nil {
		err := s.Store.Listen(ctx, s.Events.Hears, func(payload string) {
			var e act.Event
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
