package store

import (
	"container/list"
	"context"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
)

// cache is a folder with copies of what is read from elsewhere, of a bounded size: what was
// not read for longest goes first. A copy is complete, and what its source says of it, or
// it is not there. Whoever deletes any of it does no harm.
type cache struct {
	dir     string
	max     int64
	reserve int64 // bytes of the disk that stay free

	mu      sync.Mutex
	entries map[[32]byte]*list.Element // of *copied
	order   *list.List                 // last read first
	total   int64
	flights map[[32]byte]*fetching
	hits    int64
	misses  int64

	once *lru.Cache[[32]byte, struct{}] // what was read, and has no copy
}

type copied struct {
	digest [32]byte
	size   int64
}

// manyOnce is of how many files it is remembered that they were read once.
const manyOnce = 1 << 14

// verifiedFirst is up to which size a file is only given when all of it has arrived and is
// what it should be; of larger ones, what arrived is given at once, but for the last byte.
const verifiedFirst = chunkSize

// openCache finds again what an earlier process left.
func openCache(dir string, most, reserve int64) (*cache, error) {
	c := &cache{dir: dir, max: most, reserve: reserve, entries: map[[32]byte]*list.Element{}, order: list.New(),
		flights: map[[32]byte]*fetching{}}
	var err error
	if c.once, err = lru.New[[32]byte, struct{}](manyOnce); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	type found struct {
		copied
		at time.Time
	}
	var all []found
	err = filepath.WalkDir(dir, func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		stat, err := entry.Info()
		if err != nil {
			return err
		}
		raw, err := hex.DecodeString(entry.Name())
		if err != nil || len(raw) != 32 {
			return os.Remove(path) // it was arriving
		}
		all = append(all, found{copied{[32]byte(raw), stat.Size()}, stat.ModTime()})
		return nil
	})
	slices.SortFunc(all, func(a, b found) int { return a.at.Compare(b.at) })
	for _, f := range all {
		c.add(f.digest, f.size)
	}
	return c, err
}

func (c *cache) path(digest [32]byte) string {
	name := hex.EncodeToString(digest[:])
	return filepath.Join(c.dir, name[:2], name)
}

// takes tells whether a file of that size is worth its room, and there is room.
func (c *cache) takes(size int64) bool {
	if size <= 0 || size > c.max/4 {
		return false
	}
	disk, free, err := diskOf(c.dir)
	// On a small disk the reserve is a part of it.
	return err == nil && free-size > min(c.reserve, disk/20)
}

// again tells whether a file was asked for lately: most files of a build are read either once
// or very often, and for the former a copy would cost more than it gives.
func (c *cache) again(digest [32]byte) bool {
	asked, _ := c.once.ContainsOrAdd(digest, struct{}{})
	return asked
}

// open gives a copy, if there is one.
func (c *cache) open(digest [32]byte, size int64) (*os.File, bool) {
	c.mu.Lock()
	entry, there := c.entries[digest]
	if there {
		c.order.MoveToFront(entry)
		c.hits++
	} else {
		c.misses++
	}
	c.mu.Unlock()
	if !there {
		return nil, false
	}
	file, err := os.Open(c.path(digest))
	if err == nil {
		if stat, err := file.Stat(); err == nil && stat.Size() == size {
			return file, true
		}
		file.Close()
	}
	c.drop(digest) // somebody deleted or cut it
	return nil, false
}

// CacheUse is how a cache of copies fares: the bytes that are in it and that may be, and how
// often what was asked for was there, and was not.
type CacheUse struct{ Bytes, Most, Hits, Misses int64 }

// CacheUse tells how the copies of what is read fare; all is 0 without any.
func (s *S3) CacheUse() CacheUse {
	if s.cache == nil {
		return CacheUse{}
	}
	c := s.cache
	c.mu.Lock()
	defer c.mu.Unlock()
	return CacheUse{c.total, c.max, c.hits, c.misses}
}

// add makes a copy that is at its path known, and makes room for it.
func (c *cache) add(digest [32]byte, size int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if entry, there := c.entries[digest]; there {
		c.order.MoveToFront(entry)
		return
	}
	c.entries[digest] = c.order.PushFront(&copied{digest, size})
	c.total += size
	for c.total > c.max && c.order.Len() > 1 {
		c.forget(c.order.Back())
	}
}

