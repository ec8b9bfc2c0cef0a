package upstream

import (
	"context"
	"net"
	"net/http"
	"time"
)

// Plain makes requests that are no mirror's: nothing is followed, and they may go
// to a private address only if private says so. Time limits are the context's.
func Plain(private bool) *http.Client {
	dialer := &net.Dialer{Timeout: 10 * time.Second, ControlContext: control}
	transport := &http.Transport{ForceAttemptHTTP2: true, TLSHandshakeTimeout: 10 * time.Second, ResponseHeaderTimeout: 2 * time.Minute,
		DisableKeepAlives: true, DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			return dialer.DialContext(mayBePrivate(ctx, private), network, address)
		}}
	return &http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}
