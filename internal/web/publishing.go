package web

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"io"
	"mime/multipart"
	"net/http"
	"reflect"
	"strconv"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v5"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/service/publishing"
)

// addUpload adds publishing by hand. The body is streamed, so it is no typed
// operation.
func (w *Server) addUpload() {
	const path = "/api/v1/repositories/{name}/publish"
	w.api.OpenAPI().AddOperation(&huma.Operation{OperationID: "publish", Method: http.MethodPost, Path: path,
		Summary: "Publish package files by hand: all become visible together",
		Parameters: []*huma.Param{
			{Name: "name", In: "path", Required: true, Schema: &huma.Schema{Type: "string"}},
			{Name: "as", In: "query", Description: "what it is, as a package URL, if the files do not say so",
				Schema: &huma.Schema{Type: "string"}},
			{Name: "build", In: "query", Description: "the build that it belongs to, as NAME#NUMBER",
				Schema: &huma.Schema{Type: "string"}}},
		RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"multipart/form-data": {
			Schema: &huma.Schema{Type: "object", Properties: map[string]*huma.Schema{
				"file": {Type: "array", Items: &huma.Schema{Type: "string", Format: "binary"}},
				"here": {Type: "array",
					Description: "in place of a file whose bytes the service has (look tells it): its SHA-256, as the content of a " +
						"part with the file's name",
					Items: &huma.Schema{Type: "string"}},
				"arrived": {Type: "array",
					Description: "in place of a file that was sent in pieces (continue): what it was sent as, as JSON, in a " +
						"part with the file's name",
					Items: w.api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[api.ArrivedPart](), true, "")}}}}}},
		Responses: map[string]*huma.Response{
			"200": {Description: "Published",
				Content: map[string]*huma.MediaType{"application/json": {Schema: w.api.OpenAPI().
					Components.Schemas.Schema(reflect.TypeFor[api.Published](), true, "")}}},
			"default": {Description: "Error",
				Content: map[string]*huma.MediaType{"application/problem+json": {Schema: w.api.OpenAPI().
					Components.Schemas.Schema(reflect.TypeFor[api.Problem](), true, "")}}}}})
	w.guarded(http.MethodPost, routerPath(path), toPublish,
		func(c *echo.Context, caller access.Caller, repository catalog.Repository) error {
			r := c.Request()
			as, err := saidToBe(c.QueryParam("as"))
			if err != nil {
				return err
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
			published, err := w.service.Publishing.PublishByHand(r.Context(), caller, repository, as,
				func() (publishing.ByHand, error) {
					return nextFile(parts)
				})
			if err != nil {
				return err
			}
			shown := api.Published{PURL: published.PURL.String(), Repository: published.Repository, Same: published.Same,
				Name: published.Upload, Files: []api.PublishedFile{}}
			if shown.Name == "" {
				shown.Name = published.PURL.Version
			}
			for _, f := range published.Files {
				shown.Files = append(shown.Files, api.PublishedFile{Name: f.Name, Path: "/at/" + published.Repository + "/" +
					f.Path,
					Size: f.Digests.Size, SHA256: f.Digests.Hex("sha256")})
			}
			return c.JSON(http.StatusOK, shown)
		})
}

// addContinue adds sending a file in pieces. The body is streamed, so it is no typed
// operation.
func (w *Server) addContinue() {
	const path = "/api/v1/repositories/{name}/arriving/{arriving}"
	text := &huma.Schema{Type: "string"}
	w.api.OpenAPI().AddOperation(&huma.Operation{OperationID: "continue", Method: http.MethodPut, Path: path,
		Summary: "Send a file that is to be published, or the rest of it; what arrived stays for a day",
		Parameters: []*huma.Param{{Name: "name", In: "path", Required: true, Schema: text},
			{Name: "arriving", In: "path", Required: true,
				Description: "what its sender calls it: up to 64 small letters, digits and dashes", Schema: text},
			{Name: "at", In: "query", Description: "where what is sent begins",
				Schema: &huma.Schema{Type: "integer", Format: "int64"}}},
		RequestBody: &huma.RequestBody{Required: true,
			Content: map[string]*huma.MediaType{"application/octet-stream": {Schema: &huma.Schema{Type: "string",
				Format: "binary"}}}},
		Responses: map[string]*huma.Response{
			"200": {Description: "How much is there now",
				Content: map[string]*huma.MediaType{"application/json": {Schema: w.api.OpenAPI().
					Components.Schemas.Schema(reflect.TypeFor[api.Arrived](), true, "")}}},
			"default": {Description: "Error",
				Content: map[string]*huma.MediaType{"application/problem+json": {Schema: w.api.OpenAPI().
					Components.Schemas.Schema(reflect.TypeFor[api.Problem](), true, "")}}}}})
	w.guarded(http.MethodPut, routerPath(path), toPublish,
		func(c *echo.Context, caller access.Caller, repository catalog.Repository) error {
			var at int64
			if given := c.QueryParam("at"); given != "" {
				var err error
				if at, err = strconv.ParseInt(given, 10, 64); err != nil || at < 0 {
					return fault.New(fault.Invalid, "bad-input", "at is no offset: %q", given)
				}
			}
			if err := w.receive(c, repository, true); err != nil {
				return err
			}
			end, err := w.uploads.begin(caller)
			if err != nil {
				return err
			}
			defer end()
			size, err := w.service.Publishing.Continue(c.Request().Context(), caller, repository.Name,
				param(c, "arriving"), at, c.Request().Body)
			if err != nil {
				return err
			}
			return c.JSON(http.StatusOK, api.Arrived{Arrived: size})
		})
}

