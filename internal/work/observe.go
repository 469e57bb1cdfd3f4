package work

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivertype"

	"lithos/core/rehearse"
	"lithos/core/seen"
	"lithos/core/yang"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// The queues of background work: what one of them waits for does not keep the
// others.
const (
	queuePush = "push"
	queueRead = "read"
)

// pollArgs is the job that has the devices of every site read.
type pollArgs struct{}

// Kind implements river.JobArgs.
func (pollArgs) Kind() string { return "poll" }

type pollWorker struct {
	river.WorkerDefaults[pollArgs]
	*Service
	every time.Duration
}

// spread is the longest time over which the readings of one poll are spread.
const spread = time.Minute

// soon is how often the jobs in the database that have a time are looked at: what is
// due before is done at once.
const soon = 5 * time.Second

// Work implements river.Worker. It makes a job of every site, those that wait the
// longest first; a site whose last job is not done yet has none added.
func (w pollWorker) Work(ctx context.Context, _ *river.Job[pollArgs]) error {
	sites, err := w.store.SitesToRead(ctx)
	if err != nil || len(sites) == 0 {
		return err
	}
	over := min(w.every, spread) / time.Duration(len(sites))
	jobs := make([]river.InsertManyParams, len(sites))
	for i, id := range sites {
		jobs[i].Args = readArgs{id}
		if later := time.Duration(i) * over; later >= soon {
			jobs[i].InsertOpts = &river.InsertOpts{ScheduledAt: time.Now().Add(later)}
		}
	}
	_, err = w.jobs.InsertMany(ctx, jobs)
	return err
}

// readArgs is the job that reads the devices of one site.
type readArgs struct {
	Site string `json:"site" river:"unique"`
}

// Kind implements river.JobArgs.
func (readArgs) Kind() string { return "read" }

// InsertOpts implements river.JobArgsWithInsertOpts. A reading that fails is not
// repeated: the next poll reads again.
func (readArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: queueRead, MaxAttempts: 1, UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: []rivertype.JobState{
		rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRunning, rivertype.JobStateRetryable, rivertype.JobStateScheduled,
	}}}
}

type readWorker struct {
	river.WorkerDefaults[readArgs]
	*Service
}

// Timeout implements river.Worker.
func (readWorker) Timeout(*river.Job[readArgs]) time.Duration { return 3 * time.Minute }

// Work implements river.Worker.
func (w readWorker) Work(ctx context.Context, job *river.Job[readArgs]) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(w.life, cancel)()
	w.observeNow(ctx, job.Args.Site)
	return nil
}

// tidyArgs is the job that forgets what is too old and looks around at sites.
type tidyArgs struct{}

// Kind implements river.JobArgs.
func (tidyArgs) Kind() string { return "tidy" }

type tidyWorker struct {
	river.WorkerDefaults[tidyArgs]
	*Service
}

// Timeout implements river.Worker.
func (tidyWorker) Timeout(*river.Job[tidyArgs]) time.Duration { return 5 * time.Minute }

// Work implements river.Worker.
func (w tidyWorker) Work(ctx context.Context, _ *river.Job[tidyArgs]) error {
	return errors.Join(
		w.store.ForgetSightings(ctx), w.store.ForgetSessions(ctx), w.store.ForgetBrowsers(ctx), w.store.ForgetDroppedSecrets(ctx), w.lookAround(ctx),
	)
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
	s.life = ctx
	if err := s.recognise(ctx); err != nil {
		return err
	}
	workers := river.NewWorkers()
	river.AddWorker(workers, pushWorker{Service: s})
	river.AddWorker(workers, pollWorker{Service: s, every: poll})
	river.AddWorker(workers, readWorker{Service: s})
	river.AddWorker(workers, tidyWorker{Service: s})
	jobs, err := river.NewClient(riverpgxv5.New(s.store.Pool), &river.Config{
		Logger:            s.log,
		Queues:            map[string]river.QueueConfig{queuePush: {MaxWorkers: pushesAtOnce}, queueRead: {MaxWorkers: readsAtOnce}, river.QueueDefault: {MaxWorkers: othersAtOnce}},
		Workers:           workers,
		FetchPollInterval: time.Second,
		FetchCooldown:     50 * time.Millisecond,
		SoftStopTimeout:   FinishWithin,
		// A job of a process that was killed is taken up by another after this; a
		// push is taken up by resume long before.
		RescueStuckJobsAfter: 40 * time.Minute,
		PeriodicJobs:         []*river.PeriodicJob{every(poll, pollArgs{}), every(poll, tidyArgs{})},
	})
	if err != nil {
		return fmt.Errorf("background jobs: %w", err)
	}
	s.jobs = jobs
	if err := jobs.Start(ctx); err != nil {
		return fmt.Errorf("background jobs: %w", err)
	}
	go s.listen(ctx)
	go s.takeUp(ctx)
	return nil
}

// every makes a job at each interval, over all processes one.
func every(interval time.Duration, args river.JobArgs) *river.PeriodicJob {
	return river.NewPeriodicJob(river.PeriodicInterval(interval), func() (river.JobArgs, *river.InsertOpts) {
		return args, &river.InsertOpts{UniqueOpts: river.UniqueOpts{ByPeriod: interval}, MaxAttempts: 1}
	}, &river.PeriodicJobOpts{RunOnStart: true})
}

