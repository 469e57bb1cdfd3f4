package api

import (
	"context"
	"crypto/rand"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"
	"github.com/labstack/echo/v5"

	"lithos/internal/actor"
)

// keepOpenEvery is how often a stream says something, so that nothing on the way
// closes it, and looks whether its session still stands.
const keepOpenEvery = 20 * time.Second

// eventsPath is where live events come from: an answer that goes on.
const eventsPath = prefix + "/events"

// isStream reports whether an answer goes on: it is neither timed nor compressed.
func isStream(c *echo.Context) bool { return c.Request().URL.Path == eventsPath }

// here is what a stream says when nothing has happened.
var here = actor.Event{Topic: "here"}

// eventOperations registers the stream of what has changed (server-sent events).
func (s *server) eventOperations(api huma.API) {
	huma.Register(api, op("PUT", prefix+"/presence", "presence",
		"Say which order and site the browser has in front of it"),
		s.presentAt)
	sse.Register(api, op("GET", eventsPath, "events", "What has changed, as it happens"),
		map[string]any{"message": actor.Event{}}, s.events)
}

// noOrder is the order that a browser without one has in front of it.
const noOrder = "0"

// stream is the live events of one browser.
type stream struct {
	*server
	id    string
	who   actor.Technician
	order string // what the browser has in front of it
	site  string // code of the site that it shows; empty for none
	stop  func() // ends that the site is read in short intervals
}

// events passes on what has changed until the browser goes or its session ends.
func (s *server) events(ctx context.Context, _ *none, send sse.Sender) {
	select {
	case <-s.work.Events.Heard():
	case <-ctx.Done():
		return
	}
	events, cancel := s.work.Events.Subscribe()
	defer cancel()
	keep := time.NewTicker(keepOpenEvery)
	defer keep.Stop()
	b := &stream{server: s, id: rand.Text(), who: who(ctx), order: noOrder, stop: func() {}}
	defer b.leave()
	for e := (actor.Event{Topic: here.Topic, ID: b.id}); send.Data(e) == nil; {
		select {
		case <-ctx.Done():
			return
		case <-keep.C:
			e = here
			b.present(ctx)
			if !s.stillSignedIn(ctx) {
				return
			}
		case e = <-events:
			b.heard(ctx, e)
			if e.Topic != actor.TopicSession {
				continue
			}
			if e.ID == strconv.FormatInt(b.who.ID, 10) && !s.stillSignedIn(ctx) {
				return
			}
			e = here
		}
	}
}

// heard notes which order the browser itself has come to, and answers another browser
// that has come to the same one.
func (b *stream) heard(ctx context.Context, e actor.Event) {
	switch {
	case e.Present == nil:
	case e.Present.Stream == b.id:
		b.order = e.ID
		b.watch(ctx, e.Present.Site)
	case e.Present.Asks && e.ID == b.order:
		b.present(ctx)
	}
}

// watch has the devices of the site that the browser shows be read in short intervals, and no longer those of the one
// that it showed.
func (b *stream) watch(ctx context.Context, code string) {
	if code == b.site {
		return
	}
	b.stop()
	b.site, b.stop = code, func() {}
	if code == "" {
		return
	}
	stop, err := b.work.WatchSite(ctx, code)
	if err != nil {
		b.site = "" // none of that name
		return
	}
	b.stop = stop
}

// present tells everybody which order the browser has in front of it, if any.
func (b *stream) present(ctx context.Context) {
	if b.order != noOrder {
		b.tellPresent(ctx, b.order, actor.Present{Stream: b.id, ID: b.who.ID, Who: b.who.FullName})
	}
}

// leave tells everybody that the browser is gone.
func (b *stream) leave() {
	b.stop()
	if b.order == noOrder {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	b.tellPresent(ctx, noOrder, actor.Present{Stream: b.id, ID: b.who.ID, Who: b.who.FullName})
}

func (s *server) tellPresent(ctx context.Context, order string, p actor.Present) {
	err := actor.Publish(ctx, s.work.Store.Queries, actor.Event{Topic: "present", ID: order, Present: &p})
	if err != nil && ctx.Err() == nil {
		s.log.Warn("cannot tell who is at an order", "order", order, "error", err)
	}
}

// presentAt is told by a browser which order it has in front of it.
func (s *server) presentAt(ctx context.Context, in *struct {
	Body struct {
		Stream string `json:"stream" maxLength:"40" doc:"id of the browser's live events"`
		Order  int64  `json:"order" minimum:"0" doc:"0 for none"`
		Site   string `json:"site,omitempty" maxLength:"64" doc:"code of the site that it shows; its devices are read more often"`
	}
}) (*none, error) {
	t := who(ctx)
	s.tellPresent(ctx, strconv.FormatInt(in.Body.Order, 10),
		actor.Present{Stream: in.Body.Stream, ID: t.ID, Who: t.FullName, Site: in.Body.Site, Asks: in.Body.Order > 0})
	return nil, nil
}

// stillSignedIn asks the store whether a stream's session still stands.
func (s *server) stillSignedIn(ctx context.Context) bool {
	_, _, ok, err := s.work.Accounts.SessionTechnician(ctx, hashed(s.sessions.Token(ctx)))
	return ok || err != nil && ctx.Err() == nil
}
