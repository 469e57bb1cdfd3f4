package poll

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"net"
	"net/netip"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"golang.org/x/sync/errgroup"

	"lithos/core/check"
	"lithos/core/dhcp"
	"lithos/core/observed"
	"lithos/core/rehearse"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/store/gen"
	"lithos/internal/zonetransfer"
)

// QueueRead is the queue of readings: what one of them waits for does not keep pushes.
const QueueRead = "read"

// pollArgs is the job that has the devices of every site read.
type pollArgs struct{}

// Kind implements river.JobArgs.
func (pollArgs) Kind() string { return "poll" }

type pollWorker struct {
	river.WorkerDefaults[pollArgs]
	*Service
	every time.Duration
}

const (
	// spread is the longest time over which the readings of one poll are spread.
	spread = time.Minute
	// soon is how often the jobs in the database that have a time are looked at: what is due before is done at once.
	soon = 5 * time.Second
	// together is how many sites one job reads: a job costs the database more than a reading.
	together = 25
)

// Work implements river.Worker. It makes a job of so many sites; where the last job of the same sites is not done yet,
// none is added.
func (w pollWorker) Work(ctx context.Context, _ *river.Job[pollArgs]) error {
	sites, err := w.store.SitesToRead(ctx)
	if err != nil || len(sites) == 0 {
		return err
	}
	groups := (len(sites) + together - 1) / together
	over := min(w.every, spread) / time.Duration(groups)
	jobs := make([]river.InsertManyParams, groups)
	for i := range groups {
		jobs[i].Args = readArgs{Group: i, Groups: groups}
		if later := time.Duration(i) * over; later >= soon {
			jobs[i].InsertOpts = &river.InsertOpts{ScheduledAt: time.Now().Add(later)}
		}
	}
	_, err = w.jobs.InsertMany(ctx, jobs)
	return err
}

// readArgs is the job that reads the devices of a group of sites: those whose ids have a hash that is in it.
type readArgs struct {
	Group  int `json:"group" river:"unique"`
	Groups int `json:"groups" river:"unique"`
}

// Kind implements river.JobArgs.
func (readArgs) Kind() string { return "read" }

// holds reports whether a site is in the group.
func (a readArgs) holds(siteID string) bool {
	h := fnv.New32a()
	_, _ = h.Write([]byte(siteID))
	return h.Sum32()%uint32(a.Groups) == uint32(a.Group)
}

// InsertOpts implements river.JobArgsWithInsertOpts. A reading that fails is not
// repeated: the next poll reads again.
func (readArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: QueueRead, MaxAttempts: 1,
		UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: store.Unfinished}}
}

type readWorker struct {
	river.WorkerDefaults[readArgs]
	*Service
}

// Timeout implements river.Worker.
func (readWorker) Timeout(*river.Job[readArgs]) time.Duration { return 5 * time.Minute }

