package store

import (
	"bytes"
	"context"
	"crypto/md5"
	"crypto/rand"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/minio/minio-go/v7"
)

// piece is one object of a file.
type piece struct {
	Name string `json:"name"`
	Size int64  `json:"size"`
}

// pieces tell of what a file consists.
type pieces struct {
	Pieces []piece `json:"pieces"`
	Size   int64   `json:"size"`
	CRC32C uint32  `json:"crc32c"` // of all of it
}

const (
	// slots is how many parts of one upload may be on their way, the one that is filled
	// included.
	slots = 3
	// heldInMemory is up to how much of an upload is not written to the disk.
	heldInMemory = 256 << 10
)

// upload takes what is written to it to the object store: what has more than partSize as
// an object in parts, which are sent while the next one is filled. What has no more is
// held here. It is used by one goroutine.
type upload struct {
	s       *S3
	ctx     context.Context
	memory  []byte
	file    *os.File // of slots parts; removed from its folder already
	at      *slot    // the one that is filled; nil before there is one
	free    chan *slot
	total   int64
	crc     hash.Hash32
	name    string     // of the object; "" before the first part is sent
	id      string     // of the upload in parts
	mu      sync.Mutex // for what follows
	parts   []minio.CompletePart
	failure error
}

// slot is where one part is held.
type slot struct {
	from   int64 // in the file
	filled int64
	crc    hash.Hash32
}

func (s *S3) newUpload(ctx context.Context) *upload {
	return &upload{s: s, ctx: ctx, crc: crc32.New(castagnoli)}
}

// Write implements io.Writer.
func (u *upload) Write(p []byte) (n int, err error) {
	if u.file == nil && len(u.memory)+len(p) <= heldInMemory {
		u.memory = append(u.memory, p...)
		u.took(p)
		return len(p), nil
	}
	if u.file == nil {
		if err := u.toDisk(); err != nil {
			return 0, err
		}
	}
	for n < len(p) {
		if u.at.filled == partSize {
			if err := u.sendPart(); err != nil {
				return n, err
			}
		}
		m := min(partSize-u.at.filled, int64(len(p)-n))
		written, err := u.file.WriteAt(p[n:n+int(m)], u.at.from+u.at.filled)
		u.at.filled += int64(written)
		u.at.crc.Write(p[n : n+written])
		u.took(p[n : n+written])
		n += written
		if err != nil {
			return n, err
		}
	}
	return n, nil
}

func (u *upload) took(p []byte) {
	u.total += int64(len(p))
	u.crc.Write(p)
}

// toDisk goes on with a file that nobody else sees, and that is gone with this process.
func (u *upload) toDisk() (err error) {
	if u.file, err = os.CreateTemp(u.s.spool, "part."); err != nil {
		return err
	}
	if err := os.Remove(u.file.Name()); err != nil {
		return err
	}
	u.free = make(chan *slot, slots)
	for i := range slots {
		u.free <- &slot{from: int64(i) * partSize, crc: crc32.New(castagnoli)}
	}
	u.at = <-u.free
	_, err = u.file.WriteAt(u.memory, u.at.from)
	u.at.filled = int64(len(u.memory))
	u.at.crc.Write(u.memory)
	u.memory = nil
	return err
}

