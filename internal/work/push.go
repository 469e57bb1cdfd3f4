package work

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"lithos/core/check"
	"lithos/core/dhcp"
	"lithos/core/plan"
	"lithos/core/rehearse"
	"lithos/core/site"
	"lithos/core/survey"
	"lithos/internal/device"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// PushView is a push with its journal.
type PushView struct {
	ID       int64          `json:"id"`
	State    string         `json:"state" enum:"queued,running,landed,failed"`
	Problem  string         `json:"problem,omitempty"`
	By       string         `json:"by"`
	At       time.Time      `json:"at"`
	Finished *time.Time     `json:"finished,omitempty"`
	Journal  []JournalEntry `json:"journal"`
}

// JournalEntry is one line of a push's journal.
type JournalEntry struct {
	At     time.Time `json:"at"`
	Device string    `json:"device"`
	Stage  string    `json:"stage"`
	Says   string    `json:"says"`
	State  string    `json:"state" enum:"running,done,failed"`
}

func (s *Service) latestPush(ctx context.Context, order int64) (*PushView, error) {
	row, err := store.Found(s.store.LatestPush(ctx, order))
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	v := &PushView{ID: row.ID, State: row.State, Problem: row.Problem, By: row.Starter, At: row.StartedAt, Finished: row.FinishedAt, Journal: []JournalEntry{}}
	lines, err := s.store.Journal(ctx, row.ID)
	for _, l := range lines {
		v.Journal = append(v.Journal, JournalEntry{l.At, l.Device, l.Stage, l.Says, l.State})
	}
	return v, err
}

// Push starts carrying a rehearsed draft to the devices, in the background. It
// refuses a draft that brings in blocking findings, was changed since its
// rehearsal, or is based on an older revision than the site's newest.
func (s *Service) Push(ctx context.Context, by Technician, id int64, version int32) (int64, error) {
	d, err := s.editable(ctx, id, version)
	if err != nil {
		return 0, err
	}
	head := d.head(nil)
	with, err := s.surroundings(ctx, d.Doc)
	if err != nil {
		return 0, err
	}
	scene{added: map[string]bool{}}.addAround(check.Added(check.Around(d.Base, with), check.Around(d.Doc, with)), head)
	switch {
	case head.Edits == 0:
		return 0, refuse(Conflict, "There is nothing to push: the draft has no edits.")
	case head.Behind:
		return 0, refuse(Conflict, "The site has a newer revision than this draft. Move the draft to it first.")
	case head.Blocking > 0:
		return 0, refuse(Conflict, "%d findings of this draft block the push. Fix them first.", head.Blocking)
	case !head.Rehearsed:
		return 0, refuse(Conflict, "This draft was not rehearsed since its last change. Rehearse it first.")
	}
	var push int64
	err = s.store.InTx(ctx, func(q *gen.Queries, tx pgx.Tx) error {
		n, err := q.TouchOrder(ctx, gen.TouchOrderParams{ID: id, Version: version})
		if err == nil && n == 0 {
			err = movedOn(d)
		}
		if err != nil {
			return err
		}
		if err := q.SetOrderState(ctx, gen.SetOrderStateParams{ID: id, State: "pushing"}); err != nil {
			return err
		}
		if push, err = q.StartPush(ctx, gen.StartPushParams{OrderID: id, SiteID: d.Order.SiteID, Version: version, StartedBy: by.ID}); err != nil {
			return err
		}
		if _, err := s.jobs.InsertTx(ctx, tx, PushArgs{push}, nil); err != nil {
			return err
		}
		return publish(ctx, q, orderEvent(id, 0))
	})
	if store.IsDuplicate(err, "push_one_a_site") {
		return 0, refuse(Conflict, "Another push to this site is under way. Wait until it has ended.")
	}
	return push, err
}

// PushArgs is the job that carries out a push.
type PushArgs struct {
	Push int64 `json:"push"`
}

// Kind implements river.JobArgs.
func (PushArgs) Kind() string { return "push" }

