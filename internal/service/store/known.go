package store

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/minio/minio-go/v7/pkg/credentials"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/secret"
	bytestore "crelvo/internal/store"
)

// opened is a store, as it is used here.
type opened struct {
	record.Store
	bytes *measured
	// away is why it is not used: it could not be asked yet which store it is. nil of one
	// that is.
	away error
}

// known are the stores that there are.
type known struct {
	all  []*opened
	byID map[int16]*opened
	main *opened // the default one
}

// several tells whether bytes may be in more than one store.
func (k *known) several() bool { return len(k.all) > 1 }

// Load reads which stores there are, and opens those that it did not know.
func (s *Store) Load(ctx context.Context) error {
	s.loading.Lock()
	defer s.loading.Unlock()
	rows, err := s.DB.Stores(ctx)
	if err != nil {
		return err
	}
	before, now := s.known.Load(), &known{byID: map[int16]*opened{}}
	for _, row := range rows {
		o, err := s.open(ctx, before, row)
		if err != nil {
			return err
		}
		now.all, now.byID[row.ID] = append(now.all, o), o
		if row.Default {
			now.main = o
		}
	}
	if now.main == nil {
		return errors.New("none of the stores is the default one")
	}
	s.known.Store(now)
	s.places.Purge()
	return nil
}

// open gives a store, the one of before if it is the same still.
func (s *Store) open(ctx context.Context, before *known, row record.Store) (*opened, error) {
	if before != nil {
		if was, ok := before.byID[row.ID]; ok && was.away == nil && string(was.Raw) == string(row.Raw) &&
			was.Kind == row.Kind && string(was.Secret) == string(row.Secret) {
			return &opened{Store: row, bytes: &measured{was.bytes.Store, s.measures, row.Name}}, nil
		}
	}
	bytes, err := s.make(row)
	if err != nil {
		return nil, err
	}
	o := &opened{Store: row, bytes: &measured{bytes, s.measures, row.Name}}
	if err := s.know(ctx, o); err != nil {
		if !isAway(err) {
			return nil, err
		}
		s.Log.Warn("a store cannot be reached; it is used as soon as it can", "store", row.Name, "error", err)
		o.away = err
	}
	return o, nil
}

// isAway tells whether err means that a store may answer later.
func isAway(err error) bool {
	return errors.Is(err, bytestore.ErrAway) || errors.Is(err, bytestore.ErrRefused)
}

// make opens the store that a record describes, without asking it anything.
func (s *Store) make(row record.Store) (bytestore.Store, error) {
	is := row.Settings
	if row.Kind == record.FolderStore {
		if is.Folder == "" {
			return s.folder, nil
		}
		if _, err := os.Stat(is.Folder); err != nil {
			return nil, fault.New(fault.Internal, "store-gone", "the folder %s of the store %s is not there", is.Folder,
				row.Name).WithHint("Bring it back, or mount it, and start again.").WithCause(err)
		}
		f, err := bytestore.OpenFolder(is.Folder)
		if err != nil {
			return nil, s.Fault(err)
		}
		f.Reserve = s.Settings.Reserve
		return f, nil
	}
	with, err := s.credentials(row)
	if err != nil {
		return nil, err
	}
	made, err := bucketOf(is, with, bytestore.S3Options{Cache: s.Settings.Cache, Reserve: s.Settings.Reserve,
		Local: filepath.Join(s.Settings.Folder, "stores", fmt.Sprint(row.ID))})
	if err != nil {
		return nil, fault.New(fault.Invalid, "bad-store", "the store %s cannot be used: %v", row.Name, err)
	}
	return made, nil
}

func bucketOf(is record.StoreSettings, with *credentials.Credentials, o bytestore.S3Options) (bytestore.Store, error) {
	o.Endpoint, o.Bucket, o.Prefix, o.Region = is.Endpoint, is.Bucket, is.Prefix, is.Region
	o.Addressing, o.Encryption, o.Credentials = is.Addressing, is.Encryption, with
	made, err := bytestore.OpenS3(o)
	if err != nil {
		return nil, err // not a nil pointer in an interface
	}
	return made, nil
}

// OpenAt opens a store that is on no record by its address, as people write it. local is a
// folder for parts on their way.
func OpenAt(address, local string) (record.Store, bytestore.Store, error) {
	row, err := addressed(address)
	if err != nil {
		return row, nil, err
	}
	if row.Kind == record.FolderStore {
		f, err := bytestore.OpenFolder(row.Settings.Folder)
		if err != nil {
			return row, nil, fault.New(fault.Invalid, "bad-store", "the folder %s cannot be used: %v", address, err)
		}
		return row, f, nil
	}
	with := credentials.NewEnvAWS()
	if row.Settings.Credentials == machineCredentials {
		with = credentials.NewIAM("")
	}
	made, err := bucketOf(row.Settings, with, bytestore.S3Options{Local: local})
	if err != nil {
		err = fault.New(fault.Invalid, "bad-store", "%s cannot be used: %v", address, err)
	}
	return row, made, err
}

// The ways in which an object store's key is known.
const (
	keptCredentials        = "kept"
	environmentCredentials = "environment"
	machineCredentials     = "machine"
)

