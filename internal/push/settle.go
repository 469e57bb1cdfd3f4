package push

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/riverqueue/river"

	"lithos/core/drift"
	"lithos/core/plan"
	"lithos/core/sequence"
	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/device"
	"lithos/internal/order"
	"lithos/internal/store/gen"
)

// unknownError says that a device did not answer, so that nobody knows what it did.
type unknownError struct{ says string }

func (e *unknownError) Error() string { return e.says }

func silent(err error) error { return &unknownError{err.Error()} }

const attempts = 3

// again repeats what failed on the way to the device. A refusal is final.
func again(ctx context.Context, do func() error) error {
	var err error
	for i := range attempts {
		err = do()
		if err == nil || errors.As(err, new(*device.RefusedError)) || errors.As(err, new(*returnedError)) {
			return err
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(time.Duration(i+1) * 200 * time.Millisecond):
		}
	}
	return err
}

// holds reports an error where a device holds something else than it must.
func holds(ctx context.Context, driver device.Driver, goal yang.Config) error {
	var held yang.Config
	err := again(ctx, func() (err error) {
		held, _, err = driver.Read(ctx)
		return err
	})
	if err == nil && !held.Equal(goal) {
		err = fmt.Errorf("the device holds something else than it was told: %s",
			firstDifference(plan.Between(held, goal)))
	}
	return err
}

func firstDifference(left []plan.Step) string {
	if len(left) == 0 {
		return "the entries are in an unexpected order"
	}
	return left[0].Verb + " " + left[0].Text + " is still to do"
}

// confirm tells every device to keep the change, and asks after each whose answer
// is lost, until what it did is known. One that did not keep it sends the others back.
func (r *run) confirm(ctx context.Context) error {
	switch err := r.others(ctx, stateConfirming); {
	case errors.Is(err, errOthersNotReady), ofStore(err):
		return err
	case err != nil:
		return r.move(ctx, stateReturning, err.Error())
	}
	problem := ""
	settled, err := r.eachDevice(ctx, func(d gen.PushDevice, h holder) (string, error) {
		if d.State == deviceConfirmed {
			return d.State, nil
		}
		if err := r.goesOn(ctx); err != nil {
			if ofStore(err) {
				return d.State, err
			}
			problem = cmp.Or(problem, err.Error())
			return d.State, nil
		}
		err := r.settle(ctx, d, "confirm", h.keeps(), func() error { return h.keep(ctx) })
		switch {
		case err == nil:
			return deviceConfirmed, nil
		case errors.As(err, new(*unknownError)):
			return deviceUnknown, nil
		case ofStore(err):
			return d.State, err
		}
		if problem == "" {
			problem = d.Name + ": " + err.Error()
		}
		if errors.As(err, new(*returnedError)) {
			return deviceReturned, nil
		}
		return deviceBegun, nil
	})
	switch {
	case err != nil:
		return err
	case problem != "":
		return r.move(ctx, stateReturning, problem)
	case !settled:
		return river.JobSnooze(askAgainAfter)
	}
	return r.move(ctx, stateLanding, "")
}

// returnedError says that a device has returned to what it held before, or never
// left it.
type returnedError struct{}

func (returnedError) Error() string {
	return "the device has returned to what it held before: the confirmation came too late, or it was restarted"
}

// keep confirms a change on a device. It returns nil when the device says that it
// has, a *returnedError when it says that it does not hold the change, the device's
// refusal when it will not confirm, and an *unknownError when it does not answer.
func (r *run) keep(ctx context.Context, driver device.Driver, token string) error {
	err := again(ctx, func() error { return driver.Confirm(ctx, token) })
	if err == nil || ctx.Err() != nil {
		return err
	}
	state, unanswered := r.ask(ctx, driver, token)
	switch {
	case unanswered != nil:
		return silent(unanswered)
	case state == device.ChangeConfirmed:
		return nil
	case state == device.ChangeAbsent:
		return &returnedError{}
	case errors.As(err, new(*device.RefusedError)):
		return err
	}
	return silent(err) // it waits; the confirmation got lost on the way, and is sent again
}

// settle is note for what is tried until a device answers: a device that was silent
// before gets another line only once it has answered.
func (r *run) settle(ctx context.Context, d gen.PushDevice, stage, says string, do func() error) error {
	if d.State != deviceUnknown {
		return r.note(ctx, d.Name, stage, says, do)
	}
	err := do()
	if err != nil && !errors.As(err, new(*returnedError)) {
		return err
	}
	return r.note(ctx, d.Name, stage, says, func() error { return err })
}

// ask asks a device what became of a change.
func (r *run) ask(ctx context.Context, driver device.Driver, token string) (state device.ChangeState, err error) {
	err = again(ctx, func() (err error) {
		state, err = driver.Change(ctx, token)
		return err
	})
	return state, err
}

// giveBack puts every device back that the push came to: those that wait are told
// to return, those that have confirmed are brought back to what they held. The push
// has failed when each has said that it is back.
func (r *run) giveBack(ctx context.Context) error {
	settled, err := r.eachDevice(ctx, func(d gen.PushDevice, h holder) (string, error) {
		if d.State == deviceReturned || d.State == deviceByHand {
			return d.State, nil
		}
		err := r.settle(ctx, d, "return", h.returns(), func() error { return h.putBack(ctx) })
		switch {
		case err == nil:
			return h.returned(), nil
		case ofStore(err):
			return d.State, err
		}
		return deviceUnknown, nil
	})
	if err != nil {
		return err
	}
	if !settled {
		return river.JobSnooze(askAgainAfter)
	}
	access, err1 := r.store.Access(ctx, r.push.SiteID)
	devices, err2 := r.store.PushDevices(ctx, r.push.ID)
	if err := errors.Join(err1, err2); err != nil {
		return stored(err)
	}
	targets := r.draft.Targets(access)
	return r.fail(ctx, strings.TrimSuffix(r.push.Problem, ".")+". "+outcomes(devices, untouched(targets, devices)))
}

