package cli

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/ecosystem"
)

// finding is one thing that a check looked at.
type finding struct {
	OK  bool   `json:"ok"`
	Say string `json:"say"`
}

// check does what the client would do, and says in plain words what is wrong.
func (p *pointer) check(cmd *cobra.Command, c *client.Client, setup api.Setup) error {
	pc, to, err := p.local(setup)
	if err != nil {
		return err
	}
	var found []finding
	say := func(ok bool, format string, args ...any) {
		if f := (finding{ok, fmt.Sprintf(format, args...)}); !slices.Contains(found, f) {
			found = append(found, f)
		}
	}
	uses := pc.Configured(p.files(setup))
	if len(uses) == 0 {
		var files []string
		for _, piece := range pc.Parts(ecosystem.Pointing{}) {
			if !piece.ByHand {
				files = append(files, piece.File)
			}
		}
		if len(files) == 0 {
			say(false, "%s is given its token each time, and the variable %s has none", setup.Client.Title,
				ecosystem.TokenVariable)
		} else {
			say(false, "%s is not set up for this service: it is named in none of %s; crelvo point %s --at %s --write does it",
				setup.Client.Title,
				strings.Join(slices.Compact(files), ", "), p.name, p.at)
		}
	}
	publishes := false
	for _, u := range uses {
		if u.Publish && !p.publish && slices.ContainsFunc(uses, func(o ecosystem.Use) bool { return !o.Publish }) {
			continue
		}
		publishes = publishes || u.Publish
		p.checkUse(cmd.Context(), c, prober{client: pc, setup: setup, use: u}, say)
	}
	if p.publish && len(uses) > 0 && !publishes {
		say(false, "%s is set up to read, but not to publish; crelvo point %s --at %s --publish --write does it",
			setup.Client.Title, p.name, p.at)
	}
	for _, stray := range p.strays(pc, setup, to) {
		say(false, "%s", stray)
	}
	bad := slices.ContainsFunc(found, func(f finding) bool { return !f.OK })
	if err := p.show(cmd.OutOrStdout(), found, func() {
		for _, f := range found {
			mark := "ok   "
			if !f.OK {
				mark = "WRONG"
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s  %s.\n", mark, strings.TrimSuffix(f.Say, "."))
		}
	}); err != nil {
		return err
	}
	if bad {
		return silent(exitFailed)
	}
	return nil
}

// strays are what sends a client elsewhere, whatever its files say.
func (p *pointer) strays(pc ecosystem.PackageClient, setup api.Setup, to ecosystem.Pointing) []string {
	if pc.Strays == nil {
		return nil
	}
	return pc.Strays(p.files(setup), to)
}

// tellStrays says what is left to do by hand, once the files are written.
func (p *pointer) tellStrays(w io.Writer, pc ecosystem.PackageClient, setup api.Setup, to ecosystem.Pointing) {
	for _, stray := range p.strays(pc, setup, to) {
		fmt.Fprintf(w, "Still to do: %s.\n", stray)
	}
}

// checkUse looks at one address that the client would use.
func (p *pointer) checkUse(
	ctx context.Context, c *client.Client, probe prober, say func(ok bool, format string, args ...any),
) {
	u, want := probe.use, probe.setup.Pointing.Address
	// Where the address is another one, so is the secret.
	if wrong := p.otherPlace(ctx, c, u, want); wrong != "" && u.Address != "" {
		say(false, "%s", wrong)
		return
	}
	if u.Wrong != "" {
		say(false, "%s", u.Wrong)
		return
	}
	if u.Secret == "" {
		say(false, "%s names %s, but no secret for it was found", u.In, u.Address)
		return
	}
	if err := probe.read(ctx); err != nil {
		say(false, "%v", err)
		return
	}
	say(true, "%s is at %s, and gets in by the secret in %s", probe.setup.Client.Title, u.Address,
		cmp.Or(u.SecretIn, "the command line"))
	if !p.publish || !u.Publish {
		return
	}
	if err := probe.publish(ctx); err != nil {
		say(false, "%v", err)
		return
	}
	say(true, "it may publish there")
}

// otherPlace says what is wrong with an address that is not the one that is
// wanted; "" if only the way to it differs.
func (p *pointer) otherPlace(ctx context.Context, c *client.Client, u ecosystem.Use, want string) string {
	repository, door := place(u.Address)
	wanted, wantedDoor := place(want)
	switch {
	case repository == wanted && door == wantedDoor:
		return ""
	case repository == wanted:
		return fmt.Sprintf("%s points at %s, which is not for these packages: write %s", u.In, u.Address, want)
	}
	if chain, err := c.Repository(ctx, wanted); err == nil && chain.Chain != nil &&
		slices.ContainsFunc(chain.Chain.Members, func(m api.Member) bool { return m.Name == repository }) {
		return fmt.Sprintf("%s points at %s, which is one repository of the chain %s; the chain was meant: write %s", u.In,
			repository, wanted, want)
	}
	return fmt.Sprintf("%s points at %s, and not at %s: write %s", u.In, repository, wanted, want)
}

// place reads repository and door from an address.
func place(address string) (repository, door string) {
	u, err := url.Parse(address)
	if err != nil {
		return "", ""
	}
	parts := strings.SplitN(strings.Trim(u.Path, "/"), "/", 4)
	if len(parts) < 3 || parts[0] != "at" {
		return "", ""
	}
	return parts[1], parts[2]
}

// prober makes the requests of a client.
type prober struct {
	client ecosystem.PackageClient
	setup  api.Setup
	use    ecosystem.Use
}

const probeTime = 20 * time.Second

// read does what the client does first, and then asks by name and secret.
func (b prober) read(ctx context.Context) error {
	if err := b.ask(ctx, http.MethodGet, b.client.Probe, ""); err != nil {
		return err
	}
	return b.ask(ctx, http.MethodGet, "", "read")
}

// publish sends an upload that the service is to look at only.
func (b prober) publish(ctx context.Context) error {
	method, path, ok := strings.Cut(b.client.Upload, " ")
	if !ok {
		return nil
	}
	for maturity, wanted := range map[string]bool{"release": b.setup.Pointing.PublishReleases,
		"snapshot": b.setup.Pointing.PublishSnapshots} {
		if !wanted {
			continue
		}
		if err := b.ask(ctx, method, path, maturity); err != nil {
			return err
		}
	}
	return nil
}

// ask makes one request as the client would; dry is the value of the header that
// makes the service only look at it.
func (b prober) ask(ctx context.Context, method, path, dry string) error {
	ctx, cancel := context.WithTimeout(ctx, probeTime)
	defer cancel()
	var body io.Reader
	if method != http.MethodGet {
		body = strings.NewReader(strings.Repeat(" ", 1024))
	}
	address := b.use.Address + path
	if server, err := url.Parse(b.use.Address); err == nil && strings.HasPrefix(path, "/") {
		// A door of the client's own, at the root of the server.
		repository, _ := place(b.use.Address)
		address = server.Scheme + "://" + server.Host + strings.ReplaceAll(path, "{id}", repository)
	}
	r, err := http.NewRequestWithContext(ctx, method, address, body)
	if err != nil {
		return fmt.Errorf("%s is no address", b.use.Address)
	}
	r.Header.Set("User-Agent", "crelvo/"+Version+" check")
	if b.client.Bearer {
		r.Header.Set("Authorization", "Bearer "+b.use.Secret)
	} else {
		r.SetBasicAuth(b.use.User, b.use.Secret)
	}
	if dry != "" {
		r.Header.Set(api.DryRunHeader, dry)
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return b.notReached(err)
	}
	defer answer.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(answer.Body, 64<<10))
	if err != nil {
		return b.notReached(err)
	}
	if answer.StatusCode < 300 && (dry == "" || answer.Header.Get(api.DryRunHeader) != "") {
		return nil
	}
	return b.refused(answer, string(raw))
}

