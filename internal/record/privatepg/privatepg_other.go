//go:build !linux

// Package privatepg runs a PostgreSQL server of Crelvo's own, on Linux.
package privatepg

import (
	"context"

	"crelvo/internal/core/fault"
)

// Server is a running PostgreSQL.
type Server struct{ URL, Log string }

// Start refuses: only on Linux is a private database kept.
func Start(context.Context, string) (*Server, error) {
	return nil, fault.New(fault.Internal, "no-private-database", "a private database is kept on Linux only").
		WithHint("Give the address of one with --database postgres://…")
}

// Done is closed when the server has ended.
func (*Server) Done() <-chan struct{} { return nil }

// Stop ends the server.
func (*Server) Stop() error { return nil }