type pushWorker struct {
	river.WorkerDefaults[PushArgs]
	*Service
}

// Timeout implements river.Worker.
func (pushWorker) Timeout(*river.Job[PushArgs]) time.Duration { return 15 * time.Minute }

// Work implements river.Worker. A push that was interrupted is taken up from
// what is stored and what the device holds.
func (w pushWorker) Work(ctx context.Context, job *river.Job[PushArgs]) error {
	return w.carryOut(ctx, job.Args.Push)
}

// pushing is one push on its way.
type pushing struct {
	*Service
	push  gen.Push
	draft *Draft
	token string
	began time.Time // when the first device began to wait for its confirm
	found string    // what the line of the journal now being written came to, such as an address
}

// pushLock is the class of the advisory locks that keep two processes from
// carrying out one push. PostgreSQL frees a lock with its connection, so that a
// killed process holds none.
const pushLock = 4471

func (s *Service) carryOut(ctx context.Context, id int64) error {
	conn, err := s.store.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	var mine bool
	if err := conn.QueryRow(ctx, "SELECT pg_try_advisory_lock($1, $2)", pushLock, int32(id)).Scan(&mine); err != nil || !mine {
		return err // not mine: another process has it in hand
	}
	defer func() {
		_, _ = conn.Exec(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock($1, $2)", pushLock, int32(id))
	}()
	row, err := s.store.PushByID(ctx, id)
	if err != nil {
		return err
	}
	if row.State == "landed" || row.State == "failed" {
		return nil // a process died after the end of the push and before the end of the job
	}
	d, err := s.Draft(ctx, row.OrderID)
	if err != nil {
		return err
	}
	p := &pushing{Service: s, push: row, draft: d, token: fmt.Sprintf("lithos-push-%d", id)}
	if row.State == "running" {
		if err := s.store.CloseJournal(ctx, gen.CloseJournalParams{PushID: id, State: "failed"}); err != nil {
			return err
		}
		_ = p.note(ctx, "", "resume", "The push was interrupted; going on from what the device holds", func() error { return nil })
	}
	if err := p.state(ctx, "running", ""); err != nil {
		return err
	}
	targets, err := s.targets(ctx, d)
	if err != nil {
		return err
	}
	targets = slices.DeleteFunc(targets, func(t target) bool { return t.access == nil })
	if err := p.all(ctx, targets); err != nil {
		if ctx.Err() != nil {
			return err // this process is ending; another takes the job up
		}
		return p.fail(ctx, err)
	}
	return nil
}

// all changes the devices one after another, each under its timed confirm, climbs
// the ladder when every one holds what it must, confirms, and lands the new revision.
func (p *pushing) all(ctx context.Context, targets []target) error {
	var begun []*device.RESTCONF
	drivers := map[string]*device.RESTCONF{} // by device id
	p.began = time.Now()
	for _, t := range targets {
		driver, err := p.reach(*t.access)
		if err != nil {
			return err
		}
		defer driver.Close()
		begun, drivers[t.id] = append(begun, driver), driver
		if err := p.one(ctx, t, driver); err != nil {
			if ctx.Err() == nil {
				p.giveBack(ctx, targets, begun)
			}
			return fmt.Errorf("%s: %w. %s", t.name, err, outcomes(targets, len(begun)))
		}
	}
	if where, err := p.climb(ctx, drivers); err != nil {
		if ctx.Err() == nil {
			p.giveBack(ctx, targets, begun)
		}
		return fmt.Errorf("%s: %w. %s", where, err, outcomes(targets, len(begun)))
	}
	for i, driver := range begun {
		err := p.note(ctx, targets[i].name, "confirm", "Confirm, and save as startup configuration", func() error { return driver.Confirm(ctx, p.token) })
		if err != nil {
			p.giveBack(ctx, targets[i:], begun[i:])
			return err
		}
	}
	return p.land(ctx)
}

// outcomes says what became of each device of a push that stopped at the last
// of those begun.
func outcomes(targets []target, begun int) string {
	var back, untouched []string
	for i, t := range targets {
		if i < begun {
			back = append(back, t.name)
		} else {
			untouched = append(untouched, t.name)
		}
	}
	says := "Returned to what it held before: " + strings.Join(back, ", ") + "."
	if len(untouched) > 0 {
		says += " Not touched: " + strings.Join(untouched, ", ") + "."
	}
	return says
}

func (p *pushing) giveBack(ctx context.Context, targets []target, begun []*device.RESTCONF) {
	for i, driver := range begun {
		err := p.note(ctx, targets[i].name, "return", "Return to the configuration from before the push", func() error {
			err := driver.Cancel(ctx, p.token)
			var refused *device.RefusedError
			if errors.As(err, &refused) {
				return nil // nothing had begun, or the device has returned by itself
			}
			return err
		})
		if err != nil {
			p.log.Warn("the device could not be told to return; it will by itself", "device", targets[i].name, "error", err)
		}
	}
}

// one brings one device to what it must hold, and reads that back.
func (p *pushing) one(ctx context.Context, t target, driver *device.RESTCONF) error {
	var steps []plan.Step
	goal := t.wanted
	err := p.note(ctx, t.name, "read", "Read what the device holds", func() error {
		running, tag, err := driver.Read(ctx)
		if err != nil {
			return err
		}
		if err := driver.Begin(ctx, p.token, p.confirmWithin, tag); err != nil {
			return err
		}
		if err := p.handOver(ctx, p.draft.Order.SiteID, t.wanted, driver); err != nil {
			return err
		}
		goal = plan.Target(running, t.base, t.wanted)
		steps = plan.Between(running, goal)
		return nil
	})
	if err != nil {
		return err
	}
	for _, st := range steps {
		if err := p.note(ctx, t.name, "step", st.Verb+" "+st.Text, func() error { return again(ctx, func() error { return driver.Apply(ctx, st) }) }); err != nil {
			return err
		}
	}
	return p.note(ctx, t.name, "compare", "Read back and compare", func() error {
		held, _, err := driver.Read(ctx)
		if err == nil && !held.Equal(goal) {
			err = fmt.Errorf("the device holds something else than it was told: %s", firstDifference(plan.Between(held, goal)))
		}
		return err
	})
}

func firstDifference(left []plan.Step) string {
	if len(left) == 0 {
		return "an order that Lithos does not know"
	}
	return left[0].Verb + " " + left[0].Text + " is still to do"
}

const attempts = 3

// again repeats what failed on the way to the device. A refusal is final.
func again(ctx context.Context, do func() error) error {
	var err error
	for i := range attempts {
		var refused *device.RefusedError
		if err = do(); err == nil || errors.As(err, &refused) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(i+1) * 200 * time.Millisecond):
		}
	}
	return err
}

