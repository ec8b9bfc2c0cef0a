package ecosystem

import (
	"fmt"
	"net/url"
	"path"
	"strings"

	"crelvo/internal/core/access"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/splice"
)

// Pointing is what a client is to be pointed at.
type Pointing struct {
	Address string // the ecosystem's door of the repository, with a slash at the end
	ID      string // what the client calls it: the name of the repository
	User    string
	Secret  string // "" for a placeholder
	// Everything: it is a chain, which answers for all packages; else the client
	// keeps its other sources where it can have several.
	Everything bool
	// Releases and Snapshots are what is read there.
	Releases, Snapshots bool
	// PublishReleases and PublishSnapshots: the client is to publish them there.
	PublishReleases, PublishSnapshots bool
	PURL                              purl.PURL // optional: what to use from there
	// Upstreams are the hosts that mirrors behind it fetch from.
	Upstreams []string
	// Own are the namespaces whose packages are ours: claimed, or published here.
	Own []string
}

// Publishes tells whether the client is to publish anything.
func (p Pointing) Publishes() bool { return p.PublishReleases || p.PublishSnapshots }

// Placeholder stands where a secret belongs.
const Placeholder = "YOUR-TOKEN"

// TokenVariable is the variable of the environment that has a token where no file does.
const TokenVariable = "CRELVO_TOKEN"

// Token is the secret, or what stands for it.
func (p Pointing) Token() string {
	if p.Secret == "" {
		return Placeholder
	}
	return p.Secret
}

// Host is the name of the server, without a port.
func (p Pointing) Host() string {
	if u, err := url.Parse(p.Address); err == nil {
		return u.Hostname()
	}
	return ""
}

// Plain tells whether the address is of plain HTTP.
func (p Pointing) Plain() bool { return strings.HasPrefix(p.Address, "http:") }

// WithSecret is an address with name and secret in it.
func (p Pointing) WithSecret(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return address
	}
	u.User = url.UserPassword(p.User, p.Token())
	return u.String()
}

// PackageClient is a program that can be pointed at a repository.
type PackageClient struct {
	Name      string // as it is typed
	Title     string
	Agents    []string // how its User-Agent begins
	Publishes bool     // it can publish
	// Parts is what belongs in which file; nothing, of a client that keeps neither address nor secret in one.
	Parts func(p Pointing) []Piece
	// Variables carry name and secret where there are no files, as in CI; nil if
	// the client has none, but its files may name the variable CRELVO_TOKEN, as
	// Reference writes it.
	Variables func(p Pointing) []splice.Setting
	Reference string
	// Commands use it then.
	Commands func(p Pointing) []string
	// Uses reads from files what is used of a server.
	Uses func(f Files) []Use
	// Strays says, each in a sentence, what sends the client elsewhere than where it is
	// pointed: variables that go before its files, or older settings; nil if nothing of
	// that kind is known of it.
	Strays func(f Files, p Pointing) []string
	// Mends is what sets strays right in files that are there, if that is no decision of
	// somebody else's; nil if nothing can be done of that kind.
	Mends func(f Files, p Pointing) []Piece
	// Probe is what the client reads first, below the address; "" is the address.
	Probe string
	// Upload is the method and the path below the address of an upload such as the
	// client makes.
	Upload string
	// Bearer: it sends its secret as a Bearer token; else with a name, by Basic.
	Bearer bool
	// Outside: it makes containers itself, and is not run while one is built.
	Outside bool
}

// Orders are what is typed to use a client: {id} stands for what it calls the repository,
// and {what} for a package, with Version before its version.
type Orders struct{ Build, Add, Version, Publish string }

// Of are the commands that use the client.
func (o Orders) Of(name func(p purl.PURL) string) func(p Pointing) []string {
	return func(p Pointing) []string {
		all := []string{o.Build}
		if p.PURL.Name != "" {
			what := name(p.PURL)
			if p.PURL.Version != "" {
				what += o.Version + p.PURL.Version
			}
			all = []string{strings.NewReplacer("{what}", what, "{id}", p.ID).Replace(o.Add)}
		}
		if p.Publishes() && o.Publish != "" {
			all = append(all, strings.ReplaceAll(o.Publish, "{id}", p.ID))
		}
		return all
	}
}

