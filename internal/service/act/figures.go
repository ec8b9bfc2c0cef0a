package act

import (
	"context"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/sync/singleflight"

	"crelvo/internal/record"
)

const (
	// figuresKept is how many answers are remembered.
	figuresKept = 64
	// figureRest is how many times as long as it took an answer holds, and how long, in the
	// same measure, whoever makes answers anew rests after each.
	figureRest = 20
	// quickFigure is up to how long an answer may take that is asked for whenever somebody
	// wants to know; one that took longer is made anew behind those who want to know.
	quickFigure = 100 * time.Millisecond
	// figureWanted is how long an answer is made anew that nobody asks for.
	figureWanted = 12 * time.Hour
)

// Figures remembers the answers to questions that look at everything: sums and rankings.
// The longer an answer took, the longer it holds, so that all of them together take but
// little of the database's time, however many ask; on a small house they are as things
// are. The zero value is ready. It is safe for use by several at once.
type Figures struct {
	once   sync.Once
	known  *lru.Cache[string, *figure]
	asking singleflight.Group
}

// figure is a remembered answer.
type figure struct {
	mu         sync.Mutex
	value      any
	at         time.Time // when it was asked for
	took       time.Duration
	generation uint64    // of everything, before it was asked for
	wanted     time.Time // when somebody last wanted to know
	ask        func(context.Context) (any, error)
}

// holds tells whether the answer is still good enough: one that came quickly, as long as
// nothing changed and for a moment; another one, as long as it is made anew.
func (f *figure) holds(now time.Time, generation uint64) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.took <= quickFigure {
		return f.generation == generation && now.Sub(f.at) < figureRest*f.took
	}
	wanted := now.Sub(f.wanted) < figureWanted
	f.wanted = now
	return wanted
}

func (f *Figures) all() *lru.Cache[string, *figure] {
	f.once.Do(func() { f.known = NewCache[string, *figure](figuresKept) })
	return f.known
}

// Figure is the answer to a question that looks at everything, and how things were when it
// was made. All that the answer depends on, such as what the caller may see, must be in
// the key.
func Figure[T any](
	ctx context.Context, s *Act, key string, ask func(context.Context) (T, error),
) (value T, asOf time.Time, err error) {
	if known, ok := s.figures.all().Get(key); ok {
		if known.holds(time.Now(), s.AnyAge()) {
			return known.value.(T), known.at, nil
		}
	}
	begun := s.figures.asking.DoChan(key, func() (any, error) {
		// Others may wait for it too.
		return s.makeFigure(context.WithoutCancel(ctx), key, func(ctx context.Context) (any, error) { return ask(ctx) })
	})
	select {
	case <-ctx.Done():
		return value, asOf, ctx.Err()
	case made := <-begun:
		if made.Err != nil {
			return value, asOf, made.Err
		}
		f := made.Val.(*figure)
		return f.value.(T), f.at, nil
	}
}

// makeFigure asks, and remembers the answer.
func (s *Act) makeFigure(
	ctx context.Context, key string, ask func(context.Context) (any, error),
) (*figure, error) {
	made := &figure{at: time.Now(), generation: s.AnyAge(), wanted: time.Now(), ask: ask}
	var err error
	if made.value, err = ask(record.Patiently(ctx)); err != nil {
		return nil, err
	}
	made.took = time.Since(made.at)
	s.figures.all().Add(key, made)
	return made, nil
}

// wantedSince notes that nobody asked since the answer before.
func (f *figure) wantedSince(before *figure) {
	before.mu.Lock()
	defer before.mu.Unlock()
	f.mu.Lock()
	defer f.mu.Unlock()
	f.wanted = before.wanted
}

// next is the answer that is to be made anew next, the one that is over for longest; nil if
// there is none.
func (f *Figures) next(now time.Time) (key string, oldest *figure) {
	longest := time.Duration(0)
	for _, k := range f.all().Keys() {
		one, ok := f.all().Peek(k)
		if !ok {
			continue
		}
		one.mu.Lock()
		over := now.Sub(one.at) - figureRest*one.took
		if one.took > quickFigure && now.Sub(one.wanted) < figureWanted && over > longest {
			key, oldest, longest = k, one, over
		}
		one.mu.Unlock()
	}
	return key, oldest
}

// keepFigures makes answers anew that took long and that somebody wanted to know lately,
// one at a time, until ctx ends.
func (s *Act) keepFigures(ctx context.Context) {
	for rest := time.Second; ; {
		select {
		case <-ctx.Done():
			return
		case <-time.After(rest):
		}
		rest = time.Second
		key, before := s.figures.next(time.Now())
		if before == nil {
			continue
		}
		begun := time.Now()
		if made, err := s.makeFigure(ctx, key, before.ask); err == nil {
			made.wantedSince(before)
			if made.generation != before.generation { // whoever asked meanwhile has the one before
				s.watchers.tell(record.Change{Kind: record.OfFigure})
			}
		} else if ctx.Err() == nil {
			s.Log.Error("making figures anew failed", "error", err)
			rest = time.Minute
		}
		rest = max(rest, figureRest*time.Since(begun))
	}
}

// Stored is what the store has, and how things were when that was found out.
func Stored(ctx context.Context, s *Act) (record.Stored, time.Time, error) {
	return Figure(ctx, s, "stored", s.DB.Stored)
}
