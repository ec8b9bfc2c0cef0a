package upstream

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"path"
	"slices"
	"strconv"
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
	return slices.ContainsFunc(resolve(ctx, u.Hostname()), IsPrivate)
}

// forbidden is the refusal to connect to a private address.
type forbidden struct{ address string }

func (f forbidden) Error() string { return f.address + " is a private address" }

// lift is what an upstream that is in a private network lifts of the guard: the
// network that it is in. Loopback and link-local addresses are lifted only where it
// is there itself, and then that very address and port.
type lift struct {
	networks []netip.Prefix
	exactly  []netip.AddrPort
	any      bool // the connection goes to a proxy that an admin named
}

func (l lift) allows(a netip.Addr, port uint16) bool {
	a = a.Unmap()
	if l.any {
		return true
	}
	if slices.Contains(l.exactly, netip.AddrPortFrom(a, port)) {
		return true
	}
	return !a.IsLoopback() && !a.IsLinkLocalUnicast() && slices.ContainsFunc(l.networks, func(p netip.Prefix) bool {
		return p.Contains(a)
	})
}

// networks are the private networks as they are assigned (RFC 1918, 4193, 6598).
var networks = []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("172.16.0.0/12"),
	netip.MustParsePrefix("192.168.0.0/16"),
	netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("198.18.0.0/15")}

// liftFor is what an upstream at an address lifts.
func liftFor(ctx context.Context, u *url.URL) (l lift) {
	port := portOf(u)
	for _, a := range resolve(ctx, u.Hostname()) {
		a = a.Unmap()
		switch {
		case !IsPrivate(a):
		case a.Is6() && a.IsPrivate():
			if p, err := a.Prefix(48); err == nil {
				l.networks = append(l.networks, p)
			}
		default:
			l.exactly = append(l.exactly, netip.AddrPortFrom(a, port))
			for _, p := range networks {
				if p.Contains(a) {
					l.networks = append(l.networks, p)
				}
			}
		}
	}
	return l
}

func portOf(u *url.URL) uint16 {
	if port, err := strconv.ParseUint(u.Port(), 10, 16); err == nil {
		return uint16(port)
	}
	switch u.Scheme {
	case "https":
		return 443
	case "sftp":
		return 22
	}
	return 80
}

// resolve gives the addresses of a host; none if it has none.
func resolve(ctx context.Context, host string) []netip.Addr {
	if a, err := netip.ParseAddr(host); err == nil {
		return []netip.Addr{a}
	}
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil {
		return nil
	}
	return found
}

type liftKey struct{}

// lifting marks requests that may go to some private addresses.
func lifting(ctx context.Context, l lift) context.Context {
	return context.WithValue(ctx, liftKey{}, l)
}

// leadsAstray tells whether a proxy would be asked to go to a private address that
// is not lifted.
func (l lift) leadsAstray(ctx context.Context, u *url.URL) bool {
	return slices.ContainsFunc(resolve(ctx, u.Hostname()), func(a netip.Addr) bool {
		return IsPrivate(a) && !l.allows(a, portOf(u))
	})
}

// control looks at the address that a connection is about to be made to, after
// all names were resolved, so that no name can lead past it.
func control(ctx context.Context, _, address string, _ syscall.RawConn) error {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return forbidden{address: address}
	}
	l, _ := ctx.Value(liftKey{}).(lift)
	if IsPrivate(at.Addr()) && !l.allows(at.Addr(), at.Port()) {
		return forbidden{address: at.Addr().String()}
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
