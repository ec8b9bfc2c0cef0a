package npm

import (
	"bytes"
	"cmp"
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"path"
	"slices"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// What is read of a published document, in bytes, besides its tarballs; and how
// many versions it may list, as clients send them back to deprecate one. Of those
// only the first is kept as it came.
const maxDocument, maxTags, maxSentVersions = 16 << 20, 256 << 10, 100_000

// uploaded is what a client sends to change a package.
type uploaded struct {
	name     string
	tags     map[string]string
	versions map[string]sentVersion
	first    json.RawMessage // of the versions
	readme   string
	// users and owners: it says who likes the package, or whom it belongs to.
	users, owners bool
	attachments   []attachment
}

// sentVersion is what a change of a package may say of a version.
type sentVersion struct {
	deprecated json.RawMessage
	says       bool // whether it says anything of that
}

type attachment struct {
	name   string
	staged ecosystem.Staged
}

// discard drops what was staged.
func (u *uploaded) discard() {
	for _, a := range u.attachments {
		a.staged.Discard()
	}
}

// readUploaded reads the body of a PUT. Attachments are staged as they come.
func readUploaded(c *ecosystem.Call) (*uploaded, error) {
	u := &uploaded{}
	s := newScanner(c.Request().Body, maxDocument)
	err := s.object(func(name string) error {
		switch name {
		case "_attachments":
			return s.object(func(name string) error { return u.readAttachment(c, s, name) })
		case "versions":
			u.versions = map[string]sentVersion{}
			return s.object(func(version string) error { return u.readVersion(c, s, version) })
		}
		raw, err := s.value()
		if err != nil {
			return err
		}
		switch name {
		case "name":
			err = json.Unmarshal(raw, &u.name)
		case "dist-tags":
			if len(raw) > maxTags {
				return fault.New(fault.TooLarge, "too-many-tags", "the package document has more dist-tags than can be kept")
			}
			err = json.Unmarshal(raw, &u.tags)
		case "users":
			u.users = true
		case "maintainers":
			u.owners = true
		case "readme":
			var t text
			err = json.Unmarshal(raw, &t)
			u.readme = string(t)
		}
		return err
	})
	if err == nil {
		return u, nil
	}
	u.discard()
	var told *fault.Error
	switch {
	case errors.As(err, &told):
		return nil, err
	case errors.Is(err, errTooMuch):
		return nil, fault.New(fault.TooLarge, "document-too-large",
			"the package document has more than %d bytes besides its tarball", maxDocument)
	case errors.Is(err, io.ErrUnexpectedEOF):
		return nil, fault.New(fault.Invalid, "cut-upload", "the package document did not arrive whole").
			WithHint("Nothing of it was kept; publish it again.")
	}
	return nil, fault.New(fault.Invalid, "bad-document", "the package document cannot be read: %v", err)
}

// readVersion reads a version of the document.
func (u *uploaded) readVersion(c *ecosystem.Call, s *scanner, version string) error {
	raw, err := s.value()
	if err != nil {
		return err
	}
	if len(u.versions) >= maxSentVersions {
		return fault.New(fault.TooLarge, "too-many-versions", "the package document has more than %d versions",
			maxSentVersions)
	}
	if u.first == nil {
		u.first = raw
	}
	// What is kept is given back: only what lasts counts.
	s.left += len(raw) - len(version)
	var fields struct{ Deprecated json.RawMessage }
	if bytes.Contains(raw, []byte(`"deprecated"`)) && json.Unmarshal(raw, &fields) == nil {
		u.versions[version] = sentVersion{slices.Clone(fields.Deprecated), fields.Deprecated != nil}
	} else {
		u.versions[version] = sentVersion{}
	}
	return c.Request().Context().Err()
}

const maxAttachments = 4

func (u *uploaded) readAttachment(c *ecosystem.Call, s *scanner, name string) error {
	return s.object(func(field string) error {
		if field != "data" {
			_, err := s.value()
			return err
		}
		if len(u.attachments) == maxAttachments {
			return fault.New(fault.Invalid, "too-many-attachments", "a package document has at most %d attachments",
				maxAttachments)
		}
		return s.base64(func(r io.Reader) error {
			staged, err := c.Desk.Stage(c.Request().Context(), c.Repository, r, -1, path.Base(name))
			if err == nil {
				u.attachments = append(u.attachments, attachment{path.Base(name), staged})
			}
			return err
		})
	})
}

// put takes a package document: to publish a version, or to change what is said
// of versions that are there.
func (n NPM) put(c *ecosystem.Call, name string) error {
	if err := n.mayChange(c, name); err != nil {
		return err
	}
	u, err := readUploaded(c)
	if err != nil {
		return err
	}
	defer u.discard()
	if u.users && len(u.versions) == 0 {
		return fault.New(fault.Invalid, "not-offered", "npm star is not offered by this server").
			WithHint("Searches can be saved: crelvo search --save NAME.")
	}
	if u.owners && len(u.versions) == 0 {
		return notOwners()
	}
	if u.name != name {
		return fault.New(fault.Invalid, "name-disagrees", "the package document is about %q, but was sent to %q", u.name,
			name)
	}
	if len(u.attachments) > 0 {
		return n.publish(c, u)
	}
	return n.annotate(c, u)
}

func notOwners() error {
	return fault.New(fault.Invalid, "not-offered", "npm owner is not offered by this server").
		WithHint("Who may publish a package is a matter of grants: crelvo grant add publisher --to WHO --on REPOSITORY " +
			"--for PATTERN.")
}

// newName refuses capitals in the name of a package that is not there yet: only old
// packages have some, and on many systems two names that differ in nothing else are
// one folder.
func newName(c *ecosystem.Call, target catalog.Repository, name string) error {
	if name == strings.ToLower(name) {
		return nil
	}
	scope, base, _ := splitName(name)
	_, err := c.Desk.Package(c.Request().Context(), target.Key(Name, scope, base))
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return fault.New(fault.Invalid, "bad-name", "a new npm package cannot have capitals in its name, as %s has", name).
			WithHint("Name it %s in its package.json.", strings.ToLower(name))
	}
	return err
}

