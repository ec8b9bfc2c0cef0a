package ecosystem

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"errors"
	"io"
	"math/rand/v2"
	"testing"
)

// lookUntil reads a file through glimpses, showing what is wanted each time, until it
// can be read; it tells how much had to be shown.
func lookUntil(t *testing.T, whole []byte, read func(SizedReaderAt) error) (shown int64, err error) {
	t.Helper()
	var seen []Stretch
	for range 30 {
		g := NewGlimpse(int64(len(whole)), seen)
		err := read(g)
		if err == nil {
			return shown, nil
		}
		at, length := g.Wants()
		if length == 0 {
			return shown, err
		}
		if at < 0 || at+length > int64(len(whole)) {
			t.Fatalf("wants %d from %d on of %d", length, at, len(whole))
		}
		seen = append(seen, Stretch{At: at, Bytes: whole[at : at+length]})
		shown += length
	}
	t.Fatal("it never ends")
	return 0, nil
}

func noise(n int) []byte {
	raw := make([]byte, n)
	if _, err := rand.NewChaCha8([32]byte{1}).Read(raw); err != nil {
		panic(err)
	}
	return raw
}

func TestGlimpseOfArchives(t *testing.T) {
	var zipped bytes.Buffer
	z := zip.NewWriter(&zipped)
	for _, entry := range []struct {
		name string
		raw  []byte
	}{{"large.bin", noise(12 << 20)}, {"manifest.xml", []byte("<it/>")}, {"more.bin", noise(3 << 20)}} {
		w, err := z.Create(entry.name)
		if err == nil {
			_, err = w.Write(entry.raw)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	shown, err := lookUntil(t, zipped.Bytes(), func(file SizedReaderAt) error {
		archive, err := OpenZip(t.Context(), Handed{Name: "a.zip", SizedReaderAt: file})
		if err != nil {
			return err
		}
		raw, err := ReadZipEntry(t.Context(), archive.File[1], 100)
		if err == nil && string(raw) != "<it/>" {
			t.Errorf("it says %q", raw)
		}
		return err
	})
	if err != nil || shown > 300<<10 {
		t.Errorf("a zip of %d bytes: %d shown, %v", zipped.Len(), shown, err)
	}

	var packed bytes.Buffer
	gz := gzip.NewWriter(&packed)
	archive := tar.NewWriter(gz)
	for _, entry := range []struct {
		name string
		raw  []byte
	}{{"a/first.bin", noise(1 << 20)}, {"a/manifest", []byte("it")}, {"a/last.bin", noise(20 << 20)}} {
		err := archive.WriteHeader(&tar.Header{Name: entry.name, Size: int64(len(entry.raw)), Mode: 0o644,
			Typeflag: tar.TypeReg})
		if err == nil {
			_, err = archive.Write(entry.raw)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(archive.Close(), gz.Close()); err != nil {
		t.Fatal(err)
	}
	find := func(wanted string) func(SizedReaderAt) error {
		return func(file SizedReaderAt) error {
			found := false
			err := WalkTarGz(t.Context(), file, func(name string, _ int64, r io.Reader) error {
				if name == wanted {
					found = true
					return ErrStop
				}
				return nil
			})
			if err == nil && !found {
				err = errors.New("not there")
			}
			return err
		}
	}
	if shown, err := lookUntil(t, packed.Bytes(), find("a/manifest")); err != nil || shown > 3<<20 {
		t.Errorf("a tarball: %d shown, %v", shown, err)
	}
	if shown, err := lookUntil(t, packed.Bytes(), find("a/none")); !errors.Is(err, ErrUnseen) || shown > MostOfFile {
		t.Errorf("what is nowhere: %d shown, %v", shown, err)
	}
}

func FuzzGlimpse(f *testing.F) {
	f.Add(int64(0), int64(10), int64(5), int64(10), int64(3), 4)
	f.Add(int64(90), int64(30), int64(90), int64(3), int64(95), 100)
	f.Fuzz(func(t *testing.T, at1, n1, at2, n2, from int64, length int) {
		const size = 100
		whole := noise(size)
		var seen []Stretch
		for _, s := range [][2]int64{{at1, n1}, {at2, n2}} {
			if s[0] < 0 || s[0] > size || s[1] < 0 || s[1] > size {
				continue
			}
			seen = append(seen, Stretch{At: s[0], Bytes: whole[s[0]:min(s[0]+s[1], size)]})
		}
		if length < 0 || length > 2*size {
			return
		}
		g := NewGlimpse(size, seen)
		p := make([]byte, length)
		n, err := g.ReadAt(p, from)
		if n > 0 && !bytes.Equal(p[:n], whole[from:from+int64(n)]) {
			t.Fatalf("%d bytes from %d on are not those of the file", n, from)
		}
		if err == nil && n != length {
			t.Fatalf("%d of %d bytes, and no error", n, length)
		}
		if at, n := g.Wants(); n > 0 && (at < 0 || at+n > size || !errors.Is(err, ErrUnseen)) {
			t.Fatalf("wants %d from %d on; %v", n, at, err)
		}
	})
}

// TestGlimpseReadOn: who reads a file from its beginning to its end, in pieces of any size, is shown
// twice as much each time, up to what is worth it.
func TestGlimpseReadOn(t *testing.T) {
	whole := noise(3 << 20)
	for _, piece := range []int{1000, 4096, 64 << 10} {
		rounds := 0
		shown, err := lookUntil(t, whole, func(f SizedReaderAt) error {
			rounds++
			_, err := io.CopyBuffer(struct{ io.Writer }{io.Discard}, io.NewSectionReader(f, 0, f.Size()), make([]byte, piece))
			return err
		})
		if err != nil || rounds > 9 || shown != int64(len(whole)) {
			t.Errorf("in pieces of %d: %d rounds show %d bytes, %v", piece, rounds, shown, err)
		}
	}
	shown, err := lookUntil(t, noise(MostOfFile+1), func(f SizedReaderAt) error {
		_, err := io.Copy(io.Discard, io.NewSectionReader(f, 0, f.Size()))
		return err
	})
	if !errors.Is(err, ErrUnseen) || shown != MostOfFile {
		t.Errorf("of a file that is too long %d bytes are shown, %v", shown, err)
	}
}
