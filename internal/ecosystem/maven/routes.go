// Package maven is Crelvo's Maven: the repository layout over HTTP as mvn,
// Gradle, sbt and Ivy speak it. maven-metadata.xml and checksums are made from
// records; what clients send under those names is only checked.
package maven

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// Name is the purl type.
const Name = "maven"

// Maven implements ecosystem.Ecosystem.
type Maven struct{}

var _ ecosystem.Ecosystem = Maven{}

// Name implements ecosystem.Ecosystem.
func (Maven) Name() string { return Name }

// Title implements ecosystem.Ecosystem.
func (Maven) Title() string { return "Maven" }

// Routes implements ecosystem.Ecosystem. The layout is one tree of paths.
func (m Maven) Routes() []ecosystem.Route {
	return []ecosystem.Route{
		{Method: http.MethodGet, Path: "/*", Action: access.Read, Serve: m.get},
		{Method: http.MethodHead, Path: "/*", Action: access.Read, Serve: m.get},
		{Method: http.MethodPut, Path: "/*", Action: access.Publish, Serve: m.put},
	}
}

// Refuse implements ecosystem.Ecosystem. mvn shows the reason phrase of the
// status line and nothing else.
func (m Maven) Refuse(c *ecosystem.Call, err error) error {
	return c.RefuseInReason(fault.Of(err))
}

func (m Maven) get(c *ecosystem.Call) error {
	t, err := parsePath(c.Rest)
	if err != nil {
		return m.outside(c, err)
	}
	switch t.kind {
	case folder:
		return c.ShowFolder()
	case metadata:
		return m.getMetadata(c, t)
	default:
		return m.getFile(c, t)
	}
}

// outside answers for what is no path of a file: a folder's without its slash leads
// to the folder, and at any other there is nothing.
func (m Maven) outside(c *ecosystem.Call, err error) error {
	f := *fault.Of(err)
	if f.Code != "bad-file-name" && f.Code != "no-such-path" && f.Code != "no-such-file" {
		return err
	}
	if _, err := c.Folder(c.Rest + "/"); err == nil {
		return c.Redirect(http.StatusMovedPermanently, c.Base()+strings.TrimPrefix(c.Rest, "/")+"/")
	}
	f.Kind = fault.NotFound
	return &f
}

func (m Maven) question(repository catalog.Repository, t target) catalog.FileQuestion {
	q := catalog.FileQuestion{Key: t.place.Key(Name, repository), Version: t.place.Version}
	if t.literal {
		q.Classifier, q.Extension = t.place.Classifier, t.place.Extension
	} else {
		q.Name, q.Upload = t.place.FileName, t.place.Upload
	}
	return q
}

func (m Maven) getFile(c *ecosystem.Call, t target) error {
	found, err := c.Desk.File(c.Request().Context(), m.question(c.Repository, t))
	if err == nil && t.checksum != "" {
		var sum string
		var at time.Time
		if sum, at, err = found.Checksum(c.Request().Context(), t.checksum); err == nil {
			return c.SendDocument(ecosystem.NewDocument("text/plain; charset=utf-8", []byte(sum), at), nil)
		}
	}
	if err == nil {
		err = c.SendFile(found, contentType(t.place.Extension), !t.literal)
	}
	if errors.Is(err, ecosystem.ErrNoFile) {
		if own, ok := m.ownOpen(c, t); ok {
			c.Response().Header().Set("Crelvo-State", "receiving") // nobody else sees it yet
			return c.SendFile(own, contentType(t.place.Extension), false)
		}
		return m.missing(c, t)
	}
	return err
}

// ownOpen finds a file of a version that is not complete yet, for whoever sent it.
func (m Maven) ownOpen(c *ecosystem.Call, t target) (ecosystem.Found, bool) {
	if c.Caller.ID == 0 || c.Repository.AsOf != 0 || t.checksum != "" || c.Repository.Fetches() {
		return ecosystem.Found{}, false
	}
	at, err := c.Desk.Target(c.Caller, c.Repository, t.place.Snapshot)
	if err != nil {
		return ecosystem.Found{}, false
	}
	q := m.question(at, t)
	q.Open, q.By = true, c.Caller.ID
	found, err := c.Desk.File(c.Request().Context(), q)
	return found, err == nil
}

func (m Maven) missing(c *ecosystem.Call, t target) error {
	otherwise := fault.New(fault.NotFound, "no-such-file", "%s holds no file at %s", c.Repository.At(),
		strings.Join(t.segments, "/"))
	if t.kind != artifact {
		return otherwise
	}
	if t.place.Extension == t.place.FileName && t.checksum == "" { // it may be a folder's
		return m.outside(c, otherwise)
	}
	return c.Absent(t.place.Key(Name, c.Repository), t.place.Version, otherwise)
}

