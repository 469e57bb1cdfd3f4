package push

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// The states of the waves of an order over several sites.
const (
	wavesRunning = "running"
	wavesLanded  = "landed"
	wavesStopped = "stopped"
)

// Waves is how an order over several sites is being pushed.
type Waves struct {
	Lead     int64       `json:"lead" doc:"the first of its orders"`
	State    string      `json:"state,omitempty" enum:"running,landed,stopped" doc:"absent before it is pushed"`
	Number   int         `json:"number" doc:"of the wave under way, from 1"`
	Together bool        `json:"together" doc:"none is confirmed before every device of all sites is ready"`
	Problem  string      `json:"problem,omitempty"`
	By       string      `json:"by,omitempty"`
	At       *time.Time  `json:"at,omitempty"`
	Sites    []SiteOrder `json:"sites"`
}

// SiteOrder is the order of one site among those that belong together.
type SiteOrder struct {
	Order   int64  `json:"order"`
	Name    string `json:"name"` // of the order
	Code    string `json:"code"`
	Site    string `json:"site"`
	State   string `json:"state" enum:"open,pushing,landed,dropped"`
	Wave    int    `json:"wave" doc:"0 before it is pushed"`
	Says    string `json:"says" doc:"how it stands, in words"`
	Refuses string `json:"refuses,omitempty" doc:"why it cannot be pushed now"`
}

// TogetherWith is the orders that belong together with one; nil for an order of one site.
func (s *Service) TogetherWith(ctx context.Context, o *order.Order) (*Waves, error) {
	lead := o.ID
	if o.Lead != 0 {
		lead = o.Lead
	}
	rows, err := s.store.OrdersTogether(ctx, lead)
	if err != nil || len(rows) < 2 {
		return nil, err
	}
	v := &Waves{Lead: lead, Sites: []SiteOrder{}}
	row, err := store.Found(s.store.WaveOf(ctx, lead))
	switch {
	case err == nil:
		v.State, v.Number, v.Together, v.Problem = row.State, int(row.Number), row.Together, row.Problem
		v.By, v.At = row.Starter, &row.StartedAt
	case !errors.Is(err, store.ErrNotFound):
		return nil, err
	}
	for _, r := range rows {
		one := SiteOrder{Order: r.ID, Name: order.Name(r.ID), Code: r.Code, Site: r.Site, State: r.State,
			Wave: int(r.Wave), Says: strings.ToUpper(r.State[:1]) + r.State[1:]}
		switch {
		case r.State == "open":
			if one.Refuses, err = s.refuses(ctx, r.ID); err != nil {
				return nil, err
			}
			one.Says = "Ready"
			if one.Refuses != "" {
				one.Says = one.Refuses
			}
			if r.Push == stateFailed {
				one.Says = "Returned. " + r.Problem
			}
		case r.State == "pushing":
			one.Says = pushTitle(r.Push, nil, 0)
		}
		v.Sites = append(v.Sites, one)
	}
	return v, nil
}

// together is TogetherWith; it is refused for an order of one site.
func (s *Service) together(ctx context.Context, id int64) (*Waves, error) {
	d, err := s.drafts.Draft(ctx, id)
	if err != nil {
		return nil, err
	}
	w, err := s.TogetherWith(ctx, &d.Order)
	if err == nil && w == nil {
		err = actor.Refuse(actor.Conflict,
			"%s is of one site only. Copy it to other sites first, or push it on its own.",
			order.Name(id))
	}
	return w, err
}

// refuses is why an open order cannot be pushed now.
func (s *Service) refuses(ctx context.Context, id int64) (string, error) {
	d, err := s.drafts.Draft(ctx, id)
	if err != nil {
		return "", err
	}
	b, err := s.store.Beside(ctx, d.Order.SiteID, d.Doc().Customer.Name)
	if err != nil {
		return "", err
	}
	return d.Head(b.Access, d.Judge(b).Added).Refuses, nil
}

