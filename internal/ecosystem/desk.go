package ecosystem

import (
	"context"
	"io"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/fileset"
	"crelvo/internal/core/safety"
	"crelvo/internal/core/symbols"
)

// Shelves shows what there is of packages. Errors are faults, or the package's own Err
// values.
type Shelves interface {
	// Package gives all that is visible of a package, in mirrors also what the
	// upstream lists; ErrNoPackage if nothing. The result is shared: do not
	// change it.
	Package(ctx context.Context, key catalog.PackageKey) (*catalog.Package, error)
	// Uploads is Package for one snapshot, whose uploads mirrors may have to ask
	// for; ErrNoPackage if there are none.
	Uploads(ctx context.Context, key catalog.PackageKey, version string) (*catalog.Package, error)
	// Below lists what stands directly below a namespace.
	Below(ctx context.Context, repository catalog.Repository, ecosystem, namespace, separator string) ([]Branch,
		[]PackageLine, error)
	// Rendered gives a document about a package, from memory where it was made
	// of this very value before. which names the document among those of the
	// package. before is what was made of an earlier value, or the zero Document.
	Rendered(p *catalog.Package, which string, render func(before Document) (Document, error)) (Document, error)
}

// Reader is what is asked for by who reads.
type Reader interface {
	Shelves
	// File finds a file, where it is kept or, for mirrors, elsewhere; ErrNoFile
	// if there is none.
	File(ctx context.Context, q catalog.FileQuestion) (Found, error)
	// Open gives the bytes of a file.
	Open(ctx context.Context, f catalog.File) (SeekableFile, error)
	// Elsewhere is an address outside at which a file can be read just as well for some
	// minutes, by whoever follows there; "" if it is to be read here.
	Elsewhere(ctx context.Context, f catalog.File) string
	// WhyNot tells why there is nothing of a package, or of one version of it, and
	// what to do: it was removed, or is not let in. nil is that there never was.
	WhyNot(ctx context.Context, key catalog.PackageKey, version string) *fault.Error
	// Readme is the text about a version that is kept; nil if there is none.
	Readme(ctx context.Context, v catalog.Version) (*catalog.Readme, error)
	// Hits finds packages, those that fit best first, and tells how many fit.
	Hits(ctx context.Context, repository catalog.Repository, ecosystem string, q Search) ([]Hit, int, error)
}

// Opener is the part of a Reader that finds and opens the files of versions.
type Opener interface {
	Uploads(ctx context.Context, key catalog.PackageKey, version string) (*catalog.Package, error)
	File(ctx context.Context, q catalog.FileQuestion) (Found, error)
	Open(ctx context.Context, f catalog.File) (SeekableFile, error)
}

// Publisher is what is asked for by who publishes and changes packages.
type Publisher interface {
	// MayPublish checks that the caller may publish a package to a repository, before
	// anything that it sends is read. What can only be told later is asked again.
	MayPublish(caller access.Caller, repository catalog.Repository, key catalog.PackageKey) error
	// Target is the house repository that takes what is published to a
	// repository: itself, or the one that a chain names.
	Target(caller access.Caller, repository catalog.Repository, snapshot bool) (catalog.Repository, error)
	// Receive takes a file; length is -1 if the client did not say it.
	Receive(ctx context.Context, caller access.Caller, repository catalog.Repository, e Ecosystem, place Place,
		body io.Reader, length int64) (Receipt, error)
	// Stage takes a file for a repository that is not to be recorded yet; length is -1 if the
	// client did not say it.
	Stage(ctx context.Context, repository catalog.Repository, body io.Reader, length int64, name string) (Staged, error)
	// Publish records a version that arrived whole, in one act.
	Publish(ctx context.Context, caller access.Caller, repository catalog.Repository, e Ecosystem, p Publication) (Receipt,
		error)
	// Finish completes versions.
	Finish(ctx context.Context, caller access.Caller, repository catalog.Repository, c Completion) error
	// Broken notes that a file which was received is not what the client sent.
	Broken(ctx context.Context, f catalog.File) error
	// SetLabel moves a label to a version; "" takes it away.
	SetLabel(ctx context.Context, caller access.Caller, key catalog.PackageKey, label, version string) error
	// Withdraw marks versions as not to be used any more, or, with nil, takes
	// the mark away. Versions that are marked so already are passed over.
	Withdraw(ctx context.Context, caller access.Caller, key catalog.PackageKey, reasons map[string]*string) error
	// Remove takes versions away.
	Remove(ctx context.Context, caller access.Caller, key catalog.PackageKey, versions []string) error
}

