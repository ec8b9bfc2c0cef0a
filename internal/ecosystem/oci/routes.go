package oci

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/opencontainers/go-digest"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
)

// Door implements ecosystem.Doored.
func (OCI) Door() string { return root }

const root = "/v2"

// Routes implements ecosystem.Ecosystem: what people see.
func (o OCI) Routes() []ecosystem.Route {
	return ecosystem.Reads(map[string]func(*ecosystem.Call) error{"/*": o.show})
}

// DoorRoutes implements ecosystem.Doored.
func (o OCI) DoorRoutes() []ecosystem.Route {
	const manifests, blobs, upload = "/*/manifests/:reference", "/*/blobs/:digest", "/*/blobs/uploads/:upload"
	routes := []ecosystem.Route{
		{Method: http.MethodPut, Path: manifests, Action: access.Publish, Serve: o.putManifest},
		// To remove a manifest takes more than to move a tag; that is asked when it is known which.
		{Method: http.MethodDelete, Path: manifests, Action: access.Publish, Serve: o.deleteManifest},
		{Method: http.MethodDelete, Path: blobs, Action: access.Remove, Serve: o.deleteBlob},
		{Method: http.MethodPost, Path: "/*/blobs/uploads", Action: access.Publish, Serve: o.beginUpload},
		{Method: http.MethodGet, Path: upload, Action: access.Publish, Asks: true, Serve: o.uploadStatus},
		{Method: http.MethodPatch, Path: upload, Action: access.Publish, Serve: o.continueUpload},
		{Method: http.MethodPut, Path: upload, Action: access.Publish, Serve: o.endUpload},
		{Method: http.MethodDelete, Path: upload, Action: access.Publish, Serve: o.dropUpload},
	}
	return append(routes, ecosystem.Reads(map[string]func(*ecosystem.Call) error{manifests: o.getManifest,
		blobs: o.getBlob, "/*/tags/list": o.tags, "/*/referrers/:digest": o.referrers})...)
}

// Greet implements ecosystem.Doored: clients ask at the root whether they are understood.
func (OCI) Greet(c *ecosystem.Call) error {
	c.Response().Header().Set("Docker-Distribution-API-Version", "registry/2.0")
	return c.JSON(http.StatusOK, struct{}{})
}

// Challenge implements ecosystem.Doored
// (https://distribution.github.io/distribution/spec/auth/token/).
func (OCI) Challenge(c *ecosystem.Call, passes string) []string {
	service := c.Request().Host
	if u, err := url.Parse(passes); err == nil && u.Host != "" {
		service = u.Host
	}
	bearer := fmt.Sprintf("Bearer realm=%q,service=%q", passes, service)
	if image := c.Parts["*"]; image != "" && nameForm.MatchString(image) {
		actions := "pull"
		switch c.Request().Method {
		case http.MethodPut, http.MethodPost, http.MethodPatch:
			actions = "pull,push"
		case http.MethodDelete:
			actions = "delete"
		}
		bearer += fmt.Sprintf(",scope=%q", "repository:"+fullName(c, image)+":"+actions)
	}
	return []string{bearer, `Basic realm="Crelvo", charset="UTF-8"`}
}

// show is a file below the digest of a manifest, or a folder for people.
func (o OCI) show(c *ecosystem.Call) error {
	segments := strings.Split(c.Rest, "/")
	n := len(segments)
	if n < 3 {
		return c.ShowFolder()
	}
	if _, isDigest := catalog.ParseSum(segments[n-2]); !isDigest || segments[n-1] == "" {
		return c.ShowFolder()
	}
	key, err := imageKey(c.Repository, strings.Join(segments[:n-2], "/"))
	if err != nil {
		return err
	}
	found, err := c.Desk.File(c.Request().Context(), catalog.FileQuestion{Key: key, Version: segments[n-2],
		Name: segments[n-1]})
	if errors.Is(err, ecosystem.ErrNoFile) {
		return c.Absent(key, segments[n-2], fault.New(fault.NotFound, "no-such-file", "there is no such file"))
	}
	if err != nil {
		return err
	}
	return c.SendFile(found, "application/octet-stream", true)
}

