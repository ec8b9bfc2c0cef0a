package client

import (
	"context"
	"net/http"

	"crelvo/internal/api"
)

const (
	verifications = "/api/v1/verifications"
	damages       = "/api/v1/damages"
)

// Verify begins to read all stored bytes, or joins whoever does.
func (c *Client) Verify(ctx context.Context, repair bool) (v api.Verification, err error) {
	err = c.do(ctx, http.MethodPost, verifications, api.NewVerification{Repair: repair}, &v)
	return v, err
}

// Verifications lists the last runs.
func (c *Client) Verifications(ctx context.Context) ([]api.Verification, error) {
	return get[[]api.Verification](ctx, c, verifications, nil)
}

// Damages lists what is damaged, and what was.
func (c *Client) Damages(ctx context.Context) ([]api.Damage, error) {
	return get[[]api.Damage](ctx, c, damages, nil)
}
