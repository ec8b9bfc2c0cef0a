package oci

import (
	"bytes"
	"encoding/hex"
	"errors"
	"net/http"
	"slices"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
)

// artifacts are the manifests and blobs of a package of another ecosystem, as this door
// shows it.
type artifacts struct {
	of    ecosystem.AsArtifact
	p     *catalog.Package
	tags  []string // in their order
	byTag map[string]*artifact
	bySum map[catalog.Sum]*artifact
	blobs map[catalog.Sum]artifactBlob
}

// artifact is one version; its manifest is nil if the files of the version are not known.
type artifact struct {
	ecosystem.Artifact
	sum     catalog.Sum
	version *catalog.Version
}

// artifactBlob is what a manifest names: a config, or a file of the version.
type artifactBlob struct {
	content []byte
	file    catalog.File
	version *catalog.Version
}

// artifactsAt are those of the package that an image is elsewhere; nil if it is none. The
// error is why that cannot be told.
func (o OCI) artifactsAt(c *ecosystem.Call) (*artifacts, error) {
	for _, e := range o.others {
		is, ok := e.IsImage(split(c.Parts["*"]))
		if !ok {
			continue
		}
		p, err := c.Desk.Package(c.Request().Context(), c.Repository.Key(e.Name(), is.Namespace, is.Name))
		if errors.Is(err, ecosystem.ErrNoPackage) {
			continue
		}
		if err != nil {
			return nil, err
		}
		made, err := c.Desk.Rendered(p, "artifacts", func(ecosystem.Document) (ecosystem.Document, error) {
			all, size, err := artifactsOf(e, p)
			// What it weighs is what it keeps.
			return ecosystem.Assemble("", p.Changed, ecosystem.NewPart(make([]byte, size), all)), err
		})
		if err != nil {
			return nil, err
		}
		return made.Parts()[0].Of.(*artifacts), nil
	}
	return nil, nil
}

// artifactsOf makes the artifacts of a package; size is about what they take, in bytes.
func artifactsOf(e ecosystem.AsArtifact, p *catalog.Package) (all *artifacts, size int, err error) {
	all = &artifacts{of: e, p: p, byTag: map[string]*artifact{}, bySum: map[catalog.Sum]*artifact{},
		blobs: map[catalog.Sum]artifactBlob{}}
	newest := map[*catalog.Version]bool{}
	for _, v := range ecosystem.Newest(p) {
		newest[v] = true
	}
	for i := range p.Versions {
		v := &p.Versions[i]
		one := &artifact{version: v}
		made, ok, err := e.ArtifactOf(v)
		if err != nil {
			return nil, 0, err
		}
		if ok {
			one.Artifact, one.sum = made, sumOf("", made.Manifest)
			all.bySum[one.sum] = one
			all.blobs[sumOf("", made.Config)] = artifactBlob{content: made.Config, version: v}
			for _, f := range made.Layers {
				all.blobs[sha256Of(f)] = artifactBlob{file: f, version: v}
			}
			size += 600 + len(made.Manifest) + len(made.Config)
		}
		if tag := e.TagOf(v.Version); newest[v] && tagForm.MatchString(tag) {
			all.byTag[tag] = one
			if v.Withdrawn == nil {
				all.tags = append(all.tags, tag)
			}
		}
	}
	slices.Sort(all.tags)
	return all, size, nil
}

// named is the one that a reference names; nil if none is.
func (a *artifacts) named(ref reference) *artifact {
	if ref.tag != "" {
		return a.byTag[ref.tag]
	}
	return a.bySum[ref.sum]
}

func sha256Of(f catalog.File) catalog.Sum {
	return catalog.Sum{Algorithm: "sha256", Hex: hex.EncodeToString(f.Digests.SHA256[:])}
}

// artifactManifest answers with the manifest of a package elsewhere; done is false if there
// is none.
func (o OCI) artifactManifest(c *ecosystem.Call, ref reference) (done bool, err error) {
	all, err := o.artifactsAt(c)
	if err != nil && c.Request().Method == http.MethodHead {
		return false, nil // who looks before a push is not to be kept from it
	}
	if all == nil || err != nil {
		return false, err
	}
	one := all.named(ref)
	if one == nil {
		return false, nil
	}
	v := one.version
	if ref.tag != "" && v.Withdrawn != nil {
		return true, fault.New(fault.NotFound, "withdrawn", "%s of %s is withdrawn%s", ref.tag, c.Parts["*"],
			because(v.Withdrawn.Reason)).WithHint("By its digest it can still be pulled.")
	}
	if one.Manifest == nil {
		if one, err = fetched(c, all, one); err != nil {
			return !errors.Is(err, ecosystem.ErrNoFile), err
		}
	}
	c.Response().Header().Set("Docker-Content-Digest", one.sum.String())
	return true, c.SendDocument(ecosystem.NewDocument(v1.MediaTypeImageManifest, one.Manifest, v.PublishedAt), nil)
}

