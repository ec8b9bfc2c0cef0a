package record

import (
	"context"
	"errors"
	"io"
	"net"

	"github.com/jackc/pgx/v5/pgconn"
)

// connection is one to the database, which tells its end apart from the end of anything else
// that is read: that of a file, or of what a client sends, is not the database's.
type connection struct{ net.Conn }

// telling makes connections that do so.
func telling(dial pgconn.DialFunc) pgconn.DialFunc {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		c, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return connection{c}, nil
	}
}

// Read implements net.Conn.
func (c connection) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	if errors.Is(err, io.EOF) {
		err = lostConnection{}
	}
	return n, err
}

// lostConnection is a net.Error.
type lostConnection struct{}

func (lostConnection) Error() string { return "the database ended the connection" }

// Timeout implements net.Error.
func (lostConnection) Timeout() bool { return false }

// Temporary implements net.Error.
func (lostConnection) Temporary() bool { return true }
