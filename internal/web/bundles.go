package web

import (
	"context"
	"encoding/json"
	"io"
	"maps"
	"math"
	"net/http"
	"reflect"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/labstack/echo/v5"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/bundle"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/text"
	"crelvo/internal/service/bundles"
)

const (
	bundlesPath = "/api/v1/bundles"
	tarType     = "application/x-tar"
)

func (w *Server) addBundles() {
	operate(w, "list-bundles", forSignedIn, http.MethodGet, bundlesPath,
		"The bundles that you made or loaded last, the last one first; an admin sees everybody's",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Bundle], error) {
			all, err := w.service.Bundles.Bundles(ctx, v.caller)
			shown := make([]api.Bundle, len(all))
			for i, b := range all {
				shown[i] = api.Bundle{ID: b.Name, Loaded: b.Loaded, Since: b.Since, MadeAt: b.MadeAt.UTC(), MadeBy: b.MadeBy,
					Origin: b.Origin, Key: b.Key, Versions: b.Versions, Came: b.Came, Bytes: b.Bytes, At: b.At.UTC(), By: b.ByName}
			}
			return &answer[[]api.Bundle]{shown}, err
		})
	schema := func(of reflect.Type) *huma.Schema { return w.api.OpenAPI().Components.Schemas.Schema(of, true, "") }
	problem := &huma.Response{Description: "Error", Content: map[string]*huma.MediaType{
		"application/problem+json": {Schema: schema(reflect.TypeFor[api.Problem]())}}}
	tar := map[string]*huma.MediaType{tarType: {Schema: &huma.Schema{Type: "string", Format: "binary"}}}
	w.api.OpenAPI().AddOperation(&huma.Operation{OperationID: "make-bundle", Method: http.MethodPost, Path: bundlesPath,
		Summary: "Make a bundle, which is the answer",
		RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{
			"application/json": {Schema: schema(reflect.TypeFor[api.NewBundle]())}}},
		Responses: map[string]*huma.Response{"200": {Description: "The bundle", Content: tar}, "default": problem}})
	w.guarded(http.MethodPost, bundlesPath, forSignedIn, w.makeBundle)
	to := &huma.Param{Name: "to", In: "query", Description: "the repository that takes it, or FROM=TO for what was in one; " +
		"may be repeated; left out: those of the same names",
		Schema: &huma.Schema{Type: "array", Items: &huma.Schema{Type: "string"}}}
	plan := map[string]*huma.Response{"200": {Description: "What becomes of it", Content: map[string]*huma.MediaType{
		"application/json": {Schema: schema(reflect.TypeFor[api.BundlePlan]())}}}, "default": problem}
	body := &huma.RequestBody{Required: true, Content: tar}
	w.api.OpenAPI().AddOperation(&huma.Operation{OperationID: "plan-bundle", Method: http.MethodPost,
		Path:       bundlesPath + "/plans",
		Summary:    "What would become of a bundle; of the bundle, its first two members do",
		Parameters: []*huma.Param{to}, RequestBody: body, Responses: plan})
	w.guarded(http.MethodPost, bundlesPath+"/plans", forSignedIn,
		func(c *echo.Context, caller access.Caller, _ catalog.Repository) error {
			end, err := w.uploads.begin(caller) // what a bundle says of itself may be long
			if err != nil {
				return err
			}
			defer end()
			l, err := w.openBundle(c, caller)
			if err != nil {
				return err
			}
			return c.JSON(http.StatusOK, showLoading(l))
		})
	w.api.OpenAPI().AddOperation(&huma.Operation{OperationID: "load-bundle", Method: http.MethodPost,
		Path:    bundlesPath + "/loads",
		Summary: "Load a bundle, all of it or nothing; files that the plan does not call lacking may be left out",
		Parameters: []*huma.Param{to, {Name: "decisions", In: "query",
			Description: "true: take over the decisions that are in it, too", Schema: &huma.Schema{Type: "boolean"}}},
		RequestBody: body, Responses: plan})
	w.guarded(http.MethodPost, bundlesPath+"/loads", forSignedIn,
		func(c *echo.Context, caller access.Caller, _ catalog.Repository) error {
			end, err := w.uploads.begin(caller)
			if err != nil {
				return err
			}
			defer end()
			l, err := w.openBundle(c, caller)
			if err != nil {
				return err
			}
			if err := l.Load(c.Request().Context(), c.QueryParam("decisions") == "true"); err != nil {
				return err
			}
			return c.JSON(http.StatusOK, showLoading(l))
		})
}

