package onefile

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// File answers with an archive at its own address.
func (k Kind) File(c *ecosystem.Call, contentType string) error {
	q, ok := k.Question(c.Repository, c.Rest)
	if !ok {
		return fault.New(fault.NotFound, "no-such-file", "there is no package at %.200q", c.Rest)
	}
	return k.Answer(c, q, contentType)
}

// Download answers with the archive of a version. Of a snapshot it is the upload that has
// the digest (SHA-256), so that a lock file keeps giving what it was made with.
func (k Kind) Download(c *ecosystem.Call, name, version, digest, contentType string) error {
	q := catalog.FileQuestion{Key: c.Repository.Key(k.Type, "", name), Version: version}
	place, err := k.PlaceOf(q)
	if err != nil {
		return fault.New(fault.NotFound, "no-such-file", "there is no package at %.200q", c.Rest)
	}
	q.Key.Name, q.Name = place.Name, place.FileName
	if place.Snapshot {
		p, err := c.Desk.Uploads(c.Request().Context(), q.Key, version)
		if err != nil && !errors.Is(err, ecosystem.ErrNoPackage) {
			return err
		}
		for i := 0; p != nil && i < len(p.Versions); i++ {
			for _, f := range p.Versions[i].Files {
				if v := p.Versions[i]; v.Version == version && f.Digests.Hex("sha256") == digest {
					q.Upload = v.Upload
				}
			}
		}
	}
	return k.Answer(c, q, contentType)
}

// Answer answers with a file.
func (k Kind) Answer(c *ecosystem.Call, q catalog.FileQuestion, contentType string) error {
	found, err := c.Desk.File(c.Request().Context(), q)
	if err == nil {
		err = c.SendFile(found, contentType, q.Upload != "" || !purl.IsSnapshot(k.Type, q.Version))
	}
	if errors.Is(err, ecosystem.ErrNoFile) {
		return c.Absent(q.Key, q.Version, fault.New(fault.NotFound, "no-such-file", "%s holds no %s %s", c.Repository.At(),
			q.Key.Name, q.Version))
	}
	return err
}

// Listed is a package, or says why it is not there.
func (k Kind) Listed(c *ecosystem.Call, name string) (*catalog.Package, error) {
	if !k.IsName("", name) {
		return nil, fault.New(fault.NotFound, "no-such-package", "%.80q cannot be the name of a package", name)
	}
	key := c.Repository.Key(k.Type, "", purl.NormalName(k.Type, name))
	p, err := c.Desk.Package(c.Request().Context(), key)
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return nil, c.Absent(key, "", fault.New(fault.NotFound, "no-such-package", "%s holds no %s", c.Repository.At(), name))
	}
	return p, err
}

// Lines answers with a document that has a line of JSON for each version of a package, the
// newest last. about tells it from others that are made of the package.
func (k Kind) Lines(
	c *ecosystem.Call, name, about string, line func(v *catalog.Version) (any, error),
) error {
	p, err := k.Listed(c, name)
	if err != nil {
		return err
	}
	d, err := c.Desk.Rendered(p, about, func(ecosystem.Document) (ecosystem.Document, error) {
		var lines bytes.Buffer
		encoder := json.NewEncoder(&lines)
		encoder.SetEscapeHTML(false)
		for _, v := range ecosystem.Newest(p) {
			one, err := line(v)
			if err == nil {
				err = encoder.Encode(one)
			}
			if err != nil {
				return ecosystem.Document{}, err
			}
		}
		return ecosystem.NewDocument("text/plain; charset=utf-8", lines.Bytes(), p.Changed), nil
	})
	if err != nil {
		return err
	}
	return c.SendDocument(d, p.Stale)
}

// Withdraw withdraws a version that is behind the address, or with a nil reason takes that
// back.
func (k Kind) Withdraw(c *ecosystem.Call, name, version string, reason *string) error {
	return c.Desk.Withdraw(c.Request().Context(), c.Caller, c.Repository.Key(k.Type, "", purl.NormalName(k.Type, name)),
		map[string]*string{version: reason})
}

// Take publishes an archive that is sent with what it should be. rivals are other
// spellings of its name that are the same to clients; e is the ecosystem itself.
func (k Kind) Take(
	c *ecosystem.Call, e ecosystem.Ecosystem, content io.Reader, size int64, said purl.PURL,
	rivals func(name string) []string,
) error {
	ctx := c.Request().Context()
	staged, err := c.Desk.Stage(ctx, c.Repository, content, size, said.Name+" "+said.Version)
	if err != nil {
		return err
	}
	defer staged.Discard()
	place, _, err := k.Arrived(ctx, "what was published", staged)
	if err != nil {
		return err
	}
	if place.Name != purl.NormalName(k.Type, said.Name) || place.Version != said.Version {
		return fault.New(fault.Invalid, "archive-disagrees", "what is in it says %s %s, but it was sent as %s %s",
			place.Name, place.Version, said.Name, said.Version)
	}
	target, err := c.Desk.Target(c.Caller, c.Repository, place.Snapshot)
	if err != nil {
		return err
	}
	for _, other := range rivals(place.Name) {
		if other == place.Name {
			continue
		}
		if _, err := c.Desk.Package(ctx, target.Key(k.Type, "", other)); err == nil {
			return fault.New(fault.Conflict, "name-taken", "%s holds a package named %s, which is the same name as %s",
				target.Name, other, place.Name).WithHint("Publish it as %s.", other)
		}
	}
	_, err = c.Desk.Publish(ctx, c.Caller, target, e,
		ecosystem.Publication{Files: []ecosystem.StagedFile{{Place: place, Staged: staged}}})
	return err
}

// Hyphens are the spellings of a name in which hyphens and underscores are the same.
func Hyphens(name string) []string {
	return []string{strings.ReplaceAll(name, "_", "-"), strings.ReplaceAll(name, "-", "_")}
}
