// Package symbols is about what debuggers ask for: programs and what is to be known of them, wherever they were
// published, found by their build ids.
package symbols

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"crelvo/internal/core/budget"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/chain"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/symbols"
	"crelvo/internal/ecosystem"
	"crelvo/internal/record"
	"crelvo/internal/service/act"
	"crelvo/internal/service/directory"
	"crelvo/internal/service/resolving"
	"crelvo/internal/service/search"
	"crelvo/internal/service/store"
)

// Symbols looks into what has come, and finds what is asked for. It is safe for use by several at once.
type Symbols struct {
	*act.Act
	directory *directory.Directory
	store     *store.Store
	resolving *resolving.Resolving
	search    *search.Search

	mu  sync.Mutex
	due map[catalog.PackageKey]bool // of which something may have come
	all bool                        // any may have
	// wanted are versions that somebody wants to be looked into.
	wanted []record.UnlookedVersion
	from   int64 // while all are looked through: the last version that was looked at
}

// New makes the room.
func New(
	a *act.Act, directory *directory.Directory, store *store.Store, resolving *resolving.Resolving, search *search.Search,
) *Symbols {
	return &Symbols{Act: a, directory: directory, store: store, resolving: resolving, search: search, all: true,
		due: map[catalog.PackageKey]bool{}}
}

// opener is what files of versions are asked of.
type opener struct {
	*resolving.Resolving
	*store.Store
}

func (s *Symbols) opener() ecosystem.Opener { return opener{s.resolving, s.store} }

// kept is what is here of versions: looking into them fetches nothing from elsewhere, and asks no rules.
type kept struct {
	*store.Store
	db *record.DB
}

// Uploads implements ecosystem.Opener; uploads are named where it is asked.
func (kept) Uploads(context.Context, catalog.PackageKey, string) (*catalog.Package, error) {
	return nil, ecosystem.ErrNoPackage
}

// File implements ecosystem.Opener.
func (k kept) File(ctx context.Context, q catalog.FileQuestion) (ecosystem.Found, error) {
	f, err := k.db.File(ctx, q)
	if errors.Is(err, record.ErrNotFound) {
		err = ecosystem.ErrNoFile
	}
	return ecosystem.Found{File: f}, err
}

// Purge implements act.Purger.
func (s *Symbols) Purge() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all, s.from = true, 0
}

// mostDue is of how many packages it is remembered that something came.
const mostDue = 10_000

// Hear implements act.Hearer.
func (s *Symbols) Hear(c record.Change) error {
	if c.Kind != record.OfPackage {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.due) >= mostDue {
		s.all, s.from = true, 0
		clear(s.due)
	}
	s.due[catalog.PackageKey{RepositoryID: c.RepositoryID, Ecosystem: c.Ecosystem, Namespace: c.Namespace,
		Name: c.Name}] = true
	return nil
}

// Chores implements act.Busy.
func (s *Symbols) Chores() []act.Chore {
	return []act.Chore{{Every: time.Second, What: "looking for what debuggers want", Do: s.Look},
		{Every: time.Second, What: "looking into what somebody wants", Do: s.lookIntoWanted},
		{Every: 24 * time.Hour, What: "dropping names of files that no set has any more", Do: s.DB.DropFileNames}}
}

// atOnce is how many versions are looked into in one go.
const atOnce = 200

// Look looks into what has come since it was done last.
func (s *Symbols) Look(ctx context.Context) error {
	s.mu.Lock()
	due := slices.Collect(maps.Keys(s.due))
	s.due = map[catalog.PackageKey]bool{}
	all, from := s.all, s.from
	s.mu.Unlock()
	var failed error
	for some := range slices.Chunk(due, atOnce) {
		if err := s.lookIntoAll(ctx, some); err != nil { // it is looked for again
			failed = errors.Join(failed, err)
			s.mu.Lock()
			for _, key := range some {
				s.due[key] = true
			}
			s.mu.Unlock()
		}
	}
	for all && ctx.Err() == nil {
		found, err := s.DB.UnlookedVersions(record.Patiently(ctx), symbols.LookedInto, nil, from, atOnce)
		if err == nil {
			err = s.lookInto(ctx, found)
		}
		if err != nil {
			return errors.Join(failed, err)
		}
		s.mu.Lock()
		if len(found) == 0 && s.from == from {
			s.all, s.from, all = false, 0, false
		} else if len(found) > 0 && s.from == from {
			s.from = found[len(found)-1].ID
		}
		from = s.from
		s.mu.Unlock()
	}
	return failed
}

// lookIntoAll looks into all versions of some packages.
func (s *Symbols) lookIntoAll(ctx context.Context, keys []catalog.PackageKey) (failed error) {
	for after := int64(0); ; {
		found, err := s.DB.UnlookedVersions(ctx, symbols.LookedInto, keys, after, atOnce)
		if err != nil || len(found) == 0 {
			return errors.Join(failed, err)
		}
		after = found[len(found)-1].ID
		if failed = errors.Join(failed, s.lookInto(ctx, found)); ctx.Err() != nil {
			return failed
		}
	}
}

