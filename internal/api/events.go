package api

import (
	"context"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"
	"github.com/labstack/echo/v5"

	"lithos/internal/act"
)

// keepOpenEvery is how often a stream says something, so that nothing on the way
// closes it, and looks whether its session still stands.
const keepOpenEvery = 20 * time.Second

// eventsPath is where live events come from: an answer that goes on.
const eventsPath = prefix + "/events"

// isStream reports whether an answer goes on: it is neither timed nor compressed.
func isStream(c *echo.Context) bool { return c.Request().URL.Path == eventsPath }

// here is what a stream says when nothing has happened.
var here = act.Event{Topic: "here"}

// eventOperations registers the stream of what has changed (server-sent events).
func (s *server) eventOperations(api huma.API) {
	sse.Register(api, op("GET", eventsPath, "events", "What has changed, as it happens"),
		map[string]any{"message": act.Event{}}, s.events)
}

// events passes on what has changed until the browser goes or its session ends.
func (s *server) events(ctx context.Context, _ *none, send sse.Sender) {
	events, cancel := s.work.Events.Subscribe()
	defer cancel()
	keep := time.NewTicker(keepOpenEvery)
	defer keep.Stop()
	for e := here; send.Data(e) == nil; {
		select {
		case <-ctx.Done():
			return
		case <-keep.C:
			e = here
			if !s.stillSignedIn(ctx) {
				return
			}
		case e = <-events:
			if e.Topic != act.TopicSession {
				continue
			}
			if e.ID == strconv.FormatInt(who(ctx).ID, 10) && !s.stillSignedIn(ctx) {
				return
			}
			e = here
		}
	}
}

// stillSignedIn asks the store whether a stream's session still stands.
func (s *server) stillSignedIn(ctx context.Context) bool {
	_, _, ok, err := s.work.SessionTechnician(ctx, hashed(s.sessions.Token(ctx)))
	return ok || err != nil && ctx.Err() == nil
}
