// Package push rehearses a draft and carries it to the devices: plan from a fresh
// reading, change under a timed confirm, climb the ladder, confirm or return, land. A
// push that was interrupted is taken up from what is stored and what the devices hold.
package push

import (
	"context"
	"log/slog"
	"net/netip"

	"github.com/jackc/pgx/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/riverqueue/river"

	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/actor"
	"lithos/internal/device"
	"lithos/internal/order"
	"lithos/internal/store"
	"lithos/internal/zonetransfer"
)

// QueuePush is the queue of pushes.
const QueuePush = "push"

// Drafts finds the drafts that are rehearsed and pushed.
type Drafts interface {
	Draft(ctx context.Context, id int64) (*order.Draft, error)
	Editable(ctx context.Context, id int64, version int32) (*order.Draft, error)
}

// Devices makes drivers for devices, and gives them passwords.
type Devices interface {
	Reach(order.Access) (*device.RESTCONF, error)
	HandOver(ctx context.Context, siteID string, c yang.Config, driver *device.RESTCONF) error
	// Holder is the server that holds an outside zone of a site.
	Holder(ctx context.Context, siteID string, z site.Zone) (zonetransfer.Server, error)
}

// Accounts finds who started a push.
type Accounts interface {
	TechnicianByID(ctx context.Context, id int64) (actor.Technician, error)
	// Acting is TechnicianByID; it is refused where the account is switched off.
	Acting(ctx context.Context, id int64) (actor.Technician, error)
}

// Watcher reads the devices of a site, before a push and after it.
type Watcher interface {
	Observe(ctx context.Context, siteID string)
	// ReadDevices reads them, and looks at nothing else.
	ReadDevices(ctx context.Context, siteID string) (ok bool)
	// ProveFollowing has an outside name told what its line has, and asks its server for it.
	ProveFollowing(ctx context.Context, doc *site.Site, id string) (says string, err error)
}

// Service is the use cases of rehearsing and pushing. It is safe for concurrent use,
// and any number of processes may run one on the same database.
type Service struct {
	store    *store.Store
	drafts   Drafts
	devices  Devices
	accounts Accounts
	watcher  Watcher
	log      *slog.Logger
	pushes   *prometheus.CounterVec
	jobs     *river.Client[pgx.Tx]

	// Outside is an address on the internet that answers an echo request (RFC 792):
	// what the last rung tries after a push, from each network in turn. Without one
	// that rung is not climbed. It is set before Run, as Timing is.
	Outside netip.Addr
	// OutsideName is a name on the internet that is there: what the rung of names outside asks for after a
	// push. Without one it is not climbed.
	OutsideName string
	Timing      Timing

	// life ends when this process is told to end: work that can be taken up again
	// stops, and what must not be left halfway is finished.
	life context.Context
}

// New makes the use cases on a migrated database.
func New(
	s *store.Store, drafts Drafts, devices Devices, accounts Accounts, watcher Watcher, log *slog.Logger,
) *Service {
	return &Service{
		store: s, drafts: drafts, devices: devices, accounts: accounts, watcher: watcher, log: log, Timing: UsualTiming,
		life: context.Background(),
		pushes: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "lithos_pushes_total", Help: "Pushes that have ended, by outcome: landed or failed.",
		}, []string{"outcome"}),
	}
}

// Meters count what the use cases do, for /metrics.
func (s *Service) Meters() []prometheus.Collector { return []prometheus.Collector{s.pushes} }

// Work adds the jobs that carry out pushes, and that start those whose window opens.
func (s *Service) Work(workers *river.Workers) {
	river.AddWorker(workers, pushWorker{Service: s})
	river.AddWorker(workers, startWorker{Service: s})
}

// Use is called before jobs are started. life ends when this process is told to end.
func (s *Service) Use(life context.Context, jobs *river.Client[pgx.Tx]) { s.life, s.jobs = life, jobs }
