package ecosystem_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/labstack/echo/v5"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/ecosystemtest"
	"crelvo/internal/ecosystem/onefile"
)

// barge is an ecosystem for tests: a version is a text NAME VERSION CARGO.
type barge struct{ onefile.Kind }

func newBarge() barge {
	return barge{onefile.Kind{Type: "barge", Archive: "a .barge file", Extension: "barge", MakeIt: "Load one",
		Read: func(_ context.Context, file ecosystem.SizedReaderAt) (p purl.PURL, d catalog.Details, err error) {
			raw, err := ecosystem.ReadAtMost(io.NewSectionReader(file, 0, file.Size()), 1<<20)
			if err != nil {
				return p, d, err
			}
			fields := strings.SplitN(string(raw), " ", 3)
			if len(fields) < 3 {
				return p, d, errors.New("it carries nothing")
			}
			if fields[2] == "contraband" {
				return p, d, fault.New(fault.Invalid, "contraband", "it carries contraband")
			}
			return purl.PURL{Ecosystem: "barge", Name: fields[0], Version: fields[1]},
				catalog.Details{Title: fields[0], Readme: &catalog.Readme{Text: fields[2]}}, nil
		},
		IsName: func(namespace, name string) bool {
			return namespace == "" && name != "" && !strings.Contains(name, "/")
		}}}
}

func init() {
	purl.Register("barge", purl.Rules{Snapshot: purl.SnapshotSemver, Compare: purl.CompareSemver, Is: purl.IsSemver,
		Sample: "1.5.0"})
}

// Title implements ecosystem.Ecosystem.
func (barge) Title() string { return "Barge" }

// Clients implements ecosystem.Ecosystem.
func (barge) Clients() []ecosystem.PackageClient { return nil }

// Refuse implements ecosystem.Ecosystem.
func (barge) Refuse(c *ecosystem.Call, err error) error { return c.RefuseInReason(fault.Of(err)) }

// Routes implements ecosystem.Ecosystem.
func (b barge) Routes() (all []ecosystem.Route) {
	read := func(path string, serve func(*ecosystem.Call) error) {
		for _, method := range []string{http.MethodGet, http.MethodHead} {
			all = append(all, ecosystem.Route{Method: method, Path: path, Action: access.Read, Serve: serve})
		}
	}
	read("/files/*", func(c *ecosystem.Call) error {
		q, ok := b.Question(c.Repository, c.Rest)
		if !ok {
			return fault.New(fault.NotFound, "no-such-file", "no file")
		}
		found, err := c.Desk.File(c.Request().Context(), q)
		if errors.Is(err, ecosystem.ErrNoFile) {
			return c.Absent(q.Key, q.Version, fault.New(fault.NotFound, "no-such-file", "no file"))
		}
		if err != nil {
			return err
		}
		if c.QueryParam("arriving") != "" {
			found = ecosystem.Found{Arriving: &arriving{text: c.QueryParam("arriving"), file: found.File}, Mirror: "shore",
				From: "shore"}
		}
		return c.SendFile(found, "text/plain", q.Upload != "")
	})
	read("/document", func(c *ecosystem.Call) error {
		d := ecosystem.Assemble("text/plain", time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC),
			ecosystem.NewPart([]byte(strings.Repeat("tide ", c.Number("times", 1, 1_000_000))), nil),
			ecosystem.NewPart([]byte("end"), nil))
		return c.SendDocument(d, []catalog.Staleness{{Mirror: "shore", By: time.Minute, Why: "it refused\nthe connection"}})
	})
	read("/refuse/:code", func(c *ecosystem.Call) error {
		kind := map[string]fault.Kind{"claimed": fault.NotFound, "no-such-file": fault.NotFound,
			"published-already": fault.Conflict, "wrong-maturity": fault.Conflict}[c.Param("code")]
		return fault.New(kind, c.Param("code"), "no: ü").WithHint("Ask")
	})
	read("/kept/*", func(c *ecosystem.Call) error {
		q, _ := b.Question(c.Repository, strings.TrimPrefix(c.Rest, "kept/"))
		found, err := c.Desk.File(c.Request().Context(), q)
		if err != nil {
			return err
		}
		sum, _, err := found.Checksum(c.Request().Context(), "sha256")
		if err != nil {
			return err
		}
		return c.ReadKept(found, func(f catalog.File, content ecosystem.SizedReaderAt) error {
			return c.String(200, fmt.Sprintf("%s %d %v", sum, content.Size(), sum == f.Digests.Hex("sha256")))
		})
	})
	read("/*", func(c *ecosystem.Call) error { return c.ShowFolder() })
	return all
}