// climb runs the rungs of the ladder for every network the draft touches, with a
// client of Lithos's own on the device that hears the network, whether the push
// changed that device or not, for as long as half of what the devices wait for
// their confirm. drivers are those of the devices it changed. Where a rung fails,
// it says on which device.
func (p *pushing) climb(ctx context.Context, drivers map[string]*device.RESTCONF) (where string, err error) {
	access, err := p.store.AccessOfSite(ctx, p.draft.Order.SiteID)
	if err != nil {
		return "", err
	}
	networks := touched(p.draft)
	for k, id := range networks {
		n, ok := p.draft.Doc.Network(id)
		if !ok {
			continue
		}
		if time.Since(p.began) > p.confirmWithin/2 {
			says := fmt.Sprintf("%d more networks are not climbed: the devices wait for their confirm", len(networks)-k)
			return "", p.note(ctx, "", "ladder", says, func() error { return nil })
		}
		d, i, on := hearing(p.draft.Doc, n)
		if !on {
			continue
		}
		driver := drivers[d.ID]
		if at := slices.IndexFunc(access, func(a gen.DeviceAccess) bool { return a.DeviceID == d.ID }); driver == nil && at >= 0 {
			if driver, err = p.reach(access[at]); err != nil {
				return d.Name, err
			}
			defer driver.Close()
			drivers[d.ID] = driver
		}
		if driver == nil {
			continue // nobody can plug a client in there from here
		}
		if err := (ladder{p, n, d.Name, i.Name, driver}).climb(ctx); err != nil {
			return d.Name, err
		}
	}
	return "", nil
}

