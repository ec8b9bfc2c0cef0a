package client

import (
	"archive/tar"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/google/go-containerregistry/pkg/authn"
	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/layout"
	"github.com/google/go-containerregistry/pkg/v1/partial"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/remote/transport"
	"github.com/google/go-containerregistry/pkg/v1/tarball"
	"github.com/google/go-containerregistry/pkg/v1/types"

	"crelvo/internal/api"
)

// Images are those of an archive or a folder: an OCI image layout
// (https://github.com/opencontainers/image-spec/blob/v1.1.1/image-layout.md), or what
// docker save writes.
type Images struct {
	// All are the images and indexes that it offers, each with the names that it has there.
	All   []NamedImage
	close func() error
}

// NamedImage is an image, or an index of several, with what it is called.
type NamedImage struct {
	Names []string // such as berth-planner:1.5.0, or 1.5.0 alone; perhaps none
	what  remote.Taggable
}

// Close lets go of the archive.
func (i *Images) Close() error { return i.close() }

// refName is the annotation that names an image in a layout.
const refName = "org.opencontainers.image.ref.name"

const layoutFile, layoutIndex, dockerIndex = "oci-layout", "index.json", "manifest.json"

// OpenImages opens a file or a folder with images; nil if it is none.
func OpenImages(file string) (*Images, error) {
	stat, err := os.Stat(file)
	if err != nil {
		return nil, err
	}
	if stat.IsDir() {
		if _, err := os.Stat(filepath.Join(file, layoutFile)); err != nil {
			return nil, nil
		}
		root, err := layout.ImageIndexFromPath(file)
		if err != nil {
			return nil, fmt.Errorf("%s cannot be read: %w", file, err)
		}
		return imagesIn(file, root, func() error { return nil })
	}
	if !strings.HasSuffix(file, ".tar") {
		return nil, nil
	}
	t, err := readTar(file)
	if err != nil {
		return nil, err
	}
	switch {
	case t.has(layoutFile) && t.has(layoutIndex):
		raw, err := t.read(layoutIndex)
		if err != nil {
			return nil, errors.Join(err, t.Close())
		}
		return imagesIn(file, tarIndex{t, raw, types.OCIImageIndex}, t.Close)
	case t.has(dockerIndex):
		return dockerImages(file, t)
	}
	return nil, t.Close()
}

// imagesIn are what the index of a layout offers.
func imagesIn(file string, root v1.ImageIndex, end func() error) (*Images, error) {
	m, err := root.IndexManifest()
	if err != nil {
		return nil, errors.Join(fmt.Errorf("%s cannot be read: %w", file, err), end())
	}
	all := &Images{close: end}
	for _, d := range m.Manifests {
		n := NamedImage{}
		for _, key := range []string{"io.containerd.image.name", refName} {
			if said := d.Annotations[key]; said != "" {
				n.Names = append(n.Names, said)
			}
		}
		if d.MediaType.IsIndex() {
			n.what, err = root.ImageIndex(d.Digest)
		} else {
			n.what, err = root.Image(d.Digest)
		}
		if err != nil {
			return nil, errors.Join(fmt.Errorf("%s lacks %s: %w", file, d.Digest, err), end())
		}
		all.All = append(all.All, n)
	}
	return all, nil
}

// dockerImages are those of an archive that docker save wrote. Their layers are compressed
// on the way, so that their digests are found out only then.
func dockerImages(file string, t *tarFile) (*Images, error) {
	opener := func() (io.ReadCloser, error) { return os.Open(file) }
	all := &Images{close: t.Close}
	m, err := tarball.LoadManifest(opener)
	for _, d := range m {
		n := NamedImage{Names: d.RepoTags}
		var tag *name.Tag
		if len(d.RepoTags) > 0 {
			var parsed name.Tag
			if parsed, err = name.NewTag(d.RepoTags[0]); err != nil {
				break
			}
			tag = &parsed
		}
		if n.what, err = tarball.Image(opener, tag); err != nil {
			break
		}
		all.All = append(all.All, n)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("%s cannot be read: %w", file, err), t.Close())
	}
	return all, nil
}

// tarFile is an archive whose files are read where they stand.
type tarFile struct {
	*os.File
	at map[string]*io.SectionReader
}

