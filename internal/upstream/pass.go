package upstream

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"time"

	"crelvo/internal/core/catalog"
)

// Some upstreams do not take credentials with each request, but want a pass that one gets
// for them somewhere: the token flow of image registries
// (https://distribution.github.io/distribution/spec/auth/token/).

// pass is what an upstream gave, for some of its paths.
type givenPass struct {
	token string
	until time.Time
}

// passes are those that are good, by upstream and scope of paths.
type passes struct {
	mu    sync.Mutex
	known map[string]givenPass
}

const (
	// maxPasses is how many are kept; all are dropped when there are more.
	maxPasses = 10_000
	// usualPass is how long one is good that does not say it.
	usualPass = time.Minute
	// maxPassAnswer is the longest answer with one, in bytes.
	maxPassAnswer = 64 << 10
)

// passKey is what a pass for a path is good for: what is below the same name. The last two
// segments of a path are what it is, and which.
func passKey(u catalog.Upstream, path string) string {
	for range 2 {
		if i := strings.LastIndexByte(path, '/'); i >= 0 {
			path = path[:i]
		}
	}
	return u.URL + " " + path
}

func (p *passes) get(key string, now time.Time) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	if given := p.known[key]; now.Before(given.until) {
		return given.token
	}
	return ""
}

func (p *passes) put(key string, given givenPass) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.known == nil || len(p.known) >= maxPasses {
		p.known = map[string]givenPass{}
	}
	p.known[key] = given
}

var bearerPart = regexp.MustCompile(`([a-zA-Z_]+)="([^"]*)"`)

// bearerChallenge finds in an answer where a pass is given, and for what.
func bearerChallenge(h http.Header) (realm string, query url.Values, ok bool) {
	for _, asked := range h.Values("WWW-Authenticate") {
		scheme, rest, _ := strings.Cut(asked, " ")
		if !strings.EqualFold(scheme, "Bearer") {
			continue
		}
		query = url.Values{}
		for _, part := range bearerPart.FindAllStringSubmatch(rest, -1) {
			switch name := strings.ToLower(part[1]); name {
			case "realm":
				realm = part[2]
			case "service", "scope":
				query.Set(name, part[2])
			}
		}
		return realm, query, realm != ""
	}
	return "", nil, false
}

// passFor gets a pass if an answer asks for one, and closes the answer then; got is false if
// it does not.
func (s *Source) passFor(
	ctx context.Context, start *url.URL, lifted lift, key string, response *http.Response,
) (got bool, err error) {
	realm, query, ok := bearerChallenge(response.Header)
	if !ok || response.StatusCode != http.StatusUnauthorized {
		return false, nil
	}
	if err := response.Body.Close(); err != nil {
		return false, err
	}
	given, err := s.fetchPass(ctx, start, lifted, realm, query)
	if err == nil {
		s.passes.put(key, given)
	}
	return err == nil, err
}

// fetchPass gets a pass where an upstream says that it is given. Name and secret go to the
// upstream's own host, or to one that the mirror allows; to no other.
func (s *Source) fetchPass(
	ctx context.Context, start *url.URL, lifted lift, realm string, query url.Values,
) (given givenPass, err error) {
	at, err := start.Parse(realm)
	if err != nil {
		return given, refused{"says that a pass is given at an address that cannot be read"}
	}
	if s.settings.Secret != "" {
		if err := mayRedirect(start, at, s.settings.RedirectTo); err != nil {
			return given, refused{fmt.Sprintf("has its passes given by %s, to which the mirror does not allow it to send anybody: "+
				"allow that host", at.Host)}
		}
	}
	if start.Scheme == "https" && at.Scheme != "https" || s.settings.Proxy != "" && lifted.leadsAstray(ctx, at) {
		return given, refused{"says that a pass is given at " + at.Host + ", which is not safe"}
	}
	for name, values := range at.Query() {
		query[name] = values
	}
	at.RawQuery = query.Encode()
	request, err := http.NewRequestWithContext(lifting(ctx, s.direct(lifted)), http.MethodGet, at.String(), nil)
	if err != nil {
		return given, err
	}
	request.Header.Set("User-Agent", s.agent)
	if s.settings.Secret != "" {
		request.SetBasicAuth(s.settings.User, s.settings.Secret)
	}
	response, err := s.through.RoundTrip(request)
	if err != nil {
		return given, err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return given, refused{fmt.Sprintf("gives no pass: %s answered %s; does it want other credentials?", at.Host,
			strings.TrimSpace(response.Status))}
	}
	var answer struct {
		Token  string `json:"token"`
		Access string `json:"access_token"`
		Lasts  int    `json:"expires_in"`
	}
	if err := json.NewDecoder(io.LimitReader(response.Body, maxPassAnswer)).Decode(&answer); err != nil {
		return given, refused{"gives a pass that cannot be read"}
	}
	given.token = answer.Token
	if given.token == "" {
		given.token = answer.Access
	}
	if given.token == "" || strings.ContainsAny(given.token, "\r\n") {
		return given, refused{"gives a pass that is none"}
	}
	lasts := usualPass
	if answer.Lasts > 0 {
		lasts = time.Duration(answer.Lasts) * time.Second
	}
	given.until = s.now().Add(lasts * 4 / 5) // what is under way must not meet its end
	return given, nil
}
