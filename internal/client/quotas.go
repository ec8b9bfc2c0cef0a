package client

import (
	"context"
	"net/http"
	"net/url"

	"crelvo/internal/api"
)

const quotas = "/api/v1/quotas"

// Quotas lists how much may be used, and how much is.
func (c *Client) Quotas(ctx context.Context) ([]api.Quota, error) {
	return get[[]api.Quota](ctx, c, quotas, nil)
}

// Quota shows one: of a repository, team:NAME or store:NAME.
func (c *Client) Quota(ctx context.Context, about string) (api.QuotaDetail, error) {
	return get[api.QuotaDetail](ctx, c, quotas+"/"+url.PathEscape(about), nil)
}

// SetQuota gives something a quota, or changes it.
func (c *Client) SetQuota(ctx context.Context, about string, change api.QuotaChange) (d api.QuotaDetail, err error) {
	err = c.do(ctx, http.MethodPut, quotas+"/"+url.PathEscape(about), change, &d)
	return d, err
}

// RemoveQuota takes a quota away.
func (c *Client) RemoveQuota(ctx context.Context, about string) error {
	return c.do(ctx, http.MethodDelete, quotas+"/"+url.PathEscape(about), nil, nil)
}
