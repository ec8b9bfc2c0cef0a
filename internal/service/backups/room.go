// Package backups is about putting all records and bytes somewhere else too, and about
// bringing them back from there.
package backups

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/errgroup"

	"crelvo/internal/api"
	"crelvo/internal/core/access"
	"crelvo/internal/core/fault"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/store"
	bytestore "crelvo/internal/store"
)

const (
	// heldFor is after how long without a sign of its node a run is taken for dead.
	heldFor  = time.Minute
	noteEach = 5 * time.Second
	// copies is how many files are copied at the same time.
	copies = 4
	shown  = 50
	// mostMissing is how many missing files a backup names.
	mostMissing = 10_000
)

// Backups makes backups. It is safe for use by several at once.
type Backups struct {
	*act.Act
	act.Underway
	directory *directory.Directory
	store     *store.Store
}

// New makes the room.
func New(a *act.Act, directory *directory.Directory, store *store.Store) *Backups {
	return &Backups{Act: a, directory: directory, store: store}
}

// Chores implements act.Busy.
func (s *Backups) Chores() []act.Chore {
	return []act.Chore{{Every: time.Minute, What: "looking whether a backup is to be made", Do: s.due}}
}

// Runs lists the last runs.
func (s *Backups) Runs(ctx context.Context, caller access.Caller) ([]record.Backup, error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return nil, err
	}
	return s.DB.Backups(ctx, shown)
}

// Begin begins a backup to a folder or a bucket, and goes on with it in the background.
func (s *Backups) Begin(ctx context.Context, caller access.Caller, address string) (record.Backup, error) {
	if err := s.directory.Allow(caller, access.Manage, act.Everything); err != nil {
		return record.Backup{}, err
	}
	if address == "" {
		if address = s.Settings.BackupTo; address == "" {
			return record.Backup{}, act.Invalid("no-target", "say where the backup is to be, or give the server --backup-to")
		}
	}
	return s.begin(ctx, caller, address)
}

func (s *Backups) begin(ctx context.Context, caller access.Caller, address string) (record.Backup, error) {
	t, err := OpenTarget(address, filepath.Join(s.Settings.Folder, "backup"))
	if err != nil {
		return record.Backup{}, err
	}
	b, done, err := s.DB.BeginBackup(ctx, address, caller.Name, s.Now(), s.Now().Add(heldFor))
	if err == nil && !done {
		err = fault.New(fault.Conflict, "backup-under-way", "a backup is being made already").
			WithHint("crelvo backup list shows how far it is.")
	}
	if err != nil {
		return b, errors.Join(err, t.Close())
	}
	s.Go(func(ctx context.Context) {
		ctx = record.Patiently(ctx)
		done := s.Do("making a backup")
		defer done()
		m := &making{s: s, t: t, run: b}
		if err := errors.Join(m.make(ctx), t.Close()); err != nil {
			s.Log.Error("the backup failed", "target", address, "error", err)
			s.Worry("backup/"+address, act.Concern{Level: "wrong", Page: "/status",
				What: fmt.Sprintf("The backup to %s failed at %s: %v", address, s.Now().UTC().Format(act.TimeForm), err),
				Do:   "Look at the target, and make one again: crelvo backup " + address + "."})
		}
	})
	return b, nil
}

// due begins a backup by itself when the last one was long enough ago.
func (s *Backups) due(ctx context.Context) error {
	if s.Settings.BackupTo == "" || s.Settings.BackupEvery == 0 {
		return nil
	}
	last, err := s.DB.Backups(ctx, 1)
	if err != nil {
		return err
	}
	if len(last) > 0 {
		rest := s.Settings.BackupEvery
		if last[0].State == record.BackupFailed { // it is made again sooner
			rest = min(rest, time.Hour) / 4
		}
		if s.Now().Sub(last[0].BegunAt) < rest {
			return nil
		}
	}
	_, err = s.begin(ctx, access.Caller{Name: "the service"}, s.Settings.BackupTo)
	if fault.Of(err).Code == "backup-under-way" {
		return nil // by another node
	}
	return err
}

// Concerns tells of backups that should be made by themselves and are not.
func (s *Backups) Concerns(ctx context.Context) ([]act.Concern, error) {
	if s.Settings.BackupTo == "" {
		return nil, nil
	}
	last, err := s.DB.LastBackup(ctx)
	if err != nil || last.ID != 0 && s.Now().Sub(last.BegunAt) < 2*s.Settings.BackupEvery+time.Hour {
		return nil, err
	}
	since := "none was ever made"
	if last.ID != 0 {
		since = "the last one is of " + last.BegunAt.UTC().Format(act.TimeForm)
	}
	return []act.Concern{{Level: "soon", Page: "/stores",
		What: fmt.Sprintf("No backup to %s was made for long: %s", s.Settings.BackupTo, since),
		Do:   "crelvo backup list says why the last ones failed. Mend that, or make one now: crelvo backup."}}, nil
}

