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

	"github.com/jackc/pgx/v5"

	"lithos/core/option"
	"lithos/core/plan"
	"lithos/core/sequence"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/device"
	"lithos/internal/order"
	"lithos/internal/store/gen"
)

// The parts of a runbook.
const (
	partDo   = "do"   // a step
	partAsk  = "ask"  // what should be seen when the steps are done
	partBack = "back" // a step by which it is undone
)

// HandLine is one line of a runbook.
type HandLine struct {
	Seq    int32        `json:"seq"`
	Number int          `json:"number" doc:"of a step, among those of all devices of the push; of others their place in their part"`
	Device string       `json:"device"`
	Part   string       `json:"part" enum:"do,ask,back"`
	Says   string       `json:"says"`
	Why    string       `json:"why,omitempty"`
	Values []plan.Value `json:"values" doc:"what is typed in"`
	Expect string       `json:"expect,omitempty" doc:"what should be seen"`
	Answer string       `json:"answer,omitempty" doc:"what was seen"`
	By     string       `json:"by,omitempty"` // who has ticked it
	At     *time.Time   `json:"at,omitempty"`
}

// runbook drives somebody at the console of a device that Lithos does not reach. What the device holds is what it is
// believed to have held, with the steps that were ticked.
type runbook struct {
	before yang.Config
	lines  []gen.HandRow
}

var (
	_ device.Driver = runbook{}
	_ device.Driver = (*device.RESTCONF)(nil)
)

func (r *run) runbook(ctx context.Context, deviceID string, before yang.Config) (runbook, error) {
	lines, err := r.store.Hand(ctx, r.push.ID)
	if err != nil {
		return runbook{}, stored(err)
	}
	return runbook{before, slices.DeleteFunc(lines, func(l gen.HandRow) bool { return l.DeviceID != deviceID })}, nil
}

// ticked lists the steps that somebody has done.
func (b runbook) ticked() ([]plan.Step, error) {
	var out []plan.Step
	for _, l := range b.lines {
		if l.Part != partDo || l.DoneAt == nil {
			continue
		}
		var s plan.Step
		if err := json.Unmarshal(l.Step, &s); err != nil {
			return nil, fmt.Errorf("line %d of the runbook: %w", l.Seq, err)
		}
		out = append(out, s)
	}
	return out, nil
}

// done reports whether every line that leads forward is ticked.
func (b runbook) done() bool {
	return len(b.lines) > 0 && !slices.ContainsFunc(b.lines,
		func(l gen.HandRow) bool { return l.Part != partBack && l.DoneAt == nil })
}

// Read implements device.Driver.
func (b runbook) Read(context.Context) (yang.Config, string, error) {
	steps, err := b.ticked()
	now := b.before
	for _, s := range steps {
		err = errors.Join(err, s.Apply(&now))
	}
	return now, "", err
}

// Startup implements device.Driver: what is typed at a console is taken to be saved with the last step.
func (b runbook) Startup(ctx context.Context) (yang.Config, error) {
	c, _, err := b.Read(ctx)
	return c, err
}

// Begin implements device.Driver: nothing undoes by itself what is typed at a console.
func (b runbook) Begin(context.Context, string, time.Duration, string) error { return nil }

// Apply implements device.Driver: a step that is not ticked yet is waited for.
func (b runbook) Apply(_ context.Context, s plan.Step) error {
	steps, err := b.ticked()
	if err == nil && !slices.ContainsFunc(steps,
		func(t plan.Step) bool { return t.Path == s.Path && t.Method == s.Method }) {
		err = errByHand
	}
	return err
}

// Change implements device.Driver.
func (b runbook) Change(context.Context, string) (device.ChangeState, error) {
	switch steps, err := b.ticked(); {
	case err != nil:
		return "", err
	case len(steps) == 0:
		return device.ChangeAbsent, nil
	case b.done():
		return device.ChangeConfirmed, nil
	}
	return device.ChangeWaiting, nil
}

