package demo

import (
	"context"
	"net/http"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem/madeup"
	"crelvo/internal/service"
	"crelvo/internal/service/repositories"
)

// Others are the servers that the demo has to do with, besides its own.
type Others struct {
	Shore string // the stand-in for the public sources
	Far   string // the Crelvo of the far site; nowhere if there is none
}

// Nowhere is an address where nothing listens.
const Nowhere = "http://127.0.0.1:9/"

// received is the repository of the far site that takes what the island sends.
const received = "from-the-island"

// SeedFar makes what the far site has: a repository for what the island sends, a version of its own that the
// island has with other bytes, and a mirror that follows the releases of the island, which answer at home.
func SeedFar(ctx context.Context, s *service.Service, address, home string) error {
	admin, err := s.Rights.CallerNamed(ctx, "admin")
	if err != nil {
		return err
	}
	upstream := home + "at/releases/npm/"
	if len(s.Directory.Repositories()) > 0 {
		_, err := s.Repositories.EditRepository(ctx, admin, "island-npm",
			repositories.SettingsChange{Mirror: func(m *catalog.MirrorSettings) {
				m.Upstreams, m.Secret = []catalog.Upstream{{URL: upstream}}, Token
			}})
		return err
	}
	c := &client.Client{Server: address, Token: Token, Agent: "crelvo-demo"}
	text := func(s string) *string { return &s }
	follow := true
	for _, r := range []api.NewRepository{
		{Name: received, Holds: "releases", Description: "what the island sends by its relays"},
		{Name: "island-npm", Kind: "mirror", Ecosystem: "npm", Holds: "both", Description: "the island's own, followed",
			Mirror: &api.MirrorChange{Upstreams: &[]string{upstream}, Secret: text(Token),
				Prefetch: &api.PrefetchChange{Patterns: &[]string{"pkg:npm/@skerry/*"}, Follow: &follow}}}} {
		if _, err := c.AddRepository(ctx, r); err != nil {
			return err
		}
	}
	theirs := madeup.Package{Name: "tidecast", Version: "0.6.0", Licence: "MIT", Description: "Built on the mainland"}
	body, contentType := UploadForm(theirs, theirs.WheelName(), theirs.Wheel())
	y := &yard{address: address, tokens: map[string]string{"admin": Token}, web: &http.Client{Timeout: time.Minute}}
	return y.askWith(ctx, http.MethodPost, "admin", "/at/"+received+"/pypi/", body, contentType)
}

// farTargets are the targets at the far site, with their ecosystems.
var farTargets = map[string]string{"mainland": "npm", "mainland-pypi": "pypi"}

func farTarget(name, ecosystem, far string) api.NewTarget {
	return api.NewTarget{Name: name, Ecosystem: ecosystem, URL: far + "at/" + received + "/" + ecosystem + "/",
		Secret: Token}
}