// because is a reason at the end of a sentence.
func because(reason string) string {
	if reason == "" {
		return ""
	}
	return ": " + reason
}

// fetched is the artifact of a version that a mirror lists: its files have to be here before
// a manifest can name them.
func fetched(c *ecosystem.Call, all *artifacts, listed *artifact) (*artifact, error) {
	ctx := c.Request().Context()
	v := *listed.version
	v.Files = nil
	for _, f := range listed.version.Files {
		found, err := c.Desk.File(ctx, catalog.FileQuestion{Key: all.p.Key, Version: v.Version, Upload: v.Upload,
			Name: f.Name})
		if err != nil {
			return nil, err
		}
		kept, err := found.Kept(ctx)
		if err != nil {
			return nil, err
		}
		v.Files = append(v.Files, kept)
	}
	if v.PublishedAt.IsZero() {
		v.PublishedAt = time.Unix(0, 0)
	}
	made, ok, err := all.of.ArtifactOf(&v)
	if err == nil && !ok {
		err = ecosystem.ErrNoFile
	}
	return &artifact{Artifact: made, sum: sumOf("", made.Manifest), version: listed.version}, err
}

// artifactBlob answers with what the manifest of a package elsewhere names; done is false if
// none does.
func (o OCI) artifactBlob(c *ecosystem.Call, sum catalog.Sum) (done bool, err error) {
	all, err := o.artifactsAt(c)
	if all == nil || err != nil {
		return false, nil // whether it is there, the next one who is asked may tell
	}
	blob, ok := all.blobs[sum]
	if !ok {
		return false, nil
	}
	c.Response().Header().Set("Docker-Content-Digest", sum.String())
	if blob.content != nil {
		return true, c.SendDocument(ecosystem.NewDocument("application/octet-stream", blob.content, all.p.Changed), nil)
	}
	found, err := c.Desk.File(c.Request().Context(), blob.question(all.p.Key))
	if errors.Is(err, ecosystem.ErrNoFile) {
		return false, nil
	}
	if err != nil {
		return true, err
	}
	return true, c.SendFile(found, "application/octet-stream", true)
}

// question asks for the file that a blob is.
func (b artifactBlob) question(key catalog.PackageKey) catalog.FileQuestion {
	return catalog.FileQuestion{Key: key, Version: b.version.Version, Upload: b.version.Upload, Name: b.file.Name}
}

// artifactTags are the tags of a package elsewhere, from after one on.
func (o OCI) artifactTags(c *ecosystem.Call, after string) ([]string, error) {
	all, err := o.artifactsAt(c)
	if all == nil || err != nil {
		return nil, err
	}
	from, found := slices.BinarySearch(all.tags, after)
	if found {
		from++
	}
	return all.tags[from:], nil
}

// takesAs is the ecosystem whose package a manifest is; nil if it is an image.
func (o OCI) takesAs(c *ecosystem.Call, m manifest) ecosystem.AsArtifact {
	for _, e := range o.others {
		if _, ok := e.IsImage(split(c.Parts["*"])); ok && m.Config != nil && m.Config.MediaType == e.ConfigType() &&
			m.Subject == nil {
			return e
		}
	}
	return nil
}

// maxArtifactParts is how many files a manifest of another ecosystem's package may name, its
// config among them: each is copied on the way.
const maxArtifactParts = 4

// publishAs publishes a manifest as a version of another ecosystem, which takes what the
// manifest names into its own files.
func (o OCI) publishAs(c *ecosystem.Call, e ecosystem.AsArtifact, ref reference, m manifest, sum catalog.Sum) error {
	ctx := c.Request().Context()
	if len(m.parts()) > maxArtifactParts {
		return fault.New(fault.Invalid, "bad-manifest", "the manifest names %d files, and %s has %d at most with its config",
			len(m.parts()), e.Title(), maxArtifactParts)
	}
	a := ecosystem.Artifact{Manifest: m.raw}
	is, _ := e.IsImage(split(c.Parts["*"]))
	staged := []ecosystem.Staged{}
	defer func() {
		for _, s := range staged {
			s.Discard()
		}
	}()
	for i, part := range m.parts() {
		content, size, err := o.openBlob(c, part.Sum)
		if err != nil {
			return err
		}
		if size != part.Size {
			return errors.Join(content.Close(), fault.New(fault.Invalid, "other-size",
				"%s has %d bytes, and not %d as the manifest says", part.Sum, size, part.Size))
		}
		layer, err := c.Desk.Stage(ctx, c.Repository, content, size, part.FileName())
		if err = errors.Join(err, content.Close()); err != nil {
			return err
		}
		staged = append(staged, layer)
		if i == 0 { // parts begin with the config
			if a.Config, err = load(ctx, layer); err != nil {
				return err
			}
		}
	}
	p, err := e.FromArtifact(ctx, a, staged[min(1, len(staged)):])
	if err != nil {
		return err
	}
	place := p.Files[0].Place
	if tag := e.TagOf(place.Version); place.Name != is.Name || ref.tag != "" && ref.tag != tag {
		return fault.New(fault.Invalid, "archive-disagrees", "what is in it says %s %s, but it was pushed to %s:%s",
			place.Name, place.Version, c.Parts["*"], ref.tag).WithHint("Push it to %s:%s.", place.Name, tag)
	}
	target, err := c.Desk.Target(c.Caller, c.Repository, place.Snapshot)
	if err != nil {
		return err
	}
	if err := o.noImageThere(c, target, ref.tag); err != nil {
		return err
	}
	receipt, err := c.Desk.Publish(ctx, c.Caller, target, e, p)
	if err != nil {
		return err
	}
	if receipt.Same {
		// The manifest that it came with, or was given, stays.
		kept, err := c.Desk.Package(ctx, target.Key(e.Name(), is.Namespace, is.Name))
		if err != nil {
			return err
		}
		all, _, err := artifactsOf(e, kept)
		if err != nil {
			return err
		}
		if one := all.byTag[e.TagOf(place.Version)]; one != nil && all.bySum[sum] == nil {
			return fault.New(fault.Conflict, "published-already", "%s %s is published already, with this very file; its digest is %s, and stays",
				place.Name, place.Version, one.sum)
		}
	}
	return o.created(c, "manifests/"+sum.String(), sum)
}

