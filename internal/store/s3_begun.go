package store

import (
	"context"
	"crypto/rand"
	"encoding"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"path"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
)

// begunState is what is known of a file that arrives in pieces: any node can go on with it.
type begunState struct {
	pieces
	// Digests are the states of the digests of what arrived, in the order of
	// catalog.Algorithms, and CRC that of the CRC-32C.
	Digests [4][]byte `json:"digests"`
	CRC     []byte    `json:"crc"`
}

// maxPieces is of how many pieces a file may consist: those of one that arrives in very
// many are put together.
const maxPieces = 64

// known makes an account of what arrived of its state.
func (b *begunState) known() (*arriving, error) {
	a := &arriving{digester: newDigester(), crc: crc32.New(castagnoli)}
	if b.Size == 0 {
		return a, nil
	}
	a.digester.size = b.Size
	for i, h := range a.digester.hashes {
		if err := h.(encoding.BinaryUnmarshaler).UnmarshalBinary(b.Digests[i]); err != nil {
			return nil, fmt.Errorf("%w: what was known of it cannot be read", ErrDamaged)
		}
	}
	if err := a.crc.(encoding.BinaryUnmarshaler).UnmarshalBinary(b.CRC); err != nil {
		return nil, fmt.Errorf("%w: what was known of it cannot be read", ErrDamaged)
	}
	return a, nil
}

func (b *begunState) know(a *arriving) (err error) {
	for i, h := range a.digester.hashes {
		if b.Digests[i], err = h.(encoding.BinaryMarshaler).MarshalBinary(); err != nil {
			return err
		}
	}
	b.CRC, err = a.crc.(encoding.BinaryMarshaler).MarshalBinary()
	b.CRC32C = a.crc.Sum32()
	return err
}

// begunName is the object that tells of a begun file, and stagedName, while it is being
// stored.
func begunName(name string) string  { return "begun/" + name }
func stagedName(name string) string { return "begun-staged/" + name }

// take takes a begun file in hand, which nobody else of this process has then.
func (s *S3) take(name string) (release func(), err error) {
	if !isBegunName(name) {
		return nil, fmt.Errorf("%q cannot be the name of a begun file", name)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.inHand[name] {
		return nil, ErrBusy
	}
	s.inHand[name] = true
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.inHand, name)
	}, nil
}

// Continue implements Store.
func (s *S3) Continue(ctx context.Context, name string, from int64, r io.Reader) (int64, error) {
	release, err := s.take(name)
	if err != nil {
		return 0, err
	}
	defer release()
	var b begunState
	if err := s.getJSON(ctx, begunName(name), &b); err != nil && !errors.Is(err, ErrMissing) {
		return 0, err
	}
	if b.Size != from {
		return b.Size, ErrOffset
	}
	known, err := b.known()
	if err != nil {
		return b.Size, err
	}
	u := s.newUpload(ctx)
	defer u.close()
	cut := known.take(ctx, u, r)
	if failed := (writeError{}); errors.As(cut, &failed) {
		u.abandon()
		return from, failed.error
	}
	// What arrived before its sender left stays.
	u.ctx = context.WithoutCancel(ctx)
	if err := s.continued(u.ctx, name, &b, u, known); err != nil {
		u.abandon()
		return from, err
	}
	if cut != nil {
		cut = fmt.Errorf("%w: %w", ErrCut, cut)
	}
	return b.Size, cut
}

// continued puts what an upload took behind what arrived before.
func (s *S3) continued(ctx context.Context, name string, b *begunState, u *upload, known *arriving) error {
	of, err := u.end()
	if err == nil && of == nil && u.total > 0 {
		sum := u.sumMD5()
		of = &pieces{Pieces: []piece{{"large/" + strings.ToLower(rand.Text()), u.total}}, Size: u.total}
		err = s.put(ctx, of.Pieces[0].Name, u.content(), u.total, sum, nil)
	}
	if err != nil {
		return err
	}
	if of != nil {
		b.Pieces, b.Size = append(b.Pieces, of.Pieces...), b.Size+of.Size
	}
	if err := b.know(known); err != nil {
		return err
	}
	var replaced []piece
	if len(b.Pieces) > maxPieces {
		if replaced, err = s.join(ctx, b); err != nil {
			return err
		}
	}
	if err := s.putJSON(ctx, begunName(name), b); err != nil {
		return err
	}
	return s.dropPieces(ctx, replaced)
}

