package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"crelvo/internal/api"
)

// Repositories lists those that the client may read.
func (c *Client) Repositories(ctx context.Context) ([]api.Repository, error) {
	return get[[]api.Repository](ctx, c, repositories, nil)
}

// Repository shows one.
func (c *Client) Repository(ctx context.Context, name string) (api.Repository, error) {
	return get[api.Repository](ctx, c, repositories+"/"+url.PathEscape(name), nil)
}

// AddRepository makes one.
func (c *Client) AddRepository(ctx context.Context, n api.NewRepository) (out api.Repository, err error) {
	return out, c.do(ctx, http.MethodPost, repositories, n, &out)
}

// EditRepository changes the settings of one.
func (c *Client) EditRepository(
	ctx context.Context, name string, change api.RepositoryChange,
) (out api.Repository, err error) {
	return out, c.do(ctx, http.MethodPatch, repositories+"/"+url.PathEscape(name), change, &out)
}

// RemoveRepository takes one out of use.
func (c *Client) RemoveRepository(ctx context.Context, name string, withContents bool) error {
	return c.do(ctx, http.MethodDelete, repositories+"/"+url.PathEscape(name)+"?withContents="+
		strconv.FormatBool(withContents), nil, nil)
}

// RemovedRepositories lists those that can be brought back.
func (c *Client) RemovedRepositories(ctx context.Context) ([]api.RemovedRepository, error) {
	return get[[]api.RemovedRepository](ctx, c, "/api/v1/removals/repositories", nil)
}

// BringBackRepository puts one that was removed into use again.
func (c *Client) BringBackRepository(ctx context.Context, name string) (out api.Repository, err error) {
	return out, c.do(ctx, http.MethodPost, of(name, "undo"), nil, &out)
}

func of(name, what string) string { return repositories + "/" + url.PathEscape(name) + "/" + what }

// Claims lists the claims by pattern, and the lifts.
func (c *Client) Claims(ctx context.Context) ([]api.Claim, error) {
	return get[[]api.Claim](ctx, c, "/api/v1/claims", nil)
}

// ClaimedNames lists the names that are claimed in a chain since they were
// published.
func (c *Client) ClaimedNames(ctx context.Context, name, words string) (api.ClaimedNames, error) {
	return get[api.ClaimedNames](ctx, c, of(name, "claimed-names"), url.Values{"q": {words}})
}

// AddClaim claims names.
func (c *Client) AddClaim(ctx context.Context, n api.NewClaim) (out api.Claim, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/v1/claims", n, &out)
}

// LiftClaim ends a claim, or lets mirrors answer for names that were published
// here.
func (c *Client) LiftClaim(ctx context.Context, n api.NewClaim) (out api.Claim, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/v1/claims/lift", n, &out)
}
