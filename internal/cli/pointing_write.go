package cli

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/aymanbagabas/go-udiff"
	"github.com/spf13/cobra"

	"crelvo/internal/api"
	"crelvo/internal/client"
	"crelvo/internal/core/access"
	"crelvo/internal/ecosystem"
)

// path is where a file that a piece names is on this machine.
func (p *pointer) path(piece ecosystem.Piece) (string, error) {
	if !piece.Personal() {
		return filepath.Join(p.project, piece.File), nil
	}
	if runtime.GOOS == "windows" && piece.Windows != "" {
		return os.Expand(strings.NewReplacer("%APPDATA%", "${APPDATA}", "%USERPROFILE%", "${USERPROFILE}").
			Replace(piece.Windows), os.Getenv), nil
	}
	home, err := os.UserHomeDir()
	return filepath.Join(home, strings.TrimPrefix(piece.File, "~/")), err
}

const largestFile = 4 << 20

// read gives the content of a file; "" if it is not there.
func read(path string) (string, error) {
	stat, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	if stat.Size() > largestFile {
		return "", fmt.Errorf("%s is too large to be a file of settings", path)
	}
	raw, err := os.ReadFile(path)
	return string(raw), err
}

// files lets a client's set-up be read.
func (p *pointer) files(setup api.Setup) ecosystem.Files {
	server, err := url.Parse(setup.Pointing.Address)
	return ecosystem.Files{At: setup.Pointing.Address, Env: os.Getenv,
		Read: func(file string) string {
			path, pathErr := p.path(ecosystem.Piece{File: file})
			if pathErr != nil {
				return ""
			}
			text, readErr := read(path)
			if readErr != nil {
				return ""
			}
			return text
		},
		Ours: func(address string) bool {
			u, parseErr := url.Parse(address)
			return err == nil && parseErr == nil && (strings.HasPrefix(u.Path, "/at/") && u.Hostname() == server.Hostname() ||
				strings.HasPrefix(u.Path, server.Path))
		}}
}

// edit is a file with how it is to be.
type edit struct {
	path, before, after string
	there, secret       bool
}

// edits are the files that pointing changes, with the secret that is given.
func (p *pointer) edits(
	c ecosystem.PackageClient, files ecosystem.Files, to ecosystem.Pointing,
) (all []edit, skipped []string, err error) {
	bare := to
	bare.Secret = ""
	byHand, pieces := c.Parts(bare), c.Parts(to) // what a person is shown, and what is written
	if c.Mends != nil {
		for _, piece := range c.Mends(files, to) {
			piece.There = true
			byHand, pieces = append(byHand, piece), append(pieces, piece)
		}
	}
	parts := len(c.Parts(to))
	for i, piece := range pieces {
		if piece.ByHand {
			continue
		}
		path, err := p.path(piece)
		if err != nil {
			return nil, nil, err
		}
		// What a link leads to is changed, and not the link; a project's file does not
		// lead out of the project, whoever made the link.
		if real, err := filepath.EvalSymlinks(path); err == nil && real != path {
			if project, err := filepath.EvalSymlinks(p.project); !piece.Personal() && (err != nil || !within(project, real)) {
				return nil, nil, fmt.Errorf("%s is a link to %s, which is outside of the project; nothing was written", path, real)
			}
			path = real
		}
		before, err := read(path)
		if err != nil {
			return nil, nil, err
		}
		_, statErr := os.Stat(path)
		there := statErr == nil
		if piece.There && !there && i >= parts {
			continue // there is nothing to mend
		}
		if piece.There && !there {
			skipped = append(skipped,
				fmt.Sprintf("There is no %s in %s, so nothing is written there; run this in the project's folder.", piece.File,
					p.project))
			continue
		}
		// In one's own folder the project's file and the personal one are the same.
		same := slices.IndexFunc(all, func(e edit) bool { return e.path == path })
		text := before
		if same >= 0 {
			text = all[same].after
		}
		after, err := piece.Edit(text)
		if err != nil {
			return nil, nil,
				pointedError{
					fmt.Sprintf("%s cannot be changed: %s; nothing was written. Put this into it yourself, where it belongs:\n\n%s",
						path, err, strings.TrimSuffix(byHand[i].Text(), "\n"))}
		}
		if same >= 0 {
			all[same].after, all[same].secret = after, all[same].secret || piece.Secret
		} else if after != before {
			all = append(all, edit{path: path, before: before, after: after, there: there, secret: piece.Secret})
		}
	}
	return all, skipped, nil
}

