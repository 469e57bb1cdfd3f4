package api_test

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lithos/core/site"
	"lithos/internal/api"
	"lithos/internal/demo"
)

// another is one more server on the client's use cases, with other options.
func (c *client) another(o api.Options) *client {
	c.Helper()
	o.Files, o.Log = fstest.MapFS{"index.html": {Data: []byte("x")}}, quiet
	server := httptest.NewServer(api.New(c.work, o))
	c.Cleanup(server.Close)
	jar, err := cookiejar.New(nil)
	require.NoError(c, err)
	return &client{c.TB, &http.Client{Jar: jar}, server.URL, c.work, c.db}
}

// Behind a proxy each client has attempts of its own, and nobody chooses theirs by
// writing the header.
func TestAttackFortyGuessesBehindTheProxy(t *testing.T) {
	c := open(t)
	loopback := netip.MustParsePrefix("127.0.0.0/8")
	proxied, direct := c.another(api.Options{Proxies: []netip.Prefix{loopback}}), c.another(api.Options{})
	guess := func(on *client, name, from string) int {
		status, _ := on.exchange("POST", "/api/session",
			map[string]string{"name": name, "password": "a wrong password"}, "X-Forwarded-For", from)
		return status
	}
	for i := range 41 {
		guess(proxied, fmt.Sprint("name", i), "198.51.100.7")
	}
	assert.Equal(t, 429, guess(proxied, "mk", "198.51.100.7"))
	assert.Equal(t, 401, guess(proxied, "mk", "198.51.100.8"), "another client of the same proxy")
	for i := range 41 {
		guess(direct, fmt.Sprint("other", i), fmt.Sprintf("203.0.113.%d", i))
	}
	assert.Equal(t, 429, guess(direct, "mk", "203.0.113.99"), "without a listed proxy the header says nothing")
}

// The stream of live events ends with the session, however that ends.
func TestAttackStreamOutlivesItsSession(t *testing.T) {
	c := open(t)
	for how, end := range map[string]func(){
		"signed out": func() { c.send("DELETE", "/api/session", nil) },
		"switched off": func() {
			require.NoError(t, c.work.Accounts.SwitchAccount(context.Background(), "a test",
				"mk", true))
		},
	} {
		require.NoError(t, c.work.Accounts.SwitchAccount(context.Background(), "a test", "mk", false))
		c.signIn()
		resp, err := c.http.Get(c.url + "/api/events")
		require.NoError(t, err)
		lines := bufio.NewScanner(resp.Body)
		require.True(t, lines.Scan())
		end()
		// It is ended again until the process listens to the database.
		ctx, cancel := context.WithCancel(t.Context())
		again := make(chan struct{})
		go func() {
			defer close(again)
			for ctx.Err() == nil {
				_ = c.work.Accounts.EndSessions(ctx, "a test", "mk")
			}
		}()
		for lines.Scan() {
		}
		cancel()
		<-again
		require.NoError(t, resp.Body.Close())
		status, _, _ := c.send("GET", "/api/sites", nil)
		assert.Equal(t, 401, status, how)
	}
}

// NUL and octets that are not UTF-8, wherever they are put, give a problem document.
func TestAttackNULEverywhere(t *testing.T) {
	c := open(t)
	c.signIn()
	c.send("POST", "/api/orders", map[string]string{"site": "kelder-bridge", "title": "Ward", "ticket": "1"})
	isProblem := func(what string, status int, doc map[string]any) {
		assert.GreaterOrEqual(t, status, 400, what)
		assert.Less(t, status, 500, what)
		assert.NotEmpty(t, doc["detail"], what)
	}
	for _, bad := range []string{"%00", "%ff", "a%00b", "%1b", "%e2%80%ae"} {
		for _, path := range []string{"/api/find?q=", "/api/sites/", "/api/sites/kelder-bridge/network?network=",
			"/api/sites/kelder-bridge/part?select=", "/api/orders/1/fixes?rule=",
			"/api/sites/kelder-bridge/forecast?pool="} {
			at := path + bad
			if strings.HasSuffix(path, "/") {
				at += "/frame"
			}
			status, doc, raw := c.send("GET", at, nil)
			isProblem(at+" "+raw, status, doc)
		}
	}
	for _, bad := range []string{`\u0000`, "\xff", `\u001b`, `\b`, `\ud800`, "\u0085"} {
		for path, body := range map[string]string{
			"/api/session": `{"name":"mk%s","password":"%s"}`,
			"/api/orders":  `{"site":"kelder-bridge","title":"W%s","ticket":"%s"}`,
			"/api/orders/1/edits": `{"version":0,"look":{},"entries":[{"kind":"network",` +
				`"id":"net-imaging","fields":{"name":"S%s","purpose":"%s"}}]}`,
			"/api/orders/1/paste":          `{"network":"net-imaging","kind":"fixed","text":"%s%s"}`,
			"/api/sites/kelder-bridge/try": `{"network":"net-imaging","hostName":"%s","against":"draft","class":"%s"}`,
		} {
			status, doc, raw := c.send("POST", path, fmt.Sprintf(body, bad, bad))
			isProblem(path+" "+raw, status, doc)
			assert.NotContains(t, raw, "SQLSTATE")
		}
	}
	// What a line may hold in a paste of many is no control character.
	status, _, raw := c.send("POST", "/api/orders/1/paste",
		`{"network":"net-imaging","kind":"fixed","text":"10.84.20.40\tlamp\r\n10.84.20.41\tfan\n"}`)
	assert.Equal(t, 200, status, raw)
}

