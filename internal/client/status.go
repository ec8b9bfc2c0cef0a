package client

import (
	"context"

	"crelvo/internal/api"
)

// Status tells how the server is.
func (c *Client) Status(ctx context.Context) (api.Status, error) {
	return get[api.Status](ctx, c, "/api/v1/status", nil)
}