// Confirm implements device.Driver: what was seen afterwards is what should be seen.
func (b runbook) Confirm(context.Context, string) error {
	if !b.done() {
		return errByHand
	}
	return nil
}

// Cancel implements device.Driver: it says what is to be done by hand.
func (b runbook) Cancel(context.Context, string) error {
	steps, err := b.ticked()
	if err == nil && len(steps) > 0 {
		err = errByHand
	}
	return err
}

// Close implements device.Driver.
func (b runbook) Close() {}

// byHand writes the runbooks of the devices that are not reached, and reports errByHand until they are done.
func (r *run) byHand(ctx context.Context, ways []*way, o sequence.Order) error {
	waits := false
	for _, w := range ways {
		book, is := w.driver.(runbook)
		if !is {
			continue
		}
		if len(book.lines) == 0 {
			if err := r.writeRunbook(ctx, w, o); err != nil {
				return fmt.Errorf("%s: %w", w.Name, err)
			}
		}
		waits = waits || !book.done()
	}
	if waits {
		return errByHand
	}
	return nil
}

func (r *run) writeRunbook(ctx context.Context, w *way, o sequence.Order) error {
	before, err := json.Marshal(w.running)
	if err != nil {
		return err
	}
	var steps []numbered
	for i, s := range o.Steps {
		if s.Device == w.ID {
			steps = append(steps, numbered{s.Step, i + 1})
		}
	}
	says := "Not reached by Lithos: " + site.Counted(len(steps), "step") + " to be done by hand"
	if err := r.skip(ctx, w.Name, "by hand", says); err != nil {
		return err
	}
	return stored(r.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		// The run may have lost its hold, and another may have written it.
		if err := r.moveIn(ctx, q, r.push.State, ""); err != nil {
			return err
		}
		if err := r.stillOurs(q.PutPushDevice(ctx, gen.PutPushDeviceParams{PushID: r.push.ID, DeviceID: w.ID,
			Name:   w.Name,
			Before: before, ByHand: true, Run: r.id})); err != nil {
			return err
		}
		if err := r.putSteps(ctx, q, w.ID, w.Name, partDo, steps); err != nil {
			return err
		}
		for _, a := range plan.ReadBack(r.draft.Doc().Own(), plain(steps), w.running, w.goal) {
			if err := q.PutHand(ctx, gen.PutHandParams{PushID: r.push.ID, DeviceID: w.ID, Name: w.Name, Part: partAsk,
				Says: a.Says, Expect: a.Expect}); err != nil {
				return err
			}
		}
		return nil
	}))
}

// numbered is a step with its number among those of all devices of the push; 0 for one that puts something back.
type numbered struct {
	plan.Step
	Number int `json:"number,omitempty"`
}

func plain(steps []numbered) []plan.Step {
	var out []plan.Step
	for _, s := range steps {
		out = append(out, s.Step)
	}
	return out
}

