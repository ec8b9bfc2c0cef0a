package generic

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fileset"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/ecosystemtest"
	"crelvo/internal/ecosystem/madeup"
)

func TestConformance(t *testing.T) {
	ecosystemtest.Run(t, Generic{}, ecosystemtest.Samples{
		Snapshot: "2026.11.1-dev.4", Release: "2026.11.1",
		Bad: []ecosystemtest.Sample{{Name: "a file by hand", As: "pkg:generic/chart-tiles@2026.11.1",
			Files: map[string][]byte{"tiles.bin": []byte("x")}}},
		Foreign: map[string][]byte{"gangway-1.4.0.tgz": madeup.TarGz(madeup.Entry{Name: "x", Content: "x"})},
	})
}

// TestVersions: the order of versions, and which are development versions.
func TestVersions(t *testing.T) {
	ordered := []string{"1.0-dev", "1.0-dev.2", "1.0-dev.10", "1.0-rc1", "1.0-rc.2", "1.0", "1.0-1", "1.0-2", "1.0a", "1.0.1", "1.2",
		"1.10", "v3", "2026.9.30", "2026.10.1-nightly", "2026.10.1"}
	for i := range ordered {
		for j := range ordered {
			if got := purl.Compare(Name, ordered[i], ordered[j]); (got < 0) != (i < j) || (got > 0) != (i > j) {
				t.Errorf("%s and %s: %d", ordered[i], ordered[j], got)
			}
		}
	}
	for version, snapshot := range map[string]bool{"1.0": false, "1.0-dev": true, "1.0-DEV.3": true, "1.0-snapshot": true,
		"1.0-nightly.20261101": true, "1.0-rc.1": false, "dev": false, "device-2": false, "1.0-device": false,
		"1-dev7": true} {
		if isSnapshot(version) != snapshot {
			t.Errorf("%s: %v", version, !snapshot)
		}
	}
}

func random(n int) []byte {
	content := make([]byte, n)
	r := rand.NewChaCha8([32]byte{byte(n)})
	r.Read(content)
	return content
}

