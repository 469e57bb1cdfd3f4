package push

import (
	"context"
	"time"
)

// takeUpEvery is how often a process looks for pushes that nobody carries out.
const takeUpEvery = 2 * time.Second

// TakeUpLeft puts pushes back in the queue whose process was killed, until ctx ends.
func (s *Service) TakeUpLeft(ctx context.Context) {
	tick := time.NewTicker(takeUpEvery)
	defer tick.Stop()
	for {
		if err := s.resume(ctx); err != nil && ctx.Err() == nil {
			s.log.Warn("cannot look for interrupted pushes; trying again", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// resume puts pushes back in the queue that no run holds and no job waits for.
func (s *Service) resume(ctx context.Context) error {
	ids, err := s.store.PushesLeft(ctx)
	if err != nil {
		return err
	}
	for _, id := range ids {
		s.log.Info("a push may have been interrupted", "push", id)
		if _, err := s.jobs.Insert(ctx, PushArgs{id}, nil); err != nil {
			return err
		}
	}
	return nil
}
