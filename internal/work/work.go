// Package work is what technicians do with Lithos: see sites, open work orders,
// edit, rehearse, push, verify and land. It joins the computation of core with
// the store and the devices, and runs what takes long in the background.
package work

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/netip"
	"strconv"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"

	"lithos/core/check"
	"lithos/core/compile"
	"lithos/core/site"
	"lithos/core/yang"
	"lithos/internal/store"
	"lithos/internal/store/gen"
)

// Service is the use cases. It is safe for concurrent use, and any number of
// processes may run one on the same database.
type Service struct {
	store  *store.Store
	vault  *Vault
	log    *slog.Logger
	jobs   *river.Client[pgx.Tx]
	Events *Hub

	// Outside is an address on the internet that answers an echo request (RFC 792):
	// what the last rung tries after a push, from each network in turn. Without one
	// that rung is not climbed. It is set before Run.
	Outside netip.Addr

	Timing Timing
	Meters *Meters

	// life ends when this process is told to end: work that can be taken up again
	// stops, and what must not be left halfway is finished.
	life context.Context

	hashes chan struct{} // the passwords looked at now

	// Whole documents of the sites being worked on, and a line or two of every site of
	// a fleet; what was used the longest ago makes way.
	heads     *lru.Cache[revisionKey, *examined]
	summaries *lru.Cache[revisionKey, summary]
	drafts    *lru.Cache[int64, *Draft]
}

// revisionKey names one revision of a site. Revisions never change, so what is
// worked out of one may be kept.
type revisionKey struct {
	site     string
	revision int32
}

type examined struct {
	doc      *site.Site
	findings []check.Finding
	compiled map[string]yang.Config // by device id
}

// How much the caches keep.
const (
	maxKept      = 128
	maxSummaries = 20_000
)

// New makes a service on a migrated database. Nothing runs in the background
// until Run.
func New(s *store.Store, vault *Vault, log *slog.Logger) *Service {
	return &Service{
		store: s, vault: vault, log: log, Events: newHub(), Timing: UsualTiming, Meters: newMeters(), life: context.Background(),
		hashes: make(chan struct{}, hashesAtOnce),
		heads:  cache[revisionKey, *examined](maxKept), summaries: cache[revisionKey, summary](maxSummaries), drafts: cache[int64, *Draft](maxKept),
	}
}

// Kind tells refusals apart.
type Kind int

// The kinds of refusal.
const (
	Missing  Kind = iota + 1 // what was asked for is not there
	Invalid                  // the input is at fault
	Conflict                 // somebody else was faster, or the state does not allow it
	Denied                   // the account or password is wrong
	Busy                     // too often; try again later
)

// Refusal is an error for people: a sentence, and the fields at fault.
type Refusal struct {
	Kind   Kind
	Says   string
	Fields []site.FieldError
}

func (r *Refusal) Error() string { return r.Says }

func refuse(kind Kind, format string, args ...any) *Refusal {
	return &Refusal{Kind: kind, Says: fmt.Sprintf(format, args...)}
}

// examine reads a revision with its findings, from memory when it was read before.
func (s *Service) examine(ctx context.Context, siteID string, revision int32) (*examined, error) {
	key := revisionKey{siteID, revision}
	if kept, ok := s.heads.Get(key); ok {
		return kept, nil
	}
	doc, err := s.store.Revision(ctx, siteID, revision)
	if err != nil {
		return nil, err
	}
	kept := &examined{doc, check.Site(doc), map[string]yang.Config{}}
	for _, d := range doc.Devices {
		kept.compiled[d.ID] = compile.Device(doc, d.ID)
	}
	s.heads.Add(key, kept)
	return kept, nil
}

func cache[K comparable, V any](most int) *lru.Cache[K, V] {
	c, err := lru.New[K, V](most)
	if err != nil {
		panic("a cache keeps at least one: " + err.Error())
	}
	return c
}

// Event tells browsers what changed, so that they ask for it again.
type Event struct {
	Topic string `json:"topic" enum:"order,push,seen,site,rounds,work,session,all"`
	ID    string `json:"id"` // of an order or push, else the site's code
	// Version is what a change of a draft left it at: whoever made the change knows.
	Version int32 `json:"version,omitempty"`
}

// orderEvent tells of a change of an order; version is 0 where it is not of its draft.
func orderEvent(id int64, version int32) Event {
	return Event{"order", strconv.FormatInt(id, 10), version}
}

func publish(ctx context.Context, q *gen.Queries, e Event) error {
	raw, err := json.Marshal(e)
	if err != nil {
		return err
	}
	return q.Notify(ctx, string(raw))
}

// Hub hands events to whoever listens in this process.
type Hub struct {
	mu   sync.Mutex
	subs map[*subscriber]bool
}

// subscriber is one listener. behind says that it missed events.
type subscriber struct {
	events chan Event
	behind bool
}

// everything tells a browser to ask for all it shows again: it missed events.
var everything = Event{Topic: "all"}

// backlog is how many events a subscriber may be behind before it is told to ask
// for everything again instead.
const backlog = 64

func newHub() *Hub { return &Hub{subs: map[*subscriber]bool{}} }

// Subscribe returns a channel of events until cancel is called. A subscriber that
// falls behind gets one event of topic all in place of those it missed.
func (h *Hub) Subscribe() (events <-chan Event, cancel func()) {
	c := &subscriber{events: make(chan Event, backlog)}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.subs[c] = true
	return c.events, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.subs, c)
	}
}

func (h *Hub) send(e Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.subs {
		c.send(e)
	}
}

// send gives the subscriber an event. The last place of its backlog is for the one
// that says it missed some; what follows is missed until that one was read.
func (c *subscriber) send(e Event) {
	if len(c.events) < backlog-1 {
		c.behind = false
		c.events <- e
		return
	}
	if !c.behind {
		c.behind = true
		c.events <- everything
	}
}

// listen passes on what any process published, until ctx ends. It reconnects
// after a dropped connection.
func (s *Service) listen(ctx context.Context) {
	for ctx.Err() == nil {
		// What was published while nobody listened is in no event.
		err := s.store.Listen(ctx, func() { s.Events.send(everything) }, func(payload string) {
			var e Event
			if json.Unmarshal([]byte(payload), &e) == nil {
				s.Events.send(e)
			}
		})
		if ctx.Err() != nil {
			return
		}
		s.log.Warn("lost the connection for live events; trying again", "error", err)
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}
