package repositories

import (
	"net/url"
	"slices"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/service/act"
)

// mayLead checks where the new settings of a mirror lead to. Who looks after one
// mirror neither gets its secret by sending it elsewhere nor looks around in the
// network of the server: a new host drops the secret unless it is given again, and
// private addresses, proxies and hosts to be redirected to are the server admin's.
func (s *Repositories) mayLead(caller access.Caller, before, after *catalog.MirrorSettings) error {
	if slices.ContainsFunc(after.Upstreams, func(u catalog.Upstream) bool {
		return !KnownHost(before, u.URL)
	}) && after.Secret == before.Secret {
		after.Secret = ""
	}
	if s.directory.Allow(caller, access.Manage, act.Everything) == nil {
		return nil
	}
	what := ""
	switch {
	case slices.ContainsFunc(after.Upstreams, func(u catalog.Upstream) bool {
		return u.Private && !KnownHost(before, u.URL)
	}):
		what = "name an upstream at a private address"
	case after.Proxy != before.Proxy:
		what = "change the proxy of a mirror"
	case !slices.Equal(after.RedirectTo, before.RedirectTo):
		what = "change the hosts that a mirror may be redirected to"
	default:
		return nil
	}
	return fault.New(fault.Denied, "server-admin-only", "only an admin of the whole server can %s", what).
		WithHint("%s.", s.directory.WhoGrants(act.Everything))
}

// KnownHost tells whether some upstream is on the host of an address, by the same
// scheme.
func KnownHost(m *catalog.MirrorSettings, address string) bool {
	at, err := url.Parse(address)
	return err == nil && slices.ContainsFunc(m.Upstreams, func(u catalog.Upstream) bool {
		known, err := url.Parse(u.URL)
		return err == nil && known.Host == at.Host && known.Scheme == at.Scheme
	})
}
