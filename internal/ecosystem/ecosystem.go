// Package ecosystem says what Crelvo must know of a kind of package, and holds
// the table of all of them. Each lives in a folder of its own below, passes the
// conformance test of ecosystemtest, and is one line in the table that the
// program is started with.
//
// An ecosystem turns requests of its clients into questions to the Desk, and
// records into the documents that its clients read. It keeps nothing itself.
package ecosystem

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/access"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/fileset"
	"crelvo/internal/core/makeup"
	"crelvo/internal/core/purl"
	"crelvo/internal/core/text"
)

// Ecosystem is one kind of package. Methods may be called at the same time.
type Ecosystem interface {
	// Name is the purl type, which is also the door in addresses:
	// /at/<repository>/<name>/.
	Name() string
	// Title is how people write the name.
	Title() string
	// Routes is the wire protocol.
	Routes() []Route
	// Refuse writes an error in the form that the clients show.
	Refuse(call *Call, err error) error
	// Inspect reads a file that has arrived whole, checks that it is what its
	// place says, and tells what it knows of its version. Errors are faults. Like
	// whatever reads foreign bytes, it spends the budget that travels with ctx.
	Inspect(ctx context.Context, place Place, file SizedReaderAt) (catalog.Details, error)
	// Whole tells whether a version with these files may be listed when its
	// client has gone quiet without saying that it is complete.
	Whole(details catalog.Details, files []catalog.File) bool
	// Place gives package files handed over by hand their places. One of them
	// must tell the coordinates, unless as does; files that the ecosystem wants
	// and that are missing come back with their content. Errors are faults;
	// ErrNotMine is for files of another kind.
	Place(ctx context.Context, files []Handed, as purl.PURL) ([]Placed, error)
	// UploadName names the nth upload of a snapshot.
	UploadName(version string, at time.Time, n int) string
	// Address is the path of a file below /at/<repository>/<name>/; upload is
	// that of a snapshot, "" of a release.
	Address(p purl.PURL, upload string, f catalog.File) string
	// Folder is what a person sees at a path; ErrNoFolder if nothing.
	Folder(ctx context.Context, desk Shelves, repository catalog.Repository, path string) (Folder, error)
	// Clients are the programs that can be pointed at a repository, the usual one
	// first.
	Clients() []PackageClient
}

// SizedReaderAt is a file's bytes.
type SizedReaderAt interface {
	io.ReaderAt
	Size() int64
}

// Place is where a file belongs.
type Place struct {
	Namespace, Name       string
	Version               string
	Upload                string // "" where the upload of a snapshot is not named yet
	Snapshot              bool
	UploadedAt            time.Time
	UploadCount           int
	FileName              string
	Classifier, Extension string
	// Rename gives the file name once the upload has a name; nil where that
	// does not change it.
	Rename func(upload string) string
}

// NameOf is the file's name in an upload.
func (p Place) NameOf(upload string) string {
	if p.Rename == nil {
		return p.FileName
	}
	return p.Rename(upload)
}

// PURL names the version that the place belongs to.
func (p Place) PURL(ecosystem string) purl.PURL {
	return purl.PURL{Ecosystem: ecosystem, Namespace: p.Namespace, Name: p.Name, Version: p.Version}
}

