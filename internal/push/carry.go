package push

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"lithos/core/drift"
	"lithos/core/plan"
	"lithos/core/sequence"
	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/device"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

const (
	// askAgainAfter is how long a push that waits for a silent device lets it be.
	askAgainAfter = 3 * time.Second
	// lookAgainAtHold is how long a push lets the hold on all work be.
	lookAgainAtHold = 5 * time.Second
	// lookAtOthers is how long a push that is confirmed together with others lets them be.
	lookAtOthers = time.Second
)

// errStopping interrupts what can be taken up again when this process is told to end.
var errStopping = errors.New("this process is ending; another carries the push on")

// storeError says that the database, and no device, kept a push from going on. The
// run ends and the push is carried on as soon as the database allows.
type storeError struct{ error }

func (e storeError) Unwrap() error { return e.error }

// ofStore reports whether an error is the database's word, and no device's.
func ofStore(err error) bool {
	return errors.As(err, new(storeError)) || errors.As(err, new(*store.DatabaseError))
}

func stored(err error) error {
	if err == nil {
		return nil
	}
	return storeError{err}
}

// carryOut carries a push as far as it goes. One that waits for others is looked at once more after it was given back:
// the last of them may have become ready, and found it held, in between.
func (s *Service) carryOut(ctx context.Context, id int64) error {
	for {
		r, err := s.carryOn(ctx, id)
		if !errors.Is(err, errOthersNotReady) {
			return err
		}
		if err = r.others(ctx, r.push.State); errors.Is(err, errOthersNotReady) {
			return river.JobSnooze(lookAtOthers)
		} else if ofStore(err) {
			return err
		}
	}
}

// carryOn is one run of a push; nil where another process has it, or it has ended.
func (s *Service) carryOn(ctx context.Context, id int64) (*run, error) {
	if err := actor.RefuseWhileHeld(ctx, s.store.Queries); err != nil {
		if refusal := (*actor.Refusal)(nil); errors.As(err, &refusal) {
			return nil, river.JobSnooze(lookAgainAtHold)
		}
		return nil, err
	}
	r, held, release, err := s.hold(ctx, id)
	if r == nil || err != nil {
		return nil, err
	}
	defer release()
	if r.draft, err = s.drafts.Draft(held, r.push.OrderID); err != nil {
		return nil, err
	}
	if r.by, err = s.accounts.TechnicianByID(held, r.push.StartedBy); err != nil {
		return nil, err
	}
	err = r.carry(held)
	if errors.Is(context.Cause(held), errHoldLost) {
		return nil, nil // another has it, or takes it up
	}
	return r, err
}

// carry takes a push from state to state until it has ended, has to wait, or this
// process has to let it go. What is stored before each state suffices to take it up.
func (r *run) carry(ctx context.Context) error {
	if r.resumed {
		r.ended = ended{"unknown", ": the process that was at it ended"}
		cut, err := r.endLine(ctx)
		if err == nil && (cut > 0 || r.push.State == stateRunning) {
			err = r.write(ctx, "", "resume",
				"The push was interrupted; going on from what is stored and what the devices hold", "done")
		}
		if err != nil {
			return err
		}
	}
	err := r.throughStates(ctx)
	if ctx.Err() != nil {
		return err
	}
	_, failed := r.endLine(ctx)
	return cmp.Or(err, failed)
}

