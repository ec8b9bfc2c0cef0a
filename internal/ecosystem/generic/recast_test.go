package generic

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/promotion"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/ecosystemtest"
)

// across is the way of a version from one repository into another that nothing of it is in.
type across struct {
	ecosystem.Packs
	d    *ecosystemtest.Desk
	into catalog.Repository
	here [][]byte // packs that are there
	made map[[32]byte]ecosystem.Staged
}

func (a across) Open(ctx context.Context, f catalog.File) (ecosystem.SeekableFile, error) {
	if st := a.made[f.Digests.SHA256]; st != nil {
		return unclosed{io.NewSectionReader(st, 0, st.Size())}, nil
	}
	return a.d.Open(ctx, f)
}

type unclosed struct{ *io.SectionReader }

func (unclosed) Close() error { return nil }

func (a across) Without(_ context.Context, sums [][]byte) ([][]byte, error) {
	return slices.DeleteFunc(slices.Clone(sums), func(sum []byte) bool {
		return slices.ContainsFunc(a.here, func(h []byte) bool { return bytes.Equal(h, sum) })
	}), nil
}

func (a across) Stage(ctx context.Context, name string, body io.Reader) (ecosystem.Staged, error) {
	return a.d.Stage(ctx, a.into, body, -1, name)
}

// versionOf is a version of the package chart-tiles on a desk.
func onDesk(t *testing.T, d *ecosystemtest.Desk, version string) catalog.Version {
	t.Helper()
	p, err := d.Package(t.Context(), d.Repository.Key(Name, "", "chart-tiles"))
	if err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(p.Versions, func(v catalog.Version) bool { return v.Version == version })
	return p.Versions[i]
}

// recast has a version become another one in another repository; nil if it stays what it is.
func recast(
	t *testing.T, d *ecosystemtest.Desk, from, to string, here [][]byte, restamps ...string,
) (*ecosystem.Recast, error) {
	t.Helper()
	into := d.Repository
	into.ID, into.Name = 2, "releases"
	stamp := ecosystem.Stamp{Name: "chart-tiles", From: from, To: to}
	return Generic{}.Recast(t.Context(), ecosystem.ToRecast{Name: "chart-tiles", Files: onDesk(t, d, from).Files,
		Stamp: stamp, All: ecosystem.Stamps{stamp}, Texts: promotion.Texts(restamps),
		Desk: across{Packs: d.Packs(d.Caller, into.Key(Name, "", "chart-tiles")), d: d, into: into, here: here}})
}

