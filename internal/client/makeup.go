package client

import (
	"context"
	"net/url"
	"strconv"

	"crelvo/internal/api"
)

// Makeup tells what a version is made of; repository and platform may be "".
func (c *Client) Makeup(ctx context.Context, purl, repository, platform string) (api.Makeup, error) {
	return get[api.Makeup](ctx, c, "/api/v1/makeup",
		url.Values{"purl": {purl}, "repository": {repository}, "platform": {platform}})
}

// Side is a version that is compared; Repository may be "".
type Side struct{ PURL, Repository string }

// Compare tells how one version differs from another.
func (c *Client) Compare(
	ctx context.Context, before, after Side, platform string, files bool,
) (api.Comparison, error) {
	return get[api.Comparison](ctx, c, "/api/v1/comparison",
		url.Values{"before": {before.PURL}, "beforeRepository": {before.Repository}, "after": {after.PURL},
			"afterRepository": {after.Repository}, "platform": {platform}, "files": {strconv.FormatBool(files)}})
}

// SetFolder lists what stands in a folder of a file set, "" or a path that ends with a slash, from after a name on.
func (c *Client) SetFolder(ctx context.Context, purl, repository, folder, after string) (api.SetFolder, error) {
	return get[api.SetFolder](ctx, c, "/api/v1/contents",
		url.Values{"purl": {purl}, "repository": {repository}, "folder": {folder}, "after": {after}})
}
