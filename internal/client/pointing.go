package client

import (
	"context"
	"net/url"
	"strconv"

	"crelvo/internal/api"
)

// Point gives what points a package client at a repository.
func (c *Client) Point(
	ctx context.Context, repository, client, ecosystem string, publish bool, purl string,
) (api.Setup, error) {
	return get[api.Setup](ctx, c, of(repository, "point"), url.Values{"client": {client}, "ecosystem": {ecosystem},
		"publish": {strconv.FormatBool(publish)}, "purl": {purl}})
}
