package oci

import (
	"bytes"
	"cmp"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
)

// parts is the part of the Desk that takes blobs.
func parts(c *ecosystem.Call) ecosystem.PartTaker { return c.Desk.(ecosystem.PartTaker) }

// house is the repository that takes what is pushed without a version: the one that is
// named or, behind a chain, the one that takes snapshots, if there is one.
func house(c *ecosystem.Call) (catalog.Repository, error) {
	if !c.Repository.Gathers() {
		return c.Repository, nil
	}
	snapshots, err := c.Desk.Target(c.Caller, c.Repository, true)
	if err == nil {
		return snapshots, nil
	}
	if releases, err := c.Desk.Target(c.Caller, c.Repository, false); err == nil {
		return releases, nil
	}
	return snapshots, err
}

// houseOf is the repository that takes a manifest: behind a chain its tag decides, or what
// it is about.
func (o OCI) houseOf(c *ecosystem.Call, tag string, m manifest) (catalog.Repository, error) {
	release, snapshot := o.LabelMaturity(c.Repository, tag)
	switch {
	case !c.Repository.Gathers():
		return c.Repository, nil
	case release, snapshot:
		return c.Desk.Target(c.Caller, c.Repository, snapshot)
	}
	if r, err := c.Desk.Target(c.Caller, c.Repository, false); err == nil && tag != "" {
		if release, _ := o.LabelMaturity(r, tag); release {
			return r, nil
		}
	}
	usual, err := house(c)
	if m.Subject == nil || err != nil {
		return usual, err
	}
	key, err := imageKey(c.Repository, c.Parts["*"])
	if err != nil {
		return usual, err
	}
	sum, _ := catalog.ParseSum(string(m.Subject.Digest))
	about, err := c.Desk.File(c.Request().Context(), catalog.FileQuestion{Key: key, Version: sum.String(),
		Name: sum.FileName()})
	if err == nil {
		if r, err := c.Desk.Target(c.Caller, c.Repository, false); err == nil && r.ID == about.RepositoryID {
			return r, nil
		}
	}
	return usual, nil
}

// imageFor is the image that a request pushes blobs to.
func imageFor(c *ecosystem.Call) (catalog.PackageKey, error) {
	r, err := house(c)
	if err != nil {
		return catalog.PackageKey{}, err
	}
	key, err := imageKey(r, c.Parts["*"])
	key.Sight = ""
	return key, err
}

// beginUpload begins a blob, takes one at once, or mounts one that is elsewhere.
func (o OCI) beginUpload(c *ecosystem.Call) error {
	ctx := c.Request().Context()
	key, err := imageFor(c)
	if err != nil {
		return err
	}
	if mount := c.QueryParam("mount"); mount != "" {
		sum, err := digestOf(mount)
		if err != nil {
			return err
		}
		// Whatever cannot be mounted, for whatever reason, is to be sent.
		from := ecosystem.Lender{}
		repository, image, ok := strings.Cut(c.QueryParam("from"), "/")
		if c.ByHost {
			repository, image, ok = c.Repository.Name, c.QueryParam("from"), true
		}
		if ok && nameForm.MatchString(image) {
			from.Repository = catalog.Spelled(repository)
			from.Namespace, from.Name = split(image)
		}
		if from.Name != "" || c.QueryParam("from") == "" {
			lent, err := parts(c).LendPart(ctx, c.Caller, key, from, sum)
			if err != nil {
				return err
			}
			if lent {
				return o.created(c, "blobs/"+sum.String(), sum)
			}
		}
	} else if text := c.QueryParam("digest"); text != "" {
		sum, err := digestOf(text)
		if err != nil {
			return err
		}
		if err := parts(c).TakePart(ctx, c.Caller, key, c.Request().Body, c.Request().ContentLength, sum); err != nil {
			return err
		}
		return o.created(c, "blobs/"+sum.String(), sum)
	}
	id, err := parts(c).BeginPart(ctx, c.Caller, key)
	if err != nil {
		return err
	}
	o.underway(c, id, 0)
	return c.NoContent(http.StatusAccepted)
}

// created says where something is now.
func (o OCI) created(c *ecosystem.Call, at string, sum catalog.Sum) error {
	h := c.Response().Header()
	h.Set("Location", o.path(c, at))
	h.Set("Docker-Content-Digest", sum.String())
	return c.NoContent(http.StatusCreated)
}