// getMetadata answers for the three levels of maven-metadata.xml. A path can be
// an artifact and a group at once.
func (m Maven) getMetadata(c *ecosystem.Call, t target) error {
	document, stale, err := m.metadata(c, t.segments)
	if errors.Is(err, ecosystem.ErrNoPackage) {
		return m.missing(c, t)
	}
	if err != nil {
		return err
	}
	if t.checksum != "" {
		document = ecosystem.NewDocument("text/plain; charset=utf-8", []byte(document.Digests().Hex(t.checksum)),
			document.Changed)
	}
	return c.SendDocument(document, stale)
}

// metadata is the maven-metadata.xml of a folder, which may be an artifact, a snapshot of
// one, a group with plugins, or an artifact and a group; ErrNoPackage if it is none.
func (m Maven) metadata(c *ecosystem.Call, segments []string) (
	d ecosystem.Document, stale []catalog.Staleness, err error,
) {
	ctx, n := c.Request().Context(), len(segments)
	if n >= 3 && purl.IsSnapshot(Name, segments[n-1]) {
		p, err := c.Desk.Uploads(ctx, m.keyAt(c, segments[:n-1]), segments[n-1])
		if err != nil {
			return d, nil, err
		}
		made, changed, ok := snapshotMetadata(p, segments[n-1])
		if !ok {
			return d, nil, ecosystem.ErrNoPackage
		}
		d, err := made.document(changed)
		return d, p.Stale, err
	}
	var p *catalog.Package
	if n >= 2 {
		if p, err = c.Desk.Package(ctx, m.keyAt(c, segments)); err != nil && !errors.Is(err, ecosystem.ErrNoPackage) {
			return d, nil, err
		}
	}
	var plugins *pluginList
	if desk, ok := c.Desk.(ecosystem.PluginLister); ok && n >= 1 {
		found, err := desk.Plugins(ctx, c.Repository, Name, strings.Join(segments, "."), "maven-plugin", p != nil)
		if err != nil {
			return d, nil, err
		}
		plugins = pluginMetadata(found)
	}
	switch {
	case p == nil && plugins == nil:
		return d, nil, ecosystem.ErrNoPackage
	case p == nil:
		d, err = repositoryMetadata{Plugins: plugins}.document(time.Time{})
		return d, nil, err
	case plugins == nil:
		d, err = artifactDocument(c.Desk, p)
		return d, p.Stale, err
	}
	made := artifactMetadata(p)
	made.Plugins = plugins
	d, err = made.document(p.Changed)
	return d, p.Stale, err
}

// artifactDocument is the metadata of an artifact that is no group.
func artifactDocument(desk ecosystem.Shelves, p *catalog.Package) (ecosystem.Document, error) {
	return desk.Rendered(p, metadataName, func(ecosystem.Document) (ecosystem.Document, error) {
		return artifactMetadata(p).document(p.Changed)
	})
}

// keyAt is the key of the package that the segments group/…/artifact name.
func (m Maven) keyAt(c *ecosystem.Call, segments []string) catalog.PackageKey {
	n := len(segments)
	return c.Repository.Key(Name, strings.Join(segments[:n-1], "."), segments[n-1])
}

func (m Maven) put(c *ecosystem.Call) error {
	t, err := parsePath(c.Rest)
	if err != nil {
		return err
	}
	if t.kind == folder {
		return fault.New(fault.Invalid, "bad-path", "a file cannot be sent to a folder").
			WithHint("Give the full path: group/artifact/version/artifact-version.extension.")
	}
	n := len(t.segments)
	snapshot := t.place.Snapshot || t.kind == metadata && n > 0 && purl.IsSnapshot(Name, t.segments[n-1])
	target, err := c.Desk.Target(c.Caller, c.Repository, snapshot)
	if err != nil && t.kind == metadata && !snapshot {
		// Clients end the deployment of a snapshot with this file too, and then
		// need not be able to publish releases.
		if snapshots, snapshotsErr := c.Desk.Target(c.Caller, c.Repository, true); snapshotsErr == nil {
			target, err = snapshots, nil
		}
	}
	if err != nil {
		return err
	}
	c.Repository = target
	if err := m.mayPublish(c, t); err != nil {
		return err
	}
	switch {
	case t.checksum != "":
		return m.putChecksum(c, t)
	case t.kind == metadata:
		return m.putMetadata(c, t)
	}
	receipt, err := c.Desk.Receive(c.Request().Context(), c.Caller, c.Repository, m, t.place, c.Request().Body,
		c.Request().ContentLength)
	if err != nil {
		return err
	}
	switch {
	case receipt.Same && receipt.Open:
		return c.String(http.StatusOK, "These very bytes were here already. "+missingStill(t, receipt))
	case receipt.Same:
		return c.String(http.StatusOK, "These very bytes were here already.\n")
	case receipt.Open:
		return c.String(http.StatusCreated, "Received. "+missingStill(t, receipt))
	}
	return c.String(http.StatusCreated, "Added to a version that is listed.\n")
}

