package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"lithos/internal/act"
)

// keepOpenEvery is how often a stream says something, so that nothing on the way
// closes it, and looks whether its session still stands.
const keepOpenEvery = 20 * time.Second

// events streams what changed (server-sent events). The stream ends with its session.
func (s *server) events(c *echo.Context) error {
	t, ok := s.technicianOf(c)
	if !ok {
		writeProblem(c, http.StatusUnauthorized, notSignedIn)
		return nil
	}
	events, cancel := s.work.Events.Subscribe()
	defer cancel()
	w, ctx := c.Response(), c.Request().Context()
	out := http.NewResponseController(w)
	if err := out.SetWriteDeadline(time.Time{}); err != nil { // this answer goes on
		return err
	}
	w.Header().Set("Content-Type", "text/event-stream")
	keep := time.NewTicker(keepOpenEvery)
	defer keep.Stop()
	line := ": hello\n\n"
	for {
		if _, err := fmt.Fprint(w, line); err != nil || out.Flush() != nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-keep.C:
			line = ": still here\n\n"
			if !s.stillSignedIn(c) {
				return nil
			}
		case e := <-events:
			if line = eventLine(e); e.Topic != act.TopicSession {
				continue
			}
			if e.ID == strconv.FormatInt(t.ID, 10) && !s.stillSignedIn(c) {
				return nil
			}
			line = ": still here\n\n"
		}
	}
}

func eventLine(e act.Event) string {
	raw, err := json.Marshal(e)
	if err != nil {
		return ": an event that cannot be written\n\n"
	}
	return fmt.Sprintf("data: %s\n\n", raw)
}

// stillSignedIn asks the store whether a stream's session still stands.
func (s *server) stillSignedIn(c *echo.Context) bool {
	token := s.sessions.Token(c.Request().Context())
	_, _, ok, err := s.work.SessionTechnician(c.Request().Context(), hashed(token))
	return ok || err != nil && c.Request().Context().Err() == nil
}
