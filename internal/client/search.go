package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"crelvo/internal/api"
)

// SavedSearches lists the caller's, and those that others share.
func (c *Client) SavedSearches(ctx context.Context) (out []api.SavedSearch, err error) {
	return out, c.do(ctx, http.MethodGet, "/api/v1/searches", nil, &out)
}

// Completions proposes how a query could go on.
func (c *Client) Completions(ctx context.Context, query string) ([]api.Completion, error) {
	return get[[]api.Completion](ctx, c, "/api/v1/searches/completions", url.Values{"q": {query}})
}

// SaveSearch keeps a query under a name.
func (c *Client) SaveSearch(ctx context.Context, name string, s api.SaveSearch) (out api.SaveSearch, err error) {
	return out, c.do(ctx, http.MethodPut, "/api/v1/searches/"+url.PathEscape(name), s, &out)
}

// ForgetSearch drops a saved search.
func (c *Client) ForgetSearch(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/searches/"+url.PathEscape(name), nil, nil)
}

// Search finds packages.
func (c *Client) Search(ctx context.Context, query, repository string, limit, skip int) (api.PackageList, error) {
	return get[api.PackageList](ctx, c, "/api/v1/packages", url.Values{"q": {query}, "repository": {repository},
		"limit": {strconv.Itoa(limit)}, "skip": {strconv.Itoa(skip)}})
}

// LabelMoves tells where labels pointed; repository may be "".
func (c *Client) LabelMoves(ctx context.Context, purl, repository string) ([]api.LabelMove, error) {
	return get[[]api.LabelMove](ctx, c, "/api/v1/package/labels", url.Values{"purl": {purl}, "repository": {repository}})
}

// Package shows a package or a version; repository may be "".
func (c *Client) Package(ctx context.Context, purl, repository string) (api.Package, error) {
	whole, err := get[api.Package](ctx, c, "/api/v1/package",
		url.Values{"purl": {purl}, "repository": {repository}, "limit": {"1000"}})
	for next := whole.Next; next != "" && err == nil; {
		var page api.Package
		page, err = get[api.Package](ctx, c, "/api/v1/package",
			url.Values{"purl": {purl}, "repository": {repository}, "limit": {"1000"}, "after": {next}})
		whole.Versions, next = append(whole.Versions, page.Versions...), page.Next
	}
	whole.Next = ""
	return whole, err
}
