package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"sync"
	"time"

	"crelvo/internal/traces"
)

const (
	// lateBy is how late a line of the log may be written, and lateBytes how much may wait:
	// one write for many requests, since a write each costs as much as answering some.
	lateBy, lateBytes = 100 * time.Millisecond, 64 << 10
)

// late writes a little later what is written to it, and much at once.
type late struct {
	mu      sync.Mutex
	to      io.Writer
	waiting []byte
	armed   bool
}

// Write implements io.Writer.
func (l *late) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.waiting = append(l.waiting, p...)
	if len(l.waiting) >= lateBytes {
		return len(p), l.flush()
	}
	if !l.armed {
		l.armed = true
		time.AfterFunc(lateBy, func() { _ = l.Flush() }) // there is nobody to tell
	}
	return len(p), nil
}

// Flush writes what waits.
func (l *late) Flush() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.armed = false
	return l.flush()
}

func (l *late) flush() error {
	if len(l.waiting) == 0 {
		return nil
	}
	_, err := l.to.Write(l.waiting)
	l.waiting = l.waiting[:0]
	return err
}

// prompt has everything written at once that somebody must know.
type prompt struct {
	slog.Handler
	out *late
}

// Handle implements slog.Handler.
func (p prompt) Handle(ctx context.Context, line slog.Record) error {
	err := p.Handler.Handle(ctx, line)
	if line.Level >= slog.LevelWarn {
		err = errors.Join(err, p.out.Flush())
	}
	return err
}

// WithAttrs implements slog.Handler.
func (p prompt) WithAttrs(all []slog.Attr) slog.Handler {
	return prompt{p.Handler.WithAttrs(all), p.out}
}

// WithGroup implements slog.Handler.
func (p prompt) WithGroup(name string) slog.Handler { return prompt{p.Handler.WithGroup(name), p.out} }

func newLog(w io.Writer, s serveSettings) (*slog.Logger, *late, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(s.LogLevel)); err != nil {
		return nil, nil, usageError{fmt.Errorf("--log-level cannot be %q; choose debug, info, warn or error", s.LogLevel)}
	}
	options, out := &slog.HandlerOptions{Level: level}, &late{to: w}
	var handler slog.Handler
	switch s.LogFormat {
	case "json":
		handler = slog.NewJSONHandler(out, options)
	case "text":
		handler = slog.NewTextHandler(out, options)
	default:
		return nil, nil, usageError{fmt.Errorf("--log-format cannot be %q; choose text or json", s.LogFormat)}
	}
	return slog.New(prompt{handler, out}), out, nil
}

// startTraces begins to send traces, where the settings say where to.
func (h *house) startTraces(ctx context.Context) (err error) {
	if h.settings.TracesTo == "" {
		return nil
	}
	h.endTraces, err = traces.Start(ctx, h.log, h.settings.TracesTo, Version, cmp.Or(h.settings.NodeName,
		machineName()))
	if err != nil {
		return usageError{fmt.Errorf("--traces-to cannot be %q: %v; write it like http://127.0.0.1:4318",
			h.settings.TracesTo, err)}
	}
	return nil
}

// serveFigures answers /metrics on their own address until that is closed.
func (h *house) serveFigures() {
	server := &http.Server{Handler: h.web.Figures(), ReadHeaderTimeout: 5 * time.Second, IdleTimeout: time.Minute}
	if err := server.Serve(h.figures); err != nil && !errors.Is(err, net.ErrClosed) {
		h.log.Error("metrics are not answered on their own address any more", "error", err)
	}
}
