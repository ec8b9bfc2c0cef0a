package client

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"crelvo/internal/api"
)

const (
	advisories = "/api/v1/advisories"
	feeds      = "/api/v1/feeds"
	waivers    = "/api/v1/waivers"
)

// AdvisoryQuery says which advisories are wanted.
type AdvisoryQuery struct {
	Words, Severity string
	Withdrawn       bool
	Before          time.Time
	Skip            string
	Limit           int
}

// Advisories lists advisories, which changed last first.
func (c *Client) Advisories(ctx context.Context, q AdvisoryQuery) (api.AdvisoryList, error) {
	values := url.Values{"limit": {strconv.Itoa(q.Limit)}, "withdrawn": {strconv.FormatBool(q.Withdrawn)}}
	for name, value := range map[string]string{"words": q.Words, "severity": q.Severity, "skip": q.Skip} {
		if value != "" {
			values.Set(name, value)
		}
	}
	if !q.Before.IsZero() {
		values.Set("before", q.Before.UTC().Format(time.RFC3339Nano))
	}
	return get[api.AdvisoryList](ctx, c, advisories, values)
}

// Affected lists versions that are kept and that advisories are about, the worst first.
func (c *Client) Affected(ctx context.Context, limit int) (api.AffectedList, error) {
	return get[api.AffectedList](ctx, c, advisories+"/affected", url.Values{"limit": {strconv.Itoa(limit)}})
}

// Advisory shows one, by its id or an alias.
func (c *Client) Advisory(ctx context.Context, id string) (api.AdvisoryPage, error) {
	return get[api.AdvisoryPage](ctx, c, advisories+"/"+url.PathEscape(id), nil)
}

// ImportAdvisories sends a file with advisories.
func (c *Client) ImportAdvisories(ctx context.Context, name string, content io.Reader) (r api.FeedReport, err error) {
	return r, c.do(ctx, http.MethodPost, advisories+"?"+url.Values{"name": {name}}.Encode(), content, &r)
}

// Feeds lists where advisories come from.
func (c *Client) Feeds(ctx context.Context) ([]api.Feed, error) {
	return get[[]api.Feed](ctx, c, feeds, nil)
}

// AddFeed adds a source of advisories.
func (c *Client) AddFeed(ctx context.Context, n api.NewFeed) (f api.Feed, err error) {
	return f, c.do(ctx, http.MethodPost, feeds, n, &f)
}

// RunFeed begins to read one.
func (c *Client) RunFeed(ctx context.Context, name string) (f api.Feed, err error) {
	return f, c.do(ctx, http.MethodPost, feeds+"/"+url.PathEscape(name)+"/run", nil, &f)
}

// RemoveFeed takes one away.
func (c *Client) RemoveFeed(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, feeds+"/"+url.PathEscape(name), nil, nil)
}

// Waivers lists those that stand, or with ended all.
func (c *Client) Waivers(ctx context.Context, ended bool) ([]api.Waiver, error) {
	return get[[]api.Waiver](ctx, c, waivers, url.Values{"ended": {strconv.FormatBool(ended)}})
}

// MakeWaiver accepts an advisory.
func (c *Client) MakeWaiver(ctx context.Context, n api.NewWaiver) (w api.Waiver, err error) {
	return w, c.do(ctx, http.MethodPost, waivers, n, &w)
}

// EndWaiver ends a waiver.
func (c *Client) EndWaiver(ctx context.Context, id int64) error {
	return c.do(ctx, http.MethodDelete, waivers+"/"+strconv.FormatInt(id, 10), nil, nil)
}

// ImportVEX makes waivers of a document of OpenVEX or CycloneDX.
func (c *Client) ImportVEX(ctx context.Context, content io.Reader) (done api.Stated, err error) {
	return done, c.do(ctx, http.MethodPost, waivers+"/vex", content, &done)
}

// ExportVEX is the waivers that stand as a document: openvex or cyclonedx.
func (c *Client) ExportVEX(ctx context.Context, form string) (json.RawMessage, error) {
	return get[json.RawMessage](ctx, c, waivers+"/vex", url.Values{"form": {form}})
}