// underway says where an upload goes on, and how much of it is here.
func (o OCI) underway(c *ecosystem.Call, id string, size int64) {
	h := c.Response().Header()
	h.Set("Location", o.path(c, "blobs/uploads/"+id))
	h.Set("Docker-Upload-UUID", id)
	h.Set("Range", fmt.Sprintf("0-%d", max(size-1, 0)))
}

// uploadStatus tells how much of an upload is here.
func (o OCI) uploadStatus(c *ecosystem.Call) error {
	key, err := imageFor(c)
	if err != nil {
		return err
	}
	size, err := parts(c).PartArrived(c.Request().Context(), c.Caller, key, c.Parts["upload"])
	if err != nil {
		return err
	}
	o.underway(c, c.Parts["upload"], size)
	return c.NoContent(http.StatusNoContent)
}

// chunkStart reads the header Content-Range, which is 0-99 here; -1 if there is none.
func chunkStart(c *ecosystem.Call) (start int64, err error) {
	text := c.Request().Header.Get("Content-Range")
	if text == "" {
		return -1, nil
	}
	var end int64
	n, err := fmt.Sscanf(strings.TrimPrefix(text, "bytes "), "%d-%d", &start, &end)
	length := c.Request().ContentLength
	if err != nil || n != 2 || start < 0 || end < start-1 || length >= 0 && end-start+1 != length {
		return 0, fault.New(fault.Invalid, "bad-range", "the Content-Range %.60q does not fit the %d bytes that came with it",
			text, length).WithHint("Write it as START-END, both counted from 0.")
	}
	return start, nil
}

// addChunk adds what a request has to an upload.
func (o OCI) addChunk(c *ecosystem.Call, key catalog.PackageKey) (size int64, err error) {
	start, err := chunkStart(c)
	if err != nil {
		return 0, err
	}
	id := c.Parts["upload"]
	size, err = parts(c).ContinuePart(c.Request().Context(), c.Caller, key, id, start, c.Request().Body)
	if err != nil && fault.Of(err).Code == "other-offset" {
		// What the specification says of chunks that come in another order.
		o.underway(c, id, size)
		f := *fault.Of(err)
		f.Kind = http.StatusRequestedRangeNotSatisfiable
		return size, &f
	}
	return size, err
}

// continueUpload takes a chunk.
func (o OCI) continueUpload(c *ecosystem.Call) error {
	key, err := imageFor(c)
	if err != nil {
		return err
	}
	size, err := o.addChunk(c, key)
	if err != nil {
		return err
	}
	o.underway(c, c.Parts["upload"], size)
	return c.NoContent(http.StatusAccepted)
}

// endUpload takes the last chunk, if one comes with it, and makes a blob of the upload.
func (o OCI) endUpload(c *ecosystem.Call) error {
	key, err := imageFor(c)
	if err != nil {
		return err
	}
	sum, err := digestOf(c.QueryParam("digest"))
	if err != nil {
		return err
	}
	if c.Request().ContentLength != 0 {
		if _, err := o.addChunk(c, key); err != nil {
			return err
		}
	}
	if err := parts(c).EndPart(c.Request().Context(), c.Caller, key, c.Parts["upload"], sum); err != nil {
		return err
	}
	return o.created(c, "blobs/"+sum.String(), sum)
}