// making is a backup that is being made.
type making struct {
	s      *Backups
	t      *Target
	run    record.Backup
	before *Manifest

	files, bytes, newFiles, newBytes, missing atomic.Int64

	mu   sync.Mutex
	gone []string // digests of what could not be read
}

func (m *making) make(ctx context.Context) (err error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	noted := make(chan struct{})
	go func() {
		defer close(noted)
		ticker := time.NewTicker(noteEach)
		defer ticker.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-ticker.C:
				if err := m.note(ctx); err != nil && ctx.Err() == nil {
					m.s.Log.Warn("how far the backup is could not be noted", "error", err)
				}
			}
		}
	}()
	err = m.all(ctx)
	cancel()
	<-noted
	now := m.s.Now()
	m.run.EndedAt, m.run.State = &now, record.BackupDone
	if err != nil {
		m.run.State, m.run.Said = record.BackupFailed, err.Error()
	}
	last, end := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer end()
	return errors.Join(err, m.note(last))
}

func (m *making) note(ctx context.Context) error {
	m.run.Files, m.run.Bytes = m.files.Load(), m.bytes.Load()
	m.run.NewFiles, m.run.NewBytes, m.run.Missing = m.newFiles.Load(), m.newBytes.Load(), m.missing.Load()
	return m.s.DB.NoteBackup(ctx, m.run, m.s.Now().Add(heldFor))
}

// all makes the backup: the records of a moment, then the bytes that they name, which nobody
// frees meanwhile, then the manifest.
func (m *making) all(ctx context.Context) error {
	house, err := m.s.DB.HouseName(ctx)
	if err != nil {
		return err
	}
	if err := m.meet(ctx, house); err != nil {
		return err
	}
	release, lost, err := m.s.DB.HoldReclaiming(ctx)
	if err != nil {
		return err
	}
	defer release()
	of := Manifest{Format: format, House: house, Program: m.s.Settings.Version, Settings: m.s.Settings.Described}
	listed := newSpooled(m.s.Settings.Folder)
	defer listed.close()
	var dumped record.Dumped
	reading, writing := io.Pipe()
	go func() {
		var err error
		dumped, err = m.dump(ctx, writing, listed)
		writing.CloseWithError(err)
	}()
	of.Records, err = m.t.keep(ctx, reading)
	if err = errors.Join(err, reading.Close()); err != nil {
		return fmt.Errorf("the records: %w", err)
	}
	of.At, of.Schema = dumped.At.UTC(), dumped.Schema
	files := newSpooled(m.s.Settings.Folder)
	defer files.close()
	if err := m.copy(ctx, listed, files); err != nil {
		return err
	}
	if err := lost(ctx); err != nil { // bytes may have been freed since
		return fmt.Errorf("the database was away: %w", err)
	}
	r, err := files.reader()
	if err == nil {
		of.Listed, err = m.t.keep(ctx, r)
	}
	if err != nil {
		return err
	}
	if m.s.Settings.BackupPassphrase != "" {
		if of.Key, err = seal(m.s.Settings.SecretKey, m.s.Settings.BackupPassphrase); err != nil {
			return err
		}
	}
	of.Files, of.Bytes, of.Missing = m.files.Load(), m.bytes.Load(), m.gone
	of.Name = prefix + of.At.Format(timeForm)
	if err := m.t.write(ctx, of); err != nil {
		return err
	}
	m.run.Name = of.Name
	if m.before == nil { // each file was looked for
		if err := m.t.DropDocument(ctx, lookAgain); err != nil {
			return m.t.fault(err)
		}
	}
	if m.missing.Load() > 0 {
		m.run.Said = fmt.Sprintf("the bytes of %d files could not be read; crelvo verify says which", m.missing.Load())
	}
	return m.thin(ctx)
}