// Work implements river.Worker. It reads all its sites at once, so that those with silent devices keep no other
// waiting.
func (w readWorker) Work(ctx context.Context, job *river.Job[readArgs]) error {
	if job.Args.Groups < 1 {
		return river.JobCancel(errors.New("a reading of an earlier version: the next poll reads"))
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(w.life, cancel)()
	sites, err := w.store.SitesToRead(ctx)
	if err != nil {
		return err
	}
	var reading errgroup.Group
	for _, id := range sites {
		if job.Args.holds(id) {
			reading.Go(func() error {
				w.observeThose(ctx, id, due)
				return nil
			})
		}
	}
	return reading.Wait()
}

// rarest is how long a device that is silent is left alone at most.
const rarest = time.Hour

// due reports whether a device is read again by itself: one that answered is with each poll, one that is silent after
// as long again as it has been, and at least once in the time of rarest.
func due(a order.Access, now time.Time) bool {
	if a.ProblemAt == nil || a.TriedAt == nil {
		return true
	}
	return !now.Before(a.TriedAt.Add(min(a.TriedAt.Sub(*a.ProblemAt), rarest) - spread))
}

// always has every device read: somebody waits for it.
func always(order.Access, time.Time) bool { return true }

// lookArgs is the job that looks around at sites.
type lookArgs struct{}

// Kind implements river.JobArgs.
func (lookArgs) Kind() string { return "look-around" }

// InsertOpts implements river.JobArgsWithInsertOpts.
func (lookArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{MaxAttempts: 1, UniqueOpts: river.UniqueOpts{ByState: store.Unfinished}}
}

type lookWorker struct {
	river.WorkerDefaults[lookArgs]
	*Service
}

// Timeout implements river.Worker.
func (lookWorker) Timeout(*river.Job[lookArgs]) time.Duration { return 5 * time.Minute }

// Work implements river.Worker.
func (w lookWorker) Work(ctx context.Context, _ *river.Job[lookArgs]) error { return w.lookAround(ctx) }

// Due is the job of looking around at sites where that is to be done; nil where it is not.
func (s *Service) Due(ctx context.Context) (river.JobArgs, error) {
	rows, err := s.store.SitesToLookAt(ctx,
		gen.SitesToLookAtParams{Before: time.Now().Add(-lookAgainAfter), Most: 1})
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return lookArgs{}, nil
}

// tidyArgs is the job that forgets what is too old.
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
		w.store.ForgetSightings(ctx), w.store.ForgetPastSightings(ctx, w.KeepSeen.Seconds()),
		w.store.ForgetLines(ctx), w.store.ForgetSessions(ctx), w.store.ForgetBrowsers(ctx), w.store.ForgetConfigs(ctx),
		w.store.ForgetServers(ctx),
		w.store.ForgetDroppedSecrets(ctx),
	)
}

// Observe reads every device of a site that Lithos reaches, now, and looks at what the world is told of it. What goes
// wrong is recorded with the device and does not keep the others from being read.
func (s *Service) Observe(ctx context.Context, siteID string) { s.observeThose(ctx, siteID, always) }

func (s *Service) observeThose(ctx context.Context, siteID string, wanted func(order.Access, time.Time) bool) {
	if !s.readThose(ctx, siteID, wanted) {
		return
	}
	if err := s.outward(ctx, siteID); err != nil && ctx.Err() == nil {
		s.log.Warn("cannot look at what the world is told of a site", "site", siteID, "error", err)
	}
	if err := s.tellSeen(ctx, siteID); err != nil && ctx.Err() == nil {
		s.log.Warn("cannot tell browsers what was seen", "site", siteID, "error", err)
	}
}

// ReadDevices reads every device of a site that Lithos reaches, now; ok is false where they cannot be read at all.
func (s *Service) ReadDevices(ctx context.Context, siteID string) (ok bool) {
	return s.readThose(ctx, siteID, always)
}

// readAtOnce bounds how many devices of a site are read at a time: a few that are silent do not keep the others
// waiting.
const readAtOnce = 6

// readThose reads those devices of a site that are wanted, each by itself, those that wait the longest first.
func (s *Service) readThose(ctx context.Context, siteID string, wanted func(order.Access, time.Time) bool) (ok bool) {
	if err := actor.RefuseWhileHeld(ctx, s.store.Queries); err != nil {
		s.log.Info("the devices of a site are not read", "site", siteID, "reason", err)
		return false
	}
	access, err := s.store.Access(ctx, siteID)
	row, head, errHead := s.headOf(ctx, siteID)
	if err := errors.Join(err, errHead); err != nil {
		s.log.Warn("cannot read the devices of a site", "site", siteID, "error", err)
		return false
	}
	slices.SortStableFunc(access, func(a, b order.Access) int {
		return orNever(a.TriedAt).Compare(orNever(b.TriedAt))
	})
	var reading errgroup.Group
	reading.SetLimit(readAtOnce)
	for _, a := range access {
		if wanted(a, time.Now()) {
			reading.Go(func() error {
				s.read(ctx, a, row, head.Site)
				return nil
			})
		}
	}
	_ = reading.Wait() // what went wrong is noted with each device
	return ctx.Err() == nil
}

