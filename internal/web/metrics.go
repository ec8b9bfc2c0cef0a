package web

import (
	"cmp"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
)

type metrics struct {
	registry *prometheus.Registry
	held     *prometheus.Registry
	known    sync.Map // labels -> *series
	requests *prometheus.CounterVec
	seconds  *prometheus.HistogramVec
	sent     *prometheus.CounterVec
	received *prometheus.CounterVec
	running  prometheus.Gauge
}

// newMetrics makes them; remembered is what all caches weigh, in bytes, and uploads how many
// are under way.
func newMetrics(remembered func() int64, uploads func() int) *metrics {
	m := &metrics{registry: prometheus.NewRegistry(), held: prometheus.NewRegistry(),
		requests: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "crelvo_requests_total",
			Help: "Requests answered, by the door they came in by, method, route and status."},
			[]string{"door", "method", "route", "status"}),
		seconds: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "crelvo_request_seconds",
			Help:    "Time to answer, by door, route and what came of it: done, refused (4xx) or failed (5xx).",
			Buckets: prometheus.ExponentialBuckets(0.001, 4, 9)}, []string{"door", "route", "outcome"}),
		sent: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "crelvo_sent_bytes_total",
			Help: "Bytes of answers, by door and route."}, []string{"door", "route"}),
		received: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "crelvo_received_bytes_total",
			Help: "Bytes of requests, by door and route."}, []string{"door", "route"}),
		running: prometheus.NewGauge(prometheus.GaugeOpts{Name: "crelvo_requests_running",
			Help: "Requests being answered."}),
	}
	m.registry.MustRegister(
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "crelvo_remembered_bytes",
			Help: "What is remembered of packages, documents and files."}, func() float64 { return float64(remembered()) }),
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "crelvo_uploads_open",
			Help: "Uploads whose bytes are being received."}, func() float64 { return float64(uploads()) }))
	m.registry.MustRegister(m.requests, m.seconds, m.sent, m.received, m.running, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// handler gives them, those of what is held too if it is wanted.
func (m *metrics) handler(held bool) http.Handler {
	all := prometheus.Gatherers{m.registry}
	if held {
		all = append(all, m.held)
	}
	return promhttp.HandlerFor(all, promhttp.HandlerOpts{
		ErrorHandling: promhttp.ContinueOnError}) // what cannot be told must not hide the rest
}

// observed is a request that was answered.
type observed struct {
	method, route  string
	status         int
	took           time.Duration
	sent, received int64
}

func (m *metrics) observe(o observed) {
	switch o.method {
	case http.MethodGet, http.MethodHead, http.MethodPut, http.MethodPost, http.MethodPatch, http.MethodDelete:
	default:
		o.method = "other" // a client could invent any number of them
	}
	if o.route == "" {
		o.route = "none"
	}
	key := labels{o.method, o.route, o.status}
	found, ok := m.known.Load(key)
	if !ok {
		door := doorOf(o.route)
		found, _ = m.known.LoadOrStore(key, &series{
			m.requests.WithLabelValues(door, o.method, o.route, strconv.Itoa(o.status)),
			m.seconds.WithLabelValues(door, o.route, outcomeOf(o.status)), m.sent.WithLabelValues(door, o.route),
			m.received.WithLabelValues(door, o.route)})
	}
	s := found.(*series)
	s.requests.Inc()
	s.seconds.Observe(o.took.Seconds())
	s.sent.Add(float64(o.sent))
	if o.received > 0 {
		s.received.Add(float64(o.received))
	}
}

// doorOf is which way into the service a route is: an ecosystem, api, console, or service for
// what is asked of the service itself.
func doorOf(route string) string {
	switch {
	case strings.HasPrefix(route, "/v2/"):
		return "oci"
	case strings.HasPrefix(route, "/at/:repository/"):
		door, _, _ := strings.Cut(strings.TrimPrefix(route, "/at/:repository/"), "/")
		return cmp.Or(door, "service")
	case strings.HasPrefix(route, "/api/"):
		return "api"
	case route == "/livez", route == "/readyz", route == "/metrics", route == passPath,
		strings.HasPrefix(route, "/at"), route == "none":
		return "service"
	}
	return "console"
}

func outcomeOf(status int) string {
	switch {
	case status >= 500:
		return "failed"
	case status >= 400:
		return "refused"
	}
	return "done"
}

type labels struct {
	method, route string
	status        int
}

// series are the figures of one kind of request, found once.
type series struct {
	requests prometheus.Counter
	seconds  prometheus.Observer
	sent     prometheus.Counter
	received prometheus.Counter
}

// counted is the body of a request, whose bytes are counted.
type counted struct {
	io.ReadCloser
	read int64
}

// Read implements io.Reader.
func (c *counted) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	c.read += int64(n)
	return n, err
}
