package web

import (
	"bytes"
	"compress/gzip"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/labstack/echo/v5"

	"crelvo/internal/core/fault"
)

// TestAssets: a part of the console comes compressed to who takes that, is kept by the browser, and
// is the same for everybody.
func TestAssets(t *testing.T) {
	script := strings.Repeat("console.log('ahoy');\n", 200)
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	if _, err := z.Write([]byte(script)); err != nil || z.Close() != nil {
		t.Fatal(err)
	}
	w := &Server{settings: Settings{Console: fstest.MapFS{"assets/a-1.js": {Data: []byte(script)},
		"index.html": {Data: []byte("<p>")}, "assets/a-1.js.gz": {Data: packed.Bytes()},
		"assets/b-2.woff2": {Data: []byte{1, 2, 3}}}}}
	get := func(path, takes string) (*httptest.ResponseRecorder, error) {
		r := httptest.NewRequest(http.MethodGet, path, nil)
		r.Header.Set("Accept-Encoding", takes)
		answer := httptest.NewRecorder()
		return answer, w.asset()(echo.New().NewContext(r, answer))
	}
	for _, c := range []struct{ path, takes, encoding, content string }{
		{"/assets/a-1.js", "gzip, br", "gzip", script},
		{"/assets/a-1.js", "", "", script},
		{"/assets/a-1.js", "gzip;q=0", "", script},
		{"/assets/b-2.woff2", "gzip", "", "\x01\x02\x03"},
	} {
		a, err := get(c.path, c.takes)
		if err != nil {
			t.Fatal(err)
		}
		var content io.Reader = a.Body
		if a.Header().Get("Content-Encoding") == "gzip" {
			if content, err = gzip.NewReader(bytes.NewReader(a.Body.Bytes())); err != nil {
				t.Fatal(err)
			}
		}
		raw, err := io.ReadAll(content)
		if err != nil || string(raw) != c.content || a.Header().Get("Content-Encoding") != c.encoding ||
			!strings.Contains(a.Header().Get("Cache-Control"), "immutable") || a.Header().Get("Vary") != "Accept-Encoding" {
			t.Errorf("%s for %q: %v, %d bytes, %v", c.path, c.takes, a.Header(), len(raw), err)
		}
	}
	for _, path := range []string{"/assets/c-3.js", "/assets", "/assets/../index.html"} {
		if _, err := get(path, "gzip"); !fault.Is(err, fault.NotFound) {
			t.Errorf("%s: %v", path, err)
		}
	}
}