// PlainName is a package's name alone.
func PlainName(p purl.PURL) string { return p.Name }

// Piece is a part of the set-up of a client.
type Piece struct {
	Title string
	// File is below the project's folder, or below the personal one if it begins
	// with ~/.
	File string
	// Windows is where a personal file is there, if that is elsewhere.
	Windows  string
	Language string
	Secret   bool // it has a secret, so it must not be shared
	// There: it is changed only if it is there already.
	There bool
	// ByHand: where in the file it belongs, only a person knows.
	ByHand bool
	// Edit writes the part into a file, and leaves the rest of it alone; "" is a
	// file that is not there.
	Edit func(existing string) (string, error)
}

// Personal tells whether the file is a person's own.
func (p Piece) Personal() bool { return strings.HasPrefix(p.File, "~/") }

// Text is what a person writes into a file that has nothing else.
func (p Piece) Text() string {
	text, err := p.Edit("")
	if err != nil {
		return ""
	}
	return text
}

// Files is what a client finds on a machine.
type Files struct {
	// Read gives the content of a file, named as in Piece; "" if it is not there.
	Read func(file string) string
	// Env gives a variable of the environment.
	Env func(name string) string
	// Ours tells whether an address is one of the server's.
	Ours func(address string) bool
	// At is the address that is wanted, for a client that is given it each time.
	At string
}

// Use is a repository that a client is set up to use.
type Use struct {
	Address string // as it is configured, without name and secret
	ID      string // what the client calls it, if it does
	In      string // where that stands
	Publish bool
	// User and Secret are what the client would sign in with, from SecretIn.
	User, Secret, SecretIn string
	// Wrong says in a sentence why the client would not find the secret, or not
	// find it whole.
	Wrong string
}

// Expand puts in variables of the environment that are written ${NAME} or, as
// Maven writes them, ${env.NAME}.
func (f Files) Expand(text string) string {
	for {
		head, rest, ok := strings.Cut(text, "${")
		name, tail, closed := strings.Cut(rest, "}")
		if !ok || !closed {
			return text
		}
		text = head + f.Env(strings.TrimPrefix(name, "env.")) + tail
	}
}

// Configured is what a client is set up to use, with tokens that were pasted with
// a line break in them found out.
func (c PackageClient) Configured(f Files) []Use {
	uses := c.Uses(f)
	for i := range uses {
		u := &uses[i]
		text := u.Secret
		if !strings.HasPrefix(u.SecretIn, "the variable ") {
			text = f.Read(u.SecretIn)
		}
		if u.Wrong == "" && !access.TokenWhole(u.Secret) && cutToken(text) {
			u.Cut()
		}
	}
	return uses
}

// Cut says that the secret was pasted with a line break in it.
func (u *Use) Cut() {
	u.Wrong = fmt.Sprintf("the token in %s has a line break or a space in it: paste it again, in one line", u.SecretIn)
}

// cutToken tells whether a text has a token that would be whole without the
// spaces and line breaks in it.
func cutToken(text string) bool {
	for rest := text; ; {
		at := strings.Index(rest, access.TokenPrefix)
		if at < 0 {
			return false
		}
		rest = rest[at:]
		joined := strings.Join(strings.Fields(rest[:min(len(rest), 4*access.TokenLength)]), "")
		if len(joined) >= access.TokenLength && access.TokenWhole(joined[:access.TokenLength]) &&
			!strings.HasPrefix(rest, joined[:access.TokenLength]) {
			return true
		}
		rest = rest[len(access.TokenPrefix):]
	}
}

