package web

import (
	"net/http"
	"strconv"
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
	bytes    *prometheus.CounterVec
	running  prometheus.Gauge
}

// newMetrics makes them; remembered is what all caches weigh, in bytes.
func newMetrics(remembered func() int64) *metrics {
	m := &metrics{registry: prometheus.NewRegistry(), held: prometheus.NewRegistry(),
		requests: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "crelvo_requests_total",
			Help: "Requests answered, by method, route and status."}, []string{"method", "route", "status"}),
		seconds: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "crelvo_request_seconds",
			Help: "Time to answer, by route.", Buckets: prometheus.ExponentialBuckets(0.001, 4, 9)}, []string{"route"}),
		bytes: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "crelvo_sent_bytes_total",
			Help: "Bytes of answers, by route."}, []string{"route"}),
		running: prometheus.NewGauge(prometheus.GaugeOpts{Name: "crelvo_requests_running",
			Help: "Requests being answered."}),
	}
	m.registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "crelvo_remembered_bytes",
		Help: "What is remembered of packages, documents and files."}, func() float64 { return float64(remembered()) }))
	m.registry.MustRegister(m.requests, m.seconds, m.bytes, m.running, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// handler gives them, those of what is held too if it is wanted.
func (m *metrics) handler(held bool) http.Handler {
	all := prometheus.Gatherers{m.registry}
	if held {
		all = append(all, m.held)
	}
	return promhttp.HandlerFor(all, promhttp.HandlerOpts{})
}

func (m *metrics) observe(method, route string, status int, took time.Duration, size int64) {
	switch method {
	case http.MethodGet, http.MethodHead, http.MethodPut, http.MethodPost, http.MethodPatch, http.MethodDelete:
	default:
		method = "other" // a client could invent any number of them
	}
	if route == "" {
		route = "none"
	}
	key := labels{method, route, status}
	found, ok := m.known.Load(key)
	if !ok {
		found, _ = m.known.LoadOrStore(key, &series{
			m.requests.WithLabelValues(method, route, strconv.Itoa(status)), m.seconds.WithLabelValues(route),
			m.bytes.WithLabelValues(route)})
	}
	s := found.(*series)
	s.requests.Inc()
	s.seconds.Observe(took.Seconds())
	s.bytes.Add(float64(size))
}

type labels struct {
	method, route string
	status        int
}

// series are the figures of one kind of request, found once.
type series struct {
	requests prometheus.Counter
	seconds  prometheus.Observer
	bytes    prometheus.Counter
}
