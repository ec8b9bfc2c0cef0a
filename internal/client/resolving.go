package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"crelvo/internal/api"
)

// Explain tells which repository answers for a package, and why the others do
// not.
func (c *Client) Explain(ctx context.Context, name, purl string) (api.Explanation, error) {
	return get[api.Explanation](ctx, c, of(name, "explain"), url.Values{"purl": {purl}})
}

// Download gives the bytes at a path that the server named, from an offset on if the
// server can (RFC 9110 section 14): begins is the offset of the first of them, left how
// many there are, or -1.
func (c *Client) Download(
	ctx context.Context, path string, from int64,
) (body io.ReadCloser, begins, left int64, err error) {
	r, err := c.request(ctx, http.MethodGet, (&url.URL{Path: path}).EscapedPath(), nil)
	if err != nil {
		return nil, 0, 0, err
	}
	if from > 0 {
		r.Header.Set("Range", fmt.Sprintf("bytes=%d-", from))
	}
	response, err := c.send(r)
	if err != nil {
		return nil, 0, 0, err
	}
	if response.StatusCode == http.StatusPartialContent {
		begins = from
	}
	return response.Body, begins, response.ContentLength, nil
}
