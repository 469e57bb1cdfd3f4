// Package poll reads the devices: what they lease and hear is kept as sightings, and
// what the rules make of a site's surroundings is kept up to date. It lets a test
// client loose on a draft or on a real device.
package poll

import (
	"context"
	"log/slog"
	"net/netip"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/jackc/pgx/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/riverqueue/river"

	"lithos/core/check"
	"lithos/core/site"
	"lithos/internal/actor"
	"lithos/internal/device"
	"lithos/internal/order"
	"lithos/internal/outbound"
	"lithos/internal/store"
	"lithos/internal/zonetransfer"
)

// Sites finds the scenes of sites.
type Sites interface {
	Head(ctx context.Context, siteID string, revision int32) (*check.Scene, error)
	SceneOf(ctx context.Context, code string, order int64) (*check.Scene, *order.Draft, int32, error)
}

// Devices makes drivers for devices.
type Devices interface {
	Reach(order.Access) (*device.RESTCONF, error)
	// Holder is the server that holds an outside zone of a site.
	Holder(ctx context.Context, siteID string, z site.Zone) (zonetransfer.Server, error)
	// Rule says where Lithos may connect to.
	Rule() outbound.Rule
	// Where is where a server is reached from here.
	Where(at netip.AddrPort) netip.AddrPort
	// TellName tells the server of a dynamic name an address for it, or for another name with its key.
	TellName(ctx context.Context, siteID string, z site.Zone, w *site.Following, name string, a netip.Addr) error
	// Opened is the account and password that a device is reached with.
	Opened(order.Access) (account, password string, err error)
	// KeepAccess records how a device is reached, with who did it.
	KeepAccess(ctx context.Context, by actor.Technician, doc *site.Site, d site.Device, a device.Access) error
	// KeepShared records how a device is reached, with the account of another.
	KeepShared(ctx context.Context, by actor.Technician, doc *site.Site, d site.Device, a device.Access,
		siteID, deviceID string) error
	// ReplaceShared replaces an account that several devices use.
	ReplaceShared(ctx context.Context, by actor.Technician, id, account, password string) error
	// Account is the account that makes keys of an outside zone.
	Account(ctx context.Context, siteID string, z site.Zone) (zonetransfer.Account, error)
}

// Service is the use cases of reading devices. It is safe for concurrent use, and any
// number of processes may run one on the same database.
type Service struct {
	// CertificateAuthority is where it is asked whether a certificate would be issued; empty for nowhere. It
	// is set before anything is served.
	CertificateAuthority string
	// Resolvers are those that a trial asks what they hold of a name; it is set before anything is served.
	Resolvers []netip.Addr

	// OutsideEcho is an address on the internet that answers an echo (RFC 792), which a client that is tried asks for
	// one; invalid for none. It is set before anything is served.
	OutsideEcho netip.Addr

	// WatchedEvery is how often the devices of a site are read that somebody has in front of them. It is set before
	// anything is served.
	WatchedEvery time.Duration

	// KeepSeen is how long it is kept who had an address. It is set before anything is served.
	KeepSeen time.Duration

	store       *store.Store
	sites       Sites
	devices     Devices
	log         *slog.Logger
	reads       *prometheus.CounterVec
	reading     prometheus.Histogram
	jobs        *river.Client[pgx.Tx]
	sentDigests *lru.Cache[string, uint64]   // digests of what browsers were told was seen, by site
	judged      *lru.Cache[string, struct{}] // devices whose configuration this process has judged
	watched     watched                      // sites that browsers show
	// life ends when this process is told to end: what can be done again stops.
	life context.Context
}

// KeepSeen is how long it is usually kept who had an address: two years.
const KeepSeen = 2 * 365 * 24 * time.Hour

// watchedEvery is how often the devices of a site are usually read that somebody has in front of them.
const watchedEvery = 3 * time.Second

// judgedDevices is of how many devices it is remembered that this process has judged what they hold.
const judgedDevices = 16384

// toldSites is of how many sites it is remembered what browsers were told.
const toldSites = 4096

// New makes the use cases on a migrated database.
func New(s *store.Store, sites Sites, devices Devices, log *slog.Logger) *Service {
	return &Service{
		judged: cache[struct{}](judgedDevices), watched: watched{sites: map[string]*watchedSite{}},
		sentDigests: cache[uint64](toldSites), KeepSeen: KeepSeen, WatchedEvery: watchedEvery,
		store: s, sites: sites, devices: devices,
		log: log, life: context.Background(),
		reads: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "lithos_device_reads_total", Help: "Readings of devices, by outcome: answered or failed.",
		}, []string{"outcome"}),
		reading: prometheus.NewHistogram(prometheus.HistogramOpts{
			Name: "lithos_device_read_seconds", Help: "How long readings of devices took.",
			Buckets: prometheus.ExponentialBuckets(0.005, 2, 13),
		}),
	}
}

// cache keeps what was used last, by a key.
func cache[V any](size int) *lru.Cache[string, V] {
	c, err := lru.New[string, V](size)
	if err != nil {
		panic("a cache of a positive size is always made: " + err.Error())
	}
	return c
}

// Meters count what the use cases do, for /metrics.
func (s *Service) Meters() []prometheus.Collector { return []prometheus.Collector{s.reads, s.reading} }

// Work adds the jobs that read devices. every is how often that is done.
func (s *Service) Work(workers *river.Workers, every time.Duration) {
	river.AddWorker(workers, pollWorker{Service: s, every: every})
	river.AddWorker(workers, readWorker{Service: s})
	river.AddWorker(workers, lookWorker{Service: s})
	river.AddWorker(workers, tidyWorker{Service: s})
}

// Use is called before jobs are started. life ends when this process is told to end.
func (s *Service) Use(life context.Context, jobs *river.Client[pgx.Tx]) { s.life, s.jobs = life, jobs }

// tidyEvery is how often what is too old is forgotten.
const tidyEvery = 10 * time.Minute

// Periodic are the jobs that are done at each interval, over all processes once.
func Periodic(interval time.Duration) []*river.PeriodicJob {
	return []*river.PeriodicJob{every(interval, pollArgs{}), every(tidyEvery, tidyArgs{})}
}

func every(interval time.Duration, args river.JobArgs) *river.PeriodicJob {
	return river.NewPeriodicJob(river.PeriodicInterval(interval), func() (river.JobArgs, *river.InsertOpts) {
		return args, &river.InsertOpts{UniqueOpts: river.UniqueOpts{ByPeriod: interval}, MaxAttempts: 1}
	}, &river.PeriodicJobOpts{RunOnStart: true})
}
