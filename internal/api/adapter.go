package api

import (
	"context"
	"crypto/tls"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v5"
)

// prefix is that of the group the API is on; huma's paths are whole.
const prefix = "/api"

// adapter lets Echo route huma's operations, as huma's own adapter does for Echo v4.
type adapter struct {
	http.Handler
	group *echo.Group
}

// Handle implements huma.Adapter: it registers an operation.
func (a *adapter) Handle(op *huma.Operation, handler func(huma.Context)) {
	path := strings.TrimPrefix(op.Path, prefix)
	path = strings.NewReplacer("{", ":", "}", "").Replace(path)
	a.group.Add(op.Method, path, func(c *echo.Context) error {
		handler(&echoContext{op: op, c: c})
		return nil
	})
}

// echoContext is a request of Echo's as huma sees it.
type echoContext struct {
	op     *huma.Operation
	c      *echo.Context
	status int
}

func (e *echoContext) Operation() *huma.Operation { return e.op }
func (e *echoContext) Context() context.Context   { return e.c.Request().Context() }
func (e *echoContext) TLS() *tls.ConnectionState  { return e.c.Request().TLS }
func (e *echoContext) Method() string             { return e.c.Request().Method }
func (e *echoContext) Host() string               { return e.c.Request().Host }
func (e *echoContext) URL() url.URL               { return *e.c.Request().URL }
func (e *echoContext) Param(name string) string   { return e.c.Param(name) }
func (e *echoContext) Query(name string) string   { return e.c.QueryParam(name) }
func (e *echoContext) Header(name string) string  { return e.c.Request().Header.Get(name) }
func (e *echoContext) BodyReader() io.Reader      { return e.c.Request().Body }
func (e *echoContext) BodyWriter() io.Writer      { return e.c.Response() }
func (e *echoContext) Status() int                { return e.status }

// RemoteAddr is the client's address, without a port: that of the peer, or what a
// listed proxy says.
func (e *echoContext) RemoteAddr() string { return e.c.RealIP() }

func (e *echoContext) Version() huma.ProtoVersion {
	r := e.c.Request()
	return huma.ProtoVersion{Proto: r.Proto, ProtoMajor: r.ProtoMajor, ProtoMinor: r.ProtoMinor}
}

func (e *echoContext) EachHeader(each func(name, value string)) {
	for name, values := range e.c.Request().Header {
		for _, value := range values {
			each(name, value)
		}
	}
}

func (e *echoContext) GetMultipartForm() (*multipart.Form, error) {
	err := e.c.Request().ParseMultipartForm(8 << 10)
	return e.c.Request().MultipartForm, err
}

func (e *echoContext) SetReadDeadline(deadline time.Time) error {
	return http.NewResponseController(e.c.Response()).SetReadDeadline(deadline)
}

func (e *echoContext) SetStatus(code int) {
	e.status = code
	e.c.Response().WriteHeader(code)
}

func (e *echoContext) AppendHeader(name, value string) { e.c.Response().Header().Add(name, value) }
func (e *echoContext) SetHeader(name, value string)    { e.c.Response().Header().Set(name, value) }
