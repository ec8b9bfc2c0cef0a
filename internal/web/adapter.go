package web

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
	"github.com/klauspost/compress/gzip"
	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
)

// adapter lets huma's typed operations be routes of echo.
type adapter struct{ *echo.Echo }

func (a adapter) Handle(op *huma.Operation, handler func(huma.Context)) {
	a.Add(op.Method, routerPath(op.Path), func(c *echo.Context) error {
		handler(&operationContext{op: op, echo: c})
		return nil
	}, quickly)
}

// quickly compresses what operations answer: lists are long and say the same again and
// again, and who reads them may be far away.
var quickly = middleware.GzipWithConfig(middleware.GzipConfig{MinLength: 1400, Level: gzip.BestSpeed})

// routerPath is the path of an operation in the router's form.
func routerPath(path string) string { return strings.NewReplacer("{", ":", "}", "").Replace(path) }

// param is a part of the path without escapes, which the router leaves in.
func param(c *echo.Context, name string) string {
	value := c.Param(name)
	if plain, err := url.PathUnescape(value); err == nil && c.Request().URL.RawPath != "" {
		return plain
	}
	return value
}

// operationContext is a huma.Context over an echo.Context.
type operationContext struct {
	op     *huma.Operation
	echo   *echo.Context
	status int
}

var _ huma.Context = (*operationContext)(nil)

func (c *operationContext) Operation() *huma.Operation { return c.op }

func (c *operationContext) Context() context.Context { return c.echo.Request().Context() }

func (c *operationContext) TLS() *tls.ConnectionState { return c.echo.Request().TLS }

func (c *operationContext) Method() string { return c.echo.Request().Method }

func (c *operationContext) Host() string { return c.echo.Request().Host }

func (c *operationContext) RemoteAddr() string { return c.echo.Request().RemoteAddr }

func (c *operationContext) URL() url.URL { return *c.echo.Request().URL }

func (c *operationContext) Param(name string) string { return param(c.echo, name) }

func (c *operationContext) Query(name string) string { return c.echo.QueryParam(name) }

func (c *operationContext) Header(name string) string { return c.echo.Request().Header.Get(name) }

func (c *operationContext) BodyReader() io.Reader { return c.echo.Request().Body }

func (c *operationContext) BodyWriter() io.Writer { return c.echo.Response() }

func (c *operationContext) Status() int { return c.status }

func (c *operationContext) SetHeader(name, value string) { c.echo.Response().Header().Set(name, value) }

func (c *operationContext) AppendHeader(name, value string) {
	c.echo.Response().Header().Add(name, value)
}

func (c *operationContext) Version() huma.ProtoVersion {
	r := c.echo.Request()
	return huma.ProtoVersion{Proto: r.Proto, ProtoMajor: r.ProtoMajor, ProtoMinor: r.ProtoMinor}
}

func (c *operationContext) EachHeader(each func(name, value string)) {
	for name, values := range c.echo.Request().Header {
		for _, value := range values {
			each(name, value)
		}
	}
}

func (c *operationContext) GetMultipartForm() (*multipart.Form, error) {
	return c.echo.MultipartForm()
}

func (c *operationContext) SetReadDeadline(deadline time.Time) error {
	return http.NewResponseController(c.echo.Response()).SetReadDeadline(deadline)
}

func (c *operationContext) SetStatus(code int) {
	c.status = code
	c.echo.Response().WriteHeader(code)
}
