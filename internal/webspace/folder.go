package webspace

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
)

// partial begins the names of files that are being written: web servers hand out no hidden files, as a rule, and
// nothing names them.
const partial = ".arriving-"

// folder is a Space in a folder. Nothing leaves it, whatever links are in it.
type folder struct{ root *os.Root }

func openFolder(at string) (*folder, error) {
	root, err := os.OpenRoot(at)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("the folder %s is not there: make it, or mount it", at)
	}
	return &folder{root}, err
}

// Write implements Space.
func (f *folder) Write(ctx context.Context, at string, content io.ReaderAt, size int64, _ string) error {
	dir := path.Dir(at)
	if err := f.root.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	name := path.Join(dir, partial+rand.Text())
	file, err := f.root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	err = errors.Join(copyAll(ctx, file, content, size), file.Sync(), file.Close())
	if err == nil {
		err = f.root.Rename(name, at)
	}
	if err != nil {
		return errors.Join(err, ignoreAbsent(f.root.Remove(name)))
	}
	d, err := f.root.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// copyAll copies as many bytes as there should be.
func copyAll(ctx context.Context, to io.Writer, content io.ReaderAt, size int64) error {
	n, err := io.Copy(to, &until{ctx, io.NewSectionReader(content, 0, size)})
	if err == nil && n != size {
		err = io.ErrUnexpectedEOF
	}
	return err
}

// until is a reader that ends with a context.
type until struct {
	ctx context.Context
	r   io.Reader
}

// Read implements io.Reader.
func (u *until) Read(p []byte) (int, error) {
	if err := u.ctx.Err(); err != nil {
		return 0, err
	}
	return u.r.Read(p)
}

func ignoreAbsent(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Read implements Space.
func (f *folder) Read(_ context.Context, at string, most int64) ([]byte, error) {
	file, err := f.root.Open(at)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return readAll(file, at, most)
}

// Size implements Space.
func (f *folder) Size(_ context.Context, at string) (int64, error) {
	is, err := f.root.Stat(at)
	if err != nil {
		return 0, err
	}
	if !is.Mode().IsRegular() {
		return 0, fmt.Errorf("%s is no file", at)
	}
	return is.Size(), nil
}

// Remove implements Space. Folders that are empty then go too.
func (f *folder) Remove(_ context.Context, at string) error {
	if err := ignoreAbsent(f.root.Remove(at)); err != nil {
		return err
	}
	for dir := path.Dir(at); dir != "." && !strings.HasPrefix(dir, "/"); dir = path.Dir(dir) {
		if f.root.Remove(dir) != nil {
			return nil // something else is in it
		}
	}
	return nil
}

// Close implements Space.
func (f *folder) Close() error { return f.root.Close() }
