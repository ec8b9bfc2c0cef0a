package client

import (
	"archive/tar"
	"archive/zip"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"
)

// Unpacked gives the folder that has the packages: from itself, or one into which the archive that from
// is was unpacked (zip, tar, tar.gz), until done is called. Links and devices in it are left out.
func Unpacked(ctx context.Context, from string) (folder string, done func() error, err error) {
	nothing := func() error { return nil }
	stat, err := os.Stat(from)
	if err != nil || stat.IsDir() {
		return from, nothing, err
	}
	var unpack func(ctx context.Context, file *os.File, into *os.Root) error
	switch {
	case strings.HasSuffix(from, ".zip"):
		unpack = unzip
	case strings.HasSuffix(from, ".tar.gz"), strings.HasSuffix(from, ".tar"):
		unpack = untar
	default:
		return "", nothing, fmt.Errorf("%s is neither a folder nor an archive (.zip, .tar, .tar.gz); crelvo publish takes "+
			"package files", from)
	}
	file, err := os.Open(from)
	if err != nil {
		return "", nothing, err
	}
	defer file.Close()
	if folder, err = os.MkdirTemp("", "crelvo-transfer-"); err != nil {
		return "", nothing, err
	}
	done = func() error { return os.RemoveAll(folder) }
	root, err := os.OpenRoot(folder)
	if err == nil {
		err = errors.Join(unpack(ctx, file, root), root.Close())
	}
	if err != nil {
		return "", nothing, errors.Join(fmt.Errorf("%s cannot be unpacked: %w", from, err), done())
	}
	return folder, done, nil
}

func unzip(ctx context.Context, file *os.File, into *os.Root) error {
	stat, err := file.Stat()
	if err != nil {
		return err
	}
	archive, err := zip.NewReader(file, stat.Size())
	if err != nil {
		return err
	}
	for _, entry := range archive.File {
		if !entry.Mode().IsRegular() {
			continue
		}
		r, err := entry.Open()
		if err != nil {
			return err
		}
		if err := errors.Join(put(ctx, into, entry.Name, entry.Modified, r), r.Close()); err != nil {
			return err
		}
	}
	return nil
}

func untar(ctx context.Context, file *os.File, into *os.Root) error {
	var r io.Reader = file
	if strings.HasSuffix(file.Name(), ".gz") {
		unpacked, err := gzip.NewReader(file)
		if err != nil {
			return err
		}
		r = unpacked
	}
	archive := tar.NewReader(r)
	for {
		entry, err := archive.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if entry.Typeflag != tar.TypeReg {
			continue
		}
		if err := put(ctx, into, entry.Name, entry.ModTime, archive); err != nil {
			return err
		}
	}
}

// put writes a file below a folder, out of which no name leads.
func put(ctx context.Context, into *os.Root, name string, at time.Time, r io.Reader) error {
	name = filepath.FromSlash(path.Clean(strings.TrimLeft(name, "/")))
	if err := into.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	file, err := into.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(file, &watched{ctx, r})
	return errors.Join(err, file.Close(), into.Chtimes(name, at, at))
}
