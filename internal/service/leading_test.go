package service

import (
	"errors"
	"io"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem/maven"
	"crelvo/internal/record/recordtest"
)

// TestMirrorSecretStays: who looks after one mirror does not get its secret by
// sending it elsewhere, nor looks around in the server's network.
func TestMirrorSecretStays(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	if _, err := n.AddRepository(t.Context(), n.admin, NewRepository{Repository: catalog.Repository{Name: "shore", Kind: catalog.Mirror, Holds: catalog.Both, Ecosystem: "maven",
		Mirror: &catalog.MirrorSettings{Upstreams: []catalog.Upstream{{URL: "https://maven.openshore.example/"}}, User: "crelvo", Secret: "sesame"}}}); err != nil {
		t.Fatal(err)
	}
	if err := n.AddPrincipal(t.Context(), n.admin, NewPrincipal{Name: "deckhand", Grants: []access.Grant{{Role: access.Admin, Repositories: "shore"}}}); err != nil {
		t.Fatal(err)
	}
	deckhand, err := n.CallerNamed(t.Context(), "deckhand")
	if err != nil {
		t.Fatal(err)
	}
	edit := func(by access.Caller, change func(m *catalog.MirrorSettings)) (catalog.Repository, error) {
		return n.EditRepository(t.Context(), by, "shore", RepositoryChange{Mirror: change})
	}
	for what, change := range map[string]func(m *catalog.MirrorSettings){
		"a private upstream": func(m *catalog.MirrorSettings) { m.Upstreams = []catalog.Upstream{{URL: "http://127.0.0.1:9/"}} },
		"a proxy":            func(m *catalog.MirrorSettings) { m.Proxy = "http://proxy.evil.example:3128" },
		"another redirect":   func(m *catalog.MirrorSettings) { m.RedirectTo = []string{"*.evil.example"} },
	} {
		if _, err := edit(deckhand, change); fault.Of(err).Code != "server-admin-only" {
			t.Errorf("%s: %v", what, err)
		}
	}
	if r, err := edit(deckhand, func(m *catalog.MirrorSettings) { m.Deny = []string{"pkg:maven/org.evil/*"} }); err != nil || r.Mirror.Secret != "sesame" {
		t.Errorf("another change: %+v, %v", r.Mirror, err)
	}
	if r, err := edit(deckhand, func(m *catalog.MirrorSettings) { m.Upstreams = []catalog.Upstream{{URL: "https://evil.example/"}} }); err != nil || r.Mirror.Secret != "" {
		t.Errorf("a new host keeps the secret: %v", err)
	}
	if r, err := edit(n.admin, func(m *catalog.MirrorSettings) {
		m.Upstreams, m.Secret = []catalog.Upstream{{URL: "https://other.openshore.example/"}}, "given again"
	}); err != nil || r.Mirror.Secret != "given again" {
		t.Errorf("given again: %v", err)
	}
}

// waiting gives its bytes once it may.
type waiting struct {
	io.Reader
	until chan struct{}
}

func (w *waiting) Read(p []byte) (int, error) { <-w.until; return w.Reader.Read(p) }

// TestRevokedMeanwhile: an upload that was begun with a right that was taken away
// meanwhile is not recorded.
func TestRevokedMeanwhile(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	r := n.repository(t)
	if err := n.AddPrincipal(t.Context(), n.admin, NewPrincipal{Name: "ci-berth", Robot: true, Grants: []access.Grant{{Role: access.Publisher, Repositories: "*"}}}); err != nil {
		t.Fatal(err)
	}
	secret, token, err := n.AddToken(t.Context(), n.admin, NewToken{For: "ci-berth", Name: "build", Length: time.Hour})
	if err != nil {
		t.Fatal(err)
	}
	caller, err := n.ByToken(t.Context(), secret, Origin{})
	if err != nil {
		t.Fatal(err)
	}
	place := (&deploying{version: "1.0"}).place("", "jar")
	goOn, failed := make(chan struct{}), make(chan error, 1)
	go func() {
		_, err := n.Receive(t.Context(), caller, r, maven.Maven{}, place, &waiting{strings.NewReader(jar(t, "x")), goOn}, -1)
		failed <- err
	}()
	if err := n.RevokeToken(t.Context(), n.admin, "ci-berth", token.Name); err != nil {
		t.Fatal(err)
	}
	close(goOn)
	if err := <-failed; fault.Of(err).Code != "token-revoked" {
		t.Errorf("an upload begun before its token was revoked: %v", err)
	}
}