// arriving is a file on its way.
type arriving struct {
	text string
	file catalog.File
}

// Ready implements ecosystem.Arriving.
func (a *arriving) Ready(context.Context) (catalog.File, bool, int64, error) {
	switch a.text {
	case "kept":
		return a.file, true, -1, nil
	case "refused":
		return a.file, false, 0, fault.New(fault.Unavailable, "upstream", "it refused")
	case "unknown-length":
		return a.file, false, -1, nil
	}
	return a.file, false, int64(len(a.text)), nil
}

// CopyTo implements ecosystem.Arriving.
func (a *arriving) CopyTo(_ context.Context, w io.Writer) error {
	if a.text == "fails" {
		return errors.New("it broke off")
	}
	_, err := io.WriteString(w, a.text)
	return err
}

// File implements ecosystem.Arriving.
func (a *arriving) File(context.Context) (catalog.File, error) { return a.file, nil }

// Passing implements ecosystem.Arriving.
func (a *arriving) Passing() bool { return a.text == "passing" }

func TestBargeConforms(t *testing.T) {
	ecosystemtest.Run(t, newBarge(), ecosystemtest.Samples{Snapshot: "1.5.0-dev.7", Release: "1.4.0",
		Good: []ecosystemtest.Sample{
			{Name: "a barge", Files: map[string][]byte{"x.barge": []byte("kelp 1.4.0 salt")}, PURL: "pkg:barge/kelp@1.4.0"},
			{Name: "with a purl", Files: map[string][]byte{"x.barge": []byte("kelp 1.4.0 salt")}, As: "pkg:barge/kelp@1.4.0",
				PURL: "pkg:barge/kelp@1.4.0"},
			{Name: "a snapshot", Files: map[string][]byte{"x.barge": []byte("kelp 1.5.0-dev.7 salt")},
				PURL: "pkg:barge/kelp@1.5.0-dev.7"},
		},
		Bad: []ecosystemtest.Sample{
			{Name: "nothing", Files: map[string][]byte{"x.barge": []byte("kelp")}},
			{Name: "contraband", Files: map[string][]byte{"x.barge": []byte("kelp 1.4.0 contraband")}},
			{Name: "another", Files: map[string][]byte{"x.barge": []byte("kelp 1.4.0 salt")}, As: "pkg:barge/other"},
			{Name: "two", Files: map[string][]byte{"x.barge": []byte("kelp 1.4.0 salt"), "y.barge": []byte("kelp 1.4.0 salt")},
				As: "pkg:barge/kelp"},
		}, Foreign: map[string][]byte{"x.jar": []byte("x")}})
	b := newBarge()
	if _, err := b.Inspect(t.Context(), ecosystem.Place{Name: "other", Version: "1.4.0", Extension: "barge"},
		ecosystemtest.Bytes([]byte("kelp 1.4.0 salt"))); !fault.Is(err, fault.Invalid) {
		t.Errorf("sent as another: %v", err)
	}
	if p, _, err := b.Arrived(t.Context(), "x", ecosystemtest.Bytes([]byte("kelp 1.4.0 salt"))); err != nil ||
		p.FileName != "kelp-1.4.0.barge" {
		t.Errorf("%+v, %v", p, err)
	}
	if _, _, err := b.Arrived(t.Context(), "x", ecosystemtest.Bytes(nil)); err == nil {
		t.Error("nothing arrived")
	}
	if q := b.Companions(purl.PURL{Name: "kelp", Version: "1.4.0"}, catalog.Details{}, nil); len(q) != 1 ||
		q[0].Name != "kelp-1.4.0.barge" {
		t.Errorf("%+v", q)
	}
	for _, q := range []catalog.FileQuestion{{Key: catalog.PackageKey{Name: "a/b"}, Version: "1.0.0"},
		{Key: catalog.PackageKey{Name: "a"}, Version: "one"},
		{Key: catalog.PackageKey{Name: "a"}, Version: "1.0.0", Name: "b"}} {
		if p, err := b.PlaceOf(q); err == nil {
			t.Errorf("%+v has the place %+v", q, p)
		}
	}
	if _, ok := b.Question(catalog.Repository{}, "files/a"); ok {
		t.Error("a part of an address is a file's")
	}
}