// maxTarFiles is how many files an archive of images may have.
const maxTarFiles = 100_000

// readTar finds the files of an archive.
func readTar(file string) (*tarFile, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	t := &tarFile{f, map[string]*io.SectionReader{}}
	for r := tar.NewReader(f); len(t.at) < maxTarFiles; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil { // it is no archive, or was cut
			return nil, errors.Join(fmt.Errorf("%s is no whole archive: %w", file, err), f.Close())
		}
		// The reader reads no further than the header.
		from, err := f.Seek(0, io.SeekCurrent)
		if err != nil {
			return nil, errors.Join(err, f.Close())
		}
		if h.Typeflag == tar.TypeReg {
			t.at[path.Clean(h.Name)] = io.NewSectionReader(f, from, h.Size)
		}
	}
	return t, nil
}

func (t *tarFile) has(name string) bool { return t.at[name] != nil }

func (t *tarFile) open(name string) (io.ReadCloser, int64, error) {
	s := t.at[name]
	if s == nil {
		return nil, 0, fmt.Errorf("it has no %s", name)
	}
	return io.NopCloser(io.NewSectionReader(s, 0, s.Size())), s.Size(), nil
}

// maxManifest is how long a manifest may be, in bytes; the server takes no longer ones.
const maxManifest = 4 << 20

func (t *tarFile) read(name string) ([]byte, error) {
	r, size, err := t.open(name)
	if err != nil {
		return nil, err
	}
	if size > maxManifest {
		return nil, fmt.Errorf("%s has more than %d bytes", name, maxManifest)
	}
	return io.ReadAll(r)
}

func blobOf(h v1.Hash) string { return "blobs/" + h.Algorithm + "/" + h.Hex }

// tarIndex is an index in an archive.
type tarIndex struct {
	t    *tarFile
	raw  []byte
	kind types.MediaType
}

func (i tarIndex) MediaType() (types.MediaType, error) { return i.kind, nil }
func (i tarIndex) Digest() (v1.Hash, error)            { return partial.Digest(i) }
func (i tarIndex) Size() (int64, error)                { return int64(len(i.raw)), nil }
func (i tarIndex) RawManifest() ([]byte, error)        { return i.raw, nil }
func (i tarIndex) IndexManifest() (m *v1.IndexManifest, err error) {
	return m, json.Unmarshal(i.raw, &m)
}

func (i tarIndex) child(h v1.Hash) (raw []byte, kind types.MediaType, err error) {
	m, err := i.IndexManifest()
	if err != nil {
		return nil, "", err
	}
	for _, d := range m.Manifests {
		if d.Digest == h {
			raw, err = i.t.read(blobOf(h))
			return raw, d.MediaType, err
		}
	}
	return nil, "", fmt.Errorf("it has no %s", h)
}

// Image implements v1.ImageIndex.
func (i tarIndex) Image(h v1.Hash) (v1.Image, error) {
	raw, kind, err := i.child(h)
	if err != nil {
		return nil, err
	}
	return partial.CompressedToImage(tarImage{i.t, raw, kind})
}

// ImageIndex implements v1.ImageIndex.
func (i tarIndex) ImageIndex(h v1.Hash) (v1.ImageIndex, error) {
	raw, kind, err := i.child(h)
	return tarIndex{i.t, raw, kind}, err
}

// tarImage is an image in an archive.
type tarImage struct {
	t    *tarFile
	raw  []byte
	kind types.MediaType
}

func (i tarImage) MediaType() (types.MediaType, error) { return i.kind, nil }
func (i tarImage) RawManifest() ([]byte, error)        { return i.raw, nil }

// RawConfigFile implements partial.CompressedImageCore.
func (i tarImage) RawConfigFile() ([]byte, error) {
	m, err := partial.Manifest(i)
	if err != nil {
		return nil, err
	}
	return i.t.read(blobOf(m.Config.Digest))
}

// LayerByDigest implements partial.CompressedImageCore.
func (i tarImage) LayerByDigest(h v1.Hash) (partial.CompressedLayer, error) {
	m, err := partial.Manifest(i)
	if err != nil {
		return nil, err
	}
	for _, d := range append(m.Layers, m.Config) {
		if d.Digest == h {
			return tarLayer{i.t, d}, nil
		}
	}
	return nil, fmt.Errorf("it has no layer %s", h)
}

