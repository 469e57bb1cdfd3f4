package work

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"lithos/core/rehearse"
	"lithos/core/seen"
	"lithos/core/yang"
	"lithos/internal/store/gen"
)

// pollArgs is the job that reads what the devices have seen.
type pollArgs struct{}

// Kind implements river.JobArgs.
func (pollArgs) Kind() string { return "poll" }

type pollWorker struct {
	river.WorkerDefaults[pollArgs]
	*Service
}

// pollsAtOnce bounds how many sites are read at a time.
const pollsAtOnce = 8

// Work implements river.Worker.
func (w pollWorker) Work(ctx context.Context, _ *river.Job[pollArgs]) error {
	sites, err := w.store.SitesWithAccess(ctx)
	if err != nil {
		return err
	}
	var all sync.WaitGroup
	slots := make(chan struct{}, pollsAtOnce)
	for _, id := range sites {
		slots <- struct{}{}
		all.Go(func() {
			defer func() { <-slots }()
			w.observeNow(ctx, id)
		})
	}
	all.Wait()
	if err := w.store.ForgetSightings(ctx); err != nil {
		return err
	}
	return errors.Join(w.lookAround(ctx), w.resume(ctx))
}

// Run works on background jobs and passes on live events until ctx ends. poll
// is how often devices are read for leases and neighbours.
func (s *Service) Run(ctx context.Context, poll time.Duration) error {
	workers := river.NewWorkers()
	river.AddWorker(workers, pushWorker{Service: s})
	river.AddWorker(workers, pollWorker{Service: s})
	jobs, err := river.NewClient(riverpgxv5.New(s.store.Pool), &river.Config{
		Logger:            s.log,
		Queues:            map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 8}},
		Workers:           workers,
		FetchPollInterval: time.Second,
		FetchCooldown:     50 * time.Millisecond,
		// A job of a process that was killed is taken up by another after this.
		RescueStuckJobsAfter: 20 * time.Minute,
		PeriodicJobs: []*river.PeriodicJob{river.NewPeriodicJob(river.PeriodicInterval(poll), func() (river.JobArgs, *river.InsertOpts) {
			return pollArgs{}, &river.InsertOpts{UniqueOpts: river.UniqueOpts{ByPeriod: poll}, MaxAttempts: 1}
		}, &river.PeriodicJobOpts{RunOnStart: true})},
	})
	if err != nil {
		return fmt.Errorf("background jobs: %w", err)
	}
	s.jobs = jobs
	if err := jobs.Start(ctx); err != nil {
		return fmt.Errorf("background jobs: %w", err)
	}
	go s.listen(ctx)
	return s.resume(ctx)
}

// Stopped waits until the background jobs have ended after Run's ctx did.
func (s *Service) Stopped() { <-s.jobs.Stopped() }

// Observe reads every device of a site now.
func (s *Service) Observe(ctx context.Context, siteID string) { s.observeNow(ctx, siteID) }

// observeNow reads every device of a site that Lithos reaches. What goes wrong
// is recorded with the device and does not keep the others from being read.
func (s *Service) observeNow(ctx context.Context, siteID string) {
	access, err := s.store.AccessOfSite(ctx, siteID)
	if err != nil {
		s.log.Warn("cannot read the devices of a site", "site", siteID, "error", err)
		return
	}
	for _, a := range access {
		problem := ""
		if err := s.observe(ctx, a); err != nil {
			problem = err.Error()
		}
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

// resume puts pushes back in the queue whose job is gone: a process that was
// killed leaves one running, and this takes it up at once.
func (s *Service) resume(ctx context.Context) error {
	rows, err := s.store.Pool.Query(ctx, `SELECT p.id FROM push p WHERE p.state IN ('queued', 'running') AND NOT EXISTS (
		SELECT FROM river_job j WHERE j.kind = 'push' AND (j.args->>'push')::bigint = p.id AND j.state IN ('available', 'scheduled', 'retryable'))
		AND NOT EXISTS (SELECT FROM pg_locks l WHERE l.locktype = 'advisory' AND l.classid = $1::int::oid AND l.objid = p.id::int::oid)`, pushLock)
	if err != nil {
		return err
	}
	ids, err := pgx.CollectRows(rows, pgx.RowTo[int64])
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
