package wired

import (
	"context"
	"log/slog"
	"net/netip"
	"sync"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/prometheus/client_golang/prometheus"
	"golang.org/x/time/rate"

	"lithos/core/address"
	"lithos/core/dhcp"
)

// What is counted and logged beside the events of the engine.
const (
	eventRefused dhcp.Event = "refused" // a packet that is not served
	eventRelayed dhcp.Event = "relayed" // a request was passed on
	eventTaken   dhcp.Event = "taken"   // a machine answers at an address that was to be given
	eventFailed  dhcp.Event = "failed"  // something could not be sent
)

// report writes one line for every event, no more than a log can bear, and counts them all.
type report struct {
	log   *slog.Logger
	count *prometheus.CounterVec

	mu     sync.Mutex
	limits map[dhcp.Event]*limit
}

// limit is how often an event is logged, and how many times it was not since it was last.
type limit struct {
	*rate.Limiter
	held int
}

func newReport(log *slog.Logger, metrics prometheus.Registerer) *report {
	if log == nil {
		log = slog.New(slog.DiscardHandler)
	}
	r := &report{log: log, limits: map[dhcp.Event]*limit{}, count: prometheus.NewCounterVec(prometheus.CounterOpts{
		Name: "lithos_dhcp_events_total", Help: "What DHCP messages came to.",
	}, []string{"event"})}
	if metrics != nil {
		metrics.MustRegister(r.count)
	}
	return r
}

// The most lines a second for one event, and at once.
const (
	linesASecond = 20
	linesAtOnce  = 100
)

// line logs an event unless there were too many of its kind just now.
func (r *report) line(level slog.Level, event dhcp.Event, says string, args ...any) {
	r.count.WithLabelValues(string(event)).Inc()
	r.mu.Lock()
	l := r.limits[event]
	if l == nil {
		l = &limit{Limiter: rate.NewLimiter(linesASecond, linesAtOnce)}
		if event == dhcp.EventUnwritten { // a full disk stays full for a while
			l.Limiter = rate.NewLimiter(rate.Every(time.Minute), 1)
		}
		r.limits[event] = l
	}
	allowed, held := l.Allow(), l.held
	if l.held++; allowed {
		l.held = 0
	}
	r.mu.Unlock()
	if !allowed {
		return
	}
	if held > 0 {
		args = append(args, "not logged before", held)
	}
	r.log.Log(context.Background(), level, says, append(args, "event", string(event))...)
}

// answered tells what a request came to.
func (r *report) answered(p *port, m *dhcpv4.DHCPv4, sent bool, a dhcp.Answer) {
	event, level := a.Event, slog.LevelInfo
	switch event {
	case dhcp.EventNone:
		event = eventRefused
	case dhcp.EventOffer:
		level = slog.LevelDebug
	case dhcp.EventNak, dhcp.EventDecline, dhcp.EventExhausted:
		level = slog.LevelWarn
	case dhcp.EventUnwritten:
		level = slog.LevelError
	}
	args := []any{"on", p.name, "mac", m.ClientHWAddr.String(), "unicast", sent && m.GatewayIPAddr.IsUnspecified()}
	if a.Address().IsValid() {
		args = append(args, "address", a.Address().String())
	}
	if pool := a.Pool(); pool != "" {
		args = append(args, "pool", pool)
	}
	if !m.GatewayIPAddr.IsUnspecified() {
		args = append(args, "relay", m.GatewayIPAddr.String())
	}
	r.line(level, event, a.Why(), args...)
}

// relayed tells that a request was passed on.
func (r *report) relayed(p *port, m *dhcpv4.DHCPv4) {
	r.line(slog.LevelDebug, eventRelayed, "Relayed.", "on", p.name, "mac", m.ClientHWAddr.String())
}

func (r *report) refused(p *port, m *dhcpv4.DHCPv4, why string) {
	args := []any{"on", p.name}
	if m != nil {
		args = append(args, "mac", m.ClientHWAddr.String())
	}
	r.line(slog.LevelInfo, eventRefused, "A packet was not served: "+why+".", args...)
}

func (r *report) taken(p *port, a netip.Addr, by address.MAC) {
	args := []any{"on", p.name, "address", a.String()}
	if !by.IsZero() {
		args = append(args, "mac", by.String())
	}
	r.line(slog.LevelWarn, eventTaken, "Another machine answers at the address; it is set aside for an hour.", args...)
}

func (r *report) failed(what string, p *port, err error) {
	r.line(slog.LevelWarn, eventFailed, what, "on", p.name, "error", err)
}