// What no operation answers is answered with a problem document too.
func TestAttackProblemsOfTheRouter(t *testing.T) {
	c := open(t)
	c.signIn()
	for _, try := range []struct {
		method, path string
		status       int
		headers      []string
	}{
		{"GET", "/api/nothing", 404, nil}, {"POST", "/api/nothing", 404, nil}, {"PUT", "/api/orders", 405, nil},
		{"DELETE", "/api/sites/kelder-bridge/frame", 405, nil},
		{"POST", "/api/orders", 403, []string{"Origin", "https://elsewhere.example"}},
	} {
		status, doc, raw := c.send(try.method, try.path, map[string]string{}, try.headers...)
		assert.Equal(t, try.status, status, "%s %s", try.method, try.path)
		assert.EqualValues(t, try.status, doc["status"], raw)
		assert.NotEmpty(t, doc["detail"])
	}
}

// What was typed into a secret field is not sent back, and what is wrong is said in
// words.
func TestAttackValidationEchoesAPassword(t *testing.T) {
	c := open(t)
	secret := "do-not-repeat-me-" + strings.Repeat("x", 300)
	for _, body := range []any{map[string]string{"name": "mk", "password": secret},
		`{"name":"mk","password":"` + secret, map[string]any{"name": "mk", "password": []string{secret}}} {
		status, doc, raw := c.send("POST", "/api/session", body)
		assert.Contains(t, []int{400, 422}, status)
		assert.NotContains(t, raw, "do-not-repeat-me")
		assert.NotEqual(t, "validation failed", doc["detail"])
	}
	_, doc, _ := c.send("POST", "/api/session", map[string]string{"name": "mk", "password": secret})
	assert.Equal(t, "Nothing was done: password type at most 200 characters.", doc["detail"])
}

// Slow clients, and the header that keeps browsers on HTTPS.
func TestAttackSlowClients(t *testing.T) {
	c := open(t)
	server := api.Server(http.NotFoundHandler())
	for what, limit := range map[string]time.Duration{
		"header": server.ReadHeaderTimeout, "read": server.ReadTimeout, "write": server.WriteTimeout,
		"idle": server.IdleTimeout,
	} {
		assert.Positive(t, limit, what)
	}
	server.ReadHeaderTimeout = 50 * time.Millisecond
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = server.Serve(listener) }()
	defer server.Close()
	slow, err := net.Dial("tcp", listener.Addr().String())
	require.NoError(t, err)
	_, err = slow.Write([]byte("GET / HTTP/1.1\r\nHost: "))
	require.NoError(t, err)
	_, err = io.ReadAll(slow) // until the server gives up
	require.NoError(t, err)

	secure := c.another(api.Options{Secure: true})
	resp, err := secure.http.Get(secure.url + "/")
	require.NoError(t, err)
	defer resp.Body.Close()
	assert.Equal(t, "max-age=31536000", resp.Header.Get("Strict-Transport-Security"))
	resp, err = c.http.Get(c.url + "/")
	require.NoError(t, err)
	defer resp.Body.Close()
	assert.Empty(t, resp.Header.Get("Strict-Transport-Security"))
}

// A stream stays open past the time limit of answers.
func TestAttackStreamIsCutByTheWriteLimit(t *testing.T) {
	c := open(t)
	c.signIn()
	server := api.Server(api.New(c.work, api.Options{Files: fstest.MapFS{}, Log: quiet}))
	server.WriteTimeout = 100 * time.Millisecond
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = server.Serve(listener) }()
	defer server.Close()
	here, err := url.Parse(c.url)
	require.NoError(t, err)
	there, err := url.Parse("http://" + listener.Addr().String())
	require.NoError(t, err)
	c.http.Jar.SetCookies(there, c.http.Jar.Cookies(here))
	resp, err := c.http.Get(there.String() + "/api/events")
	require.NoError(t, err)
	defer resp.Body.Close()
	require.Equal(t, 200, resp.StatusCode)
	lines := bufio.NewScanner(resp.Body)
	require.True(t, lines.Scan())
	opened := time.Now()
	for lines.Scan() {
		if strings.HasPrefix(lines.Text(), "data:") && time.Since(opened) > 2*server.WriteTimeout {
			return
		}
		require.NoError(t, c.work.Accounts.HoldWork(t.Context(), "a test", "x")) // makes an event
	}
	t.Fatal("the stream was cut")
}