// mayChange asks for the right that the name in the path needs, before the body is
// read: in any of the house repositories that what is sent may go to.
func (n NPM) mayChange(c *ecosystem.Call, name string) error {
	scope, base, ok := splitName(name)
	if !ok {
		return badName(name)
	}
	var first error
	for _, snapshot := range []bool{false, true} {
		target, err := c.Desk.Target(c.Caller, c.Repository, snapshot)
		if err == nil {
			err = c.Desk.MayPublish(c.Caller, target, target.Key(Name, scope, base))
		}
		if err == nil {
			return nil
		}
		if first == nil {
			first = err
		}
	}
	return first
}

func (n NPM) publish(c *ecosystem.Call, u *uploaded) error {
	if len(u.versions) != 1 {
		return fault.New(fault.Invalid, "not-one-version", "a publication has one version, and this has %d", len(u.versions))
	}
	m, err := parseManifest(u.first, false)
	if err != nil {
		return fault.New(fault.Invalid, "bad-manifest", "the version's manifest is not right: %v", err)
	}
	if m.Name != u.name {
		return fault.New(fault.Invalid, "name-disagrees", "the manifest says that it is %s, not %s", m.Name, u.name)
	}
	if m.Readme == "" {
		m.Readme = text(u.readme)
	}
	details, err := m.details()
	if err != nil {
		return fault.New(fault.Invalid, "bad-manifest", "the version's manifest is not right: %v", err)
	}
	scope, base, _ := splitName(m.Name) // parseManifest saw that it is one
	place := n.At(scope, base, m.Version, tarball)
	target, err := c.Desk.Target(c.Caller, c.Repository, place.Snapshot)
	if err != nil {
		return err
	}
	if err := newName(c, target, m.Name); err != nil {
		return err
	}
	p := ecosystem.Publication{Joins: true}
	for _, a := range u.attachments {
		at := place
		if strings.HasSuffix(a.name, "."+tarball) {
			if err := checkDist(m, a.staged.Digests()); err != nil {
				return err
			}
			p.Files = append([]ecosystem.StagedFile{{Place: at, Staged: a.staged, Details: details}}, p.Files...)
			continue
		}
		// What attests where the tarball comes from.
		at.FileName, at.Extension = base+"-"+m.Version+".sigstore", "sigstore"
		p.Files = append(p.Files, ecosystem.StagedFile{Place: at, Staged: a.staged})
	}
	if p.Files[0].Place.Extension != tarball {
		return fault.New(fault.Invalid, "no-tarball", "the package document has no tarball")
	}
	for tag, version := range u.tags {
		if version != m.Version {
			continue
		}
		if err := checkTag(tag); err != nil {
			return err
		}
		p.Labels = append(p.Labels, tag)
	}
	receipt, err := c.Desk.Publish(c.Request().Context(), c.Caller, target, n, p)
	if err != nil {
		return err
	}
	said := "published"
	if receipt.Same {
		said = "these very bytes were here already"
	}
	return c.JSON(http.StatusCreated, map[string]any{"ok": said, "id": u.name, "success": true})
}

