package store

import (
	"context"
	"errors"
	"io"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	bytestore "crelvo/internal/store"
)

// measures are of what is done to stores, by store.
type measures struct {
	took *prometheus.HistogramVec
	sent *prometheus.CounterVec
}

func newMeasures() *measures {
	return &measures{
		took: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "crelvo_store_operation_seconds",
			Help: "Time that operations on stores took, by what came of them; staging takes as long as bytes arrive, and " +
				"opening until they can be read.",
			Buckets: prometheus.ExponentialBuckets(0.0005, 4, 9)}, []string{"store", "operation", "outcome"}),
		sent: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "crelvo_store_staged_bytes_total",
			Help: "Bytes that were written to stores."}, []string{"store"}),
	}
}

// Measures are of what was done to stores since the service began.
func (s *Store) Measures() []prometheus.Collector {
	return []prometheus.Collector{s.measures.took, s.measures.sent}
}

// measured is a store of which it is measured what is done to it, and how long that takes.
type measured struct {
	bytestore.Store
	measures *measures
	name     string
}

// Away is why the store cannot be reached; nil of one that can, and of a folder.
func (m *measured) Away() error {
	if is, ok := m.Store.(interface{ Away() error }); ok {
		return is.Away()
	}
	return nil
}

// Link is an address at which a file can be read from the store itself; "" if there is none.
func (m *measured) Link(ctx context.Context, sha256 [32]byte, size int64) (string, error) {
	is, ok := m.Store.(interface {
		Link(ctx context.Context, sha256 [32]byte, size int64) (string, error)
	})
	if !ok || m.Away() != nil {
		return "", nil
	}
	since := time.Now()
	at, err := is.Link(ctx, sha256, size)
	m.note("link", since, err)
	return at, err
}

func (m *measured) note(operation string, since time.Time, err error) {
	outcome := "done"
	switch {
	case errors.Is(err, bytestore.ErrMissing):
		outcome = "missing"
	case errors.Is(err, bytestore.ErrCut), errors.Is(err, context.Canceled):
		outcome = "cut"
	case err != nil:
		outcome = "failed"
	}
	m.measures.took.WithLabelValues(m.name, operation, outcome).Observe(time.Since(since).Seconds())
}

func (m *measured) staged(since time.Time, staged *bytestore.Staged, err error) {
	m.note("stage", since, err)
	if err == nil {
		m.measures.sent.WithLabelValues(m.name).Add(float64(staged.Digests.Size))
	}
}

// Stage implements bytestore.Store.
func (m *measured) Stage(ctx context.Context, r io.Reader, length int64) (*bytestore.Staged, error) {
	since := time.Now()
	staged, err := m.Store.Stage(ctx, r, length)
	m.staged(since, staged, err)
	return staged, err
}

// StageOpenly implements bytestore.Store.
func (m *measured) StageOpenly(
	ctx context.Context, r io.Reader, length int64, w bytestore.Watcher,
) (*bytestore.Staged, error) {
	since := time.Now()
	staged, err := m.Store.StageOpenly(ctx, r, length, w)
	m.staged(since, staged, err)
	return staged, err
}

// StageBegun implements bytestore.Store.
func (m *measured) StageBegun(ctx context.Context, name string) (*bytestore.Staged, error) {
	since := time.Now()
	staged, err := m.Store.StageBegun(ctx, name)
	m.staged(since, staged, err)
	return staged, err
}

// Keep implements bytestore.Store.
func (m *measured) Keep(ctx context.Context, staged *bytestore.Staged) error {
	since := time.Now()
	err := m.Store.Keep(ctx, staged)
	m.note("keep", since, err)
	return err
}

// Open implements bytestore.Store.
func (m *measured) Open(ctx context.Context, sha256 [32]byte, size int64) (bytestore.Reader, error) {
	since := time.Now()
	r, err := m.Store.Open(ctx, sha256, size)
	m.note("open", since, err)
	return r, err
}

// Has implements bytestore.Store.
func (m *measured) Has(ctx context.Context, sha256 [32]byte) (bool, error) {
	since := time.Now()
	has, err := m.Store.Has(ctx, sha256)
	m.note("look", since, err)
	return has, err
}

// Verify implements bytestore.Store.
func (m *measured) Verify(
	ctx context.Context, sha256 [32]byte, size int64, through func(io.Reader) io.Reader,
) error {
	since := time.Now()
	err := m.Store.Verify(ctx, sha256, size, through)
	m.note("verify", since, err)
	return err
}

// Drop implements bytestore.Store.
func (m *measured) Drop(ctx context.Context, sha256 [32]byte) error {
	since := time.Now()
	err := m.Store.Drop(ctx, sha256)
	m.note("drop", since, err)
	return err
}

// Figure is how a store fares, as one node sees it.
type Figure struct {
	Store string
	ID    int16
	Away  bool
	Cache bytestore.CacheUse
}

// Figures tell how the stores fare.
func (s *Store) Figures() (all []Figure) {
	for _, o := range s.known.Load().all {
		f := Figure{Store: o.Name, ID: o.ID, Away: o.away != nil || o.bytes.Away() != nil}
		if is, ok := o.bytes.Store.(interface{ CacheUse() bytestore.CacheUse }); ok {
			f.Cache = is.CacheUse()
		}
		all = append(all, f)
	}
	return all
}
