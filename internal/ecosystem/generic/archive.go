package generic

import (
	"archive/tar"
	"archive/zip"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/text/unicode/norm"

	"crelvo/internal/core/budget"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/fileset"
	"crelvo/internal/ecosystem"
)

// unpacking is what an archive that becomes a set may cost: what it unpacks to is bounded by quotas, too, as far as it
// is not the same again and again.
var unpacking = budget.Limits{Bytes: 256 << 30, Held: 64 << 20, Elements: fileset.MaxEntries}

// walk goes through an archive that is sent. Of a file that is another name of one before, there is no reader, and the
// target is that one.
func walk(
	ctx context.Context, c *ecosystem.Call, form string, each func(e fileset.Entry, r io.Reader) error,
) (err error) {
	spent := budget.New(ctx, unpacking)
	body := io.Reader(c.Request().Body)
	switch form {
	case "zip":
		staged, err := c.Desk.Stage(ctx, c.Repository, body, c.Request().ContentLength, "an archive")
		if err != nil {
			return err
		}
		defer staged.Discard()
		return walkZip(ctx, staged, spent, each)
	case "tar.gz":
		if body, err = gzip.NewReader(body); err != nil {
			return err
		}
	case "tar.zst":
		unpacked, err := zstd.NewReader(body, zstd.WithDecoderMaxWindow(32<<20), zstd.WithDecoderConcurrency(1))
		if err != nil {
			return err
		}
		defer unpacked.Close()
		body = unpacked
	}
	return walkTar(spent.Reader(body), spent, each)
}

// entryAt begins an entry at the path that an archive has, in the form that sets have.
func entryAt(name string, mode fs.FileMode, at time.Time) (e fileset.Entry, ok bool) {
	e = fileset.Entry{Path: norm.NFC.String(path.Clean(strings.TrimPrefix(name, "./"))), Mode: uint16(mode.Perm()),
		Modified: at.UTC()}
	if at.IsZero() || at.Year() < 1678 || at.Year() > 2261 {
		e.Modified = time.Unix(0, 0).UTC()
	}
	if mode.IsDir() {
		e.Kind, e.Path = fileset.Folder, e.Path+"/"
	}
	return e, e.Path != "./" && e.Path != "."
}

func walkTar(r io.Reader, spent *budget.Budget, each func(e fileset.Entry, r io.Reader) error) error {
	for archive := tar.NewReader(r); ; {
		h, err := archive.Next()
		if err == io.EOF {
			return nil
		}
		if err == nil {
			err = spent.Elements(1)
		}
		if err != nil {
			return err
		}
		e, ok := entryAt(h.Name, h.FileInfo().Mode(), h.ModTime)
		if !ok {
			continue
		}
		switch h.Typeflag {
		case tar.TypeReg, tar.TypeDir:
		case tar.TypeSymlink:
			e.Kind, e.Target, e.Mode = fileset.Link, h.Linkname, 0
		case tar.TypeLink: // another name of a file that came before
			e.Target = norm.NFC.String(path.Clean(strings.TrimPrefix(h.Linkname, "./")))
			if err := each(e, nil); err != nil {
				return err
			}
			continue
		default:
			return fmt.Errorf("its %.100q is neither a file nor a folder nor a link", h.Name)
		}
		if ecosystem.HasHoles(h) {
			return fmt.Errorf("its %.100q has holes", h.Name)
		}
		if err := each(e, archive); err != nil {
			return err
		}
	}
}

func walkZip(
	ctx context.Context, file ecosystem.SizedReaderAt, spent *budget.Budget,
	each func(e fileset.Entry, r io.Reader) error,
) error {
	archive, err := ecosystem.OpenZip(ctx, file)
	if err != nil {
		return err
	}
	for _, f := range archive.File {
		mode := f.Mode()
		e, ok := entryAt(f.Name, mode, f.Modified)
		if !ok {
			continue
		}
		if e.Kind == fileset.File && e.Mode == 0 {
			e.Mode = 0o644
		}
		r, err := f.Open()
		if err != nil {
			return err
		}
		if mode&fs.ModeSymlink != 0 {
			target, wrong := ecosystem.ReadAtMost(spent.Reader(r), fileset.MaxPath)
			e.Kind, e.Target, e.Mode, err = fileset.Link, string(target), 0, wrong
		}
		if err == nil {
			err = each(e, spent.Reader(r))
		}
		if err := errors.Join(err, r.Close()); err != nil {
			return err
		}
	}
	return nil
}

