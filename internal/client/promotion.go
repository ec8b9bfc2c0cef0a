package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"crelvo/internal/api"
)

const (
	builds, tracks, promotions = "/api/v1/builds", "/api/v1/tracks", "/api/v1/promotions"
	keys, targets              = "/api/v1/keys", "/api/v1/targets"
)

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
	return get[[]api.Arrival](ctx, c, "/api/v1/repositories/"+url.PathEscape(repository)+"/arrivals",
		url.Values{"since": {since.UTC().Format(time.RFC3339)}})
}

// Promote asks for a promotion, or for what it would do.
func (c *Client) Promote(ctx context.Context, n api.NewPromotion) (out api.AskedPromotion, err error) {
	return out, c.do(ctx, http.MethodPost, promotions, n, &out)
}

// Promotions lists promotions, the newest first; the query has the operation's
// names.
func (c *Client) Promotions(ctx context.Context, query url.Values) (api.PromotionList, error) {
	return get[api.PromotionList](ctx, c, promotions, query)
}

// Promotion shows a promotion.
func (c *Client) Promotion(ctx context.Context, id int64) (api.PromotionPage, error) {
	return get[api.PromotionPage](ctx, c, fmt.Sprint(promotions, "/", id), nil)
}

// Decide approves or refuses a promotion.
func (c *Client) Decide(ctx context.Context, id int64, say api.Say) (out api.PromotionPage, err error) {
	return out, c.do(ctx, http.MethodPost, fmt.Sprint(promotions, "/", id, "/decision"), say, &out)
}

// CancelPromotion ends a promotion that waits.
func (c *Client) CancelPromotion(ctx context.Context, id int64, reason string) (out api.PromotionPage, err error) {
	return out, c.do(ctx, http.MethodPost, fmt.Sprint(promotions, "/", id, "/cancel"), api.Reason{Reason: reason}, &out)
}

// UndoPromotion takes a promotion back.
func (c *Client) UndoPromotion(ctx context.Context, id int64, reason string) (out api.PromotionPage, err error) {
	return out, c.do(ctx, http.MethodPost, fmt.Sprint(promotions, "/", id, "/undo"), api.Reason{Reason: reason}, &out)
}

// SendOnAgain tries again to send on what failed.
func (c *Client) SendOnAgain(ctx context.Context, id int64) (out api.PromotionPage, err error) {
	return out, c.do(ctx, http.MethodPost, fmt.Sprint(promotions, "/", id, "/send"), nil, &out)
}
