package kinds

import (
	"strings"
	"sync"
)

// agents are how clients begin their User-Agent, with what they are called: those of the
// ecosystems, and others that fetch packages.
var agents = sync.OnceValue(func() (all [][2]string) {
	for _, e := range All() {
		for _, client := range e.Clients() {
			for _, agent := range client.Agents {
				all = append(all, [2]string{agent, client.Name})
			}
		}
	}
	return append(all, [][2]string{{"Coursier", "coursier"}, {"Bun/", "bun"}, {"pdm", "pdm"}, {"crelvo", "crelvo"},
		{"curl", "curl"}, {"Wget", "wget"}, {"Mozilla", "browser"}, {"Java/", "java"}, {"Go-http-client", "go"}}...)
})

// ClientName is what a client is called that sends such a User-Agent: one of a few
// names, since downloads are counted by it.
func ClientName(userAgent string) string {
	for _, a := range agents() {
		if n := len(a[0]); len(userAgent) >= n && strings.EqualFold(userAgent[:n], a[0]) {
			return a[1]
		}
	}
	return "other"
}