// Counter is told of what was used.
type Counter interface {
	// Downloaded counts a download; fetched is Found's.
	Downloaded(caller access.Caller, f catalog.File, fetched bool)
}

// Desk is what an ecosystem may ask of Crelvo. What only one kind of client needs is an
// interface of its own, which a Desk may have too: Session, PluginLister.
type Desk interface {
	Reader
	Publisher
	Counter
}

// Session is a Desk whose clients sign in and out by their own protocol.
type Session interface {
	// SignInClient gives a token, named after the client, for a name and a
	// password.
	SignInClient(ctx context.Context, caller access.Caller, client, name, password string) (token string, err error)
	// SignOutClient ends the token that the caller came with.
	SignOutClient(ctx context.Context, caller access.Caller) error
}

// PartTaker is a Desk whose clients send the files of a version before the version itself:
// they are parts of the package, and belong to no version before one names them
// (Publication.Parts). A part that nobody names is dropped after a day.
type PartTaker interface {
	// BeginPart begins a part that arrives in pieces, and names it.
	BeginPart(ctx context.Context, caller access.Caller, key catalog.PackageKey) (id string, err error)
	// ContinuePart adds to what arrived, from an offset on, and tells how much there is
	// then, also with an error; a negative offset is the end of what is there.
	// fault "other-offset" is that there is not as much.
	ContinuePart(ctx context.Context, caller access.Caller, key catalog.PackageKey, id string, at int64,
		body io.Reader) (size int64, err error)
	// PartArrived tells how much of it arrived; fault "no-such-upload" if it is not known.
	PartArrived(ctx context.Context, caller access.Caller, key catalog.PackageKey, id string) (size int64, err error)
	// DropPart gives up what arrived.
	DropPart(ctx context.Context, caller access.Caller, key catalog.PackageKey, id string) error
	// EndPart makes a part of what arrived, if it has that digest.
	EndPart(ctx context.Context, caller access.Caller, key catalog.PackageKey, id string, sum catalog.Sum) error
	// TakePart takes a part at once; length is -1 if the client did not say it.
	TakePart(ctx context.Context, caller access.Caller, key catalog.PackageKey, body io.Reader, length int64,
		sum catalog.Sum) error
	// LendPart makes a part of bytes that the caller may read elsewhere. lent is false if it
	// may read none.
	LendPart(ctx context.Context, caller access.Caller, key catalog.PackageKey, from Lender,
		sum catalog.Sum) (lent bool, err error)
	// RemovePart takes a part away. fault "part-named" is that a version names it.
	RemovePart(ctx context.Context, caller access.Caller, key catalog.PackageKey, sum catalog.Sum) error
}

// LabelReader is a Desk whose clients ask for labels and what is about a version, and not
// for all of a package: it may be large.
type LabelReader interface {
	// Labels lists them by the bytes of their names, from after one on; ErrNoPackage if
	// nothing of the package is there.
	Labels(ctx context.Context, key catalog.PackageKey, after string, limit int) ([]catalog.Label, error)
	// WithdrawnLabel tells of a label that points to a version which is not to be used any
	// more: which, and why; ok is false if it does not.
	WithdrawnLabel(ctx context.Context, key catalog.PackageKey, label string) (version, reason string, ok bool,
		err error)
	// About lists versions that say they are about another one of the package, with their
	// own file alone, by their names from after one on.
	About(ctx context.Context, key catalog.PackageKey, subject, after string, limit int) ([]catalog.Version, error)
}

// PluginLister is a Desk that knows which packages of a namespace have a packaging.
type PluginLister interface {
	// Plugins lists the packages of a namespace with that packaging; with near,
	// only those that are here, and not what the upstreams of mirrors list.
	Plugins(ctx context.Context, repository catalog.Repository, ecosystem, namespace, packaging string,
		near bool) ([]Plugin, error)
}

// Lister is a Desk that makes documents about all packages of a repository.
type Lister interface {
	// Whole gives the document of that kind, from memory where nothing has changed.
	Whole(ctx context.Context, repository catalog.Repository, ecosystem string, j Joined) (Whole, error)
}

// Joined says how a document about all packages is put together.
type Joined struct {
	ContentType string
	// Each gives what stands there of a package; a piece without bytes is left out. The
	// same package always gives the same.
	Each func(p *catalog.Package) (Part, error)
	// Begin, Between and End are what stands around; changed is when a package changed last.
	Begin        func(changed time.Time) []byte
	Between, End []byte
}

// Whole is a document about all packages, and which mirrors could not bring up to date what
// it was made from.
type Whole struct {
	Document
	Stale []catalog.Staleness
}

