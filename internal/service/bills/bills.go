// Package bills reads the bills of materials that come with versions, so that it can be told what
// these have inside.
package bills

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync/atomic"
	"time"

	"crelvo/internal/core/attest"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/locked"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/store"
)

// Bills reads what has come. It is safe for use by several at once.
type Bills struct {
	*act.Act
	store *store.Store
	come  atomic.Bool // some may have come since it was looked for them
}

// New makes the room.
func New(a *act.Act, store *store.Store) *Bills {
	s := &Bills{Act: a, store: store}
	s.come.Store(true)
	return s
}

// Purge implements act.Purger.
func (s *Bills) Purge() { s.come.Store(true) }

// Hear implements act.Hearer.
func (s *Bills) Hear(c record.Change) error {
	if c.Kind == record.OfPackage {
		if _, has := s.Ecosystem(c.Ecosystem).(ecosystem.Maturing); has {
			s.come.Store(true)
		}
	}
	return nil
}

// Chores implements act.Busy.
func (s *Bills) Chores() []act.Chore {
	return []act.Chore{{Every: 5 * time.Second, What: "reading bills of materials", Do: func(ctx context.Context) error {
		if !s.come.Swap(false) {
			return nil
		}
		err := s.Read(ctx)
		if err != nil {
			s.come.Store(true)
		}
		return err
	}}}
}

const (
	// atOnce is how many are read in one go.
	atOnce = 100
	// largest is how long one may be, in bytes, mostEntries how many entries of it count, and mostAbout
	// of how many versions it may be about.
	largest, mostEntries, mostAbout = 16 << 20, 50_000, 100
)

// Read reads all that have not been read. One whose bytes cannot be read at the moment stays for the
// next time.
func (s *Bills) Read(ctx context.Context) error {
	var failed error
	for {
		all, err := s.DB.UnreadBills(ctx, atOnce)
		if err != nil || len(all) == 0 {
			return errors.Join(err, failed)
		}
		ids := make([]int64, len(all))
		for i, b := range all {
			ids[i] = b.ID
		}
		files, err := s.DB.FilesOf(ctx, ids)
		if err != nil {
			return err
		}
		read := 0
		for _, b := range all {
			err := s.read(ctx, b, files[b.ID])
			if err == nil {
				read++
			} else if failed == nil {
				failed = fmt.Errorf("the bill %s of %s: %w", b.Version, b.Name, err)
			}
		}
		if read == 0 {
			return failed
		}
	}
}

// read reads one, and notes what it says.
func (s *Bills) read(ctx context.Context, b record.UnreadBill, files []catalog.File) error {
	bill := record.Bill{VersionID: b.ID, ReadAt: s.Now()}
	if b.About != "" {
		bill.About = []string{b.About}
	}
	for _, f := range files {
		if !record.MayBeBill(f.MediaType) {
			continue
		}
		entries, about, why, err := s.entries(ctx, f)
		if err != nil {
			return err
		}
		if why != "" {
			bill.Failure = why
			continue
		}
		bill.Entries = append(bill.Entries, entries...)
		if b.About == "" {
			bill.About = append(bill.About, about...)
		}
	}
	return s.DB.Within(ctx, func(tx *record.Tx) error {
		if err := tx.SetBill(ctx, bill); err != nil || len(bill.Entries) == 0 {
			return err
		}
		return tx.Tell(ctx, record.Change{Kind: record.OfPackage, RepositoryID: b.RepositoryID, Ecosystem: b.Ecosystem,
			Namespace: b.Namespace, Name: b.Name})
	})
}

// entries are what a file says, as far as advisories can be about it, and the versions that it says
// it is about; why is why it says nothing.
func (s *Bills) entries(ctx context.Context, f catalog.File) (all []purl.PURL, about []string, why string, err error) {
	if f.Digests.Size > largest {
		return nil, nil, fmt.Sprintf("it has more than %d MiB", largest>>20), nil
	}
	content, err := s.store.Open(ctx, f)
	if err != nil {
		if fault.Of(err).Code == "bytes-damaged" || fault.Of(err).Code == "bytes-missing" {
			return nil, nil, fault.Of(err).Message, nil
		}
		return nil, nil, "", err
	}
	raw, err := io.ReadAll(content)
	if err := errors.Join(err, content.Close()); err != nil {
		return nil, nil, "", err
	}
	document, subjects := attest.Bill(raw)
	if document == nil {
		return nil, nil, "it is no bill of materials in JSON", nil
	}
	found, _, err := locked.Read("", document)
	if err != nil {
		return nil, nil, err.Error(), nil
	}
	for _, p := range found {
		if purl.OSVName(p.PURL.Ecosystem) != "" && len(all) < mostEntries {
			all = append(all, p.PURL)
		}
	}
	for _, sum := range subjects[:min(len(subjects), mostAbout)] {
		about = append(about, "sha256:"+sum)
	}
	return all, about, "", nil
}