// within tells whether a path is in a folder; both have no links in them.
func within(folder, path string) bool {
	below, err := filepath.Rel(folder, path)
	return err == nil && filepath.IsLocal(below)
}

// secretForms are where secrets stand in the files of clients: after a word that
// says so, and in addresses. Those of others are as secret as ours.
var secretForms = []*regexp.Regexp{
	regexp.MustCompile(`(?i)(pass(?:word|wd)?|_auth|token)(["']?\s*(?:value=)?[=:>"' ]\s*["']?)([^\s"'<>]+)()`),
	regexp.MustCompile(`(://)([^/\s:@]+:)([^@\s/]+)(@)`),
	regexp.MustCompile(`()()(` + access.TokenPrefix + `[a-z2-7]+)()`),
}

// mask hides the secrets in a text that is shown. What stands for a secret stays.
func mask(text string) string {
	for _, form := range secretForms {
		text = form.ReplaceAllStringFunc(text, func(found string) string {
			parts := form.FindStringSubmatch(found)
			if strings.HasPrefix(parts[3], ecosystem.Placeholder) || strings.HasPrefix(parts[3], "$") {
				return found
			}
			return parts[1] + parts[2] + "…" + parts[4]
		})
	}
	return strings.ReplaceAll(text, ecosystem.Placeholder, "(a new token)")
}

func (p *pointer) write(cmd *cobra.Command, c *client.Client, setup api.Setup) error {
	pc, to, err := p.local(setup)
	if err != nil {
		return err
	}
	if len(setup.Pieces) == 0 {
		return fmt.Errorf("%s keeps nothing in files that could be written; crelvo point %s --at %s tells what to type",
			setup.Client.Title, p.name, p.at)
	}
	w := cmd.OutOrStdout()
	// A token that is there and works stays.
	to.Secret = p.working(cmd.Context(), pc, setup)
	fresh := to.Secret == ""
	all, skipped, err := p.edits(pc, p.files(setup), to)
	if err != nil {
		return err
	}
	for _, line := range skipped {
		fmt.Fprintln(cmd.ErrOrStderr(), line)
	}
	if len(all) == 0 {
		if len(skipped) == len(pc.Parts(to)) {
			return fmt.Errorf("nothing was written")
		}
		fmt.Fprintf(w, "%s is set up to use %s already; nothing was changed.\n", setup.Client.Title, p.at)
		p.tellStrays(w, pc, setup, to)
		return nil
	}
	for _, e := range all {
		old := e.path
		if !e.there {
			old = "/dev/null"
		}
		fmt.Fprint(w, mask(udiff.Unified(old, e.path, e.before, e.after)))
	}
	old := replaced(cmd.Context(), c, pc.Configured(p.files(setup)), all)
	for _, t := range old {
		if t.own {
			fmt.Fprintf(w, "The token %s, which stands there now, is revoked then.\n", t.name)
		}
	}
	if err := p.confirm(cmd, "Change these files?"); err != nil {
		return err
	}
	journal := pointed{Client: p.name, Repository: p.at, Project: p.project, At: time.Now().UTC()}
	if fresh {
		made, err := p.newToken(cmd.Context(), c, setup)
		if err != nil {
			return err
		}
		to.Secret, journal.Token = made.Secret, made.Name
		if all, _, err = p.edits(pc, p.files(setup), to); err != nil {
			return err
		}
	}
	for _, e := range all {
		change, err := e.do()
		if err != nil {
			return errors.Join(err, journal.keep())
		}
		journal.Files = append(journal.Files, change)
		said := "Wrote " + e.path
		if change.Backup != "" {
			said += "; as it was, it is in " + change.Backup
		}
		fmt.Fprintln(w, said+".")
	}
	if err := journal.keep(); err != nil {
		return err
	}
	if journal.Token != "" {
		fmt.Fprintf(w, "The token is called %s.\n", journal.Token)
	}
	endReplaced(cmd, w, old)
	p.tellStrays(w, pc, setup, to)
	fmt.Fprintf(w, "crelvo point %s --at %s --check tells whether it works; --undo takes it back.\n", p.name, p.at)
	return nil
}

