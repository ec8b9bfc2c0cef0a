// Package traces tells where the time of requests goes, by OpenTelemetry, once an endpoint
// was given; until then it costs nothing. Spans have no secrets: no query of an address, and
// no parameter of a statement.
package traces

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"strings"
	"sync/atomic"
	"time"

	"github.com/exaring/otelpgx"
	"github.com/jackc/pgx/v5"
	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/sdk/resource"
	"go.opentelemetry.io/otel/sdk/trace"
	semconv "go.opentelemetry.io/otel/semconv/v1.37.0"
	spans "go.opentelemetry.io/otel/trace"
)

var started atomic.Pointer[trace.TracerProvider]

// flushWithin is how long spans that were not sent yet may take when the program ends.
const flushWithin = 5 * time.Second

// Start sends spans to an endpoint that speaks OTLP over HTTP, such as
// http://127.0.0.1:4318. Environment variables of OpenTelemetry, such as
// OTEL_EXPORTER_OTLP_HEADERS and OTEL_TRACES_SAMPLER, count too. stop sends what is left.
func Start(ctx context.Context, log *slog.Logger, endpoint, version, node string) (stop func() error, err error) {
	at, err := url.Parse(endpoint)
	if err != nil || at.Scheme != "http" && at.Scheme != "https" || at.Host == "" {
		return nil, fmt.Errorf("%q is no address of a web server", endpoint)
	}
	if strings.Trim(at.Path, "/") == "" {
		at.Path = "/v1/traces" // the path that OTLP has by itself
	}
	exporter, err := otlptracehttp.New(ctx, otlptracehttp.WithEndpointURL(at.String()))
	if err != nil {
		return nil, err
	}
	is, err := resource.New(ctx, resource.WithAttributes(semconv.ServiceName("crelvo"), semconv.ServiceVersion(version),
		semconv.ServiceInstanceID(node)), resource.WithFromEnv())
	if err != nil {
		return nil, err
	}
	otel.SetErrorHandler(otel.ErrorHandlerFunc(func(err error) { log.Warn("traces could not be sent", "error", err) }))
	provider := trace.NewTracerProvider(trace.WithBatcher(exporter), trace.WithResource(is))
	started.Store(provider)
	return func() error {
		started.CompareAndSwap(provider, nil)
		ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), flushWithin)
		defer cancel()
		return provider.Shutdown(ending)
	}, nil
}

// Request begins the span of a request, below that which its client names (W3C Trace
// Context); end tells its route and what came of it. Both do nothing without Start.
func Request(r *http.Request) (with *http.Request, end func(route, id, who string, status int)) {
	provider := started.Load()
	if provider == nil {
		return r, func(string, string, string, int) {}
	}
	ctx := propagation.TraceContext{}.Extract(r.Context(), propagation.HeaderCarrier(r.Header))
	ctx, span := provider.Tracer("crelvo").Start(ctx, r.Method, spans.WithSpanKind(spans.SpanKindServer))
	return r.WithContext(ctx), func(route, id, who string, status int) {
		span.SetName(r.Method + " " + route)
		span.SetAttributes(semconv.HTTPRequestMethodKey.String(r.Method), semconv.HTTPRoute(route),
			semconv.HTTPResponseStatusCode(status), attribute.String("crelvo.request", id))
		if who != "" {
			span.SetAttributes(attribute.String("crelvo.who", who))
		}
		if status >= http.StatusInternalServerError {
			span.SetStatus(codes.Error, "")
		}
		span.End()
	}
}

// Transport makes spans of what goes out, until the answer begins.
func Transport(through http.RoundTripper) http.RoundTripper { return outgoing{through} }

type outgoing struct{ through http.RoundTripper }

// RoundTrip implements http.RoundTripper.
func (o outgoing) RoundTrip(r *http.Request) (*http.Response, error) {
	provider := started.Load()
	if provider == nil {
		return o.through.RoundTrip(r)
	}
	_, span := provider.Tracer("crelvo").Start(r.Context(), r.Method+" "+r.URL.Hostname(),
		spans.WithSpanKind(spans.SpanKindClient), spans.WithAttributes(semconv.HTTPRequestMethodKey.String(r.Method),
			semconv.ServerAddress(r.URL.Hostname())))
	defer span.End()
	response, err := o.through.RoundTrip(r)
	if err != nil {
		span.SetStatus(codes.Error, "no answer")
		return response, err
	}
	span.SetAttributes(semconv.HTTPResponseStatusCode(response.StatusCode))
	return response, nil
}

// Statements makes spans of statements; nil without Start.
func Statements() pgx.QueryTracer {
	provider := started.Load()
	if provider == nil {
		return nil
	}
	return otelpgx.NewTracer(otelpgx.WithTracerProvider(provider), otelpgx.WithDisableConnectionDetailsInAttributes())
}
