package oci

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"crelvo/internal/core/budget"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/makeup"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/madeup"
)

// made is what an image is made of, as its configuration is changed.
func made(t *testing.T, change func(*v1.Image)) (makeup.Makeup, error) {
	t.Helper()
	base := madeup.Package{Name: "minimal", Version: "1.1.0"}.Image("linux/arm64", nil)
	image := planner.Image("linux/arm64", &base)
	var m v1.Manifest
	if err := json.Unmarshal(image.Manifest, &m); err != nil {
		t.Fatal(err)
	}
	return New().Makeup(t.Context(), image.Manifest, image.MediaType, func(sum catalog.Sum) ([]byte, error) {
		if sum.String() != string(m.Config.Digest) {
			t.Errorf("%s is read", sum)
		}
		var config v1.Image
		if err := json.Unmarshal(image.Blobs[sum.String()], &config); err != nil {
			t.Fatal(err)
		}
		if change == nil {
			return nil, nil
		}
		change(&config)
		return json.Marshal(config)
	})
}

func TestMakeup(t *testing.T) {
	m, err := made(t, func(c *v1.Image) {
		c.Variant = "v8"
		c.Config.Cmd, c.Config.WorkingDir = []string{"--tide", "low tide"}, "/srv"
		c.Config.ExposedPorts = map[string]struct{}{"9090/udp": {}, "8080/tcp": {}}
		c.Config.Labels["odd"] = "a\x1b[31m\nb"
		c.History[0].CreatedBy = `/bin/sh -c #(nop)  COPY file:1 in /usr/bin `
		c.History[2].CreatedBy = "RUN /bin/sh -c make planner # buildkit"
	})
	if err != nil {
		t.Fatal(err)
	}
	if m.Platform != "linux/arm64/v8" || m.Made.IsZero() || len(m.Layers()) != 2 || len(m.Steps) != 4 {
		t.Errorf("%+v", m)
	}
	var by []string
	for _, s := range m.Steps {
		by = append(by, fmt.Sprint(s.By, s.Layer != ""))
	}
	if want := []string{"COPY file:1 in /usr/bintrue", "ENV SHORE_VERSION=1.1.0false",
		"RUN /bin/sh -c make plannertrue", "ENV SHORE_VERSION=" + planner.Version + "false"}; !slices.Equal(by, want) {
		t.Errorf("made by %q, want %q", by, want)
	}
	for _, want := range []makeup.Setting{{Name: "command", Value: `["--tide","low tide"]`},
		{Name: "entrypoint", Value: `["/usr/bin/` + planner.Name + `"]`}, {Name: "environment PATH", Value: "/usr/bin"},
		{Name: "port", Value: "8080/tcp"}, {Name: "port", Value: "9090/udp"}, {Name: "user", Value: "1000"},
		{Name: "working directory", Value: "/srv"},
		{Name: "annotation org.opencontainers.image.version", Value: planner.Version}} {
		if !slices.Contains(m.Settings, want) {
			t.Errorf("it is not set: %+v in %q", want, m.Settings)
		}
	}
	for _, s := range m.Settings {
		if strings.ContainsRune(s.Value, 0x1b) {
			t.Errorf("%q would be shown", s.Value)
		}
	}
	// A history of other layers tells nothing of these.
	if m, err = made(t, func(c *v1.Image) { c.History = c.History[1:] }); err != nil || m.Steps[0].By != "" ||
		len(m.Steps) != 2 {
		t.Errorf("%+v, %v", m, err)
	}
	// What is not here leaves the layers.
	if m, err = made(t, nil); err != nil || len(m.Steps) != 2 || m.Platform != "" {
		t.Errorf("%+v, %v", m, err)
	}
	failed := errors.New("away")
	image := planner.Image("linux/arm64", nil)
	if _, err := New().Makeup(t.Context(), image.Manifest, image.MediaType,
		func(catalog.Sum) ([]byte, error) { return nil, failed }); !errors.Is(err, failed) {
		t.Errorf("%v", err)
	}
	for _, bad := range []string{`{`, `[]`, `{"created":"yesterday"}`} {
		if _, err := New().Makeup(t.Context(), image.Manifest, image.MediaType,
			func(catalog.Sum) ([]byte, error) { return []byte(bad), nil }); err == nil {
			t.Errorf("%s is a configuration", bad)
		}
	}
	// Of an artifact the files are told by their names.
	about := image.Referrer("application/spdx+json", "application/spdx+json", []byte("{}"))
	m, err = New().Makeup(t.Context(), about.Manifest, about.MediaType, nil)
	if err != nil || len(m.Steps) != 1 || m.Steps[0].MediaType != "application/spdx+json" {
		t.Errorf("%+v, %v", m, err)
	}
}

