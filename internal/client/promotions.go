package client

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"crelvo/internal/api"
)

const (
	builds, tracks, promotions = "/api/v1/builds", "/api/v1/tracks", "/api/v1/promotions"
	keys, destinations         = "/api/v1/keys", "/api/v1/destinations"
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
func (c *Client) BeginBuild(ctx context.Context, title string) (out api.Build, err error) {
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
	r, err := c.request(ctx, http.MethodPost, buildPath(title)+"/documents?"+url.Values{"name": {name}}.Encode(), bytes.NewReader(content))
	if err != nil {
		return out, err
	}
	r.Header.Set("Content-Type", "application/octet-stream")
	response, err := c.send(r)
	if err != nil {
		return out, err
	}
	defer response.Body.Close()
	return out, json.NewDecoder(response.Body).Decode(&out)
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

// Tracks lists all tracks.
func (c *Client) Tracks(ctx context.Context) ([]api.Track, error) {
	return get[[]api.Track](ctx, c, tracks, nil)
}

// Track shows a track with what stands in its stages.
func (c *Client) Track(ctx context.Context, name string) (api.TrackPicture, error) {
	return get[api.TrackPicture](ctx, c, tracks+"/"+url.PathEscape(name), nil)
}

// AddTrack makes a track.
func (c *Client) AddTrack(ctx context.Context, t api.Track) error {
	return c.do(ctx, http.MethodPost, tracks, t, nil)
}

// EditTrack writes a track anew.
func (c *Client) EditTrack(ctx context.Context, t api.Track) error {
	return c.do(ctx, http.MethodPut, tracks+"/"+url.PathEscape(t.Name), t, nil)
}

// RemoveTrack removes a track.
func (c *Client) RemoveTrack(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, tracks+"/"+url.PathEscape(name), nil, nil)
}

// Arrivals lists what came into a repository since a moment.
func (c *Client) Arrivals(ctx context.Context, repository string, since time.Time) ([]api.Arrival, error) {
	return get[[]api.Arrival](ctx, c, "/api/v1/repositories/"+url.PathEscape(repository)+"/arrivals", url.Values{"since": {since.UTC().Format(time.RFC3339)}})
}

// Promote asks for a promotion, or for what it would do.
func (c *Client) Promote(ctx context.Context, n api.NewPromotion) (out api.Promotion, err error) {
	return out, c.do(ctx, http.MethodPost, promotions, n, &out)
}

// Promotions lists promotions, the newest first; the query has the operation's
// names.
func (c *Client) Promotions(ctx context.Context, query url.Values) (api.PromotionList, error) {
	return get[api.PromotionList](ctx, c, promotions, query)
}

// Promotion shows a promotion.
func (c *Client) Promotion(ctx context.Context, id int64) (api.Promotion, error) {
	return get[api.Promotion](ctx, c, fmt.Sprint(promotions, "/", id), nil)
}

// Decide approves or refuses a promotion.
func (c *Client) Decide(ctx context.Context, id int64, say api.Say) (out api.Promotion, err error) {
	return out, c.do(ctx, http.MethodPost, fmt.Sprint(promotions, "/", id, "/decision"), say, &out)
}

// CancelPromotion ends a promotion that waits.
func (c *Client) CancelPromotion(ctx context.Context, id int64, reason string) (out api.Promotion, err error) {
	return out, c.do(ctx, http.MethodPost, fmt.Sprint(promotions, "/", id, "/cancel"), api.Reason{Reason: reason}, &out)
}

// UndoPromotion takes a promotion back.
func (c *Client) UndoPromotion(ctx context.Context, id int64, reason string) (out api.Promotion, err error) {
	return out, c.do(ctx, http.MethodPost, fmt.Sprint(promotions, "/", id, "/undo"), api.Reason{Reason: reason}, &out)
}

// SendOnAgain tries again to send on what failed.
func (c *Client) SendOnAgain(ctx context.Context, id int64) (out api.Promotion, err error) {
	return out, c.do(ctx, http.MethodPost, fmt.Sprint(promotions, "/", id, "/send"), nil, &out)
}

// Keys lists all keys.
func (c *Client) Keys(ctx context.Context) ([]api.Key, error) {
	return get[[]api.Key](ctx, c, keys, nil)
}

// AddKey adds a key.
func (c *Client) AddKey(ctx context.Context, k api.NewKey) error {
	return c.do(ctx, http.MethodPost, keys, k, nil)
}

// RemoveKey removes a key.
func (c *Client) RemoveKey(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, keys+"/"+url.PathEscape(name), nil, nil)
}

// Destinations lists all destinations.
func (c *Client) Destinations(ctx context.Context) ([]api.Destination, error) {
	return get[[]api.Destination](ctx, c, destinations, nil)
}

// SetDestination makes a destination, or writes it anew.
func (c *Client) SetDestination(ctx context.Context, d api.NewDestination) error {
	return c.do(ctx, http.MethodPost, destinations, d, nil)
}

// RemoveDestination removes a destination.
func (c *Client) RemoveDestination(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, destinations+"/"+url.PathEscape(name), nil, nil)
}