// tarGz is an archive of files, a link and a folder.
func tarGz(t *testing.T, files map[string][]byte) []byte {
	t.Helper()
	var b bytes.Buffer
	packed := gzip.NewWriter(&b)
	w := tar.NewWriter(packed)
	at := time.Date(2026, 11, 1, 6, 0, 0, 0, time.UTC)
	add := func(h *tar.Header, content []byte) {
		h.ModTime = at
		if err := w.WriteHeader(h); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write(content); err != nil {
			t.Fatal(err)
		}
	}
	add(&tar.Header{Name: "./", Typeflag: tar.TypeDir, Mode: 0o755}, nil)
	for name, content := range files {
		add(&tar.Header{Name: "./" + name, Typeflag: tar.TypeReg, Mode: 0o640, Size: int64(len(content))}, content)
	}
	add(&tar.Header{Name: "latest", Typeflag: tar.TypeSymlink, Linkname: "a.txt"}, nil)
	add(&tar.Header{Name: "empty/", Typeflag: tar.TypeDir, Mode: 0o700}, nil)
	if err := errors.Join(w.Close(), packed.Close()); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// TestPlainHTTP: an archive becomes a set, whose files, folders and archives are got by address.
func TestPlainHTTP(t *testing.T) {
	d := ecosystemtest.NewDesk(t, Generic{})
	large := random(3 << 20)
	files := map[string][]byte{"a.txt": []byte("hello\n"), "tiles/north/1.bin": large, "tiles/north/2.bin": large[:100],
		"tiles/page.html": []byte("<script>alert(1)</script>")}
	ecosystemtest.Says(t, d.Send(http.StatusCreated, http.MethodPut, "chart-tiles/2026.11.1?unpack=tar.gz&description=Tiles&label=stable",
		tarGz(t, files)), "pkg:generic/chart-tiles@2026.11.1 is published in", "4 files")
	for name, content := range files {
		if got := d.Get(http.StatusOK, "chart-tiles/2026.11.1/"+name); got != string(content) {
			t.Errorf("%s has %d bytes, and not %d", name, len(got), len(content))
		}
	}
	for _, c := range []struct{ from, to int }{{0, 0}, {1<<20 - 5, 1<<20 + 5}, {3<<20 - 1, 3<<20 - 1}, {100,
		3<<20 - 100}} {
		header := "bytes=" + string(json.Number(itoa(c.from))) + "-" + itoa(c.to)
		if got := d.Get(http.StatusPartialContent, "chart-tiles/2026.11.1/tiles/north/1.bin", "Range", header); got !=
			string(large[c.from:c.to+1]) {
			t.Errorf("%s: %d bytes", header, len(got))
		}
	}
	a := d.Ask(http.MethodGet, "chart-tiles/2026.11.1/tiles/page.html", nil)
	if a.Header().Get("Content-Type") != "application/octet-stream" || a.Header().Get("X-Content-Type-Options") != "nosniff" ||
		!strings.Contains(a.Header().Get("Content-Security-Policy"), "sandbox") {
		t.Errorf("a page is sent with %v", a.Header())
	}
	if a := d.Ask(http.MethodGet, "chart-tiles/2026.11.1/a.txt", nil, "If-None-Match",
		a.Header().Get("ETag")); a.Code != http.StatusOK {
		t.Errorf("another validator: %d", a.Code)
	}
	if a := d.Ask(http.MethodGet, "chart-tiles/2026.11.1/latest", nil); a.Code != http.StatusFound ||
		!strings.HasSuffix(a.Header().Get("Location"), "/chart-tiles/2026.11.1/a.txt") {
		t.Errorf("a link: %d to %s", a.Code, a.Header().Get("Location"))
	}
	ecosystemtest.Says(t, d.Get(http.StatusOK, "chart-tiles/2026.11.1/tiles/?as=json"),
		`{"name":"north","kind":"folder","size":3145828,"files":2,"mode":"755"}`, `"name":"page.html","kind":"file"`)
	ecosystemtest.Says(t, d.Get(http.StatusOK, "chart-tiles?as=json"), `"labels":["stable"]`, `"description":"Tiles"`)
	ecosystemtest.Says(t, d.Get(http.StatusOK, "chart-tiles/2026.11.1/tiles"), `"Name":"north"`, `"Folder":true`)
	for path, want := range map[string]string{"chart-tiles/2026.11.2/x": "holds no chart-tiles 2026.11.2",
		"chart-tiles/2026.11.1/x": "has no \\\"x\\\"", "chart-tiles/2026.11.1/tiles/x/": "has no"} {
		ecosystemtest.Says(t, d.Get(http.StatusNotFound, path, "Accept", "application/json"), want)
	}
	// The whole of it, as archives, is what was sent.
	for _, as := range []string{"tar", "tar.gz", "tar.zst"} {
		got := map[string]string{}
		raw := []byte(d.Get(http.StatusOK, "chart-tiles/2026.11.1/?as="+as))
		var r io.Reader = bytes.NewReader(raw)
		switch as {
		case "tar.gz":
			var err error
			if r, err = gzip.NewReader(r); err != nil {
				t.Fatal(err)
			}
		case "tar.zst":
			unpacked, err := zstd.NewReader(r)
			if err != nil {
				t.Fatal(err)
			}
			defer unpacked.Close()
			r = unpacked
		}
		for archive := tar.NewReader(r); ; {
			h, err := archive.Next()
			if err == io.EOF {
				break
			}
			if err != nil {
				t.Fatal(as, err)
			}
			content, err := io.ReadAll(archive)
			if err != nil {
				t.Fatal(as, err)
			}
			got[strings.TrimPrefix(h.Name, "chart-tiles-2026.11.1/")] = string(content) + h.Linkname
		}
		if len(got) != 6 || got["latest"] != "a.txt" || got["tiles/north/1.bin"] != string(large) {
			t.Errorf("%s has %d entries", as, len(got))
		}
	}
	// A folder of it becomes another set as it is.
	folder := []byte(d.Get(http.StatusOK, "chart-tiles/2026.11.1/tiles?as=zip"))
	d.Send(http.StatusCreated, http.MethodPut, "north-tiles/1.0.0?unpack=zip", folder)
	if got := d.Get(http.StatusOK, "north-tiles/1.0.0/tiles/north/1.bin"); got != string(large) {
		t.Errorf("%d bytes came back", len(got))
	}
}

func itoa(n int) string {
	raw, _ := json.Marshal(n) // of a number there is no error
	return string(raw)
}

// TestFileByFile: files are put one by one, and published together; what was sent last counts.
func TestFileByFile(t *testing.T) {
	d := ecosystemtest.NewDesk(t, Generic{})
	d.Send(http.StatusNotFound, http.MethodPost, "firmware/1.0.0", nil)
	d.Send(http.StatusAccepted, http.MethodPut, "firmware/1.0.0/bin/flash?mode=755", []byte("first"))
	d.Send(http.StatusAccepted, http.MethodPut, "firmware/1.0.0/bin/flash?mode=755", []byte("second"))
	ecosystemtest.Says(t, d.Send(http.StatusAccepted, http.MethodPut, "firmware/1.0.0/notes.txt", []byte("notes")), "POST to")
	d.Get(http.StatusNotFound, "firmware/1.0.0/notes.txt")
	d.Send(http.StatusCreated, http.MethodPost, "firmware/1.0.0", nil)
	if got := d.Get(http.StatusOK, "firmware/1.0.0/bin/flash"); got != "second" {
		t.Errorf("%q", got)
	}
	ecosystemtest.Says(t, d.Get(http.StatusOK, ".sets/firmware/1.0.0/manifest.jsonl"), `"path":"bin/flash","size":6,"mode":"755"`)
	d.Send(http.StatusCreated, http.MethodPut, "firmware/1.0.1/flash?complete=yes", []byte("alone"))
	if got := d.Get(http.StatusOK, "firmware/1.0.1/flash"); got != "alone" {
		t.Errorf("%q", got)
	}
	for path, want := range map[string]string{"firmware/1.0.2/../x": "", "firmware/1.0.2/a%5Cb": "backslash",
		"firmware/1.0.2/x?mode=9": "mode", "-x/1.0.0/y": "cannot be the name", "firmware/a%20b/y": "cannot be the version",
		"firmware/1.0.3?unpack=rar": "?unpack=tar"} {
		a := d.Ask(http.MethodPut, path, []byte("x"), "Accept", "application/json")
		if a.Code < 400 || !strings.Contains(a.Body.String(), want) {
			t.Errorf("%s: %d %s", path, a.Code, a.Body)
		}
	}
	for form, bad := range map[string][]byte{"tar.gz": []byte("no archive"), "tar.zst": []byte("none"), "zip": []byte("none"),
		"tar": tarOut(t)} {
		a := d.Ask(http.MethodPut, "firmware/1.0.4?unpack="+form, bad, "Accept", "application/json")
		if a.Code != http.StatusBadRequest {
			t.Errorf("%s: %d %s", form, a.Code, a.Body)
		}
	}
	d.Send(http.StatusNoContent, http.MethodDelete, "firmware/1.0.1", nil)
	d.Get(http.StatusNotFound, "firmware/1.0.1/flash")
}

// tarOut is an archive that leads out of itself.
func tarOut(t *testing.T) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	if err := errors.Join(w.WriteHeader(&tar.Header{Name: "../x", Typeflag: tar.TypeReg, Mode: 0o644}),
		w.Close()); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// packed is a pack of contents.
func packed(t *testing.T, contents ...[]byte) []byte {
	t.Helper()
	var b bytes.Buffer
	p := fileset.NewPackWriter(&b)
	for _, c := range contents {
		if err := p.Add(fileset.Chunk{Digest: sha256.Sum256(c), Length: uint32(len(c))}, c); err != nil {
			t.Fatal(err)
		}
	}
	if err := p.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// TestProtocol: what a client of its own does, and what is said to one that does something wrong.
func TestProtocol(t *testing.T) {
	d := ecosystemtest.NewDesk(t, Generic{})
	one, two := []byte("the first chunk"), []byte("and the second")
	hexOf := func(b []byte) string { s := sha256.Sum256(b); return hex.EncodeToString(s[:]) }
	ask := func(chunks ...string) string {
		raw, err := json.Marshal(map[string]any{"chunks": chunks})
		if err != nil {
			t.Fatal(err)
		}
		return d.Send(http.StatusOK, http.MethodPost, ".sets/tool/lacking?version=1.0.0", raw)
	}
	ecosystemtest.Says(t, ask(hexOf(one), hexOf(two)), hexOf(one), hexOf(two))
	d.Send(http.StatusCreated, http.MethodPost, ".sets/tool/packs?version=1.0.0", packed(t, one, two))
	if said := ask(hexOf(one), hexOf(two)); !strings.Contains(said, `"lacking":[]`) {
		t.Error(said)
	}
	whole := fileset.Entry{Path: "tool", Mode: 0o755, Modified: time.Unix(0, 0).UTC(), Size: int64(len(one) + len(two)),
		Digest: sha256.Sum256(slices.Concat(one, two)), Chunks: []fileset.Chunk{{Digest: sha256.Sum256(one),
			Length: uint32(len(one))},
			{Digest: sha256.Sum256(two), Length: uint32(len(two))}}}
	manifest := func(e ...fileset.Entry) []byte {
		raw, err := fileset.Manifest(e, "")
		if err != nil {
			t.Fatal(err)
		}
		return raw
	}
	other, lacking, length := whole, whole, whole
	other.Digest[0]++
	lacking.Chunks = append(slices.Clone(whole.Chunks), fileset.Chunk{Digest: sha256.Sum256(nil), Length: 1})
	lacking.Size++
	length.Chunks = slices.Clone(whole.Chunks)
	length.Chunks[0].Length++
	length.Size++
	for want, raw := range map[string][]byte{"other-digest": manifest(other), "chunks-lacking": manifest(lacking),
		"bad-manifest": manifest(length), "bad-manifest ": []byte("{}\n"), "bad-manifest  ": manifest(whole)[:100]} {
		a := d.Ask(http.MethodPut, ".sets/tool/1.0.0/manifest.jsonl", raw, "Accept", "application/json")
		if a.Code < 400 || !strings.Contains(a.Body.String(), `"`+strings.TrimSpace(want)+`"`) {
			t.Errorf("%s: %d %s", want, a.Code, a.Body)
		}
	}
	good := manifest(whole)
	ecosystemtest.Says(t, d.Send(http.StatusCreated, http.MethodPut, ".sets/tool/1.0.0/manifest.jsonl", good), hexOf(good))
	ecosystemtest.Says(t, d.Send(http.StatusOK, http.MethodPut, ".sets/tool/1.0.0/manifest.jsonl", good), `"same":true`)
	if got := d.Send(http.StatusOK, http.MethodPost, ".sets/tool/1.0.0/chunks", []byte(`{"chunks":[[1,1],[0,2]]}`)); got !=
		string(two)+string(one)+string(two) {
		t.Errorf("%q", got)
	}
	for path, body := range map[string]string{".sets/tool/1.0.0/chunks": `{"chunks":[[1,2]]}`,
		".sets/tool/1.0.0/chunks  ": `{"chunks":[[0,-1]]}`, ".sets/tool/1.0.0/chunks   ": `{"chunks":[[0,999999]]}`, ".sets/tool/packs": "no pack",
		".sets/tool/lacking": `{"chunks":["x"]}`, ".sets/tool/1.0.0/chunks ": `{`} {
		if a := d.Ask(http.MethodPost, strings.TrimSpace(path), []byte(body)); a.Code != http.StatusBadRequest {
			t.Errorf("%s: %d %s", path, a.Code, a.Body)
		}
	}
	if got := d.Get(http.StatusOK, ".sets/tool/1.0.0/manifest.jsonl"); got != string(good) {
		t.Errorf("%q", got)
	}
}

// TestSend: a version is sent on to another server, which is sent only what it lacks.
func TestSend(t *testing.T) {
	here, there := ecosystemtest.NewDesk(t, Generic{}), ecosystemtest.NewDesk(t, Generic{})
	bytesOfPacks := int64(0)
	there.Serve(func(r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/packs") {
			raw, err := io.ReadAll(r.Body)
			if err != nil {
				t.Error(err)
			}
			bytesOfPacks += int64(len(raw))
			r.Body = io.NopCloser(bytes.NewReader(raw))
		}
	})
	large := random(2 << 20)
	send := func(version string) {
		t.Helper()
		p, err := here.Package(t.Context(), here.Repository.Key(Name, "", "chart-tiles"))
		if err != nil {
			t.Fatal(err)
		}
		for _, v := range p.Versions {
			if v.Version == version {
				if err := (Generic{}).Send(t.Context(), ecosystem.Shipment{Name: "chart-tiles", Version: version, Files: v.Files,
					URL: there.Address(), Secret: "token", Client: http.DefaultClient, Labels: []string{"sent"},
					Open: func(f catalog.File) (ecosystem.SeekableFile, error) { return here.Open(t.Context(), f) }}); err != nil {
					t.Fatal(err)
				}
			}
		}
	}
	here.Send(http.StatusCreated, http.MethodPut, "chart-tiles/1.0.0/a.bin?complete=yes", large)
	send("1.0.0")
	if got := there.Get(http.StatusOK, "chart-tiles/1.0.0/a.bin"); got != string(large) {
		t.Errorf("%d bytes arrived", len(got))
	}
	first := bytesOfPacks
	here.Send(http.StatusCreated, http.MethodPut, "chart-tiles/1.1.0/a.bin?complete=yes", append([]byte("more"), large...))
	send("1.1.0")
	send("1.1.0") // an answer may be lost
	if more := bytesOfPacks - first; more == 0 || more > first/2 {
		t.Errorf("%d bytes were sent for what is new, %d at first", more, first)
	}
	ecosystemtest.Says(t, there.Get(http.StatusOK, "chart-tiles?as=json"), `"labels":["sent"]`)
}

// TestListing: a mirror reads the list that another Crelvo gives.
func TestListing(t *testing.T) {
	d := ecosystemtest.NewDesk(t, Generic{})
	d.Send(http.StatusCreated, http.MethodPut, "chart-tiles/1.0.0/a.bin?complete=yes&label=stable&description=Tiles",
		random(100))
	list := d.Get(http.StatusOK, ".sets/chart-tiles")
	of := purl.PURL{Ecosystem: Name, Name: "chart-tiles"}
	l, err := Generic{}.ReadListing(t.Context(), of, ecosystem.Reading{Reader: strings.NewReader(list),
		Address: "https://packages.openshore.example/at/releases/generic/.sets/chart-tiles"})
	if err != nil || len(l.Versions) != 1 || l.Labels["stable"] != "1.0.0" {
		t.Fatalf("%+v, %v", l, err)
	}
	v := l.Versions[0]
	if len(v.Files) != 3 || v.Details.Description != "Tiles" {
		t.Fatalf("%+v", v)
	}
	var files []catalog.File
	for _, f := range v.Files {
		if !strings.HasPrefix(f.Address, "https://packages.openshore.example/at/releases/generic/.sets/chart-tiles/1.0.0/") {
			t.Errorf("%s is at %s", f.Name, f.Address)
		}
		place, err := Generic{}.PlaceOf(catalog.FileQuestion{Key: catalog.PackageKey{Ecosystem: Name, Name: "chart-tiles"},
			Version: "1.0.0", Name: f.Name})
		if err != nil || place.Extension != f.Extension {
			t.Errorf("%s: %+v, %v", f.Name, place, err)
		}
		files = append(files, catalog.File{Name: f.Name, Extension: f.Extension})
	}
	if !(Generic{}).Whole(*v.Details, files) || (Generic{}).Whole(*v.Details, files[:2]) {
		t.Error("when a version is whole")
	}
	if all := (Generic{}).Companions(of, *v.Details, files); len(all) != 3 {
		t.Errorf("%+v", all)
	}
	if _, err := (Generic{}).ReadListing(t.Context(), purl.PURL{Ecosystem: Name, Name: "other"},
		ecosystem.Reading{Reader: strings.NewReader(list), Address: "https://x.example/"}); err == nil {
		t.Error("the list of another set was read")
	}
}

// TestForeignPacks: what another package has besides does not come along with what both have.
func TestForeignPacks(t *testing.T) {
	d := ecosystemtest.NewDesk(t, Generic{})
	secret, both := random(40_000), random(60_000)
	d.Send(http.StatusCreated, http.MethodPut, "crew-files/1.0.0?unpack=tar.gz",
		tarGz(t, map[string][]byte{"secret": secret, "both": both}))
	d.Send(http.StatusCreated, http.MethodPut, "chart-tiles/1.0.0/both?complete=yes", both)
	if got := d.Get(http.StatusOK, "chart-tiles/1.0.0/both"); got != string(both) {
		t.Errorf("%d bytes", len(got))
	}
	for _, name := range packsOf(t, d, "1.0.0") {
		if strings.Contains(d.Get(http.StatusOK, ".sets/chart-tiles/1.0.0/"+name), string(secret)) {
			t.Errorf("%s has what is in another package", name)
		}
	}
}

// TestHostileTar: another name of a file is that file; what has holes is refused, since it unpacks to anything.
func TestHostileTar(t *testing.T) {
	d := ecosystemtest.NewDesk(t, Generic{})
	archive := func(headers ...*tar.Header) []byte {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		for _, h := range headers {
			if err := w.WriteHeader(h); err != nil {
				t.Fatal(err)
			}
			if _, err := w.Write(make([]byte, h.Size)); err != nil {
				t.Fatal(err)
			}
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		return bytes.ReplaceAll(b.Bytes(), []byte("XYZ.sparse"), []byte("GNU.sparse"))
	}
	file := &tar.Header{Name: "./a", Typeflag: tar.TypeReg, Mode: 0o644, Size: 3}
	d.Send(http.StatusCreated, http.MethodPut, "linked/1.0.0?unpack=tar",
		archive(file, &tar.Header{Name: "./b", Typeflag: tar.TypeLink, Linkname: "./a", Mode: 0o644}))
	if got := d.Get(http.StatusOK, "linked/1.0.0/b"); got != "\x00\x00\x00" {
		t.Errorf("%q", got)
	}
	for want, raw := range map[string][]byte{
		"does not come before it": archive(&tar.Header{Name: "b", Typeflag: tar.TypeLink, Linkname: "a", Mode: 0o644}, file),
		"has holes": archive(&tar.Header{Name: "a", Typeflag: tar.TypeReg, Mode: 0o644, Format: tar.FormatPAX,
			PAXRecords: map[string]string{"XYZ.sparse.size": "1073741824", "XYZ.sparse.numblocks": "0",
				"XYZ.sparse.map": ""}})} {
		ecosystemtest.Says(t, d.Send(http.StatusBadRequest, http.MethodPut, "linked/1.0.1?unpack=tar", raw), want)
	}
}

// packsOf are the packs that a version is kept in.
func packsOf(t *testing.T, d *ecosystemtest.Desk, version string) (names []string) {
	t.Helper()
	p, err := d.Package(t.Context(), d.Repository.Key(Name, "", "chart-tiles"))
	if err != nil {
		t.Fatal(err)
	}
	for _, v := range p.Versions {
		for _, f := range v.Files {
			if v.Version == version && f.Extension == packKind {
				names = append(names, f.Name)
			}
		}
	}
	return names
}

// TestThinPacks: a version does not hold on to packs of which it uses next to nothing, and does not consist of very
// many.
func TestThinPacks(t *testing.T) {
	d := ecosystemtest.NewDesk(t, Generic{})
	content := random(2_000_000)
	files := map[string][]byte{}
	for i := range 20 {
		files["tile-"+itoa(i)] = content[i*100_000 : (i+1)*100_000]
	}
	publish := func(version string, files map[string][]byte) {
		t.Helper()
		d.Send(http.StatusCreated, http.MethodPut, "chart-tiles/"+version+"?unpack=tar.gz", tarGz(t, files))
		for name, want := range files {
			if got := d.Get(http.StatusOK, "chart-tiles/"+version+"/"+name); got != string(want) {
				t.Fatalf("%s %s has %d bytes", version, name, len(got))
			}
		}
	}
	publish("1.0.0", files)
	publish("1.1.0", map[string][]byte{"tile-3": files["tile-3"], "tile-7": files["tile-7"]})
	first, second := packsOf(t, d, "1.0.0"), packsOf(t, d, "1.1.0")
	if len(first) != 1 || len(second) != 1 || first[0] == second[0] {
		t.Errorf("the packs are %v and %v", first, second)
	}
	more := map[string][]byte{}
	for i := range 40 {
		more["note-"+itoa(i)] = []byte("note " + itoa(i))
		publish("2."+itoa(i)+".0", more)
		if n := len(packsOf(t, d, "2."+itoa(i)+".0")); n > 33 {
			t.Fatalf("version 2.%d.0 consists of %d packs", i, n)
		}
	}
}

// TestSigned: a version comes with a signature, or without one for good.
func TestSigned(t *testing.T) {
	d := ecosystemtest.NewDesk(t, Generic{})
	d.Send(http.StatusCreated, http.MethodPut, "chart-tiles/1.0.0?unpack=tar.gz",
		tarGz(t, map[string][]byte{"a": []byte("a")}))
	manifest := []byte(d.Get(http.StatusOK, ".sets/chart-tiles/1.0.0/manifest.jsonl"))
	send := func(status int, version, header string) string {
		t.Helper()
		return d.Send(status, http.MethodPut, ".sets/chart-tiles/"+version+"/manifest.jsonl", manifest,
			fileset.SignatureHeader, header)
	}
	ecosystemtest.Says(t, send(http.StatusBadRequest, "1.0.1", "?"), "not in Base64")
	ecosystemtest.Says(t, send(http.StatusBadRequest, "1.0.1", "eA=="), "no armored detached OpenPGP signature")
	ecosystemtest.Says(t, send(http.StatusUnprocessableEntity, "1.0.0", "eA=="), "published already, without a signature")
}