// Join puts such a document together from what Each gave.
func (j Joined) Join(each []Part, changed time.Time) Document {
	parts := []Part{NewPart(j.Begin(changed), nil)}
	for _, p := range each {
		if len(p.bytes) == 0 {
			continue
		}
		if len(parts) > 1 {
			parts = append(parts, NewPart(j.Between, nil))
		}
		parts = append(parts, p)
	}
	return Assemble(j.ContentType, changed, append(parts, NewPart(j.End, nil))...)
}

// KeptOut is the code of refusals because of what is known of a version.
const KeptOut = "kept-out"

// Adviser is a Desk that knows of vulnerabilities.
type Adviser interface {
	// Advised is what is known of packages, wherever they are: of those of which anything is, by
	// keys that name no repository.
	// known is false where there are no advisories at all, so that nothing can be told of any.
	Advised(ctx context.Context, keys []catalog.PackageKey) (all map[catalog.PackageKey]safety.Advice, known bool,
		err error)
	// AdvisoriesChanged is when an advisory changed last; zero where none is known.
	AdvisoriesChanged(ctx context.Context) (time.Time, error)
	// AdvisedIn goes through what is known of all packages of an ecosystem, by their names.
	AdvisedIn(ctx context.Context, ecosystem string, each func(safety.Known) error) error
}

// Origins is a Desk that knows where mirrors fetch from.
type Origins interface {
	// ComesFrom tells whether a mirror fetches from a host, or from one that is named below it;
	// a port counts if it is given.
	ComesFrom(mirror, host string) bool
}

// ChunkTaker is a Desk whose clients send the chunks of files in packs (core/fileset), before the version that
// consists of them. A pack is a part of a package (PartTaker), and waits as long as any for a version that names it.
type ChunkTaker interface {
	PartTaker
	// Packs are those that a caller may use for a version of a package: its own, and those that the caller may read
	// elsewhere.
	Packs(caller access.Caller, key catalog.PackageKey) Packs
	// Assembled tells which files are known to consist of which chunks; others are to be read. KnowAssembled is told of
	// one that was.
	Assembled(ctx context.Context, asked []fileset.Assembly) (map[fileset.Assembly]bool, error)
	KnowAssembled(ctx context.Context, a fileset.Assembly) error
	// Gather adds a line to what the caller gathers of a version over several requests, for a day.
	Gather(ctx context.Context, caller access.Caller, key catalog.PackageKey, version string, line []byte) error
	// Gathered reads what the caller gathered; fault "nothing-gathered" if that is nothing. What it reads stays until
	// it is dropped.
	Gathered(ctx context.Context, caller access.Caller, key catalog.PackageKey, version string,
		read func(io.Reader) error) error
	// DropGathered forgets what was gathered.
	DropGathered(ctx context.Context, caller access.Caller, key catalog.PackageKey, version string) error
}

// Packs are what a version of a package can be put together from.
type Packs interface {
	// Chunks tells of chunks which are there, but for those packs that are left out.
	Chunks(ctx context.Context, digests []fileset.Digest, leftOut map[fileset.Digest]bool) (
		map[fileset.Digest]ChunkAt, error)
	// TakePack takes a pack into the package; length is -1 if it is not known.
	TakePack(ctx context.Context, body io.Reader, length int64) (fileset.Pack, error)
	// OpenPack opens a pack that Chunks told of.
	OpenPack(ctx context.Context, pack fileset.Pack) (SeekableFile, error)
}

// ChunkAt is where a chunk is to be had.
type ChunkAt struct {
	fileset.Where
	Length uint32
	// Here: the pack is a part of the package already. Else it is to be lent (LendPart).
	Here bool
}

// SymbolFinder is a Desk that knows what debuggers ask for, wherever in its packages it is.
type SymbolFinder interface {
	// SymbolsBy finds what has a key (core/symbols), the likeliest first.
	SymbolsBy(ctx context.Context, repository catalog.Repository, key string) ([]symbols.At, error)
	// SymbolsNamed finds what has a key, or a name: that of a path if it is one.
	SymbolsNamed(ctx context.Context, repository catalog.Repository, byKey bool, value string) ([]symbols.At, error)
	// OpenSymbol opens what was found; ErrNoFile if it is not to be had.
	OpenSymbol(ctx context.Context, repository catalog.Repository, s symbols.At) (SizedFile, error)
	// OpenSource opens a source file that a program was made of and that its version has, by the path that the compiler
	// knew; ErrNoFile if it has none.
	OpenSource(ctx context.Context, repository catalog.Repository, s symbols.At, path string) (SizedFile, error)
	// MoreSymbols tells whether upstreams may have symbols that are not known here.
	MoreSymbols(repository catalog.Repository) bool
}