// dropUpload gives up an upload.
func (o OCI) dropUpload(c *ecosystem.Call) error {
	key, err := imageFor(c)
	if err == nil {
		err = parts(c).DropPart(c.Request().Context(), c.Caller, key, c.Parts["upload"])
	}
	if err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// putManifest publishes a manifest, and points a tag to it.
func (o OCI) putManifest(c *ecosystem.Call) error {
	ctx := c.Request().Context()
	ref, err := referenceOf(c, c.Repository)
	if err != nil {
		return err
	}
	// Who may publish nothing there need not send anything.
	if err := c.Desk.MayPublish(c.Caller, c.Repository, ref.key); err != nil {
		return err
	}
	raw, err := io.ReadAll(io.LimitReader(c.Request().Body, maxManifest+1))
	if err != nil {
		return ecosystem.CutUpload(err)
	}
	if len(raw) > maxManifest {
		return tooLarge()
	}
	mediaType := c.Request().Header.Get("Content-Type")
	if plain, _, err := mime.ParseMediaType(mediaType); err == nil {
		mediaType = plain
	} else if mediaType != "" {
		return fault.New(fault.Invalid, "bad-media-type", "%.80q is no media type", mediaType)
	}
	m, err := readManifest(ctx, raw, mediaType)
	if err != nil {
		return badManifest("the manifest", err)
	}
	sum := sumOf(ref.sum.Algorithm, raw)
	if ref.tag == "" && sum != ref.sum {
		return fault.New(fault.Invalid, "other-digest", "the manifest has the digest %s, and not %s", sum, ref.sum)
	}
	if e := o.takesAs(c, m); e != nil {
		return o.publishAs(c, e, ref, m, sum)
	}
	r, err := o.houseOf(c, ref.tag, m)
	if err != nil {
		return err
	}
	if err := o.noArtifactThere(c, r, ref.tag); err != nil {
		return err
	}
	var labels []string
	if ref.tag != "" {
		labels = []string{ref.tag}
	}
	if m.Subject == nil {
		m.aboutBy = aboutBy(ref.tag)
	}
	if err := o.publish(c, r, m, sum, labels, 0); err != nil {
		return err
	}
	if m.Subject != nil {
		c.Response().Header().Set("OCI-Subject", string(m.Subject.Digest))
	}
	return o.created(c, "manifests/"+sum.String(), sum)
}

// maxNesting is how deep indexes may name indexes that come along.
const maxNesting = 4

// publish records a manifest in a house repository. What was sent through a chain before
// its maturity was known, and is in another house behind it, comes along.
func (o OCI) publish(
	c *ecosystem.Call, r catalog.Repository, m manifest, sum catalog.Sum, labels []string, depth int,
) error {
	ctx := c.Request().Context()
	key, err := imageKey(r, c.Parts["*"])
	if err != nil {
		return err
	}
	key.Sight = ""
	staged, err := c.Desk.Stage(ctx, c.Repository, bytes.NewReader(m.raw), int64(len(m.raw)), sum.FileName())
	if err != nil {
		return err
	}
	defer staged.Discard()
	p := ecosystem.Publication{Labels: labels, Parts: m.parts(), Needs: m.children(),
		MediaType: cmp.Or(m.MediaType, "application/json")}
	typed, err := json.Marshal(p.MediaType)
	if err != nil {
		return err
	}
	said := map[string]json.RawMessage{nativeType: typed}
	if m.aboutBy != "" {
		if said[nativeSubject], err = json.Marshal(m.aboutBy); err != nil {
			return err
		}
	}
	p.Files = []ecosystem.StagedFile{{Place: place(key.Namespace, key.Name, sum), Staged: staged,
		Details: catalog.Details{Native: said}}}
	_, err = c.Desk.Publish(ctx, c.Caller, r, o, p)
	if err == nil || fault.Of(err).Code != "part-unknown" || !c.Repository.Gathers() || depth > maxNesting {
		return err
	}
	if err := o.bringAlong(c, r, key, p, depth); err != nil {
		return err
	}
	_, err = c.Desk.Publish(ctx, c.Caller, r, o, p)
	return err
}

// bringAlong puts into a house what a manifest names and its chain has elsewhere.
func (o OCI) bringAlong(
	c *ecosystem.Call, r catalog.Repository, key catalog.PackageKey, p ecosystem.Publication, depth int,
) error {
	ctx := c.Request().Context()
	from := ecosystem.Lender{Repository: c.Repository.Name, Namespace: key.Namespace, Name: key.Name}
	for _, part := range p.Parts {
		if _, err := parts(c).LendPart(ctx, c.Caller, key, from, part.Sum); err != nil {
			return err
		}
	}
	for _, version := range p.Needs {
		sum, _ := catalog.ParseSum(version)
		found, err := c.Desk.File(ctx, catalog.FileQuestion{
			Key: c.Repository.Key(Name, key.Namespace, key.Name), Version: version, Name: sum.FileName()})
		if errors.Is(err, ecosystem.ErrNoFile) || err == nil && found.RepositoryID == r.ID {
			continue
		}
		if err != nil {
			return err
		}
		child, err := o.readKept(c, found)
		if err != nil {
			return err
		}
		if err := o.publish(c, r, child, sum, nil, depth+1); err != nil {
			return err
		}
	}
	return nil
}

// readKept reads a manifest that is here.
func (o OCI) readKept(c *ecosystem.Call, found ecosystem.Found) (m manifest, err error) {
	err = c.ReadKept(found, func(f catalog.File, content ecosystem.SizedReaderAt) error {
		raw, err := load(c.Request().Context(), content)
		if err != nil {
			return err
		}
		m, err = readManifest(c.Request().Context(), raw, f.MediaType)
		return err
	})
	return m, err
}

// sumOf is the digest of a manifest; by SHA-256, unless another was asked for.
func sumOf(algorithm string, raw []byte) catalog.Sum {
	algorithm = cmp.Or(algorithm, "sha256")
	h := catalog.NewHash(algorithm)
	h.Write(raw)
	return catalog.Sum{Algorithm: algorithm, Hex: hex.EncodeToString(h.Sum(nil))}
}

// deleteManifest takes a tag away, or removes a manifest with all its tags.
func (o OCI) deleteManifest(c *ecosystem.Call) error {
	ctx := c.Request().Context()
	ref, err := referenceOf(c, c.Repository)
	if err != nil {
		return err
	}
	if done, err := o.removeArtifact(c, ref); done || err != nil {
		if err != nil {
			return err
		}
		return c.NoContent(http.StatusAccepted)
	}
	if ref.tag != "" {
		err = c.Desk.SetLabel(ctx, c.Caller, ref.key, ref.tag, "")
	} else {
		err = c.Desk.Remove(ctx, c.Caller, ref.key, []string{ref.sum.String()})
	}
	if err != nil {
		return err
	}
	return c.NoContent(http.StatusAccepted)
}

// deleteBlob takes a blob away that no manifest names.
func (o OCI) deleteBlob(c *ecosystem.Call) error {
	key, sum, err := blobOf(c, c.Repository)
	if err == nil {
		err = parts(c).RemovePart(c.Request().Context(), c.Caller, key, sum)
	}
	if err != nil {
		return err
	}
	return c.NoContent(http.StatusAccepted)
}

// codes are the specification's for refusals of ours.
var codes = map[string]string{"bad-name": "NAME_INVALID", "bad-tag": "MANIFEST_INVALID", "bad-digest": "DIGEST_INVALID",
	"other-digest": "DIGEST_INVALID", "bad-manifest": "MANIFEST_INVALID", "manifest-too-large": "MANIFEST_INVALID",
	"bad-media-type": "MANIFEST_INVALID", "no-such-manifest": "MANIFEST_UNKNOWN", "no-such-version": "MANIFEST_UNKNOWN",
	"no-such-label": "MANIFEST_UNKNOWN", "removed": "MANIFEST_UNKNOWN", "withdrawn": "MANIFEST_UNKNOWN", "no-such-part": "BLOB_UNKNOWN",
	"part-unknown": "MANIFEST_BLOB_UNKNOWN", "no-such-upload": "BLOB_UPLOAD_UNKNOWN",
	"other-offset": "BLOB_UPLOAD_INVALID", "bad-range": "BLOB_UPLOAD_INVALID", "cut-upload": "BLOB_UPLOAD_INVALID",
	"being-sent": "BLOB_UPLOAD_INVALID", "file-too-large": "SIZE_INVALID", "other-size": "SIZE_INVALID",
	"part-named": "UNSUPPORTED", "no-such-address": "UNSUPPORTED"}

// Refuse implements ecosystem.Ecosystem (distribution specification, "Error codes"):
// clients show code and message.
func (OCI) Refuse(c *ecosystem.Call, err error) error {
	f := fault.Of(err)
	status, code := f.Status(), codes[f.Code]
	if code == "" {
		switch f.Kind {
		case fault.Unknown:
			code = "UNAUTHORIZED"
		case fault.NotFound:
			code = "NAME_UNKNOWN"
		case fault.TooMany:
			code = "TOOMANYREQUESTS"
		case fault.Invalid:
			code = "UNSUPPORTED"
		case fault.Denied, fault.Conflict:
			code = "DENIED"
		default:
			code = "UNKNOWN"
		}
	}
	if f.Code == "part-named" {
		status = http.StatusMethodNotAllowed
	}
	c.Response().Header().Set("Docker-Distribution-API-Version", "registry/2.0")
	if c.Request().Method == http.MethodHead {
		return c.NoContent(status)
	}
	return c.JSON(status, map[string]any{"errors": []map[string]string{{"code": code, "message": f.Sentences()}}})
}
