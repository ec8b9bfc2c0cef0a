package record

import (
	"context"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/prometheus/client_golang/prometheus"
)

const (
	// acquireLimit is how long somebody waits for a connection, and statementLimit
	// how long for the answer to a statement: then the database is taken for away.
	acquireLimit, statementLimit = 3 * time.Second, 6 * time.Second
	// watchEvery is how often it is asked whether the database answers at all, for
	// the sake of statements that may take long.
	watchEvery = 2 * time.Second
)

type patientKey struct{}

// Patiently marks work whose statements may take as long as they need, as long as
// the database answers others: what goes on in the background, and what looks at
// everything.
func Patiently(ctx context.Context) context.Context {
	return context.WithValue(ctx, patientKey{}, true)
}

// watched is a context that also ends, as if its time were up, when the database
// answers nobody.
type watched struct {
	context.Context
	done chan struct{}
	once sync.Once
	mu   sync.Mutex
	err  error
}

func (w *watched) end(err error) {
	w.once.Do(func() {
		w.mu.Lock()
		w.err = err
		w.mu.Unlock()
		close(w.done)
	})
}

// Done implements context.Context.
func (w *watched) Done() <-chan struct{} { return w.done }

// Err implements context.Context.
func (w *watched) Err() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.err
}

// limits ends statements that take too long, and measures them all. It is a tracer, since
// tracers give the context that a statement runs with.
type limits struct {
	mu      sync.Mutex
	patient map[*watched]bool
	took    *prometheus.HistogramVec
}

func newLimits() *limits {
	return &limits{patient: map[*watched]bool{},
		took: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "crelvo_database_statement_seconds",
			Help:    "Time until statements were answered by the database, by what came of them.",
			Buckets: prometheus.ExponentialBuckets(0.0005, 4, 8)}, []string{"outcome"})}
}

// Statements measures all statements since the records were opened.
func (db *DB) Statements() prometheus.Collector { return db.limits.took }

type endKey struct{}

// asked is what is asked of the database.
type asked struct {
	cancel context.CancelFunc
	since  time.Time
}

func (l *limits) begin(ctx context.Context, limit time.Duration) context.Context {
	since := time.Now()
	if ctx.Value(patientKey{}) == nil {
		limited, cancel := context.WithTimeout(ctx, limit)
		return context.WithValue(limited, endKey{}, &asked{cancel, since})
	}
	w := &watched{Context: ctx, done: make(chan struct{})}
	stop := context.AfterFunc(ctx, func() { w.end(ctx.Err()) })
	l.mu.Lock()
	l.patient[w] = true
	l.mu.Unlock()
	return context.WithValue(w, endKey{}, &asked{func() {
		l.mu.Lock()
		delete(l.patient, w)
		l.mu.Unlock()
		stop()
		w.end(context.Canceled)
	}, since})
}

// end ends what begin began, and tells how long it took.
func end(ctx context.Context) (took time.Duration) {
	if s, ok := ctx.Value(endKey{}).(*asked); ok {
		s.cancel()
		took = time.Since(s.since)
	}
	return took
}

func (l *limits) answered(ctx context.Context, err error) {
	outcome := "done"
	if err != nil {
		outcome = "failed"
	}
	l.took.WithLabelValues(outcome).Observe(end(ctx).Seconds())
}

// TraceQueryStart implements pgx.QueryTracer.
func (l *limits) TraceQueryStart(ctx context.Context, _ *pgx.Conn, _ pgx.TraceQueryStartData) context.Context {
	return l.begin(ctx, statementLimit)
}

// TraceQueryEnd implements pgx.QueryTracer.
func (l *limits) TraceQueryEnd(ctx context.Context, _ *pgx.Conn, is pgx.TraceQueryEndData) {
	l.answered(ctx, is.Err)
}

// TraceBatchStart implements pgx.BatchTracer.
func (l *limits) TraceBatchStart(ctx context.Context, _ *pgx.Conn, _ pgx.TraceBatchStartData) context.Context {
	return l.begin(ctx, statementLimit)
}

// TraceBatchQuery implements pgx.BatchTracer.
func (l *limits) TraceBatchQuery(context.Context, *pgx.Conn, pgx.TraceBatchQueryData) {}

// TraceBatchEnd implements pgx.BatchTracer.
func (l *limits) TraceBatchEnd(ctx context.Context, _ *pgx.Conn, is pgx.TraceBatchEndData) {
	l.answered(ctx, is.Err)
}

// TraceAcquireStart implements pgxpool.AcquireTracer.
func (l *limits) TraceAcquireStart(
	ctx context.Context, _ *pgxpool.Pool, _ pgxpool.TraceAcquireStartData,
) context.Context {
	return l.begin(ctx, acquireLimit)
}

// TraceAcquireEnd implements pgxpool.AcquireTracer.
func (l *limits) TraceAcquireEnd(ctx context.Context, _ *pgxpool.Pool, _ pgxpool.TraceAcquireEndData) {
	end(ctx)
}

// hung ends all patient work.
func (l *limits) hung() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for w := range l.patient {
		w.end(context.DeadlineExceeded)
	}
}

// watch asks now and then whether the database answers, until ctx ends.
func (l *limits) watch(ctx context.Context, pool *pgxpool.Pool) {
	ticker := time.NewTicker(watchEvery)
	defer ticker.Stop()
	for failed := 0; ; {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		l.mu.Lock()
		any := len(l.patient) > 0
		l.mu.Unlock()
		if !any {
			continue
		}
		if err := pool.Ping(ctx); err == nil || ctx.Err() != nil {
			failed = 0
		} else if failed++; failed > 1 { // a pool that is exhausted for a moment is no hung database
			l.hung()
		}
	}
}
