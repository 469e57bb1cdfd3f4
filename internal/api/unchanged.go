package api

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"net/http"

	"github.com/labstack/echo/v5"
)

// unchanged tells a browser that has an answer already that it would be the same (304,
// RFC 9110 section 13.1.2), in place of sending it again.
func unchanged(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if c.Request().Method != http.MethodGet || isStream(c) {
			return next(c)
		}
		out := c.Response()
		held := &heldBack{ResponseWriter: out, status: http.StatusOK}
		c.SetResponse(held)
		err := next(c)
		c.SetResponse(out)
		if err != nil {
			return err
		}
		if held.status == http.StatusOK {
			sum := sha256.Sum256(held.body.Bytes())
			tag := `"` + hex.EncodeToString(sum[:12]) + `"`
			out.Header().Set("ETag", tag)
			if c.Request().Header.Get("If-None-Match") == tag {
				out.WriteHeader(http.StatusNotModified)
				return nil
			}
		}
		out.WriteHeader(held.status)
		_, err = out.Write(held.body.Bytes())
		return err
	}
}

// heldBack keeps an answer until it is whole.
type heldBack struct {
	http.ResponseWriter
	status int
	body   bytes.Buffer
}

// WriteHeader implements http.ResponseWriter.
func (h *heldBack) WriteHeader(status int) { h.status = status }

// Write implements http.ResponseWriter.
func (h *heldBack) Write(p []byte) (int, error) { return h.body.Write(p) }

// Unwrap is for http.ResponseController.
func (h *heldBack) Unwrap() http.ResponseWriter { return h.ResponseWriter }