// notReached says why there was no answer.
func (b prober) notReached(err error) error {
	u, parseErr := url.Parse(b.use.Address)
	if parseErr != nil {
		return parseErr
	}
	var unresolved *net.DNSError
	var unknown x509.UnknownAuthorityError
	var otherName x509.HostnameError
	var invalid x509.CertificateInvalidError
	var record tls.RecordHeaderError
	proxy := proxyFor(b.use.Address)
	switch {
	case proxy != "" && strings.Contains(err.Error(), "proxyconnect"):
		return fmt.Errorf("the proxy %s, which this machine sends requests through, does not answer", proxy)
	case errors.As(err, &unresolved):
		return fmt.Errorf(
			"the name %s, which %s says, leads nowhere: is it spelt right, and does this machine know its network?",
			u.Hostname(), b.use.In)
	case errors.As(err, &unknown):
		return fmt.Errorf(
			"the certificate of %s is signed by somebody whom this machine does not know: have that authority added to the "+
				"ones it trusts", u.Host)
	case errors.As(err, &otherName):
		return fmt.Errorf("the certificate of %s is for another name: write the name that it is for, or have it changed",
			u.Host)
	case errors.As(err, &invalid):
		return fmt.Errorf("the certificate of %s cannot be used: %v", u.Host, invalid)
	case errors.As(err, &record), strings.Contains(err.Error(), "server gave HTTP response to HTTPS client"):
		return fmt.Errorf("%s says https, but %s answers plain http: write http:// there", b.use.In, u.Host)
	case errors.Is(err, syscall.ECONNREFUSED):
		return fmt.Errorf("nothing answers at %s, which %s says: is the port right, and is the service running?", u.Host,
			b.use.In)
	case errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("%s did not answer within %s", u.Host, probeTime)
	}
	return fmt.Errorf("%s cannot be reached: %v", u.Host, err)
}

