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
	"crelvo/internal/record"
	"crelvo/internal/record/recordtest"
	"crelvo/internal/service/publishing"
	"crelvo/internal/service/repositories"
	"crelvo/internal/service/rights"
)

// TestMirrorSecretStays: who looks after one mirror does not get its secret by
// sending it elsewhere, nor looks around in the server's network.
func TestMirrorSecretStays(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	if _, err := n.Repositories.AddRepository(t.Context(), n.admin,
		repositories.NewRepository{Repository: catalog.Repository{Name: "shore", Kind: catalog.Mirror, Holds: catalog.Both,
			Ecosystem: "maven",
			Mirror: &catalog.MirrorSettings{Upstreams: []catalog.Upstream{{URL: "https://maven.openshore.example/"}},
				User: "crelvo", Secret: "sesame"}}}); err != nil {
		t.Fatal(err)
	}
	if err := n.Rights.AddPrincipal(t.Context(), n.admin,
		rights.NewPrincipal{Name: "deckhand", Grants: []access.Grant{{Role: access.Admin,
			Repositories: "shore"}}}); err != nil {
		t.Fatal(err)
	}
	deckhand, err := n.Rights.CallerNamed(t.Context(), "deckhand")
	if err != nil {
		t.Fatal(err)
	}
	edit := func(by access.Caller, change func(m *catalog.MirrorSettings)) (catalog.Repository, error) {
		return n.Repositories.EditRepository(t.Context(), by, "shore", repositories.SettingsChange{Mirror: change})
	}
	for what, change := range map[string]func(m *catalog.MirrorSettings){
		"a private upstream": func(m *catalog.MirrorSettings) {
			m.Upstreams = []catalog.Upstream{{URL: "http://127.0.0.1:9/"}}
		},
		"a proxy":          func(m *catalog.MirrorSettings) { m.Proxy = "http://proxy.evil.example:3128" },
		"another redirect": func(m *catalog.MirrorSettings) { m.RedirectTo = []string{"*.evil.example"} },
	} {
		if _, err := edit(deckhand, change); fault.Of(err).Code != "server-admin-only" {
			t.Errorf("%s: %v", what, err)
		}
	}
	if r, err := edit(deckhand, func(m *catalog.MirrorSettings) {
		m.Deny = []string{"pkg:maven/org.evil/*"}
	}); err != nil || r.Mirror.Secret != "sesame" {
		t.Errorf("another change: %+v, %v", r.Mirror, err)
	}
	if r, err := edit(deckhand, func(m *catalog.MirrorSettings) {
		m.Upstreams = []catalog.Upstream{{URL: "https://evil.example/"}}
	}); err != nil || r.Mirror.Secret != "" {
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
	if err := n.Rights.AddPrincipal(t.Context(), n.admin,
		rights.NewPrincipal{Name: "ci-berth", Robot: true,
			Grants: []access.Grant{{Role: access.Publisher, Repositories: "*"}}}); err != nil {
		t.Fatal(err)
	}
	secret, token, err := n.Rights.AddToken(t.Context(), n.admin,
		rights.NewToken{For: "ci-berth", Name: "build", Length: time.Hour})
	if err != nil {
		t.Fatal(err)
	}
	caller, err := n.Rights.ByToken(t.Context(), secret, rights.Origin{})
	if err != nil {
		t.Fatal(err)
	}
	place := (&deploying{version: "1.0"}).place("", "jar")
	goOn, failed := make(chan struct{}), make(chan error, 1)
	go func() {
		_, err := n.Publishing.Receive(t.Context(), caller, r, maven.Maven{}, place,
			&waiting{strings.NewReader(jar(t, "x")), goOn}, -1)
		failed <- err
	}()
	if err := n.Rights.RevokeToken(t.Context(), n.admin, "ci-berth", token.Name); err != nil {
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
	if err := n.Rights.AddPrincipal(t.Context(), n.admin,
		rights.NewPrincipal{Name: "purser", Password: password}); err != nil {
		t.Fatal(err)
	}
	session, _, err := n.Rights.SignIn(t.Context(), "purser", password, rights.Origin{})
	if err != nil {
		t.Fatal(err)
	}
	if c, err := n.Rights.BySession(t.Context(), session, rights.Origin{}); err != nil || c.Name != "purser" {
		t.Fatalf("%+v, %v", c, err)
	}
	if c, err := n.Rights.ByToken(t.Context(), session, rights.Origin{}); err == nil {
		t.Errorf("a session is a token: %+v", c)
	}
	refused := func() (times int) {
		t.Helper()
		if err := n.chore(t.Context(), "noting refusals"); err != nil {
			t.Fatal(err)
		}
		if err := n.DB.EachEvent(t.Context(), record.EventFilter{Action: "refused"}, func(record.SealedEvent) error {
			times++
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		return times
	}
	before := refused()
	if c, err := n.Rights.BySecret(t.Context(), "purser", password, rights.Origin{}); err != nil || c.Name != "purser" {
		t.Errorf("%+v, %v", c, err)
	}
	if after := refused(); after != before {
		t.Errorf("a right password is on record as refused: %d events after %d", after, before)
	}
	secret, _, err := n.Rights.AddToken(t.Context(), n.admin, rights.NewToken{Name: "laptop"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := n.Rights.ByToken(t.Context(), secret, rights.Origin{}); err != nil {
		t.Fatal(err)
	}
	if c, err := n.Rights.BySession(t.Context(), secret, rights.Origin{}); err != nil || !c.Anonymous() {
		t.Errorf("a token is a session: %+v, %v", c, err)
	}
	// A password that somebody else gave is good for changing it alone.
	if err := n.Rights.AddPrincipal(t.Context(), n.admin,
		rights.NewPrincipal{Name: "deckhand", Password: password, Given: true}); err != nil {
		t.Fatal(err)
	}
	given, err := n.Rights.BySecret(t.Context(), "deckhand", password, rights.Origin{})
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := n.Rights.AddToken(t.Context(), given, rights.NewToken{Name: "long"}); fault.Of(err).
		Code != "change-password-first" {
		t.Errorf("a given password makes a token: %v", err)
	}
	// A node without a token of the environment leaves that of others alone.
	if _, err := n.Rights.Bootstrap(t.Context(), "", "a-token-of-the-environment"); err != nil {
		t.Fatal(err)
	}
	if _, err := n.Rights.Bootstrap(t.Context(), "", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := n.Rights.ByToken(t.Context(), "a-token-of-the-environment", rights.Origin{}); err != nil {
		t.Errorf("another node's start ended it: %v", err)
	}
}

// TestLargestFile: what is larger is refused, and not stored.
func TestLargestFile(t *testing.T) {
	n := newNode(t, recordtest.URL(t))
	n.repository(t)
	most := int64(1000)
	r, err := n.Repositories.EditRepository(t.Context(), n.admin, "releases",
		repositories.SettingsChange{LargestFile: &most})
	if err != nil {
		t.Fatal(err)
	}
	place := (&deploying{version: "1.0"}).place("", "bin")
	for _, length := range []int64{2000, -1} {
		read := 0
		body := io.TeeReader(io.LimitReader(zeroBytes{}, 2000), countingWriter{&read})
		if _, err := n.Publishing.Receive(t.Context(), n.admin, r, maven.Maven{}, place, body, length); !fault.Is(err,
			fault.TooLarge) {
			t.Errorf("2000 bytes of 1000, length %d: %v", length, err)
		}
		if length > 0 && read > 0 {
			t.Errorf("%d bytes were read of what was known to be too large", read)
		}
	}
	if got := n.stored(t); got != 0 {
		t.Errorf("%d files are stored", got)
	}
	if _, err := n.Publishing.Receive(t.Context(), n.admin, r, maven.Maven{}, place, io.LimitReader(zeroBytes{}, 1000),
		-1); err != nil {
		t.Errorf("1000 bytes of 1000: %v", err)
	}
	if _, err := n.Publishing.PublishByHand(t.Context(), n.admin, r, purl.PURL{}, func() (publishing.ByHand, error) {
		return publishing.ByHand{}, errors.New("cut")
	}); err == nil {
		t.Error("a cut publication by hand was taken")
	}
}

type zeroBytes struct{}

func (zeroBytes) Read(p []byte) (int, error) { clear(p); return len(p), nil }

type countingWriter struct{ n *int }

func (c countingWriter) Write(p []byte) (int, error) { *c.n += len(p); return len(p), nil }
