package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"crelvo/internal/api"
)

// Mirror tells how a mirror is, with its counts of the last hours.
func (c *Client) Mirror(ctx context.Context, name string, hours int) (api.MirrorState, error) {
	return get[api.MirrorState](ctx, c, of(name, "mirror"), url.Values{"hours": {strconv.Itoa(hours)}})
}

// CheckMirror tries upstreams that need not be saved.
func (c *Client) CheckMirror(ctx context.Context, check api.Check) (out []api.Checked, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/v1/mirrors/check", check, &out)
}

// TryPatterns asks whether the patterns of a mirror let something in.
func (c *Client) TryPatterns(ctx context.Context, name string, try api.Try) (out api.Tried, err error) {
	return out, c.do(ctx, http.MethodPost, of(name, "try"), try, &out)
}

// Forget drops the copies of a package or version from a mirror.
func (c *Client) Forget(ctx context.Context, name, purl string) (out api.Forgotten, err error) {
	return out, c.do(ctx, http.MethodPost, of(name, "forget"), api.Forget{PURL: purl}, &out)
}

// Prefetch runs the prefetch rule of a mirror.
func (c *Client) Prefetch(ctx context.Context, name string) (out api.PrefetchRun, err error) {
	return out, c.do(ctx, http.MethodPost, of(name, "prefetch"), nil, &out)
}

// PrefetchRuns lists the last runs of a mirror's prefetch rule.
func (c *Client) PrefetchRuns(ctx context.Context, name string, limit int) ([]api.PrefetchRun, error) {
	return get[[]api.PrefetchRun](ctx, c, of(name, "prefetch"), url.Values{"limit": {strconv.Itoa(limit)}})
}
