package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"crelvo/internal/api"
)

const (
	vettings = "/api/v1/vettings"
	awaiting = vettings + "/queue"
)

// Vettings lists the decisions that stand, or with ended all.
func (c *Client) Vettings(ctx context.Context, ended bool) ([]api.Vetting, error) {
	return get[[]api.Vetting](ctx, c, vettings, url.Values{"ended": {strconv.FormatBool(ended)}})
}

// Vet takes decisions.
func (c *Client) Vet(ctx context.Context, n api.NewVetting) (made []api.Vetting, err error) {
	return made, c.do(ctx, http.MethodPost, vettings, n, &made)
}

// EndVetting ends a decision.
func (c *Client) EndVetting(ctx context.Context, id int64) error {
	return c.do(ctx, http.MethodDelete, vettings+"/"+strconv.FormatInt(id, 10), nil, nil)
}

// Awaiting lists what awaits a decision, of one repository if it is not "".
func (c *Client) Awaiting(ctx context.Context, repository string) (api.VettingQueue, error) {
	return get[api.VettingQueue](ctx, c, awaiting, url.Values{"repository": {repository}})
}

// AskForVetting puts a version before those who decide.
func (c *Client) AskForVetting(ctx context.Context, wish api.VettingWish) (a api.Assessment, err error) {
	return a, c.do(ctx, http.MethodPost, awaiting, wish, &a)
}

// Assess tells how a version is decided about in a repository.
func (c *Client) Assess(ctx context.Context, repository, purl string, needs bool) (api.Assessment, error) {
	return get[api.Assessment](ctx, c, repositories+"/"+url.PathEscape(repository)+"/assessment",
		url.Values{"purl": {purl}, "needs": {strconv.FormatBool(needs)}})
}

// LookInside looks into a version that a mirror has or its upstream lists.
func (c *Client) LookInside(ctx context.Context, repository, purl string) (in api.LookedInside, err error) {
	return in, c.do(ctx, http.MethodPost, repositories+"/"+url.PathEscape(repository)+"/looks", api.LookWish{PURL: purl},
		&in)
}

// CheckVersions tells what whoever asked a repository for versions would be told.
func (c *Client) CheckVersions(
	ctx context.Context, repository string, purls []string,
) (all []api.CheckedVersion, err error) {
	return all, c.do(ctx, http.MethodPost, repositories+"/"+url.PathEscape(repository)+"/check",
		api.Versions{PURLs: purls},
		&all)
}