// reference is what a manifest is asked for by.
type reference struct {
	key catalog.PackageKey
	sum catalog.Sum // zero for a tag
	tag string
}

// referenceOf reads what a path names.
func referenceOf(c *ecosystem.Call, r catalog.Repository) (ref reference, err error) {
	if ref.key, err = imageKey(r, c.Parts["*"]); err != nil {
		return ref, err
	}
	text := c.Parts["reference"]
	if strings.Contains(text, ":") {
		ref.sum, err = digestOf(text)
		return ref, err
	}
	if ref.tag = text; !tagForm.MatchString(text) {
		return ref, fault.New(fault.Invalid, "bad-tag", "%.140q cannot be a tag", text).
			WithHint("Up to 128 letters, digits, dots, dashes and underscores; no dot or dash in front.")
	}
	return ref, nil
}

func digestOf(text string) (catalog.Sum, error) {
	sum, ok := catalog.ParseSum(text)
	if !ok {
		return sum, fault.New(fault.Invalid, "bad-digest", "%.140q is no digest by SHA-256 or SHA-512", text).
			WithHint("Write it as sha256: and 64 hexadecimal digits in small letters.")
	}
	return sum, nil
}

// getManifest answers with a manifest, by its tag or digest.
func (o OCI) getManifest(c *ecosystem.Call) error {
	ref, err := referenceOf(c, c.Repository)
	if err != nil {
		return err
	}
	q := catalog.FileQuestion{Key: ref.key, Version: ref.sum.String(), Name: ref.sum.FileName()}
	if ref.tag != "" {
		q = catalog.FileQuestion{Key: ref.key, Label: ref.tag}
	}
	found, err := c.Desk.File(c.Request().Context(), q)
	if errors.Is(err, ecosystem.ErrNoFile) {
		if done, err := o.artifactManifest(c, ref); done || err != nil {
			return err
		}
		if ref.tag != "" {
			if err := o.withdrawn(c, ref); err != nil {
				return err
			}
		}
		return c.Absent(ref.key, q.Version, o.noManifest(c))
	}
	if err != nil {
		return err
	}
	if ns := c.QueryParam("ns"); ns != "" && ref.tag != "" && !o.isFrom(c, found, ns) {
		return fault.New(fault.NotFound, "no-such-manifest", "%s has a %s of %s, which is not the one of %.253s",
			c.Repository.At(), ref.tag, c.Parts["*"], ns).
			WithHint("A mirror of that host, as a member of %s, would answer.", c.Repository.Name)
	}
	c.Response().Header().Set("Docker-Content-Digest", strings.Replace(cmp.Or(found.Name, q.Name), "-", ":", 1))
	if found.Arriving != nil {
		// Its media type is known when it is here; it is small.
		kept, err := found.Kept(c.Request().Context())
		if err == nil {
			found.File, found.Arriving = kept, nil
		} else if errors.Is(err, ecosystem.ErrNoFile) {
			return c.Absent(ref.key, q.Version, o.noManifest(c))
		} else if !errors.Is(err, ecosystem.ErrNotKept) {
			return err
		}
	}
	if w := found.Withdrawn; w != nil {
		c.Response().Header().Set("Warning", warning(fmt.Sprintf("%s of %s is withdrawn%s", c.Parts["reference"],
			c.Parts["*"], because(w.Reason))))
	}
	return c.SendFile(found, cmp.Or(found.MediaType, v1.MediaTypeImageManifest), ref.tag == "")
}

