package client

import (
	"context"
	"net/http"
	"net/url"

	"crelvo/internal/api"
)

const nodes = "/api/v1/nodes"

// Nodes lists the programs that serve together.
func (c *Client) Nodes(ctx context.Context) ([]api.Node, error) {
	return get[[]api.Node](ctx, c, nodes, nil)
}

// DrainNode has a node be left alone, or not any more.
func (c *Client) DrainNode(ctx context.Context, name string, draining bool) (n api.Node, err error) {
	err = c.do(ctx, http.MethodPatch, nodes+"/"+url.PathEscape(name), api.NodeChange{Draining: draining}, &n)
	return n, err
}