// RehearseTogether rehearses every open order of those that belong together. One that cannot be keeps the others from
// nothing; it says why where it stands.
func (s *Service) RehearseTogether(ctx context.Context, by actor.Technician, id int64) error {
	w, err := s.together(ctx, id)
	if err != nil {
		return err
	}
	var failed []error
	for _, one := range w.Sites {
		if one.State != "open" {
			continue
		}
		other, err := s.drafts.Draft(ctx, one.Order)
		if err == nil {
			_, err = s.Rehearse(ctx, by, one.Order, other.Order.Version)
		}
		if refusal := (*actor.Refusal)(nil); err != nil && !errors.As(err, &refusal) {
			failed = append(failed, fmt.Errorf("%s: %w", one.Name, err))
		}
	}
	return errors.Join(failed...)
}

// mostWaves bounds how many sizes of waves are given.
const mostWaves = 20

// StartWaves pushes the orders that belong together, site by site: each wave takes as many as sizes says, the last size
// again and again. The next one begins when each of the one before has landed; one that returned stops them. With
// together, all are in one wave, and either every site lands or every one returns. It is refused where one of them
// cannot be pushed that is not left out; an order that is stays open.
func (s *Service) StartWaves(
	ctx context.Context, by actor.Technician, id int64, sizes []int, together bool, without []int64,
) error {
	w, err := s.together(ctx, id)
	if err != nil {
		return err
	}
	open, err := startable(w.Sites, without)
	if err != nil {
		return err
	}
	if len(sizes) == 0 || together {
		sizes = []int{len(open)}
	}
	if len(sizes) > mostWaves || slices.Min(sizes) < 1 {
		return actor.Refuse(actor.Invalid, "Say how many sites each wave takes: at most %d numbers, each at least 1.",
			mostWaves)
	}
	var kept []int32
	for _, n := range sizes {
		kept = append(kept, int32(min(n, len(open))))
	}
	err = s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		n, err := q.PutWave(ctx, gen.PutWaveParams{Lead: w.Lead, Sizes: kept, Together: together, StartedBy: by.ID})
		if err == nil && n == 0 {
			err = actor.Refuse(actor.Conflict, "They are being pushed already.")
		}
		if err != nil {
			return err
		}
		if err := q.ForgetWaveOrders(ctx, w.Lead); err != nil {
			return err
		}
		for i, number := range waveOf(len(open), sizes) {
			if err := q.PutWaveOrder(ctx, gen.PutWaveOrderParams{OrderID: open[i].Order, Lead: w.Lead,
				Number: int32(number)}); err != nil {
				return err
			}
		}
		says := site.Counted(len(open), "site") + " in " + site.Counted(waveOf(len(open), sizes)[len(open)-1], "wave")
		return actor.Record(ctx, q, by, "waves-started", order.Name(w.Lead), says)
	})
	if err != nil {
		return err
	}
	return s.advance(ctx, w.Lead)
}

// startable are the orders of the waves: those that are open, without the sites that are left out.
func startable(sites []SiteOrder, without []int64) (open []SiteOrder, err error) {
	for _, one := range sites {
		switch {
		case one.State == "pushing":
			return nil, actor.Refuse(actor.Conflict, "%s of %s is being pushed. Wait until that has ended.", one.Name,
				one.Site)
		case slices.Contains(without, one.Order):
		case one.State == "open" && one.Refuses != "":
			return nil, actor.Refuse(actor.Conflict, "%s: %s Leave that site out, or see to it first.", one.Site,
				one.Refuses)
		case one.State == "open":
			open = append(open, one)
		}
	}
	switch {
	case len(open) > 0:
		return open, nil
	case len(without) > 0:
		return nil, actor.Refuse(actor.Invalid, "All sites that are open were left out. Leave at least one in.")
	default:
		return nil, actor.Refuse(actor.Conflict, "None of them is open any more.")
	}
}

// waveOf is the number of the wave of each of n orders, from 1.
func waveOf(n int, sizes []int) []int {
	out := make([]int, n)
	number, room := 1, sizes[0]
	for i := range out {
		if room == 0 {
			number++
			room = sizes[min(number, len(sizes))-1]
		}
		out[i] = number
		room--
	}
	return out
}