// ladder is the rungs of one network, climbed from an interface of a device.
type ladder struct {
	*pushing
	network       *site.Network
	device, iface string
	driver        *device.RESTCONF
}

func (l ladder) climb(ctx context.Context) error {
	doc, n := l.draft.Doc, l.network
	err := l.rung(ctx, "Link of ", func() error {
		l.found = "`" + l.iface + "` is up"
		return linkUp(ctx, l.driver, l.iface)
	})
	if err != nil {
		return err
	}
	router := n.Gateway
	if rehearse.Ladder(time.Now(), doc, n, nil)[1].State == rehearse.Pass {
		err := l.rung(ctx, "Lease on ", func() error {
			router, err = l.probe(ctx, l.driver, n, l.iface)
			return err
		})
		if err != nil {
			return err
		}
	}
	if !router.IsValid() {
		return nil
	}
	if err := l.rung(ctx, "Gateway of ", func() error { return l.answers(ctx, router) }); err != nil {
		return err
	}
	if !l.Outside.IsValid() || rehearse.InternetRung(doc, n).State != rehearse.Pass {
		return nil
	}
	return l.rung(ctx, "Internet from ", func() error { return l.answers(ctx, l.Outside) })
}

func (l ladder) rung(ctx context.Context, name string, do func() error) error {
	return l.note(ctx, l.device, "ladder", name+l.network.Name, do)
}

// answers pings an address from the interface.
func (l ladder) answers(ctx context.Context, a netip.Addr) error {
	l.found = "`" + a.String() + "` answers"
	replies, err := l.driver.Ping(ctx, l.iface, a)
	if err == nil && replies == 0 {
		err = fmt.Errorf("%s does not answer", a)
	}
	return err
}

func linkUp(ctx context.Context, driver *device.RESTCONF, iface string) error {
	o, err := driver.Observe(ctx)
	if err != nil {
		return err
	}
	for _, i := range o.Interfaces.Interface {
		if i.Name == iface && i.OperStatus == "up" {
			return nil
		}
	}
	return fmt.Errorf("%s is not up", iface)
}

// probe leases an address on the network, checks it against what the pools may
// hand out, and gives it back. It returns the router the client was told.
func (p *pushing) probe(ctx context.Context, driver *device.RESTCONF, n *site.Network, iface string) (netip.Addr, error) {
	wire, detach, err := driver.Attach(ctx, iface)
	if err != nil {
		return netip.Addr{}, err
	}
	defer detach()
	c := &dhcp.Client{MAC: rehearse.ProbeMAC, HostName: "lithos-probe"}
	passed, err := c.Exchange(wire)
	if err != nil {
		return netip.Addr{}, err
	}
	if !c.Address.IsValid() {
		return netip.Addr{}, fmt.Errorf("a new client gets no address: %s", passed[len(passed)-1].Why)
	}
	_, _, _ = wire(c.Release().ToBytes())
	p.found = "a new client gets `" + c.Address.String() + "`"
	inPool := slices.ContainsFunc(p.draft.Doc.Pools, func(q site.Pool) bool {
		if q.Network != n.ID {
			return false
		}
		for _, r := range survey.Offered(p.draft.Doc, &q) {
			if r.Contains(c.Address) {
				return true
			}
		}
		return false
	})
	if !inPool {
		return netip.Addr{}, fmt.Errorf("a new client got %s, which no pool may hand out", c.Address)
	}
	return passed[len(passed)-1].Router(), nil
}

