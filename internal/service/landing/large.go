package landing

import (
	"context"
	"errors"
	"fmt"
	"io"

	"crelvo/internal/core/access"
	"crelvo/internal/core/bundle"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	bytestore "crelvo/internal/store"
)

// ReceiveLarge takes one file for a repository, from where it was cut before, and puts on record that it came. open
// gives its bytes from one on; what has the same name goes on. The error is a *Damage, a *Cut, or our own.
func (s *Landing) ReceiveLarge(
	ctx context.Context, caller access.Caller, to catalog.Repository, name string, sum bundle.Sum, size int64,
	open func(from int64) (io.ReadCloser, error),
) error {
	begun, err := s.store.AllBegun(ctx, name)
	if err != nil {
		return err
	}
	came := int64(0)
	for _, b := range begun {
		if b.Name == name {
			came = b.Size
		}
	}
	if came < size {
		body, err := open(came)
		if err != nil {
			return err
		}
		came, err = s.store.Continue(ctx, to, name, came, io.LimitReader(body, size-came+1))
		err = errors.Join(err, body.Close())
		var told *fault.Error
		switch {
		case errors.Is(err, bytestore.ErrCut) && errors.As(err, &told): // there is no room for it, or the like
			return told
		case errors.Is(err, bytestore.ErrCut) || err == nil && came < size:
			return &Cut{errors.Join(err, fmt.Errorf("%d bytes of %d came", came, size))}
		case err != nil && came < size:
			return s.store.Fault(err)
		}
	}
	staged, err := s.store.StagingBegun(ctx, to, name)
	if err != nil {
		return s.store.Fault(err)
	}
	defer staged.Discard()
	if d := staged.Digests(); d.Size != size || d.SHA256 != sum {
		return errors.Join(&Damage{fmt.Sprintf("the file with SHA-256 %s was changed on its way", sum)},
			s.store.DropBegun(ctx, name))
	}
	if err := s.store.Recorded(ctx, []*bytestore.Staged{staged.File}, func(tx *record.Tx) error {
		return tx.Land(ctx, to.ID, []catalog.Digests{staged.Digests()}, caller.Name, s.Now())
	}); err != nil {
		return err
	}
	return s.store.DropBegun(ctx, name)
}