// StopWaves lets no further wave begin. What is under way goes on; it can be stopped on its own.
func (s *Service) StopWaves(ctx context.Context, by actor.Technician, id int64) error {
	d, err := s.drafts.Draft(ctx, id)
	if err != nil {
		return err
	}
	lead := id
	if d.Order.Lead != 0 {
		lead = d.Order.Lead
	}
	n, err := s.store.EndWave(ctx, gen.EndWaveParams{State: wavesStopped, Problem: "Stopped by " + by.FullName,
		Lead: lead})
	if err == nil && n == 0 {
		err = actor.Refuse(actor.Conflict, "No waves are under way.")
	}
	if err != nil {
		return err
	}
	return errors.Join(actor.Record(ctx, s.store.Queries, by, "waves-stopped", order.Name(lead), ""),
		s.tellTogether(ctx, s.store.Queries, lead))
}

// AdvanceWaves begins the waves whose turn it is, and ends those that have landed or returned.
func (s *Service) AdvanceWaves(ctx context.Context) error {
	leads, err := s.store.WavesRunning(ctx)
	for _, lead := range leads {
		err = errors.Join(err, s.advance(ctx, lead))
	}
	return err
}

// advance brings the waves of an order on. Only one process does so at a time.
func (s *Service) advance(ctx context.Context, lead int64) error {
	var start []gen.WaveOrdersRow
	var wave gen.Wave
	err := s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		var err error
		if wave, err = store.Found(q.LockWave(ctx, lead)); errors.Is(err, store.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		rows, err := q.WaveOrders(ctx, lead)
		if err != nil {
			return err
		}
		number, problem := whatNext(rows, int(wave.Number))
		switch {
		case problem != "":
			_, err = q.EndWave(ctx, gen.EndWaveParams{State: wavesStopped, Problem: problem, Lead: lead})
		case number == 0:
			return nil
		case !slices.ContainsFunc(rows, func(r gen.WaveOrdersRow) bool { return int(r.Number) == number }):
			_, err = q.EndWave(ctx, gen.EndWaveParams{State: wavesLanded, Lead: lead})
		default:
			start = slices.DeleteFunc(rows, func(r gen.WaveOrdersRow) bool {
				return int(r.Number) != number || r.PushID != nil || r.State != "open"
			})
			err = q.SetWaveNumber(ctx, gen.SetWaveNumberParams{Number: int32(number), Lead: lead})
		}
		return errors.Join(err, s.tellTogether(ctx, q, lead))
	})
	if err != nil || len(start) == 0 {
		return err
	}
	by, err := s.accounts.Acting(ctx, wave.StartedBy)
	var off *actor.Refusal
	if errors.As(err, &off) {
		return s.noteWave(ctx, lead, off.Says+" Let no further wave begin, and push what is left in your own name.")
	}
	if err == nil {
		err = s.noteWave(ctx, lead, "")
	}
	if err != nil {
		return err
	}
	for _, r := range start {
		if err := s.startInWave(ctx, by, wave, r); err != nil {
			return err
		}
	}
	return nil
}

// noteWave says why waves wait, or that they do not.
func (s *Service) noteWave(ctx context.Context, lead int64, problem string) error {
	n, err := s.store.NoteWave(ctx, gen.NoteWaveParams{Lead: lead, Problem: problem})
	if err != nil || n == 0 {
		return err
	}
	return s.tellTogether(ctx, s.store.Queries, lead)
}

// whatNext is the number of the wave that begins now, 0 while one is under way, or why none does any more.
func whatNext(rows []gen.WaveOrdersRow, now int) (number int, problem string) {
	for _, r := range rows {
		switch {
		case int(r.Number) > now:
		case r.Push == stateFailed:
			return 0, fmt.Sprintf("%s returned: %s", r.Site, r.Problem)
		case r.State == "dropped":
			return 0, r.Site + ": its order was dropped"
		}
	}
	for _, r := range rows {
		if int(r.Number) > now {
			continue
		}
		if r.PushID == nil && r.State == "open" {
			return now, "" // it was to be started, and the process was killed
		}
		if r.Push != stateLanded && r.State != "landed" {
			return 0, ""
		}
	}
	return now + 1, ""
}