// join makes one object of what arrived, and tells which it replaces.
func (s *S3) join(ctx context.Context, b *begunState) (replaced []piece, err error) {
	u := s.newUpload(ctx)
	defer u.close()
	from := s.read(ctx, b.pieces)
	defer from.Close()
	if _, err := io.Copy(u, from); err != nil {
		u.abandon()
		return nil, err
	}
	of, err := u.end()
	if err != nil {
		u.abandon()
		return nil, err
	}
	if of == nil { // it is small
		of = &pieces{Pieces: []piece{{"large/" + strings.ToLower(rand.Text()), u.total}}, Size: u.total}
		if err := s.put(ctx, of.Pieces[0].Name, u.content(), u.total, u.sumMD5(), nil); err != nil {
			return nil, err
		}
	}
	replaced, b.Pieces = b.Pieces, of.Pieces
	return replaced, nil
}

// AllBegun implements Store.
func (s *S3) AllBegun(ctx context.Context, prefix string) (all []Begun, err error) {
	err = s.list(ctx, begunName(prefix), func(name string, info minio.ObjectInfo) error {
		var b begunState
		err := s.getJSON(ctx, name, &b)
		if errors.Is(err, ErrMissing) {
			return nil
		}
		all = append(all, Begun{Name: path.Base(name), Size: b.Size, Since: info.LastModified})
		return err
	})
	return all, err
}

// StageBegun implements Store.
func (s *S3) StageBegun(ctx context.Context, name string) (*Staged, error) {
	release, err := s.take(name)
	if err != nil {
		return nil, err
	}
	defer release()
	var b begunState
	if err := s.getJSON(ctx, begunName(name), &b); err != nil {
		return nil, err
	}
	known, err := b.known()
	if err != nil {
		return nil, err
	}
	// It is moved: whoever sends more now begins anew, and cannot add to what is stored.
	if err := s.putJSON(ctx, stagedName(name), &b); err != nil {
		return nil, err
	}
	if err := s.remove(ctx, begunName(name)); err != nil {
		return nil, err
	}
	sum := known.digester.sum()
	ended := func(ctx context.Context) error { return s.remove(ctx, stagedName(name)) }
	return &Staged{Digests: sum, CRC32C: known.crc.Sum32(), Arrived: time.Now(),
		file: &s3Staged{s: s, of: &b.pieces, reading: s.read(context.WithoutCancel(ctx), b.pieces), digest: sum.SHA256,
			ended: ended, putBack: func(ctx context.Context) error {
				if err := s.putJSON(ctx, begunName(name), &b); err != nil {
					return err
				}
				return ended(ctx)
			}}}, nil
}

// DropBegun implements Store.
func (s *S3) DropBegun(ctx context.Context, name string) error {
	var b begunState
	err := s.getJSON(ctx, begunName(name), &b)
	if errors.Is(err, ErrMissing) {
		return nil
	}
	if err != nil && !errors.Is(err, ErrDamaged) {
		return err
	}
	if err := s.remove(ctx, begunName(name)); err != nil {
		return err
	}
	return s.dropPieces(ctx, b.Pieces)
}

// Tidy implements Store: parts of uploads that were never completed, and objects of large
// files that nothing leads to, because whoever sent them was killed.
func (s *S3) Tidy(ctx context.Context, untouched time.Time) error {
	for u := range s.core.Client.ListIncompleteUploads(ctx, s.bucket, s.object("large/"), true) {
		if u.Err != nil {
			return s.fault(u.Err)
		}
		if u.Initiated.After(untouched) {
			continue
		}
		if err := s.ask(ctx, answersWithin, func(ctx context.Context) error {
			return s.core.AbortMultipartUpload(ctx, s.bucket, u.Key, u.UploadID)
		}); err != nil && !errors.Is(err, ErrMissing) {
			return err
		}
	}
	lost := map[string]bool{}
	if err := s.list(ctx, "large/", func(name string, info minio.ObjectInfo) error {
		if info.LastModified.Before(untouched) {
			lost[name] = true
		}
		return nil
	}); err != nil || len(lost) == 0 {
		return err
	}
	// What leads to them is looked for afterwards: it may have come meanwhile.
	for _, where := range []string{"begun/", "begun-staged/", "bytes/"} {
		if err := s.list(ctx, where, func(name string, info minio.ObjectInfo) error {
			if where == "bytes/" && !strings.HasSuffix(name, at) {
				return nil
			}
			var of pieces
			if err := s.getJSON(ctx, name, &of); err != nil && !errors.Is(err, ErrMissing) {
				return err
			}
			if where == "begun-staged/" && info.LastModified.Before(untouched) {
				return s.remove(ctx, name) // whoever stored it did not come to the end of it
			}
			for _, p := range of.Pieces {
				delete(lost, p.Name)
			}
			return nil
		}); err != nil {
			return err
		}
	}
	for name := range lost {
		if err := s.remove(ctx, name); err != nil {
			return err
		}
	}
	return nil
}