// Elsewhere says that a secret stands under another name than the address.
func (u *Use) Elsewhere(other string) {
	u.Wrong = fmt.Sprintf("%s calls it %q, but %s has the secret under %q: write the same in both", u.In, u.ID, u.SecretIn,
		other)
}

// Separate takes name and secret out of an address.
func Separate(address string) (plain, user, secret string) {
	u, err := url.Parse(address)
	if err != nil || u.User == nil {
		return address, "", ""
	}
	user = u.User.Username()
	secret, _ = u.User.Password()
	u.User = nil
	return u.String(), user, secret
}

// FromNetrc finds the secret of an address in ~/.netrc.
func (f Files) FromNetrc(u *Use) {
	parsed, err := url.Parse(u.Address)
	if err != nil {
		return
	}
	if user, secret, ok := splice.GetNetrc(f.Read("~/.netrc"), parsed.Hostname()); ok {
		u.User, u.Secret, u.SecretIn = user, secret, "~/.netrc"
	}
}

// InNetrc is the part that signs in by ~/.netrc.
func InNetrc(p Pointing) Piece {
	return Piece{Title: "Who you are, for this host", File: "~/.netrc", Windows: `%USERPROFILE%\_netrc`, Language: "text",
		Secret: true,
		Edit:   func(text string) (string, error) { return splice.SetNetrc(text, p.Host(), p.User, p.Token()) }}
}

// Curl is the plain client of an ecosystem.
func Curl(e Ecosystem) PackageClient {
	return PackageClient{Name: "curl", Title: "curl", Parts: func(p Pointing) []Piece { return []Piece{InNetrc(p)} },
		Commands: func(p Pointing) []string { return []string{"curl --netrc --fail --remote-name " + p.Address + "…"} },
		Variables: func(p Pointing) []splice.Setting {
			return []splice.Setting{{Key: TokenVariable, Value: p.Token()}}
		},
		Uses: func(f Files) []Use {
			u := Use{Address: f.At, In: "the command line"}
			f.FromNetrc(&u)
			if u.Secret == "" {
				return nil
			}
			return []Use{u}
		}}
}

// Sequence makes one edit of several.
func Sequence(edits ...func(string) (string, error)) func(string) (string, error) {
	return func(text string) (string, error) {
		for _, edit := range edits {
			var err error
			if text, err = edit(text); err != nil {
				return "", err
			}
		}
		return text, nil
	}
}

// Shell is how variables are set in a shell.
type Shell struct{ Name, Title, Text string }

// Shells writes variables for each shell.
func Shells(variables []splice.Setting) []Shell {
	var posix, power, cmd strings.Builder
	for _, v := range variables {
		fmt.Fprintf(&posix, "export %s='%s'\n", v.Key, v.Value)
		fmt.Fprintf(&power, "$env:%s = '%s'\n", v.Key, v.Value)
		fmt.Fprintf(&cmd, "set \"%s=%s\"\n", v.Key, v.Value)
	}
	return []Shell{{"posix", "bash, zsh", posix.String()}, {"powershell", "PowerShell", power.String()},
		{"cmd", "cmd", cmd.String()}}
}

// InContainer is how a client is used while a container is built, so that the
// secret stays in no layer: what is personal is mounted for one command. Both are "" for a
// client that is not.
func InContainer(c PackageClient, p Pointing) (recipe, command string) {
	if c.Outside {
		return "", ""
	}
	run := "RUN"
	command = "docker build"
	for _, part := range c.Parts(p) {
		if !part.Personal() {
			continue
		}
		id := strings.Trim(strings.ReplaceAll(path.Base(part.File), ".", "-"), "-")
		run += " --mount=type=secret,id=" + id + ",target=/root/" + strings.TrimPrefix(part.File, "~/")
		command += " --secret id=" + id + `,src="$HOME/` + strings.TrimPrefix(part.File, "~/") + `"`
	}
	use := "…"
	if all := c.Commands(p); len(all) > 0 {
		use = all[0]
	}
	return run + " \\\n    " + use + "\n", command + " .\n"
}
