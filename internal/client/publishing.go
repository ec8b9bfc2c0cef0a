package client

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"crelvo/internal/api"
)

// Withdraw marks a version as not to be used any more, or takes the mark away.
func (c *Client) Withdraw(ctx context.Context, repository string, w api.Withdraw) (out api.Withdraw, err error) {
	return out, c.do(ctx, http.MethodPost, "/api/v1/repositories/"+url.PathEscape(repository)+"/withdraw", w, &out)
}

// Receiving lists what is being received; purl and repository may be "".
func (c *Client) Receiving(ctx context.Context, purl, repository string) ([]api.Receiving, error) {
	return get[[]api.Receiving](ctx, c, "/api/v1/receiving", url.Values{"purl": {purl}, "repository": {repository}})
}

// Local is a package file on this machine.
type Local struct {
	Path   string
	Size   int64
	SHA256 string // in hexadecimal; "" if it was not computed
	// Here: the server has its bytes, and takes the digest in their place.
	Here bool
	// Arrived is how much of it was sent in pieces already.
	Arrived int64
}

// Name is the file's own name.
func (l Local) Name() string { return filepath.Base(l.Path) }

// Locals reads sizes and digests of files.
func Locals(ctx context.Context, paths []string) ([]Local, error) {
	all := make([]Local, len(paths))
	for i, path := range paths {
		sum := sha256.New()
		size, err := readFile(path, func(r io.Reader) (int64, error) { return io.Copy(sum, &watched{ctx, r}) })
		if err != nil {
			return nil, err
		}
		all[i] = Local{Path: path, Size: size, SHA256: hex.EncodeToString(sum.Sum(nil))}
	}
	return all, nil
}

func readFile(path string, do func(r io.Reader) (int64, error)) (int64, error) {
	file, err := os.Open(path)
	if err != nil {
		return 0, err
	}
	defer file.Close()
	return do(file)
}

// watched ends reading with its context.
type watched struct {
	ctx context.Context
	io.Reader
}

// Read implements io.Reader.
func (w *watched) Read(p []byte) (int, error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	return w.Reader.Read(p)
}

// Look tells what files would become if they were published together, and shows the
// server the parts of them that it wants for that. as may be "".
func (c *Client) Look(ctx context.Context, repository, as string, files []Local) (looked api.Looked, err error) {
	ask := api.Look{As: as, Together: true, Files: make([]api.LookFile, len(files))}
	for i, f := range files {
		ask.Files[i] = api.LookFile{Name: f.Name(), Size: f.Size, SHA256: f.SHA256}
	}
	const rounds = 20 // each shows more, so they end by themselves
	for range rounds {
		looked = api.Looked{}
		if err := c.do(ctx, http.MethodPost, of(repository, "look"), ask, &looked); err != nil || len(looked.Wanted) == 0 {
			return looked, err
		}
		for _, w := range looked.Wanted {
			part := api.Stretch{At: w.At, Bytes: make([]byte, w.Length)}
			_, err := readFile(files[w.File].Path, func(r io.Reader) (int64, error) {
				n, err := r.(io.ReaderAt).ReadAt(part.Bytes, w.At)
				return int64(n), err
			})
			if err != nil {
				return looked, fmt.Errorf("%s changed while it was read: %w", files[w.File].Path, err)
			}
			ask.Files[w.File].Seen = append(ask.Files[w.File].Seen, part)
		}
	}
	return looked, fmt.Errorf("%s keeps asking for more of the files", c.Server)
}

// Publish sends package files, or the digests of those that are here; all become
// visible together. progress wraps the reader of each file, and may be nil. as may be "".
func (c *Client) Publish(
	ctx context.Context, repository, as string, files []Local,
	progress func(name string, size int64, r io.Reader) io.Reader,
) (api.Published, error) {
	var out api.Published
	body, w := io.Pipe()
	form := multipart.NewWriter(w)
	go func() {
		w.CloseWithError(writeFiles(form, files, progress))
	}()
	path := of(repository, "publish")
	if as != "" {
		path += "?" + url.Values{"as": {as}}.Encode()
	}
	r, err := c.request(ctx, http.MethodPost, path, body)
	if err != nil {
		return out, err
	}
	r.Header.Set("Content-Type", form.FormDataContentType())
	response, err := c.send(r)
	if err != nil {
		return out, err
	}
	defer response.Body.Close()
	return out, json.NewDecoder(response.Body).Decode(&out)
}

// Continue sends the rest of a file, from f.Arrived on. What arrives before it is cut
// stays, so that it can be gone on with; Publish takes its digest then.
func (c *Client) Continue(
	ctx context.Context, repository string, f Local, progress func(name string, size int64, r io.Reader) io.Reader,
) (arrived int64, err error) {
	return readFile(f.Path, func(r io.Reader) (int64, error) {
		if _, err := r.(io.Seeker).Seek(f.Arrived, io.SeekStart); err != nil {
			return 0, err
		}
		if progress != nil {
			r = progress(f.Name(), f.Size-f.Arrived, r)
		}
		request, err := c.request(ctx, http.MethodPut, of(repository, "arriving")+"/"+f.SHA256+"?at="+
			strconv.FormatInt(f.Arrived, 10), io.NopCloser(r))
		if err != nil {
			return 0, err
		}
		request.ContentLength = f.Size - f.Arrived
		request.Header.Set("Content-Type", "application/octet-stream")
		response, err := c.send(request)
		if err != nil {
			return 0, err
		}
		defer response.Body.Close()
		var out api.Arrived
		err = json.NewDecoder(response.Body).Decode(&out)
		return out.Arrived, err
	})
}

func writeFiles(form *multipart.Writer, files []Local, progress func(string, int64, io.Reader) io.Reader) error {
	for _, f := range files {
		if err := writeFile(form, f, progress); err != nil {
			return err
		}
	}
	return form.Close()
}

func writeFile(form *multipart.Writer, f Local, progress func(string, int64, io.Reader) io.Reader) error {
	if f.Here {
		head := textproto.MIMEHeader{}
		head.Set("Content-Disposition", multipart.FileContentDisposition("here", f.Name()))
		part, err := form.CreatePart(head)
		if err == nil {
			_, err = io.Copy(part, strings.NewReader(f.SHA256))
		}
		return err
	}
	part, err := form.CreateFormFile("file", f.Name())
	if err != nil {
		return err
	}
	_, err = readFile(f.Path, func(r io.Reader) (int64, error) {
		if progress != nil {
			r = progress(f.Name(), f.Size, r)
		}
		return io.Copy(part, r)
	})
	return err
}
