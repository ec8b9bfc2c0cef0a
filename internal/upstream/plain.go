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
	dialer := &net.Dialer{Timeout: 10 * time.Second, ControlContext: control}
	transport := &http.Transport{ForceAttemptHTTP2: true, TLSHandshakeTimeout: 10 * time.Second,
		ResponseHeaderTimeout: 2 * time.Minute,
		DisableKeepAlives:     true, DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			var lifted lift
			if u, err := url.Parse(server); err == nil && private {
				lifted = liftFor(ctx, u)
			}
			return dialer.DialContext(lifting(ctx, lifted), network, address)
		}}
	return &http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error {
		return http.ErrUseLastResponse
	}}
}
