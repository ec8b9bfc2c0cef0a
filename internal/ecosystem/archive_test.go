package ecosystem_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"runtime"
	"strings"
	"testing"
	"time"

	"crelvo/internal/core/budget/budgettest"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/ecosystemtest"
)

// tarGz writes an archive with headers of any kind.
func tarGz(t *testing.T, write func(w *tar.Writer) error) []byte {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	if err := write(w); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) {
	clear(p)
	return len(p), nil
}

// TestAbsurdArchives: what is meant to exhaust us gets a clear error, in bounded
// time and memory.
func TestAbsurdArchives(t *testing.T) {
	budgettest.Measures(t)
	const huge = 300 << 20
	header := func(name string, size int64, kind byte) *tar.Header {
		return &tar.Header{Name: name, Size: size, Mode: 0o644, Typeflag: kind, Linkname: "/etc/passwd"}
	}
	for name, c := range map[string]struct {
		file []byte
		want string
	}{
		"a bomb": {tarGz(t, func(w *tar.Writer) error {
			if err := w.WriteHeader(header("package/x", huge, tar.TypeReg)); err != nil {
				return err
			}
			_, err := io.CopyN(w, zeros{}, huge)
			return err
		}), "unpacks to more than"},
		"a million entries": {tarGz(t, func(w *tar.Writer) error {
			for i := range ecosystem.MaxEntries + 10 {
				if err := w.WriteHeader(header(fmt.Sprint("package/", i), 0, tar.TypeReg)); err != nil {
					return err
				}
			}
			return nil
		}), "more than"},
		"a symbolic link": {tarGz(t, func(w *tar.Writer) error {
			return w.WriteHeader(header("package/x", 0, tar.TypeSymlink))
		}), "is a link"},
		"a hard link": {tarGz(t, func(w *tar.Writer) error {
			return w.WriteHeader(header("package/x", 0, tar.TypeLink))
		}), "is a link"},
		"an absolute path": {tarGz(t, func(w *tar.Writer) error {
			return w.WriteHeader(header("/package/x", 0, tar.TypeReg))
		}), "leads out"},
		"a way out": {tarGz(t, func(w *tar.Writer) error {
			return w.WriteHeader(header("package/../../x", 0, tar.TypeReg))
		}), "leads out"},
		"no archive": {[]byte("hello"), "gzip"},
		"nothing":    {nil, "gzip"},
	} {
		t.Run(name, func(t *testing.T) {
			var before, after runtime.MemStats
			runtime.GC()
			runtime.ReadMemStats(&before)
			begun := time.Now()
			err := ecosystem.WalkTarGz(t.Context(), ecosystemtest.Bytes(c.file), func(_ string, _ int64, r io.Reader) error {
				_, err := io.Copy(io.Discard, r)
				return err
			})
			runtime.ReadMemStats(&after)
			if err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%v; want %q", err, c.want)
			}
			if grown := int64(after.HeapSys) - int64(before.HeapSys); grown > 64<<20 {
				t.Errorf("it took %d MiB of memory", grown>>20)
			}
			if took := time.Since(begun); took > 20*time.Second {
				t.Errorf("it took %s", took)
			}
		})
	}
}

func TestAbsurdZips(t *testing.T) {
	budgettest.Measures(t)
	many := func(n int, name string) []byte {
		var b bytes.Buffer
		w := zip.NewWriter(&b)
		for i := range n {
			if _, err := w.Create(fmt.Sprintf(name, i)); err != nil {
				t.Fatal(err)
			}
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		return b.Bytes()
	}
	for name, c := range map[string]struct {
		file []byte
		want string
	}{
		"a million entries": {many(ecosystem.MaxEntries+10, "lib/%d"), "entries"},
		"a way out":         {many(1, "../%d"), "leads out"},
		"an absolute path":  {many(1, "/etc/%d"), "leads out"},
		"backslashes":       {many(1, `..\%d`), "leads out"},
		"no archive":        {[]byte("hello"), "not a zip"},
	} {
		if _, err := ecosystem.OpenZip(t.Context(), ecosystemtest.Bytes(c.file)); err == nil ||
			!strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v; want %q", name, err, c.want)
		}
	}
	// An entry that says that it is small, and is not.
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	into, err := w.Create("x")
	if err == nil {
		_, err = io.CopyN(into, zeros{}, 80<<20)
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	archive, err := ecosystem.OpenZip(t.Context(), ecosystemtest.Bytes(b.Bytes()))
	if err != nil {
		t.Fatal(err)
	}
	if err := ecosystem.CheckZip(t.Context(), archive, 10); err == nil {
		t.Error("what unpacks to far more than its size is sound")
	}
	if err := ecosystem.CheckZip(t.Context(), archive, int64(b.Len())); err != nil {
		t.Error(err)
	}
	archive.File[0].UncompressedSize64 = 10
	if raw, err := ecosystem.ReadZipEntry(t.Context(), archive.File[0], 1<<20); err == nil {
		t.Errorf("%d bytes were read", len(raw))
	}
}

func TestAccepted(t *testing.T) {
	all := ecosystem.Accepted("application/json;q=0.5, Text/HTML , */*; q=0")
	if len(all) != 3 || all[0].Weight != 0.5 || all[1].Value != "text/html" || all[1].Weight != 1 || all[2].Weight != 0 {
		t.Errorf("%+v", all)
	}
}
