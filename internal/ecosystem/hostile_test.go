package ecosystem

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"runtime"
	"strings"
	"testing"

	"crelvo/internal/core/budget"
	"crelvo/internal/core/budget/budgettest"
)

type content []byte

func (c content) ReadAt(p []byte, off int64) (int, error) {
	return bytes.NewReader(c).ReadAt(p, off)
}
func (c content) Size() int64 { return int64(len(c)) }

// sharing is a zip archive whose directory names the same bytes again and again.
func sharing(t *testing.T, times, size int) content {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	entry, err := w.Create("a.bin")
	if err == nil {
		_, err = entry.Write(make([]byte, size))
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	raw := b.Bytes()
	end := bytes.LastIndex(raw, []byte("PK\x05\x06"))
	begin := int(binary.LittleEndian.Uint32(raw[end+16:]))
	record := raw[begin:end]
	out := append(content{}, raw[:begin]...)
	for range times {
		out = append(out, record...)
	}
	tail := append([]byte{}, raw[end:]...)
	for _, at := range []int{8, 10} {
		binary.LittleEndian.PutUint16(tail[at:], uint16(times))
	}
	binary.LittleEndian.PutUint32(tail[12:], uint32(times*len(record)))
	return append(out, tail...)
}

func tarGz(t *testing.T, headers ...*tar.Header) content {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	for _, h := range headers {
		if err := w.WriteHeader(h); err != nil {
			t.Fatal(err)
		}
		if _, err := io.CopyN(w, zeros{}, h.Size); err != nil {
			t.Fatal(err)
		}
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

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

// TestBytesThatAreShared: entries that share bytes are refused before any of them
// is read.
func TestBytesThatAreShared(t *testing.T) {
	if _, err := OpenZip(t.Context(), sharing(t, 1, 1<<20)); err != nil {
		t.Errorf("one entry: %v", err)
	}
	for _, times := range []int{2, 1000} {
		raw := sharing(t, times, 4<<20)
		if _, err := OpenZip(t.Context(), raw); err == nil || !strings.Contains(err.Error(), "share bytes") {
			t.Errorf("%d entries: %v", times, err)
		}
		r, err := RestampZip(t.Context(), ToRestamp{SizedReaderAt: raw, Stamp: Stamp{From: "1", To: "2"}}, "x.zip",
			ArchiveEdit{})
		if err == nil {
			t.Errorf("%d entries are restamped: %+v", times, r)
		}
	}
}

// TestHoles: an entry that says it has holes unpacks to anything.
func TestHoles(t *testing.T) {
	raw := tarGz(t, &tar.Header{Name: "package/package.json", Mode: 0o644, Size: 512, Format: tar.FormatPAX,
		PAXRecords: map[string]string{"comment": "x"}})
	if err := WalkTarGz(t.Context(), raw, func(string, int64, io.Reader) error { return nil }); err != nil {
		t.Fatal(err)
	}
	// The writer writes no holes itself; the name of the record is changed in the archive.
	unzipped, err := gzip.NewReader(bytes.NewReader(tarGz(t,
		&tar.Header{Name: "package/package.json", Mode: 0o644, Size: 512, Format: tar.FormatPAX,
			PAXRecords: map[string]string{"XYZ.sparse.size": "1073741824", "XYZ.sparse.numblocks": "0", "XYZ.sparse.map": ""}})))
	if err != nil {
		t.Fatal(err)
	}
	plain, err := io.ReadAll(unzipped)
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	if _, err := z.Write(bytes.ReplaceAll(plain, []byte("XYZ.sparse"), []byte("GNU.sparse"))); err != nil {
		t.Fatal(err)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	err = WalkTarGz(t.Context(), content(b.Bytes()), func(_ string, _ int64, r io.Reader) error {
		n, err := io.Copy(io.Discard, r)
		return fmt.Errorf("%d bytes were read, %v", n, err)
	})
	if err == nil || !strings.Contains(err.Error(), "has holes") {
		t.Errorf("holes: %v", err)
	}
}

// TestManyEdited: what is edited in one archive has one budget.
func TestManyEdited(t *testing.T) {
	budgettest.Measures(t)
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for i := range 6 {
		entry, err := w.Create(fmt.Sprintf("%d/x.txt", i))
		if err == nil {
			_, err = io.CopyN(entry, zeros{}, maxEdited-10)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if _, err := w.Create("LIST"); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	_, err := RestampZip(t.Context(), ToRestamp{SizedReaderAt: content(b.Bytes()), Stamp: Stamp{From: "1", To: "2"}},
		"x.zip", ArchiveEdit{
			Wants: func(name string) bool { return strings.HasSuffix(name, ".txt") }, Last: "LIST",
			Edit: func(_ string, raw []byte) ([]byte, []Edit, error) {
				return append(raw, '2'), []Edit{{What: "x", Old: "1", New: "2"}}, nil
			},
			Relist: func(raw []byte, _ map[string][]byte) ([]byte, []Edit, error) { return raw, nil, nil }})
	runtime.ReadMemStats(&after)
	if err == nil || !strings.Contains(err.Error(), "in memory at once") {
		t.Errorf("%v", err)
	}
	if used := after.TotalAlloc - before.TotalAlloc; used > 200<<20 {
		t.Errorf("%d bytes of memory", used)
	}
}

// TestWhoLeftIsNotWorkedFor: the work on an archive ends with the request.
func TestWhoLeftIsNotWorkedFor(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	raw := tarGz(t, &tar.Header{Name: "package/a", Mode: 0o644, Size: 20 << 20},
		&tar.Header{Name: "package/b", Mode: 0o644, Size: 20 << 20})
	seen := 0
	err := WalkTarGz(budget.With(ctx, budget.Default), raw, func(string, int64, io.Reader) error {
		seen++
		cancel()
		return nil
	})
	if err == nil || seen != 1 {
		t.Errorf("%d entries, %v", seen, err)
	}
}
