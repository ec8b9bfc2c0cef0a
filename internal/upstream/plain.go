package upstream

import (
	"context"
	"net"
	"net/http"
	"net/url"
	"time"
)

// Plain makes requests to a server that is no mirror's: nothing is followed. They
// may go to private addresses only if private says so, and then only where an
// upstream at that address could lead. Time limits are the context's.
func Plain(server string, private bool) *http.Client {
	through := Transport(server, private)
	through.DisableKeepAlives = true
	return Unled(through)
}

// Unled is a client that follows nothing.
func Unled(through http.RoundTripper) *http.Client {
	return &http.Client{Transport: through, CheckRedirect: func(*http.Request, []*http.Request) error {
		return http.ErrUseLastResponse
	}}
}

// Transport is what Plain's requests go through; it keeps connections, and its owner closes them.
func Transport(server string, private bool) *http.Transport {
	dialer := &net.Dialer{Timeout: 10 * time.Second, ControlContext: control}
	return &http.Transport{ForceAttemptHTTP2: true, TLSHandshakeTimeout: 10 * time.Second,
		ResponseHeaderTimeout: 2 * time.Minute, IdleConnTimeout: time.Minute,
		DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			var lifted lift
			if u, err := url.Parse(server); err == nil && private {
				lifted = liftFor(ctx, u)
			}
			return dialer.DialContext(lifting(ctx, lifted), network, address)
		}}
}
