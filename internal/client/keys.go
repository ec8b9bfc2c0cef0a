package client

import (
	"context"
	"net/http"
	"net/url"

	"crelvo/internal/api"
)

// Keys lists all keys.
func (c *Client) Keys(ctx context.Context) ([]api.Key, error) {
	return get[[]api.Key](ctx, c, keys, nil)
}

// AddKey adds a key.
func (c *Client) AddKey(ctx context.Context, k api.NewKey) error {
	return c.do(ctx, http.MethodPost, keys, k, nil)
}

// RemoveKey removes a key.
func (c *Client) RemoveKey(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, keys+"/"+url.PathEscape(name), nil, nil)
}