func proxyFor(address string) string {
	r, err := http.NewRequest(http.MethodGet, address, nil)
	if err != nil {
		return ""
	}
	if proxy, err := http.ProxyFromEnvironment(r); err == nil && proxy != nil {
		return proxy.Redacted()
	}
	return ""
}

// refused says why an answer is none that the client can use.
func (b prober) refused(answer *http.Response, body string) error {
	u, err := url.Parse(b.use.Address)
	if err != nil {
		return err
	}
	if answer.StatusCode == http.StatusBadRequest && strings.Contains(body, "HTTP request to an HTTPS server") {
		return fmt.Errorf("%s says http, but %s answers https: write https:// there", b.use.In, u.Host)
	}
	code := answer.Header.Get(api.CodeHeader)
	said := detail(answer, body)
	switch code {
	case "":
		switch {
		case answer.StatusCode == http.StatusProxyAuthRequired:
			return fmt.Errorf("the proxy %s wants somebody to sign in", proxyFor(b.use.Address))
		case answer.StatusCode >= 300 && answer.StatusCode < 400:
			return fmt.Errorf("%s sends requests for %s elsewhere (%s)", u.Host, b.use.Address, answer.Status)
		}
		return fmt.Errorf("what answers at %s (%s) is not this service, or the path is wrong", b.use.Address, answer.Status)
	case "sign-in-needed":
		by := "a proxy on the way"
		if proxy := proxyFor(b.use.Address); proxy != "" {
			by = "the proxy " + proxy
		}
		return fmt.Errorf("the request was sent with the secret and arrived without it: %s swallows the Authorization header",
			by)
	case "token-ended", "token-revoked", "token-unknown", "token-damaged", "wrong-password", "blocked":
		return fmt.Errorf("the secret in %s is of no use: %s", b.use.SecretIn, said)
	}
	return errors.New(said)
}

// detail is what the service said, from a problem, from npm's form, from a list of
// errors as cargo reads it, or from the status line.
func detail(answer *http.Response, body string) string {
	var said struct {
		Detail, Error, Hint string
		Errors              []struct{ Detail string }
	}
	if json.Unmarshal([]byte(body), &said) == nil && len(said.Errors) > 0 {
		return strings.TrimSuffix(said.Errors[0].Detail, ".")
	}
	if json.Unmarshal([]byte(body), &said) == nil && said.Detail+said.Error != "" {
		return strings.TrimSuffix(cmp.Or(said.Detail, said.Error)+". "+said.Hint, ". ")
	}
	_, reason, _ := strings.Cut(answer.Status, " ")
	return cmp.Or(reason, strings.TrimSpace(body), "HTTP status "+answer.Status)
}
