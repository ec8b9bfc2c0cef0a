package client

import (
	"context"
	"net/http"
	"net/url"

	"crelvo/internal/api"
)

// Symbols finds what debuggers may ask for: by a key, by a name, or of a version; the others may be "".
func (c *Client) Symbols(ctx context.Context, key, name, purl, repository string) ([]api.Symbol, error) {
	return get[[]api.Symbol](ctx, c, "/api/v1/symbols",
		url.Values{"key": {key}, "name": {name}, "purl": {purl}, "repository": {repository}})
}

// LookForSymbols has a version looked into for what debuggers want.
func (c *Client) LookForSymbols(ctx context.Context, w api.WantedLook) (out api.LookedFor, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/v1/symbols/looks", w, &out)
}