// archive answers with an archive of a set, or of a folder in it, made on the way.
func (g Generic) archive(c *ecosystem.Call, s *set, inside, as string) error {
	if !slices.Contains(forms, as) {
		return fault.New(fault.Invalid, "bad-form", "a file set cannot be had as %.20q", as).
			WithHint("Ask for it as json, %s.", strings.Join(forms, ", "))
	}
	folder := folderOf(inside)
	if _, _, err := s.layout.List(folder, "", 1); errors.Is(err, fileset.ErrNotThere) {
		return noFile(s.q.Key, s.q.Version, inside)
	} else if err != nil {
		return unreadable(err)
	}
	name := s.q.Key.Name + "-" + segment(s.q.Version, s.q.Upload)
	top := name
	if inside != "" {
		top = path.Base(inside)
		name += "-" + top
	}
	c.Response().Header().Set("Content-Disposition", mime.FormatMediaType("attachment",
		map[string]string{"filename": name + "." + as}))
	kind := map[string]string{"tar": "application/x-tar", "tar.gz": "application/gzip", "tar.zst": "application/zstd",
		"zip": "application/zip"}[as]
	err := c.SendStream(kind, -1, func(w io.Writer) error {
		if as == "zip" {
			return g.writeZip(c.Request().Context(), w, s, folder, top)
		}
		return g.writeTar(c.Request().Context(), w, s, folder, top, as)
	})
	if err == nil && c.Request().Method == "GET" {
		c.Desk.Downloaded(c.Caller, s.kept, s.found.Fetched)
	}
	return err
}

func (g Generic) writeTar(ctx context.Context, w io.Writer, s *set, folder, top, as string) (err error) {
	packed := io.WriteCloser(nopCloser{w})
	switch as {
	case "tar.gz":
		packed, err = gzip.NewWriterLevel(w, gzip.BestSpeed)
	case "tar.zst":
		packed, err = zstd.NewWriter(w, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1),
			zstd.WithWindowSize(1<<20))
	}
	if err != nil {
		return err
	}
	archive := tar.NewWriter(packed)
	packs := s.packs(ctx)
	defer packs.Close()
	err = s.layout.Below(folder, func(f fileset.Found) error {
		h := &tar.Header{Name: path.Join(top, strings.TrimPrefix(f.Path, folder)), Mode: int64(f.Mode), ModTime: f.Modified,
			Format: tar.FormatPAX, Size: f.Size, Typeflag: tar.TypeReg}
		switch f.Kind {
		case fileset.Folder:
			h.Typeflag, h.Name = tar.TypeDir, h.Name+"/"
		case fileset.Link:
			h.Typeflag, h.Linkname, h.Mode = tar.TypeSymlink, f.Target, 0o777
		}
		if err := archive.WriteHeader(h); err != nil {
			return err
		}
		_, err := io.Copy(archive, &content{packs: packs, file: f})
		return err
	})
	return errors.Join(err, archive.Close(), packed.Close())
}

type nopCloser struct{ io.Writer }

// Close implements io.Closer.
func (nopCloser) Close() error { return nil }

func (g Generic) writeZip(ctx context.Context, w io.Writer, s *set, folder, top string) error {
	archive := zip.NewWriter(w)
	packs := s.packs(ctx)
	defer packs.Close()
	err := s.layout.Below(folder, func(f fileset.Found) error {
		h := &zip.FileHeader{Name: path.Join(top, strings.TrimPrefix(f.Path, folder)), Modified: f.Modified,
			Method: zip.Deflate}
		mode := fs.FileMode(f.Mode)
		switch f.Kind {
		case fileset.Folder:
			mode |= fs.ModeDir
			h.Name += "/"
			h.Method = zip.Store
		case fileset.Link:
			mode = fs.ModeSymlink | 0o777
		}
		h.SetMode(mode)
		entry, err := archive.CreateHeader(h)
		if err != nil {
			return err
		}
		if f.Kind == fileset.Link {
			_, err = io.WriteString(entry, f.Target)
			return err
		}
		_, err = io.Copy(entry, &content{packs: packs, file: f})
		return err
	})
	return errors.Join(err, archive.Close())
}
