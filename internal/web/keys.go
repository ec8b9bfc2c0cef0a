package web

import (
	"context"
	"net/http"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"crelvo/internal/api"
	"crelvo/internal/core/fault"
	"crelvo/internal/service/keys"
)

func (w *Server) addKeys() {
	const allKeys = "/api/v1/keys"
	operate(w, "list-keys", forSignedIn, http.MethodGet, allKeys,
		"Public keys: of others, and of those that Crelvo signs with",
		func(ctx context.Context, v visit, _ *none) (*answer[[]api.Key], error) {
			all, err := w.service.Keys.Keys(ctx)
			shown := make([]api.Key, len(all))
			for i, k := range all {
				shown[i] = api.Key{Name: k.Name, Form: k.Form, Signs: k.Signs, Fingerprint: k.Fingerprint, Public: k.Text,
					Address: v.address + "/keys/" + k.Name, By: k.ByName, At: k.At.UTC()}
			}
			return &answer[[]api.Key]{shown}, err
		})
	operate(w, "add-key", forAdmin, http.MethodPost, allKeys, "Add a public key of others, or a key to sign with",
		func(ctx context.Context, v visit, in *answer[api.NewKey]) (*none, error) {
			return nil, w.service.Keys.AddKey(ctx, v.caller,
				keys.NewKey{Name: in.Body.Name, Public: in.Body.Public, Secret: in.Body.Secret, Passphrase: in.Body.Passphrase,
					Owner: in.Body.Owner})
		})
	operate(w, "remove-key", forAdmin, http.MethodDelete, allKeys+"/{key}", "Remove a key",
		func(ctx context.Context, v visit, in *struct {
			Key string `path:"key" maxLength:"63"`
		}) (*none, error) {
			return nil, w.service.Keys.RemoveKey(ctx, v.caller, in.Key)
		})
	w.route(http.MethodGet, "/keys/:key", forAnyone, w.publicKey)
}

// outsideKey is the name under which the key of requests to outside checks is
// published; no other key can have it.
const outsideKey = "Crelvo-Checks"

// publicKey gives a public key to anybody: whoever verifies a signature needs it.
func (w *Server) publicKey(c *echo.Context) error {
	name := param(c, "key")
	if name == outsideKey {
		text, err := w.service.Promotion.CheckKey()
		if err != nil {
			return err
		}
		return c.String(http.StatusOK, text)
	}
	known, err := w.service.Keys.Keys(c.Request().Context())
	if err != nil {
		return err
	}
	i := slices.IndexFunc(known, func(k keys.View) bool { return k.Name == strings.TrimSuffix(name, ".asc") })
	if i < 0 {
		return fault.New(fault.NotFound, "no-such-key", "there is no key %q", name)
	}
	if types := map[string]string{"openpgp": "application/pgp-keys", "trusted-root": "application/json"}; types[known[i].
		Form] != "" {
		c.Response().Header().Set("Content-Type", types[known[i].Form])
		_, err := c.Response().Write([]byte(known[i].Text))
		return err
	}
	return c.String(http.StatusOK, known[i].Text)
}
