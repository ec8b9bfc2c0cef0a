package client

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"crelvo/internal/core/fileset"
)

// placing writes the files that a folder lacks. What is on this machine is written first, while all that it is taken
// from is still in its place.
type placing struct {
	f       *fetching
	here    map[fileset.Digest]hereChunk
	mu      sync.Mutex
	targets map[fileset.Digest][]target // of chunks that come over the network
	numbers []numbered                  // these chunks
}

// target is where a chunk is to be written.
type target struct {
	to *placed
	at int64
}

type numbered struct {
	fileset.Chunk
	number int
}

// placed is a file on its way to its place.
type placed struct {
	setWanted
	root *os.Root
	name string // until it is whole
	mu   sync.Mutex
	file *os.File
	left int // chunks that are not written
	// begun: some of it was there before.
	begun bool
}

const (
	// placesAtOnce is how many files are written, or stretches fetched, at the same time.
	placesAtOnce = 4
	// fetchBytes is how many bytes one request is for, and fetchChunks how many chunks.
	fetchBytes, fetchChunks = 16 << 20, 8000
)

func (p *placing) place(ctx context.Context) error {
	files := make([]*placed, 0, len(p.f.lacking))
	for _, w := range p.f.lacking {
		if w.Kind != fileset.File {
			continue
		}
		of := sha256.Sum256(append([]byte(w.Path+"\n"), w.Digest[:]...))
		name := path.Join(path.Dir(w.Path), part+hex.EncodeToString(of[:12]))
		files = append(files, &placed{setWanted: w, root: p.f.root, name: filepath.FromSlash(name), left: len(w.Made())})
	}
	hands, within := errgroup.WithContext(ctx)
	hands.SetLimit(placesAtOnce)
	for _, to := range files {
		hands.Go(func() error { return p.local(within, to) })
	}
	if err := hands.Wait(); err != nil {
		return err
	}
	for _, to := range files {
		if to.left == 0 {
			if err := to.finish(); err != nil {
				return err
			}
		}
	}
	slices.SortFunc(p.numbers, func(a, b numbered) int { return a.number - b.number })
	hands, within = errgroup.WithContext(ctx)
	hands.SetLimit(placesAtOnce)
	for begin := 0; begin < len(p.numbers) && within.Err() == nil; {
		end, bytes := begin, 0
		for end < len(p.numbers) && end-begin < fetchChunks && bytes < fetchBytes {
			bytes += int(p.numbers[end].Length)
			end++
		}
		some := p.numbers[begin:end]
		hands.Go(func() error { return p.remote(within, some) })
		begin = end
	}
	return hands.Wait()
}

