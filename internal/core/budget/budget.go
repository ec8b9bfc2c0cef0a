// Package budget bounds what reading foreign bytes may cost: whatever archives,
// documents and lists claim of themselves, the work that one request causes is
// counted in one place, and ends when whoever asked has left.
package budget

import (
	"context"
	"fmt"
	"io"
	"sync/atomic"
)

// Limits are what may be spent.
type Limits struct {
	// Bytes are those that come out of archives and documents, all together.
	Bytes int64
	// Held are bytes that are kept in memory while something is worked out.
	Held int64
	// Elements are parts of documents: elements, values, entries, versions.
	Elements int64
}

// Default is what one request may spend.
var Default = Limits{Bytes: 4 << 30, Held: 32 << 20, Elements: 2_000_000}

// Budget is what is left. Its methods may be called at the same time, and on a
// nil Budget, which is without limits.
type Budget struct {
	ctx                   context.Context
	limits                Limits
	bytes, held, elements atomic.Int64
}

// Spent is the error of whoever wants more than there is.
type Spent struct {
	What string // with %d for the limit
	Max  int64
}

func (s *Spent) Error() string { return fmt.Sprintf(s.What, s.Max) }

type key struct{}

// With lets a budget travel with a context. One that travels already stays:
// what is read for the sake of something else is paid for by that.
func With(ctx context.Context, limits Limits) context.Context {
	if _, ok := ctx.Value(key{}).(*Budget); ok {
		return ctx
	}
	return context.WithValue(ctx, key{}, New(ctx, limits))
}

// Afresh is With for what is paid for by itself, such as the next of many files
// that somebody may rightly ask for at once.
func Afresh(ctx context.Context, limits Limits) context.Context {
	return context.WithValue(ctx, key{}, New(ctx, limits))
}

// Of is the budget that travels with a context; a new one of the usual size
// where none does.
func Of(ctx context.Context) *Budget {
	if b, ok := ctx.Value(key{}).(*Budget); ok {
		return b
	}
	return New(ctx, Default)
}

// New is a budget of its own.
func New(ctx context.Context, limits Limits) *Budget { return &Budget{ctx: ctx, limits: limits} }

// Err is why nothing more may be spent: the context has ended.
func (b *Budget) Err() error {
	if b == nil {
		return nil
	}
	return b.ctx.Err()
}

func (b *Budget) take(from *atomic.Int64, n, max int64, what string) error {
	if b == nil {
		return nil
	}
	if from.Add(n) > max {
		return &Spent{what, max}
	}
	return b.ctx.Err()
}

// Bytes spends bytes that were read.
func (b *Budget) Bytes(n int64) error {
	if b == nil {
		return nil
	}
	return b.take(&b.bytes, n, b.limits.Bytes, "it unpacks to more than %d bytes")
}

// Elements spends parts of documents.
func (b *Budget) Elements(n int) error {
	if b == nil {
		return nil
	}
	return b.take(&b.elements, int64(n), b.limits.Elements, "it has more than %d parts")
}

// Hold spends bytes that are kept in memory; Release gives them back.
func (b *Budget) Hold(n int64) error {
	if b == nil {
		return nil
	}
	return b.take(&b.held, n, b.limits.Held, "more than %d bytes of it would have to be in memory at once")
}

// Release gives back what was held.
func (b *Budget) Release(n int64) {
	if b != nil {
		b.held.Add(-n)
	}
}

// Reader counts what is read from r, and fails when there is too much or the
// context has ended.
func (b *Budget) Reader(r io.Reader) io.Reader {
	if b == nil {
		return r
	}
	return &reader{r, b}
}

type reader struct {
	from io.Reader
	b    *Budget
}

// Read implements io.Reader.
func (r *reader) Read(p []byte) (int, error) {
	n, err := r.from.Read(p)
	if spent := r.b.Bytes(int64(n)); spent != nil {
		return 0, spent
	}
	return n, err
}
