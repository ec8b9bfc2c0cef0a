package web

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v5"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/record"
)

const (
	// heartbeat keeps connections of live updates open through proxies.
	heartbeat = 25 * time.Second
	// liveEvery is how long changes are gathered before they are sent together, and
	// mostLive how many bytes of them: each packet wakes whoever listens.
	liveEvery, mostLive = 100 * time.Millisecond, 32 << 10
)

// addLive adds the stream of changes, as server-sent events
// (https://html.spec.whatwg.org/multipage/server-sent-events.html).
func (w *Server) addLive() {
	const path = "/api/v1/live"
	w.api.OpenAPI().AddOperation(&huma.Operation{OperationID: "live", Method: http.MethodGet, Path: path,
		Summary: "Changes as they happen, as server-sent events",
		Responses: map[string]*huma.Response{
			"200": {Description: "events with a JSON object each: kind, repository, and for packages ecosystem, namespace, " +
				"name, version",
				Content: map[string]*huma.MediaType{"text/event-stream": {Schema: &huma.Schema{Type: "string"}}}}}})
	w.guarded(http.MethodGet, path, forAnyone, func(c *echo.Context, caller access.Caller, _ catalog.Repository) error {
		return w.live(c, caller)
	})
}

// live tells somebody of changes until either goes.
func (w *Server) live(c *echo.Context, caller access.Caller) error {
	ctx, cancel := context.WithCancel(c.Request().Context())
	defer cancel()
	defer context.AfterFunc(w.stopping, cancel)()
	changes := w.service.Watch(ctx)
	h := c.Response().Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Accel-Buffering", "no") // some proxies hold back what they think is small
	controller := http.NewResponseController(c.Response())
	ticker := time.NewTicker(heartbeat)
	defer ticker.Stop()
	var gathered bytes.Buffer
	var due <-chan time.Time
	send := func() error {
		due = nil
		if _, err := gathered.WriteTo(c.Response()); err != nil {
			return err
		}
		return controller.Flush()
	}
	fmt.Fprint(&gathered, "retry: 2000\n\n")
	if err := send(); err != nil {
		return nil // the client is gone
	}
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-ticker.C:
			fmt.Fprint(&gathered, ": still here\n\n")
			if err := send(); err != nil {
				return nil
			}
		case <-due:
			if err := send(); err != nil {
				return nil
			}
		case change, ok := <-changes:
			if !ok {
				return nil
			}
			if change.Kind == record.OfAccess {
				// Who listens may be somebody else now, or nobody; what was before is theirs.
				if err := send(); err != nil {
					return nil
				}
				now, err := w.identify(c)
				if err != nil || now.ID != caller.ID {
					return nil
				}
				caller = now
			}
			change, ok = w.service.Directory.Heard(caller, change)
			if !ok {
				continue
			}
			line, err := json.Marshal(change)
			if err != nil {
				return err
			}
			fmt.Fprintf(&gathered, "event: %s\ndata: %s\n\n", change.Kind, line)
			if due == nil {
				due = time.After(liveEvery)
			}
			if gathered.Len() > mostLive {
				if err := send(); err != nil {
					return nil
				}
			}
		}
	}
}
