package client

import (
	"context"
	"net/url"
	"strconv"

	"crelvo/internal/api"
)

// Use tells how often something was downloaded; the query has the operation's
// names.
func (c *Client) Use(ctx context.Context, query url.Values) ([]api.UsePart, error) {
	return get[[]api.UsePart](ctx, c, "/api/v1/use", query)
}

// UsedPackages lists packages by their use.
func (c *Client) UsedPackages(ctx context.Context, query url.Values) ([]api.UsedPackage, error) {
	return get[[]api.UsedPackage](ctx, c, "/api/v1/packages/used", query)
}

// WhoUses tells who still uses a version.
func (c *Client) WhoUses(ctx context.Context, purl, repository string) (api.WhoUses, error) {
	return get[api.WhoUses](ctx, c, "/api/v1/packages/users", url.Values{"purl": {purl}, "repository": {repository}})
}

// Space tells where storage goes.
func (c *Client) Space(ctx context.Context, days int) (api.SpacePage, error) {
	return get[api.SpacePage](ctx, c, "/api/v1/space", url.Values{"days": {strconv.Itoa(days)}})
}
