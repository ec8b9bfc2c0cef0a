package act

import (
	"context"
	"io"

	"golang.org/x/time/rate"
)

// Slowed reads no faster than a limit lets it, in bytes; at most its burst at once. nil is no limit.
func Slowed(ctx context.Context, r io.Reader, limit *rate.Limiter) io.Reader {
	if limit == nil {
		return r
	}
	return &slowed{ctx, r, limit}
}

type slowed struct {
	ctx   context.Context
	from  io.Reader
	limit *rate.Limiter
}

// Read implements io.Reader.
func (r *slowed) Read(p []byte) (int, error) {
	n, err := r.from.Read(p[:min(len(p), r.limit.Burst())])
	if n > 0 {
		if waited := r.limit.WaitN(r.ctx, n); waited != nil {
			return n, waited
		}
	}
	return n, err
}
