// Package api is Lithos over HTTP: the operations of package work as a JSON
// API described by OpenAPI, sessions, live events, and the front end's files.
package api

import (
	"context"
	"encoding/gob"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/alexedwards/scs/pgxstore"
	"github.com/alexedwards/scs/v2"
	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humago"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"lithos/internal/work"
)

// Options are what a server needs beside the use cases.
type Options struct {
	Pool  *pgxpool.Pool // sessions live in its database
	Files fs.FS         // the built front end
	Log   *slog.Logger
	// Secure marks cookies for HTTPS only. Off where Lithos itself serves plain
	// HTTP on loopback.
	Secure bool
}

// signedIn is where a session keeps its technician, so that a request need not
// ask for the account again.
const signedIn = "signed-in"

type server struct {
	work     *work.Service
	sessions *scs.SessionManager
	log      *slog.Logger
}

// New is the whole HTTP server.
func New(w *work.Service, o Options) http.Handler {
	gob.Register(work.Technician{})
	sessions := scs.New()
	sessions.Store = pgxstore.NewWithCleanupInterval(o.Pool, 10*time.Minute)
	// A shift's length. There is no idle timeout: it would cost every request a
	// write of its own.
	sessions.Lifetime = 12 * time.Hour
	sessions.Cookie.Name, sessions.Cookie.SameSite, sessions.Cookie.Secure = "lithos", http.SameSiteStrictMode, o.Secure
	sessions.HashTokenInStore = true
	s := &server{w, sessions, o.Log}

	mux := http.NewServeMux()
	s.operations(newAPI(mux))
	mux.HandleFunc("GET /api/events", s.events)

	e := echo.New()
	e.Logger = o.Log
	e.Use(middleware.Recover(), middleware.BodyLimit(maxRequest), headers)
	// Requests from other sites' pages are refused by Sec-Fetch-Site and Origin.
	guarded := http.NewCrossOriginProtection().Handler(sessions.LoadAndSave(mux))
	e.Any("/api/*", echo.WrapHandler(guarded))
	e.GET("/*", echo.WrapHandler(pages(o.Files)))
	return e
}

// GCPercent is what a server sets the garbage collector to (debug.SetGCPercent).
// Its live heap is a few MiB while each request makes as much garbage, so that at
// Go's default an edit spends a third of its time being collected.
const GCPercent = 400

// maxRequest is the largest request body, in octets.
const maxRequest = 20 << 20

// Description is the API's OpenAPI document, without a server behind it.
func Description() ([]byte, error) {
	s := &server{}
	api := newAPI(http.NewServeMux())
	s.operations(api)
	return api.OpenAPI().MarshalJSON()
}

func newAPI(mux *http.ServeMux) huma.API {
	huma.DefaultArrayNullable = false // lists are empty, never null
	config := huma.DefaultConfig("Lithos", "1")
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "/api/openapi", "", "/api/schemas"
	config.CreateHooks = nil // no $schema key in every answer
	config.Info.Description = "Addressing of many sites: see docs/api.md."
	return humago.New(mux, config)
}

func headers(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		if strings.HasPrefix(c.Request().URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		return next(c)
	}
}

// pages serves the front end; a path that is no file is a place inside it.
func pages(files fs.FS) http.Handler {
	serve := http.FileServerFS(files)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(r.URL.Path, "/")
		info, err := fs.Stat(files, name)
		switch {
		case name == "" || err != nil || info.IsDir():
			w.Header().Set("Cache-Control", "no-cache")
			r = r.Clone(r.Context())
			r.URL.Path = "/"
		case strings.HasPrefix(name, "assets/"): // named by their contents
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		}
		serve.ServeHTTP(w, r)
	})
}

var statuses = map[work.Kind]int{
	work.Missing: http.StatusNotFound, work.Invalid: http.StatusUnprocessableEntity, work.Conflict: http.StatusConflict,
	work.Denied: http.StatusUnauthorized, work.Busy: http.StatusTooManyRequests,
}

// problem turns an error into a problem document (RFC 9457). What is not meant
// for people is logged, and told as a fault of the server.
func (s *server) problem(err error) error {
	if err == nil {
		return nil
	}
	var refusal *work.Refusal
	if errors.As(err, &refusal) {
		details := make([]error, len(refusal.Fields))
		for i, f := range refusal.Fields {
			details[i] = &huma.ErrorDetail{Location: "body." + f.Field, Message: f.Says}
		}
		return huma.NewError(statuses[refusal.Kind], refusal.Says, details...)
	}
	if errors.Is(err, context.Canceled) {
		return huma.NewError(499, "The request was given up.")
	}
	s.log.Error("request failed", "error", err)
	return huma.NewError(http.StatusInternalServerError, "Something went wrong in Lithos, and nothing was changed. Try again; if it happens again, the server's log says more.")
}

type contextKey struct{}

// who is the technician a request is made by.
func who(ctx context.Context) work.Technician {
	t, _ := ctx.Value(contextKey{}).(work.Technician)
	return t
}

// signedInOnly admits requests of a session that somebody signed in to.
func (s *server) signedInOnly(api huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		t, ok := s.sessions.Get(ctx.Context(), signedIn).(work.Technician)
		if !ok {
			_ = huma.WriteErr(api, ctx, http.StatusUnauthorized, "You are not signed in, or were away too long. Sign in; what you typed is still here.")
			return
		}
		next(huma.WithValue(ctx, contextKey{}, t))
	}
}

// events streams what changed (server-sent events), a comment now and then to
// keep the connection open.
func (s *server) events(w http.ResponseWriter, r *http.Request) {
	if !s.sessions.Exists(r.Context(), signedIn) {
		http.Error(w, "Sign in first.", http.StatusUnauthorized)
		return
	}
	events, cancel := s.work.Events.Subscribe()
	defer cancel()
	w.Header().Set("Content-Type", "text/event-stream")
	flush := http.NewResponseController(w)
	keep := time.NewTicker(20 * time.Second)
	defer keep.Stop()
	line := ": hello\n\n"
	for {
		if _, err := fmt.Fprint(w, line); err != nil || flush.Flush() != nil {
			return
		}
		select {
		case <-r.Context().Done():
			return
		case <-keep.C:
			line = ": still here\n\n"
		case e := <-events:
			raw, err := json.Marshal(e)
			if err != nil {
				return
			}
			line = fmt.Sprintf("data: %s\n\n", raw)
		}
	}
}

// source is where a request comes from, without the port.
func source(remote string) string {
	host, _, err := net.SplitHostPort(remote)
	if err != nil {
		return remote
	}
	return host
}