type tarLayer struct {
	t *tarFile
	d v1.Descriptor
}

func (l tarLayer) Digest() (v1.Hash, error)            { return l.d.Digest, nil }
func (l tarLayer) Size() (int64, error)                { return l.d.Size, nil }
func (l tarLayer) MediaType() (types.MediaType, error) { return l.d.MediaType, nil }
func (l tarLayer) Compressed() (io.ReadCloser, error) {
	r, _, err := l.t.open(blobOf(l.d.Digest))
	return r, err
}

// referenceTo names an image at the server.
func (c *Client) referenceTo(repository, image, tag string) (name.Reference, error) {
	u, err := url.Parse(c.Server)
	if err != nil {
		return nil, err
	}
	var options []name.Option
	if u.Scheme == "http" {
		options = append(options, name.Insecure)
	}
	at := u.Host + "/" + repository + "/" + image
	if strings.Contains(tag, ":") {
		return name.NewDigest(at+"@"+tag, options...)
	}
	return name.NewTag(at+":"+tag, options...)
}

// remotely are the options of requests about images.
func (c *Client) remotely(ctx context.Context) []remote.Option {
	who := authn.Authenticator(authn.Anonymous)
	switch {
	case c.User != "":
		who = &authn.Basic{Username: c.User, Password: c.Password}
	case c.Token != "":
		who = &authn.Basic{Username: "token", Password: c.Token}
	}
	options := []remote.Option{remote.WithContext(ctx), remote.WithAuth(who), remote.WithUserAgent(c.Agent)}
	if c.HTTP != nil && c.HTTP.Transport != nil {
		options = append(options, remote.WithTransport(c.HTTP.Transport))
	}
	return options
}

// PushImage pushes an image to a repository under a name and a tag, and gives its digest.
// Layers that are there are not sent. told hears how many bytes of how many are there.
func (c *Client) PushImage(
	ctx context.Context, i NamedImage, repository, image, tag string, told func(sent, all int64),
) (digest string, size int64, err error) {
	to, err := c.referenceTo(repository, image, tag)
	if err != nil {
		return "", 0, err
	}
	updates := make(chan v1.Update, 100)
	heard := make(chan struct{})
	go func() {
		defer close(heard)
		for u := range updates {
			told(u.Complete, u.Total)
			size = max(size, u.Total)
		}
	}()
	options := append(c.remotely(ctx), remote.WithProgress(updates))
	var sum v1.Hash
	switch what := i.what.(type) {
	case v1.ImageIndex:
		if err = remote.WriteIndex(to, what, options...); err == nil {
			sum, err = what.Digest()
		}
	case v1.Image:
		if err = remote.Write(to, what, options...); err == nil {
			sum, err = what.Digest()
		}
	}
	<-heard // the writer closes it
	return sum.String(), size, c.inWords(err)
}

// inWords is what a server says of images, as any other refusal.
func (c *Client) inWords(err error) error {
	var said *transport.Error
	if !errors.As(err, &said) {
		return err
	}
	p := &api.Problem{Status: said.StatusCode, Detail: said.Error()}
	if len(said.Errors) > 0 {
		p.Detail, p.Code = said.Errors[0].Message, strings.ToLower(string(said.Errors[0].Code))
	}
	return p
}