// takeUpEvery is how often a process looks for pushes that nobody carries out.
const takeUpEvery = 2 * time.Second

// takeUp puts pushes back in the queue whose process was killed, until ctx ends.
func (s *Service) takeUp(ctx context.Context) {
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

// Stopped waits until the background jobs have ended after Run's ctx did.
func (s *Service) Stopped() { <-s.jobs.Stopped() }

// Observe reads every device of a site now.
func (s *Service) Observe(ctx context.Context, siteID string) { s.observeNow(ctx, siteID) }

// observeNow reads every device of a site that Lithos reaches. What goes wrong
// is recorded with the device and does not keep the others from being read.
func (s *Service) observeNow(ctx context.Context, siteID string) {
	if err := heldWork(ctx, s.store.Queries); err != nil {
		s.log.Info("the devices of a site are not read", "site", siteID, "reason", err)
		return
	}
	access, err := s.store.AccessOfSite(ctx, siteID)
	if err != nil {
		s.log.Warn("cannot read the devices of a site", "site", siteID, "error", err)
		return
	}
	for _, a := range access {
		problem, outcome, began := "", "answered", time.Now()
		if err := s.observe(ctx, a); err != nil {
			problem, outcome = store.ForPeople(err), "failed"
		}
		s.Meters.reads.WithLabelValues(outcome).Inc()
		s.Meters.reading.Observe(time.Since(began).Seconds())
		if ctx.Err() != nil {
			return
		}
		if err := s.store.NoteRead(ctx, gen.NoteReadParams{SiteID: siteID, DeviceID: a.DeviceID, Problem: problem}); err != nil {
			s.log.Warn("cannot note that a device was read", "device", a.DeviceID, "error", err)
		}
	}
	if err := s.tellSeen(ctx, siteID); err != nil && ctx.Err() == nil {
		s.log.Warn("cannot tell browsers what was seen", "site", siteID, "error", err)
	}
}

// tellSeen draws conclusions from what was seen at a site, and tells browsers.
func (s *Service) tellSeen(ctx context.Context, siteID string) error {
	row, err := s.store.SiteByID(ctx, siteID)
	if err != nil {
		return err
	}
	b, err := s.store.Beside(ctx, row.ID, row.Customer)
	if err != nil {
		return err
	}
	changed, err := s.lookAt(ctx, row, b)
	if changed {
		err = publish(ctx, s.store.Queries, roundsEvent)
	}
	return errors.Join(err, publish(ctx, s.store.Queries, Event{Topic: "seen", ID: row.Code}))
}

func (s *Service) observe(ctx context.Context, a gen.DeviceAccess) error {
	driver, err := s.reach(a)
	if err != nil {
		return err
	}
	defer driver.Close()
	o, err := driver.Observe(ctx)
	if err != nil {
		return err
	}
	rows, held := readSightings(a, o, time.Now())
	return s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		var failed error
		note := func(_ int, err error) { failed = errors.Join(failed, err) }
		q.PutSighting(ctx, rows).Exec(note)
		q.SupersedeLease(ctx, held).Exec(note)
		return failed
	})
}

// readSightings is what of a device's operational state is kept: its leases and
// neighbours, each with the port where that is known, and who holds each leased
// address now.
func readSightings(a gen.DeviceAccess, o yang.Operational, now time.Time) (rows []gen.PutSightingParams, held []gen.SupersedeLeaseParams) {
	for _, l := range o.DHCP.Lease {
		if l.MAC.IsZero() || !l.Address.Is4() || l.MAC == rehearse.ProbeMAC {
			continue
		}
		mac := net.HardwareAddr(l.MAC[:])
		rows = append(rows, gen.PutSightingParams{
			SiteID: a.SiteID, DeviceID: a.DeviceID, Source: seen.Lease, Address: l.Address, Mac: mac, ClientID: append([]byte{}, l.ClientID...),
			Name: l.HostName, Pool: l.Pool, State: l.State, Last: l.Since, Expires: &l.Expires,
		})
		held = append(held, gen.SupersedeLeaseParams{SiteID: a.SiteID, DeviceID: a.DeviceID, Address: l.Address, Mac: mac})
	}
	for _, i := range o.Interfaces.Interface {
		for _, n := range i.IPv4.Neighbor {
			if n.IP.Is4() && !n.MAC.IsZero() {
				rows = append(rows, gen.PutSightingParams{
					SiteID: a.SiteID, DeviceID: a.DeviceID, Source: seen.Neighbour, Address: n.IP, Mac: net.HardwareAddr(n.MAC[:]), ClientID: []byte{}, State: "heard", Port: i.Name, Last: now,
				})
			}
		}
	}
	for _, st := range o.Stations.Station {
		if !st.MAC.IsZero() {
			rows = append(rows, gen.PutSightingParams{
				SiteID: a.SiteID, DeviceID: a.DeviceID, Source: station, Address: netip.IPv4Unspecified(), Mac: net.HardwareAddr(st.MAC[:]), ClientID: []byte{}, State: "learnt", Port: st.Interface, Last: now,
			})
		}
	}
	return rows, held
}

// station is the source of what a switch says of its ports: a sighting without
// an address, which tells where the others of its MAC are.
const station = "station"