// touched lists the networks a draft's edits concern, in address order.
func touched(d *Draft) []string {
	hit := map[string]bool{}
	for _, e := range live(d.Steps) {
		for _, ref := range []site.Ref{e.Part, e.In} {
			if ref.Kind == site.KindSite {
				for _, n := range d.Doc.Networks {
					hit[n.ID] = true
				}
			}
			for _, doc := range []*site.Site{d.Doc, d.Base} {
				if in, _, ok := survey.PartIn(doc, ref); ok {
					hit[in] = true
				}
			}
		}
	}
	out := []string{}
	for _, n := range d.Doc.Networks {
		if hit[n.ID] {
			out = append(out, n.ID)
		}
	}
	return out
}

// land makes the draft the site's next revision and closes the order.
func (p *pushing) land(ctx context.Context) error {
	o := p.draft.Order
	err := p.note(ctx, "", "land", fmt.Sprintf("Land revision %d of %s", o.BaseRevision+1, p.draft.Doc.Name), func() error {
		return p.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
			note := strings.TrimSpace(o.Title + " " + o.Ticket)
			if err := store.AddRevision(ctx, q, p.draft.Doc, o.BaseRevision, store.Author{Note: note, Order: o.ID, By: p.push.StartedBy}); err != nil {
				return err
			}
			if err := q.SetOrderState(ctx, gen.SetOrderStateParams{ID: o.ID, State: "landed", By: p.push.StartedBy}); err != nil {
				return err
			}
			if err := q.SetPushState(ctx, gen.SetPushStateParams{ID: p.push.ID, State: "landed"}); err != nil {
				return err
			}
			return errors.Join(
				q.ForgetSecrets(ctx, gen.ForgetSecretsParams{OrderID: &o.ID, Used: secretNames(p.draft.Doc)}),
				publish(ctx, q, Event{Topic: "site", ID: o.Code}), p.tell(ctx, q),
			)
		})
	})
	if err == nil {
		p.observeNow(ctx, o.SiteID)
	}
	return err
}

// fail records why a push ended and opens the order again.
func (p *pushing) fail(ctx context.Context, cause error) error {
	p.log.Warn("push failed", "push", p.push.ID, "error", cause)
	return p.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		return errors.Join(
			q.CloseJournal(ctx, gen.CloseJournalParams{PushID: p.push.ID, State: "failed"}),
			q.SetPushState(ctx, gen.SetPushStateParams{ID: p.push.ID, State: "failed", Problem: cause.Error()}),
			q.SetOrderState(ctx, gen.SetOrderStateParams{ID: p.draft.Order.ID, State: "open"}),
			p.tell(ctx, q),
		)
	})
}

func (p *pushing) state(ctx context.Context, state, problem string) error {
	return errors.Join(p.store.SetPushState(ctx, gen.SetPushStateParams{ID: p.push.ID, State: state, Problem: problem}), p.tell(ctx, p.store.Queries))
}

func (p *pushing) tell(ctx context.Context, q *gen.Queries) error {
	return publish(ctx, q, Event{Topic: "push", ID: strconv.FormatInt(p.draft.Order.ID, 10)})
}

// note writes a line to the journal, does what it says, and closes the line.
func (p *pushing) note(ctx context.Context, deviceName, stage, says string, do func() error) error {
	if err := p.store.WriteJournal(ctx, gen.WriteJournalParams{PushID: p.push.ID, Device: deviceName, Stage: stage, Says: says, State: "running"}); err != nil {
		return err
	}
	if err := p.tell(ctx, p.store.Queries); err != nil {
		return err
	}
	p.found = ""
	state, err := "done", do()
	detail := ""
	switch {
	case err != nil:
		state, err = "failed", fmt.Errorf("%s: %w", says, err)
	case p.found != "":
		detail = ": " + p.found
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return errors.Join(err, p.store.CloseJournal(ctx, gen.CloseJournalParams{PushID: p.push.ID, State: state, Detail: detail}), p.tell(ctx, p.store.Queries))
}
