package client

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"time"

	"crelvo/internal/api"
	"crelvo/internal/core/attest"
	"crelvo/internal/core/fileset"
)

// FileSet is a version of a file set in a repository.
type FileSet struct {
	Repository, Name string
	// Version is the version or, of a snapshot, the name of one upload of it.
	Version string
}

func (s FileSet) path(more string) string {
	at := "/at/" + url.PathEscape(s.Repository) + "/generic/.sets/" + url.PathEscape(s.Name)
	if more != "" {
		at += "/" + more
	}
	return at
}

func (s FileSet) of(file string) string { return s.path(url.PathEscape(s.Version) + "/" + file) }

// setQuestion asks the protocol for sets with JSON in and out.
func (c *Client) setQuestion(ctx context.Context, method, path string, body io.Reader, length int64, out any) error {
	r, err := c.request(ctx, method, path, body)
	if err != nil {
		return err
	}
	r.Header.Set("Accept", "application/json")
	if length >= 0 {
		r.ContentLength = length
	}
	response, err := c.send(r)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if out == nil {
		return nil
	}
	return json.NewDecoder(response.Body).Decode(out)
}

// lackingChunks tells which of some chunks the server does not have.
func (c *Client) lackingChunks(ctx context.Context, s FileSet, chunks []fileset.Digest) (map[fileset.Digest]bool,
	error) {
	asked := struct {
		Chunks []string `json:"chunks"`
	}{make([]string, len(chunks))}
	for i, d := range chunks {
		asked.Chunks[i] = hex.EncodeToString(d[:])
	}
	raw, err := json.Marshal(asked)
	if err != nil {
		return nil, err
	}
	var told struct {
		Lacking []string `json:"lacking"`
	}
	err = c.setQuestion(ctx, http.MethodPost, s.path("lacking?version="+url.QueryEscape(s.Version)), bytes.NewReader(raw),
		int64(len(raw)), &told)
	lacking := map[fileset.Digest]bool{}
	for _, text := range told.Lacking {
		var d fileset.Digest
		if n, wrong := hex.Decode(d[:], []byte(text)); wrong != nil || n != len(d) {
			return nil, fmt.Errorf("%s lacks the chunk %.80q, which is none", c.Server, text)
		}
		lacking[d] = true
	}
	return lacking, err
}

// ManifestOf reads the manifest of a version.
func (c *Client) ManifestOf(
	ctx context.Context, s FileSet, begin func(fileset.Header) error, each func(fileset.Entry) error,
) error {
	body, err := c.keptFile(ctx, s, "manifest.jsonl")
	if err != nil {
		return err
	}
	defer body.Close()
	return s.readManifest(body, begin, each)
}

func (s FileSet) readManifest(
	r io.Reader, begin func(fileset.Header) error, each func(fileset.Entry) error,
) error {
	if err := fileset.Read(r, begin, each); err != nil {
		return fmt.Errorf("the manifest of %s %s cannot be used: %w", s.Name, s.Version, err)
	}
	return nil
}

// keptFile opens a file of a version as the server keeps it.
func (c *Client) keptFile(ctx context.Context, s FileSet, name string) (io.ReadCloser, error) {
	r, err := c.request(ctx, http.MethodGet, s.of(name), nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept", "application/json")
	response, err := c.send(r)
	if err != nil {
		return nil, err
	}
	return response.Body, nil
}

// signedManifestOf is ManifestOf, and gives nothing of a manifest before it is known that one of some armored OpenPGP
// keys signed it.
func (c *Client) signedManifestOf(
	ctx context.Context, s FileSet, keys string, begin func(fileset.Header) error, each func(fileset.Entry) error,
) error {
	signature, err := c.keptFile(ctx, s, "manifest.jsonl.asc")
	if p := (*api.Problem)(nil); errors.As(err, &p) && p.Status == http.StatusNotFound {
		if _, there, _ := c.hasVersion(ctx, s); there {
			err = fmt.Errorf("%s %s is not signed", s.Name, s.Version)
		}
	}
	if err != nil {
		return err
	}
	defer signature.Close()
	raw, err := io.ReadAll(io.LimitReader(signature, 64<<10))
	if err != nil {
		return err
	}
	body, err := c.keptFile(ctx, s, "manifest.jsonl")
	if err != nil {
		return err
	}
	defer body.Close()
	held, err := os.CreateTemp("", "crelvo-manifest-*")
	if err != nil {
		return err
	}
	defer func() { _ = errors.Join(held.Close(), os.Remove(held.Name())) }()
	if _, err := io.Copy(held, body); err != nil {
		return err
	}
	ok, err := attest.SignedBy(keys, held, raw, time.Now())
	if err == nil && !ok {
		err = fmt.Errorf("the signature of %s %s is not by the key that was given", s.Name, s.Version)
	}
	if err == nil {
		_, err = held.Seek(0, io.SeekStart)
	}
	if err != nil {
		return err
	}
	return s.readManifest(held, begin, each)
}

// hasVersion tells whether a version is there, and the SHA-256 of its manifest.
func (c *Client) hasVersion(ctx context.Context, s FileSet) (sum string, there bool, err error) {
	r, err := c.request(ctx, http.MethodGet, s.of("manifest.jsonl"), nil)
	if err != nil {
		return "", false, err
	}
	r.Header.Set("Accept", "application/json") // of refusals
	r.Header.Set("Range", "bytes=0-0")
	response, err := c.send(r)
	if p := (*api.Problem)(nil); errors.As(err, &p) && p.Status == http.StatusNotFound {
		return "", false, nil
	}
	if err != nil {
		return "", false, err
	}
	defer response.Body.Close()
	sum = response.Header.Get("ETag")
	return sum[min(1, len(sum)):max(min(1, len(sum)), len(sum)-1)], true, nil
}

// chunkRange is chunks by their numbers in the manifest.
type chunkRange struct{ from, count int }

// chunksOf gets chunks, one after the other.
func (c *Client) chunksOf(ctx context.Context, s FileSet, ranges []chunkRange) (io.ReadCloser, error) {
	asked := struct {
		Chunks [][2]int `json:"chunks"`
	}{make([][2]int, len(ranges))}
	for i, r := range ranges {
		asked.Chunks[i] = [2]int{r.from, r.count}
	}
	raw, err := json.Marshal(asked)
	if err != nil {
		return nil, err
	}
	r, err := c.request(ctx, http.MethodPost, s.of("chunks"), bytes.NewReader(raw))
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept", "application/json")
	response, err := c.send(r)
	if err != nil {
		return nil, err
	}
	return response.Body, nil
}

// SetProgress is how far sending or fetching a set is, in bytes.
type SetProgress struct {
	Done, Total int64
	// Moved are those of Done that went over the network; the rest was there.
	Moved int64
}

// again does something anew while the server cannot be reached, a few times; say is told of that.
func again(ctx context.Context, say func(format string, args ...any), do func() error) error {
	for wait := time.Second; ; wait *= 2 {
		err := do()
		lost, p := (*Unreachable)(nil), (*api.Problem)(nil)
		if !errors.As(err, &lost) && !(errors.As(err, &p) && (isAway(p.Status) || p.Code == "cut-upload")) ||
			ctx.Err() != nil || wait > 16*time.Second {
			return err
		}
		say("%v; going on in %s.", err, wait)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait):
		}
	}
}

// isAway tells whether a status says that a server cannot answer for a while.
func isAway(status int) bool {
	return status == http.StatusBadGateway || status == http.StatusServiceUnavailable ||
		status == http.StatusGatewayTimeout
}
