// Package api is Lithos over HTTP: the operations of package work as a JSON
// API described by OpenAPI, sessions, live events, and the front end's files.
// Echo routes all of it; each concern is one middleware.
package api

import (
	"compress/gzip"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/alexedwards/scs/v2"
	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"

	"lithos/internal/view"
	"lithos/internal/work"
)

// Options are what a server needs beside the use cases.
type Options struct {
	Files fs.FS // the built front end
	Log   *slog.Logger
	// Access is where each request is logged, one line each; nowhere when nil.
	Access *slog.Logger
	// Secure says that browsers come over HTTPS: cookies are marked for it alone,
	// and browsers are told to stay with it. Off where Lithos itself serves plain
	// HTTP on loopback.
	Secure bool
	// Proxies are the reverse proxies whose word about a client's address is taken.
	// The address of a request from elsewhere is its peer's.
	Proxies []netip.Prefix
	// Metrics is where what is counted is registered; it is read by nobody when nil.
	Metrics prometheus.Registerer
}

type server struct {
	work     *work.Service
	sessions *scs.SessionManager
	log      *slog.Logger
	secure   bool
	shown    *view.Shown
}

// GCPercent is what a server sets the garbage collector to (debug.SetGCPercent).
// Its live heap is a few MiB while each request makes as much garbage, so that at
// Go's default an edit spends a third of its time being collected.
const GCPercent = 400

const (
	// maxRequest is the largest request body, in octets.
	maxRequest = 20 << 20
	// worthPacking is the smallest answer that is compressed, in octets: a smaller one goes out
	// with the first ten segments of a connection (RFC 6928) and arrives no sooner for it.
	worthPacking = 10 * 1460
	// answerWithin is how long a request may be worked on. Live events go on.
	answerWithin = 60 * time.Second
)

// Server is an HTTP server of a handler with the time limits of this API: for the
// header, for the whole request, for the answer, and for an idle connection. Live
// events lift theirs.
func Server(h http.Handler) *http.Server {
	return &http.Server{
		Handler: h, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second, WriteTimeout: 90 * time.Second,
		IdleTimeout:    2 * time.Minute,
		MaxHeaderBytes: 64 << 10,
	}
}

// The library has one such setting for the whole process: several servers that are started at once must not each write
// it. Lists are empty, never null.
func init() {
	huma.DefaultArrayNullable = false
	huma.NewError = problem
}

// New is the whole HTTP server.
func New(w *work.Service, o Options) http.Handler {
	s := &server{work: w, log: o.Log, secure: o.Secure, sessions: newSessions(w, o.Secure), shown: view.NewShown()}
	// Echo's own routes for what a group has not would hide which methods a path takes.
	e := echo.NewWithConfig(echo.Config{NoGroupAutoRegister404Routes: true})
	e.Logger = o.Log
	e.HTTPErrorHandler = s.failed
	e.IPExtractor = clientAddress(o.Proxies)
	m := newMetrics(w, o.Metrics)
	e.Use(
		middleware.RequestID(), accessLog(o.Access), m.count, middleware.Recover(), secureHeaders(o.Secure),
		middleware.BodyLimit(maxRequest),
		middleware.GzipWithConfig(middleware.GzipConfig{Level: gzip.BestSpeed, MinLength: worthPacking,
			Skipper: isStream}),
	)
	e.GET("/healthz", alive)
	e.GET("/readyz", s.ready)
	group := e.Group("/api", onlyText, onlyJSON, noStore, unchanged, sameOrigin,
		echo.WrapMiddleware(s.sessions.LoadAndSave))
	s.operations(newAPI(e, group.Group("", timed)))
	files := echo.WrapHandler(pages(o.Files))
	e.GET("/*", func(c *echo.Context) error {
		if strings.HasPrefix(c.Request().URL.Path, prefix+"/") {
			return echo.ErrNotFound
		}
		return files(c)
	})
	return e
}

// timed ends a request that takes too long. Live events go on.
func timed(next echo.HandlerFunc) echo.HandlerFunc {
	within := middleware.ContextTimeout(answerWithin)(next)
	return func(c *echo.Context) error {
		if isStream(c) {
			return next(c)
		}
		return within(c)
	}
}

// clientAddress takes the client's address from the header X-Forwarded-For where
// the peer is a listed proxy, and is the peer's otherwise.
func clientAddress(proxies []netip.Prefix) echo.IPExtractor {
	if len(proxies) == 0 {
		return echo.ExtractIPDirect()
	}
	trust := []echo.TrustOption{echo.TrustLoopback(false), echo.TrustLinkLocal(false), echo.TrustPrivateNet(false)}
	for _, p := range proxies {
		trust = append(trust, echo.TrustIPRange(&net.IPNet{IP: p.Masked().Addr().AsSlice(),
			Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}))
	}
	return echo.ExtractIPFromXFFHeader(trust...)
}

// Description is the API's OpenAPI document, without a server behind it.
func Description() ([]byte, error) {
	e := echo.New()
	api := newAPI(e, e.Group("/api"))
	(&server{}).operations(api)
	return api.OpenAPI().MarshalJSON()
}

func newAPI(e *echo.Echo, group *echo.Group) huma.API {
	config := huma.DefaultConfig("Lithos", "1")
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "/api/openapi", "", "/api/schemas"
	config.CreateHooks = nil // no $schema key in every answer
	config.Info.Description = "Addressing of many sites: see docs/api.md."
	config.Formats = map[string]huma.Format{"application/json": textJSON, "json": textJSON}
	return huma.NewAPI(config, &adapter{e, group})
}
