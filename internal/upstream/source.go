// Package upstream fetches from elsewhere: from the upstreams of a mirror, in
// their order, within limits, and never where it should not go. What is fetched
// once is passed on to all who wait for it.
package upstream

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"time"

	"crelvo/internal/core/catalog"
	"crelvo/internal/traces"
)

// ErrAbsent is an upstream's answer that it does not have what was asked for.
var ErrAbsent = errors.New("the upstream does not have it")

// Failure is why an upstream could not give what was asked for.
type Failure struct {
	Upstream string // its address
	What     string // in words, to go on after the name of the upstream
	Status   int    // of HTTP, if it answered that; 0 if it did not answer, or not as it should
	// RetryAt is when the upstream is tried again; zero is at once.
	RetryAt time.Time
	Cause   error
}

func (f *Failure) Error() string { return f.Upstream + " " + f.What }

// Unwrap gives the cause.
func (f *Failure) Unwrap() error { return f.Cause }

// Observer is told what became of requests. Its methods may be called at the
// same time.
type Observer interface {
	// Answered: an upstream answered, took that long until its first byte.
	Answered(upstream string, at time.Time, firstByte time.Duration)
	// Failed: it did not, or not as it should. since and retry are those of
	// its row of failures.
	Failed(f *Failure, at time.Time, since time.Time)
	// Allowed: an upstream said how much more it lets us ask.
	Allowed(upstream string, a Allowance)
	// Fetched counts bytes that arrived.
	Fetched(n int64)
}

// Source fetches from the upstreams of one mirror. Its methods may be called at
// the same time.
type Source struct {
	settings catalog.MirrorSettings
	agent    string
	observer Observer
	now      func() time.Time
	http     *http.Transport
	through  http.RoundTripper
	places   chan struct{}
	breakers []breaker
	resting  []resting
	proxy    string // its host; "" if there is none
	passes   passes
}

// New makes a source. now is the clock.
func New(settings catalog.MirrorSettings, agent string, observer Observer, now func() time.Time) (*Source, error) {
	s := &Source{settings: settings, agent: agent, observer: observer, now: now,
		places: make(chan struct{}, max(settings.Parallel, 1)), breakers: make([]breaker, len(settings.Upstreams)),
		resting: make([]resting, len(settings.Upstreams))}
	dialer := &net.Dialer{Timeout: settings.Connect, KeepAlive: 30 * time.Second, ControlContext: control}
	s.http = &http.Transport{DialContext: dialer.DialContext, TLSHandshakeTimeout: settings.Connect,
		ForceAttemptHTTP2:     true,
		ResponseHeaderTimeout: settings.FirstByte, MaxIdleConnsPerHost: settings.Parallel, IdleConnTimeout: 90 * time.Second}
	if settings.Proxy != "" {
		proxy, err := url.Parse(settings.Proxy)
		if err != nil {
			return nil, err
		}
		s.http.Proxy, s.proxy = http.ProxyURL(proxy), proxy.Host
	}
	s.through = traces.Transport(s.http)
	return s, nil
}

// Close ends idle connections; requests under way go on.
func (s *Source) Close() { s.http.CloseIdleConnections() }

// Request asks for a path below the upstreams' addresses.
type Request struct {
	Path string // without escapes
	// Query is what follows Path after a question mark, as it stands in an address.
	Query string
	// Address is where else it is, by the upstream's own word, instead of Path.
	// The upstream's credentials stay with its own host.
	Address string
	// Accept is the Accept header; "" is none.
	Accept string
	// Document: it may be compressed on its way.
	Document bool
	// Head: only what it is is asked for, and not its bytes.
	Head bool
	// At limits it to the upstream with that address; "" asks them in order.
	At string
	// Question is sent along, as JSON, by POST; nil asks by GET.
	Question []byte
	// ETag and LastModified make it conditional at the upstream From.
	ETag, LastModified, From string
}