// How much is held before it is written, but for what one version has, and for how long, so that nobody waits for what
// others have; what takes long is looked into when nothing waits to be written.
const (
	mostUnwritten = 10_000                 // symbols and paths
	longestHeld   = 100 * time.Millisecond // while others are looked into
	takesLong     = 4 << 20                // bytes of the version's files
)

func (s *Symbols) lookInto(ctx context.Context, versions []record.UnlookedVersion) error {
	ids := make([]int64, len(versions))
	for i, v := range versions {
		ids[i] = v.ID
	}
	files, err := s.DB.FilesOf(ctx, ids)
	if err != nil {
		return err
	}
	var failed error
	var looked []record.LookedVersion
	var changed []catalog.PackageKey
	held, since := 0, time.Now()
	write := func() error {
		err := s.write(ctx, looked, changed)
		looked, changed, held, since = nil, nil, 0, time.Now()
		return err
	}
	for _, v := range versions {
		size := int64(0)
		for _, f := range files[v.ID] {
			size += f.Digests.Size
		}
		if size > takesLong {
			if err := write(); err != nil {
				return errors.Join(failed, err)
			}
		}
		all, names, said, err := s.inside(ctx, v, files[v.ID])
		if errors.Is(err, ecosystem.ErrNoFile) {
			continue // of a mirror's copy some is not here yet
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil { // the others need not wait for it
			failed = errors.Join(failed, fmt.Errorf("%s: %w", act.PURLOf(v.Key, v.Version), err))
			continue
		}
		looked = append(looked, record.LookedVersion{ID: v.ID, Symbols: all, Names: names, Said: said})
		if len(all) > 0 {
			changed = append(changed, v.Key)
		}
		if held += len(all) + len(names); held >= mostUnwritten || time.Since(since) > longestHeld {
			if err := write(); err != nil {
				return errors.Join(failed, err)
			}
		}
	}
	return errors.Join(failed, write())
}

// write notes what was found in some versions: together, since most have nothing.
func (s *Symbols) write(ctx context.Context, looked []record.LookedVersion, changed []catalog.PackageKey) error {
	_, bad, err := act.WriteAll(ctx, s.DB, looked, func(tx *record.Tx, some []record.LookedVersion) error {
		return tx.SetSymbols(ctx, some, s.Now())
	})
	if len(bad) > 0 {
		err = errors.Join(err, fmt.Errorf("what was found in %s could not be noted",
			act.Plural(int64(len(bad)), "version")))
	}
	for _, key := range changed {
		s.Changed(key)
	}
	return err
}

// Bounds of looking into one version.
var bounds = budget.Limits{Bytes: 16 << 30, Held: largestHeld, Elements: 1_000_000}

const (
	// largestHeld is how many bytes a file within an archive may have that is looked into, since it is held in memory.
	largestHeld = 64 << 20
	// mostOf is how many symbols one version may have.
	mostOf = 10_000
)

// errEnough ends looking.
var errEnough = errors.New("it has more than can be noted")

// longestNames is how many bytes the paths in a set may have together that are noted.
const longestNames = 32 << 20

// inside finds what a version has for debuggers, and the paths in a file set; said is what could not be read.
func (s *Symbols) inside(
	ctx context.Context, v record.UnlookedVersion, files []catalog.File,
) (all []symbols.At, names []string, said string, err error) {
	ctx = budget.Afresh(ctx, bounds)
	look := func(file, within string, r io.ReaderAt, size int64) error {
		found, wrong := symbols.Identify(symbols.NameOf(file, within), r, size)
		if wrong != nil {
			said = fmt.Sprintf("%s: %v", path.Join(file, within), wrong)
			if told := fault.Of(wrong); told.Kind == fault.Unavailable || errors.Is(wrong, ecosystem.ErrNoFile) {
				return wrong
			}
		}
		for _, one := range found {
			if len(all) == mostOf {
				return errEnough
			}
			all = append(all, symbols.At{Symbol: one, File: file, Path: within, Size: size})
		}
		return ctx.Err()
	}
	if filed, ok := s.Ecosystem(v.Key.Ecosystem).(ecosystem.Filed); ok {
		version, length := v.Version, 0
		if v.Upload != "" {
			version = v.Upload
		}
		err = filed.Walk(ctx, kept{s.store, s.DB}, v.Key, version,
			func(path string, size int64, open func() ecosystem.SizedFile) error {
				if length += len(path); length <= longestNames {
					names = append(names, path)
				}
				f := open()
				return errors.Join(look("", path, f, size), f.Close())
			})
	} else {
		for _, f := range files {
			if err == nil {
				err = s.insideFile(ctx, s.Ecosystem(v.Key.Ecosystem), f, look, &said)
			}
		}
	}
	switch told := fault.Of(err); {
	case err == nil, errors.Is(err, ecosystem.ErrNoFile):
	case errors.Is(err, errEnough):
		err, said = nil, errEnough.Error()
	case told.Kind != fault.Internal && told.Kind != fault.Unavailable, told.Code == "bytes-missing",
		told.Code == "bytes-damaged", told.Code == "bad-layout":
		err, said = nil, told.Message
	}
	return all, names, said, err
}

// insideFile looks into a file, and into those in it if it is an archive.
func (s *Symbols) insideFile(
	ctx context.Context, e ecosystem.Ecosystem, f catalog.File,
	look func(file, within string, r io.ReaderAt, size int64) error, said *string,
) error {
	content, err := s.store.Open(ctx, f)
	if err != nil {
		return err
	}
	defer content.Close()
	walk := walkOf(e, f)
	if walk == nil {
		return look(f.Name, "", content, f.Digests.Size)
	}
	err = walk(ctx, ecosystem.Sized(content, f.Digests.Size), func(name string, size int64, r io.Reader) error {
		raw, err := held(r, size)
		if err != nil || raw == nil {
			return err
		}
		return look(f.Name, name, bytes.NewReader(raw), int64(len(raw)))
	})
	if err != nil && !errors.Is(err, errEnough) && ctx.Err() == nil && fault.Of(err).Kind != fault.Unavailable {
		*said, err = fmt.Sprintf("%s: %v", f.Name, err), nil // an archive that is none
	}
	return err
}

type walker func(ctx context.Context, file ecosystem.SizedReaderAt,
	each func(name string, size int64, r io.Reader) error) error

// walkOf goes through archives that are called so, and through layers; nil if a file is neither.
func walkOf(e ecosystem.Ecosystem, f catalog.File) walker {
	if l, ok := e.(ecosystem.Layered); ok && l.IsLayer(f) {
		return l.WalkLayer
	}
	name := f.Name
	for _, ending := range []string{".tgz", ".tar.gz", ".crate"} {
		if strings.HasSuffix(name, ending) {
			return ecosystem.WalkTarGz
		}
	}
	for _, ending := range []string{".whl", ".nupkg", ".snupkg", ".zip", ".jar", ".egg"} {
		if strings.HasSuffix(name, ending) {
			return ecosystem.WalkZip
		}
	}
	return nil
}

// head is how much of a file in an archive is read before it is known that it may be something.
const head = 4

// held reads a file of an archive that may be something for debuggers; nil if it is not, or too large.
func held(r io.Reader, size int64) ([]byte, error) {
	first := make([]byte, head)
	n, err := io.ReadFull(r, first)
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return nil, nil
	}
	if err != nil || !symbols.May(first[:n]) || size > largestHeld {
		return nil, err
	}
	rest, err := ecosystem.ReadAtMost(r, largestHeld)
	return append(first, rest...), err
}

