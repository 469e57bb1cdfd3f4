package api_test

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/internal/actor"
	"lithos/internal/view"
)

// get asks for a path with the tag of the answer that is there already.
func (c *client) get(t *testing.T, path, tag string) (*http.Response, string) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), "GET", c.url+path, nil)
	require.NoError(t, err)
	if tag != "" {
		r.Header.Set("If-None-Match", tag)
	}
	answer, err := c.http.Do(r)
	require.NoError(t, err)
	defer answer.Body.Close()
	raw, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return answer, string(raw)
}

// An answer that has not changed is not sent again; one that has is.
func TestWhatHasNotChangedIsNotSentAgain(t *testing.T) {
	c := open(t)
	c.signIn()
	const path = "/api/sites/quill-street/frame"
	first, whole := c.get(t, path, "")
	require.Equal(t, 200, first.StatusCode)
	tag := first.Header.Get("ETag")
	require.NotEmpty(t, tag)
	assert.Equal(t, "no-store", first.Header.Get("Cache-Control"), "nothing is kept on a disk")

	same, body := c.get(t, path, tag)
	assert.Equal(t, http.StatusNotModified, same.StatusCode)
	assert.Empty(t, body)
	other, body := c.get(t, path, `"another"`)
	assert.Equal(t, 200, other.StatusCode)
	assert.Equal(t, whole, body)

	status, _, raw := c.send("POST", "/api/orders",
		map[string]string{"site": "quill-street", "title": "T", "ticket": ""})
	require.Equal(t, 200, status, raw)
	changed, body := c.get(t, path, tag)
	assert.Equal(t, 200, changed.StatusCode, "a work order was opened at the site")
	assert.NotEqual(t, whole, body)

	missing, _ := c.get(t, "/api/sites/nowhere/frame", tag)
	assert.Equal(t, 404, missing.StatusCode)
	assert.Empty(t, missing.Header.Get("ETag"), "a refusal is not kept")
}

// An answer worth it is sent packed to a client that unpacks it.
func TestAnswersArePacked(t *testing.T) {
	c := open(t)
	c.signIn()
	const path = "/api/options"
	_, whole := c.get(t, path, "") // unpacked by the client
	r, err := http.NewRequestWithContext(t.Context(), "GET", c.url+path, nil)
	require.NoError(t, err)
	r.Header.Set("Accept-Encoding", "gzip")
	answer, err := c.http.Do(r)
	require.NoError(t, err)
	defer answer.Body.Close()
	packed, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	assert.Equal(t, "gzip", answer.Header.Get("Content-Encoding"))
	assert.Less(t, len(packed), len(whole)/3)
}

// A network is told whole once, and then what is different in it.
func TestANetworkIsToldByItsChanges(t *testing.T) {
	c := open(t)
	c.signIn()
	status, _, raw := c.send("POST", "/api/orders",
		map[string]string{"site": "kelder-bridge", "title": "T", "ticket": ""})
	require.Equal(t, 200, status, raw)
	ask := func(have string) view.NetworkAnswer {
		t.Helper()
		_, body := c.get(t, "/api/sites/kelder-bridge/network?order=1&network=net-clinic&have="+have, "")
		var a view.NetworkAnswer
		require.NoError(t, json.Unmarshal([]byte(body), &a), body)
		return a
	}
	whole := ask("")
	require.NotNil(t, whole.Network)
	same := ask(whole.Stamp)
	require.Nil(t, same.Network)
	assert.Equal(t, whole.Stamp, same.Stamp)
	assert.Empty(t, same.Changed.Rows)

	status, _, raw = c.send("POST", "/api/orders/1/edits", map[string]any{
		"version": 0, "look": map[string]any{"network": "net-clinic", "have": whole.Stamp},
		"entries": []any{map[string]any{"kind": "reservation", "id": "res-xray-plate",
			"fields": map[string]string{"name": "xray-2"}}},
	})
	require.Equal(t, 200, status, raw)
	var edited view.Changed
	require.NoError(t, json.Unmarshal([]byte(raw), &edited))
	require.Nil(t, edited.Network.Network, "what changed, not all of it")
	require.Len(t, edited.Network.Changed.Rows, 1)
	assert.Equal(t, "xray-2", edited.Network.Changed.Rows[0].Put[0].Name)
	assert.Less(t, len(raw), 8000)

	unknown := ask("from-another-process-1")
	assert.NotNil(t, unknown.Network, "a state that is not known is no ground for a change")
	moved := ask(edited.Network.Stamp + "&from=0&select=reservation:res-xray-plate")
	assert.NotNil(t, moved.Changed)
}

// follow reads the live events of a session until it is told to stop.
func (c *client) follow(t *testing.T) (<-chan actor.Event, context.CancelFunc) {
	t.Helper()
	ctx, stop := context.WithCancel(t.Context())
	r, err := http.NewRequestWithContext(ctx, "GET", c.url+"/api/events", nil)
	require.NoError(t, err)
	answer, err := c.http.Do(r)
	require.NoError(t, err)
	events := make(chan actor.Event, 100)
	go func() {
		defer answer.Body.Close()
		defer close(events)
		lines := bufio.NewScanner(answer.Body)
		for lines.Scan() {
			var e actor.Event
			if text, ok := strings.CutPrefix(lines.Text(), "data: "); ok && json.Unmarshal([]byte(text), &e) == nil {
				events <- e
			}
		}
	}()
	return events, stop
}

// next is the next event of a topic.
func next(t *testing.T, events <-chan actor.Event, topic string) actor.Event {
	t.Helper()
	for e := range events {
		if e.Topic == topic {
			return e
		}
	}
	t.Fatalf("the events ended without one of topic %s", topic)
	return actor.Event{}
}

// Who has an order in front of them is told to everybody, answered by those who are there
// already, and taken back when a browser goes.
func TestPresence(t *testing.T) {
	c := open(t)
	c.signIn()
	first, leave := c.follow(t)
	second, stop := c.follow(t)
	defer stop()
	one, two := next(t, first, "here").ID, next(t, second, "here").ID
	require.NotEmpty(t, one)
	require.NotEqual(t, one, two)
	at := func(stream string, order int) {
		t.Helper()
		status, _, raw := c.send("PUT", "/api/presence", map[string]any{"stream": stream, "order": order})
		require.Less(t, status, 300, raw)
	}
	at(one, 7)
	e := next(t, second, "present")
	assert.Equal(t, "7", e.ID)
	assert.Equal(t, one, e.Present.Stream)
	assert.Equal(t, "Maren Kolb", e.Present.Who)

	at(two, 7)
	assert.Equal(t, two, next(t, second, "present").Present.Stream, "its own coming")
	answer := next(t, second, "present")
	assert.Equal(t, one, answer.Present.Stream, "who is there already says so")
	assert.False(t, answer.Present.Asks)

	leave()
	gone := next(t, second, "present")
	assert.Equal(t, one, gone.Present.Stream)
	assert.Equal(t, "0", gone.ID)
}
