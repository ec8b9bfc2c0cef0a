package client

import (
	"context"
	"net/http"
	"net/url"

	"crelvo/internal/api"
)

// Targets lists all targets.
func (c *Client) Targets(ctx context.Context) ([]api.Target, error) {
	return get[[]api.Target](ctx, c, targets, nil)
}

// SetTarget makes a target, or writes it anew.
func (c *Client) SetTarget(ctx context.Context, d api.NewTarget) error {
	return c.do(ctx, http.MethodPost, targets, d, nil)
}

// RemoveTarget removes a target.
func (c *Client) RemoveTarget(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, targets+"/"+url.PathEscape(name), nil, nil)
}