// most is how many are told of.
const most = 200

// Find finds what debuggers ask for, in what can be seen of some repositories.
func (s *Symbols) Find(
	ctx context.Context, q record.SymbolQuestion, repositories ...catalog.Repository,
) ([]symbols.At, error) {
	q.Key, q.Name = strings.ToLower(q.Key), strings.ToLower(q.Name)
	at := catalog.Moment(0)
	if len(repositories) == 1 {
		at = repositories[0].AsOf
	}
	return s.DB.Symbols(ctx, q, s.directory.ScopeOf(repositories...), at, most)
}

// SymbolsBy implements ecosystem.SymbolFinder.
func (s *Symbols) SymbolsBy(ctx context.Context, r catalog.Repository, key string) ([]symbols.At, error) {
	return s.Find(ctx, record.SymbolQuestion{Key: key}, r)
}

// SymbolsNamed implements ecosystem.SymbolFinder.
func (s *Symbols) SymbolsNamed(
	ctx context.Context, r catalog.Repository, byKey bool, value string,
) ([]symbols.At, error) {
	if byKey {
		return s.SymbolsBy(ctx, r, value)
	}
	return s.Find(ctx, record.SymbolQuestion{Name: path.Base(value)}, r)
}

// OpenSymbol implements ecosystem.SymbolFinder: what the rules of a repository keep out is not handed out.
func (s *Symbols) OpenSymbol(
	ctx context.Context, r catalog.Repository, f symbols.At,
) (ecosystem.SizedFile, error) {
	key := r.Key(f.Of.Ecosystem, f.Of.Namespace, f.Of.Name)
	version := f.Version
	if f.File == "" {
		filed, ok := s.Ecosystem(key.Ecosystem).(ecosystem.Filed)
		if !ok {
			return nil, ecosystem.ErrNoFile
		}
		if f.Upload != "" {
			version = f.Upload
		}
		return filed.OpenFile(ctx, s.opener(), key, version, f.Path)
	}
	found, err := s.resolving.File(ctx, catalog.FileQuestion{Key: key, Version: f.Version, Upload: f.Upload, Name: f.File})
	if err == nil {
		found.File, err = found.Kept(ctx)
	}
	if err != nil {
		return nil, err
	}
	content, err := s.store.Open(ctx, found.File)
	if err != nil {
		return nil, err
	}
	if f.Path == "" {
		return sized{content, found.Digests.Size}, nil
	}
	defer content.Close()
	return s.unpacked(ctx, f, found.File, ecosystem.Sized(content, found.Digests.Size))
}

