package pypi

import (
	"bytes"
	"crypto/md5"
	"encoding/hex"
	"encoding/json"
	"mime/multipart"
	"net/http"
	"strings"
	"testing"

	"golang.org/x/crypto/blake2b"

	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
	"crelvo/internal/ecosystem/ecosystemtest"
	"crelvo/internal/ecosystem/madeup"
)

var tide = madeup.Package{Name: "tidecast", Version: "0.6.0", Description: "Says when the tide turns", Licence: "MIT",
	Readme: "# tidecast\n", Needs: map[string]string{"soundings": ">=2.3"}}

// uploadForm is an upload as twine sends it: fields, and files by the name of their field.
func uploadForm(t *testing.T, fields map[string]string, files ...[3]string) (body []byte, contentType string) {
	t.Helper()
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	for name, value := range fields {
		if err := w.WriteField(name, value); err != nil {
			t.Fatal(err)
		}
	}
	for _, f := range files {
		part, err := w.CreateFormFile(f[0], f[1])
		if err == nil {
			_, err = part.Write([]byte(f[2]))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes(), w.FormDataContentType()
}

func fieldsOf(p madeup.Package, content []byte) map[string]string {
	sum, blake := md5.Sum(content), blake2b.Sum256(content)
	return map[string]string{":action": "file_upload", "protocol_version": "1", "name": p.Name, "version": p.Version,
		"md5_digest": hex.EncodeToString(sum[:]), "blake2_256_digest": hex.EncodeToString(blake[:])}
}

func upload(
	t *testing.T, d *ecosystemtest.Desk, status int, p madeup.Package, name string, content []byte, more ...[3]string,
) string {
	t.Helper()
	body, contentType := uploadForm(t, fieldsOf(p, content),
		append([][3]string{{"content", name, string(content)}}, more...)...)
	return d.Send(status, http.MethodPost, "", body, "Content-Type", contentType)
}

// TestRoutes walks through an index as twine and pip do.
func TestRoutes(t *testing.T) {
	d := ecosystemtest.NewDesk(t, PyPI{})
	d.Get(404, "simple/tidecast/")
	ecosystemtest.Says(t, upload(t, d, 200, tide, tide.WheelName(), tide.Wheel(),
		[3]string{"gpg_signature", tide.WheelName() + ".asc", "-----BEGIN PGP SIGNATURE-----\n"}), "Published.")
	ecosystemtest.Says(t, upload(t, d, 200, tide, tide.WheelName(), tide.Wheel()), "here already")
	upload(t, d, 200, tide, tide.SdistName(), tide.Sdist())
	changed := tide
	changed.Description = "another"
	ecosystemtest.Says(t, upload(t, d, 409, changed, changed.WheelName(), changed.Wheel()), "published before")

	ecosystemtest.Says(t, d.Get(200, "simple/tidecast/"), "<!DOCTYPE html>", tide.WheelName(), "data-core-metadata",
		"#sha256=")
	var page struct {
		Meta  struct{ Version string } `json:"meta"`
		Files []struct {
			Filename, URL string
			Hashes        map[string]string
		}
	}
	if err := json.Unmarshal([]byte(d.Get(200, "simple/tidecast/", "Accept",
		"application/vnd.pypi.simple.v1+json, text/html;q=0.1")), &page); err != nil || len(page.Files) < 2 {
		t.Fatalf("%+v, %v", page, err)
	}
	for _, f := range page.Files {
		path := strings.TrimPrefix(strings.ReplaceAll(f.URL, d.Address(), ""), "../../")
		if d.Get(200, path) == "" {
			t.Errorf("%s is at %s", f.Filename, f.URL)
		}
	}
	for _, accept := range []string{"application/vnd.pypi.simple.latest+json", "application/vnd.pypi.simple.latest+html",
		"text/*", "*/*;q=x", ""} {
		ecosystemtest.Says(t, d.Get(200, "simple/tidecast/", "Accept", accept), "tidecast")
	}
	ecosystemtest.Says(t, d.Get(200, "simple/tidecast/?format=application/vnd.pypi.simple.v1%2Bjson"), `"files"`)
	ecosystemtest.Says(t, d.Get(200, "simple/"), "tidecast")
	ecosystemtest.Says(t, d.Get(200, "simple/", "Accept", typeJSON), `"projects"`)
	wheel := "files/tidecast/0.6.0/" + tide.WheelName()
	ecosystemtest.Says(t, d.Get(200, wheel+".metadata"), "Name: tidecast")
	ecosystemtest.Says(t, d.Get(200, wheel+".asc"), "PGP SIGNATURE")
	d.Get(404, "files/tidecast/0.6.0/"+tide.SdistName()+".metadata")
	d.Get(404, "files/tidecast/0.7.0/"+tide.WheelName())
	d.Get(404, "files/tidecast/tidecast")
	d.Get(404, "files/tidecast/9.9.9/tidecast-9.9.9.tar.gz")
	d.Get(404, "files/tidecast/9.9.9/tidecast-9.9.9-py3-none-any.whl.metadata")
	d.Get(301, "simple/TideCast/")
	d.Get(301, "simple/tidecast")
	d.Get(301, "simple")
	d.Get(404, "simple/a/b/c")
	d.Get(400, "simple/-x-/")
	ecosystemtest.Says(t, d.Get(200, ""), "tidecast")
	ecosystemtest.Says(t, d.Send(404, http.MethodPost, "legacy/", nil), "are not uploaded to this address")
	d.Why["secret"] = fault.New(fault.NotFound, "claimed", "the name is claimed")
	ecosystemtest.Says(t, d.Get(404, "simple/secret/"), "the name is claimed")

	// An upload of a snapshot has an address of its own.
	dev := tide
	dev.Version = "0.7.0.dev3"
	upload(t, d, 200, dev, dev.WheelName(), dev.Wheel())
	if err := json.Unmarshal([]byte(d.Get(200, "simple/tidecast/", "Accept", typeJSON)), &page); err != nil {
		t.Fatal(err)
	}
	for _, f := range page.Files {
		d.Get(200, strings.TrimPrefix(strings.ReplaceAll(f.URL, d.Address(), ""), "../../"))
	}
}

// TestUploadRefuses: what is cut, or is not what it is said to be, is refused.
func TestUploadRefuses(t *testing.T) {
	d := ecosystemtest.NewDesk(t, PyPI{})
	wheel := tide.Wheel()
	with := func(field, value string) map[string]string {
		fields := fieldsOf(tide, wheel)
		if fields[field] = value; value == "" {
			delete(fields, field)
		}
		return fields
	}
	file := [3]string{"content", tide.WheelName(), string(wheel)}
	for name, c := range map[string]struct {
		fields map[string]string
		files  [][3]string
	}{
		"another action":    {with(":action", "submit"), [][3]string{file}},
		"no file":           {with("", ""), nil},
		"two files":         {with("", ""), [][3]string{file, file}},
		"another name":      {with("name", "soundings"), [][3]string{file}},
		"another version":   {with("version", "9.9.9"), [][3]string{file}},
		"another md5":       {with("md5_digest", strings.Repeat("0", 32)), [][3]string{file}},
		"another sha256":    {with("sha256_digest", strings.Repeat("0", 64)), [][3]string{file}},
		"another blake2":    {with("blake2_256_digest", strings.Repeat("0", 64)), [][3]string{file}},
		"a name of nothing": {with("", ""), [][3]string{{"content", "x.txt", "x"}}},
		"no wheel":          {with("", ""), [][3]string{{"content", tide.WheelName(), "hello"}}},
	} {
		body, contentType := uploadForm(t, c.fields, c.files...)
		if a := d.Ask(http.MethodPost, "", body, "Content-Type", contentType); a.Code != 400 {
			t.Errorf("%s: %d %s", name, a.Code, a.Body)
		}
	}
	body, contentType := uploadForm(t, fieldsOf(tide, wheel), file)
	d.Send(400, http.MethodPost, "", body[:len(body)-100], "Content-Type", contentType)
	ecosystemtest.Says(t, d.Send(400, http.MethodPost, "", []byte("x")), "twine upload")
	many := fieldsOf(tide, wheel)
	many["description"] = strings.Repeat("x", maxForm)
	body, contentType = uploadForm(t, many, file)
	d.Send(413, http.MethodPost, "", body, "Content-Type", contentType)
	d.Refuses = fault.New(fault.Denied, "role-missing", "deckhand may not publish")
	upload(t, d, 403, tide, tide.WheelName(), wheel)
}

func TestSend(t *testing.T) {
	changed := tide
	changed.Description = "another"
	ecosystemtest.CheckSend(t, PyPI{}, "", map[string][]byte{tide.WheelName(): tide.Wheel(),
		tide.SdistName(): tide.Sdist()}, map[string][]byte{tide.WheelName(): changed.Wheel()})
}

func TestStraysOfPip(t *testing.T) {
	p := ecosystem.Pointing{Address: "http://h/at/platform/pypi/", ID: "platform", Everything: true, PublishReleases: true}
	for _, c := range []struct {
		name, file, text, variable, want string
		strays                           func(ecosystem.Files, ecosystem.Pointing) []string
	}{
		{name: "nothing", strays: straysPip},
		{name: "a variable", strays: straysPip, variable: "PIP_INDEX_URL", want: "PIP_INDEX_URL"},
		{name: "another source beside", strays: straysPip, file: "~/.config/pip/pip.conf",
			text: "[global]\nextra-index-url = https://elsewhere.example/simple\n", want: "takes the higher version of both"},
		{name: "a variable of uv", strays: straysUV, variable: "UV_DEFAULT_INDEX", want: "UV_DEFAULT_INDEX"},
		{name: "where uv publishes", strays: straysUV, variable: "UV_PUBLISH_URL", want: "UV_PUBLISH_URL"},
	} {
		f := ecosystem.Files{Ours: func(a string) bool {
			return strings.HasPrefix(a, "http://h/")
		}, Read: func(file string) string {
			return map[string]string{c.file: c.text}[file]
		}, Env: func(name string) string {
			return map[string]string{c.variable: "https://elsewhere.example/"}[name]
		}}
		if said := strings.Join(c.strays(f, p), "\n"); (said == "") != (c.want == "") || !strings.Contains(said, c.want) {
			t.Errorf("%s: %q, want %q", c.name, said, c.want)
		}
	}
}
