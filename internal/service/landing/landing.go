// Package landing is about what comes from another Crelvo, on a disk or over the network: its bytes wait here until
// what they belong to is looked into and becomes visible.
package landing

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/budget"
	"crelvo/internal/core/bundle"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/publishing"
	"crelvo/internal/service/safety"
	"crelvo/internal/service/store"
	bytestore "crelvo/internal/store"
)

// Landing takes what comes. It is safe for use by several at once.
type Landing struct {
	*act.Act
	directory  *directory.Directory
	store      *store.Store
	publishing *publishing.Publishing
	safety     *safety.Safety
}

// New makes the room.
func New(a *act.Act, directory *directory.Directory, store *store.Store, publishing *publishing.Publishing,
	safety *safety.Safety) *Landing {
	return &Landing{Act: a, directory: directory, store: store, publishing: publishing, safety: safety}
}

const (
	// stays is for how long what came waits for what it belongs to.
	stays = 24 * time.Hour
	// landedFiles and landedBytes are how much comes before it is put on record, so that it need not come again.
	landedFiles = 64
	landedBytes = 64 << 20
)

// Chores implements act.Busy.
func (s *Landing) Chores() []act.Chore {
	return []act.Chore{{Every: time.Hour, What: "dropping what came and was not wanted in the end",
		Do: func(ctx context.Context) error { return s.DB.DropLanded(ctx, s.Now().Add(-stays)) }}}
}

// Usable are those of some bytes, by SHA-256, that need not come for some repositories: they came already, or are
// somewhere where the caller may read them.
func (s *Landing) Usable(
	ctx context.Context, caller access.Caller, sums [][]byte, to ...int64,
) (map[bundle.Sum]bool, error) {
	all := map[bundle.Sum]bool{}
	here, err := s.DB.BytesIn(ctx, sums, s.directory.ScopeOf(s.directory.Readable(caller)...))
	if err != nil {
		return nil, err
	}
	for sum := range here {
		all[sum] = true
	}
	for _, id := range to {
		landed, err := s.DB.Landed(ctx, id, sums)
		if err != nil {
			return nil, err
		}
		for sum := range landed {
			all[sum] = true
		}
	}
	return all, nil
}

// ErrLacking is that bytes are not here, which are to be.
var ErrLacking = errors.New("it did not come, and is not here")

// Keep has bytes that are here already wait with those that came, so that nobody takes them away. sizes are those of
// all of them, by SHA-256.
func (s *Landing) Keep(
	ctx context.Context, caller access.Caller, to catalog.Repository, sums [][]byte, sizes map[bundle.Sum]int64,
) error {
	usable, err := s.Usable(ctx, caller, sums, to.ID)
	if err != nil {
		return err
	}
	landed, err := s.DB.Landed(ctx, to.ID, sums)
	if err != nil {
		return err
	}
	more := int64(0)
	for _, sum := range sums {
		if !usable[bundle.Sum(sum)] {
			return fmt.Errorf("the file with SHA-256 %s: %w", hex.EncodeToString(sum), ErrLacking)
		}
		if _, there := landed[[32]byte(sum)]; !there {
			more += sizes[bundle.Sum(sum)]
		}
	}
	done, err := s.store.Room(ctx, to, more)
	if err != nil {
		return err
	}
	defer done()
	return s.DB.Within(ctx, func(tx *record.Tx) error { return tx.LandKnown(ctx, to.ID, sums, caller.Name, s.Now()) })
}

// Damage is that a file is not what it is said to be.
type Damage struct{ what string }

func (d *Damage) Error() string { return d.what }

// Cut is that files did not come to their end.
type Cut struct{ cause error }

func (c *Cut) Error() string { return c.cause.Error() }

// Unwrap gives the cause.
func (c *Cut) Unwrap() error { return c.cause }

// Receive takes those files that lack, each for a repository, and puts on record that they came; they are lacking no
// more then. What came before an error need not come again. The error is a *Damage, a *Cut, or our own.
func (s *Landing) Receive(
	ctx context.Context, caller access.Caller, from *bundle.Reader, lacking map[bundle.Sum]int64,
	to func(bundle.Sum) catalog.Repository,
) error {
	var staged []*store.Staging
	var at int64 // the repository that they came for
	bytes := int64(0)
	defer func() { discard(staged) }()
	land := func() error {
		if staged == nil {
			return nil
		}
		files, digests := make([]*bytestore.Staged, len(staged)), make([]catalog.Digests, len(staged))
		for i, st := range staged {
			files[i], digests[i] = st.File, st.Digests()
		}
		err := s.store.Recorded(ctx, files, func(tx *record.Tx) error {
			return tx.Land(ctx, at, digests, caller.Name, s.Now())
		})
		discard(staged)
		staged, bytes = nil, 0
		return err
	}
	for {
		sum, size, r, err := from.Next()
		if errors.Is(err, io.EOF) {
			return land()
		}
		if err != nil {
			return errors.Join(land(), &Cut{err})
		}
		wanted, ok := lacking[sum]
		if !ok {
			if _, err := io.Copy(io.Discard, r); err != nil {
				return errors.Join(land(), &Cut{err})
			}
			continue
		}
		if size != wanted {
			return &Damage{fmt.Sprintf("the file with SHA-256 %s has %d bytes, and is said to have %d", sum, size, wanted)}
		}
		where := to(sum)
		if where.ID != at || len(staged) == landedFiles || bytes+size > landedBytes {
			if err := land(); err != nil {
				return err
			}
			at = where.ID
		}
		st, err := s.store.Staging(ctx, where, r, size, sum.String())
		if err != nil {
			return errors.Join(land(), err)
		}
		if st.Digests().SHA256 != sum {
			st.Discard()
			return errors.Join(land(), &Damage{fmt.Sprintf("the file with SHA-256 %s was changed on its way", sum)})
		}
		staged, bytes = append(staged, st), bytes+size
		delete(lacking, sum)
	}
}

