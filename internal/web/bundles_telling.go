package web

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"reflect"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v5"

	"crelvo/internal/core/access"
	"crelvo/internal/core/bundle"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
)

// mostAsked is how many bytes the names of wanted files may have.
const mostAsked = 4 << 20

// addTelling adds what another Crelvo asks for that takes packages from here.
func (w *Server) addTelling() {
	registry := w.api.OpenAPI().Components.Schemas
	registry.RegisterTypeAlias(reflect.TypeFor[bundle.Sum](), reflect.TypeFor[string]())
	operate(w, "ask-held", toRead, http.MethodPost, "/api/v1/repositories/{name}/held",
		"What a repository keeps, by digests, in the form of bundles",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Body bundle.Question
		}) (*answer[bundle.Held], error) {
			r, err := w.service.Directory.Repository(v.caller, in.Name, access.Read)
			if err != nil {
				return nil, err
			}
			held, err := w.service.Bundles.Tell(ctx, v.caller, r, in.Body)
			if err != nil {
				return nil, err
			}
			return &answer[bundle.Held]{*held}, nil
		})
	const files = "/api/v1/repositories/{name}/held/files"
	w.api.OpenAPI().AddOperation(&huma.Operation{OperationID: "send-held", Method: http.MethodPost, Path: files,
		Summary: "Files that a repository keeps, as the members of a bundle after its first two",
		RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{
			"application/json": {Schema: registry.Schema(reflect.TypeFor[bundle.Wanted](), true, "")}}},
		Responses: map[string]*huma.Response{"200": {Description: "A tar archive", Content: map[string]*huma.MediaType{
			tarType: {Schema: &huma.Schema{Type: "string", Format: "binary"}}}}}})
	w.guarded(http.MethodPost, "/api/v1/repositories/:name/held/files", toRead, w.sendHeld)
}

func (w *Server) sendHeld(c *echo.Context, caller access.Caller, r catalog.Repository) error {
	var in bundle.Wanted
	if err := json.NewDecoder(http.MaxBytesReader(c.Response(), c.Request().Body, mostAsked)).Decode(&in); err != nil {
		return fault.New(fault.Invalid, "bad-input", "the request cannot be read: %v", err).
			WithHint("Send what the description of the API says.")
	}
	if err := admitBody(reflect.ValueOf(&in), "", false); err != nil {
		return err
	}
	ctx, kind, one := c.Request().Context(), tarType, len(in.SHA256) == 1
	var write func(io.Writer) error
	var err error
	switch {
	case in.From == nil:
		write, err = w.service.Bundles.Send(ctx, caller, r, in.Packages, in.SHA256)
	case one && *in.From >= 0:
		kind = "application/octet-stream"
		write, err = w.service.Bundles.SendFrom(ctx, caller, r, in.Packages, in.SHA256[0], *in.From)
	default:
		err = fault.New(fault.Invalid, "bad-input", "from is about one file, from a byte of it on")
	}
	if err != nil {
		return err
	}
	c.Response().Header().Set("Content-Type", kind)
	c.Response().Header().Set("Cache-Control", "no-store")
	if err := write(c.Response()); err != nil {
		w.service.Log.Warn("files for another server were not written to their end", "repository", r.Name, "error", err)
		panic(http.ErrAbortHandler) // so that nobody takes what there is of it for all
	}
	return nil
}
