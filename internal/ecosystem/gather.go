package ecosystem

import (
	"context"
	"net"
	"syscall"
)

type connection struct{}

// WithConnection lets answers to the requests of a connection know it (http.Server's
// ConnContext).
func WithConnection(ctx context.Context, c net.Conn) context.Context {
	if raw, ok := c.(syscall.Conn); ok {
		return context.WithValue(ctx, connection{}, raw)
	}
	return ctx
}

// gathered does what writes an answer, so that its header leaves together with what
// follows: the client is then woken once and not twice. Where the system cannot do that,
// it leaves as it is written.
func gathered(ctx context.Context, write func()) {
	c, ok := ctx.Value(connection{}).(syscall.Conn)
	if ok && cork(c, 1) {
		defer cork(c, 0)
	}
	write()
}
