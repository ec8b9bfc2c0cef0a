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

// CheckTarget tries a target, and looks at the files of a tree.
func (c *Client) CheckTarget(ctx context.Context, name string) (found api.CheckedTarget, err error) {
	err = c.do(ctx, http.MethodPost, targets+"/"+url.PathEscape(name)+"/check", nil, &found)
	return found, err
}
