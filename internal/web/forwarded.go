package web

import (
	"net/http"
	"net/netip"
	"regexp"
	"slices"
	"strings"
)

// trusted tells whether a trusted proxy is at the other end of a request.
func (w *Server) trusted(r *http.Request) bool {
	if len(w.settings.TrustedProxies) == 0 {
		return false
	}
	peer, err := netip.ParseAddrPort(r.RemoteAddr)
	return err == nil && slices.ContainsFunc(w.settings.TrustedProxies, func(p netip.Prefix) bool {
		return p.Contains(peer.Addr().Unmap())
	})
}

// forwardedHost is the form of the name of a host, perhaps with a port.
var forwardedHost = regexp.MustCompile(`^([A-Za-z0-9._-]{1,253}|\[[0-9a-fA-F:.]{2,45}\])(:[0-9]{1,5})?$`)

// forwarded lets what a trusted proxy says of how a client reached it stand for how it
// reached us: the host, whether it was over TLS, and where from; by X-Forwarded-Host, -Proto
// and -For or, where there is none of these, by Forwarded (RFC 7239): a proxy that knows the
// ones passes the other on as the client sent it. Of several proxies the last one is
// believed, which is the trusted one. Of anybody else nothing is.
func (w *Server) forwarded(next http.Handler) http.Handler {
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if !w.trusted(r) {
			next.ServeHTTP(rw, r)
			return
		}
		older := slices.ContainsFunc([]string{"X-Forwarded-For", "X-Forwarded-Proto", "X-Forwarded-Host"},
			func(name string) bool { return r.Header.Get(name) != "" })
		if elements := forwardedElements(r.Header.Values("Forwarded")); len(elements) > 0 && !older {
			last := elements[len(elements)-1]
			for name, header := range map[string]string{"proto": "X-Forwarded-Proto", "host": "X-Forwarded-Host"} {
				if last[name] != "" {
					r.Header.Set(header, last[name])
				}
			}
			var from []string
			for _, e := range elements {
				if e["for"] != "" {
					from = append(from, withoutPort(e["for"]))
				}
			}
			if from != nil {
				r.Header.Set("X-Forwarded-For", strings.Join(from, ", "))
			}
		}
		if host := lastOf(r.Header.Values("X-Forwarded-Host")); forwardedHost.MatchString(host) {
			r.Host = host
		}
		next.ServeHTTP(rw, r)
	})
}

// lastOf is the last entry of a list in headers.
func lastOf(values []string) string {
	all := strings.Split(strings.Join(values, ","), ",")
	return strings.TrimSpace(all[len(all)-1])
}

// forwardedElements are the pairs of each proxy (RFC 7239, 4), by names in small letters.
// What is no pair is left out.
func forwardedElements(values []string) (all []map[string]string) {
	for _, element := range splitUnquoted(strings.Join(values, ","), ',') {
		pairs := map[string]string{}
		for _, pair := range splitUnquoted(element, ';') {
			if name, value, ok := strings.Cut(strings.TrimSpace(pair), "="); ok {
				if unquoted, ok := strings.CutPrefix(value, `"`); ok {
					value = strings.ReplaceAll(strings.TrimSuffix(unquoted, `"`), `\`, "")
				}
				pairs[strings.ToLower(strings.TrimSpace(name))] = value
			}
		}
		if len(pairs) > 0 {
			all = append(all, pairs)
		}
	}
	return all
}

// splitUnquoted splits a text where a mark is not within quotes.
func splitUnquoted(text string, mark byte) (parts []string) {
	quoted, begin := false, 0
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '\\' && quoted:
			i++
		case text[i] == '"':
			quoted = !quoted
		case text[i] == mark && !quoted:
			parts, begin = append(parts, text[begin:i]), i+1
		}
	}
	return append(parts, text[begin:])
}

// withoutPort is an address as X-Forwarded-For has it: [2001:db8::1]:4711 is 2001:db8::1.
func withoutPort(node string) string {
	if at, err := netip.ParseAddrPort(node); err == nil {
		return at.Addr().String()
	}
	return strings.Trim(node, "[]")
}