// PullImage writes an image of a repository, by its tag or digest, into an archive that is an
// OCI image layout, where it has the name as, if that is not "". platform is that of the
// image which is wanted of an index; "" is all.
func (c *Client) PullImage(
	ctx context.Context, repository, image, reference, as, platform string, w io.Writer,
	follow func(name string, size int64, r io.Reader) io.Reader,
) (digest string, err error) {
	from, err := c.referenceTo(repository, image, reference)
	if err != nil {
		return "", err
	}
	options := c.remotely(ctx)
	got, err := remote.Get(from, options...)
	if err != nil {
		return "", c.inWords(err)
	}
	root := got.Descriptor
	out := &layoutWriter{w: tar.NewWriter(w), client: c, at: from.Context(), options: options, follow: follow,
		written: map[v1.Hash]bool{}}
	if platform != "" && root.MediaType.IsIndex() {
		if root, err = chosen(got, platform); err != nil {
			return "", err
		}
	}
	if as != "" {
		root.Annotations = map[string]string{refName: as}
	}
	index, err := json.Marshal(v1.IndexManifest{SchemaVersion: 2, MediaType: types.OCIImageIndex,
		Manifests: []v1.Descriptor{root}})
	if err != nil {
		return "", err
	}
	if err := out.file(layoutFile, []byte(`{"imageLayoutVersion":"1.0.0"}`)); err != nil {
		return "", err
	}
	if err := out.file(layoutIndex, index); err != nil {
		return "", err
	}
	if err := out.manifest(root); err != nil {
		return "", c.inWords(err)
	}
	return root.Digest.String(), out.w.Close()
}

// chosen is the image of an index for a platform.
func chosen(of *remote.Descriptor, platform string) (v1.Descriptor, error) {
	index, err := of.ImageIndex()
	if err != nil {
		return v1.Descriptor{}, err
	}
	m, err := index.IndexManifest()
	if err != nil {
		return v1.Descriptor{}, err
	}
	var there []string
	for _, d := range m.Manifests {
		if d.Platform == nil {
			continue
		}
		is := strings.TrimSuffix(d.Platform.OS+"/"+d.Platform.Architecture+"/"+d.Platform.Variant, "/")
		if is == platform {
			return d, nil
		}
		there = append(there, is)
	}
	hint := "Its images do not say for which platforms they are: fetch all of it."
	if there != nil {
		hint = "There are " + strings.Join(there, ", ") + "."
	}
	return v1.Descriptor{}, &api.Problem{Status: 404, Detail: "it has no image for " + platform, Hint: hint}
}

// layoutWriter writes a layout, each blob once.
type layoutWriter struct {
	w       *tar.Writer
	client  *Client
	at      name.Repository
	options []remote.Option
	follow  func(name string, size int64, r io.Reader) io.Reader
	written map[v1.Hash]bool
}

func (l *layoutWriter) file(name string, content []byte) error {
	err := l.w.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: int64(len(content)), Typeflag: tar.TypeReg})
	if err == nil {
		_, err = l.w.Write(content)
	}
	return err
}

// manifest writes a manifest with all that it names.
func (l *layoutWriter) manifest(d v1.Descriptor) error {
	if l.written[d.Digest] {
		return nil
	}
	l.written[d.Digest] = true
	got, err := remote.Get(l.at.Digest(d.Digest.String()), l.options...)
	if err != nil {
		return err
	}
	if err := l.file(blobOf(d.Digest), got.Manifest); err != nil {
		return err
	}
	var names struct {
		Config    *v1.Descriptor  `json:"config"`
		Layers    []v1.Descriptor `json:"layers"`
		Manifests []v1.Descriptor `json:"manifests"`
	}
	if err := json.Unmarshal(got.Manifest, &names); err != nil {
		return nil // of a kind that names nothing
	}
	for _, child := range names.Manifests {
		if err := l.manifest(child); err != nil {
			return err
		}
	}
	if names.Config != nil {
		names.Layers = append([]v1.Descriptor{*names.Config}, names.Layers...)
	}
	for _, part := range names.Layers {
		if err := l.blob(part); err != nil {
			return err
		}
	}
	return nil
}

// blob writes a blob as it comes. The reader finds out whether it has its digest.
func (l *layoutWriter) blob(d v1.Descriptor) error {
	if l.written[d.Digest] {
		return nil
	}
	l.written[d.Digest] = true
	layer, err := remote.Layer(l.at.Digest(d.Digest.String()), l.options...)
	if err != nil {
		return err
	}
	content, err := layer.Compressed()
	if err != nil {
		return err
	}
	defer content.Close()
	if err := l.w.WriteHeader(&tar.Header{Name: blobOf(d.Digest), Mode: 0o644, Size: d.Size,
		Typeflag: tar.TypeReg}); err != nil {
		return err
	}
	_, err = io.Copy(l.w, l.follow(d.Digest.Hex[:12], d.Size, content))
	return err
}