const path = "files/kelp/1.4.0/kelp-1.4.0.barge"

func loaded(t *testing.T) *ecosystemtest.Desk {
	d := ecosystemtest.NewDesk(t, newBarge())
	d.Hand(map[string][]byte{"x.barge": []byte("kelp 1.4.0 salt")})
	d.Hand(map[string][]byte{"x.barge": []byte("kelp 1.5.0-dev.7 rust")})
	return d
}

// TestSendFile: conditions, ranges and HEAD, and what counts as a download.
func TestSendFile(t *testing.T) {
	d := loaded(t)
	if got := d.Get(200, path); got != "kelp 1.4.0 salt" || d.Downloads["kelp-1.4.0.barge"] != 1 {
		t.Errorf("%q, %v", got, d.Downloads)
	}
	a := d.Ask(http.MethodHead, path, nil)
	etag := a.Header().Get("ETag")
	if a.Body.Len() > 0 || a.Header().Get("Content-Length") != "15" || etag == "" ||
		!strings.HasPrefix(a.Header().Get("Repr-Digest"), "sha-256=:") {
		t.Errorf("%v", a.Header())
	}
	d.Get(304, path, "If-None-Match", etag)
	if got := d.Get(206, path, "Range", "bytes=5-9"); got != "1.4.0" {
		t.Errorf("%q", got)
	}
	d.Get(206, path, "Range", "bytes=0-3") // the first part is the download
	if d.Downloads["kelp-1.4.0.barge"] != 2 {
		t.Errorf("%v", d.Downloads)
	}
	d.Get(404, "files/kelp/9.9.9/kelp-9.9.9.barge")
	d.Why["secret"] = fault.New(fault.NotFound, "claimed", "claimed")
	d.Get(404, "files/secret/1.0.0/secret-1.0.0.barge")
	if said := d.Get(200, "kept/"+path); !strings.HasSuffix(said, " 15 true") {
		t.Error(said)
	}
}

// TestPass: what is arriving is passed on as it comes.
func TestPass(t *testing.T) {
	d := loaded(t)
	for _, c := range []struct {
		arriving, want, status string
		code                   int
	}{{"salt and rust", "salt and rust", "shore; fwd=uri-miss; stored", 200},
		{"unknown-length", "unknown-length", "shore; fwd=uri-miss; stored", 200},
		{"passing", "passing", `shore; fwd=uri-miss; detail="not kept: the store does not take it"`, 200},
		{"kept", "kelp 1.4.0 salt", "shore; fwd=uri-miss; stored", 200}, {"refused", "", "", 503}} {
		a := d.Ask(http.MethodGet, path+"?arriving="+strings.ReplaceAll(c.arriving, " ", "+"), nil)
		if a.Code != c.code || c.code == 200 && (a.Body.String() != c.want || a.Header().Get("Cache-Status") != c.status ||
			a.Header().Get("Crelvo-Repository") != "shore") {
			t.Errorf("%s: %d %q %v", c.arriving, a.Code, a.Body, a.Header())
		}
	}
	if a := d.Ask(http.MethodHead, path+"?arriving=salt", nil); a.Code != 200 || a.Header().Get("Content-Length") != "4" {
		t.Errorf("%d %v", a.Code, a.Header())
	}
	if a := d.Ask(http.MethodGet, path+"?arriving=fails", nil); a.Code == 200 && a.Body.Len() > 0 {
		t.Errorf("what broke off looks whole: %d %q", a.Code, a.Body)
	}
}

