package upstream

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"
)

// body is what an upstream sends, watched.
type body struct {
	source    *Source
	breaker   *breaker
	pass      pass
	upstream  string
	cancel    context.CancelCauseFunc
	from      io.ReadCloser
	want      int64 // bytes; -1 if it is not known
	got       int64
	left      int64
	silence   *time.Timer   // runs while a read waits
	waited    time.Duration // for bytes, since ratedFrom had arrived
	ratedFrom int64
	ctx       context.Context
	failure   error // what ended it: whoever reads on is told again
	good      bool  // ended as it should
	settled   bool  // the breaker knows
	once      sync.Once
}

// guard lets the body be read under watch.
func (b *body) guard(ctx context.Context) {
	b.ctx = ctx
	b.silence = time.AfterFunc(b.source.settings.Silence, func() { b.cancel(errSilent) })
	b.silence.Stop()
}

// Read implements io.Reader.
func (b *body) Read(p []byte) (int, error) {
	if b.failure != nil {
		return 0, b.failure
	}
	n, err := b.read(p)
	if err != nil && err != io.EOF {
		b.failure = err
	}
	return n, err
}

// tooSlow counts a wait that brought bytes.
func (b *body) tooSlow(waited time.Duration) bool {
	b.waited += waited
	if b.waited < max(ratedAfter, b.source.settings.Silence) {
		return false
	}
	slow := float64(b.got-b.ratedFrom) < leastRate*b.waited.Seconds()
	b.waited, b.ratedFrom = 0, b.got
	return slow
}

func (b *body) read(p []byte) (int, error) {
	begun := time.Now()
	b.silence.Reset(b.source.settings.Silence)
	n, err := b.from.Read(p)
	b.silence.Stop()
	b.got += int64(n)
	b.left -= int64(n)
	b.source.observer.Fetched(int64(n))
	switch {
	case err == nil && b.tooSlow(time.Since(begun)):
		return n, b.fail("sends less than %d bytes per second", leastRate)
	case b.left < 0:
		return 0, b.fail("sent more than the %d bytes that this mirror takes", b.source.settings.Largest)
	case err == io.EOF:
		// Whoever reads this may have to ask for more before it closes it.
		b.good = true
		b.release()
	case err == nil:
	case errors.Is(context.Cause(b.ctx), errSilent):
		return n, b.fail("sent nothing for %s", b.source.settings.Silence)
	case b.ctx.Err() != nil:
		return n, context.Cause(b.ctx)
	case b.want >= 0:
		return n, b.fail("sent %d of %d bytes and then broke off", b.got, b.want)
	default:
		return n, b.fail("broke off after %d bytes", b.got)
	}
	return n, err
}

// fail notes a failure in the middle of the bytes.
func (b *body) fail(format string, args ...any) error {
	f := &Failure{Upstream: b.upstream, What: fmt.Sprintf(format, args...)}
	if !b.settled {
		b.settled = true
		now := b.source.now()
		b.breaker.failed(b.pass, now, f.What, false, 0)
		since, retry := b.breaker.state()
		f.RetryAt = retry
		b.source.observer.Failed(f, now, since)
	}
	return f
}

// refuse ends an answer that is of no use.
func (b *body) refuse(format string, args ...any) error {
	err := b.fail(format, args...)
	b.release()
	return err
}

// release gives back what the request holds.
func (b *body) release() {
	b.once.Do(func() {
		if b.silence != nil {
			b.silence.Stop()
		}
		b.cancel(context.Canceled)
		if b.from != nil {
			_ = b.from.Close() // nothing more is wanted of it
		}
		<-b.source.places
	})
}

// Close implements io.Closer.
func (b *body) Close() error {
	b.release()
	if b.settled {
		return nil
	}
	b.settled = true
	if b.good || b.want == 0 || b.ctx == nil {
		b.breaker.succeeded(b.pass)
	} else {
		b.breaker.leave(b.pass)
	}
	return nil
}
