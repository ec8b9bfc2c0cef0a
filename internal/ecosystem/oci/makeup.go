package oci

import (
	"archive/tar"
	"bufio"
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/klauspost/compress/zstd"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"crelvo/internal/core/budget"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/makeup"
	"crelvo/internal/core/text"
	"crelvo/internal/ecosystem"
)

var _ ecosystem.Layered = OCI{}

// How much of what an image says of itself is told: settings, and bytes of each.
const maxSettings, maxSetting = 2000, 8 << 10

// Makeup implements ecosystem.Layered
// (https://github.com/opencontainers/image-spec/blob/v1.1.1/config.md).
func (OCI) Makeup(
	ctx context.Context, raw []byte, mediaType string, part func(catalog.Sum) ([]byte, error),
) (made makeup.Makeup, err error) {
	m, err := readManifest(ctx, raw, mediaType)
	if err != nil {
		return made, err
	}
	for _, l := range m.Layers {
		made.Steps = append(made.Steps, makeup.Step{Layer: string(l.Digest), MediaType: said(l.MediaType), Size: l.Size,
			By: said(l.Annotations[v1.AnnotationTitle])})
	}
	for _, name := range slices.Sorted(maps.Keys(m.Annotations)) {
		made.Settings = append(made.Settings, makeup.Setting{Name: "annotation " + name, Value: m.Annotations[name]})
	}
	if m.Config != nil && isImage(m.Config.MediaType) {
		sum, _ := catalog.ParseSum(string(m.Config.Digest))
		config, err := part(sum)
		if err != nil {
			return made, err
		}
		if config != nil {
			if err := configure(&made, config); err != nil {
				return made, err
			}
		}
	}
	made.Settings = made.Settings[:min(len(made.Settings), maxSettings)]
	for i := range made.Settings {
		s := &made.Settings[i]
		s.Name, s.Value = said(s.Name), said(s.Value)
	}
	return made, nil
}

// said is a text of an image that can be shown.
func said(s string) string { return text.Clean(s, true, maxSetting) }

// configure adds what the configuration of an image says.
func configure(made *makeup.Makeup, raw []byte) error {
	var image v1.Image
	if err := json.Unmarshal(raw, &image); err != nil {
		return fmt.Errorf("its configuration cannot be read: %w", err)
	}
	if image.OS != "" {
		made.Platform = said(strings.TrimSuffix(image.OS+"/"+image.Architecture+"/"+image.Variant, "/"))
	}
	if image.Created != nil {
		made.Made = *image.Created
	}
	add := func(name, value string) {
		if value != "" {
			made.Settings = append(made.Settings, makeup.Setting{Name: name, Value: value})
		}
	}
	list := func(name string, values []string) {
		if len(values) > 0 {
			quoted, _ := json.Marshal(values) // texts can be written
			add(name, string(quoted))
		}
	}
	c := image.Config
	add("author", image.Author)
	list("command", c.Cmd)
	list("entrypoint", c.Entrypoint)
	for _, e := range c.Env {
		name, value, _ := strings.Cut(e, "=")
		add("environment "+name, cmp.Or(value, `""`))
	}
	for _, name := range slices.Sorted(maps.Keys(c.Labels)) {
		add("label "+name, cmp.Or(c.Labels[name], `""`))
	}
	for _, port := range slices.Sorted(maps.Keys(c.ExposedPorts)) {
		add("port", port)
	}
	add("stop signal", c.StopSignal)
	add("user", c.User)
	for _, at := range slices.Sorted(maps.Keys(c.Volumes)) {
		add("volume", at)
	}
	add("working directory", c.WorkingDir)
	recount(made, image.History)
	return nil
}

// recount says of the layers which step of a history made each, if the history is of these.
func recount(made *makeup.Makeup, history []v1.History) {
	layers := made.Steps
	n := 0
	for _, h := range history {
		if !h.EmptyLayer {
			n++
		}
	}
	if n != len(layers) || len(history) > maxSettings {
		return
	}
	made.Steps = nil
	for _, h := range history {
		step := makeup.Step{}
		if !h.EmptyLayer {
			step, layers = layers[0], layers[1:]
		}
		step.By = said(cmp.Or(command(h.CreatedBy), h.Comment))
		made.Steps = append(made.Steps, step)
	}
}

// command is what made a layer, without the words that builders write around it.
func command(by string) string {
	by = strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(by), "# buildkit"))
	if after, ok := strings.CutPrefix(by, "/bin/sh -c #(nop)"); ok {
		return strings.TrimSpace(after)
	}
	if after, ok := strings.CutPrefix(by, "/bin/sh -c "); ok {
		return "RUN " + strings.TrimSpace(after)
	}
	return by
}