// working is the secret that the client is set up with for the address, if the
// service lets it in for what is wanted; else "".
func (p *pointer) working(ctx context.Context, pc ecosystem.PackageClient, setup api.Setup) string {
	for _, u := range pc.Configured(p.files(setup)) {
		if u.Address != setup.Pointing.Address || u.Secret == "" || u.Wrong != "" {
			continue
		}
		probe := prober{client: pc, setup: setup, use: u}
		if probe.read(ctx) == nil && (!p.publish || probe.publish(ctx) == nil) {
			return u.Secret
		}
	}
	return ""
}

// oldToken is a live token that stood in a file and does so no more. It is own if it is
// of whoever runs the command.
type oldToken struct {
	*client.Client
	name, owner string
	own         bool
}

// tokenForm finds tokens in files, and encoded ones.
var tokenForm = regexp.MustCompile(access.TokenPrefix + `[a-z2-7]+`)

var encodedForm = regexp.MustCompile(`[A-Za-z0-9+/]{24,}={0,2}`)

// secretsIn are the tokens that stand in a text, plain or within base64, as clients
// write a name with its password.
func secretsIn(text string) (found []string) {
	found = tokenForm.FindAllString(text, -1)
	for _, encoded := range encodedForm.FindAllString(text, -1) {
		if plain, err := base64.StdEncoding.DecodeString(encoded); err == nil {
			found = append(found, tokenForm.FindAllString(string(plain), -1)...)
		}
	}
	return found
}

// replaced are the tokens that edits take out of files and that still let somebody in,
// but for the one that the command itself signs in with. Only those that stood there for
// this server are asked about: it must not learn those of another.
func replaced(ctx context.Context, c *client.Client, uses []ecosystem.Use, all []edit) (old []oldToken) {
	var me api.Me
	seen := []string{c.Token}
	ours := func(text, secret string) bool {
		server, err := url.Parse(c.Server)
		return slices.ContainsFunc(uses, func(u ecosystem.Use) bool { return u.Secret == secret }) ||
			err == nil && slices.ContainsFunc(strings.Split(text, "\n"), func(line string) bool {
				return strings.Contains(line, server.Host) && slices.Contains(secretsIn(line), secret)
			})
	}
	for _, e := range all {
		stays := secretsIn(e.after)
		for _, secret := range secretsIn(e.before) {
			if slices.Contains(stays, secret) || slices.Contains(seen, secret) || !ours(e.before, secret) {
				continue
			}
			seen = append(seen, secret)
			its := &client.Client{Server: c.Server, HTTP: c.HTTP, Token: secret, Agent: c.Agent}
			is, err := its.Me(ctx)
			if err != nil || is.Token == "" {
				continue // it lets nobody in here
			}
			if me.Name == "" {
				me, _ = c.Me(ctx) // who it is stays unknown if it cannot be told, and nothing is revoked
			}
			old = append(old, oldToken{Client: its, name: is.Token, owner: is.Name, own: me.Name == is.Name})
		}
	}
	return old
}

// endReplaced revokes one's own tokens that were replaced, so that no backup lets anybody
// in, and tells of those of others.
func endReplaced(cmd *cobra.Command, w io.Writer, old []oldToken) {
	for _, t := range old {
		if !t.own {
			fmt.Fprintf(cmd.ErrOrStderr(),
				"The token %s of %s stood there before, and still works for whoever reads the backup; an admin ends it: crelvo "+
					"token revoke %s --for %s\n", t.name, t.owner, t.name, t.owner)
		} else if err := t.RevokeToken(cmd.Context(), "", t.name); err != nil {
			fmt.Fprintf(cmd.ErrOrStderr(), "The token %s stood there before, and could not be revoked: %s.\n", t.name,
				sentence(err))
		} else {
			fmt.Fprintf(w, "Revoked the token %s, which stood there before.\n", t.name)
		}
	}
}

// changed is a file that was changed.
type changed struct {
	Path   string `json:"path"`
	Backup string `json:"backup,omitempty"` // "" if there was none
	SHA256 string `json:"sha256"`           // of what was written
}

