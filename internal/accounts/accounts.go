// Package accounts is the accounts of technicians, their sessions, what they did, and
// what only they may use: the passwords of devices and lines, encrypted at rest with
// a key that is kept outside the database.
package accounts

import (
	"log/slog"
	"net/netip"

	"github.com/prometheus/client_golang/prometheus"

	"lithos/internal/outbound"
	"lithos/internal/store"
	"lithos/internal/zonetransfer"
)

// Service is the use cases of accounts and secrets. It is safe for concurrent use, and
// any number of processes may run one on the same database.
type Service struct {
	store   *store.Store
	vault   *Vault
	log     *slog.Logger
	hashes  chan struct{} // the passwords looked at now
	signIns *prometheus.CounterVec

	// Reaches is where servers that hold zones are reached from here, where that is another address than
	// the one they have on the internet. It is set before anything is pushed.
	Reaches map[netip.AddrPort]netip.AddrPort
	// Web is how services over HTTPS are reached.
	Web zonetransfer.Web
	// Outbound says where Lithos may connect to. It is set before anything is reached.
	Outbound outbound.Rule
}

// New makes the use cases on a migrated database.
func New(s *store.Store, vault *Vault, log *slog.Logger) *Service {
	return &Service{
		store: s, vault: vault, log: log, hashes: make(chan struct{}, hashesAtOnce),
		signIns: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "lithos_sign_ins_total", Help: "Attempts to sign in, by outcome: done, refused, throttled or busy.",
		}, []string{"outcome"}),
	}
}

// Meters count what the use cases do, for /metrics.
func (s *Service) Meters() []prometheus.Collector { return []prometheus.Collector{s.signIns} }