// forget removes a copy; the lock is held.
func (c *cache) forget(entry *list.Element) {
	gone := entry.Value.(*copied)
	c.order.Remove(entry)
	delete(c.entries, gone.digest)
	c.total -= gone.size
	_ = os.Remove(c.path(gone.digest)) // it may be gone already
}

func (c *cache) drop(digest [32]byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if entry, there := c.entries[digest]; there {
		c.forget(entry)
	}
}

// adopt takes a file whose bytes are known to be right, and which is in the same disk, as
// a copy.
func (c *cache) adopt(path string, digest [32]byte) error {
	stat, err := os.Stat(path)
	if err != nil {
		return err
	}
	if !c.takes(stat.Size()) {
		return os.Remove(path)
	}
	to := c.path(digest)
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	if err := os.Rename(path, to); err != nil {
		return err
	}
	c.add(digest, stat.Size())
	return nil
}

// fetching is a copy that is arriving, for all who wait for it.
type fetching struct {
	source  func(ctx context.Context) *objectReader
	size    int64
	path    string
	cancel  context.CancelFunc
	readers int // guarded by the cache's lock

	mu      sync.Mutex
	changed chan struct{} // closed and made anew with every change
	begun   bool          // the source has the bytes
	arrived int64
	done    bool
	err     error
}

func (f *fetching) change(do func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	do()
	close(f.changed)
	f.changed = make(chan struct{})
}