// startInWave starts the push of one order of a wave. Where that is refused, the waves stop, unless the push has been
// started meanwhile by another who brought the waves on at the same time.
func (s *Service) startInWave(ctx context.Context, by actor.Technician, w gen.Wave, r gen.WaveOrdersRow) error {
	_, err := s.push(ctx, by, r.OrderID, r.Version, func(q *gen.Queries, push int64) error {
		if w.Together {
			if err := q.SetTogether(ctx, gen.SetTogetherParams{Lead: w.Lead, ID: push}); err != nil {
				return err
			}
		}
		return q.SetWavePush(ctx, gen.SetWavePushParams{PushID: push, OrderID: r.OrderID})
	})
	refusal := (*actor.Refusal)(nil)
	if !errors.As(err, &refusal) {
		return err
	}
	return s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		rows, err := q.WaveOrders(ctx, w.Lead)
		if err != nil || slices.ContainsFunc(rows, func(now gen.WaveOrdersRow) bool {
			return now.OrderID == r.OrderID && now.PushID != nil
		}) {
			return err
		}
		_, err = q.EndWave(ctx, gen.EndWaveParams{State: wavesStopped, Problem: r.Site + ": " + refusal.Says,
			Lead: w.Lead})
		return errors.Join(err, s.tellTogether(ctx, q, w.Lead))
	})
}

// tellTogether tells browsers of all orders that belong together that one of them has moved.
func (s *Service) tellTogether(ctx context.Context, q *gen.Queries, lead int64) error {
	rows, err := q.OrdersTogether(ctx, lead)
	for _, r := range rows {
		err = errors.Join(err, actor.Publish(ctx, q, actor.PushEvent(r.ID)))
	}
	return err
}

// errOthersNotReady says that a push waits for others that are confirmed together with it.
var errOthersNotReady = errors.New("others are not ready yet")

// wakeOthers has the pushes that are confirmed together with this one look at it: it is the last that became ready, or
// it goes back. Those that are not woken look by themselves, as often as snoozed jobs are looked for.
func (r *run) wakeOthers(ctx context.Context) {
	if r.push.Together == nil {
		return
	}
	switch r.push.State {
	case stateConfirming, stateLanding:
		if r.others(ctx, r.push.State) != nil {
			return
		}
	case stateReturning:
	default:
		return
	}
	err := r.store.InTx(ctx, func(q *gen.Queries, tx pgx.Tx) error {
		waiting, err := q.UnfinishedTogether(ctx, gen.UnfinishedTogetherParams{Lead: r.push.Together, Push: r.push.ID})
		if err != nil || len(waiting) == 0 {
			return err
		}
		var jobs []river.InsertManyParams
		for _, id := range waiting {
			jobs = append(jobs, river.InsertManyParams{Args: PushArgs{id}})
		}
		_, err = r.jobs.InsertManyTx(ctx, tx, jobs)
		return err
	})
	if err != nil && ctx.Err() == nil {
		r.log.Warn("the pushes that wait for this one could not be woken", "push", r.push.ID, "error", err)
	}
}

// others judges the pushes that are confirmed together with this one. stage is the state that each must have reached.
// It is errOthersNotReady while one has not, and another error when one goes back.
func (r *run) others(ctx context.Context, stage string) error {
	if r.push.Together == nil {
		return nil
	}
	rows, err := r.store.WaveOrders(ctx, *r.push.Together)
	if err != nil {
		return stored(err)
	}
	ready := []string{stateLanding, stateLanded}
	if stage == stateConfirming {
		ready = append(ready, stateConfirming)
	}
	waits := false
	for _, o := range rows {
		switch {
		case o.OrderID == r.push.OrderID:
		case o.Push == stateReturning || o.Push == stateFailed || o.Push == "" && o.State != "open":
			return fmt.Errorf("%s did not change, and all sites change together or none does", o.Site)
		case !slices.Contains(ready, o.Push):
			waits = true
		}
	}
	late := stage == stateConfirming && r.push.ReturnsAt != nil &&
		time.Until(*r.push.ReturnsAt) < r.Timing.ConfirmWithin/3
	switch {
	case waits && late:
		return errors.New("other sites were not ready before its devices would have returned by themselves")
	case waits:
		return errOthersNotReady
	}
	return nil
}