// warning is the header that clients show (distribution specification, "Warnings"): a quoted
// text (RFC 7230, 3.2.6), of one line.
func warning(text string) string {
	return `299 - "` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", " ", "\r", " ", "\t", " ").Replace(text) + `"`
}

// isFrom tells whether an image is that of the host which containerd names, where it asks a
// mirror for what it would ask that host for: names mean another thing at each host. ns is
// the host, with a port if it has one.
func (OCI) isFrom(c *ecosystem.Call, found ecosystem.Found, ns string) bool {
	if ns == c.Request().Host {
		return true
	}
	origins, ok := c.Desk.(ecosystem.Origins)
	return ok && found.Mirror != "" && origins.ComesFrom(found.Mirror, ns)
}

// withdrawn refuses a tag whose image is not to be used any more; who has its digest may
// pull it still.
func (OCI) withdrawn(c *ecosystem.Call, ref reference) error {
	version, reason, ok, err := labels(c).WithdrawnLabel(c.Request().Context(), ref.key, ref.tag)
	if err != nil && !errors.Is(err, ecosystem.ErrNoPackage) {
		return err
	}
	if !ok {
		return nil
	}
	return fault.New(fault.NotFound, "withdrawn", "%s of %s is withdrawn%s", ref.tag, c.Parts["*"], because(reason)).
		WithHint("By its digest it can still be pulled: %s.", version)
}

func (OCI) noManifest(c *ecosystem.Call) *fault.Error {
	return fault.New(fault.NotFound, "no-such-manifest", "%s has no %s of %s", c.Repository.At(), c.Parts["reference"],
		c.Parts["*"])
}

// getBlob answers with a part of an image.
func (o OCI) getBlob(c *ecosystem.Call) error {
	key, sum, err := blobOf(c, c.Repository)
	if err != nil {
		return err
	}
	found, err := c.Desk.File(c.Request().Context(), catalog.FileQuestion{Key: key, Name: sum.FileName()})
	if errors.Is(err, ecosystem.ErrNoFile) {
		if done, err := o.artifactBlob(c, sum); done {
			return err
		}
		return fault.New(fault.NotFound, "no-such-part", "%s of %s has no %s", c.Parts["*"], c.Repository.At(), sum)
	}
	if err != nil {
		return err
	}
	c.Response().Header().Set("Docker-Content-Digest", sum.String())
	return c.SendFile(found, "application/octet-stream", true)
}

// blobOf is what a path names.
func blobOf(c *ecosystem.Call, r catalog.Repository) (key catalog.PackageKey, sum catalog.Sum, err error) {
	if key, err = imageKey(r, c.Parts["*"]); err != nil {
		return key, sum, err
	}
	sum, err = digestOf(c.Parts["digest"])
	return key, sum, err
}

// pageLength is how many tags or referrers an answer has at most.
const pageLength = 1000

// labels is the part of the Desk that knows them.
func labels(c *ecosystem.Call) ecosystem.LabelReader { return c.Desk.(ecosystem.LabelReader) }

// noImage says that there is nothing of an image.
func noImage(c *ecosystem.Call, key catalog.PackageKey) error {
	return c.Absent(key, "", fault.New(fault.NotFound, "no-such-package", "%s has no image %s", c.Repository.At(),
		c.Parts["*"]))
}

// tags lists the tags of an image.
func (o OCI) tags(c *ecosystem.Call) error {
	key, err := imageKey(c.Repository, c.Parts["*"])
	if err != nil {
		return err
	}
	limit := pageLength
	if asked := c.QueryParam("n"); asked != "" {
		n, err := strconv.Atoi(asked)
		if err != nil || n < 0 {
			return fault.New(fault.Invalid, "bad-number", "n is %.20q, and must be a number", asked)
		}
		limit = min(n, limit)
	}
	// One more tells whether there are more.
	all, err := labels(c).Labels(c.Request().Context(), key, c.QueryParam("last"), limit+1)
	none := errors.Is(err, ecosystem.ErrNoPackage)
	if err != nil && !none {
		return err
	}
	more, err := o.artifactTags(c, c.QueryParam("last"))
	if none && (err != nil || len(more) == 0) {
		return cmp.Or(err, noImage(c, key))
	}
	names := []string{}
	for _, l := range all {
		names = append(names, l.Name)
	}
	if len(more) > 0 {
		names = append(names, more[:min(limit+1, len(more))]...)
		slices.Sort(names)
		names = slices.Compact(names)
	}
	further := len(names) > limit
	if names = names[:min(limit, len(names))]; further && limit > 0 {
		o.next(c, "tags/list", url.Values{"n": {strconv.Itoa(limit)}, "last": {names[limit-1]}})
	}
	return c.JSON(http.StatusOK, map[string]any{"name": fullName(c, c.Parts["*"]), "tags": names})
}

// next names the address of the next page (RFC 8288).
func (o OCI) next(c *ecosystem.Call, of string, query url.Values) {
	c.Response().Header().Set("Link", fmt.Sprintf(`<%s?%s>; rel="next"`, o.path(c, of), query.Encode()))
}

// path is that of an address about the image of a request, without a host: how the client
// reaches the server, it knows.
func (o OCI) path(c *ecosystem.Call, of string) string {
	return o.Door() + "/" + fullName(c, c.Parts["*"]) + "/" + of
}

// fullName is the name of an image with its repository, as the client has it.
func fullName(c *ecosystem.Call, image string) string {
	if c.ByHost {
		return image
	}
	return c.Repository.AtSpelled() + "/" + image
}

// referrers lists the manifests that are about another one, as an index.
func (o OCI) referrers(c *ecosystem.Call) error {
	key, subject, err := blobOf(c, c.Repository)
	if err != nil {
		return err
	}
	found, err := labels(c).About(c.Request().Context(), key, subject.String(), c.QueryParam("last"), pageLength+1)
	if err != nil && !errors.Is(err, ecosystem.ErrNoPackage) {
		return err
	}
	wanted := c.QueryParam("artifactType")
	index := v1.Index{MediaType: v1.MediaTypeImageIndex, Manifests: []v1.Descriptor{}}
	index.SchemaVersion = 2
	for i, v := range found {
		if i == pageLength {
			query := url.Values{"last": {found[i-1].Version}}
			if wanted != "" {
				query.Set("artifactType", wanted)
			}
			o.next(c, "referrers/"+subject.String(), query)
			break
		}
		d, err := descriptorOf(v)
		if err == nil && v.Details.Native[nativeLong] != nil {
			d.Annotations, err = o.notesOf(c, key, d.Digest)
		}
		if err != nil {
			return err
		}
		if wanted == "" || d.ArtifactType == wanted {
			index.Manifests = append(index.Manifests, d)
		}
	}
	h := c.Response().Header()
	if wanted != "" {
		h.Set("OCI-Filters-Applied", "artifactType")
	}
	h.Set("Cache-Control", "private, no-cache")
	raw, err := json.Marshal(index)
	if err != nil {
		return err
	}
	return c.Blob(http.StatusOK, v1.MediaTypeImageIndex, raw)
}

// notesOf reads the annotations of a manifest from itself.
func (o OCI) notesOf(c *ecosystem.Call, key catalog.PackageKey, of digest.Digest) (notes map[string]string, err error) {
	ctx := c.Request().Context()
	found, err := c.Desk.File(ctx, catalog.FileQuestion{Key: key, Version: string(of),
		Name: strings.Replace(string(of), ":", "-", 1)})
	if err != nil {
		return nil, err
	}
	m, err := o.readKept(c, found)
	return m.Annotations, err
}

// descriptorOf describes a manifest.
func descriptorOf(v catalog.Version) (d v1.Descriptor, err error) {
	read := func(name string, into any) {
		if raw := v.Details.Native[name]; raw != nil {
			err = errors.Join(err, json.Unmarshal(raw, into))
		}
	}
	read(nativeType, &d.MediaType)
	read(nativeArtifact, &d.ArtifactType)
	read(nativeNotes, &d.Annotations)
	d.Digest, d.Size = digest.Digest(v.Version), v.Size()
	if len(v.Files) > 0 {
		d.MediaType = cmp.Or(d.MediaType, v.Files[0].MediaType)
	}
	return d, err
}