// Check refuses a place whose words are not fit to be kept and shown, or whose
// file has no name that any system can have. All doors ask it.
func (p Place) Check() error {
	for _, part := range []struct{ what, is string }{{"the namespace of the package", p.Namespace},
		{"the name of the package", p.Name},
		{"the version", p.Version}, {"the name of the upload", p.Upload}, {"the classifier", p.Classifier},
		{"the extension", p.Extension}} {
		if err := text.Check(part.what, part.is, false, text.MaxName); err != nil {
			return err
		}
	}
	if strings.ContainsAny(p.Classifier+p.Extension, `/\`) {
		return fault.New(fault.Invalid, "bad-file-name", "a classifier or an extension cannot have a slash")
	}
	return text.CheckFileName(p.FileName)
}

// Key names the package that the place belongs to.
func (p Place) Key(ecosystem string, r catalog.Repository) catalog.PackageKey {
	return r.Key(ecosystem, p.Namespace, p.Name)
}

// Handed is a file given by hand.
type Handed struct {
	Name string
	SizedReaderAt
}

// Placed is a file with its place. File is the index in what was handed over;
// -1 for one that the ecosystem made, whose bytes are in Content.
type Placed struct {
	Place   Place
	File    int
	Content []byte
}

// Folder is a level of the tree that a repository shows.
type Folder struct {
	Path    string
	Entries []Entry
}

// Page gives so many entries from the one on that comes after one of a name, and
// the name to go on after; "" if these were the last. A name that is not there
// any more gives the first page.
func (f Folder) Page(after string, limit int) (entries []Entry, next string) {
	from := 1 + slices.IndexFunc(f.Entries, func(e Entry) bool { return after != "" && e.Name == after })
	entries = f.Entries[from:]
	if len(entries) > limit {
		entries = entries[:limit]
		next = entries[limit-1].Name
	}
	return entries, next
}

// Entry is a line of a Folder.
type Entry struct {
	Name      string
	Folder    bool
	Size      int64 // bytes; of a folder, where known, all below it
	ChangedAt time.Time
	PURL      purl.PURL // of the package or version that the entry is; zero if it is neither
	Digests   *catalog.Digests
	Document  bool // made from records
}

// Route is one address of a wire protocol with the right that it needs.
type Route struct {
	Method string
	// Path is in echo's form, below /at/:repository/<ecosystem>. Below a door of its own it
	// may have one * that stands for one or more segments, anywhere.
	Path   string
	Action access.Action
	// Asks: it changes nothing, though its method could.
	Asks bool
	// EncodedSlash: its clients write the slash within a name as %2f.
	EncodedSlash bool
	Serve        func(*Call) error
}

// Doored is an ecosystem whose clients take the beginning of its addresses for granted:
// it has a door of its own, besides that of all.
type Doored interface {
	// Door is what addresses begin with, before the name of the repository: /v2.
	Door() string
	// DoorRoutes are those below /<door>/:repository. Call.Parts has what their paths name.
	DoorRoutes() []Route
	// Greet answers at the door itself, to somebody who signed in; Call.Repository is none.
	Greet(call *Call) error
	// Challenge is what a 401 asks for; passes is where a pass is given for a name and a
	// secret.
	Challenge(call *Call, passes string) []string
}

// Installs is an ecosystem in which versions that are only listed say what installing them
// does.
type Installs interface {
	// RunsAtInstall tells whether it runs something of their own.
	RunsAtInstall(d *catalog.Details) bool
	// NeededBy is what it needs.
	NeededBy(d *catalog.Details) []catalog.Dependency
}

// Signed is an ecosystem in which versions that are only listed come with signatures.
type Signed interface {
	// Signatures are those of a version of a package, each with the message that it is about, which
	// has a digest of the version's file.
	Signatures(key catalog.PackageKey, v *catalog.Version) []Endorsement
}

// Attested is an ecosystem whose upstreams tell, by statements that are signed, where versions were built.
type Attested interface {
	// AttestedAt is the path at an upstream, or the address, of what it has about a file of a version; "" if
	// it has nothing.
	AttestedAt(key catalog.PackageKey, v *catalog.Version, file string) string
	// Bundles are the Sigstore bundles in that (sigstore.protobuf-specs, sigstore_bundle.proto, as JSON).
	Bundles(raw []byte) ([]json.RawMessage, error)
}

// Telling is an ecosystem in which versions that are only listed say who looks after them, and how
// large they are.
type Telling interface {
	// Maintainers are the names of those who look after it, or published it.
	Maintainers(d *catalog.Details) []string
	// Unpacked is how many bytes its files have; 0 if it does not say.
	Unpacked(d *catalog.Details) int64
}

// Maturing is an ecosystem whose versions are named by their content, and get a maturity
// by their labels.
type Maturing interface {
	// LabelMaturity tells whether a label makes a release or a snapshot of its version in a
	// repository, which may have patterns of its own; a label that does neither may be given
	// to any. That of a release stays where it is.
	LabelMaturity(r catalog.Repository, label string) (release, snapshot bool)
	// IsLabel tells whether a text can be one.
	IsLabel(label string) bool
	// Belongs tells what a version is made of, and which one it is about, as far as it is
	// either; what says in a few words what it is.
	Belongs(d catalog.Details) (parts []VersionPart, about, what string)
}

// Endorsed is an ecosystem whose versions are signed by others that are about them.
type Endorsed interface {
	Maturing
	// Endorsements are the signatures in a version that is about another one, by its own file
	// and the media type of that; part gives a part of it, nil if it is not there.
	Endorsements(ctx context.Context, raw []byte, mediaType, subject string,
		part func(catalog.Sum) ([]byte, error)) ([]Endorsement, error)
}

// Endorsement is a signature of a message that names what is signed, or an envelope (DSSE)
// with a statement about it.
type Endorsement struct{ Message, Signature, Envelope []byte }

// Layered is an ecosystem whose versions consist of layers.
type Layered interface {
	Maturing
	// Makeup reads what a version is made of from its own file and the media type of that;
	// part gives a part of it, nil if it is not there. What the version does not say it
	// leaves out. Errors are in words.
	Makeup(ctx context.Context, raw []byte, mediaType string, part func(catalog.Sum) ([]byte, error)) (
		makeup.Makeup, error)
	// LayerFiles goes through the entries of a layer, within the budget; a layer that is no
	// archive is an error in words.
	LayerFiles(ctx context.Context, layer SizedReaderAt, each func(makeup.File) error) error
	// IsLayer tells whether a file of a version is a layer, and WalkLayer goes through what is in one, within the
	// budget, with what its files have; errors are as those of LayerFiles.
	IsLayer(f catalog.File) bool
	WalkLayer(ctx context.Context, layer SizedReaderAt, each func(name string, size int64, r io.Reader) error) error
}

// Filed is an ecosystem whose versions are sets of files that are kept in another form.
type Filed interface {
	// Holds tells how many files a version has, and how many bytes these have together.
	Holds(d catalog.Details) (files int, bytes int64)
	// KeptAs tells whether a file of a version is there for keeping it alone.
	KeptAs(f catalog.File) bool
	// List gives what stands in a folder of a version, "" or a path that ends with a slash, after a name on. The
	// version may be the name of an upload. ErrNoFile is that there is no such version or folder.
	List(ctx context.Context, desk Opener, key catalog.PackageKey, version, folder, after string, limit int) (
		lines []fileset.Line, more bool, err error)
	// OpenFile opens a file of a version by its path; ErrNoFile if it is not there.
	OpenFile(ctx context.Context, desk Opener, key catalog.PackageKey, version, path string) (SizedFile, error)
	// Walk goes through the files of a version. What open gives is to be closed.
	Walk(ctx context.Context, desk Opener, key catalog.PackageKey, version string,
		each func(path string, size int64, open func() SizedFile) error) error
	// Manifest is what the version says of all its files.
	Manifest(ctx context.Context, desk Opener, key catalog.PackageKey, version string) (SeekableFile, error)
}

// VersionPart is a version that another one is made of, and in a few words what it is there.
type VersionPart struct{ Version, What string }

// Keyed is an ecosystem whose clients send a token in a header of their own, or in
// Authorization without a scheme.
type Keyed interface{ KeyHeader() string }

// Staged is a file that has arrived and is not recorded yet. Whoever staged it
// must discard it in the end, whatever became of it.
type Staged interface {
	SizedReaderAt
	Digests() catalog.Digests
	Discard()
}

// Publication is a version that arrived whole, or files that are added to one.
type Publication struct {
	Files []StagedFile // of one version
	// Labels are moved to the version.
	Labels []string
	// Joins: the files of a snapshot belong to the caller's last upload of it, if
	// that is recent and has none of them.
	Joins bool
	// Beside: they belong beside other files, so with Joins, how recent the upload
	// is does not matter.
	Beside bool
	// Parts are files of the version that the package has already.
	Parts []NamedPart
	// Needs are other versions of the package that must be there.
	Needs []string
	// MediaType is that of the first of Files, where clients ask for it.
	MediaType string
}

// NamedPart is a part of a package as a version names it.
type NamedPart struct {
	catalog.Sum
	Size                 int64 // as the version says; bytes
	Extension, MediaType string
}

// Lender is where a part is to be had, or the zero Lender for anywhere.
type Lender struct{ Repository, Namespace, Name string }

// StagedFile is a file with its place.
type StagedFile struct {
	Place Place
	Staged
	// Details are what the client says of the file beside it. What Inspect reads of
	// it counts for more.
	Details catalog.Details
}

// Hit is a package in the answer to a search.
type Hit struct {
	Namespace, Name string
	Latest          string // the version that arrived last
	Versions        []string
	Details         catalog.Details // of Latest
	PublishedBy     string
	PublishedAt     time.Time // of Latest
	ChangedAt       time.Time
	Downloads       int64
}

// Search is what a client searches for.
type Search struct {
	Text string
	// Name is the only name, in lower case; "" for any.
	Name string
	// Having is what the details of the version must have, all of it.
	Having      []Having
	Skip, Limit int
	// Snapshots: versions of that maturity are wanted too.
	Snapshots bool
}

// Having asks that a list in the details of a version, at a path of their JSON form,
// has a value, in any case.
type Having struct {
	Path  []string
	Value string
	// OrNone: a version without such a list fits too.
	OrNone bool
}

// Receipt is what came of a file that was received.
type Receipt struct {
	Same bool // it was there already
	// Open: its version is not complete yet. If nothing more comes it is listed at
	// Quiet, if it is whole by then, and given up at End, if it never becomes so.
	Open       bool
	Quiet, End time.Time
}

// Completion selects the open versions that a client says are complete. The
// service completes only what the caller itself is publishing.
type Completion struct {
	Key     catalog.PackageKey
	Version func(version, upload string) bool
	// Lacks names what a version with these files lacks; "" if it may be listed.
	Lacks func(files []catalog.File) string
}

// Found is a file that answers a question.
type Found struct {
	catalog.File // not known yet while it is arriving
	// Arriving is not nil while the file is on its way from an upstream.
	Arriving Arriving
	// From names the repository that answers, where it is not the one that was
	// asked.
	From string
	// Mirror names the mirror that answers, if it is one.
	Mirror string
	// Fetched: this question made the mirror fetch it.
	Fetched bool
	// Withdrawn: its version, asked for by name, is not to be used any more; known of
	// versions that are named by their content.
	Withdrawn *catalog.Withdrawal
}

// Kept waits until the file is kept, and gives it.
func (f Found) Kept(ctx context.Context) (catalog.File, error) {
	if f.Arriving == nil {
		return f.File, nil
	}
	return f.Arriving.File(ctx)
}

// Checksum is the digest of the file by an algorithm, in hexadecimal, and since
// when it is so; of one that cannot be kept, what passes by is digested.
func (f Found) Checksum(ctx context.Context, algorithm string) (sum string, at time.Time, err error) {
	kept, err := f.Kept(ctx)
	if err == nil || !errors.Is(err, ErrNotKept) {
		return kept.Digests.Hex(algorithm), kept.AddedAt, err
	}
	digest := catalog.NewHash(algorithm)
	if _, _, _, err = f.Arriving.Ready(ctx); err == nil {
		err = f.Arriving.CopyTo(ctx, digest)
	}
	if err != nil {
		return "", time.Time{}, err
	}
	return hex.EncodeToString(digest.Sum(nil)), time.Now(), nil
}

// Arriving is a file on its way from an upstream.
type Arriving interface {
	// Ready waits until some of it can be passed on, or all of it is kept: then
	// kept is true, and the file is given. length is -1 if it is not known.
	Ready(ctx context.Context) (file catalog.File, kept bool, length int64, err error)
	// CopyTo passes on what arrives, the end of it only after all was verified.
	// An error means that not all was passed on; fs.ErrNotExist, that nothing
	// was, since the file was kept in the meantime.
	CopyTo(ctx context.Context, w io.Writer) error
	// File waits until it is kept, and gives it. ErrNotKept is that the store does
	// not take it: Ready and CopyTo still pass it on.
	File(ctx context.Context) (catalog.File, error)
	// Passing tells, after Ready or CopyTo, that it is passed on and not kept.
	Passing() bool
}

// SeekableFile is a stored file's bytes; a *os.File is one.
type SeekableFile interface {
	io.ReadSeekCloser
	io.ReaderAt
}

// SizedFile is a SeekableFile that knows its size.
type SizedFile interface {
	SeekableFile
	Size() int64
}

// InMemory is a SeekableFile whose bytes are held, for what it was opened for.
type InMemory interface{ Held() *Held }

// Sender is a SeekableFile that knows a quicker way of sending its next n bytes than to be
// read.
type Sender interface {
	SendTo(w io.Writer, n int64) (int64, error)
}

// Plugin is a package that extends a build tool.
type Plugin struct{ Name, Prefix, Title string }

// Branch is a namespace segment with packages below it.
type Branch struct {
	Segment   string
	Bytes     int64
	ChangedAt time.Time
}

// PackageLine is a package in a list.
type PackageLine struct {
	Name      string
	Bytes     int64
	ChangedAt time.Time
}

// Stating is an ecosystem whose clients say beside a file what it is. What is in
// the file counts: Contradicts refuses, with the field named, what says otherwise.
type Stating interface {
	Contradicts(said, read catalog.Details) error
}

// Labelling is an ecosystem whose clients give a version a label when they
// publish it; Labels are those that it gets when it is published by hand.
type Labelling interface {
	Labels(p *catalog.Package, version string) []string
}
