package client

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

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
	// Arriving is what a large file is sent as in pieces, the same each time as long as it
	// does not change; "" of others.
	Arriving string
	// Arrived is how much of it was sent in pieces already.
	Arrived int64
	sent    *api.ArrivedPart // once all of it was
	called  string           // where it is not called by its own name
}

// Name is what the file is called: its own name, if it has one that says something.
func (l Local) Name() string { return cmp.Or(l.called, filepath.Base(l.Path)) }

// inPieces is from how many bytes on a file is sent so that it can be gone on with.
const inPieces = 8 << 20

// Locals reads sizes and digests of files. Large ones get none: to compute it takes as
// long as to send the file, whose digest the server tells.
func Locals(ctx context.Context, paths []string) ([]Local, error) {
	all := make([]Local, len(paths))
	for i, path := range paths {
		stat, err := os.Stat(path)
		if err != nil {
			return nil, err
		}
		all[i] = Local{Path: path, Size: stat.Size()}
		if stat.Size() < inPieces {
			err = all[i].digest(ctx)
		} else {
			all[i].Arriving, err = arriving(path, stat)
		}
		if err != nil {
			return nil, err
		}
	}
	return all, nil
}

// arriving names a file as it is now on this machine.
func arriving(path string, stat os.FileInfo) (string, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	machine, err := os.Hostname()
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%q %q %d %d", machine, path, stat.Size(), stat.ModTime().UnixNano()))
	return hex.EncodeToString(sum[:]), nil
}

// digest computes the SHA-256 of the file.
func (l *Local) digest(ctx context.Context) (err error) {
	sum := sha256.New()
	l.Size, err = readFile(l.Path, func(r io.Reader) (int64, error) { return io.Copy(sum, &watched{ctx, r}) })
	l.SHA256 = hex.EncodeToString(sum.Sum(nil))
	return err
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
// server the parts and digests of them that it wants for that; digests are noted in files.
// as may be "".
func (c *Client) Look(ctx context.Context, repository, as string, files []Local) (looked api.Looked, err error) {
	return c.lookAt(ctx, repository, api.Look{As: as, Together: true}, files)
}

// lookAt is Look, of files that may be several publications if ask says so.
func (c *Client) lookAt(
	ctx context.Context, repository string, ask api.Look, files []Local,
) (looked api.Looked, err error) {
	ask.Files = make([]api.LookFile, len(files))
	for i, f := range files {
		ask.Files[i] = api.LookFile{Name: f.Name(), Size: f.Size, SHA256: f.SHA256, Arriving: f.Arriving}
	}
	const rounds = 20 // each shows more, so they end by themselves
	for range rounds {
		looked = api.Looked{}
		if err := c.do(ctx, http.MethodPost, of(repository, "look"), ask, &looked); err != nil || len(looked.Wanted) == 0 {
			return looked, err
		}
		for _, w := range looked.Wanted {
			if w.Digest {
				if err := files[w.File].digest(ctx); err != nil {
					return looked, err
				}
				ask.Files[w.File].SHA256 = files[w.File].SHA256
				continue
			}
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
	progress Followed,
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

// Followed wraps the reader of a file that is sent; may be nil.
type Followed func(name string, size int64, r io.Reader) io.Reader

// Send publishes files that were looked at, together. Large ones are sent so that they can be gone on
// with, a few times where the connection is lost; say is told of that.
func (c *Client) Send(
	ctx context.Context, to, as string, files []Local, follow Followed, say func(format string, args ...any),
) (none api.Published, err error) {
	for i := range files {
		if files[i].Here || files[i].Arriving == "" || c.Token == "" && c.User == "" {
			continue
		}
		if err := c.sendRest(ctx, to, as, &files[i], follow, say); err != nil {
			return none, err
		}
	}
	published, err := c.Publish(ctx, to, as, files, follow)
	if p := (*api.Problem)(nil); errors.As(err, &p) && (p.Code == "not-here" || p.Code == "damaged-upload") {
		for i := range files {
			files[i].Again() // it went away in between, or arrived damaged
		}
		published, err = c.Publish(ctx, to, as, files, follow)
	}
	return published, err
}

// sendRest sends a file, and goes on where the connection is lost, a few times; what
// arrived stays for a day.
func (c *Client) sendRest(
	ctx context.Context, to, as string, f *Local, follow Followed, say func(format string, args ...any),
) error {
	if f.Arrived > 0 {
		say("%s: going on from %s.", f.Name(), api.Bytes(f.Arrived))
	}
	for wait := time.Second; ; wait *= 2 {
		err := c.Continue(ctx, to, f, follow)
		if f.Sent() {
			return nil
		}
		var p *api.Problem
		lost := (*Unreachable)(nil)
		again := errors.As(err, &lost) || errors.As(err, &p) &&
			(p.Status >= http.StatusBadGateway || slices.Contains([]string{"cut-upload", "other-offset", "being-sent"}, p.Code))
		if !again || ctx.Err() != nil || wait > 4*time.Second {
			if again && ctx.Err() == nil {
				say("What arrived stays for a day: the same command goes on from there.")
			}
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait):
		}
		looked, lookErr := c.Look(ctx, to, as, []Local{*f})
		if lookErr != nil {
			continue // it may be back with the next try
		}
		for _, p := range looked.Publications {
			for _, of := range p.Files {
				if of.File == 0 {
					f.Arrived = of.Arrived
				}
			}
		}
	}
}

// Continue sends the rest of a file, from f.Arrived on. What arrives before it is cut
// stays, so that it can be gone on with; Publish names it then in place of sending it.
func (c *Client) Continue(
	ctx context.Context, repository string, f *Local, progress Followed,
) error {
	crc := crc32.New(crc32.MakeTable(crc32.Castagnoli))
	size, err := readFile(f.Path, func(r io.Reader) (int64, error) {
		before, err := io.CopyN(crc, &watched{ctx, r}, f.Arrived)
		if err != nil || f.Arrived == f.Size {
			return before, err
		}
		r = io.TeeReader(r, crc)
		if progress != nil {
			r = progress(f.Name(), f.Size-f.Arrived, r)
		}
		request, err := c.request(ctx, http.MethodPut, of(repository, "arriving")+"/"+f.Arriving+"?at="+
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
	if err == nil && size == f.Size {
		f.sent = &api.ArrivedPart{Name: f.Arriving, Size: size, CRC32C: crc.Sum32()}
	}
	return err
}

// Sent tells whether all of a file was sent in pieces.
func (l Local) Sent() bool { return l.sent != nil }

// Again forgets what the server was said to have of a file, so that Publish sends it.
func (l *Local) Again() { l.Here, l.sent = false, nil }

func writeFiles(form *multipart.Writer, files []Local, progress Followed) error {
	for _, f := range files {
		if err := writeFile(form, f, progress); err != nil {
			return err
		}
	}
	return form.Close()
}

func writeFile(form *multipart.Writer, f Local, progress Followed) error {
	stands := func(as string, content []byte) error {
		head := textproto.MIMEHeader{}
		head.Set("Content-Disposition", multipart.FileContentDisposition(as, f.Name()))
		part, err := form.CreatePart(head)
		if err == nil {
			_, err = part.Write(content)
		}
		return err
	}
	if f.Here {
		return stands("here", []byte(f.SHA256))
	}
	if f.sent != nil {
		content, err := json.Marshal(f.sent)
		return errors.Join(err, stands("arrived", content))
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
