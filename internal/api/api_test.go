package api_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/cookiejar"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/internal/actor"
	"lithos/internal/api"
	"lithos/internal/demo"
	"lithos/internal/demo/demotest"
	"lithos/internal/postgres/pgtest"
	"lithos/internal/store"
	"lithos/internal/work"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Migrate) }

// client is a browser as far as HTTP goes: it keeps cookies.
type client struct {
	testing.TB
	http *http.Client
	url  string
	work *work.Service
	db   *store.Store
}

func open(t testing.TB) *client {
	t.Helper()
	files := fstest.MapFS{"index.html": {Data: []byte("<p>the front end</p>")}, "assets/a.js": {Data: []byte("1")}}
	running := demotest.Start(t, demotest.Options{Files: files, Poll: time.Hour})
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	return &client{t, &http.Client{Jar: jar}, running.URL, running.Work, running.Store}
}

// send makes a request and decodes the answer, where it is an object.
func (c *client) send(method, path string, body any, headers ...string) (int, map[string]any, string) {
	c.Helper()
	status, raw := c.exchange(method, path, body, headers...)
	var doc map[string]any
	_ = json.Unmarshal([]byte(raw), &doc)
	return status, doc, raw
}

func (c *client) exchange(method, path string, body any, headers ...string) (int, string) {
	c.Helper()
	var in io.Reader
	if text, ok := body.(string); ok {
		in = strings.NewReader(text)
	} else if body != nil {
		raw, err := json.Marshal(body)
		require.NoError(c, err)
		in = strings.NewReader(string(raw))
	}
	req, err := http.NewRequest(method, c.url+path, in)
	require.NoError(c, err)
	req.Header.Set("Content-Type", "application/json")
	for i := 0; i < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	resp, err := c.http.Do(req)
	require.NoError(c, err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(c, err)
	return resp.StatusCode, string(raw)
}

func (c *client) signIn() {
	c.Helper()
	status, _, raw := c.send("POST", "/api/session", map[string]string{"name": demo.Account, "password": demo.Password})
	require.Equal(c, 200, status, raw)
}

func TestEverythingNeedsASession(t *testing.T) {
	c := open(t)
	var doc struct {
		Paths map[string]map[string]any `json:"paths"`
	}
	_, _, raw := c.send("GET", "/api/openapi.json", nil)
	require.NoError(t, json.Unmarshal([]byte(raw), &doc))
	tried := 0
	for path, methods := range doc.Paths {
		if path == "/api/session" {
			continue
		}
		for method := range methods {
			url := strings.NewReplacer("{site}", "kelder-bridge", "{order}", "1").Replace(path)
			status, problem, _ := c.send(strings.ToUpper(method), url+"?q=x&bits=26", `{}`)
			assert.Equal(t, 401, status, "%s %s", method, path)
			assert.Contains(t, problem["detail"], "Sign in")
			tried++
		}
	}
	assert.Greater(t, tried, 15)
	status, _, _ := c.send("GET", "/api/events", nil)
	assert.Equal(t, 401, status)
}

func TestSessions(t *testing.T) {
	c := open(t)
	status, problem, _ := c.send("POST", "/api/session", map[string]string{"name": "mk", "password": "wrong"})
	assert.Equal(t, 401, status)
	assert.Equal(t, "The name or password is wrong. Check both and try again.", problem["detail"])
	_, who, _ := c.send("GET", "/api/session", nil)
	assert.Nil(t, who["technician"])
	c.signIn()
	_, who, _ = c.send("GET", "/api/session", nil)
	assert.Equal(t, "Maren Kolb", who["technician"].(map[string]any)["fullName"])
	status, _, _ = c.send("GET", "/api/sites", nil)
	assert.Equal(t, 200, status)

	// Another site's page cannot make this browser do anything.
	for _, headers := range [][]string{{"Sec-Fetch-Site", "cross-site"}, {"Origin", "https://elsewhere.example"}} {
		status, _, _ = c.send("POST", "/api/orders",
			map[string]string{"site": "kelder-bridge", "title": "T", "ticket": ""}, headers...)
		assert.Equal(t, 403, status, "%v", headers)
	}
	status, _, _ = c.send("DELETE", "/api/session", nil)
	assert.Equal(t, 204, status)
	status, _, _ = c.send("GET", "/api/sites", nil)
	assert.Equal(t, 401, status)
	var tokens int
	require.NoError(t, c.db.Pool.QueryRow(t.Context(), "SELECT count(*) FROM session").Scan(&tokens))
	assert.Zero(t, tokens, "signing out leaves nothing behind")
}

func TestProblemsNameTheField(t *testing.T) {
	c := open(t)
	c.signIn()
	status, problem, _ := c.send("POST", "/api/orders",
		map[string]string{"site": "kelder-bridge", "title": " ", "ticket": ""})
	assert.Equal(t, 422, status)
	assert.Equal(t, "body.title", problem["errors"].([]any)[0].(map[string]any)["location"])
	status, _, raw := c.send("POST", "/api/orders",
		map[string]string{"site": "kelder-bridge", "title": "Ward", "ticket": "1"})
	require.Equal(t, 200, status, raw)

	edit := func(version int, fields map[string]string) (int, map[string]any) {
		status, doc, _ := c.send("POST", "/api/orders/1/edits",
			map[string]any{"version": version, "look": map[string]any{},
				"entries": []any{map[string]any{"kind": "network", "id": "", "new": true, "fields": fields}}})
		return status, doc
	}
	status, problem = edit(0, map[string]string{"name": "R", "prefix": "10.84.20.70/26"})
	assert.Equal(t, 422, status)
	detail := problem["errors"].([]any)[0].(map[string]any)
	assert.Equal(t, "body.entries[0].fields.prefix", detail["location"])
	assert.Contains(t, detail["message"], "type 10.84.20.64/26")
	status, view := edit(0, map[string]string{"name": "R", "prefix": "10.84.20.64/26"})
	require.Equal(t, 200, status)
	assert.Contains(t, view["made"], "network:net-")
	assert.Equal(t, "R", view["network"].(map[string]any)["network"].(map[string]any)["name"],
		"the view shows what was made")
	status, problem = edit(0, map[string]string{"name": "S", "prefix": "10.84.21.0/26"})
	assert.Equal(t, 409, status)
	assert.Contains(t, problem["detail"], "meanwhile")

	for path, want := range map[string]int{
		"/api/sites/nowhere/frame": 404, "/api/orders/99": 404, "/api/orders/abc": 422,
		"/api/sites/kelder-bridge/room?bits=99":   422,
		"/api/sites/kelder-bridge/frame?order=99": 404, "/api/sites/hallin-road/frame?order=1": 404,
		"/api/nothing": 404,
	} {
		status, _, _ := c.send("GET", path, nil)
		assert.Equal(t, want, status, path)
	}
	status, _, _ = c.send("POST", "/api/orders", `{"site": `)
	assert.Equal(t, 400, status)
	status, _, _ = c.send("POST", "/api/orders", `{"site":"kelder-bridge","title":"`+strings.Repeat("x", 30<<20)+`"}`)
	assert.Contains(t, []int{413, 422}, status)
}

func TestUndoRehearseAndFiles(t *testing.T) {
	c := open(t)
	c.signIn()
	c.send("POST", "/api/orders", map[string]string{"site": "kelder-bridge", "title": "Ward", "ticket": "1"})
	look := map[string]any{"network": "net-imaging"}
	status, view, raw := c.send("POST", "/api/orders/1/edits",
		map[string]any{"version": 0, "look": look,
			"fix": "address-two-owners.fix-label-prn.res-xray-plate.10.84.18.57"})
	require.Equal(t, 200, status, raw)
	findings := func() any {
		for _, l := range view["layers"].([]any) {
			if layer := l.(map[string]any); layer["id"] == "net-clinic" {
				return layer["findings"]
			}
		}
		return "the network's layer is not told"
	}
	assert.EqualValues(t, 0, findings())
	status, view, _ = c.send("POST", "/api/orders/1/undo", map[string]any{"version": 1, "look": look})
	assert.Equal(t, 200, status)
	assert.EqualValues(t, 1, findings())
	status, _, _ = c.send("POST", "/api/orders/1/redo", map[string]any{"version": 2, "look": look})
	assert.Equal(t, 200, status)
	status, order, raw := c.send("POST", "/api/orders/1/rehearse", map[string]any{"version": 3})
	require.Equal(t, 200, status, raw)
	assert.Equal(t, true, order["head"].(map[string]any)["rehearsed"])
	status, _, _ = c.send("POST", "/api/orders/1/drop", map[string]any{"version": 3})
	assert.Equal(t, 200, status)
	for _, path := range []string{"/api/orders", "/api/options", "/api/rules", "/api/standards", "/api/find?q=mfp",
		"/api/sites/kelder-bridge/history"} {
		status, _, raw := c.send("GET", path, nil)
		assert.Equal(t, 200, status, path)
		assert.NotContains(t, raw, "null", path)
	}
	_, _, yaml := c.send("GET", "/api/sites/kelder-bridge/file?format=yaml", nil)
	assert.Contains(t, yaml, "name: Kelder Bridge surgery")
	_, file, _ := c.send("GET", "/api/sites/kelder-bridge/file", nil)
	assert.Equal(t, "kelder-bridge", file["code"])
}

func TestLiveEvents(t *testing.T) {
	c := open(t)
	c.signIn()
	events, leave := c.follow(t)
	defer leave()
	// Another browser opens an order; this one is told. It is opened again until
	// the process listens to the database, which it may not yet.
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	go func() {
		for ctx.Err() == nil {
			_, _ = c.work.Drafts.OpenOrder(ctx, actor.Technician{ID: 1}, "kelder-bridge", "T", "")
		}
	}()
	next(t, events, "order")
}

func TestPagesAndHeaders(t *testing.T) {
	c := open(t)
	for path, want := range map[string]string{"/": "the front end", "/sites/kelder-bridge": "the front end",
		"/assets/a.js": "1"} {
		status, _, raw := c.send("GET", path, nil)
		assert.Equal(t, 200, status)
		assert.Contains(t, raw, want, path)
	}
	resp, err := c.http.Get(c.url + "/")
	require.NoError(t, err)
	defer resp.Body.Close()
	assert.Contains(t, resp.Header.Get("Content-Security-Policy"), "default-src 'self'")
	assert.Equal(t, "nosniff", resp.Header.Get("X-Content-Type-Options"))
}

// grown is a site of n networks, each with a pool, an interface and some reservations.
func grown(n, each int) string {
	var b strings.Builder
	fmt.Fprintf(&b,
		`{"id":"site-big","code":"big","name":"Big","customer":{"id":"c","name":"C"},"block":["10.0.0.0/8"],
		"domain":"big.example","options":[{"code":6,"value":"10.0.0.1"}],
		"resolvers":[{"id":"r","name":"Names","device":"gw","enabled":true,"forwarders":[{"address":"192.0.2.53"}]}],
		"devices":[{"id":"gw","name":"gw","kind":"firewall","interfaces":[
		{"id":"if-lan","name":"lan","kind":"port group"}`)
	for i := range n {
		fmt.Fprintf(&b,
			`,{"id":"if-%d","name":"lan.%d","kind":"vlan","parent":"lan","vlan":%d,"addresses":["10.%d.%d.1/24"]}`, i,
			i+2, i+2, i/256, i%256)
	}
	b.WriteString(`]}],"networks":[`)
	list := func(format string, args func(i int) []any) {
		for i := range n {
			if i > 0 {
				b.WriteString(",")
			}
			fmt.Fprintf(&b, format, args(i)...)
		}
	}
	list(`{"id":"net-%d","name":"Net %d","prefix":"10.%d.%d.0/24","vlan":%d,"gateway":"10.%d.%d.1"}`,
		func(i int) []any { return []any{i, i, i / 256, i % 256, i + 2, i / 256, i % 256} })
	b.WriteString(`],"pools":[`)
	list(`{"id":"pool-%d","name":"Pool","network":"net-%d","server":"gw","enabled":true,`+
		`"ranges":[{"from":"10.%d.%d.100","to":"10.%d.%d.199"}]}`, func(i int) []any {
		return []any{i, i, i / 256, i % 256, i / 256, i % 256}
	})
	b.WriteString(`],"reservations":[`)
	for i := range n * each {
		if i > 0 {
			b.WriteString(",")
		}
		net, k := i/each, 2+i%each
		if k >= 100 {
			k += 100 // the pool is in between
		}
		fmt.Fprintf(&b,
			`{"id":"res-%d","name":"r%d","network":"net-%d","address":"10.%d.%d.%d","mac":"00:00:5e:%02x:%02x:%02x"}`,
			i, i, net, net/256, net%256, k, i>>16, i>>8&0xff, i&0xff)
	}
	b.WriteString(`]}`)
	return b.String()
}

var quiet = slog.New(slog.DiscardHandler)

// lines is a log that several goroutines write.
type lines struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *lines) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *lines) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

func logTo(l *lines) *slog.Logger { return slog.New(slog.NewTextHandler(l, nil)) }

// Whatever is let through decodes to text without control characters.
func FuzzJSONText(f *testing.F) {
	for _, seed := range []string{`{"a":"b"}`, `{"a":"\u0000"}`, `"\\u0000"`, `"\ud83d\ude00"`, `"\ud800x"`,
		"\"\xc2\x85\"", `"\\\b"`} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		if api.CheckJSON(data) != nil {
			return
		}
		var v any
		if json.Unmarshal(data, &v) != nil {
			return
		}
		var walk func(any)
		walk = func(v any) {
			switch v := v.(type) {
			case string:
				for _, r := range v {
					if unicode.IsControl(r) && r != '\t' && r != '\n' && r != '\r' || r == utf8.RuneError &&
						!bytes.ContainsRune(data, utf8.RuneError) &&
						!bytes.Contains(bytes.ToLower(data), []byte(`\ufffd`)) {
						t.Fatalf("%q came through as %q", data, v)
					}
				}
			case []any:
				for _, item := range v {
					walk(item)
				}
			case map[string]any:
				for key, item := range v {
					walk(key)
					walk(item)
				}
			}
		}
		walk(v)
	})
}