// TestSecretsAreOfOneKind: a session's secret is no token, and the other way around;
// a good password is no refused token, and a robot no slower than anybody.
func TestSecretsAreOfOneKind(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	const password = "a-good-password-of-more-than-twenty-letters"
	if err := n.AddPrincipal(t.Context(), n.admin, NewPrincipal{Name: "purser", Password: password}); err != nil {
		t.Fatal(err)
	}
	session, _, err := n.SignIn(t.Context(), "purser", password, Origin{})
	if err != nil {
		t.Fatal(err)
	}
	if c, err := n.BySession(t.Context(), session, Origin{}); err != nil || c.Name != "purser" {
		t.Fatalf("%+v, %v", c, err)
	}
	if c, err := n.ByToken(t.Context(), session, Origin{}); err == nil {
		t.Errorf("a session is a token: %+v", c)
	}
	n.refusals.all = nil
	if c, err := n.BySecret(t.Context(), "purser", password, Origin{}); err != nil || c.Name != "purser" {
		t.Errorf("%+v, %v", c, err)
	}
	if len(n.refusals.all) > 0 {
		t.Errorf("a right password is on record as refused: %+v", n.refusals.all)
	}
	secret, _, err := n.AddToken(t.Context(), n.admin, NewToken{Name: "laptop"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := n.ByToken(t.Context(), secret, Origin{}); err != nil {
		t.Fatal(err)
	}
	if c, err := n.BySession(t.Context(), secret, Origin{}); err != nil || !c.Anonymous() {
		t.Errorf("a token is a session: %+v, %v", c, err)
	}
	// A password that somebody else gave is good for changing it alone.
	if err := n.AddPrincipal(t.Context(), n.admin, NewPrincipal{Name: "deckhand", Password: password, Given: true}); err != nil {
		t.Fatal(err)
	}
	given, err := n.BySecret(t.Context(), "deckhand", password, Origin{})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := n.AddToken(t.Context(), given, NewToken{Name: "long"}); fault.Of(err).Code != "change-password-first" {
		t.Errorf("a given password makes a token: %v", err)
	}
	// A node without a token of the environment leaves that of others alone.
	if _, err := n.Bootstrap(t.Context(), "", "a-token-of-the-environment"); err != nil {
		t.Fatal(err)
	}
	if _, err := n.Bootstrap(t.Context(), "", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := n.ByToken(t.Context(), "a-token-of-the-environment", Origin{}); err != nil {
		t.Errorf("another node's start ended it: %v", err)
	}
}

// TestLargestFile: what is larger is refused, and not stored.
func TestLargestFile(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	n.repository(t)
	most := int64(1000)
	r, err := n.EditRepository(t.Context(), n.admin, "releases", RepositoryChange{LargestFile: &most})
	if err != nil {
		t.Fatal(err)
	}
	place := (&deploying{version: "1.0"}).place("", "bin")
	for _, length := range []int64{2000, -1} {
		read := 0
		body := io.TeeReader(io.LimitReader(zeroBytes{}, 2000), countingWriter{&read})
		if _, err := n.Receive(t.Context(), n.admin, r, maven.Maven{}, place, body, length); !fault.Is(err, fault.TooLarge) {
			t.Errorf("2000 bytes of 1000, length %d: %v", length, err)
		}
		if length > 0 && read > 0 {
			t.Errorf("%d bytes were read of what was known to be too large", read)
		}
	}
	if got := n.stored(t); got != 0 {
		t.Errorf("%d files are stored", got)
	}
	if _, err := n.Receive(t.Context(), n.admin, r, maven.Maven{}, place, io.LimitReader(zeroBytes{}, 1000), -1); err != nil {
		t.Errorf("1000 bytes of 1000: %v", err)
	}
	if _, err := n.PublishByHand(t.Context(), n.admin, r, purl.PURL{}, func() (Handed, error) { return Handed{}, errors.New("cut") }); err == nil {
		t.Error("a cut publication by hand was taken")
	}
}

type zeroBytes struct{}

func (zeroBytes) Read(p []byte) (int, error) { clear(p); return len(p), nil }

type countingWriter struct{ n *int }

func (c countingWriter) Write(p []byte) (int, error) { *c.n += len(p); return len(p), nil }