func (r *run) putSteps(
	ctx context.Context, q *gen.Queries, id, name, part string, steps []numbered,
) error {
	for _, s := range steps {
		raw, err := json.Marshal(s)
		if err == nil {
			err = q.PutHand(ctx, gen.PutHandParams{PushID: r.push.ID, DeviceID: id, Name: name, Part: part,
				Says: s.Verb + " " + s.Text, Why: s.Why, Step: raw})
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// atConsole is a device whose runbook takes part in a push.
type atConsole struct {
	*run
	d      gen.PushDevice
	before yang.Config
	left   bool // nothing was done there, so that nothing is to be put back
}

func (h *atConsole) keeps() string   { return "Verified by hand" }
func (h *atConsole) returns() string { return "Put back by hand" }
func (h *atConsole) close()          {}

func (h *atConsole) keep(ctx context.Context) error {
	book, err := h.runbook(ctx, h.d.DeviceID, h.before)
	if err != nil {
		return err
	}
	last := book.lines[len(book.lines)-1]
	h.found = "by " + last.Doer
	return book.Confirm(ctx, h.token)
}

// putBack writes down how what was done at the console is undone there.
func (h *atConsole) putBack(ctx context.Context) error {
	book, err := h.runbook(ctx, h.d.DeviceID, h.before)
	if err != nil {
		return err
	}
	if !errors.Is(book.Cancel(ctx, h.token), errByHand) {
		h.found, h.left = "nothing was done there", true
		return nil
	}
	now, _, err := book.Read(ctx)
	if err != nil {
		return err
	}
	var steps []numbered
	for _, st := range plan.Between(now, h.before) {
		steps = append(steps, numbered{Step: st})
	}
	h.found = site.Counted(len(steps), "step") + " below"
	if slices.ContainsFunc(book.lines, func(l gen.HandRow) bool { return l.Part == partBack }) {
		return nil
	}
	return stored(h.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		if err := h.moveIn(ctx, q, h.push.State, h.push.Problem); err != nil {
			return err
		}
		return h.putSteps(ctx, q, h.d.DeviceID, h.d.Name, partBack, steps)
	}))
}

// returned is the state it is in when a push has let it go.
func (h *atConsole) returned() string {
	if h.left {
		return deviceReturned
	}
	return deviceByHand
}

// handLines is the runbooks of a push.
func (s *Service) handLines(ctx context.Context, push int64) ([]HandLine, error) {
	rows, err := s.store.Hand(ctx, push)
	out := []HandLine{}
	place := map[string]int{}
	for _, l := range rows {
		place[l.Name+l.Part]++
		line := HandLine{Seq: l.Seq, Number: place[l.Name+l.Part], Device: l.Name, Part: l.Part, Says: l.Says,
			Why: l.Why, Values: []plan.Value{},
			Expect: l.Expect, Answer: l.Answer, By: l.Doer, At: l.DoneAt}
		var step numbered
		if len(l.Step) > 0 && json.Unmarshal(l.Step, &step) == nil {
			line.Values = append(line.Values, plan.Values(option.Own(nil), step.Step)...)
			line.Number = cmp.Or(step.Number, line.Number)
		}
		out = append(out, line)
	}
	return out, err
}

// mostSeen bounds what somebody may say they saw, in octets.
const mostSeen = 200

// Tick records that a technician has done a line of a runbook, or what they saw at the console. A line is refused while
// one before it on the same device is open: what a device holds after each is known only in their order. So is an
// answer that is not what should be seen; it is kept, and asked again.
func (s *Service) Tick(ctx context.Context, by actor.Technician, id int64, seq int32, seen string) error {
	push, line, before, err := s.line(ctx, id, seq)
	if err != nil {
		return err
	}
	if before != "" {
		return actor.Refuse(actor.Conflict, "Do “%s” first: the lines are done in their order.", before)
	}
	seen = strings.TrimSpace(seen)
	if len(seen) > mostSeen || site.Printable(seen, mostSeen) != seen {
		return actor.Refuse(actor.Invalid, "Type what you see in at most %d characters of text.", mostSeen)
	}
	wrong := line.Part == partAsk && !plan.SameAnswer(seen, line.Expect)
	err = s.store.InTx(ctx, func(q *gen.Queries, tx pgx.Tx) error {
		tick := gen.TickHandParams{By: by.ID, Answer: seen, PushID: push, Seq: seq}
		do, what := func() (int64, error) { return q.TickHand(ctx, tick) }, "ticked"
		if wrong {
			do, what = func() (int64, error) {
				return q.AnswerHand(ctx, gen.AnswerHandParams{Answer: seen, PushID: push, Seq: seq})
			}, "saw-otherwise"
		}
		n, err := do()
		if err == nil && n == 0 {
			err = actor.Refuse(
				actor.Conflict, "Somebody has ticked that already, or the push does not wait for it any more.")
		}
		if err != nil {
			return err
		}
		says := line.Name + ": " + line.Says
		if seen != "" {
			says += " " + seen
		}
		return errors.Join(actor.Record(ctx, q, by, what, order.Name(id), says), s.goOn(ctx, q, tx, push),
			actor.Publish(ctx, q, actor.PushEvent(id)))
	})
	if err == nil && wrong {
		err = actor.Refuse(actor.Invalid, "%s should show %s, and you saw %s. Do its steps again, or stop the push.",
			line.Name,
			line.Expect, seen)
	}
	return err
}

// Untick takes a tick back, the last of its device first.
func (s *Service) Untick(ctx context.Context, by actor.Technician, id int64, seq int32) error {
	push, line, _, err := s.line(ctx, id, seq)
	if err != nil {
		return err
	}
	rows, err := s.store.Hand(ctx, push)
	if err != nil {
		return err
	}
	for _, l := range rows {
		if l.DeviceID == line.DeviceID && l.Seq > seq && l.DoneAt != nil {
			return actor.Refuse(actor.Conflict, "Undo “%s” first: the lines are done in their order.", l.Says)
		}
	}
	n, err := s.store.UntickHand(ctx, gen.UntickHandParams{PushID: push, Seq: seq})
	if err == nil && n == 0 {
		err = actor.Refuse(actor.Conflict, "The push has gone on meanwhile. Look at it again.")
	}
	if err != nil {
		return err
	}
	return errors.Join(actor.Record(ctx, s.store.Queries, by, "unticked", order.Name(id), line.Name+": "+line.Says),
		actor.Publish(ctx, s.store.Queries, actor.PushEvent(id)))
}

// line finds a line of the newest push of an order, and what is open before it on its device.
func (s *Service) line(
	ctx context.Context, id int64, seq int32,
) (push int64, line gen.HandRow, before string, err error) {
	row, err := newest(ctx, s.store.Queries, id)
	if err != nil {
		return 0, line, "", err
	}
	rows, err := s.store.Hand(ctx, row.ID)
	if err != nil {
		return 0, line, "", err
	}
	i := slices.IndexFunc(rows, func(l gen.HandRow) bool { return l.Seq == seq })
	if i < 0 {
		return 0, line, "", actor.Refuse(actor.Missing, "The runbook has no such line.")
	}
	line = rows[i]
	for _, l := range rows[:i] {
		if l.DeviceID == line.DeviceID && l.DoneAt == nil && (l.Part == partBack) == (line.Part == partBack) {
			return row.ID, line, l.Says, nil
		}
	}
	return row.ID, line, "", nil
}

// goOn puts a push back in the queue that waits for nobody at a console any more.
func (s *Service) goOn(ctx context.Context, q *gen.Queries, tx pgx.Tx, push int64) error {
	n, err := q.HandDone(ctx, push)
	if err != nil || n == 0 {
		return err
	}
	_, err = s.jobs.InsertTx(ctx, tx, PushArgs{push}, nil)
	return err
}

// Stop tells a push to stop: every device is put back, also one that has confirmed.
func (s *Service) Stop(ctx context.Context, by actor.Technician, id int64) error {
	return s.store.InTx(ctx, func(q *gen.Queries, tx pgx.Tx) error {
		row, err := newest(ctx, q, id)
		if err != nil {
			return err
		}
		n, err := q.StopPush(ctx, gen.StopPushParams{By: by.ID, ID: row.ID})
		if err == nil && n == 0 {
			err = actor.Refuse(
				actor.Conflict, "It cannot be stopped: it has landed, has ended, or is being put back already.")
		}
		if err != nil {
			return err
		}
		return errors.Join(actor.Record(ctx, q, by, "push-stopped", order.Name(id), "Told to stop by "+by.FullName),
			s.goOn(ctx, q, tx, row.ID), actor.Publish(ctx, q, actor.PushEvent(id)))
	})
}
