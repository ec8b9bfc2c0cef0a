package ecosystem

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"crelvo/internal/core/catalog"
)

// Tarball is what is of interest in the only folder of a .tar.gz.
type Tarball struct {
	Folder string // the first one
	// Other is another folder beside it; "" if there is none.
	Other    string
	Manifest []byte
	Readme   *catalog.Readme
	Licences LicenceTexts
}

// ReadTarball finds the manifest and the README in the folder at the root of a .tar.gz,
// whatever that is named. It reads all of it, so that one that was cut is noticed. limit
// is how long the manifest may be, in bytes. Errors are in words.
func ReadTarball(ctx context.Context, file SizedReaderAt, manifest string, limit int64) (t Tarball, err error) {
	err = WalkTarGz(ctx, file, func(name string, size int64, r io.Reader) error {
		folder, base := path.Split(path.Clean(name))
		if folder = strings.Trim(folder, "/"); folder == "" || strings.Contains(folder, "/") {
			return nil
		}
		switch {
		case t.Folder == "":
			t.Folder = folder
		case folder != t.Folder && t.Other == "":
			t.Other = folder
		}
		var err error
		switch lower := strings.ToLower(base); {
		case base == manifest && t.Manifest == nil:
			t.Manifest, err = ReadAtMost(r, limit)
		case t.Readme == nil && (lower == "readme" || strings.HasPrefix(lower, "readme.")) && size > 0:
			var text []byte
			text, err = io.ReadAll(io.LimitReader(r, catalog.MaxReadme))
			t.Readme = ReadmeOf(base, text)
		case folder == t.Folder && IsLicenceFile(base):
			err = t.Licences.Read(r)
		}
		return err
	})
	if t.Manifest != nil && errors.Is(err, ErrUnseen) {
		err = nil // the rest is read when it arrives
	}
	if err == nil && t.Manifest == nil {
		err = fmt.Errorf("it has no %s in its folder", manifest)
	}
	return t, err
}

// ReadmeOf is a text about a version, in the form that its file's name says.
func ReadmeOf(name string, raw []byte) *catalog.Readme {
	format := "text/markdown"
	switch lower := strings.ToLower(name); {
	case strings.HasSuffix(lower, ".txt"), lower == "readme":
		format = "text/plain"
	case strings.HasSuffix(lower, ".rst"):
		format = "text/x-rst"
	}
	return &catalog.Readme{Text: string(raw), Format: format}
}
