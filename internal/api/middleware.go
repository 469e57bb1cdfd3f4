package api

import (
	"io/fs"
	"log/slog"
	"mime"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"lithos/core/site"
)

// accessLog writes a line for each request once it is answered. It names the path
// and not the query, which may hold what somebody typed.
func accessLog(log *slog.Logger) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		if log == nil {
			return next
		}
		return func(c *echo.Context) error {
			began := time.Now()
			err := next(c)
			if err != nil {
				c.Echo().HTTPErrorHandler(c, err)
			}
			status, size := answered(c)
			log.Info("request", "id", c.Response().Header().Get(echo.HeaderXRequestID), "method", c.Request().Method,
				"path", c.Request().URL.Path,
				"status", status, "octets", size, "took", time.Since(began).Round(time.Microsecond), "from", c.RealIP())
			return nil
		}
	}
}

// answered is the status and the size of an answer that is done.
func answered(c *echo.Context) (status int, octets int64) {
	if r, err := echo.UnwrapResponse(c.Response()); err == nil {
		return r.Status, r.Size
	}
	return 0, 0
}

// secureHeaders are those that keep other pages out.
func secureHeaders(secure bool) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c *echo.Context) error {
			h := c.Response().Header()
			h.Set("Content-Security-Policy",
				"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "+
					"frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
			h.Set("X-Content-Type-Options", "nosniff")
			h.Set("Referrer-Policy", "same-origin")
			if secure {
				h.Set("Strict-Transport-Security", "max-age=31536000")
			}
			return next(c)
		}
	}
}

// noStore keeps answers of the API out of caches.
func noStore(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		c.Response().Header().Set("Cache-Control", "no-store")
		return next(c)
	}
}

// sameOrigin refuses changes that pages of other sites ask for, by Sec-Fetch-Site
// and Origin.
func sameOrigin(next echo.HandlerFunc) echo.HandlerFunc {
	protection := http.NewCrossOriginProtection()
	return func(c *echo.Context) error {
		if err := protection.Check(c.Request()); err != nil {
			return echo.NewHTTPError(http.StatusForbidden,
				"A page of another site asked for this, so it was not done. Do it from Lithos itself.")
		}
		return next(c)
	}
}

// onlyText refuses paths and queries that hold what no name has: control
// characters, and octets that are not UTF-8.
func onlyText(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		u := c.Request().URL
		query, err := url.ParseQuery(u.RawQuery)
		if err != nil || site.CheckText(u.Path) != nil {
			return badAddress()
		}
		for name, values := range query {
			for _, text := range append(values, name) {
				if site.CheckText(text) != nil {
					return badAddress()
				}
			}
		}
		return next(c)
	}
}

// onlyJSON refuses a body that does not say that it is JSON.
func onlyJSON(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		kind, _, err := mime.ParseMediaType(r.Header.Get(echo.HeaderContentType))
		if r.ContentLength != 0 && (err != nil || kind != echo.MIMEApplicationJSON) {
			return echo.NewHTTPError(http.StatusUnsupportedMediaType,
				"The body of the request is not JSON. Send it with the header Content-Type: application/json.")
		}
		return next(c)
	}
}

func badAddress() error {
	return echo.NewHTTPError(http.StatusBadRequest,
		"The address of the request holds a character that no name has. Type it again, or paste it whole.")
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
