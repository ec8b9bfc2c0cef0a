package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"crelvo/internal/api"
)

const transfers = "/api/v1/transfers"

func transferPath(id int64) string { return transfers + "/" + strconv.FormatInt(id, 10) }

// Transfers lists the last transfers that the server does or did, the last one first.
func (c *Client) Transfers(ctx context.Context) ([]api.TransferRun, error) {
	return get[[]api.TransferRun](ctx, c, transfers, nil)
}

// BeginTransfer has the server take packages from one repository to another.
func (c *Client) BeginTransfer(ctx context.Context, n api.NewTransferRun) (t api.TransferRun, err error) {
	err = c.do(ctx, http.MethodPost, transfers, n, &t)
	return t, err
}

// Transfer tells how far one is.
func (c *Client) Transfer(ctx context.Context, id int64) (api.TransferRun, error) {
	return get[api.TransferRun](ctx, c, transferPath(id), nil)
}

// StopTransfer stops one; what came stays.
func (c *Client) StopTransfer(ctx context.Context, id int64) (t api.TransferRun, err error) {
	err = c.do(ctx, http.MethodDelete, transferPath(id), nil, &t)
	return t, err
}

// TransferItems lists what becomes of versions, in the order of the plan: those in a state, all for "", and
// those that do not come for "outside".
func (c *Client) TransferItems(ctx context.Context, id int64, state string, after int) (api.TransferItems, error) {
	query := url.Values{}
	if state != "" {
		query.Set("state", state)
	}
	if after > 0 {
		query.Set("after", strconv.Itoa(after))
	}
	return get[api.TransferItems](ctx, c, transferPath(id)+"/versions", query)
}
