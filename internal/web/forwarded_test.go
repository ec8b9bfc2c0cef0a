package web

import (
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
)

// TestForwarded: what a trusted proxy says of a client counts, of anybody else nothing does.
func TestForwarded(t *testing.T) {
	w := &Server{settings: Settings{TrustedProxies: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")}}}
	from := addresses(w.settings.TrustedProxies)
	for _, c := range []struct{ peer, headers, address, client string }{
		{"10.0.0.1:5", "", "http://crelvo:8700", "10.0.0.1"},
		{"10.0.0.1:5", "X-Forwarded-Proto: https|X-Forwarded-Host: packages.skerry.example|X-Forwarded-For: 192.0.2.7",
			"https://packages.skerry.example", "192.0.2.7"},
		{"10.0.0.1:5", "X-Forwarded-Host: evil.example, packages.skerry.example:8443", "http://packages.skerry.example:8443",
			"10.0.0.1"},
		{"10.0.0.1:5", `Forwarded: for=192.0.2.60;proto=http;host=inner, for="[2001:db8::1]:4711";Proto=https;` +
			`host="packages.skerry.example"`, "https://packages.skerry.example", "2001:db8::1"},
		{"10.0.0.1:5", `Forwarded: host="a,b;c"|X-Forwarded-Proto: https`, "https://crelvo:8700", "10.0.0.1"},
		{"10.0.0.1:5", "Forwarded: for=10.9.9.9;host=evil.example;proto=https|X-Forwarded-For: 192.0.2.7",
			"http://crelvo:8700", "192.0.2.7"},
		{"10.0.0.1:5", "X-Forwarded-Host: packages.skerry.example/../x", "http://crelvo:8700", "10.0.0.1"},
		{"10.0.0.1:5", `Forwarded: for="unclosed`, "http://crelvo:8700", "10.0.0.1"},
		{"192.0.2.9:5", "X-Forwarded-Proto: https|X-Forwarded-Host: evil.example|X-Forwarded-For: 10.0.0.1|" +
			"Forwarded: host=evil.example", "http://crelvo:8700", "192.0.2.9"},
	} {
		r := httptest.NewRequest(http.MethodGet, "/", nil)
		r.Host, r.RemoteAddr = "crelvo:8700", c.peer
		for _, h := range strings.Split(c.headers, "|") {
			if name, value, ok := strings.Cut(h, ": "); ok {
				r.Header.Set(name, value)
			}
		}
		w.forwarded(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
			if got := w.address(r); got != c.address {
				t.Errorf("%s %s: the address is %s, want %s", c.peer, c.headers, got, c.address)
			}
			if got := from(r); got != c.client {
				t.Errorf("%s %s: it comes from %s, want %s", c.peer, c.headers, got, c.client)
			}
		})).ServeHTTP(httptest.NewRecorder(), r)
	}
}