// mostSources is in how many files of a set a source is looked for.
const mostSources = 200_000

// OpenSource implements ecosystem.SymbolFinder.
func (s *Symbols) OpenSource(
	ctx context.Context, r catalog.Repository, f symbols.At, source string,
) (ecosystem.SizedFile, error) {
	key := r.Key(f.Of.Ecosystem, f.Of.Namespace, f.Of.Name)
	filed, ok := s.Ecosystem(key.Ecosystem).(ecosystem.Filed)
	if !ok {
		return nil, ecosystem.ErrNoFile
	}
	version := f.Version
	if f.Upload != "" {
		version = f.Upload
	}
	var names []string
	err := filed.Walk(ctx, s.opener(), key, version, func(path string, _ int64, _ func() ecosystem.SizedFile) error {
		if names = append(names, path); len(names) > mostSources {
			return errEnough
		}
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return nil, err
	}
	best := symbols.SourceAmong(names, source)
	if best == "" {
		return nil, ecosystem.ErrNoFile
	}
	return filed.OpenFile(ctx, s.opener(), key, version, best)
}

// MoreSymbols implements ecosystem.SymbolFinder.
func (s *Symbols) MoreSymbols(r catalog.Repository) bool {
	return slices.ContainsFunc(s.directory.MembersOf(r), func(m chain.Member) bool {
		return m.Fetches() && m.Ecosystem == symbols.Type
	})
}

var _ ecosystem.SymbolFinder = (*Symbols)(nil)

// sized is a file with its size.
type sized struct {
	ecosystem.SeekableFile
	size int64
}

// Size is in bytes.
func (f sized) Size() int64 { return f.size }

// inMemory is a file whose bytes are held.
type inMemory struct{ *bytes.Reader }

// Close implements io.Closer.
func (inMemory) Close() error { return nil }

// unpacked takes a file out of an archive.
func (s *Symbols) unpacked(
	ctx context.Context, f symbols.At, kept catalog.File, archive ecosystem.SizedReaderAt,
) (file ecosystem.SizedFile, err error) {
	walk := walkOf(s.Ecosystem(f.Of.Ecosystem), kept)
	if walk == nil {
		return nil, ecosystem.ErrNoFile
	}
	err = walk(budget.Afresh(ctx, bounds), archive, func(name string, size int64, r io.Reader) error {
		if name != f.Path || file != nil {
			return nil
		}
		raw, err := ecosystem.ReadAtMost(r, largestHeld)
		file = inMemory{bytes.NewReader(raw)}
		return errors.Join(err, ecosystem.ErrStop)
	})
	if errors.Is(err, ecosystem.ErrStop) {
		err = nil
	}
	if err == nil && file == nil {
		err = ecosystem.ErrNoFile
	}
	return file, err
}

// Asked is what symbols are wanted by.
type Asked struct {
	Key, Name string
	Of        purl.PURL // a version; zero for any
}

// Tell finds symbols in some repositories, and tells of which keys something has what debuggers want to know.
func (s *Symbols) Tell(
	ctx context.Context, a Asked, repositories ...catalog.Repository,
) (all []symbols.At, known map[string]bool, err error) {
	q := record.SymbolQuestion{Key: a.Key, Name: a.Name}
	if a.Of.Name != "" {
		q.Of = &catalog.PackageKey{Ecosystem: a.Of.Ecosystem, Namespace: a.Of.Namespace,
			Name: purl.NormalName(a.Of.Ecosystem, a.Of.Name)}
		q.Version = a.Of.Version
	} else if a.Key == "" && a.Name == "" {
		return nil, nil, fault.New(fault.Invalid, "bad-question", "say what is wanted: a key, a name or a version")
	}
	if all, err = s.Find(ctx, q, repositories...); err != nil {
		return nil, nil, err
	}
	var keys []string
	for _, one := range all {
		if one.Code && !one.Debug && one.Key != "" {
			keys = append(keys, one.Key)
		}
	}
	known, err = s.DB.KeysWithDebug(ctx, keys, s.directory.ScopeOf(repositories...))
	return all, known, err
}