// local writes what is on this machine of a file, and notes what is not.
func (p *placing) local(ctx context.Context, to *placed) (err error) {
	defer func() { err = errors.Join(err, to.pause()) }()
	begun, err := p.f.root.Open(to.name)
	if err == nil {
		defer begun.Close()
		to.begun = true
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	var at int64
	var lacking []numbered
	var places []target
	for i, c := range to.Made() {
		if err := ctx.Err(); err != nil {
			return err
		}
		there := begun != nil && rightAt(begun, at, c) != nil
		if there {
			to.left--
		} else if content := p.copied(c); content != nil {
			there = true
			if err := to.write(content, at); err != nil {
				return err
			}
		}
		if there {
			p.f.told(int(c.Length), 0)
		} else {
			lacking, places = append(lacking, numbered{c, to.first + i}), append(places, target{to, at})
		}
		at += int64(c.Length)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for i, n := range lacking {
		known := p.targets[n.Digest]
		if p.targets[n.Digest] = append(known, places[i]); known == nil {
			p.numbers = append(p.numbers, n)
		}
	}
	return nil
}

// rightAt is the chunk at a place of a file; nil if it is another.
func rightAt(r io.ReaderAt, at int64, c fileset.Chunk) []byte {
	content := make([]byte, c.Length)
	if _, err := r.ReadAt(content, at); err != nil {
		return nil
	}
	if is := sha256.Sum256(content); !bytes.Equal(is[:], c.Digest[:]) {
		return nil
	}
	return content
}

// copied is a chunk from another file on this machine; nil if there is none.
func (p *placing) copied(c fileset.Chunk) []byte {
	from, ok := p.here[c.Digest]
	if !ok {
		return nil
	}
	file, err := from.folder.Open(filepath.FromSlash(from.name))
	if err != nil {
		return nil // it went away; the chunk comes over the network
	}
	defer file.Close()
	return rightAt(file, from.offset, c)
}

// remote fetches chunks, and writes each wherever it belongs.
func (p *placing) remote(ctx context.Context, chunks []numbered) (err error) {
	var ranges []chunkRange
	for _, n := range chunks {
		if last := len(ranges) - 1; last >= 0 && ranges[last].from+ranges[last].count == n.number {
			ranges[last].count++
			continue
		}
		ranges = append(ranges, chunkRange{n.number, 1})
	}
	body, err := p.f.c.chunksOf(ctx, p.f.FileSet, ranges)
	if err != nil {
		return err
	}
	defer body.Close()
	touched := map[*placed]bool{}
	defer func() {
		for to := range touched {
			err = errors.Join(err, to.pause())
		}
	}()
	var content []byte
	for _, n := range chunks {
		content = append(content[:0], make([]byte, n.Length)...)
		if _, err := io.ReadFull(body, content); err != nil {
			return &Unreachable{Server: p.f.c.Server, Err: err}
		}
		if is := sha256.Sum256(content); !bytes.Equal(is[:], n.Digest[:]) {
			return fmt.Errorf("chunk %d of %s %s arrived damaged: its SHA-256 is %x, not %x. Fetch it again, and if that does "+
				"not help, publish it anew", n.number, p.f.Name, p.f.Version, is, n.Digest)
		}
		for _, t := range p.targets[n.Digest] {
			touched[t.to] = true
			if err := t.to.writeAndFinish(content, t.at); err != nil {
				return err
			}
			p.f.told(len(content), 0)
		}
		p.f.told(0, len(content))
	}
	return nil
}

func (f *fetching) told(done, moved int) {
	f.Told(SetProgress{Done: f.done.Add(int64(done)), Total: f.total, Moved: f.moved.Add(int64(moved))})
}

// write writes a chunk.
func (to *placed) write(content []byte, at int64) error {
	to.mu.Lock()
	defer to.mu.Unlock()
	return to.writeLocked(content, at)
}

func (to *placed) writeLocked(content []byte, at int64) (err error) {
	if to.file == nil {
		if to.file, err = to.root.OpenFile(to.name, os.O_WRONLY|os.O_CREATE, 0o600); err != nil {
			return err
		}
	}
	_, err = to.file.WriteAt(content, at)
	to.left--
	return err
}

// writeAndFinish writes a chunk, and puts the file in its place if it was the last.
func (to *placed) writeAndFinish(content []byte, at int64) error {
	to.mu.Lock()
	defer to.mu.Unlock()
	if err := to.writeLocked(content, at); err != nil || to.left > 0 {
		return err
	}
	return to.finish()
}

// finish puts a whole file in its place.
func (to *placed) finish() (err error) {
	if to.file == nil {
		if to.file, err = to.root.OpenFile(to.name, os.O_WRONLY|os.O_CREATE, 0o600); err != nil {
			return err
		}
	}
	if to.begun { // it may have been longer
		err = to.file.Truncate(to.Size)
	}
	err = errors.Join(err, to.file.Chmod(fs.FileMode(to.Mode)|0o200), to.file.Close())
	if to.file = nil; err == nil {
		err = to.root.Chtimes(to.name, to.Modified, to.Modified)
	}
	if err == nil {
		err = to.root.Rename(to.name, filepath.FromSlash(to.Path))
	}
	if err == nil && to.Mode&0o200 == 0 {
		err = to.root.Chmod(filepath.FromSlash(to.Path), fs.FileMode(to.Mode))
	}
	return err
}

// pause closes a file that is not whole, so that not too many are open.
func (to *placed) pause() (err error) {
	to.mu.Lock()
	defer to.mu.Unlock()
	if to.file != nil {
		err, to.file = to.file.Close(), nil
	}
	return err
}