func orNever(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

// read reads one device, and notes whether it answered.
func (s *Service) read(ctx context.Context, a order.Access, row gen.Site, doc *site.Site) {
	if ctx.Err() != nil {
		return
	}
	problem, outcome, began := "", "answered", time.Now()
	programs, err := s.observe(ctx, a, row, doc)
	if err != nil {
		problem, outcome = store.ForPeople(err), "failed"
	}
	s.reads.WithLabelValues(outcome).Inc()
	s.reading.Observe(time.Since(began).Seconds())
	if ctx.Err() != nil {
		return
	}
	if err := s.store.NoteRead(ctx,
		gen.NoteReadParams{SiteID: row.ID, DeviceID: a.DeviceID, Problem: problem, Programs: programs}); err != nil {
		s.log.Warn("cannot note that a device was read", "device", a.DeviceID, "error", err)
	}
	if err := s.noteSilence(ctx, a, row, doc, problem); err != nil {
		s.log.Warn("cannot note that a device fell silent", "device", a.DeviceID, "error", err)
	}
}

// mostTold is how many records of an outside zone are kept; of a larger zone nothing is compared.
const mostTold = 5000

// outward is what a site tells the world: names that follow lines are told, then its zones are read.
func (s *Service) outward(ctx context.Context, siteID string) error {
	row, head, err := s.headOf(ctx, siteID)
	if err != nil {
		return err
	}
	if len(head.Following) > 0 {
		b, err := s.store.Beside(ctx, row.ID, row.Customer)
		if err != nil {
			return err
		}
		s.keepNames(ctx, head.Site, b)
	}
	return s.readZones(ctx, siteID, head.Site)
}

// headOf is a site as it stands.
func (s *Service) headOf(ctx context.Context, siteID string) (gen.Site, *check.Scene, error) {
	row, err := s.store.SiteByID(ctx, siteID)
	if err != nil {
		return row, nil, err
	}
	head, err := s.sites.Head(ctx, row.ID, row.Head)
	return row, head, err
}

// readZones reads the outside zones of a site from the servers that hold them.
func (s *Service) readZones(ctx context.Context, siteID string, head *site.Site) error {
	var sent []gen.ToldAddress
	if len(head.Following) > 0 {
		var err error
		if sent, err = s.store.ToldOfSite(ctx, head.ID); err != nil {
			return err
		}
	}
	for _, z := range head.Zones {
		if z.Side != site.Outside || !z.Server.Address.IsValid() {
			continue
		}
		note := gen.NoteZoneParams{SiteID: siteID, ZoneID: z.ID, Records: []byte("[]")}
		held, err := s.readZone(ctx, siteID, z)
		if err == nil {
			note.Serial = int64(held.Serial)
			note.Records, err = json.Marshal(held.Records)
		}
		if err != nil {
			note.Problem = store.ForPeople(err)
		}
		if err := s.store.NoteZone(ctx, note); err != nil {
			return err
		}
		if err == nil {
			if err := s.noteRead(ctx, head, z, held.Records, sent); err != nil {
				return err
			}
		}
		if err := s.readKeys(ctx, siteID, z); err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) readZone(ctx context.Context, siteID string, z site.Zone) (zonetransfer.Contents, error) {
	server, err := s.devices.Holder(ctx, siteID, z)
	if err != nil {
		return zonetransfer.Contents{}, err
	}
	held, err := server.Read(ctx)
	if err == nil && len(held.Records) > mostTold {
		err = fmt.Errorf("%s has %d records; more than %d are not compared", z.Name, len(held.Records), mostTold)
	}
	return held, err
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
		err = actor.Publish(ctx, s.store.Queries, actor.RoundsEvent)
	}
	digest := digestOf(b)
	if was, ok := s.sentDigests.Get(siteID); ok && was == digest {
		return err
	}
	s.sentDigests.Add(siteID, digest)
	return errors.Join(err, actor.Publish(ctx, s.store.Queries, actor.Event{Topic: "seen", ID: row.Code}))
}

// digestOf is the same for what looks the same on a page. It is another once a minute:
// a client that is not heard any more disappears without a reading.
func digestOf(b order.Beside) uint64 {
	h := fnv.New64a()
	fmt.Fprintln(h, time.Now().Truncate(time.Minute).Unix())
	for _, v := range b.Seen {
		v.Last = v.Last.Truncate(observed.Grain)
		fmt.Fprintln(h, v)
	}
	for _, l := range b.Lines {
		fmt.Fprintln(h, l.Interface, l.Address)
	}
	for _, sent := range b.Sent {
		fmt.Fprintln(h, sent.Following, sent.At.Unix(), sent.Taken)
	}
	for _, z := range b.Zones {
		fmt.Fprintln(h, z.ZoneID, z.Problem, z.Serial, len(z.Records), z.KeysProblem)
		for _, k := range z.Keys {
			fmt.Fprintln(h, k.Name, k.Uses, k.Ends.Unix())
		}
	}
	for _, a := range b.Access {
		fmt.Fprintln(h, a.DeviceID, a.Problem, a.ReadAt != nil, a.Programs)
	}
	return h.Sum64()
}

// observe reads a device. programs is what listens for names there beside its resolver, as JSON.
func (s *Service) observe(
	ctx context.Context, a order.Access, row gen.Site, head *site.Site,
) (programs []byte, err error) {
	driver, err := s.devices.Reach(a)
	if err != nil {
		return []byte("[]"), err
	}
	defer driver.Close()
	o, err := driver.Observe(ctx)
	if err != nil {
		return []byte("[]"), err
	}
	programs, err = json.Marshal(o.Resolver.Others())
	if err != nil {
		return []byte("[]"), err
	}
	if err := errors.Join(s.noteLines(ctx, a, o, head), s.noteServers(ctx, a, o, head)); err != nil {
		return programs, err
	}
	rows, held := readSightings(a, o, time.Now())
	err = s.store.InTx(ctx, func(q *gen.Queries, _ pgx.Tx) error {
		var failed error
		note := func(_ int, err error) { failed = errors.Join(failed, err) }
		q.PutSighting(ctx, rows).Exec(note)
		q.SupersedeLease(ctx, held).Exec(note)
		return failed
	})
	if err != nil {
		return programs, err
	}
	return programs, s.noteConfig(ctx, driver, a, row, head)
}

// readSightings is what of a device's operational state is kept: its leases and
// neighbours, each with the port where that is known, and who holds each leased
// address now.
func readSightings(
	a order.Access, o yang.Operational, now time.Time,
) (rows []gen.PutSightingParams, held []gen.SupersedeLeaseParams) {
	for _, l := range o.DHCP.Lease {
		if l.State == string(dhcp.Declined) && !l.AnsweredBy.IsZero() && l.Address.Is4() {
			// The server found this machine at an address it was about to give.
			rows = append(rows, gen.PutSightingParams{
				SiteID: a.SiteID, DeviceID: a.DeviceID, Source: observed.Neighbour, Address: l.Address,
				Mac: net.HardwareAddr(l.AnsweredBy[:]), ClientID: []byte{}, State: "heard", Last: l.Since,
			})
		}
		if l.MAC.IsZero() || !l.Address.Is4() || l.MAC == rehearse.ProbeMAC {
			continue
		}
		mac := net.HardwareAddr(l.MAC[:])
		rows = append(rows, gen.PutSightingParams{
			SiteID: a.SiteID, DeviceID: a.DeviceID, Source: observed.Lease, Address: l.Address, Mac: mac,
			ClientID: append([]byte{}, l.ClientID...),
			Name:     l.HostName, VendorClass: site.Printable(l.Class, 255), Pool: l.Pool, State: l.State,
			Last: l.Since, Expires: &l.Expires,
		})
		held = append(held, gen.SupersedeLeaseParams{SiteID: a.SiteID, DeviceID: a.DeviceID, Address: l.Address,
			Mac: mac})
	}
	for _, i := range o.Interfaces.Interface {
		for _, n := range i.IPv4.Neighbor {
			if n.IP.Is4() && !n.MAC.IsZero() {
				rows = append(rows, gen.PutSightingParams{
					SiteID: a.SiteID, DeviceID: a.DeviceID, Source: observed.Neighbour, Address: n.IP,
					Mac: net.HardwareAddr(n.MAC[:]), ClientID: []byte{}, State: "heard", Port: i.Name, Last: now,
				})
			}
		}
	}
	for _, st := range o.Stations.Station {
		if !st.MAC.IsZero() {
			rows = append(rows, gen.PutSightingParams{
				SiteID: a.SiteID, DeviceID: a.DeviceID, Source: observed.Station, Address: netip.IPv4Unspecified(),
				Mac: net.HardwareAddr(st.MAC[:]), ClientID: []byte{}, State: "learnt", Port: st.Interface, Last: now,
			})
		}
	}
	return rows, held
}