// TestSendDocument: validators, compression and conditions of rendered documents.
func TestSendDocument(t *testing.T) {
	d := loaded(t)
	a := d.Ask(http.MethodGet, "document?times=1000", nil)
	etag := a.Header().Get("ETag")
	if a.Body.Len() != 5003 || etag == "" || a.Header().Get("Last-Modified") != "Sun, 01 Nov 2026 08:00:00 GMT" ||
		!strings.Contains(a.Header().Get("Cache-Status"), "ttl=-60") ||
		strings.Contains(a.Header().Get("Cache-Status"), "\n") {
		t.Errorf("%d %v", a.Body.Len(), a.Header())
	}
	d.Get(304, "document?times=1000", "If-None-Match", etag)
	if got := d.Get(206, "document?times=1000", "Range", "bytes=5000-"); got != "end" {
		t.Errorf("%q", got)
	}
	a = d.Ask(http.MethodGet, "document?times=1000", nil, "Accept-Encoding", "br;q=0.5, gzip")
	packed, err := gzip.NewReader(a.Body)
	if err != nil {
		t.Fatal(err)
	}
	whole, err := io.ReadAll(packed)
	if err != nil || len(whole) != 5003 || a.Header().Get("Content-Encoding") != "gzip" ||
		!strings.HasSuffix(a.Header().Get("ETag"), `-gzip"`) {
		t.Errorf("%d, %v, %v", len(whole), err, a.Header())
	}
	d.Get(304, "document?times=1000", "If-None-Match", a.Header().Get("ETag"), "Accept-Encoding", "gzip")
	if a := d.Ask(http.MethodGet, "document?times=1000", nil, "Accept-Encoding", "gzip;q=0"); a.Header().
		Get("Content-Encoding") != "" {
		t.Error("it is compressed for who does not want that")
	}
	if got := d.Get(200, "document?times=100000"); len(got) != 500003 {
		t.Errorf("%d bytes", len(got))
	}
	doc := ecosystem.NewDocument("text/plain", []byte("x"), time.Now())
	if doc.Digests().Size != 1 || doc.Weight() < 1 || doc.Packed() != nil || string(doc.Bytes()) != "x" {
		t.Errorf("%+v", doc)
	}
}

// TestRefuseInReason: clients that show the status line alone get words there; 409 is for
// what is there already.
func TestRefuseInReason(t *testing.T) {
	d := loaded(t)
	for code, status := range map[string]int{"no-such-file": 404, "claimed": 404, "published-already": 409,
		"wrong-maturity": 422} {
		if said := d.Get(status, "refuse/"+code); !strings.Contains(said, "no: ü\nAsk") {
			t.Errorf("%s: %q", code, said)
		}
	}
	// By a connection of its own, the status line has the words, in ASCII.
	e := echo.New()
	e.GET("/", func(c *echo.Context) error {
		return (&ecosystem.Call{Context: c}).SendReason(422, "no: ü\r\nX: y", "text/plain; charset=utf-8", "body\n")
	})
	server := httptest.NewServer(e)
	defer server.Close()
	r, err := http.Get(server.URL)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	body, err := io.ReadAll(r.Body)
	if err != nil || string(body) != "body\n" || !strings.HasPrefix(r.Status, "422 no: ") || r.Header.Get("X") != "" {
		t.Errorf("%s %q, %v, %v", r.Status, body, r.Header, err)
	}
}