// checkDist compares what the client computed with what arrived.
func checkDist(m *manifest, got catalog.Digests) error {
	stated := string(textOf(find(m.dist, "shasum")))
	wrong := stated != "" && !strings.EqualFold(stated, got.Hex("sha1"))
	for _, one := range strings.Fields(string(textOf(find(m.dist, "integrity")))) {
		if sum, ok := strings.CutPrefix(one, "sha512-"); ok && sum != base64.StdEncoding.EncodeToString(got.SHA512[:]) {
			wrong = true
		}
	}
	if wrong {
		return fault.New(fault.Invalid, "checksum-mismatch",
			"the tarball of %s@%s is not the one that its manifest was made for", m.Name, m.Version).
			WithHint("It was damaged on its way; publish it again.")
	}
	return nil
}

func checkTag(tag string) error {
	if tag == "" || len(tag) > 100 || purl.IsSemver(tag) || strings.ContainsAny(tag, "/%\\ ") {
		return fault.New(fault.Invalid, "bad-tag", "%.100q cannot be a dist-tag", tag).
			WithHint("Use a word such as next; not a version.")
	}
	return nil
}

// annotate takes from a whole package document, as clients send it back, which
// versions are deprecated, and which dist-tags there are.
func (n NPM) annotate(c *ecosystem.Call, u *uploaded) error {
	ctx := c.Request().Context()
	key, p, err := n.own(c, u.name)
	if err != nil {
		return err
	}
	reasons := map[string]*string{}
	for _, v := range ecosystem.Newest(p) {
		said, ok := u.versions[v.Version]
		if !ok || !said.says && v.Withdrawn == nil {
			continue
		}
		reason := (&manifest{Deprecated: said.deprecated}).deprecation()
		if (reason == nil) != (v.Withdrawn == nil) || reason != nil && *reason != deprecatedAs(v.Withdrawn) {
			reasons[v.Version] = reason
		}
	}
	if len(reasons) > 0 {
		if err := c.Desk.Withdraw(ctx, c.Caller, key, reasons); err != nil {
			return err
		}
	}
	for tag, version := range u.tags {
		if p.Labels[tag] == version || tag == latestTag && p.Labels[tag] == "" {
			continue
		}
		if err := checkTag(tag); err != nil {
			return err
		}
		if err := c.Desk.SetLabel(ctx, c.Caller, key, tag, version); err != nil {
			return err
		}
	}
	return c.JSON(http.StatusOK, map[string]any{"ok": "changed", "success": true})
}

// deprecatedAs is the text that documents have for a withdrawn version.
func deprecatedAs(w *catalog.Withdrawal) string { return cmp.Or(w.Reason, "withdrawn") }

// own finds a package that the caller wants to change. Behind a chain, what is
// changed is changed in every house repository that has it.
func (n NPM) own(c *ecosystem.Call, name string) (catalog.PackageKey, *catalog.Package, error) {
	scope, base, ok := splitName(name)
	if !ok {
		return catalog.PackageKey{}, nil, badName(name)
	}
	key := c.Repository.Key(Name, scope, base)
	p, err := c.Desk.Package(c.Request().Context(), key)
	if errors.Is(err, ecosystem.ErrNoPackage) {
		err = noPackage(c, name)
	}
	return key, p, err
}

// ownAt is own, if what the client saw of the package is still so.
func (n NPM) ownAt(c *ecosystem.Call, name, rev string) (catalog.PackageKey, *catalog.Package, error) {
	key, p, err := n.own(c, name)
	if err == nil && rev != revision(p) {
		err = fault.New(fault.Conflict, "changed-meanwhile", "%s was changed by somebody else meanwhile", name).
			WithHint("Run it again.")
	}
	return key, p, err
}

// shrink takes a package document without some of its versions, which are to be
// removed.
func (n NPM) shrink(c *ecosystem.Call, name, rev string) error {
	if err := n.mayChange(c, name); err != nil {
		return err
	}
	u, err := readUploaded(c)
	if err != nil {
		return err
	}
	defer u.discard()
	if u.owners && u.versions == nil {
		return notOwners()
	}
	key, p, err := n.ownAt(c, name, rev)
	if err != nil {
		return err
	}
	if u.versions == nil {
		return fault.New(fault.Invalid, "bad-document", "the package document has no versions")
	}
	var gone []string
	for _, version := range ecosystem.VersionNames(p) {
		if _, ok := u.versions[version]; !ok {
			gone = append(gone, version)
		}
	}
	if err := c.Desk.Remove(c.Request().Context(), c.Caller, key, gone); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"ok": "removed", "success": true})
}

// remove takes a whole package away.
func (n NPM) remove(c *ecosystem.Call, name, rev string) error {
	key, p, err := n.ownAt(c, name, rev)
	if err != nil {
		return err
	}
	if err := c.Desk.Remove(c.Request().Context(), c.Caller, key, ecosystem.VersionNames(p)); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"ok": "removed", "success": true})
}
