package web

import "testing"

// TestNotOwnHost: no repository gets the host under which the server itself is known.
func TestNotOwnHost(t *testing.T) {
	for _, c := range []struct {
		address string
		hosts   []string
		ok      bool
	}{{"https://packages.skerry.example", []string{"images.skerry.example"}, true},
		{"https://packages.skerry.example:8443", []string{"images.skerry.example", " Packages.skerry.example"}, false},
		{"https://packages.skerry.example", nil, true}} {
		if err := notOwnHost(visit{address: c.address}, c.hosts); (err == nil) != c.ok {
			t.Errorf("%q at %s: %v", c.hosts, c.address, err)
		}
	}
}
