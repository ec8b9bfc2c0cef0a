// Package act is how anything is done in the service, whatever it is about: the clock,
// the log, the records, events and who is told of them, and what is remembered for how
// long. Every room of the service stands on it, and it knows none of them.
package act

import (
	"context"
	"hash/maphash"
	"log/slog"
	"sync/atomic"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
)

// Act is what all rooms share. It is safe for use by several at once.
type Act struct {
	DB         *record.DB
	Log        *slog.Logger
	Settings   Settings
	Ecosystems map[string]ecosystem.Ecosystem
	// DatabaseNow is the time by the database's clock.
	DatabaseNow func(context.Context) (time.Time, error)
	// Remembered bounds what the rooms remember.
	Remembered *Budget
	// Draining is that this node is to be left alone: it begins nothing in the background.
	Draining atomic.Bool
	// Running are requests that are being answered, and Answered those that were.
	Running, Answered atomic.Int64
	// Alone tells whether this is the only node.
	Alone func() bool

	parts            []any
	settled          atomic.Uint64 // raised by every change of settings
	seed             maphash.Seed
	generations      [4096]atomic.Uint64 // by the hash of a package's name; raised by every change
	anything         atomic.Uint64       // raised by every change of any package
	accessGeneration atomic.Uint64
	watchers         watchers
	figures          Figures
	worries          worries
	doing            doing
}

// defaultLongest is how long a token may last if nothing else is said.
const defaultLongest = 366 * 24 * time.Hour

// Settings of a Service; zero fields take the defaults.
type Settings struct {
	// QuietPeriod is how long after the last file a version is held to be
	// complete when its client does not say so. Default one minute.
	QuietPeriod time.Duration
	Log         *slog.Logger
	// Now is the clock; the demo's past is made with another one.
	Now func() time.Time
	// SecretKey encrypts the credentials for upstreams. All nodes need the same.
	SecretKey [32]byte
	// LongestToken is how long a token may last. Default 366 days.
	LongestToken time.Duration
	// LargestFile is how large a published file may be where its repository does not
	// say it, in bytes. Default 20 GiB.
	LargestFile int64
	// Folder is for what this process alone keeps: parts on their way to object stores, and
	// copies of what is read from them, of which there may be Cache bytes for each store.
	Folder string
	Cache  int64
	// Rate is how many bytes a second are read for what nobody waits for; 0 is no limit.
	Rate int64
	// VerifyEvery is how often all that is stored is read and compared by itself; 0 is never.
	VerifyEvery time.Duration
	// BackupTo is where a backup goes by itself, every BackupEvery, of which the last
	// BackupKeep are kept; 0 is all. The key of the server is in it if there is a passphrase.
	BackupTo         string
	BackupEvery      time.Duration
	BackupKeep       int
	BackupPassphrase string
	// Described are the settings of the program, for a backup, without secrets.
	Described string
	// Reserve is how many bytes of a disk files leave free.
	Reserve int64
	// FirstStore is where bytes are kept, if nothing was kept yet: an address as people write
	// it; "" is the data folder.
	FirstStore string
	// AdoptStore takes the store for the one of the records, whatever it is.
	AdoptStore bool
	// LoseSecrets forgets what another key encrypted, instead of refusing to start.
	LoseSecrets bool
	// Memory is how much, in bytes, all that is remembered may weigh together. Default
	// 128 MiB.
	Memory int64
	// NodeName and NodeAddress are how people call this node, and where it answers.
	NodeName, NodeAddress string
	// Version names the program to upstreams.
	Version string
}

// New makes an Act over the records, for the ecosystems.
func New(db *record.DB, ecosystems []ecosystem.Ecosystem, settings Settings) *Act {
	if settings.QuietPeriod == 0 {
		settings.QuietPeriod = time.Minute
	}
	if settings.LargestFile == 0 {
		settings.LargestFile = 20 << 30
	}
	if settings.LongestToken == 0 {
		settings.LongestToken = defaultLongest
	}
	if settings.Memory == 0 {
		settings.Memory = 128 << 20
	}
	if settings.Log == nil {
		settings.Log = slog.Default()
	}
	if settings.Now == nil {
		settings.Now = time.Now
	}
	s := &Act{DB: db, Log: settings.Log, Settings: settings, DatabaseNow: db.Now,
		Remembered: NewBudget(settings.Memory), Alone: func() bool { return true },
		Ecosystems: map[string]ecosystem.Ecosystem{}, seed: maphash.MakeSeed()}
	s.accessGeneration.Store(1)
	if db != nil {
		db.OnChange(s.heard)
	}
	for _, e := range ecosystems {
		s.Ecosystems[e.Name()] = e
	}
	return s
}

// Ecosystem finds an ecosystem by its purl type; nil if there is none.
func (s *Act) Ecosystem(name string) ecosystem.Ecosystem { return s.Ecosystems[name] }

// Now is the time by the service's clock.
func (s *Act) Now() time.Time { return s.Settings.Now() }

// SurelyNow is the time that ends what cannot come back: the earlier one of the
// service's clock and the database's, so that one that jumps ahead frees nothing.
func (s *Act) SurelyNow(ctx context.Context) (time.Time, error) {
	theirs, err := s.DatabaseNow(ctx)
	if now := s.Now(); err == nil && now.Before(theirs) {
		return now, nil
	}
	return theirs, err
}

// Event begins an event of the caller.
func (s *Act) Event(caller access.Caller, action record.Action) record.Event {
	return record.Event{At: s.Now(), Who: caller.Name, Token: caller.Token, Address: caller.Address,
		Action: string(action)}
}

// Announce ends a transaction that changed what can be seen of a package.
func (s *Act) Announce(ctx context.Context, tx *record.Tx, repository catalog.Repository,
	ecosystemName, namespace, name, version string, event record.Event) error {
	return tx.Append(ctx, event, record.Change{Kind: record.OfPackage, RepositoryID: repository.ID,
		Repository: repository.Name,
		Ecosystem:  ecosystemName, Namespace: namespace, Name: name, Version: version})
}
