package backups

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"

	"github.com/jackc/pgx/v5"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/errgroup"

	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/service/store"
	bytestore "crelvo/internal/store"
)

// Restoring brings a backup back: its bytes into a store, and its records into an empty
// database. One that ended in the middle can be begun again, and goes on with the bytes.
type Restoring struct {
	From     *Target
	Backup   Manifest
	Database string
	// Store is the address of the store, or "" for Folder, which is the one in the data
	// folder; Local is for parts on their way.
	Store, Folder, Local string

	files, bytes atomic.Int64
}

// Done tells how many files, with how many bytes, are there.
func (r *Restoring) Done() (files, bytes int64) { return r.files.Load(), r.bytes.Load() }

// Restore does it. Each file is compared with its digest on its way.
func (r *Restoring) Restore(ctx context.Context) (err error) {
	for _, p := range []Part{r.Backup.Listed, r.Backup.Records} {
		sum, err := p.digest()
		if err == nil {
			err = r.From.look(ctx, sum, p.Size, false)
		}
		if errors.Is(err, bytestore.ErrDamaged) || errors.Is(err, bytestore.ErrMissing) {
			err = damaged(err)
		}
		if err != nil {
			return err
		}
	}
	row, to, err := r.openStore()
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, to.Close()) }()
	if row.Identity, err = r.meet(to); err != nil {
		return err
	}
	group, copying := errgroup.WithContext(ctx)
	group.SetLimit(copies)
	err = r.From.each(ctx, []Manifest{r.Backup}, func(sum [32]byte, size int64) error {
		group.Go(func() error { return r.one(copying, to, sum, size) })
		return copying.Err()
	})
	if failed := group.Wait(); failed != nil {
		err = failed
	}
	if err != nil {
		return err
	}
	return r.records(ctx, row)
}

func (r *Restoring) openStore() (record.Store, bytestore.Store, error) {
	if r.Store != "" {
		return store.OpenAt(r.Store, r.Local)
	}
	f, err := bytestore.OpenFolder(r.Folder)
	if err != nil {
		return record.Store{}, nil, err
	}
	return record.Store{Kind: record.FolderStore}, f, nil
}

// meet gives the store its name. One that has another name than one that a restore gives is
// somebody else's.
func (r *Restoring) meet(to bytestore.Store) (string, error) {
	is, err := to.Identity()
	if err != nil {
		return "", err
	}
	const restored = "restored-"
	if is == "" {
		is = restored + strings.ToLower(rand.Text())
		return is, to.SetIdentity(is)
	}
	if !strings.HasPrefix(is, restored) {
		return "", fault.New(fault.Conflict, "store-of-another", "the store that the bytes are to go to is another Crelvo's").
			WithHint("Choose an empty folder, bucket or prefix.")
	}
	return is, nil
}

func (r *Restoring) one(ctx context.Context, to bytestore.Store, sum [32]byte, size int64) error {
	has, err := to.Has(ctx, sum)
	if err == nil && !has {
		err = r.copy(ctx, to, sum, size)
	}
	if err != nil {
		return fmt.Errorf("sha256 %s: %w", hex.EncodeToString(sum[:]), err)
	}
	r.files.Add(1)
	r.bytes.Add(size)
	return nil
}

func (r *Restoring) copy(ctx context.Context, to bytestore.Store, sum [32]byte, size int64) error {
	from, err := r.From.Open(ctx, sum, size)
	if err != nil {
		return err
	}
	defer from.Close()
	staged, err := to.Stage(ctx, from, size)
	if err != nil {
		return err
	}
	if staged.Digests.SHA256 != sum {
		return errors.Join(bytestore.ErrDamaged, staged.Discard())
	}
	return errors.Join(to.Keep(ctx, staged), staged.Discard())
}

func damaged(err error) error {
	return fault.New(fault.Invalid, "bad-backup", "what the backup consists of is not what was written").
		WithHint("Restore another one; crelvo backup verify says which are whole.").WithCause(err)
}

// records loads the records, all of them or none.
func (r *Restoring) records(ctx context.Context, row record.Store) error {
	from, err := r.From.open(ctx, r.Backup.Records)
	if err != nil {
		return err
	}
	defer from.Close()
	plain, err := zstd.NewReader(bufio.NewReaderSize(from, 1<<20))
	if err != nil {
		return err
	}
	defer plain.Close()
	err = record.Load(ctx, r.Database, r.Backup.Schema, plain, func(ctx context.Context, tx pgx.Tx) error {
		return record.StoredElsewhere(ctx, tx, row)
	})
	if errors.Is(err, record.ErrNotEmpty) {
		return fault.New(fault.Conflict, "database-not-empty", "the database has something in it already").
			WithHint("Restore into an empty one: another data folder, or another --database.")
	}
	return err
}
