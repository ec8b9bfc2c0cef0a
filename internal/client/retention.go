package client

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"crelvo/internal/api"
)

const policies, sweepPlans, sweeps = "/api/v1/policies", "/api/v1/sweeps/plans", "/api/v1/sweeps"

// Policies lists the retention policies.
func (c *Client) Policies(ctx context.Context) ([]api.Policy, error) {
	return get[[]api.Policy](ctx, c, policies, nil)
}

// Policy shows a retention policy.
func (c *Client) Policy(ctx context.Context, name string) (api.Policy, error) {
	return get[api.Policy](ctx, c, policies+"/"+url.PathEscape(name), nil)
}

// SetPolicy makes a retention policy, or changes the one of that name.
func (c *Client) SetPolicy(ctx context.Context, p api.SetPolicy) (out api.Policy, err error) {
	return out, c.do(ctx, http.MethodPut, policies, p, &out)
}

// RemovePolicy removes a retention policy.
func (c *Client) RemovePolicy(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, policies+"/"+url.PathEscape(name), nil, nil)
}

// PlanSweep tells what a policy would do.
func (c *Client) PlanSweep(ctx context.Context, r api.PlanRequest) (out api.SweepPlan, err error) {
	return out, c.do(ctx, http.MethodPost, sweepPlans, r, &out)
}

// PlanLines gives every version of a plan, as lines of JSON or of CSV. The caller
// closes them.
func (c *Client) PlanLines(ctx context.Context, r api.PlanRequest, csv bool) (io.ReadCloser, error) {
	raw, err := json.Marshal(r)
	if err != nil {
		return nil, err
	}
	request, err := c.request(ctx, http.MethodPost, sweepPlans+"/lines", bytes.NewReader(raw))
	if err != nil {
		return nil, err
	}
	request.Header.Set("Content-Type", "application/json")
	if csv {
		request.Header.Set("Accept", "text/csv")
	}
	response, err := c.send(request)
	if err != nil {
		return nil, err
	}
	return response.Body, nil
}

// Sweeps lists sweeps, the newest first; the query has the operation's names.
func (c *Client) Sweeps(ctx context.Context, query url.Values) ([]api.Sweep, error) {
	return get[[]api.Sweep](ctx, c, sweeps, query)
}

// RunSweep begins a sweep.
func (c *Client) RunSweep(ctx context.Context, r api.RunSweep) (out api.Sweep, err error) {
	return out, c.do(ctx, http.MethodPost, sweeps, r, &out)
}

func sweepPath(id int64) string { return sweeps + "/" + strconv.FormatInt(id, 10) }

// Sweep shows a sweep with some of what it took.
func (c *Client) Sweep(ctx context.Context, id int64, query url.Values) (api.SweepPage, error) {
	return get[api.SweepPage](ctx, c, sweepPath(id), query)
}

// StopSweep stops a sweep that asks or is under way.
func (c *Client) StopSweep(ctx context.Context, id int64) (out api.Sweep, err error) {
	return out, c.do(ctx, http.MethodPost, sweepPath(id)+"/stop", nil, &out)
}

// UndoSweep brings back what a sweep took.
func (c *Client) UndoSweep(ctx context.Context, id int64, purls []string) (out api.Undone, err error) {
	return out, c.do(ctx, http.MethodPost, sweepPath(id)+"/undo", api.UndoSweep{PURLs: purls}, &out)
}

// RemoveVersion takes a version out of use; it can be brought back from the sweep
// that is given.
func (c *Client) RemoveVersion(ctx context.Context, repository, purl string) (out api.Sweep, err error) {
	return out, c.do(ctx, http.MethodPost, of(repository, "removals"), api.RemoveVersion{PURL: purl}, &out)
}

// Pins lists what is kept from every sweep.
func (c *Client) Pins(ctx context.Context) ([]api.Pin, error) {
	return get[[]api.Pin](ctx, c, "/api/v1/pins", nil)
}

// SetPin keeps a version from every sweep, or takes the pin off.
func (c *Client) SetPin(ctx context.Context, p api.SetPin) error {
	return c.do(ctx, http.MethodPut, "/api/v1/pins", p, nil)
}

// Reclaim frees the bytes that nothing names.
func (c *Client) Reclaim(ctx context.Context, now bool) (out api.Reclaiming, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/v1/reclaimings?"+url.Values{"now": {strconv.FormatBool(now)}}.Encode(),
		nil, &out)
}

// Reclaimings lists the last runs that freed bytes.
func (c *Client) Reclaimings(ctx context.Context) ([]api.Reclaiming, error) {
	return get[[]api.Reclaiming](ctx, c, "/api/v1/reclaimings", nil)
}
