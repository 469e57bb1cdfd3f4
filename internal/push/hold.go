package push

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"time"

	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// Timing is how long pushes wait for what. It is set before Run.
type Timing struct {
	// ConfirmWithin is how long a device waits for the end of a push before it
	// returns to its old configuration.
	ConfirmWithin time.Duration
	// HoldFor is how long a process holds a push without moving that on, every
	// quarter of it. One that is killed stops, and another takes the push up.
	HoldFor time.Duration
	// ResumeWithin is how old a push may be and still be carried on: what was
	// meant for tonight is not done days later.
	ResumeWithin time.Duration
}

// UsualTiming is what New sets.
var UsualTiming = Timing{ConfirmWithin: 2 * time.Minute, HoldFor: 20 * time.Second, ResumeWithin: 15 * time.Minute}

// errHoldLost ends a run whose push may be another's by now.
var errHoldLost = errors.New("this process no longer holds the push")

// run is one process carrying out one push. Everything it writes of the push names
// its id, and is refused once another run holds the push.
type run struct {
	*Service
	push    gen.Push
	draft   *order.Draft
	by      actor.Technician // who started it
	id      string
	token   string                 // names the change on every device
	resumed bool                   // another run began the push
	stopped bool                   // somebody has told it to stop
	began   time.Time              // when the first device began to wait for its confirm
	goals   map[string]yang.Config // what devices were brought to and read back, by id
	ended   ended                  // what became of the journal's last line, where that is not written yet
	// networks are those that the push changes something of, and proves.
	networks []string
	found    string // what the line of the journal now being written came to, such as an address
}

// ended is what became of a line of the journal. It is written with the next line.
type ended struct{ state, detail string }

// hold takes a push for this process. It returns nil when another process has it
// or it has ended. ctx of the run ends with errHoldLost when the hold is lost;
// release gives the push back, whatever its state.
func (s *Service) hold(ctx context.Context, id int64) (r *run, held context.Context, release func(), err error) {
	r = &run{Service: s, id: rand.Text(), goals: map[string]yang.Config{}}
	until := time.Now().Add(s.Timing.HoldFor)
	r.push, err = store.Found(s.store.HoldPush(ctx,
		gen.HoldPushParams{ID: id, Run: r.id, Seconds: s.Timing.HoldFor.Seconds()}))
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil, nil, nil
	}
	if err != nil {
		return nil, nil, nil, fmt.Errorf("take push %d: %w", id, err)
	}
	r.token = fmt.Sprintf("lithos-push-%d-%d", id, r.push.StartedAt.Unix())
	r.resumed = r.push.State != stateQueued
	held, lose := context.WithCancelCause(ctx)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		s.keepHold(held, lose, r, until)
	}()
	return r, held, func() {
		lose(context.Canceled)
		<-ended
		if err := s.store.ReleaseHold(context.WithoutCancel(ctx),
			gen.ReleaseHoldParams{ID: id, Run: r.id}); err != nil {
			s.log.Warn("a push could not be given back; its hold runs out by itself", "push", id, "error", err)
		}
	}, nil
}

// keepHold moves the end of a hold on until ctx ends. Where that is refused, or
// cannot be done in time, the hold is lost.
func (s *Service) keepHold(ctx context.Context, lose context.CancelCauseFunc, r *run, until time.Time) {
	tick := time.NewTicker(s.Timing.HoldFor / 4)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		asked := time.Now()
		soon, cancel := context.WithDeadline(ctx, until)
		n, err := s.store.KeepHold(soon,
			gen.KeepHoldParams{ID: r.push.ID, Run: r.id, Seconds: s.Timing.HoldFor.Seconds()})
		cancel()
		switch {
		case ctx.Err() != nil:
			return
		case err == nil && n == 1:
			until = asked.Add(s.Timing.HoldFor)
		case err == nil || time.Until(until) < s.Timing.HoldFor/4:
			s.log.Warn("the hold on a push is lost; this process stops carrying it out", "push", r.push.ID,
				"error", err)
			lose(errHoldLost)
			return
		}
	}
}