// TestFolders: what people see, by pages.
func TestFolders(t *testing.T) {
	d := loaded(t)
	for path, want := range map[string]string{"": "kelp", "kelp": "1.4.0", "kelp/1.4.0": "kelp-1.4.0.barge"} {
		if said := d.Get(200, path); !strings.Contains(said, want) {
			t.Errorf("%q: %s", path, said)
		}
	}
	d.Get(404, "kelp/9.9.9")
	d.Get(404, "nothing")
	f := ecosystem.Folder{Entries: []ecosystem.Entry{{Name: "a"}, {Name: "b"}, {Name: "c"}}}
	if page, next := f.Page("", 2); len(page) != 2 || next != "b" {
		t.Errorf("%v, %q", page, next)
	}
	if page, next := f.Page("b", 2); len(page) != 1 || next != "" {
		t.Errorf("%v, %q", page, next)
	}
	if page, _ := f.Page("gone", 2); page[0].Name != "a" {
		t.Errorf("%v", page)
	}
}

func TestPlaces(t *testing.T) {
	p := ecosystem.Place{Name: "kelp", Version: "1.0.0", FileName: "x.txt", Rename: func(upload string) string {
		return upload + ".txt"
	}}
	if p.NameOf("2") != "2.txt" || p.PURL("barge").String() != "pkg:barge/kelp@1.0.0" || p.Check() != nil {
		t.Errorf("%+v", p)
	}
	for _, bad := range []ecosystem.Place{{Name: "a\x00", FileName: "x"}, {Name: "a", FileName: "../x"},
		{Name: "a", FileName: "x", Classifier: "a/b"}} {
		if bad.Check() == nil {
			t.Errorf("%+v is a place", bad)
		}
	}
	at := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	for version, want := range map[string]string{"1.0-dev": "1.0-dev+20261101.080000.2",
		"1.0+x": "1.0+x.20261101.080000.2"} {
		if got := ecosystem.StampedUpload(version, at, 2); got != want ||
			ecosystem.StampOf(version, got) != "20261101.080000.2" {
			t.Errorf("%s: %s", version, got)
		}
	}
	for text, want := range map[string]string{
		"da39a3ee5e6b4b0d3255bfef95601890afd80709  x":         "da39a3ee5e6b4b0d3255bfef95601890afd80709",
		"SHA1 (x) = DA39A3EE5E6B4B0D3255BFEF95601890AFD80709": "da39a3ee5e6b4b0d3255bfef95601890afd80709", "nothing": ""} {
		if got, ok := ecosystem.ChecksumIn(text, "sha1"); got != want || ok != (want != "") {
			t.Errorf("%q: %q", text, got)
		}
	}
	r := ecosystem.Reading{Address: "https://h.example/a/b"}
	if got, err := r.Resolve("../c"); got != "https://h.example/c" || err != nil {
		t.Errorf("%s, %v", got, err)
	}
	for _, bad := range []string{"file:///etc/passwd", "%zz"} {
		if got, err := r.Resolve(bad); err == nil {
			t.Errorf("%s leads to %s", bad, got)
		}
	}
	there := []catalog.File{{Name: "kelp-1.0.jar", Extension: "jar"}}
	if !ecosystem.Attests("kelp-1.0.jar.asc", there) || ecosystem.Attests("other.asc", there) ||
		ecosystem.WebOnly(" https://x.example ") == "" || ecosystem.WebOnly("javascript:x") != "" {
		t.Error("attestations or addresses")
	}
}

func TestDecodeXML(t *testing.T) {
	var v struct {
		Name string `xml:"name"`
	}
	for text, ok := range map[string]bool{"<x><name>a</name></x>": true,
		"<?xml version='1.0' encoding='ISO-8859-1'?><x><name>\xfc</name></x>": true, "<!DOCTYPE x><x/>": false,
		"<?xml version='1.0' encoding='nothing'?><x/>": false, strings.Repeat("<x>", 100): false, "<x>": false} {
		if err := ecosystem.DecodeXML(strings.NewReader(text), &v); (err == nil) != ok {
			t.Errorf("%.60q: %v", text, err)
		}
	}
}

