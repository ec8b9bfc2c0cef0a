package upstream

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"path"
	"strings"
	"syscall"
	"time"
)

// private are address ranges that are not private by netip's own account, but
// lead to this machine, its neighbours or nowhere (RFC 6890).
var private = []netip.Prefix{
	netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("192.0.0.0/24"),
	netip.MustParsePrefix("198.18.0.0/15"), netip.MustParsePrefix("240.0.0.0/4"), netip.MustParsePrefix("64:ff9b::/96"),
	netip.MustParsePrefix("64:ff9b:1::/48"), netip.MustParsePrefix("2002::/16"), netip.MustParsePrefix("fec0::/10"),
}

// IsPrivate tells whether an address does not belong to the public internet:
// loopback, link-local, private and shared networks, and what embeds one.
func IsPrivate(a netip.Addr) bool {
	a = a.Unmap()
	if !a.IsValid() || a.IsLoopback() || a.IsPrivate() || a.IsLinkLocalUnicast() || a.IsMulticast() || a.IsUnspecified() {
		return true
	}
	for _, p := range private {
		if p.Contains(a) {
			return true
		}
	}
	return false
}

// LeadsToPrivate tells whether the host of an address is, or resolves to, a
// private address; a host that cannot be resolved does not.
func LeadsToPrivate(ctx context.Context, address string) bool {
	u, err := url.Parse(address)
	if err != nil {
		return false
	}
	if a, err := netip.ParseAddr(u.Hostname()); err == nil {
		return IsPrivate(a)
	}
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", u.Hostname())
	if err != nil {
		return false
	}
	for _, a := range found {
		if IsPrivate(a) {
			return true
		}
	}
	return false
}

// forbidden is the refusal to connect to a private address.
type forbidden struct{ address string }

func (f forbidden) Error() string { return f.address + " is a private address" }

type privateKey struct{}

// mayBePrivate marks requests that may go to a private address.
func mayBePrivate(ctx context.Context, may bool) context.Context {
	return context.WithValue(ctx, privateKey{}, may)
}

// control looks at the address that a connection is about to be made to, after
// all names were resolved, so that no name can lead past it.
func control(ctx context.Context, _, address string, _ syscall.RawConn) error {
	if may, _ := ctx.Value(privateKey{}).(bool); may {
		return nil
	}
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return err
	}
	a, err := netip.ParseAddr(host)
	if err != nil || IsPrivate(a) {
		return forbidden{address: host}
	}
	return nil
}

// mayRedirect tells whether an upstream at from may redirect to another
// address: on its own host, or on one that is allowed.
func mayRedirect(from, to *url.URL, allowed []string) error {
	if to.Scheme != "http" && to.Scheme != "https" {
		return fmt.Errorf("redirected to %s, which is no web address", to.Redacted())
	}
	if from.Scheme == "https" && to.Scheme == "http" {
		return fmt.Errorf("redirected from https to http, at %s", to.Host)
	}
	if strings.EqualFold(from.Host, to.Host) {
		return nil
	}
	for _, pattern := range allowed {
		if ok, err := path.Match(strings.ToLower(pattern), strings.ToLower(to.Hostname())); err == nil && ok {
			return nil
		}
		if strings.EqualFold(pattern, to.Host) {
			return nil
		}
	}
	return fmt.Errorf("redirected to %s, which is not among the hosts that the mirror allows", to.Host)
}