// noImageThere refuses a tag that an image of that name has.
func (o OCI) noImageThere(c *ecosystem.Call, r catalog.Repository, tag string) error {
	key, err := imageKey(r, c.Parts["*"])
	if err != nil || tag == "" {
		return err
	}
	_, err = c.Desk.File(c.Request().Context(), catalog.FileQuestion{Key: key, Label: tag})
	if errors.Is(err, ecosystem.ErrNoFile) {
		return nil
	}
	if err != nil {
		return err
	}
	return taken(c, r, "image", tag)
}

// noArtifactThere refuses a tag that a package of that name has.
func (o OCI) noArtifactThere(c *ecosystem.Call, r catalog.Repository, tag string) error {
	for _, e := range o.others {
		is, ok := e.IsImage(split(c.Parts["*"]))
		if !ok || tag == "" {
			continue
		}
		p, err := c.Desk.Package(c.Request().Context(), r.Key(e.Name(), is.Namespace, is.Name))
		if errors.Is(err, ecosystem.ErrNoPackage) {
			continue
		}
		if err != nil {
			return err
		}
		if slices.ContainsFunc(p.Versions, func(v catalog.Version) bool { return e.TagOf(v.Version) == tag }) {
			return taken(c, r, e.Title()+" package", tag)
		}
	}
	return nil
}

// taken says that a tag is another thing's.
func taken(c *ecosystem.Call, r catalog.Repository, what, tag string) error {
	return fault.New(fault.Conflict, "name-taken", "%s has the %s %s:%s", r.Name, what, c.Parts["*"], tag).
		WithHint("Give one of them another name: clients could not tell which of them is meant.")
}

// openBlob opens a blob that was sent, or that a package elsewhere has.
func (o OCI) openBlob(c *ecosystem.Call, sum catalog.Sum) (content ecosystem.SeekableFile, size int64, err error) {
	ctx := c.Request().Context()
	key, err := imageKey(c.Repository, c.Parts["*"])
	if err != nil {
		return nil, 0, err
	}
	found, err := c.Desk.File(ctx, catalog.FileQuestion{Key: key, Name: sum.FileName()})
	if errors.Is(err, ecosystem.ErrNoFile) {
		all, told := o.artifactsAt(c)
		if told != nil {
			return nil, 0, told
		}
		if all != nil {
			if blob, ok := all.blobs[sum]; ok && blob.content != nil {
				return inMemory{bytes.NewReader(blob.content)}, int64(len(blob.content)), nil
			} else if ok {
				found, err = c.Desk.File(ctx, blob.question(all.p.Key))
			}
		}
	}
	if errors.Is(err, ecosystem.ErrNoFile) {
		return nil, 0, fault.New(fault.NotFound, "part-unknown", "the manifest names %s, which was not sent", sum)
	}
	if err != nil {
		return nil, 0, err
	}
	kept, err := found.Kept(ctx)
	if err != nil {
		return nil, 0, err
	}
	content, err = c.Desk.Open(ctx, kept)
	return content, kept.Digests.Size, err
}

// inMemory is bytes as a file.
type inMemory struct{ *bytes.Reader }

// Close implements io.Closer.
func (inMemory) Close() error { return nil }

// removeArtifact removes the version that a reference names elsewhere; done is false if it
// names none.
func (o OCI) removeArtifact(c *ecosystem.Call, ref reference) (done bool, err error) {
	all, err := o.artifactsAt(c)
	if all == nil || err != nil {
		return false, err
	}
	one := all.named(ref)
	if one == nil {
		return false, nil
	}
	return true, c.Desk.Remove(c.Request().Context(), c.Caller, all.p.Key, []string{one.version.Version})
}
