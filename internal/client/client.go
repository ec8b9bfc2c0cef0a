// Package client is a Go client of Crelvo's management API.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"crelvo/internal/api"
)

// Client asks one server. Errors that the server answers with are
// *api.Problem; not reaching it is *Unreachable.
type Client struct {
	Server string // such as http://127.0.0.1:8700
	Token  string
	// User and Password sign in instead of Token, if they are set.
	User, Password string
	HTTP           *http.Client
	Agent          string // the User-Agent
	// OnTokenEnds, if set, is told when the server says that the token ends soon.
	OnTokenEnds func(time.Time)
}

// Unreachable means that no answer came from the server.
type Unreachable struct {
	Server string
	Err    error
}

func (u *Unreachable) Error() string {
	return fmt.Sprintf("cannot reach %s: %v", u.Server, u.Err)
}

// Unwrap gives the cause.
func (u *Unreachable) Unwrap() error { return u.Err }

// request makes a request to a path below the server's address.
func (c *Client) request(ctx context.Context, method, path string, body io.Reader) (*http.Request, error) {
	r, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(c.Server, "/")+path, body)
	if err != nil {
		return nil, err
	}
	r.Header.Set("User-Agent", c.Agent)
	switch {
	case c.User != "":
		r.SetBasicAuth(c.User, c.Password)
	case c.Token != "":
		r.Header.Set("Authorization", "Bearer "+c.Token)
	}
	return r, nil
}

// send gives the answer of a request whose status says that it was done.
func (c *Client) send(r *http.Request) (*http.Response, error) {
	h := c.HTTP
	if h == nil {
		h = http.DefaultClient
	}
	response, err := h.Do(r)
	if err != nil {
		if inner := (*url.Error)(nil); asURLError(err, &inner) {
			err = inner.Err
		}
		return nil, &Unreachable{Server: c.Server, Err: err}
	}
	if ends, err := time.Parse(time.RFC3339, response.Header.Get(api.TokenEndsHeader)); err == nil &&
		c.OnTokenEnds != nil {
		c.OnTokenEnds(ends)
	}
	if response.StatusCode < 300 {
		return response, nil
	}
	defer response.Body.Close()
	p := &api.Problem{Status: response.StatusCode, Title: http.StatusText(response.StatusCode)}
	raw, err := io.ReadAll(io.LimitReader(response.Body, 64<<10))
	if err != nil || json.Unmarshal(raw, p) != nil || p.Detail == "" {
		p.Detail = strings.TrimSpace(string(raw))
		if p.Detail == "" || strings.HasPrefix(p.Detail, "<") {
			p.Detail = "the server answered " + response.Status
		}
	}
	if p.Code == "sign-in-needed" {
		if p.Detail, p.Hint = "you are not signed in to "+c.Server,
			"Sign in with crelvo login, or set CRELVO_TOKEN."; c.Token != "" || c.User != "" {
			p.Detail = "the credentials did not arrive at " + c.Server
			p.Hint = "Something on the way, such as a proxy, takes the Authorization header away; ask who looks after it."
		}
	}
	return nil, p
}

func asURLError(err error, into **url.Error) bool {
	e, ok := err.(*url.Error)
	*into = e
	return ok
}

// do asks an operation with JSON in and out; either may be nil. An io.Reader is sent as the
// bytes that it gives.
func (c *Client) do(ctx context.Context, method, path string, in, out any) error {
	form := "application/json"
	body, bytesIn := in.(io.Reader)
	if bytesIn {
		form = "application/octet-stream"
	} else if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(raw)
	}
	r, err := c.request(ctx, method, path, body)
	if err != nil {
		return err
	}
	if in != nil {
		r.Header.Set("Content-Type", form)
	}
	response, err := c.send(r)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if out == nil {
		return nil
	}
	if err := json.NewDecoder(response.Body).Decode(out); err != nil {
		return fmt.Errorf("the answer of %s is no JSON; is it a Crelvo server? %w", c.Server, err)
	}
	return nil
}

func get[T any](ctx context.Context, c *Client, path string, query url.Values) (out T, err error) {
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	return out, c.do(ctx, http.MethodGet, path, nil, &out)
}

const repositories = "/api/v1/repositories"