// missingStill tells what it takes for a version to be listed, and until when.
func missingStill(t target, r ecosystem.Receipt) string {
	const clock = "2006-01-02 15:04:05 UTC"
	p := purl.PURL{Ecosystem: Name, Namespace: t.place.Namespace, Name: t.place.Name, Version: t.place.Version}
	return fmt.Sprintf(
		"%s is not listed yet: it is when its maven-metadata.xml is sent or, with a pom, when nothing more is sent until "+
			"%s.\n"+
			"Without a pom it is given up at %s. What is being received: crelvo receiving.\n", p, r.Quiet.UTC().Format(clock),
		r.End.UTC().Format(clock))
}

// mayPublish asks for the right that what is sent needs, by its path alone: a
// file and what is said of it are about a package; metadata of a group about any
// package in it.
func (m Maven) mayPublish(c *ecosystem.Call, t target) error {
	if t.kind != metadata {
		return c.Desk.MayPublish(c.Caller, c.Repository, t.place.Key(Name, c.Repository))
	}
	segments := t.segments
	if n := len(segments); n > 0 && purl.IsSnapshot(Name, segments[n-1]) {
		segments = segments[:n-1]
	}
	var err error
	if len(segments) >= 2 {
		if err = c.Desk.MayPublish(c.Caller, c.Repository, m.keyAt(c, segments)); err == nil {
			return nil
		}
	}
	if within := c.Desk.MayPublish(c.Caller, c.Repository,
		c.Repository.Key(Name, strings.Join(segments, "."), "*")); err == nil || within == nil {
		return within
	}
	return err
}

const maxChecksum = 1 << 10

// putChecksum compares what the client computed with what arrived.
func (m Maven) putChecksum(c *ecosystem.Call, t target) error {
	raw, err := io.ReadAll(io.LimitReader(c.Request().Body, maxChecksum+1))
	if err != nil {
		return fault.New(fault.Invalid, "cut-upload", "the checksum did not arrive whole").WithCause(err)
	}
	if len(raw) > maxChecksum {
		return fault.New(fault.TooLarge, "checksum-too-large", "a checksum file has at most %d bytes", maxChecksum)
	}
	stated, ok := ecosystem.ChecksumIn(string(raw), t.checksum)
	if !ok {
		return fault.New(fault.Invalid, "bad-checksum", "this is no %s checksum", t.checksum).
			WithHint("It must be %d hexadecimal digits.", len(catalog.Digests{}.Hex(t.checksum)))
	}
	if t.kind == metadata {
		return c.String(http.StatusOK, "Crelvo makes the metadata itself.\n")
	}
	q := m.question(c.Repository, t)
	q.Open, q.By = true, c.Caller.ID
	f, err := c.Desk.File(c.Request().Context(), q)
	own := err == nil
	if errors.Is(err, ecosystem.ErrNoFile) {
		// Repeating a publication that somebody else has made is no mistake.
		q.By = 0
		f, err = c.Desk.File(c.Request().Context(), q)
	}
	if errors.Is(err, ecosystem.ErrNoFile) {
		return fault.New(fault.Conflict, "checksum-first", "%s is not here, so its checksum cannot be compared",
			t.place.FileName).
			WithHint("Send the file before its checksum.")
	}
	if err != nil {
		return err
	}
	if computed := f.Digests.Hex(t.checksum); computed != stated {
		if own { // whoever else has it wrong breaks nothing of others
			if err := c.Desk.Broken(c.Request().Context(), f.File); err != nil {
				return err
			}
		}
		return fault.New(fault.Invalid, "checksum-mismatch", "the %s of %s is %s as received, but %s as sent",
			t.checksum, t.place.FileName, computed, stated).WithHint("The file was damaged on its way; send it again.")
	}
	return c.String(http.StatusOK, "The checksum is right.\n")
}

