package store

import (
	"bytes"
	"context"
	"crypto/md5"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"

	"github.com/minio/minio-go/v7"
)

var documentName = regexp.MustCompile(`^[a-z0-9][a-z0-9.-]{0,100}$`)

func checkDocument(name string) error {
	if !documentName.MatchString(name) {
		return fmt.Errorf("%q cannot be the name of a document", name)
	}
	return nil
}

func (f *Folder) documents() string { return filepath.Join(filepath.Dir(f.bytes), "documents") }

// Document implements Store.
func (f *Folder) Document(_ context.Context, name string) ([]byte, error) {
	if err := checkDocument(name); err != nil {
		return nil, err
	}
	content, err := os.ReadFile(filepath.Join(f.documents(), name))
	if errors.Is(err, fs.ErrNotExist) {
		err = ErrMissing
	}
	return content, err
}

// Documents implements Store.
func (f *Folder) Documents(context.Context) (names []string, err error) {
	entries, err := os.ReadDir(f.documents())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, e := range entries {
		if documentName.MatchString(e.Name()) {
			names = append(names, e.Name())
		}
	}
	return names, err
}

// SetDocument implements Store.
func (f *Folder) SetDocument(_ context.Context, name string, content []byte) error {
	if err := checkDocument(name); err != nil {
		return err
	}
	if err := os.MkdirAll(f.documents(), 0o700); err != nil {
		return err
	}
	return writeDurably(filepath.Join(f.documents(), name), content)
}

// writeDurably puts a file in the place of what is there, all of it or nothing.
func writeDurably(path string, content []byte) error {
	file, err := os.CreateTemp(filepath.Dir(path), "~")
	if err != nil {
		return err
	}
	_, err = file.Write(content)
	if err = errors.Join(err, file.Sync(), file.Close()); err == nil {
		err = os.Rename(file.Name(), path)
	}
	if err != nil {
		return errors.Join(err, os.Remove(file.Name()))
	}
	return syncFolder(filepath.Dir(path))
}

// DropDocument implements Store.
func (f *Folder) DropDocument(_ context.Context, name string) error {
	if err := checkDocument(name); err != nil {
		return err
	}
	err := os.Remove(filepath.Join(f.documents(), name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return errors.Join(err, syncFolder(f.documents()))
}

func documentObject(name string) string { return "documents/" + name }

// Document implements Store.
func (s *S3) Document(ctx context.Context, name string) ([]byte, error) {
	if err := checkDocument(name); err != nil {
		return nil, err
	}
	return s.getWhole(ctx, documentObject(name))
}

// Documents implements Store.
func (s *S3) Documents(ctx context.Context) (names []string, err error) {
	err = s.list(ctx, documentObject(""), func(name string, _ minio.ObjectInfo) error {
		names = append(names, path.Base(name))
		return nil
	})
	return names, err
}

// SetDocument implements Store.
func (s *S3) SetDocument(ctx context.Context, name string, content []byte) error {
	if err := checkDocument(name); err != nil {
		return err
	}
	return s.put(ctx, documentObject(name), bytes.NewReader(content), int64(len(content)), md5.Sum(content), nil)
}

// DropDocument implements Store.
func (s *S3) DropDocument(ctx context.Context, name string) error {
	if err := checkDocument(name); err != nil {
		return err
	}
	return s.remove(ctx, documentObject(name))
}
