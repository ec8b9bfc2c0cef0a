package client

import (
	"context"
	"net/http"

	"crelvo/internal/api"
)

const backups = "/api/v1/backups"

// Backups lists the last backups that were made, the last one first.
func (c *Client) Backups(ctx context.Context) ([]api.Backup, error) {
	return get[[]api.Backup](ctx, c, backups, nil)
}

// BeginBackup begins one; to "" it goes where the server makes its own.
func (c *Client) BeginBackup(ctx context.Context, target string) (b api.Backup, err error) {
	err = c.do(ctx, http.MethodPost, backups, api.NewBackup{Target: target}, &b)
	return b, err
}
