package client

import (
	"context"
	"net/http"
	"net/url"

	"crelvo/internal/api"
)

const relays = "/api/v1/relays"

func relayPath(name string) string { return relays + "/" + url.PathEscape(name) }

// Relays lists relays, and how far they are.
func (c *Client) Relays(ctx context.Context) ([]api.Relay, error) {
	return get[[]api.Relay](ctx, c, relays, nil)
}

// AddRelay makes one.
func (c *Client) AddRelay(ctx context.Context, n api.NewRelay) (r api.Relay, err error) {
	err = c.do(ctx, http.MethodPost, relays, n, &r)
	return r, err
}

// Relay tells of one.
func (c *Client) Relay(ctx context.Context, name string) (api.Relay, error) {
	return get[api.Relay](ctx, c, relayPath(name), nil)
}

// EditRelay changes one.
func (c *Client) EditRelay(ctx context.Context, name string, change api.RelayChange) (r api.Relay, err error) {
	err = c.do(ctx, http.MethodPatch, relayPath(name), change, &r)
	return r, err
}

// RemoveRelay removes one.
func (c *Client) RemoveRelay(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, relayPath(name), nil, nil)
}

// CheckRelay tries the target of one.
func (c *Client) CheckRelay(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodPost, relayPath(name)+"/check", nil, nil)
}

// RunRelay has one look now for what it missed, and try again what failed.
func (c *Client) RunRelay(ctx context.Context, name string) (r api.Relay, err error) {
	err = c.do(ctx, http.MethodPost, relayPath(name)+"/run", nil, &r)
	return r, err
}

// Relayed lists what a relay sends, or sent, by state.
func (c *Client) Relayed(ctx context.Context, name, state string) ([]api.RelayedVersion, error) {
	return get[[]api.RelayedVersion](ctx, c, relayPath(name)+"/versions", url.Values{"state": {state}})
}
