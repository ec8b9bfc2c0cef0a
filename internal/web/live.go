package web

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"reflect"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v5"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/service"
)

// heartbeat keeps connections of live updates open through proxies.
const heartbeat = 25 * time.Second

// addLive adds the stream of changes, as server-sent events
// (https://html.spec.whatwg.org/multipage/server-sent-events.html).
func (w *Server) addLive() {
	const path = "/api/v1/live"
	w.api.OpenAPI().AddOperation(&huma.Operation{OperationID: "live", Method: http.MethodGet, Path: path,
		Summary: "Changes as they happen, as server-sent events",
		Responses: map[string]*huma.Response{"200": {Description: "events with a JSON object each: kind, repository, and for packages ecosystem, namespace, name, version",
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
				if change.Kind == "access" {
					// Who listens may be somebody else now, or nobody.
					now, err := w.identify(c)
					if err != nil || now.ID != caller.ID {
						return nil
					}
					caller = now
				}
				change, ok = w.service.Heard(caller, change)
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

// addUpload adds publishing by hand. The body is streamed, so it is no typed
// operation.
func (w *Server) addUpload() {
	const path = "/api/v1/repositories/{name}/publish"
	w.api.OpenAPI().AddOperation(&huma.Operation{OperationID: "publish", Method: http.MethodPost, Path: path,
		Summary: "Publish package files by hand: all become visible together",
		Parameters: []*huma.Param{
			{Name: "name", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}},
			{Name: "as", In: "query", Description: "what it is, as a package URL, if the files do not say so", Schema: &huma.Schema{Type: "string"}},
			{Name: "build", In: "query", Description: "the build that it belongs to, as NAME#NUMBER", Schema: &huma.Schema{Type: "string"}}},
		RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"multipart/form-data": {
			Schema: &huma.Schema{Type: "object", Properties: map[string]*huma.Schema{
				"file": {Type: "array", Items: &huma.Schema{Type: "string", Format: "binary"}}}}}}},
		Responses: map[string]*huma.Response{
			"200":     {Description: "Published", Content: map[string]*huma.MediaType{"application/json": {Schema: w.api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[api.Published](), true, "")}}},
			"default": {Description: "Error", Content: map[string]*huma.MediaType{"application/problem+json": {Schema: w.api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[api.Problem](), true, "")}}}}})
	w.guarded(http.MethodPost, routerPath(path), toPublish, func(c *echo.Context, caller access.Caller, repository catalog.Repository) error {
		r := c.Request()
		var as purl.PURL
		var err error
		if given := c.QueryParam("as"); given != "" {
			if as, err = purl.Parse(given); err != nil {
				return err
			}
		}
		if caller.Build, err = w.saidBuild(r, caller); err != nil {
			return err
		}
		if err := w.receive(c, repository, true); err != nil {
			return err
		}
		end, err := w.uploads.begin(caller)
		if err != nil {
			return err
		}
		defer end()
		parts, err := r.MultipartReader()
		if err != nil {
			return fault.New(fault.Invalid, "not-multipart", "the request is not multipart/form-data").WithCause(err)
		}
		published, err := w.service.PublishByHand(r.Context(), caller, repository, as, func() (service.Handed, error) {
			return nextFile(parts)
		})
		if err != nil {
			return err
		}
		shown := api.Published{PURL: published.PURL.String(), Repository: published.Repository, Same: published.Same, Name: published.Upload, Files: []api.PublishedFile{}}
		if shown.Name == "" {
			shown.Name = published.PURL.Version
		}
		for _, f := range published.Files {
			shown.Files = append(shown.Files, api.PublishedFile{Name: f.Name, Path: "/at/" + published.Repository + "/" + f.Path,
				Size: f.Digests.Size, SHA256: f.Digests.Hex("sha256")})
		}
		return c.JSON(http.StatusOK, shown)
	})
}

func nextFile(parts *multipart.Reader) (service.Handed, error) {
	for {
		part, err := parts.NextPart()
		if err != nil {
			return service.Handed{}, err // io.EOF in the end
		}
		if name := part.FileName(); name != "" {
			return service.Handed{Name: name, Body: io.Reader(part)}, nil
		}
	}
}
