package client

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"

	"crelvo/internal/api"
	"crelvo/internal/core/bundle"
)

const (
	bundles = "/api/v1/bundles"
	tarType = "application/x-tar"
)

// Bundles lists the bundles that were made or loaded last, the last one first.
func (c *Client) Bundles(ctx context.Context) ([]api.Bundle, error) {
	return get[[]api.Bundle](ctx, c, bundles, nil)
}

// MakeBundle gives the bytes of a new bundle, and the name that its file may have.
func (c *Client) MakeBundle(ctx context.Context, n api.NewBundle) (body io.ReadCloser, name string, err error) {
	raw, err := json.Marshal(n)
	if err != nil {
		return nil, "", err
	}
	response, err := c.post(ctx, bundles, "application/json", bytes.NewReader(raw))
	if err != nil {
		return nil, "", err
	}
	if _, said, err := mime.ParseMediaType(response.Header.Get("Content-Disposition")); err == nil {
		name = said["filename"]
	}
	return response.Body, name, nil
}

func (c *Client) post(ctx context.Context, path, form string, body io.Reader) (*http.Response, error) {
	r, err := c.request(ctx, http.MethodPost, path, body)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Content-Type", form)
	return c.send(r)
}

// PlanBundle tells what would become of a bundle.
func (c *Client) PlanBundle(ctx context.Context, to []string, s bundle.Signed) (p api.BundlePlan, err error) {
	var head bytes.Buffer
	w, err := bundle.NewWriter(&head, s, bundleTime)
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		return p, err
	}
	return c.sendBundle(ctx, bundles+"/plans", url.Values{"to": to}, &head)
}

func (c *Client) sendBundle(
	ctx context.Context, path string, q url.Values, body io.Reader,
) (p api.BundlePlan, err error) {
	response, err := c.post(ctx, path+"?"+q.Encode(), tarType, body)
	if err != nil {
		return p, err
	}
	defer response.Body.Close()
	if err := json.NewDecoder(response.Body).Decode(&p); err != nil {
		return p, fmt.Errorf("the answer of %s is no JSON; is it a Crelvo server? %w", c.Server, err)
	}
	return p, nil
}

// LoadBundle loads a bundle, of which the files that a plan calls lacking are sent.
func (c *Client) LoadBundle(
	ctx context.Context, to []string, decisions bool, from *bundle.Reader, plan api.BundlePlan,
) (p api.BundlePlan, err error) {
	lacking := map[string]bool{}
	for _, sum := range plan.Lacking {
		lacking[sum] = true
	}
	q := url.Values{"to": to}
	if decisions {
		q.Set("decisions", "true")
	}
	out, in := io.Pipe()
	ended := make(chan error, 1)
	go func() {
		err := copyLacking(in, from, lacking)
		in.CloseWithError(err)
		ended <- err
	}()
	p, err = c.sendBundle(ctx, bundles+"/loads", q, out)
	out.CloseWithError(io.ErrClosedPipe) // the answer may come before all was read
	if unread := <-ended; unread != nil && unread != io.ErrClosedPipe {
		return p, fmt.Errorf("the bundle cannot be read: %w", unread)
	}
	return p, err
}

// copyLacking writes a bundle with some of its files.
func copyLacking(in io.Writer, from *bundle.Reader, lacking map[string]bool) error {
	w, err := bundle.NewWriter(in, from.Signed, bundleTime)
	if err != nil {
		return err
	}
	for {
		sum, size, r, err := from.Next()
		if err == io.EOF {
			return w.Close()
		}
		if err != nil {
			return err
		}
		if !lacking[sum.String()] {
			continue
		}
		if err := w.Add(sum, size, r); err != nil {
			return err
		}
	}
}