// nextFile gives the next file of a form, or what stands for it.
func nextFile(parts *multipart.Reader) (publishing.ByHand, error) {
	for {
		part, err := parts.NextPart()
		if err != nil {
			return publishing.ByHand{}, err // io.EOF in the end
		}
		name := part.FileName()
		if name == "" {
			continue
		}
		if part.FormName() != "here" && part.FormName() != "arrived" {
			return publishing.ByHand{Name: name, Body: io.Reader(part)}, nil
		}
		text, err := io.ReadAll(io.LimitReader(part, 1<<10))
		if err != nil {
			return publishing.ByHand{}, err
		}
		if part.FormName() == "here" {
			sum, err := sum256(string(text))
			return publishing.ByHand{Name: name, SHA256: sum}, err
		}
		var of api.ArrivedPart
		if err := json.Unmarshal(text, &of); err != nil {
			return publishing.ByHand{}, fault.New(fault.Invalid, "bad-input", "what stands for %s is no JSON with name, size "+
				"and crc32c", name).WithCause(err)
		}
		arriving := publishing.Arriving(of)
		return publishing.ByHand{Name: name, Arriving: &arriving}, nil
	}
}

// sum256 reads a SHA-256 in hexadecimal.
func sum256(text string) (*[sha256.Size]byte, error) {
	raw, err := hex.DecodeString(text)
	if err != nil || len(raw) != sha256.Size {
		return nil, fault.New(fault.Invalid, "bad-digest", "%.70q is no SHA-256", text).
			WithHint("It has 64 hexadecimal digits.")
	}
	return (*[sha256.Size]byte)(raw), nil
}

// addLook adds looking at files before they are sent.
func (w *Server) addLook() {
	operate(w, "look", toPublish, http.MethodPost, "/api/v1/repositories/{name}/look",
		"What files would become if they were published, told by parts of them; nothing is kept",
		func(ctx context.Context, v visit, in *struct {
			ByName
			Body api.Look
		}) (*answer[api.Looked], error) {
			as, err := saidToBe(in.Body.As)
			if err != nil {
				return nil, err
			}
			files := make([]publishing.Glimpsed, len(in.Body.Files))
			for i, f := range in.Body.Files {
				files[i] = publishing.Glimpsed{Name: f.Name, Size: f.Size, Arriving: f.Arriving}
				if files[i].As, err = saidToBe(f.As); err != nil {
					return nil, err
				}
				if f.SHA256 != "" {
					if files[i].SHA256, err = sum256(f.SHA256); err != nil {
						return nil, err
					}
				}
				for _, p := range f.Seen {
					files[i].Stretches = append(files[i].Stretches, ecosystem.Stretch{At: p.At, Bytes: p.Bytes})
				}
			}
			intended, wanted, err := w.service.Publishing.Look(ctx, v.caller, in.Name, as, in.Body.Together, files)
			if err != nil {
				return nil, err
			}
			looked := api.Looked{Publications: []api.Intended{}, Wanted: []api.Wanted{}}
			for _, i := range intended {
				looked.Publications = append(looked.Publications, showIntended(i))
			}
			for _, part := range wanted {
				looked.Wanted = append(looked.Wanted, api.Wanted(part))
			}
			return &answer[api.Looked]{looked}, nil
		})
}

func showIntended(i publishing.Intended) api.Intended {
	shown := api.Intended{Repository: i.Repository, Snapshot: i.Snapshot, There: i.There, Same: i.Same,
		Files: []api.IntendedFile{}}
	if i.PURL.Name != "" {
		shown.PURL = i.PURL.String()
	}
	for _, f := range i.Files {
		shown.Files = append(shown.Files, api.IntendedFile(f))
	}
	if i.Refusal != nil {
		f := asFault(i.Refusal)
		shown.Refusal = &api.Refused{Code: f.Code, Detail: f.Message, Hint: f.Hint}
	}
	return shown
}

// saidToBe reads what a file is said to be; "" says nothing.
func saidToBe(text string) (p purl.PURL, err error) {
	if text != "" {
		p, err = purl.Parse(text)
	}
	return p, err
}