// until waits until holds, or until it is over; what holds looks at is locked.
func (f *fetching) until(ctx context.Context, holds func() bool) error {
	for {
		f.mu.Lock()
		changed, done, err := f.changed, f.done, f.err
		ok := holds()
		f.mu.Unlock()
		if ok || done {
			return err
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// fetch gives bytes that the cache does not have, while a copy of them is made, for all
// who want it; it ends if nobody does any more.
func (c *cache) fetch(
	ctx context.Context, digest [32]byte, size int64, source func(ctx context.Context) *objectReader,
) (Reader, error) {
	c.mu.Lock()
	f, under := c.flights[digest]
	if !under {
		var alone context.Context
		f = &fetching{source: source, size: size, changed: make(chan struct{})}
		alone, f.cancel = context.WithCancel(context.WithoutCancel(ctx))
		c.flights[digest] = f
		go c.copy(alone, f, digest)
	}
	f.readers++
	c.mu.Unlock()
	leave := func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		if f.readers--; f.readers == 0 {
			f.cancel()
			if c.flights[digest] == f {
				delete(c.flights, digest) // whoever comes now begins anew
			}
		}
	}
	err := f.until(ctx, func() bool { return f.begun && size > verifiedFirst })
	var file *os.File
	if err == nil {
		if file, err = os.Open(f.path); errors.Is(err, fs.ErrNotExist) { // it has arrived
			file, err = os.Open(c.path(digest))
		}
	}
	var local localFailure
	switch {
	case err == nil && size <= verifiedFirst:
		leave()
		return file, nil
	case err == nil:
		return &arrivingReader{flight: f, ctx: ctx, file: file, leave: leave}, nil
	}
	leave()
	if errors.As(err, &local) || errors.Is(err, fs.ErrNotExist) || errors.Is(err, context.Canceled) && ctx.Err() == nil {
		r := source(ctx) // without a copy, then
		if err = r.begin(); err == nil {
			return r, nil
		}
	}
	return nil, err
}

// localFailure is that a copy could not be made because of this side.
type localFailure struct{ error }

func (l localFailure) Unwrap() error { return l.error }

// copy makes a copy.
func (c *cache) copy(ctx context.Context, f *fetching, digest [32]byte) {
	err := c.copyTo(ctx, f, digest)
	c.mu.Lock()
	if c.flights[digest] == f {
		delete(c.flights, digest)
	}
	c.mu.Unlock()
	f.cancel()
	f.change(func() {
		if f.done, f.err = true, err; err == nil {
			f.arrived = f.size
		}
	})
}

func (c *cache) copyTo(ctx context.Context, f *fetching, digest [32]byte) (err error) {
	to := c.path(digest)
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return localFailure{err}
	}
	file, err := os.CreateTemp(filepath.Dir(to), "arriving.")
	if err != nil {
		return localFailure{err}
	}
	defer func() {
		file.Close()
		if err != nil {
			_ = os.Remove(file.Name()) // what could not be copied is what to tell
		}
	}()
	from := f.source(ctx)
	defer from.Close()
	if err := from.begin(); err != nil {
		return err
	}
	f.change(func() { f.begun, f.path = true, file.Name() })
	buf := chunkPool.Get().(*[chunkSize]byte)
	defer chunkPool.Put(buf)
	for arrived := int64(0); arrived < f.size; {
		n, err := fill(io.LimitReader(from, f.size-arrived), buf[:])
		if err != nil && (n == 0 || !errors.Is(err, io.EOF)) {
			return err
		}
		if _, err := file.Write(buf[:n]); err != nil {
			return localFailure{err}
		}
		arrived += int64(n)
		f.change(func() { f.arrived = min(arrived, f.size-1) }) // nobody has all of it before it is compared
	}
	if err := os.Rename(file.Name(), to); err != nil {
		return localFailure{err}
	}
	c.add(digest, f.size)
	return nil
}

// arrivingReader reads a copy that is arriving; what is asked for far ahead comes from its
// source. One reader reads on, several may ReadAt.
type arrivingReader struct {
	flight *fetching
	ctx    context.Context
	file   *os.File
	leave  func()

	mu     sync.Mutex
	pos    int64
	source *objectReader
}

// farAhead is how far beyond what arrived nobody waits for it.
const farAhead = 4 << 20

// reach waits until bytes at an offset have arrived, and tells how many there are from
// there on; 0 if they are far ahead, or will never come.
func (r *arrivingReader) reach(off, want int64) (int64, error) {
	f := r.flight
	f.mu.Lock()
	far := off+want > f.arrived+farAhead && !f.done
	f.mu.Unlock()
	if far {
		return 0, nil
	}
	err := f.until(r.ctx, func() bool { return f.arrived >= min(off+want, f.size) })
	var local localFailure
	if errors.As(err, &local) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.arrived - off, nil
}

func (r *arrivingReader) ReadAt(p []byte, off int64) (int, error) {
	if off >= r.flight.size {
		return 0, io.EOF
	}
	there, err := r.reach(off, int64(len(p)))
	if err != nil {
		return 0, err
	}
	if there > 0 {
		return r.file.ReadAt(p, off)
	}
	r.mu.Lock()
	if r.source == nil {
		r.source = r.flight.source(r.ctx)
	}
	r.mu.Unlock()
	return r.source.ReadAt(p, off)
}

func (r *arrivingReader) Read(p []byte) (int, error) {
	left := r.flight.size - r.pos
	if left <= 0 {
		return 0, io.EOF
	}
	if there, err := r.reach(r.pos, 1); err != nil {
		return 0, err
	} else if there > 0 {
		p = p[:min(int64(len(p)), there)]
	} else {
		p = p[:min(int64(len(p)), left)]
	}
	n, err := r.ReadAt(p, r.pos)
	r.pos += int64(n)
	if n > 0 {
		err = nil
	}
	return n, err
}

// SendTo sends the next bytes to a connection. What has arrived leaves from the copy's file,
// which the kernel does without this program.
func (r *arrivingReader) SendTo(w io.Writer, n int64) (sent int64, err error) {
	for n = min(n, r.flight.size-r.pos); sent < n && err == nil; {
		var there, m int64
		if there, err = r.reach(r.pos, 1); err != nil {
			break
		}
		if there = min(there, n-sent); there == 0 { // it would be waited for in vain
			m, err = io.CopyN(w, struct{ io.Reader }{r}, n-sent)
			return sent + m, err
		}
		if _, err = r.file.Seek(r.pos, io.SeekStart); err == nil {
			m, err = io.CopyN(w, r.file, there)
		}
		sent, r.pos = sent+m, r.pos+m
	}
	return sent, err
}

func (r *arrivingReader) Seek(offset int64, whence int) (int64, error) {
	pos, err := seek(r.pos, r.flight.size, offset, whence)
	if err == nil {
		r.pos = pos
	}
	return pos, err
}

func (r *arrivingReader) Close() error {
	r.leave()
	err := r.file.Close()
	if r.source != nil {
		err = errors.Join(err, r.source.Close())
	}
	return err
}