// Response is an upstream's answer.
type Response struct {
	Upstream           string
	Address            string // where it was found in the end
	NotModified        bool
	Length             int64 // -1 if it is not known
	ContentType        string
	ETag, LastModified string
	// Digest is what the upstream says that the content is by, as Docker-Content-Digest
	// does.
	Digest string
	Header http.Header
	// Next is where the next page of a list is (RFC 8288, rel="next"); "" if this is all.
	Next string
	// Body fails with a *Failure if the bytes are cut, silent or too many. It
	// must be closed.
	Body io.ReadCloser
}

// Get asks the upstreams in their order, the next one only if those before
// failed. The error is ErrAbsent, a *Failure of the first of them, or that of
// the context.
func (s *Source) Get(ctx context.Context, r Request) (*Response, error) {
	var first error
	for i, u := range s.settings.Upstreams {
		if r.At != "" && r.At != u.URL {
			continue
		}
		response, err := s.ask(ctx, i, r)
		if err == nil || errors.Is(err, ErrAbsent) || ctx.Err() != nil {
			return response, err
		}
		if first == nil {
			first = err
		}
	}
	if first == nil {
		first = &Failure{Upstream: r.At, What: "is no upstream of this mirror any more"}
	}
	return nil, first
}

// ask makes a request to one upstream.
func (s *Source) ask(ctx context.Context, i int, r Request) (*Response, error) {
	u, b := s.settings.Upstreams[i], &s.breakers[i]
	// What is asked for with HEAD, no upstream counts that says how much it allows.
	if until, rests := s.resting[i].rests(s.now()); rests && !r.Head {
		return nil, &Failure{Upstream: u.URL, What: "lets us ask nothing more until " + until.UTC().Format(time.RFC3339),
			RetryAt: until}
	}
	p, last, retry, trying, ok := b.enter(s.now())
	if trying != nil {
		// Its outcome is ours too, if it does not take long.
		timer := time.NewTimer(min(trialPatience, s.settings.FirstByte))
		defer timer.Stop()
		select {
		case <-trying:
			p, last, retry, _, ok = b.enter(s.now())
		case <-timer.C:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	if !ok {
		return nil, &Failure{Upstream: u.URL, What: last, RetryAt: retry}
	}
	waiting := time.NewTimer(s.settings.FirstByte)
	defer waiting.Stop()
	select {
	case s.places <- struct{}{}:
	case <-waiting.C:
		b.leave(p)
		return nil, &Failure{Upstream: u.URL, What: fmt.Sprintf("has %d requests of ours under way, which is the limit",
			cap(s.places))}
	case <-ctx.Done():
		b.leave(p)
		return nil, ctx.Err()
	}
	// The context ends with the body, or when the upstream falls silent.
	asking, cancel := context.WithCancelCause(ctx)
	body := &body{source: s, breaker: b, pass: p, upstream: u.URL, cancel: cancel, left: s.settings.Largest}
	response, err := s.roundTrip(asking, u, r)
	if err != nil {
		body.release()
		return nil, s.judge(ctx, b, p, u.URL, err)
	}
	body.from, body.want = response.Body, response.ContentLength
	if a, ok := allowanceIn(response.Header, s.now()); ok {
		s.resting[i].said(a)
		s.observer.Allowed(u.URL, a)
	}
	if response.Uncompressed || r.Head {
		body.want = -1
	}
	out := &Response{Upstream: u.URL, Address: response.Request.URL.String(), Length: body.want,
		ContentType: response.Header.Get("Content-Type"),
		Digest:      response.Header.Get("Docker-Content-Digest"),
		Header:      response.Header,
		Next:        nextPage(response),
		ETag:        response.Header.Get("ETag"), LastModified: response.Header.Get("Last-Modified"), Body: body}
	switch response.StatusCode {
	case http.StatusOK:
		if encoding := response.Header.Get("Content-Encoding"); encoding != "" && encoding != "identity" {
			return nil, body.refuse("sent it encoded as %s, which was not asked for", encoding)
		}
		if body.want > s.settings.Largest {
			return nil, body.refuse("wants to send %d bytes; this mirror takes files up to %d", body.want, s.settings.Largest)
		}
		body.guard(asking)
		b.answered(p)
		return out, nil
	case http.StatusNotModified:
		if r.From == u.URL {
			out.NotModified = true
			return out, body.Close()
		}
	case http.StatusNotFound, http.StatusGone:
		body.good = true
		return nil, errors.Join(ErrAbsent, body.Close())
	}
	return nil, s.status(body, response)
}

var nextForm = regexp.MustCompile(`<([^<>]*)>[^<>,]*;\s*rel="?next"?`)

// nextPage is where an answer says that its next page is.
func nextPage(r *http.Response) string {
	for _, link := range r.Header.Values("Link") {
		if m := nextForm.FindStringSubmatch(link); m != nil {
			if at, err := r.Request.URL.Parse(m[1]); err == nil {
				return at.String()
			}
		}
	}
	return ""
}

// status makes a failure of an answer that is of no use.
func (s *Source) status(b *body, r *http.Response) error {
	now := s.now()
	f := &Failure{Upstream: b.upstream, What: "answered " + strings.TrimSpace(r.Status), Status: r.StatusCode}
	var asked time.Duration
	if r.StatusCode == http.StatusTooManyRequests || r.StatusCode == http.StatusServiceUnavailable {
		asked = retryAfter(r.Header.Get("Retry-After"), now)
		if asked == 0 && r.StatusCode == http.StatusTooManyRequests {
			asked = 10 * time.Second
		}
	}
	switch {
	case r.StatusCode == http.StatusUnauthorized || r.StatusCode == http.StatusForbidden:
		f.What += "; does it want other credentials?"
	case asked > 0:
		f.What += fmt.Sprintf(" and asked to be left alone for %s", asked.Round(time.Second))
	}
	b.release()
	if r.StatusCode >= 500 || asked > 0 {
		b.breaker.failed(b.pass, now, f.What, false, asked)
		_, f.RetryAt = b.breaker.state()
	} else {
		b.breaker.succeeded(b.pass) // it can be reached
	}
	b.settled = true
	since, _ := b.breaker.state()
	if r.StatusCode == http.StatusUnauthorized {
		since = now // it answers, but is of no use to us
	}
	s.observer.Failed(f, now, since)
	return f
}

func retryAfter(header string, now time.Time) time.Duration {
	if seconds, err := strconv.Atoi(strings.TrimSpace(header)); err == nil && seconds > 0 {
		return time.Duration(seconds) * time.Second
	}
	if at, err := http.ParseTime(header); err == nil && at.After(now) {
		return at.Sub(now)
	}
	return 0
}

const maxRedirects = 5

// roundTrip follows redirects itself, since each step has its own conditions.
func (s *Source) roundTrip(ctx context.Context, u catalog.Upstream, r Request) (*http.Response, error) {
	start, err := url.Parse(u.URL)
	if err != nil {
		return nil, err
	}
	at := start.JoinPath(strings.Split(r.Path, "/")...)
	if strings.HasSuffix(r.Path, "/") {
		at = at.JoinPath("/")
	}
	if r.Query != "" {
		at.RawQuery = r.Query
	}
	if r.Address != "" {
		if at, err = url.Parse(r.Address); err != nil || start.Scheme == "https" && at.Scheme != "https" || at.Host == "" {
			return nil, refused{"names an address that is of no use: " + r.Address}
		}
	}
	var lifted lift
	if u.Private {
		lifted = liftFor(ctx, start)
	}
	direct := s.direct(lifted)
	if r.Address != "" {
		if s.settings.Proxy != "" && lifted.leadsAstray(ctx, at) {
			return nil, refused{"names " + at.Host + ", a private address"}
		}
	}
	origin := at
	begun := time.Now()
	key, asked := passKey(u, r.Path), false
	for range maxRedirects {
		request, err := s.request(lifting(ctx, direct), u, r, start, at)
		if err != nil {
			return nil, err
		}
		if pass := s.passes.get(key, s.now()); pass != "" && at.Host == start.Host && at.Scheme == start.Scheme {
			request.Header.Set("Authorization", "Bearer "+pass)
		}
		response, err := s.through.RoundTrip(request)
		if forbid := (forbidden{}); errors.As(err, &forbid) {
			if at.Host == start.Host {
				return nil, refused{fmt.Sprintf("leads to %s, a private address, which it did not when the mirror was set up",
					forbid.address)}
			}
			if at == origin {
				return nil, refused{fmt.Sprintf("names %s, a private address", at.Host)}
			}
			return nil, refused{fmt.Sprintf("redirected to %s, a private address", at.Host)}
		}
		if err != nil {
			return nil, err
		}
		location := response.Header.Get("Location")
		if !asked && at.Host == start.Host {
			if asked, err = s.passFor(ctx, start, lifted, key, response); err != nil {
				return nil, err
			}
			if asked {
				continue
			}
		}
		if response.StatusCode < 300 || response.StatusCode > 399 || response.StatusCode == http.StatusNotModified ||
			location == "" {
			s.observer.Answered(u.URL, s.now(), time.Since(begun))
			response.Request = request
			return response, nil
		}
		// What a redirect says besides is of no interest, and may be long.
		if err := response.Body.Close(); err != nil {
			return nil, err
		}
		if at, err = s.redirected(ctx, origin, at, location, lifted); err != nil {
			return nil, err
		}
	}
	return nil, refused{fmt.Sprintf("redirected more than %d times", maxRedirects)}
}

// redirected is where an answer redirects to, if that may be.
func (s *Source) redirected(
	ctx context.Context, origin, at *url.URL, location string, lifted lift,
) (*url.URL, error) {
	to, err := at.Parse(location)
	if err != nil {
		return nil, refused{"redirected to an address that cannot be read"}
	}
	if err := mayRedirect(origin, to, s.settings.RedirectTo); err != nil {
		return nil, refused{err.Error()}
	}
	if s.settings.Proxy != "" && lifted.leadsAstray(ctx, to) {
		return nil, refused{"redirected to " + to.Host + ", a private address"}
	}
	return to, nil
}

// direct is where connections may lead: a proxy would resolve the name, and go where we
// would not.
func (s *Source) direct(lifted lift) lift {
	if s.settings.Proxy != "" {
		return lift{any: true}
	}
	return lifted
}

// request is one to an address that an upstream led to, with its credentials where that is
// on the same host.
func (s *Source) request(
	ctx context.Context, u catalog.Upstream, r Request, start, at *url.URL,
) (*http.Request, error) {
	method := http.MethodGet
	if r.Head {
		method = http.MethodHead
	}
	var question io.Reader
	if r.Question != nil {
		method, question = http.MethodPost, bytes.NewReader(r.Question)
	}
	request, err := http.NewRequestWithContext(ctx, method, at.String(), question)
	if err != nil {
		return nil, err
	}
	if r.Question != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	request.Header.Set("User-Agent", s.agent)
	if !r.Document {
		request.Header.Set("Accept-Encoding", "identity")
	}
	if r.Accept != "" {
		request.Header.Set("Accept", r.Accept)
	}
	if strings.EqualFold(at.Host, start.Host) && at.Scheme == start.Scheme {
		s.signIn(request)
	}
	if r.From == u.URL {
		if r.ETag != "" {
			request.Header.Set("If-None-Match", r.ETag)
		}
		if r.LastModified != "" {
			request.Header.Set("If-Modified-Since", r.LastModified)
		}
	}
	return request, nil
}

func (s *Source) signIn(r *http.Request) {
	switch {
	case s.settings.User != "":
		r.SetBasicAuth(s.settings.User, s.settings.Secret)
	case s.settings.Secret != "":
		r.Header.Set("Authorization", "Bearer "+s.settings.Secret)
	}
}

// refused is an answer that we do not follow.
type refused struct{ what string }

func (r refused) Error() string { return r.what }

// judge makes a failure of an error on the way to an upstream's answer.
func (s *Source) judge(ctx context.Context, b *breaker, p pass, address string, err error) error {
	if ctx.Err() != nil {
		b.leave(p)
		return ctx.Err()
	}
	now := s.now()
	f := &Failure{Upstream: address, Cause: err}
	var no refused
	var network net.Error
	var dial *net.OpError
	switch {
	case errors.As(err, &no):
		f.What = no.what
	case errors.As(err, &dial) && s.isProxy(dial):
		f.What = "could not be asked: the proxy " + s.proxy + " cannot be reached: " + last(err).Error()
	case errors.As(err, &dial) && dial.Op == "dial" && dial.Timeout():
		f.What = fmt.Sprintf("could not be reached within %s", s.settings.Connect)
	case errors.As(err, &network) && network.Timeout():
		f.What = fmt.Sprintf("did not answer within %s", s.settings.FirstByte)
	default:
		f.What = InWords(err)
	}
	if no.what != "" {
		b.succeeded(p) // it can be reached; this one answer is of no use
	} else {
		b.failed(p, now, f.What, true, 0)
	}
	since, retry := b.state()
	f.RetryAt = retry
	s.observer.Failed(f, now, since)
	return f
}

// InWords says what is wrong with another server that could not be asked, after its name, without addresses.
func InWords(err error) string {
	var dns *net.DNSError
	var network net.Error
	switch {
	case errors.As(err, &dns):
		return "cannot be found: there is no address for " + dns.Name
	case errors.Is(err, syscall.ECONNREFUSED):
		return "refused the connection"
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return "closed the connection before it answered"
	case errors.As(err, &network) && network.Timeout():
		return "did not answer in time"
	}
	return "could not be asked: " + last(err).Error()
}

// isProxy tells whether what could not be reached is the proxy, and not the upstream
// behind it.
func (s *Source) isProxy(dial *net.OpError) bool {
	return s.proxy != "" && (dial.Op == "proxyconnect" || dial.Op == "dial")
}

// last is the innermost error, whose text names no addresses.
func last(err error) error {
	for {
		inner := errors.Unwrap(err)
		if inner == nil {
			return err
		}
		err = inner
	}
}

// trialPatience is how long others wait for the one request that tries an
// upstream again.
const trialPatience = 2 * time.Second

const (
	// leastRate is how slowly an upstream may send, in bytes per second of waiting
	// for it: one that is slower keeps a place from others and is not worth it.
	leastRate = 1 << 10
	// ratedAfter is for how long at least it is waited before the rate counts.
	ratedAfter = 20 * time.Second
)

// errSilent ends a request whose upstream has fallen silent.
var errSilent = errors.New("silent")

// Wrong notes that what an upstream sent is not what it should be, and gives
// the failure.
func (s *Source) Wrong(upstream, format string, args ...any) *Failure {
	f := &Failure{Upstream: upstream, What: fmt.Sprintf(format, args...)}
	s.observer.Failed(f, s.now(), time.Time{})
	return f
}

// Retry tells since when an upstream fails, and when it is tried again; zero
// times if it does not fail.
func (s *Source) Retry(upstream string) (since, retry time.Time) {
	for i, u := range s.settings.Upstreams {
		if u.URL == upstream {
			return s.breakers[i].state()
		}
	}
	return time.Time{}, time.Time{}
}

// Failing tells whether every upstream is being left alone at the moment.
func (s *Source) Failing() bool {
	now := s.now()
	for i := range s.breakers {
		if _, retry := s.breakers[i].state(); !now.Before(retry) {
			return false
		}
	}
	return true
}
