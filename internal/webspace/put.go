package webspace

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"path"
	"strings"
)

// put is a Space on a server that takes PUT and DELETE (RFC 9110, 9.3.4 and 9.3.5), and where it needs that,
// MKCOL for the folders above (RFC 4918, 9.3).
type put struct {
	Options
	base string
}

func openPUT(o Options) *put { return &put{o, strings.TrimSuffix(o.Address, "/") + "/"} }

// ask asks for something at a path, and gives the status. Of the answer at most so much is read.
func (s *put) ask(
	ctx context.Context, method, at string, body io.Reader, size, most int64, contentType string,
) (status int, raw []byte, header http.Header, err error) {
	address := s.base + (&url.URL{Path: at}).EscapedPath()
	r, err := http.NewRequestWithContext(ctx, method, address, body)
	if err != nil {
		return 0, nil, nil, err
	}
	if r.ContentLength = size; size == 0 {
		r.Body = http.NoBody
	}
	if contentType != "" {
		r.Header.Set("Content-Type", contentType)
	}
	r.Header.Set("User-Agent", s.Agent)
	switch {
	case s.User != "":
		r.SetBasicAuth(s.User, s.Secret)
	case s.Secret != "":
		r.Header.Set("Authorization", "Bearer "+s.Secret)
	}
	response, err := s.Client.Do(r)
	if err != nil {
		return 0, nil, nil, err
	}
	defer response.Body.Close()
	raw, err = readAll(response.Body, at, most)
	if response.StatusCode >= 300 { // what it says then is not what was asked for
		err = nil
		if response.StatusCode == http.StatusNotFound || response.StatusCode == http.StatusGone {
			err = fs.ErrNotExist
		} else {
			err = fmt.Errorf("%s %s was answered with %s", method, r.URL.Redacted(), response.Status)
		}
	}
	return response.StatusCode, raw, response.Header, err
}

// saidAtMost is how many bytes are read of answers that say nothing.
const saidAtMost = 1 << 20

// Write implements Space.
func (s *put) Write(ctx context.Context, at string, content io.ReaderAt, size int64, contentType string) error {
	for made := false; ; made = true {
		// An answer may come before all was sent, so that each attempt reads by itself.
		body := io.NopCloser(io.NewSectionReader(content, 0, size))
		status, _, _, err := s.ask(ctx, http.MethodPut, at, body, size, saidAtMost, contentType)
		// The folder above is not there: 409 by RFC 4918, 9.7.1; some say 404 or 403.
		folders := status == http.StatusConflict || status == http.StatusNotFound || status == http.StatusForbidden
		if !folders || made || path.Dir(at) == "." {
			if errors.Is(err, fs.ErrNotExist) {
				err = fmt.Errorf("PUT %s was answered with %d: does this server take files?", at, status)
			}
			return err
		}
		if failed := s.makeFolders(ctx, path.Dir(at)); failed != nil {
			return errors.Join(err, failed)
		}
	}
}

// makeFolders makes a folder and those above it.
func (s *put) makeFolders(ctx context.Context, dir string) error {
	for i := range len(dir) + 1 {
		if i < len(dir) && dir[i] != '/' {
			continue
		}
		status, _, _, err := s.ask(ctx, "MKCOL", dir[:i]+"/", nil, 0, saidAtMost, "")
		// 405 is that it is there already.
		if err != nil && status != http.StatusMethodNotAllowed && status != http.StatusConflict {
			return err
		}
	}
	return nil
}

// Read implements Space.
func (s *put) Read(ctx context.Context, at string, most int64) ([]byte, error) {
	_, raw, _, err := s.ask(ctx, http.MethodGet, at, nil, 0, most, "")
	return raw, err
}

// Size implements Space.
func (s *put) Size(ctx context.Context, at string) (int64, error) {
	_, _, header, err := s.ask(ctx, http.MethodHead, at, nil, 0, saidAtMost, "")
	if err != nil {
		return 0, err
	}
	var size int64
	if _, err := fmt.Sscan(header.Get("Content-Length"), &size); err != nil {
		return 0, fmt.Errorf("the server does not say how long %s is", at)
	}
	return size, nil
}

// Remove implements Space.
func (s *put) Remove(ctx context.Context, at string) error {
	_, _, _, err := s.ask(ctx, http.MethodDelete, at, nil, 0, saidAtMost, "")
	return ignoreAbsent(err)
}

// Close implements Space.
func (s *put) Close() error { return nil }
