package client

import (
	"context"
	"net/http"
	"net/url"

	"crelvo/internal/api"
)

const (
	stores     = "/api/v1/stores"
	storeMoves = "/api/v1/store-moves"
)

// Stores lists the stores.
func (c *Client) Stores(ctx context.Context) ([]api.Store, error) {
	return get[[]api.Store](ctx, c, stores, nil)
}

// Store shows one.
func (c *Client) Store(ctx context.Context, name string) (api.Store, error) {
	return get[api.Store](ctx, c, stores+"/"+url.PathEscape(name), nil)
}

// AddStore adds a store.
func (c *Client) AddStore(ctx context.Context, n api.NewStore) (s api.Store, err error) {
	err = c.do(ctx, http.MethodPost, stores, n, &s)
	return s, err
}

// EditStore changes a store.
func (c *Client) EditStore(ctx context.Context, name string, change api.StoreChange) (s api.Store, err error) {
	err = c.do(ctx, http.MethodPatch, stores+"/"+url.PathEscape(name), change, &s)
	return s, err
}

// RemoveStore forgets a store.
func (c *Client) RemoveStore(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, stores+"/"+url.PathEscape(name), nil, nil)
}

// CheckStore tries a store.
func (c *Client) CheckStore(ctx context.Context, name string) (check api.StoreCheck, err error) {
	err = c.do(ctx, http.MethodPost, stores+"/"+url.PathEscape(name)+"/checks", nil, &check)
	return check, err
}

// StoreMoves lists moves to other stores, or those that have not ended.
func (c *Client) StoreMoves(ctx context.Context, underWay bool) ([]api.StoreMove, error) {
	query := url.Values{}
	if underWay {
		query.Set("underWay", "true")
	}
	return get[[]api.StoreMove](ctx, c, storeMoves, query)
}

// MoveToStore gives repositories another store.
func (c *Client) MoveToStore(ctx context.Context, m api.NewStoreMove) error {
	return c.do(ctx, http.MethodPost, storeMoves, m, nil)
}
