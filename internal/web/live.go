package web

import (
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

// heartbeat keeps connections of live updates open through proxies.
const heartbeat = 25 * time.Second

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
		fmt.Fprint(c.Response(), "retry: 2000\n\n")
		for {
			if err := controller.Flush(); err != nil {
				return nil // the client is gone
			}
			select {
			case <-ctx.Done():
				return nil
			case <-ticker.C:
				fmt.Fprint(c.Response(), ": still here\n\n")
			case change, ok := <-changes:
				if !ok {
					return nil
				}
				if change.Kind == record.OfAccess {
					// Who listens may be somebody else now, or nobody.
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
				fmt.Fprintf(c.Response(), "event: %s\ndata: %s\n\n", change.Kind, line)
			}
		}
	})
}