// do writes the file, and leaves how it was beside it.
func (e edit) do() (changed, error) {
	path := e.path
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real // what a link leads to is changed, and not the link
	}
	sum := sha256.Sum256([]byte(e.after))
	done := changed{Path: path, SHA256: hex.EncodeToString(sum[:])}
	mode := fs.FileMode(0o644)
	if stat, err := os.Stat(path); err == nil {
		mode = stat.Mode().Perm()
	}
	if e.secret {
		mode = 0o600
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return done, err
	}
	if e.there {
		for n := 1; ; n++ {
			done.Backup = path + ".before-crelvo"
			if n > 1 {
				done.Backup += fmt.Sprintf("-%d", n)
			}
			backup, err := os.OpenFile(done.Backup, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
			if errors.Is(err, fs.ErrExist) {
				continue
			}
			if err != nil {
				return done, err
			}
			if _, err = io.WriteString(backup, e.before); err != nil {
				return done, errors.Join(err, backup.Close())
			}
			if err := backup.Close(); err != nil {
				return done, err
			}
			break
		}
	}
	return done, replace(path, e.after, mode)
}

// replace writes a file beside its place and moves it there, so that it is never
// seen in part.
func replace(path, text string, mode fs.FileMode) error {
	made, err := os.CreateTemp(filepath.Dir(path), ".crelvo-*")
	if err != nil {
		return err
	}
	defer os.Remove(made.Name())
	_, err = io.WriteString(made, text)
	if err = errors.Join(err, made.Chmod(mode), made.Sync(), made.Close()); err != nil {
		return err
	}
	return os.Rename(made.Name(), path)
}

// pointed is what one --write did.
type pointed struct {
	Client     string    `json:"client"`
	Repository string    `json:"repository"`
	Project    string    `json:"project"`
	At         time.Time `json:"at"`
	Token      string    `json:"token,omitempty"`
	Files      []changed `json:"files"`
}

func journalPath() (string, error) {
	config, err := configPath()
	return filepath.Join(filepath.Dir(config), "pointed.json"), err
}

func readJournal() (all []pointed, err error) {
	path, err := journalPath()
	if err != nil {
		return nil, err
	}
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(raw, &all); err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", path, err)
	}
	return all, nil
}

func writeJournal(all []pointed) error {
	path, err := journalPath()
	if err != nil {
		return err
	}
	raw, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	return replace(path, string(raw)+"\n", 0o600)
}

func (p pointed) keep() error {
	if p.Files == nil {
		return nil
	}
	all, err := readJournal()
	if err != nil {
		return err
	}
	return writeJournal(append(all, p))
}

// undo takes back the last --write of the client at the repository in this
// project. A file that was changed since stays as it is.
func (p *pointer) undo(cmd *cobra.Command, c *client.Client) error {
	all, err := readJournal()
	if err != nil {
		return err
	}
	last := -1
	for i, done := range all {
		if done.Client == p.name && done.Repository == p.at && done.Project == p.project {
			last = i
		}
	}
	if last < 0 {
		return fmt.Errorf("crelvo point %s --at %s --write did nothing in %s that could be taken back", p.name, p.at,
			p.project)
	}
	w := cmd.OutOrStdout()
	var left []changed
	for _, f := range all[last].Files {
		now, err := read(f.Path)
		if err != nil {
			return err
		}
		sum := sha256.Sum256([]byte(now))
		switch {
		case hex.EncodeToString(sum[:]) != f.SHA256:
			left = append(left, f)
			said := "you can remove it"
			if f.Backup != "" {
				said = "how it was before is in " + f.Backup
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "%s was changed since, so it stays; %s.\n", f.Path, said)
		case f.Backup == "":
			if err := os.Remove(f.Path); err != nil {
				return err
			}
			fmt.Fprintf(w, "Removed %s, which was not there before.\n", f.Path)
		default:
			if err := restore(f); err != nil {
				return err
			}
			fmt.Fprintf(w, "Brought %s back as it was.\n", f.Path)
		}
	}
	if token := all[last].Token; token != "" && left == nil {
		if err := c.RevokeToken(cmd.Context(), "", token); err == nil {
			fmt.Fprintf(w, "Revoked the token %s.\n", token)
		} else {
			fmt.Fprintf(cmd.ErrOrStderr(), "The token %s was not revoked: %s.\n", token, sentence(err))
		}
	}
	if left != nil {
		all[last].Files = left
		return errors.Join(writeJournal(all), fmt.Errorf("not everything was taken back"))
	}
	return writeJournal(append(all[:last], all[last+1:]...))
}

func restore(f changed) error {
	before, err := read(f.Backup)
	if err != nil {
		return err
	}
	mode := fs.FileMode(0o644)
	if stat, err := os.Stat(f.Path); err == nil {
		mode = stat.Mode().Perm()
	}
	return errors.Join(replace(f.Path, before, mode), os.Remove(f.Backup))
}