func (r *run) throughStates(ctx context.Context) error {
	for {
		var err error
		switch r.push.State {
		case stateQueued, stateRunning:
			err = r.change(ctx)
		case stateConfirming:
			err = r.confirm(ctx)
		case stateReturning:
			err = r.giveBack(ctx)
		case stateLanding:
			err = r.land(ctx)
		default:
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// move brings the push to another state, unless this run does not hold it any more.
func (r *run) move(ctx context.Context, state, problem string) error {
	if _, err := r.endLine(ctx); err != nil {
		return err
	}
	err := r.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error { return r.moveIn(ctx, q, state, problem) })
	if err == nil {
		r.push.State, r.push.Problem = state, problem
		r.wakeOthers(ctx)
	}
	return stored(err)
}

func (r *run) moveIn(ctx context.Context, q *gen.Queries, state, problem string) error {
	n, err := q.MovePush(ctx,
		gen.MovePushParams{ID: r.push.ID, Run: r.id, State: state, Problem: problem, Expected: []string{r.push.State}})
	if err == nil && n == 0 {
		err = errHoldLost
	}
	if err != nil {
		return err
	}
	return actor.Publish(ctx, q, actor.PushEvent(r.push.OrderID))
}

// stillOurs is the outcome of a write that names the run: no row was written where another run holds the push by now.
func (r *run) stillOurs(n int64, err error) error {
	if err == nil && n == 0 {
		err = errHoldLost
	}
	return err
}

// change brings every device to what it must hold and climbs the ladder. Whatever
// goes wrong with a device sends the push back.
func (r *run) change(ctx context.Context) error {
	started := r.push.StartedAt
	if r.push.ReadyAt != nil {
		started = *r.push.ReadyAt
	}
	switch err := r.goesOn(ctx); {
	case ofStore(err):
		return err
	case err != nil:
		return r.move(ctx, stateReturning, err.Error())
	}
	if age := time.Since(started); age > r.Timing.ResumeWithin && (r.resumed || r.push.State == stateQueued) {
		says := fmt.Sprintf("It was interrupted, and is not carried on %s after it was started", age.Round(time.Minute))
		if r.push.State == stateQueued {
			return r.fail(ctx, fmt.Sprintf("Nothing took the push up for %s", age.Round(time.Minute)))
		}
		return r.move(ctx, stateReturning, says)
	}
	row, err := r.store.SiteByID(ctx, r.push.SiteID)
	if err != nil {
		return stored(err)
	}
	if row.Head != r.draft.Order.BaseRevision {
		return r.move(ctx, stateReturning,
			fmt.Sprintf("The site is at revision %d, and the draft was made on revision %d", row.Head,
				r.draft.Order.BaseRevision))
	}
	if r.push.State == stateQueued {
		if err := r.move(ctx, stateRunning, ""); err != nil {
			return err
		}
	}
	access, err := r.store.Access(ctx, r.push.SiteID)
	if err == nil {
		err = r.stillOurs(r.store.ForgetUnverified(ctx, gen.ForgetUnverifiedParams{PushID: r.push.ID, Run: r.id}))
	}
	if err != nil {
		return stored(err)
	}
	early, done := r.untilStopping(ctx)
	defer done()
	err = r.bring(early, r.draft.Targets(access))
	switch {
	case err == nil:
		return r.move(ctx, stateConfirming, "")
	case errors.Is(err, errByHand):
		return r.move(ctx, stateByHand, "")
	case early.Err() != nil || ofStore(err):
		return err
	}
	return r.move(ctx, stateReturning, err.Error())
}

// untilStopping is a context that ends, too, when this process is told to end.
func (r *run) untilStopping(ctx context.Context) (context.Context, func()) {
	early, cancel := context.WithCancelCause(ctx)
	stop := context.AfterFunc(r.life, func() { cancel(errStopping) })
	return early, func() { stop(); cancel(context.Canceled) }
}

// errByHand says that a push waits for somebody at a console.
var errByHand = errors.New("steps are to be done by hand")

// way is a device on its way to what it must hold.
type way struct {
	order.Target
	driver                 device.Driver
	running, goal, startup yang.Config
	tag                    string // the running configuration's
	state                  device.ChangeState
}

// bring changes the devices, all of them under their timed confirm, in the order that is proved to leave nobody
// behind, and climbs the ladder when every one holds what it must.
func (r *run) bring(ctx context.Context, targets []order.Target) error {
	var ways []*way
	drivers := map[string]*device.RESTCONF{} // of the devices that are reached, by id
	defer func() {
		for _, driver := range drivers {
			driver.Close()
		}
	}()
	var devices []sequence.Device
	asking, enough := context.WithCancel(ctx)
	readings, err := r.readings(asking, targets, drivers)
	defer func() {
		enough()
		for _, asked := range readings {
			<-asked.done
		}
	}()
	if err != nil {
		return err
	}
	for _, t := range targets {
		w, err := r.read(ctx, t, readings[t.ID])
		if err != nil {
			return fmt.Errorf("%s: %w", t.Name, err)
		}
		ways = append(ways, w)
		devices = append(devices, forProof(t, w.running, w.goal))
	}
	o := sequence.Of(r.draft.Base.Site, r.draft.Doc(), devices)
	if !r.resumed && r.push.ReadyAt == nil {
		if err := r.asRehearsed(ctx, targets, o); err != nil {
			return err
		}
	}
	held := map[string]yang.Config{}
	for _, w := range ways {
		held[w.ID] = w.running
	}
	if err := r.notePlan(ctx, targets, held, o); err != nil {
		return err
	}
	if err := r.byHand(ctx, ways, o); err != nil {
		return err
	}
	if err := r.carrySteps(ctx, ways, o); err != nil {
		return err
	}
	for _, t := range r.draft.Zones() {
		if err := r.prepare(ctx, t); err != nil {
			return fmt.Errorf("%s: %w", t.Name, err)
		}
	}
	if where, err := r.climb(ctx, drivers); err != nil {
		return fmt.Errorf("%s: %w", where, err)
	}
	return nil
}

// reading is what a device answers that is asked for what it holds. The devices of a push are asked at once.
type reading struct {
	driver           *device.RESTCONF
	running, startup yang.Config
	tag              string
	state            device.ChangeState
	err              error
	done             chan struct{}
}

// readings asks every device that is reached for what it holds, and adds its driver to drivers, which the caller
// closes.
func (r *run) readings(ctx context.Context, targets []order.Target, drivers map[string]*device.RESTCONF,
) (map[string]*reading, error) {
	out := map[string]*reading{}
	for _, t := range targets {
		if t.Access == nil {
			continue
		}
		driver, err := r.devices.Reach(*t.Access)
		if err != nil {
			return out, fmt.Errorf("%s: %w", t.Name, err)
		}
		drivers[t.ID] = driver
		one := &reading{driver: driver, state: device.ChangeAbsent, done: make(chan struct{})}
		out[t.ID] = one
		go func() {
			defer close(one.done)
			one.err = one.ask(ctx, r)
		}()
	}
	return out, nil
}

func (o *reading) ask(ctx context.Context, r *run) (err error) {
	if o.running, o.tag, err = o.driver.Read(ctx); err != nil {
		return err
	}
	if o.startup, err = o.driver.Startup(ctx); err != nil || !r.resumed {
		return err
	}
	o.state, err = o.driver.Change(ctx, r.token)
	return err
}

// read is what a device holds, and what it must hold.
func (r *run) read(ctx context.Context, t order.Target, asked *reading) (*way, error) {
	base, wanted := t.Configs(r.draft)
	back := r.draft.PutBack(t.ID)
	w := &way{Target: t, state: device.ChangeAbsent}
	if t.Access == nil {
		book, err := r.runbook(ctx, t.ID, base)
		if err != nil {
			return w, err
		}
		w.driver, w.goal = book, wanted
		w.running, _, err = book.Read(ctx)
		return w, err
	}
	return w, r.note(ctx, t.Name, "read", "Read what the device holds", func() error {
		<-asked.done
		if asked.err != nil {
			return asked.err
		}
		w.driver, w.running, w.startup, w.tag = asked.driver, asked.running, asked.startup, asked.tag
		w.state = asked.state
		undecided := drift.Undecided(drift.Between(r.draft.Doc().Own(), base, w.running, wanted), back)
		if n := len(undecided); n > 0 && w.state == device.ChangeAbsent {
			return fmt.Errorf("%s (%s)", order.Drifted(t.Name, n), undecided[0].What)
		}
		if !w.startup.Equal(w.running) && w.state == device.ChangeAbsent {
			r.found = "it was not saved there yet: the confirm saves it"
		}
		w.goal = drift.Target(w.running, base, wanted, back)
		if next, moves := movedTo(t.Access.URL, w.running, w.goal); moves {
			asked.driver.AlsoAt(next)
		}
		return nil
	})
}

// movedTo is where a device is found after a change that gives the interface by whose address it is reached another
// one.
func movedTo(at string, was, now yang.Config) (string, bool) {
	u, err := url.Parse(at)
	if err != nil {
		return "", false
	}
	a, err := netip.ParseAddr(u.Hostname())
	if err != nil {
		return "", false
	}
	for _, i := range was.Interfaces.Interface {
		if i.IPv4 == nil || !slices.ContainsFunc(i.IPv4.Address, func(o yang.Address) bool { return o.IP == a }) {
			continue
		}
		for _, j := range now.Interfaces.Interface {
			if j.Name != i.Name || j.IPv4 == nil || len(j.IPv4.Address) == 0 || slices.ContainsFunc(j.IPv4.Address,
				func(o yang.Address) bool { return o.IP == a }) {
				continue
			}
			host := j.IPv4.Address[0].IP.String()
			if port := u.Port(); port != "" {
				host = net.JoinHostPort(host, port)
			}
			u.Host = host
			return u.String(), true
		}
	}
	return "", false
}

// carrySteps has every device that is reached keep what it holds, carries the steps out, and reads each device back.
func (r *run) carrySteps(ctx context.Context, ways []*way, o sequence.Order) error {
	reached := map[string]*way{}
	r.began = time.Now()
	for _, w := range ways {
		if w.Access == nil {
			continue
		}
		reached[w.ID] = w
		says := "Keep what it holds aside"
		if err := r.note(ctx, w.Name, "begin", says, func() error { return r.begin(ctx, w) }); err != nil {
			return fmt.Errorf("%s: %w", w.Name, err)
		}
	}
	steps := slices.DeleteFunc(slices.Clone(o.Steps), func(s sequence.Placed) bool { return reached[s.Device] == nil })
	if err := r.expect(ctx, len(reached), len(steps)); err != nil {
		return err
	}
	for _, st := range steps {
		w := reached[st.Device]
		if r.stopped {
			return r.goesOn(ctx)
		}
		err := r.note(ctx, w.Name, "step", st.Verb+" "+st.Text, func() error {
			return r.apply(ctx, w.driver, st.Step)
		})
		if err != nil {
			return fmt.Errorf("%s: %w", w.Name, err)
		}
	}
	for _, w := range ways {
		if w.Access == nil {
			continue
		}
		err := r.note(ctx, w.Name, "compare", "Read back and compare", func() error {
			r.goals[w.ID] = w.goal
			if err := holds(ctx, w.driver, w.goal); err != nil {
				return err
			}
			state, err := r.ask(ctx, w.driver, r.token)
			if err == nil && state != device.ChangeWaiting {
				err = &returnedError{} // it has restarted: what was written since is no change that it would undo
			}
			return err
		})
		if err != nil {
			return fmt.Errorf("%s: %w", w.Name, err)
		}
	}
	return nil
}

// apply carries a step out, and tries it again where it got lost on the way. A device that has restarted meanwhile
// holds no change that it would undo: nothing more is written to it.
func (r *run) apply(ctx context.Context, driver device.Driver, st plan.Step) error {
	tried := false
	return again(ctx, func() error {
		if tried {
			state, err := driver.Change(ctx, r.token)
			if err != nil {
				return err
			}
			if state != device.ChangeWaiting {
				return &returnedError{}
			}
		}
		tried = true
		return driver.Apply(ctx, st)
	})
}

// expect notes how many lines the journal is about to have, and when devices undo the change by themselves.
func (r *run) expect(ctx context.Context, devices, steps int) error {
	const rungs = 4 // of a ladder, about
	at := r.began.Add(r.Timing.ConfirmWithin)
	lines := steps + 2*devices + 2*len(r.draft.Zones()) + rungs*len(r.networks) + 1
	return stored(r.store.SetPushSpan(ctx,
		gen.SetPushSpanParams{ID: r.push.ID, Run: r.id, More: int32(lines), ReturnsAt: &at}))
}

// goesOn reports an error where somebody has told the push to stop.
func (r *run) goesOn(ctx context.Context) error {
	name, err := r.store.Stopper(ctx, r.push.ID)
	switch {
	case err != nil:
		return stored(err)
	case name != "":
		return errors.New("Stopped by " + name)
	}
	return nil
}

// begin keeps what the device holds, here and on the device, before anything of it is changed, and gives it the
// passwords that it needs. A change that waits there since another run began it goes on.
func (r *run) begin(ctx context.Context, w *way) error {
	if w.state == device.ChangeAbsent {
		before, err1 := json.Marshal(w.running)
		startup, err2 := json.Marshal(w.startup)
		if err := errors.Join(err1, err2); err != nil {
			return err
		}
		if err := r.stillOurs(r.store.PutPushDevice(ctx, gen.PutPushDeviceParams{PushID: r.push.ID, DeviceID: w.ID,
			Name:   w.Name,
			Before: before, Startup: startup, Run: r.id})); err != nil {
			return stored(err)
		}
	}
	if err := w.driver.Begin(ctx, r.token, r.Timing.ConfirmWithin, w.tag); err != nil {
		return err
	}
	return r.devices.HandOver(ctx, r.push.SiteID, w.goal, w.driver.(*device.RESTCONF))
}

// untouched lists the devices a draft changes that a push has not come to.
func untouched(targets []order.Target, devices []gen.PushDevice) []string {
	var out []string
	for _, t := range targets {
		if !slices.ContainsFunc(devices, func(d gen.PushDevice) bool { return d.DeviceID == t.ID }) {
			out = append(out, t.Name)
		}
	}
	return out
}