// meet makes sure that the target is this Crelvo's.
func (m *making) meet(ctx context.Context, house string) error {
	is, err := m.t.Identity()
	if err != nil {
		return m.t.fault(err)
	}
	mine := prefix + house
	switch is {
	case mine:
	case "":
		if err := m.t.SetIdentity(mine); err != nil {
			return m.t.fault(err)
		}
	default:
		return fault.New(fault.Conflict, "target-of-another", "%s belongs to another Crelvo, or is a store", m.t.Address).
			WithHint("Choose another folder or prefix.")
	}
	all, lost, err := m.t.Manifests(ctx)
	if len(lost) > 0 {
		m.s.Log.Error("backups are not what was written", "target", m.t.Address, "names", lost)
	}
	if err != nil || len(all) == 0 {
		return err
	}
	// What the last one lists is there, unless somebody found that it is not.
	if _, err := m.t.Document(ctx, lookAgain); !errors.Is(err, bytestore.ErrMissing) {
		return m.t.fault(err)
	}
	m.before = &all[len(all)-1]
	return nil
}

// dump writes the records, and the list of the files that they name.
func (m *making) dump(ctx context.Context, w io.Writer, listed *spooled) (d record.Dumped, err error) {
	compressed, err := zstd.NewWriter(w, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(2))
	if err != nil {
		return d, err
	}
	d, err = m.s.DB.Dump(ctx, compressed, listed.add)
	return d, errors.Join(err, compressed.Close())
}

// copy copies the files that the target does not have yet.
func (m *making) copy(ctx context.Context, listed, files *spooled) (err error) {
	before, err := m.t.listing(ctx, m.before)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, before.close()) }()
	r, err := listed.reader()
	if err != nil {
		return err
	}
	all := &listing{r: r, there: true}
	group, copying := errgroup.WithContext(ctx)
	group.SetLimit(copies)
	for all.next(); all.there && copying.Err() == nil; all.next() {
		sum, size := all.sum, all.size
		if before.to(sum[:]) {
			m.files.Add(1)
			m.bytes.Add(size)
			if files.add(sum[:], size) != nil {
				break // order tells it, when nobody copies any more
			}
			continue
		}
		group.Go(func() error {
			there, err := m.one(copying, sum, size)
			if err != nil || !there {
				return err
			}
			m.mu.Lock()
			defer m.mu.Unlock()
			return files.late(sum, size)
		})
	}
	return errors.Join(group.Wait(), all.failed, files.order())
}

// one copies a file; there is false if its bytes cannot be read.
func (m *making) one(ctx context.Context, sum [32]byte, size int64) (there bool, err error) {
	has, err := m.t.Has(ctx, sum)
	if err != nil {
		return false, m.t.fault(err)
	}
	if !has {
		from, err := m.s.store.OpenBytes(ctx, sum, size)
		if errors.Is(err, bytestore.ErrMissing) || errors.Is(err, bytestore.ErrDamaged) {
			return false, m.miss(sum, err)
		}
		if err != nil {
			return false, err
		}
		defer from.Close()
		staged, err := m.t.Stage(ctx, m.s.store.Sparingly(ctx, from), size)
		if errors.Is(err, bytestore.ErrDamaged) {
			return false, m.miss(sum, err)
		}
		if err != nil {
			return false, fmt.Errorf("a file of %s: %w", api.Bytes(size), err)
		}
		if staged.Digests.SHA256 != sum {
			return false, errors.Join(m.miss(sum, bytestore.ErrDamaged), staged.Discard())
		}
		if err := errors.Join(m.t.Keep(ctx, staged), staged.Discard()); err != nil {
			return false, m.t.fault(err)
		}
		m.newFiles.Add(1)
		m.newBytes.Add(size)
	}
	m.files.Add(1)
	m.bytes.Add(size)
	return true, nil
}

func (m *making) miss(sum [32]byte, why error) error {
	m.s.Log.Error("bytes could not be put into the backup", "sha256", hex.EncodeToString(sum[:]), "error", why)
	m.missing.Add(1)
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.gone) < mostMissing {
		m.gone = append(m.gone, hex.EncodeToString(sum[:]))
	}
	return nil
}

// thin drops backups beyond those that are to be kept.
func (m *making) thin(ctx context.Context) error {
	// Parts of large files whose sending a kill ended.
	if err := m.t.Tidy(ctx, m.s.Now().Add(-store.StrayFor)); err != nil {
		return m.t.fault(err)
	}
	keep := m.s.Settings.BackupKeep
	all, _, err := m.t.Manifests(ctx)
	if err != nil || keep <= 0 || len(all) <= keep {
		return err
	}
	if err := m.t.drop(ctx, all[:len(all)-keep], all[len(all)-keep:]); err != nil {
		return fmt.Errorf("old backups could not be dropped: %w", err)
	}
	return nil
}

// entry is a file in a list.
func entry(sum []byte, size int64) []byte {
	return binary.BigEndian.AppendUint64(append(make([]byte, 0, 40), sum...), uint64(size))
}
