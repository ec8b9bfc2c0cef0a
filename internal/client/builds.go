package client

import (
	"bytes"
	"context"
	"net/http"
	"net/url"
	"strings"

	"crelvo/internal/api"
)

// buildPath is the path of a build, NAME#NUMBER.
func buildPath(title string) string {
	name, number, _ := strings.Cut(title, "#")
	return builds + "/" + url.PathEscape(name) + "/" + url.PathEscape(number)
}

// Builds lists builds, the newest first; the query has the operation's names.
func (c *Client) Builds(ctx context.Context, query url.Values) (api.BuildList, error) {
	return get[api.BuildList](ctx, c, builds, query)
}

// Build shows a build.
func (c *Client) Build(ctx context.Context, title string) (api.BuildPage, error) {
	return get[api.BuildPage](ctx, c, buildPath(title), nil)
}

// BeginBuild notes that a build begins.
func (c *Client) BeginBuild(ctx context.Context, title string) (out api.BegunBuild, err error) {
	return out, c.do(ctx, http.MethodPost, buildPath(title), nil, &out)
}

// RecordBuild records a build.
func (c *Client) RecordBuild(ctx context.Context, r api.BuildReport) (out api.Build, err error) {
	return out, c.do(ctx, http.MethodPost, builds, r, &out)
}

// CompareBuilds tells what is not the same in two builds.
func (c *Client) CompareBuilds(ctx context.Context, before, after string) (api.BuildComparison, error) {
	return get[api.BuildComparison](ctx, c, buildPath(after)+"/difference", url.Values{"to": {before}})
}

// Attach adds a document to a build.
func (c *Client) Attach(ctx context.Context, title, name string, content []byte) (out api.BuildDocument, err error) {
	return out, c.do(ctx, http.MethodPost, buildPath(title)+"/documents?"+url.Values{"name": {name}}.Encode(),
		bytes.NewReader(content), &out)
}

// RemoveBuild drops the record of a build that made nothing.
func (c *Client) RemoveBuild(ctx context.Context, title string) error {
	return c.do(ctx, http.MethodDelete, buildPath(title), nil, nil)
}

// BuildNames lists to whom builds belong.
func (c *Client) BuildNames(ctx context.Context) ([]api.BuildName, error) {
	return get[[]api.BuildName](ctx, c, builds+"/names", nil)
}

// GiveBuildName says to whom builds of a name belong; to "" is to who uses it next.
func (c *Client) GiveBuildName(ctx context.Context, name, to string) error {
	return c.do(ctx, http.MethodPut, builds+"/names/"+url.PathEscape(name), api.BuildNameOwner{Owner: to}, nil)
}
