package main

import (
	"archive/tar"
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/layout"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/tarball"
	"github.com/google/go-containerregistry/pkg/v1/types"
)

// account is the one in the image that the service runs as: one that owns nothing else.
const account = 65532

// image makes an image of the program and nothing else, for each processor, as a tar archive
// of an OCI layout.
func (m making) image(programs map[platform]string, into string) error {
	index := v1.ImageIndex(mutate.IndexMediaType(empty.Index, types.OCIImageIndex))
	for _, p := range served {
		if programs[p] == "" {
			continue
		}
		made, err := m.imageOf(p, programs[p])
		if err != nil {
			return err
		}
		index = mutate.AppendManifests(index, mutate.IndexAddendum{Add: made,
			Descriptor: v1.Descriptor{Platform: &v1.Platform{OS: p.os, Architecture: p.arch}}})
	}
	dir, err := os.MkdirTemp("", "crelvo-image-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	at, err := layout.Write(dir, empty.Index)
	if err != nil {
		return err
	}
	if err := at.AppendIndex(index, layout.WithAnnotations(map[string]string{
		"org.opencontainers.image.ref.name": "crelvo:" + m.version})); err != nil {
		return err
	}
	return m.archive(dir, into)
}

func (m making) imageOf(p platform, program string) (v1.Image, error) {
	raw, err := m.layer(program)
	if err != nil {
		return nil, err
	}
	layer, err := tarball.LayerFromOpener(func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(raw)), nil },
		tarball.WithMediaType(types.OCILayer))
	if err != nil {
		return nil, err
	}
	made := mutate.ConfigMediaType(mutate.MediaType(empty.Image, types.OCIManifestSchema1), types.OCIConfigJSON)
	if made, err = mutate.Append(made, mutate.Addendum{Layer: layer, History: v1.History{Created: v1.Time{Time: m.at},
		CreatedBy: "make image", Comment: "the program"}}); err != nil {
		return nil, err
	}
	return mutate.ConfigFile(made, m.config(made, p))
}

// config is how the image is run, with the layers that it has.
func (m making) config(made v1.Image, p platform) *v1.ConfigFile {
	of := v1.ConfigFile{}
	if known, err := made.ConfigFile(); err == nil {
		of = *known.DeepCopy()
	}
	of.OS, of.Architecture, of.Created = p.os, p.arch, v1.Time{Time: m.at}
	of.Config = v1.Config{User: "65532:65532", WorkingDir: "/data", Entrypoint: []string{"/usr/bin/crelvo"},
		Cmd:          []string{"serve"},
		Env:          []string{"PATH=/usr/bin", "HOME=/data", "CRELVO_DATA=/data", "CRELVO_LISTEN=0.0.0.0:8700"},
		ExposedPorts: map[string]struct{}{"8700/tcp": {}}, Volumes: map[string]struct{}{"/data": {}},
		Labels: map[string]string{"org.opencontainers.image.title": "Crelvo",
			"org.opencontainers.image.version": m.number(), "org.opencontainers.image.revision": m.version,
			"org.opencontainers.image.description": "Keeps every package that an organisation makes or uses"}}
	return &of
}

// layer is the program with the folders that it needs, and the name of its account.
func (m making) layer(program string) ([]byte, error) {
	content, err := os.ReadFile(program)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	folder := func(name string, mode int64, owner int) {
		err = errors.Join(err, w.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: name, Mode: mode, Uid: owner,
			Gid: owner, ModTime: m.at}))
	}
	file := func(name string, mode int64, content []byte) {
		err = errors.Join(err, w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: mode,
			Size: int64(len(content)), ModTime: m.at}))
		_, wrote := w.Write(content)
		err = errors.Join(err, wrote)
	}
	folder("etc/", 0o755, 0)
	file("etc/passwd", 0o644, []byte("root:x:0:0:root:/:/none\ncrelvo:x:65532:65532:crelvo:/data:/none\n"))
	file("etc/group", 0o644, []byte("root:x:0:\ncrelvo:x:65532:\n"))
	folder("usr/", 0o755, 0)
	folder("usr/bin/", 0o755, 0)
	file("usr/bin/crelvo", 0o755, content)
	folder("data/", 0o750, account)
	folder("tmp/", 0o1777, 0)
	return out.Bytes(), errors.Join(err, w.Close())
}

// archive packs a folder.
func (m making) archive(dir, into string) error {
	file, err := os.Create(into)
	if err != nil {
		return err
	}
	defer file.Close()
	w := tar.NewWriter(file)
	err = filepath.WalkDir(dir, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		name, err := filepath.Rel(dir, path)
		if err != nil {
			return err
		}
		return add(w, path, filepath.ToSlash(name), m.at)
	})
	return errors.Join(err, w.Close(), file.Close())
}

func add(w *tar.Writer, path, name string, at time.Time) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	stat, err := file.Stat()
	if err != nil {
		return err
	}
	if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: 0o644, Size: stat.Size(),
		ModTime: at}); err != nil {
		return err
	}
	_, err = io.Copy(w, file)
	return err
}