func (w *Server) makeBundle(c *echo.Context, caller access.Caller, _ catalog.Repository) error {
	var in api.NewBundle
	if err := json.NewDecoder(http.MaxBytesReader(c.Response(), c.Request().Body, 4<<20)).Decode(&in); err != nil {
		return fault.New(fault.Invalid, "bad-input", "the request cannot be read: %v", err).
			WithHint("Send what the description of the API says.")
	}
	if err := admitBody(reflect.ValueOf(&in), "", false); err != nil {
		return err
	}
	wish := bundles.Wish{From: in.From, Only: in.Only, WithNeeds: in.WithNeeds, Key: in.SignWith}
	if in.Since != nil {
		wish.Since = &bundle.Basis{ID: in.Since.ID, MadeAt: in.Since.MadeAt}
	}
	ctx := c.Request().Context()
	made, err := w.service.Bundles.Make(ctx, caller, wish)
	if err != nil {
		return err
	}
	h := c.Response().Header()
	h.Set("Content-Type", tarType)
	h.Set("Cache-Control", "no-store")
	h.Set("Content-Disposition", `attachment; filename="`+made.ID[:12]+`.tar"`)
	if err := made.Write(ctx, c.Response()); err != nil {
		w.service.Log.Warn("a bundle was not written to its end", "bundle", made.ID, "error", err)
		panic(http.ErrAbortHandler) // so that nobody takes what there is of it for all
	}
	return nil
}

// openBundle reads what a bundle that is sent says of itself.
func (w *Server) openBundle(c *echo.Context, caller access.Caller) (*bundles.Loading, error) {
	r := c.Request()
	into := bundles.Into{ByName: map[string]string{}}
	for _, to := range r.URL.Query()["to"] {
		if err := text.Check("where it goes to", to, false, 2*text.MaxName); err != nil {
			return nil, err
		}
		if from, name, ok := strings.Cut(to, "="); ok {
			into.ByName[from] = name
		} else if into.All != "" {
			return nil, fault.New(fault.Invalid, "bad-input", "it cannot all go to %s and to %s", into.All, to).
				WithHint("Say what was in which repository: to=FROM=TO.")
		} else {
			into.All = to
		}
	}
	// How much it is, quotas bound, and how much of it is kept in memory, the form of bundles does.
	r.Body = &patient{ReadCloser: r.Body, controller: http.NewResponseController(c.Response()), left: math.MaxInt64}
	return w.service.Bundles.Open(r.Context(), caller, io.Reader(r.Body), into)
}

func showLoading(l *bundles.Loading) api.BundlePlan {
	shown := api.BundlePlan{ID: l.ID, MadeAt: l.MadeAt.UTC(), MadeBy: l.MadeBy, Keys: l.Keys,
		From: append([]string{}, l.From...), New: l.New, There: l.There, Refused: []api.RefusedItem{}, Lacking: []string{},
		Decided: len(l.Vettings) + len(l.Waivers)}
	if l.Since != nil {
		shown.Since = l.Since.ID
	}
	for _, r := range l.Refused {
		shown.Refused = append(shown.Refused, api.RefusedItem{PURL: r.PURL.Typed(),
			Why: text.Clean(r.Why, false, longestWhy)})
	}
	for _, sum := range slices.SortedFunc(maps.Keys(l.Lacking), func(a, b bundle.Sum) int {
		return strings.Compare(a.String(), b.String())
	}) {
		shown.Lacking, shown.Travels = append(shown.Lacking, sum.String()), shown.Travels+l.Lacking[sum]
	}
	return shown
}