// tarOf is an archive of entries.
func tarOf(t *testing.T, entries ...tar.Header) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, h := range entries {
		if err := w.WriteHeader(&h); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write(bytes.Repeat([]byte("x"), int(h.Size))); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func filesOf(ctx context.Context, layer []byte) (got []string, err error) {
	err = New().LayerFiles(ctx, ecosystem.Sized(bytes.NewReader(layer), int64(len(layer))), func(f makeup.File) error {
		got = append(got, fmt.Sprintf("%s %d %d %04o %s %s", f.Path, f.Kind, f.Size, f.Mode, f.Owner, f.Link))
		return nil
	})
	return got, err
}

func TestLayerFiles(t *testing.T) {
	plain := tarOf(t, tar.Header{Name: "./", Typeflag: tar.TypeDir, Mode: 0o755},
		tar.Header{Name: "/etc/", Typeflag: tar.TypeDir, Mode: 0o755},
		tar.Header{Name: "etc/berths", Size: 5, Mode: 0o640, Uid: 7},
		tar.Header{Name: "usr/lib/libshore.so", Typeflag: tar.TypeSymlink, Linkname: "libshore.so.1"},
		tar.Header{Name: "etc/.wh.fares"}, tar.Header{Name: "srv/.wh..wh..opq"}, tar.Header{Name: ".wh..wh..opq"},
		tar.Header{Name: "../../escape", Size: 1}, tar.Header{Name: "dev/null", Typeflag: tar.TypeChar})
	want := []string{"etc 1 0 0755 0:0 ", "etc/berths 0 5 0640 7:0 ", "usr/lib/libshore.so 2 0 0000 0:0 libshore.so.1",
		"etc/fares 4 0 0000  ", "srv 5 0 0000  ", " 5 0 0000  ", "escape 0 1 0000 0:0 ", "dev/null 3 0 0000 0:0 "}
	var zipped, packed bytes.Buffer
	z := gzip.NewWriter(&zipped)
	z.Write(plain)
	z.Close()
	s, err := zstd.NewWriter(&packed)
	if err != nil {
		t.Fatal(err)
	}
	s.Write(plain)
	s.Close()
	for name, layer := range map[string][]byte{"plain": plain, "gzip": zipped.Bytes(), "zstd": packed.Bytes()} {
		if got, err := filesOf(t.Context(), layer); err != nil || !slices.Equal(got, want) {
			t.Errorf("%s: %q, want %q; %v", name, got, want, err)
		}
		if _, err := filesOf(t.Context(), layer[:len(layer)/2]); err == nil {
			t.Errorf("%s: one that was cut is whole", name)
		}
		spent := (*budget.Spent)(nil)
		if _, err := filesOf(budget.With(t.Context(), budget.Limits{Bytes: 1 << 20, Held: 1000, Elements: 4}),
			layer); !errors.As(err, &spent) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := filesOf(t.Context(), []byte("no archive at all, but long enough to be taken for one"+
		strings.Repeat(".", 600))); err == nil {
		t.Error("a text is an archive")
	}
}

// FuzzMakeup: whatever an image says of itself, it can be told or refused.
func FuzzMakeup(f *testing.F) {
	image := planner.Image("linux/amd64", nil)
	for _, blob := range image.Blobs {
		f.Add(image.Manifest, blob)
	}
	f.Fuzz(func(t *testing.T, manifest, blob []byte) {
		m, err := New().Makeup(t.Context(), manifest, image.MediaType,
			func(catalog.Sum) ([]byte, error) { return blob, nil })
		if err == nil && len(m.Settings) > maxSettings {
			t.Errorf("%d settings", len(m.Settings))
		}
		ctx := budget.With(t.Context(), budget.Limits{Bytes: 1 << 20, Held: 1 << 20, Elements: 1000})
		_, _ = filesOf(ctx, blob)
	})
}