// TestRestampTexts: a file that is one text, and one that has nothing but its name.
func TestRestampTexts(t *testing.T) {
	own := ecosystem.Stamp{Name: "kelp", From: "1.0-dev", To: "1.0"}
	of := func(text string) ecosystem.ToRestamp {
		return ecosystem.ToRestamp{SizedReaderAt: ecosystemtest.Bytes([]byte(text)), Stamp: own, All: ecosystem.Stamps{own},
			File: catalog.File{Name: "x"}}
	}
	edit := func(raw []byte, _ func(string) (catalog.Digests, bool)) ([]byte, []ecosystem.Edit, []ecosystem.Obstacle,
		error) {
		return bytes.ReplaceAll(raw, []byte("version 1.0-dev"), []byte("version 1.0")), []ecosystem.Edit{{What: "version"}},
			nil, nil
	}
	r, err := ecosystem.RestampText(of("version 1.0-dev, and 1.0-dev"), "y", 100, edit)
	var out bytes.Buffer
	if err != nil || len(r.Obstacles) != 1 || r.WriteTo(&out, nil) != nil || out.String() != "version 1.0, and 1.0-dev" {
		t.Errorf("%+v, %v, %q", r, err, out.String())
	}
	if _, err := ecosystem.RestampText(of("too long"), "y", 3, edit); err == nil {
		t.Error("what is too long was edited")
	}
	if r, err := ecosystem.RestampPlain(t.Context(), of("it is 1.0-dev"), "y"); err != nil || len(r.Obstacles) != 1 ||
		r.WriteTo != nil {
		t.Errorf("%+v, %v", r, err)
	}
	if r, err := ecosystem.RestampPlain(t.Context(), of("it is nothing"), "y"); err != nil || len(r.Obstacles) != 0 {
		t.Errorf("%+v, %v", r, err)
	}
}

// TestNewestOfEach: of a snapshot the newest upload stands for it.
func TestNewestOfEach(t *testing.T) {
	at := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	p := &catalog.Package{Versions: []catalog.Version{{ID: 1, Version: "1.0-dev", Upload: "1.0-dev+1", Arrived: at},
		{ID: 2, Version: "1.0-dev", Upload: "1.0-dev+2", Arrived: at.Add(time.Hour)}, {ID: 3, Version: "0.9"}}}
	var ids []int64
	for _, v := range ecosystem.Newest(p) {
		ids = append(ids, v.ID)
	}
	if len(ids) != 2 || ids[0]+ids[1] != 5 {
		t.Errorf("%v", ids)
	}
	own, other := ecosystem.Stamp{Namespace: "@skerry", Name: "deck-ui"}, ecosystem.Stamp{Name: "kelp"}
	if all := (ecosystem.Stamps{own, other}); *all.Of("", "kelp") != other || all.Of("", "deck-ui") != nil ||
		!own.Is("@skerry", "deck-ui") {
		t.Error("the stamp of a package")
	}
	if ecosystem.JSONText("<ü>\"\n") != `"<ü>\"\n"` {
		t.Error(ecosystem.JSONText("<ü>\"\n"))
	}
}

// TestChecksumOfArriving: what is not kept is computed as it passes.
func TestChecksumOfArriving(t *testing.T) {
	found := ecosystem.Found{Arriving: &unkept{arriving{text: "salt"}}}
	sum, _, err := found.Checksum(t.Context(), "md5")
	if err != nil || sum != "ceb20772e0c9d240c75eb26b0e37abee" {
		t.Errorf("%s, %v", sum, err)
	}
	found = ecosystem.Found{Arriving: &arriving{text: "salt", file: catalog.File{Digests: catalog.Digests{Size: 4}}}}
	if sum, _, err := found.Checksum(t.Context(), "md5"); err != nil || sum != strings.Repeat("0", 32) {
		t.Errorf("%s, %v", sum, err)
	}
}

// unkept is a file on its way that the store does not take.
type unkept struct{ arriving }

// File implements ecosystem.Arriving.
func (*unkept) File(context.Context) (catalog.File, error) {
	return catalog.File{}, ecosystem.ErrNotKept
}