func TestHealthAndMetrics(t *testing.T) {
	c := open(t)
	c.signIn()
	c.send("GET", "/api/sites", nil)
	_, body := c.exchange("GET", "/healthz", nil)
	assert.Equal(t, "ok\n", body)
	_, body = c.exchange("GET", "/readyz", nil)
	assert.Equal(t, "ok\n", body)
	require.NoError(t, c.work.Accounts.HoldWork(t.Context(), "a test", "For the test"))
	_, body = c.exchange("GET", "/readyz", nil)
	assert.Contains(t, body, "pushes and readings are held: For the test")
	_, err := c.db.Pool.Exec(t.Context(),
		"INSERT INTO river_job (kind, args, max_attempts, state, scheduled_at) VALUES ('of-the-test', '{}', 1, "+
			"'scheduled', now() + interval '1 hour')")
	require.NoError(t, err)
	counted := prometheus.NewRegistry()
	other := c.another(api.Options{Metrics: counted})
	other.signIn()
	other.send("GET", "/api/sites", nil)
	_, page := other.exchange("GET", "/metrics", nil)
	assert.NotContains(t, page, "lithos_", "counters are served on an address of their own")
	read := httptest.NewRecorder()
	promhttp.HandlerFor(counted, promhttp.HandlerOpts{}).ServeHTTP(read, httptest.NewRequest("GET", "/metrics", nil))
	body = read.Body.String()
	for _, name := range []string{
		`lithos_sign_ins_total{outcome="done"} 2`,
		`lithos_request_seconds_count{method="GET",route="/api/sites",status="200"}`,
		`lithos_database_connections{state="most"} 16`,
		`lithos_jobs{kind="of-the-test",state="scheduled"} 1`, "lithos_database_waits_total",
	} {
		assert.Contains(t, body, name)
	}
	assert.NotContains(t, body, demo.Password)
	c.db.Close()
	status, body := c.exchange("GET", "/readyz", nil)
	assert.Equal(t, 503, status)
	assert.Equal(t, "the database does not answer\n", body)
	status, doc, _ := c.send("GET", "/api/sites", nil)
	assert.Equal(t, 503, status)
	assert.NotContains(t, fmt.Sprint(doc), "SQLSTATE")
	_, body = c.exchange("GET", "/healthz", nil)
	assert.Equal(t, "ok\n", body)
}

func TestAccessLog(t *testing.T) {
	c := open(t)
	log := &lines{}
	logged := c.another(api.Options{Access: logTo(log)})
	resp, err := logged.http.Get(logged.url + "/api/find?q=secret-thing")
	require.NoError(t, err)
	defer resp.Body.Close()
	id := resp.Header.Get("X-Request-Id")
	assert.NotEmpty(t, id)
	require.Eventually(t, func() bool { return strings.Contains(log.String(), "id="+id) }, time.Minute,
		time.Millisecond)
	assert.Contains(t, log.String(), "method=GET path=/api/find status=401")
	assert.NotContains(t, log.String(), "secret-thing")
}

// What turns the direction of text around is refused at the door, however it is written, and left out of what devices
// say.
func TestAttack05DirectionMarks(t *testing.T) {
	for r := rune(0x2000); r < 0x2100; r++ {
		for _, text := range []string{fmt.Sprintf(`{"a":"x%cy"}`, r), fmt.Sprintf(`{"a":"\u%04x"}`, r)} {
			err := api.CheckJSON([]byte(text))
			assert.Equal(t, site.TurnsAround(r), err != nil, "%q", text)
		}
		assert.Equal(t, site.TurnsAround(r), !strings.ContainsRune(site.Printable(string(r), 10), r))
	}
	assert.True(t, site.TurnsAround(0x202e))
	assert.False(t, site.TurnsAround(0x202f))
}

// A body that is not said to be JSON is refused as such; one that is none needs no word.
func TestAttack05ABodyThatIsNotJSON(t *testing.T) {
	c := open(t)
	c.signIn()
	status, body := c.exchange("POST", "/api/orders", `{"site":"kelder-bridge","title":"x","ticket":""}`,
		"Content-Type", "text/plain")
	assert.Equal(t, 415, status)
	assert.Contains(t, body, "application/json")
	status, _ = c.exchange("POST", "/api/orders", "a=b", "Content-Type", "application/x-www-form-urlencoded")
	assert.Equal(t, 415, status)
	status, _ = c.exchange("POST", "/api/orders", `{"site":"kelder-bridge","title":"x","ticket":""}`,
		"Content-Type", "application/json; charset=utf-8")
	assert.Equal(t, 200, status)
	status, _ = c.exchange("DELETE", "/api/session", nil, "Content-Type", "")
	assert.Equal(t, 204, status)
}
