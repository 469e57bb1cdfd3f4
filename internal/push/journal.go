package push

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"lithos/internal/actor"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// note writes a line to the journal, does what it says, and closes the line.
func (r *run) note(ctx context.Context, deviceName, stage, says string, do func() error) error {
	if err := r.write(ctx, deviceName, stage, says, "running"); err != nil {
		return err
	}
	r.found = ""
	state, err := "done", do()
	detail := ""
	var unknown *unknownError
	switch {
	case errors.As(err, &unknown):
		state, detail = "unknown", ": "+unknown.says
	case err != nil:
		state, err = "failed", fmt.Errorf("%s: %w", says, err)
	case r.found != "":
		detail = ": " + r.found
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	r.ended = ended{state, detail}
	return err
}

// skip writes a line about something that is not done.
func (r *run) skip(ctx context.Context, deviceName, stage, says string) error {
	return r.write(ctx, deviceName, stage, says, "skipped")
}

func (r *run) write(ctx context.Context, deviceName, stage, says, state string) error {
	event, err := json.Marshal(actor.PushEvent(r.push.OrderID))
	if err != nil {
		return err
	}
	row, err := store.Found(r.store.WriteLine(ctx, gen.WriteLineParams{PushID: r.push.ID, Run: r.id, Device: deviceName,
		Stage: stage, Says: says, State: state, Event: string(event), Ended: r.ended.state, Detail: r.ended.detail}))
	if errors.Is(err, store.ErrNotFound) {
		return errHoldLost
	}
	if err != nil {
		return stored(err)
	}
	r.ended = ended{}
	r.stopped = r.stopped || row.Stopped
	return nil
}

// endLine notes what became of the line that was written last, where no further one has, and counts what it notes.
// Browsers are told by what follows at once: the next line, or another state of the push.
func (r *run) endLine(ctx context.Context) (int64, error) {
	if r.ended.state == "" {
		return 0, nil
	}
	n, err := r.store.CloseJournal(ctx, gen.CloseJournalParams{PushID: r.push.ID, Run: r.id, State: r.ended.state,
		Detail: r.ended.detail})
	if err == nil {
		r.ended = ended{}
	}
	return n, stored(err)
}
