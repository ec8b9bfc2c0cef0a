package main

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
)

// mirrorPath is below what the plainest mirror of npm answers: /npm/HOST/… is what http://HOST/… has.
const mirrorPath = "/npm/"

// left are the fields that the short form of a document does not have.
var left = []string{"_id", "author", "description", "gitHead", "keywords", "license", "main", "repository", "scripts"}

// mirror answers as a mirror must at least, which keeps nothing in memory and knows no rules: a document is read whole,
// since the short one does not say when versions were published, and given in the short form with addresses of this
// service; a file is passed on while it is kept.
func (s *server) mirror(w http.ResponseWriter, r *http.Request) error {
	host, path, ok := strings.Cut(strings.TrimPrefix(r.URL.Path, mirrorPath), "/")
	if !ok {
		return errors.New("the address has no path after the host")
	}
	upstream := "http://" + host + "/"
	request, err := http.NewRequestWithContext(r.Context(), http.MethodGet, upstream+path, nil)
	if err != nil {
		return err
	}
	request.Header.Set("Accept", "application/json")
	response, err := http.DefaultTransport.RoundTrip(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return errors.New(response.Status)
	}
	if strings.HasSuffix(path, ".tgz") {
		return s.keep(context.WithoutCancel(r.Context()), r.URL.Path, io.TeeReader(response.Body, w))
	}
	short, err := shorten(response.Body, upstream, "http://"+r.Host+mirrorPath+host+"/")
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "application/vnd.npm.install-v1+json")
	w.Header().Set("Content-Encoding", "gzip")
	packed, err := gzip.NewWriterLevel(w, gzip.BestSpeed)
	if err != nil {
		return err
	}
	_, err = packed.Write(short)
	return errors.Join(err, packed.Close())
}

// shorten makes the short form of a document, with addresses that begin with to instead of from.
func shorten(document io.Reader, from, to string) ([]byte, error) {
	var d struct {
		Name     string                                `json:"name"`
		Tags     map[string]string                     `json:"dist-tags"`
		Time     map[string]string                     `json:"time"`
		Versions map[string]map[string]json.RawMessage `json:"versions"`
	}
	if err := json.NewDecoder(document).Decode(&d); err != nil {
		return nil, err
	}
	if len(d.Time) == 0 {
		return nil, fmt.Errorf("%s does not say when its versions were published", d.Name)
	}
	for _, v := range d.Versions {
		for _, field := range left {
			delete(v, field)
		}
		v["dist"] = bytes.ReplaceAll(v["dist"], []byte(from), []byte(to))
	}
	return json.Marshal(map[string]any{"name": d.Name, "dist-tags": d.Tags, "versions": d.Versions})
}