// putBack brings a device back to what it held before the push, whether it waits
// for the confirm, has confirmed, or has returned by itself.
func (r *run) putBack(ctx context.Context, d gen.PushDevice, driver device.Driver) error {
	cancelled := again(ctx, func() error { return driver.Cancel(ctx, r.token) })
	if cancelled == nil || ctx.Err() != nil {
		return cancelled
	}
	state, err := r.ask(ctx, driver, r.token)
	switch {
	case err != nil:
		return silent(fmt.Errorf("%w; without a confirm it undoes the change by itself within %d s", err,
			int(r.Timing.ConfirmWithin/time.Second)))
	case state == device.ChangeWaiting:
		return silent(cancelled)
	}
	var before yang.Config
	if err := json.Unmarshal(d.Before, &before); err != nil {
		return fmt.Errorf("what %s held before cannot be read: %w", d.Name, err)
	}
	if state == device.ChangeConfirmed {
		return r.undo(ctx, d, driver, before)
	}
	running, _, err := driver.Read(ctx)
	switch {
	case err != nil:
		return silent(err)
	case running.Equal(before):
		return nil
	case r.mine(d.DeviceID, before, running):
		// It restarted amid the push, and took steps after that which it would not undo by itself.
		r.found = "it had restarted amid the push; what it was told since is undone"
		return r.undo(ctx, d, driver, before)
	}
	r.found = "it has, and was changed by somebody else since"
	return nil
}

// goalOf is what the push makes of a device that held before.
func (r *run) goalOf(deviceID string, before yang.Config) yang.Config {
	base, wanted := order.Target{ID: deviceID}.Configs(r.draft)
	return drift.Target(before, base, wanted, r.draft.PutBack(deviceID))
}

// mine reports whether a device differs from what it held before in nothing but what the push changes there.
func (r *run) mine(deviceID string, before, running yang.Config) bool {
	paths := map[string]bool{}
	for _, s := range plan.Between(before, r.goalOf(deviceID, before)) {
		paths[s.Path] = true
	}
	return !slices.ContainsFunc(plan.Between(before, running), func(s plan.Step) bool { return !paths[s.Path] })
}

// undo brings a device that has confirmed back, under a timed confirm of its own.
func (r *run) undo(ctx context.Context, d gen.PushDevice, driver device.Driver, before yang.Config) error {
	token := r.token + "-back"
	if state, err := r.ask(ctx, driver, token); err != nil || state == device.ChangeConfirmed {
		return err
	}
	running, tag, err := driver.Read(ctx)
	if err != nil {
		return silent(err)
	}
	if err := driver.Begin(ctx, token, r.Timing.ConfirmWithin, tag); err != nil {
		return err
	}
	for _, st := range r.stepsBack(d, running, before) {
		if err := again(ctx, func() error { return driver.Apply(ctx, st) }); err != nil {
			return fmt.Errorf("%s %s: %w", st.Verb, st.Text, err)
		}
	}
	if err := holds(ctx, driver, before.Sorted()); err != nil {
		return err
	}
	return r.keep(ctx, driver, token)
}

// stepsBack is the steps that bring one device back. What takes away the way by which it is reached comes last, and in
// one request: half of it would leave the device where nobody finds it.
func (r *run) stepsBack(d gen.PushDevice, running, before yang.Config) []plan.Step {
	doc := r.draft.Doc()
	kind := ""
	if of, ok := doc.Device(d.DeviceID); ok {
		kind = of.Kind
	}
	var out []plan.Step
	for _, st := range sequence.Of(doc, doc, []sequence.Device{{ID: d.DeviceID, Name: d.Name, Kind: kind,
		Running: running,
		Goal:    before}}).Steps {
		out = append(out, st.Step)
	}
	return out
}

// eachDevice does something with each device the push came to and stores what state
// that left it in. It reports whether every one is in a state that is known; an
// error of do ends it once all were asked.
func (r *run) eachDevice(
	ctx context.Context, do func(gen.PushDevice, holder) (string, error),
) (settled bool, err error) {
	devices, err := r.store.PushDevices(ctx, r.push.ID)
	if err != nil {
		return false, stored(err)
	}
	access, err := r.store.Access(ctx, r.push.SiteID)
	if err != nil {
		return false, stored(err)
	}
	settled = true
	var failed error
	for _, d := range zonesFirst(devices) {
		state, err := r.withDevice(ctx, d, access, do)
		if ctx.Err() != nil {
			return false, context.Cause(ctx)
		}
		failed = errors.Join(failed, err)
		settled = settled && state != deviceUnknown
		if state == d.State {
			continue
		}
		if err := r.stillOurs(r.store.SetPushDevice(ctx, gen.SetPushDeviceParams{PushID: r.push.ID,
			DeviceID: d.DeviceID,
			State:    state, Run: r.id})); err != nil {
			return false, stored(err)
		}
	}
	_, err = r.endLine(ctx)
	return settled, errors.Join(failed, err, stored(actor.Publish(ctx, r.store.Queries,
		actor.PushEvent(r.push.OrderID))))
}

func (r *run) withDevice(
	ctx context.Context, d gen.PushDevice, access []order.Access, do func(gen.PushDevice, holder) (string, error),
) (string, error) {
	h := r.holderOf(ctx, d, access)
	if h == nil {
		return deviceUnknown, nil
	}
	defer h.close()
	return do(d, h)
}