func discard(all []*store.Staging) {
	for _, st := range all {
		st.Discard()
	}
}

// Version is a version that comes, and where it goes to.
type Version struct {
	bundle.Version
	Key catalog.PackageKey
}

// Place is where a file of it belongs.
func (v Version) Place(f bundle.File) ecosystem.Place {
	return ecosystem.Place{Namespace: v.Key.Namespace, Name: v.Key.Name, Version: v.Version.Version,
		Upload: v.Upload, Snapshot: v.Snapshot, UploadedAt: v.UploadedAt,
		UploadCount: v.UploadCount, FileName: f.Name, Classifier: f.Classifier, Extension: f.Extension}
}

// Kept are its files; of those whose digests are known with all of them.
func (v Version) Kept(known map[[32]byte]catalog.Digests) (all []catalog.File) {
	for _, f := range v.Files {
		d, ok := known[f.SHA256]
		if !ok {
			d = catalog.Digests{Size: f.Size, SHA256: f.SHA256}
		}
		all = append(all, catalog.File{Name: f.Name, Classifier: f.Classifier, Extension: f.Extension, MediaType: f.MediaType,
			Digests: d})
	}
	return all
}

// Look finds out what a version is, by its files, which were kept waiting (Keep) and whose digests are given, and
// whether its repository lets it in; why is what speaks against it. That somebody else who waited for the same bytes
// has taken them in since does no harm.
func (s *Landing) Look(
	ctx context.Context, to catalog.Repository, v Version, known map[[32]byte]catalog.Digests,
) (p record.PlacedVersion, why string, err error) {
	ctx = budget.Afresh(ctx, budget.Default)
	e := s.Ecosystem(v.Key.Ecosystem)
	said, details := catalog.Details{Native: v.Said}, catalog.Details{}
	for i, f := range v.Kept(known) {
		if _, ok := known[f.Digests.SHA256]; !ok {
			return p, "", fault.New(fault.Conflict, "bytes-gone", "%s is not here any more", f.Name).
				WithHint("Begin again: what came need not come once more.")
		}
		of := said
		if i > 0 {
			of = catalog.Details{}
		}
		told, err := s.inspect(ctx, e, v.Place(v.Files[i]), f, of)
		if err != nil {
			if kind := fault.Of(err).Kind; ctx.Err() != nil || kind == fault.Internal || kind == fault.Unavailable {
				return p, "", err
			}
			return p, fault.Of(err).Message, nil
		}
		details = told.Merge(details)
		p.Files = append(p.Files, record.PlacedFile{Name: f.Name, Classifier: f.Classifier, Extension: f.Extension,
			MediaType: f.MediaType, Digests: f.Digests})
	}
	p.Key, p.Version, p.Upload, p.Snapshot, p.Details = v.Key, v.Version.Version, v.Upload, v.Snapshot, &details
	p.UploadedAt, p.UploadCount, p.By = v.UploadedAt, v.UploadCount, v.PublishedBy
	if at := v.PublishedAt; at.Before(s.Now()) {
		p.FirstAt = &at
	}
	judge, err := s.safety.Judge(ctx, to, v.Key)
	if err != nil {
		return p, "", err
	}
	if verdict := judge.Of(&catalog.Version{Version: p.Version, Upload: p.Upload, Snapshot: p.Snapshot,
		PublishedAt: v.PublishedAt, PublishedBy: p.By, Details: details, Files: v.Kept(known)}); verdict.Refused {
		return p, to.Name + " keeps it out: " + verdict.Why, nil
	}
	return p, "", nil
}

// sized is stored bytes that know how many they are.
type sized struct {
	io.ReaderAt
	size int64
}

func (s sized) Size() int64 { return s.size }

func (s *Landing) inspect(
	ctx context.Context, e ecosystem.Ecosystem, place ecosystem.Place, f catalog.File, said catalog.Details,
) (catalog.Details, error) {
	r, err := s.store.OpenBytes(ctx, f.Digests.SHA256, f.Digests.Size)
	if err != nil {
		return catalog.Details{}, s.store.Fault(err)
	}
	defer r.Close()
	return publishing.Inspected(ctx, e, place, sized{r, f.Digests.Size}, said)
}