// TestRecast: what a pack has of other versions does not come along; texts change where the hop says so, and what
// cannot be changed is told.
func TestRecast(t *testing.T) {
	d := ecosystemtest.NewDesk(t, Generic{})
	tiles, secret := random(300_000), random(40_000)
	files := map[string][]byte{"tiles.bin": tiles, "secret.bin": secret,
		"version.txt": []byte("chart-tiles 1.0.0-dev\nof 1.0.0-dev\n"), "conf/at.ini": []byte("at = test\n"),
		"conf/key": {0, 1}}
	publish := func(version string) {
		t.Helper()
		d.Send(http.StatusCreated, http.MethodPut, "chart-tiles/"+version+"?unpack=tar.gz", tarGz(t, files))
	}
	publish("0.9.0")
	if whole, err := recast(t, d, "0.9.0", "0.9.0", nil, "text in *"); err != nil || whole != nil {
		t.Errorf("what has its packs to itself becomes %v, %v", whole, err)
	}
	delete(files, "secret.bin")
	publish("1.0.0-dev")
	var packs [][]byte
	for _, f := range onDesk(t, d, "1.0.0-dev").Files {
		if f.Extension == packKind {
			packs = append(packs, f.Digests.SHA256[:])
		}
	}
	if there, err := recast(t, d, "1.0.0-dev", "1.0.0-dev", packs); err != nil || there != nil {
		t.Errorf("what is there becomes %v, %v", there, err)
	}
	made, err := recast(t, d, "1.0.0-dev", "1.0.0", nil, "text in version*", "text in conf/*: test -> live",
		"text in tiles.bin: a -> b")
	if err != nil {
		t.Fatal(err)
	}
	said := made.Files[manifestFile]
	if len(said.Obstacles) != 2 || said.Obstacles[0] != (ecosystem.Obstacle{Entry: "conf/key", Reason: "is no text in UTF-8"}) {
		t.Errorf("%+v", said.Obstacles)
	}
	if len(said.Changes) != 3 || said.Changes[2] != (ecosystem.Edit{Entry: "version.txt", What: "line 2", Old: "of 1.0.0-dev",
		New: "of 1.0.0"}) {
		t.Errorf("%+v", said.Changes)
	}
	if made.NewBytes < 300_000 || made.NewBytes > 301_000 {
		t.Errorf("%d bytes", made.NewBytes)
	}
	written, err := made.Write(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	var all []catalog.File
	there := across{d: d, made: map[[32]byte]ecosystem.Staged{}}
	for _, f := range written {
		file := catalog.File{Name: f.Name, Extension: f.Extension, Digests: catalog.Digests{SHA256: f.SHA256}}
		if f.Staged != nil {
			file.Digests = f.Staged.Digests()
			there.made[f.SHA256] = f.Staged
		} else if raw, err := readAll(d, file); err != nil || bytes.Contains(raw, secret[:100]) {
			t.Errorf("%s has what the release does not, %v", f.Name, err)
		}
		all = append(all, file)
	}
	s := &recasting{ToRecast: ecosystem.ToRecast{Name: "chart-tiles", Files: all, Desk: there}}
	if err := s.open(t.Context()); err != nil {
		t.Fatal(err)
	}
	defer s.set.Close()
	for path, want := range map[string]string{"tiles.bin": string(tiles), "version.txt": "chart-tiles 1.0.0\nof 1.0.0\n",
		"conf/at.ini": "at = live\n", "conf/key": "\x00\x01"} {
		f, err := s.set.layout.Find(path)
		if err != nil {
			t.Fatal(path, err)
		}
		if got, err := s.text(t.Context(), f); err != nil || got != want {
			t.Errorf("%s has %d bytes, %v", path, len(got), err)
		}
	}
}

func readAll(d *ecosystemtest.Desk, f catalog.File) ([]byte, error) {
	r, err := d.Open(context.Background(), f)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(r)
}

// TestRecastLimits: no more is read for the sake of texts than can be.
func TestRecastLimits(t *testing.T) {
	d := ecosystemtest.NewDesk(t, Generic{})
	d.Send(http.StatusCreated, http.MethodPut, "chart-tiles/1.0.0-dev?unpack=tar.gz", tarGz(t, map[string][]byte{
		"large.txt": []byte(strings.Repeat("1.0.0-dev\n", maxText/10+1)),
		"lines.txt": []byte(strings.Repeat("1.0.0-dev\n", 1000))}))
	made, err := recast(t, d, "1.0.0-dev", "1.0.0", nil, "text in *.txt")
	if err != nil {
		t.Fatal(err)
	}
	said := made.Files[manifestFile]
	if len(said.Changes) != maxTold || len(said.Obstacles) != 1 || said.Obstacles[0].Entry != "large.txt" {
		t.Errorf("%d changes, %v", len(said.Changes), said.Obstacles)
	}
}

// TestFiled: a set is read where it is kept.
func TestFiled(t *testing.T) {
	d := ecosystemtest.NewDesk(t, Generic{})
	tiles := random(400_000)
	d.Send(http.StatusCreated, http.MethodPut, "chart-tiles/1.0.0-dev?unpack=tar.gz",
		tarGz(t, map[string][]byte{"north/a.bin": tiles, "north/b.txt": []byte("b"), "c.txt": []byte("c")}))
	g, key := Generic{}, d.Repository.Key(Name, "", "chart-tiles")
	v := onDesk(t, d, "1.0.0-dev")
	if files, n := g.Holds(v.Details); files != 3 || n != 400_002 {
		t.Errorf("it holds %d files, %d bytes", files, n)
	}
	for _, f := range v.Files {
		hidden, signed := f.Name != manifestFile, f.Name == manifestFile
		if g.KeptAs(f) != hidden || g.SignsBeside(f.Name) != signed {
			t.Errorf("%s is shown: %v, signed: %v", f.Name, !g.KeptAs(f), g.SignsBeside(f.Name))
		}
		at := g.Address(purl.PURL{Ecosystem: Name, Name: "chart-tiles", Version: "1.0.0-dev"}, v.Upload, f)
		if raw := d.Get(http.StatusOK, at); int64(len(raw)) != f.Digests.Size {
			t.Errorf("%s has %d bytes", at, len(raw))
		}
	}
	lines, more, err := g.List(t.Context(), d, key, "1.0.0-dev", "north/", "", 1)
	if err != nil || !more || len(lines) != 1 || lines[0].Name != "a.bin" {
		t.Errorf("%v %v %v", lines, more, err)
	}
	if _, _, err := g.List(t.Context(), d, key, v.Upload, "south/", "", 1); err != ecosystem.ErrNoFile {
		t.Errorf("a folder that is not there: %v", err)
	}
	f, err := g.OpenFile(t.Context(), d, key, "1.0.0-dev", "north/a.bin")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	part := make([]byte, 1000)
	if _, err := f.ReadAt(part, 300_000); err != nil || !bytes.Equal(part, tiles[300_000:301_000]) || f.Size() != 400_000 {
		t.Errorf("%d bytes, %v", f.Size(), err)
	}
	if _, err := f.Seek(-10, io.SeekEnd); err != nil {
		t.Fatal(err)
	}
	if rest, err := io.ReadAll(f); err != nil || !bytes.Equal(rest, tiles[399_990:]) {
		t.Errorf("%d bytes, %v", len(rest), err)
	}
	for _, no := range []string{"north", "d.txt"} {
		if _, err := g.OpenFile(t.Context(), d, key, "1.0.0-dev", no); err == nil {
			t.Errorf("%s was opened", no)
		}
	}
	var walked []string
	if err := g.Walk(t.Context(), d, key, "1.0.0-dev", func(
		path string, size int64, open func() ecosystem.SizedFile,
	) error {
		f := open()
		defer f.Close()
		raw, err := io.ReadAll(f)
		if int64(len(raw)) != size {
			t.Errorf("%s has %d bytes, and not %d", path, len(raw), size)
		}
		walked = append(walked, path)
		return err
	}); err != nil || strings.Join(walked, " ") != "c.txt north/a.bin north/b.txt" {
		t.Errorf("%v, %v", walked, err)
	}
	m, err := g.Manifest(t.Context(), d, key, "1.0.0-dev")
	if err != nil {
		t.Fatal(err)
	}
	defer m.Close()
	if raw, err := io.ReadAll(m); err != nil || !strings.HasPrefix(string(raw), `{"fileSet":1,"files":3`) {
		t.Errorf("%.60s, %v", raw, err)
	}
}
