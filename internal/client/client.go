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
	"strconv"
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
	if ends, err := time.Parse(time.RFC3339, response.Header.Get(api.TokenEndsHeader)); err == nil && c.OnTokenEnds != nil {
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
		if p.Detail, p.Hint = "you are not signed in to "+c.Server, "Sign in with crelvo login, or set CRELVO_TOKEN."; c.Token != "" || c.User != "" {
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

// do asks an operation with JSON in and out; either may be nil.
func (c *Client) do(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	if in != nil {
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
		r.Header.Set("Content-Type", "application/json")
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

// Me tells who the client is signed in as.
func (c *Client) Me(ctx context.Context) (api.Me, error) {
	return get[api.Me](ctx, c, "/api/v1/me", nil)
}

// Status tells how the server is.
func (c *Client) Status(ctx context.Context) (api.Status, error) {
	return get[api.Status](ctx, c, "/api/v1/status", nil)
}

const repositories = "/api/v1/repositories"

// Repositories lists those that the client may read.
func (c *Client) Repositories(ctx context.Context) ([]api.Repository, error) {
	return get[[]api.Repository](ctx, c, repositories, nil)
}

// Repository shows one.
func (c *Client) Repository(ctx context.Context, name string) (api.Repository, error) {
	return get[api.Repository](ctx, c, repositories+"/"+url.PathEscape(name), nil)
}

// AddRepository makes one.
func (c *Client) AddRepository(ctx context.Context, n api.NewRepository) (out api.Repository, err error) {
	return out, c.do(ctx, http.MethodPost, repositories, n, &out)
}

// EditRepository changes the settings of one.
func (c *Client) EditRepository(ctx context.Context, name string, change api.RepositoryChange) (out api.Repository, err error) {
	return out, c.do(ctx, http.MethodPatch, repositories+"/"+url.PathEscape(name), change, &out)
}

// RemoveRepository takes one out of use.
func (c *Client) RemoveRepository(ctx context.Context, name string, withContents bool) error {
	return c.do(ctx, http.MethodDelete, repositories+"/"+url.PathEscape(name)+"?withContents="+strconv.FormatBool(withContents), nil, nil)
}

// RemovedRepositories lists those that can be brought back.
func (c *Client) RemovedRepositories(ctx context.Context) ([]api.RemovedRepository, error) {
	return get[[]api.RemovedRepository](ctx, c, "/api/v1/removed-repositories", nil)
}

// BringBackRepository puts one that was removed into use again.
func (c *Client) BringBackRepository(ctx context.Context, name string) (out api.Repository, err error) {
	return out, c.do(ctx, http.MethodPost, of(name, "undo"), nil, &out)
}

func of(name, what string) string { return repositories + "/" + url.PathEscape(name) + "/" + what }

// Mirror tells how a mirror is, with its counts of the last hours.
func (c *Client) Mirror(ctx context.Context, name string, hours int) (api.MirrorState, error) {
	return get[api.MirrorState](ctx, c, of(name, "mirror"), url.Values{"hours": {strconv.Itoa(hours)}})
}

// CheckMirror tries upstreams that need not be saved.
func (c *Client) CheckMirror(ctx context.Context, check api.Check) (out []api.Checked, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/v1/mirror-check", check, &out)
}

// TryPatterns asks whether the patterns of a mirror let something in.
func (c *Client) TryPatterns(ctx context.Context, name string, try api.Try) (out api.Tried, err error) {
	return out, c.do(ctx, http.MethodPost, of(name, "try"), try, &out)
}

// Forget drops the copies of a package or version from a mirror.
func (c *Client) Forget(ctx context.Context, name, purl string) (out api.Forgotten, err error) {
	return out, c.do(ctx, http.MethodPost, of(name, "forget"), api.Forget{PURL: purl}, &out)
}

// Prefetch runs the prefetch rule of a mirror.
func (c *Client) Prefetch(ctx context.Context, name string) (out api.PrefetchRun, err error) {
	return out, c.do(ctx, http.MethodPost, of(name, "prefetch"), nil, &out)
}

// PrefetchRuns lists the last runs of a mirror's prefetch rule.
func (c *Client) PrefetchRuns(ctx context.Context, name string, limit int) ([]api.PrefetchRun, error) {
	return get[[]api.PrefetchRun](ctx, c, of(name, "prefetch"), url.Values{"limit": {strconv.Itoa(limit)}})
}

// Explain tells which repository answers for a package, and why the others do
// not.
func (c *Client) Explain(ctx context.Context, name, purl string) (api.Explanation, error) {
	return get[api.Explanation](ctx, c, of(name, "explain"), url.Values{"purl": {purl}})
}

// Claims lists the claims by pattern, and the lifts.
func (c *Client) Claims(ctx context.Context) ([]api.Claim, error) {
	return get[[]api.Claim](ctx, c, "/api/v1/claims", nil)
}

// ClaimedNames lists the names that are claimed in a chain since they were
// published.
func (c *Client) ClaimedNames(ctx context.Context, name, words string) (api.ClaimedNames, error) {
	return get[api.ClaimedNames](ctx, c, of(name, "claimed-names"), url.Values{"q": {words}})
}

// AddClaim claims names.
func (c *Client) AddClaim(ctx context.Context, n api.NewClaim) (out api.Claim, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/v1/claims", n, &out)
}

// LiftClaim ends a claim, or lets mirrors answer for names that were published
// here.
func (c *Client) LiftClaim(ctx context.Context, n api.NewClaim) (out api.Claim, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/v1/claims/lift", n, &out)
}

// Withdraw marks a version as not to be used any more, or takes the mark away.
func (c *Client) Withdraw(ctx context.Context, repository string, w api.Withdraw) (out api.Withdraw, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/v1/repositories/"+url.PathEscape(repository)+"/withdraw", w, &out)
}

// SavedSearches lists the caller's, and those that others share.
func (c *Client) SavedSearches(ctx context.Context) (out []api.SavedSearch, err error) {
	return out, c.do(ctx, http.MethodGet, "/api/v1/searches", nil, &out)
}

// Completions proposes how a query could go on.
func (c *Client) Completions(ctx context.Context, query string) ([]api.Completion, error) {
	return get[[]api.Completion](ctx, c, "/api/v1/search-completions", url.Values{"q": {query}})
}

// SaveSearch keeps a query under a name.
func (c *Client) SaveSearch(ctx context.Context, name string, s api.SaveSearch) (out api.SaveSearch, err error) {
	return out, c.do(ctx, http.MethodPut, "/api/v1/searches/"+url.PathEscape(name), s, &out)
}

// ForgetSearch drops a saved search.
func (c *Client) ForgetSearch(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/searches/"+url.PathEscape(name), nil, nil)
}

// Search finds packages.
func (c *Client) Search(ctx context.Context, query, repository string, limit, skip int) (api.PackageList, error) {
	return get[api.PackageList](ctx, c, "/api/v1/packages", url.Values{"q": {query}, "repository": {repository},
		"limit": {strconv.Itoa(limit)}, "skip": {strconv.Itoa(skip)}})
}

// Package shows a package or a version; repository may be "".
func (c *Client) Package(ctx context.Context, purl, repository string) (api.Package, error) {
	whole, err := get[api.Package](ctx, c, "/api/v1/package", url.Values{"purl": {purl}, "repository": {repository}, "limit": {"1000"}})
	for next := whole.Next; next != "" && err == nil; {
		var page api.Package
		page, err = get[api.Package](ctx, c, "/api/v1/package", url.Values{"purl": {purl}, "repository": {repository}, "limit": {"1000"}, "after": {next}})
		whole.Versions, next = append(whole.Versions, page.Versions...), page.Next
	}
	whole.Next = ""
	return whole, err
}

// Receiving lists what is being received; purl and repository may be "".
func (c *Client) Receiving(ctx context.Context, purl, repository string) ([]api.Receiving, error) {
	return get[[]api.Receiving](ctx, c, "/api/v1/receiving", url.Values{"purl": {purl}, "repository": {repository}})
}

// Download gives the bytes at a path that the server named, from an offset on if the
// server can (RFC 9110 section 14): begins is the offset of the first of them, left how
// many there are, or -1.
func (c *Client) Download(ctx context.Context, path string, from int64) (body io.ReadCloser, begins, left int64, err error) {
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