func (s *Store) credentials(row record.Store) (*credentials.Credentials, error) {
	switch row.Settings.Credentials {
	case environmentCredentials:
		return credentials.NewEnvAWS(), nil
	case machineCredentials:
		return credentials.NewIAM(""), nil
	}
	is, err := s.safe.OpenSignIn(row.Secret, secret.ObjectStore)
	if err != nil {
		return nil, err
	}
	return credentials.NewStaticV4(row.Settings.AccessKey, is.Secret, ""), nil
}

// know makes sure that a store is the one that is on record. Two that never met are
// introduced.
func (s *Store) know(ctx context.Context, o *opened) error {
	here, err := o.bytes.Identity()
	if err != nil {
		return s.Fault(err)
	}
	expected := o.Identity
	if here == expected && here != "" {
		return nil
	}
	if expected != "" && !s.Settings.AdoptStore {
		what := "another store"
		if here == "" {
			what = "an empty store"
		}
		return fault.New(fault.Internal, "other-store", "the %s has %s, and not the one that the database is about",
			s.where(o.Store), what).
			WithHint("Name the one that belongs to the database, or the other way around; nodes need the same store. If the " +
				"store was lost and this one is to take its place, start once with --adopt-store.")
	}
	if here == "" {
		here = strings.ToLower(rand.Text())
		if err := o.bytes.SetIdentity(here); err != nil {
			return s.Fault(err)
		}
	}
	set, err := s.DB.TakeStoreIdentity(ctx, o.ID, expected, here)
	if err == nil && !set {
		err = fault.New(fault.Internal, "other-store",
			"another node has taken the database for another store at this very moment").
			WithHint("All nodes need the same store.")
	}
	o.Identity = here
	return err
}

// where says where a store is, as people call it.
func (s *Store) where(row record.Store) string {
	switch {
	case row.Kind == record.S3Store:
		return fmt.Sprintf("bucket %s at %s", strings.TrimSuffix(row.Settings.Bucket+"/"+row.Settings.Prefix, "/"),
			row.Settings.Endpoint)
	case row.Settings.Folder != "":
		return "folder " + row.Settings.Folder
	}
	return "data folder"
}

// Hear takes note of other stores.
func (s *Store) Hear(c record.Change) error {
	if c.Kind != record.OfStore {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Second)
	defer cancel()
	return s.Load(ctx)
}

// lookForAway tries again to reach stores that could not be reached, and notices those that
// cannot be any more before somebody needs them.
func (s *Store) lookForAway(ctx context.Context) error {
	quiet := time.Since(s.lookedAt) < lookEvery
	for _, o := range s.known.Load().all {
		if o.away != nil {
			return s.Load(ctx)
		}
		if o.bytes.Away() != nil || !quiet {
			_, _ = o.bytes.Identity() // its health is noted, whatever it answers
		}
	}
	if !quiet {
		s.lookedAt = time.Now()
	}
	return nil
}

// of is a store by its id, to be used; it fails in every way if it is away.
func (s *Store) of(id int16) (bytestore.Store, error) {
	o := s.known.Load().byID[id]
	if o == nil {
		return nil, s.Fault(fmt.Errorf("%w: there is no such store any more", bytestore.ErrMissing))
	}
	if o.away != nil {
		return nil, s.Fault(o.away)
	}
	return o.bytes, nil
}

// in is the store that what is new in a repository goes to. What is sent to a chain goes to
// that of the repository which takes what is published to it.
func (s *Store) in(r catalog.Repository) (int16, bytestore.Store, error) {
	if r.Chain != nil {
		to, _ := s.directory.RepositoryByID(cmp.Or(r.Chain.ReleasesTo, r.Chain.SnapshotsTo))
		r.StoreID = to.StoreID
	}
	id := r.StoreID
	if id == 0 {
		id = s.known.Load().main.ID
	}
	bytes, err := s.of(id)
	return id, bytes, err
}

// Free tells how many bytes of files the default store has room for; ok is false if nobody
// knows.
func (s *Store) Free() (free int64, ok bool, err error) {
	main := s.known.Load().main
	if main.Kind != record.FolderStore {
		return 0, false, nil
	}
	free, err = main.bytes.Free()
	return free, err == nil, err
}

// Concerns are stores that do not answer.
func (s *Store) Concerns() (found []act.Concern) {
	for _, o := range s.known.Load().all {
		err := o.away
		if err == nil {
			err = o.bytes.Away()
		}
		if err != nil {
			found = append(found, act.Concern{Level: "wrong",
				What: fmt.Sprintf("The store %s (%s) cannot be used: %s", o.Name, s.where(o.Store), because(err)),
				Do: "Look at the object store, and at the way to it. What is kept on the disks of the nodes is served " +
					"meanwhile; everything goes on by itself once it answers.", Page: "/stores"})
		}
	}
	return found
}

// because is an error without what kind of error it is.
func because(err error) string {
	if f := (*fault.Error)(nil); errors.As(err, &f) && f.Cause != nil {
		err = f.Cause
	}
	text := err.Error()
	for _, kind := range []error{bytestore.ErrAway, bytestore.ErrRefused, bytestore.ErrDamaged} {
		text = strings.TrimPrefix(text, kind.Error()+": ")
	}
	return text
}

// ids of all stores, those first that are wanted first.
func (k *known) ids(first []int16) []int16 {
	ids := slices.Clone(first)
	for _, o := range k.all {
		if !slices.Contains(ids, o.ID) {
			ids = append(ids, o.ID)
		}
	}
	return ids
}