// sendPart sends what is filled, and goes on with a free slot.
func (u *upload) sendPart() error {
	if u.name == "" {
		name := "large/" + strings.ToLower(rand.Text())
		also := map[string]string{}
		if !u.s.byMD5.Load() {
			also["X-Amz-Checksum-Algorithm"] = "CRC32C"
		}
		err := u.s.ask(u.ctx, answersWithin, func(ctx context.Context) (err error) {
			u.id, err = u.s.core.NewMultipartUpload(ctx, u.s.bucket, u.s.object(name), minio.PutObjectOptions{
				ServerSideEncryption: u.s.sse, ContentType: "application/octet-stream", UserMetadata: also})
			return err
		})
		if err != nil {
			return err
		}
		u.name = name
	}
	if len(u.parts) == maxPartCount {
		return fmt.Errorf("a file of more than %d bytes does not fit into an object store", int64(maxPartCount)*partSize)
	}
	u.mu.Lock() // parts before it may be arriving
	u.parts = append(u.parts, minio.CompletePart{PartNumber: len(u.parts) + 1})
	full, number := u.at, len(u.parts)
	u.mu.Unlock()
	go func() {
		part, err := u.s.sendPart(u, full, number)
		u.mu.Lock()
		u.parts[number-1] = part
		u.failure = errors.Join(u.failure, err)
		u.mu.Unlock()
		full.filled = 0
		full.crc.Reset()
		u.free <- full
	}()
	select {
	case u.at = <-u.free:
	case <-u.ctx.Done():
		u.at = &slot{crc: crc32.New(castagnoli)} // it is not used
		return u.ctx.Err()
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.failure
}

// sendPart sends one part, of which the object store must confirm that it has what was
// sent.
func (s *S3) sendPart(u *upload, of *slot, number int) (minio.CompletePart, error) {
	var sum [4]byte
	binary.BigEndian.PutUint32(sum[:], of.crc.Sum32())
	crc := base64.StdEncoding.EncodeToString(sum[:])
	for {
		byMD5 := s.byMD5.Load()
		o := minio.PutObjectPartOptions{DisableContentSha256: true, SSE: s.sse}
		if byMD5 {
			whole := md5.New()
			if _, err := io.Copy(whole, io.NewSectionReader(u.file, of.from, of.filled)); err != nil {
				return minio.CompletePart{}, err
			}
			o.Md5Base64 = base64.StdEncoding.EncodeToString(whole.Sum(nil))
		} else {
			o.CustomHeader = map[string][]string{"X-Amz-Checksum-Crc32c": {crc}}
		}
		var part minio.ObjectPart
		err := s.ask(u.ctx, stallsFor+answersWithin, func(ctx context.Context) (err error) {
			part, err = s.core.PutObjectPart(ctx, s.bucket, s.object(u.name), u.id, number,
				io.NewSectionReader(u.file, of.from, of.filled), of.filled, o)
			return err
		})
		switch {
		case err != nil:
			return minio.CompletePart{}, err
		case byMD5:
			return minio.CompletePart{PartNumber: number, ETag: part.ETag}, nil
		case part.ChecksumCRC32C == crc:
			return minio.CompletePart{PartNumber: number, ETag: part.ETag, ChecksumCRC32C: crc}, nil
		case part.ChecksumCRC32C != "":
			return minio.CompletePart{}, fmt.Errorf("%w: it got another part than was sent", ErrAway)
		}
		s.byMD5.Store(true) // it does not say
	}
}

// end completes the object, if there is one, and tells of what the file consists; nil if it
// is held here. After a failure nothing of it is left.
func (u *upload) end() (*pieces, error) {
	if u.name == "" {
		return nil, nil
	}
	err := u.sendPart() // the last one may be short
	for range slots - 1 {
		select {
		case <-u.free:
		case <-u.ctx.Done():
			err = errors.Join(err, u.ctx.Err())
		}
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	if err = errors.Join(err, u.failure); err != nil {
		return nil, err
	}
	err = u.s.ask(u.ctx, completesWithin, func(ctx context.Context) error {
		_, err := u.s.core.CompleteMultipartUpload(ctx, u.s.bucket, u.s.object(u.name), u.id, u.parts,
			minio.PutObjectOptions{})
		return err
	})
	if err == nil {
		err = u.s.isThere(u.ctx, piece{u.name, u.total})
	}
	if err != nil {
		return nil, err
	}
	return &pieces{Pieces: []piece{{u.name, u.total}}, Size: u.total, CRC32C: u.crc.Sum32()}, nil
}

// abandon drops what was sent of an object that is not completed.
func (u *upload) abandon() {
	if u.name == "" {
		return
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(u.ctx), answersWithin)
	defer cancel()
	// What cannot be dropped now is dropped by Tidy.
	_ = u.s.ask(ctx, 0, func(ctx context.Context) error {
		return u.s.core.AbortMultipartUpload(ctx, u.s.bucket, u.s.object(u.name), u.id)
	})
	_ = u.s.remove(ctx, u.name) // where it was completed after all
}

// content gives what is held here.
func (u *upload) content() io.ReadSeeker { return io.NewSectionReader(u, 0, u.total) }

// ReadAt reads what is held here.
func (u *upload) ReadAt(p []byte, off int64) (int, error) {
	if u.file == nil {
		return bytes.NewReader(u.memory).ReadAt(p, off)
	}
	return io.NewSectionReader(u.file, u.at.from, u.at.filled).ReadAt(p, off)
}

// sumMD5 is of what is held here.
func (u *upload) sumMD5() (sum [16]byte) {
	whole := md5.New()
	_, _ = io.Copy(whole, u.content()) // what cannot be read cannot be sent either
	whole.Sum(sum[:0])
	return sum
}

func (u *upload) close() error {
	if u.file == nil {
		return nil
	}
	return u.file.Close()
}

// isThere makes sure that an object is there and has its size.
func (s *S3) isThere(ctx context.Context, p piece) error {
	return s.ask(ctx, answersWithin, func(ctx context.Context) error {
		info, err := s.core.StatObject(ctx, s.bucket, s.object(p.Name), minio.StatObjectOptions{})
		if err == nil && info.Size != p.Size {
			err = fmt.Errorf("%w: there are %d bytes of %d", ErrDamaged, info.Size, p.Size)
		}
		return err
	})
}

// s3Staged is bytes on their way into a bucket.
type s3Staged struct {
	s    *S3
	held *upload // what has no more than partSize and came at once; or nil
	of   *pieces // of anything else
	// reading reads what is not held here.
	reading *objectReader
	copied  string // a file with all of it; "" if there is none
	digest  [32]byte
	note    string // "" if none was written
	stored  bool   // it is kept
	pointed bool   // what is stored consists of these pieces
	left    bool
	// putBack makes what was begun, and was not stored, a begun file again, and ended
	// forgets that it was; both are nil for what was not begun.
	putBack, ended func(ctx context.Context) error
}

// ReadAt implements io.ReaderAt.
func (t *s3Staged) ReadAt(p []byte, off int64) (int, error) {
	if t.held != nil {
		return t.held.ReadAt(p, off)
	}
	return t.reading.ReadAt(p, off)
}

func (t *s3Staged) discard() error {
	if t.left {
		return nil
	}
	var errs []error
	if t.note != "" {
		errs = append(errs, os.Remove(t.note))
	}
	return errors.Join(append(errs, t.close())...)
}

// close lets go of all but the note.
func (t *s3Staged) close() error {
	var errs []error
	ctx, cancel := context.WithTimeout(context.Background(), answersWithin)
	defer cancel()
	switch {
	case !t.stored && t.putBack != nil:
		errs = append(errs, t.putBack(ctx))
	case !t.pointed && t.of != nil:
		errs = append(errs, t.s.dropPieces(ctx, t.of.Pieces))
	}
	if t.stored && t.ended != nil {
		errs = append(errs, t.ended(ctx))
	}
	if t.held != nil {
		errs = append(errs, t.held.close())
	}
	if t.reading != nil {
		errs = append(errs, t.reading.Close())
	}
	if t.copied != "" {
		if t.stored && t.s.cache != nil {
			errs = append(errs, t.s.cache.adopt(t.copied, t.digest))
		} else {
			errs = append(errs, os.Remove(t.copied))
		}
	}
	return errors.Join(errs...)
}

func (t *s3Staged) leave() (Leftover, error) {
	t.left = true
	return Leftover{note: t.note}, t.close()
}

func (s *S3) dropPieces(ctx context.Context, all []piece) error {
	var errs []error
	for _, p := range all {
		errs = append(errs, s.remove(ctx, p.Name))
	}
	return errors.Join(errs...)
}

// Stage implements Store.
func (s *S3) Stage(ctx context.Context, r io.Reader, length int64) (*Staged, error) {
	return s.stage(ctx, r, length, nil)
}

// StageOpenly implements Store.
func (s *S3) StageOpenly(ctx context.Context, r io.Reader, length int64, w Watcher) (*Staged, error) {
	return s.stage(ctx, r, length, w)
}

func (s *S3) stage(ctx context.Context, r io.Reader, length int64, watcher Watcher) (*Staged, error) {
	if length >= 0 {
		r = &exactly{r: r, length: length}
	}
	u, staged := s.newUpload(ctx), &s3Staged{s: s}
	var to io.Writer = u
	if watcher != nil {
		file, err := os.CreateTemp(s.spool, "open.")
		if err != nil {
			return nil, err
		}
		defer file.Close()
		staged.copied = file.Name()
		watcher.Begun(func() (*os.File, error) { return os.Open(file.Name()) })
		to = io.MultiWriter(&earlyWriter{file: file, watcher: watcher,
			room: func() (int64, error) { return 1, nil }}, u)
	}
	digester := newDigester()
	err := digester.copy(ctx, to, r, watcher != nil)
	var of *pieces
	if err == nil {
		if of, err = u.end(); err != nil {
			err = writeError{err}
		}
	}
	if err != nil {
		u.abandon()
		errs := []error{u.close()}
		if staged.copied != "" {
			errs = append(errs, os.Remove(staged.copied))
		}
		var w writeError
		if errors.As(err, &w) {
			return nil, errors.Join(append([]error{w.error}, errs...)...)
		}
		return nil, fmt.Errorf("%w: %w", ErrCut, err)
	}
	if of == nil {
		staged.held = u
	} else {
		staged.of, staged.reading = of, s.read(context.WithoutCancel(ctx), *of)
		if err := u.close(); err != nil {
			return nil, err
		}
	}
	sum := digester.sum()
	staged.digest = sum.SHA256
	return &Staged{Digests: sum, CRC32C: u.crc.Sum32(), Arrived: time.Now(), file: staged}, nil
}

// Keep implements Store.
func (s *S3) Keep(ctx context.Context, st *Staged) error {
	staged, ok := st.file.(*s3Staged)
	if !ok || staged.s != s {
		return errors.New("staged in another store")
	}
	digest := st.Digests.SHA256
	if staged.note == "" {
		note := filepath.Join(s.notes, hex.EncodeToString(digest[:])+"."+rand.Text())
		if err := os.WriteFile(note, nil, 0o600); err != nil {
			return err
		}
		staged.note = note
	}
	if st.Digests.Size <= partSize {
		var content io.ReadSeeker
		if staged.held != nil {
			content = staged.held.content()
		} else {
			content = io.NewSectionReader(staged.reading, 0, st.Digests.Size)
		}
		err := s.put(ctx, small(digest), content, st.Digests.Size, st.Digests.MD5,
			map[string]string{crcName: fmt.Sprintf("%08x", st.CRC32C)})
		staged.stored = staged.stored || err == nil
		return err
	}
	there, err := s.lookUp(ctx, digest)
	if err == nil {
		err = s.areThere(ctx, there)
	}
	if errors.Is(err, ErrMissing) || errors.Is(err, ErrDamaged) {
		// Somebody who reclaims the same bytes may have taken ours for those of before.
		if err = s.areThere(ctx, staged.of); errors.Is(err, ErrMissing) {
			return fmt.Errorf("%w: what was sent is gone from it again", ErrAway)
		}
		if err == nil {
			err = s.putJSON(ctx, small(digest)+at, staged.of)
		}
		if err == nil {
			staged.pointed = true
			s.forget(digest)
		}
	}
	staged.stored = staged.stored || err == nil
	return err
}

// crcName is the name of what objects of small files say of their CRC-32C.
const crcName = "Crc32c"

func (s *S3) areThere(ctx context.Context, of *pieces) error {
	for _, p := range of.Pieces {
		if err := s.isThere(ctx, p); err != nil {
			return err
		}
	}
	return nil
}

// Leftovers implements Store.
func (s *S3) Leftovers(context.Context) (found []Leftover, err error) {
	for _, name := range s.left {
		path := filepath.Join(s.notes, name)
		if _, err := os.Stat(path); err != nil {
			continue // it was looked after
		}
		digest, _, _ := strings.Cut(name, ".")
		if raw, err := hex.DecodeString(digest); err == nil && len(raw) == 32 {
			found = append(found, Leftover{SHA256: [32]byte(raw), note: path})
		}
	}
	return found, nil
}

// Forget implements Store.
func (s *S3) Forget(l Leftover) error { return os.Remove(l.note) }

// Close implements Store.
func (s *S3) Close() error {
	s.transport.CloseIdleConnections()
	return nil
}