// putMetadata takes from the client's metadata that its deployment is complete.
func (m Maven) putMetadata(c *ecosystem.Call, t target) error {
	uploaded, err := parseMetadata(c.Request().Body)
	if err != nil {
		return err
	}
	n := len(t.segments)
	if n > 0 && purl.IsSnapshot(Name, t.segments[n-1]) {
		n--
	}
	if n >= 2 {
		err = c.Desk.Finish(c.Request().Context(), c.Caller, c.Repository, ecosystem.Completion{
			Key: m.keyAt(c, t.segments[:n]), Version: uploaded.completes, Lacks: lacks})
	}
	if err != nil {
		return err
	}
	return c.String(http.StatusCreated, "Crelvo makes the metadata itself; the deployment is complete.\n")
}

// lacks names what a version lacks of what every version has: its pom.
func lacks(files []catalog.File) string {
	if !slices.ContainsFunc(files, func(f catalog.File) bool { return f.Extension == "pom" && f.Classifier == "" }) {
		return "its pom"
	}
	return ""
}

var contentTypes = map[string]string{
	"jar": "application/java-archive", "war": "application/java-archive", "ear": "application/java-archive",
	"pom": "text/xml", "xml": "text/xml", "module": "application/json", "json": "application/json",
	"zip": "application/zip", "gz": "application/gzip", "tgz": "application/gzip",
	"asc": "application/pgp-signature", "txt": "text/plain; charset=utf-8",
}

func contentType(extension string) string {
	if known, ok := contentTypes[extension[strings.LastIndexByte(extension, '.')+1:]]; ok {
		return known
	}
	return "application/octet-stream"
}

// Address implements ecosystem.Ecosystem.
func (Maven) Address(p purl.PURL, _ string, f catalog.File) string {
	return folderOf(p.Namespace, p.Name, p.Version) + "/" + f.Name
}

// Folder implements ecosystem.Ecosystem.
func (m Maven) Folder(
	ctx context.Context, desk ecosystem.Shelves, repository catalog.Repository, path string,
) (ecosystem.Folder, error) {
	t, err := parsePath(strings.Trim(path, "/") + "/")
	if err != nil {
		return ecosystem.Folder{}, err
	}
	f := ecosystem.Folder{Path: strings.Join(t.segments, "/")}
	branches, packages, err := desk.Below(ctx, repository, Name, strings.Join(t.segments, "."), ".")
	if err != nil {
		return f, err
	}
	for _, b := range branches {
		f.Entries = append(f.Entries, ecosystem.Entry{Name: b.Segment, Folder: true, Size: b.Bytes, ChangedAt: b.ChangedAt})
	}
	for _, p := range packages {
		address := purl.PURL{Ecosystem: Name, Namespace: strings.Join(t.segments, "."), Name: p.Name}
		line := ecosystem.Entry{Name: p.Name, Folder: true, Size: p.Bytes, ChangedAt: p.ChangedAt, PURL: address}
		if i := slices.IndexFunc(f.Entries, func(e ecosystem.Entry) bool { return e.Name == p.Name }); i >= 0 {
			line.Size += f.Entries[i].Size // a group and an artifact of one name
			f.Entries[i] = line
			continue
		}
		f.Entries = append(f.Entries, line)
	}
	// The same path may be an artifact, or a version of one.
	for depth := range 2 {
		n := len(t.segments) - depth
		if n < 2 {
			break
		}
		p, err := desk.Package(ctx, repository.Key(Name, strings.Join(t.segments[:n-1], "."), t.segments[n-1]))
		if errors.Is(err, ecosystem.ErrNoPackage) {
			continue
		}
		if err != nil {
			return f, err
		}
		if depth == 0 {
			f.Entries = append(f.Entries, ecosystem.VersionEntries(p)...)
			metadata, err := artifactDocument(desk, p)
			if err != nil {
				return f, err
			}
			f.Entries = append(f.Entries, metadataEntry(metadata))
		} else {
			f.Entries = append(f.Entries, ecosystem.FileEntries(p, t.segments[n])...)
			if m, changed, ok := snapshotMetadata(p, t.segments[n]); ok {
				metadata, err := m.document(changed)
				if err != nil {
					return f, err
				}
				f.Entries = append(f.Entries, metadataEntry(metadata))
			}
		}
	}
	if len(f.Entries) == 0 && len(t.segments) > 0 {
		return f, ecosystem.ErrNoFolder
	}
	return f, nil
}

func metadataEntry(metadata ecosystem.Document) ecosystem.Entry {
	digests := metadata.Digests()
	return ecosystem.Entry{Name: metadataName, ChangedAt: metadata.Changed, Document: true, Size: digests.Size,
		Digests: &digests}
}