// The marks of what a layer takes away
// (https://github.com/opencontainers/image-spec/blob/v1.1.1/layer.md#whiteouts).
const whiteout, opaque = ".wh.", ".wh..wh..opq"

// LayerFiles implements ecosystem.Layered. Whatever its media type says, a layer is an
// archive if it reads as one, compressed or not.
func (OCI) LayerFiles(ctx context.Context, layer ecosystem.SizedReaderAt, each func(makeup.File) error) error {
	b := budget.Of(ctx)
	return layerEntries(b, layer, func(f makeup.File, _ int64, content io.Reader) error {
		if err := b.Hold(int64(200 + len(f.Path) + len(f.Link))); err != nil {
			return err
		}
		if f.Kind == makeup.Regular {
			h := sha256.New()
			if _, err := io.Copy(h, content); err != nil {
				return unreadable(err)
			}
			f.Sum = [32]byte(h.Sum(nil))
		}
		if f.Path == "" && f.Kind != makeup.Hidden {
			return nil // the root
		}
		return each(f)
	})
}

// IsLayer implements ecosystem.Layered.
func (OCI) IsLayer(f catalog.File) bool {
	return strings.Contains(f.MediaType, ".layer.") || strings.Contains(f.MediaType, ".rootfs.diff.")
}

// WalkLayer implements ecosystem.Layered.
func (OCI) WalkLayer(
	ctx context.Context, layer ecosystem.SizedReaderAt, each func(name string, size int64, r io.Reader) error,
) error {
	return layerEntries(budget.Of(ctx), layer, func(f makeup.File, size int64, content io.Reader) error {
		if f.Kind != makeup.Regular {
			return ctx.Err()
		}
		return each(f.Path, size, content)
	})
}

// layerEntries goes through the entries of a layer.
func layerEntries(
	b *budget.Budget, layer ecosystem.SizedReaderAt, each func(f makeup.File, size int64, content io.Reader) error,
) error {
	unpacked, closing, err := unpack(layer)
	if err != nil {
		return err
	}
	defer closing()
	archive := tar.NewReader(b.Reader(unpacked))
	for {
		entry, err := archive.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return unreadable(err)
		}
		if err := b.Elements(1); err != nil {
			return err
		}
		if err := each(entryOf(entry), entry.Size, archive); err != nil {
			return err
		}
	}
}

func unreadable(err error) error {
	if spent := (*budget.Spent)(nil); errors.As(err, &spent) || errors.Is(err, context.Canceled) ||
		errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return fmt.Errorf("it is no archive of files: %w", err)
}

// unpack is what is in a layer, by what it begins with.
func unpack(layer ecosystem.SizedReaderAt) (io.Reader, func(), error) {
	packed := bufio.NewReaderSize(io.NewSectionReader(layer, 0, layer.Size()), 64<<10)
	begins, err := packed.Peek(4)
	if err != nil && err != io.EOF {
		return nil, nil, err
	}
	switch {
	case bytes.HasPrefix(begins, []byte{0x1f, 0x8b}):
		r, err := gzip.NewReader(packed)
		if err != nil {
			return nil, nil, unreadable(err)
		}
		return r, func() {}, nil
	case bytes.Equal(begins, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		r, err := zstd.NewReader(packed, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(8<<20),
			zstd.WithDecoderMaxWindow(8<<20))
		if err != nil {
			return nil, nil, unreadable(err)
		}
		return r, r.Close, nil
	}
	return packed, func() {}, nil
}

// entryOf is an entry of a layer, or a mark.
func entryOf(h *tar.Header) makeup.File {
	at := strings.TrimPrefix(path.Clean("/"+h.Name), "/")
	f := makeup.File{Path: at, Mode: h.Mode & 0o7777, Owner: strconv.Itoa(h.Uid) + ":" + strconv.Itoa(h.Gid)}
	folder, name := path.Split(at)
	switch {
	case name == opaque:
		return makeup.File{Path: strings.TrimSuffix(folder, "/"), Kind: makeup.Hidden}
	case strings.HasPrefix(name, whiteout):
		return makeup.File{Path: folder + strings.TrimPrefix(name, whiteout), Kind: makeup.Gone}
	}
	for name := range h.PAXRecords {
		if strings.HasPrefix(name, "GNU.sparse.") {
			h.Typeflag = tar.TypeGNUSparse // whose holes may be of any size
		}
	}
	switch h.Typeflag {
	case tar.TypeReg:
		f.Size = h.Size
	case tar.TypeDir:
		f.Kind = makeup.Folder
	case tar.TypeSymlink, tar.TypeLink:
		f.Kind, f.Link = makeup.Link, h.Linkname
	default:
		f.Kind = makeup.Other
	}
	return f
}
