package actor

import (
	"context"
	"encoding/json"
	"strconv"
	"sync"

	"lithos/internal/store/gen"
)

// Event tells browsers what changed, so that they ask for it again.
type Event struct {
	Topic string `json:"topic" enum:"order,push,seen,site,rounds,work,session,all,here,present"`
	ID    string `json:"id"` // of an order, push or stream, else the site's code
	// Version is the version of the draft after the change.
	Version int32 `json:"version,omitempty"`
	// Present is who works on the order, of topic present.
	Present *Present `json:"present,omitempty"`
}

// Present is somebody who has an order in front of them, in one browser.
type Present struct {
	Stream string `json:"stream"` // names the browser
	ID     int64  `json:"id"`     // of the technician
	Who    string `json:"who"`
	Site   string `json:"site,omitempty"` // code of the site that the browser shows
	Asks   bool   `json:"asks,omitempty"` // whether the others are to say that they are there, too
}

// OrderEvent tells of a change of an order; version is 0 where it is not of its draft.
func OrderEvent(id int64, version int32) Event {
	return Event{Topic: "order", ID: strconv.FormatInt(id, 10), Version: version}
}

// Publish tells every process of an event, when the transaction of q is kept.
func Publish(ctx context.Context, q *gen.Queries, e Event) error {
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

	heard chan struct{} // closed once events are heard of
	once  sync.Once
}

// subscriber is one listener. behind says that it missed events.
type subscriber struct {
	events chan Event
	behind bool
}

// Everything tells a browser to ask for all it shows again: it missed events.
var Everything = Event{Topic: "all"}

// backlog is how many events a subscriber may be behind before it is told to ask
// for everything again instead.
const backlog = 64

// NewHub is a hub nobody listens to yet.
func NewHub() *Hub { return &Hub{subs: map[*subscriber]bool{}, heard: make(chan struct{})} }

// Hears says that the hub is told of events from now on. What was published before is in none: each subscriber is told
// to ask for everything.
func (h *Hub) Hears() {
	h.once.Do(func() { close(h.heard) })
	h.Send(Everything)
}

// Heard is closed once the hub is told of events: before that a subscriber would miss some.
func (h *Hub) Heard() <-chan struct{} { return h.heard }

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

// Send hands an event to whoever listens now.
func (h *Hub) Send(e Event) {
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
		c.events <- Everything
	}
}

// TopicSession is of events that say that sessions of a technician may have ended.
const TopicSession = "session"

// PushEvent tells of a push of an order that has gone on.
func PushEvent(order int64) Event { return Event{Topic: "push", ID: strconv.FormatInt(order, 10)} }

// RoundsEvent says that what Rounds tells of some site has changed.
var RoundsEvent = Event{Topic: "rounds"}
