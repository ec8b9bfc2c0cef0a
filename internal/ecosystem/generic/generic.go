// Package generic is Crelvo's file sets: tools, firmware, data, models, reports. A version is a manifest that names
// files, links and folders; what the files consist of lies in packs, which versions share (docs/file-sets.md). Files
// are read and written by plain HTTP, too.
package generic

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"crelvo/internal/core/attest"
	"crelvo/internal/core/catalog"
	"crelvo/internal/core/fault"
	"crelvo/internal/core/fileset"
	"crelvo/internal/core/purl"
	"crelvo/internal/ecosystem"
)

// Name is the purl type.
const Name = "generic"

// Generic implements ecosystem.Ecosystem.
type Generic struct{}

// The files of a version besides its packs: what is in it, and where that lies in the packs.
const (
	manifestFile, layoutFile           = "manifest.jsonl", catalog.DerivedFile
	manifestKind, layoutKind, packKind = "manifest", "layout", fileset.PackExtension
)

// The detached signature over the manifest, which a version may have.
const (
	signatureFile = manifestFile + ".asc"
	signatureKind = manifestKind + ".asc"
)

// SignsBeside implements ecosystem.SignedBeside: the manifest says what all else is.
func (Generic) SignsBeside(file string) bool { return file == manifestFile }

// setsDoor is where the files of versions are as they are kept, and the protocol for sets; no package can be called so.
const setsDoor = ".sets"

var (
	nameForm    = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,127}$`)
	versionForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._~-]{0,127}$`)
)

func init() {
	purl.Register(Name, purl.Rules{Snapshot: isSnapshot, Compare: compare, Is: versionForm.MatchString,
		Sample: "2026.11.1", Development: "-dev.1"})
}

// unfinished are the words that make a development version: 2026.11.1-dev, 1.5-snapshot.3.
var unfinished = []string{"dev", "snapshot", "nightly"}

// isSnapshot tells whether one of these words stands behind the first hyphen.
func isSnapshot(version string) bool {
	_, rest, _ := strings.Cut(strings.ToLower(version), "-")
	return slices.ContainsFunc(strings.FieldsFunc(rest, parts), func(word string) bool {
		return slices.Contains(unfinished, strings.TrimRight(word, "0123456789"))
	})
}

func parts(r rune) bool { return r == '.' || r == '-' || r == '_' || r == '~' }

// compare orders versions by their numbers and words. Where one goes on behind a hyphen with a word, it comes before
// the other (1.0-rc1, 1.0), and where it goes on otherwise, behind (1.0, 1.0-1, 1.0a, 1.0.1).
func compare(a, b string) int {
	x, y := words(a), words(b)
	for i := range min(len(x), len(y)) {
		if c := compareWords(x[i], y[i]); c != 0 {
			return c
		}
	}
	switch {
	case len(x) > len(y):
		return goesOn(x[len(y)])
	case len(y) > len(x):
		return -goesOn(y[len(x)])
	}
	return strings.Compare(a, b)
}

func goesOn(word string) int {
	if word[0] == '-' && len(word) > 1 && !digit(word[1]) {
		return -1
	}
	return 1
}

func digit(c byte) bool { return c >= '0' && c <= '9' }

// words are what a version consists of, without a v in front of its first number, each with a hyphen in front if one
// stood there.
func words(version string) (all []string) {
	if n := len(version); n > 1 && (version[0] == 'v' || version[0] == 'V') && digit(version[1]) {
		version = version[1:]
	}
	begin := 0
	end := func(i int) {
		if word := strings.TrimLeft(version[begin:i], "._~"); word != "" && word != "-" {
			all = append(all, word)
		}
		begin = i
	}
	for i := 1; i < len(version); i++ {
		before, now := version[i-1], version[i]
		if parts(rune(now)) || digit(before) != digit(now) && !parts(rune(before)) {
			end(i)
		}
	}
	end(len(version))
	return all
}

// rank is which kind of word comes first: words behind a hyphen, numbers behind one, other words, other numbers.
func rank(word string) (rest string, rank int) {
	rest = strings.TrimPrefix(word, "-")
	if rest == word {
		rank = 2
	}
	if digit(rest[0]) {
		rank++
	}
	return rest, rank
}

func compareWords(a, b string) int {
	x, rx := rank(a)
	y, ry := rank(b)
	if rx == ry && digit(x[0]) {
		x, y = strings.TrimLeft(x, "0"), strings.TrimLeft(y, "0")
		return cmp.Or(cmp.Compare(len(x), len(y)), strings.Compare(x, y))
	}
	return cmp.Or(cmp.Compare(rx, ry), strings.Compare(x, y))
}

// Name implements ecosystem.Ecosystem.
func (Generic) Name() string { return Name }

// Title implements ecosystem.Ecosystem.
func (Generic) Title() string { return "File sets" }

// UploadName implements ecosystem.Ecosystem.
func (Generic) UploadName(version string, at time.Time, n int) string {
	return ecosystem.StampedUpload(version, at, n)
}

// kindOf is what a file of a version is by its name; "" if it is none.
func kindOf(name string) string {
	switch name {
	case manifestFile:
		return manifestKind
	case layoutFile:
		return layoutKind
	case signatureFile:
		return signatureKind
	}
	if sum, ok := catalog.ParseSum(strings.Replace(name, "-", ":", 1)); ok && sum.Algorithm == "sha256" {
		return packKind
	}
	return ""
}

// place is where a file of a version belongs.
func place(name, version, file string) ecosystem.Place {
	return ecosystem.Place{Name: name, Version: version, Snapshot: isSnapshot(version), FileName: file,
		Extension: kindOf(file)}
}

// key names a package; a fault if there can be none of that name and version. version may be "".
func key(r catalog.Repository, name, version string) (catalog.PackageKey, error) {
	if !nameForm.MatchString(name) {
		return catalog.PackageKey{}, fault.New(fault.Invalid, "bad-name", "%.80q cannot be the name of a file set", name).
			WithHint("Up to 128 letters, digits, dots, dashes and underscores; a letter or digit in front.")
	}
	if version != "" && !versionForm.MatchString(version) {
		return catalog.PackageKey{}, fault.New(fault.Invalid, "bad-version", "%.80q cannot be the version of a file set",
			version).WithHint("Up to 128 letters, digits, dots, dashes, underscores and tildes; a letter or digit in front: 2026.11.1.")
	}
	return r.Key(Name, "", name), nil
}

// maxSignature is how large a signature may be, in bytes.
const maxSignature = 64 << 10

// Details of a version.
const nativeFiles, nativeBytes, nativePacks = "files", "bytes", "packs"

// Inspect implements ecosystem.Ecosystem: the manifest tells of the version.
func (Generic) Inspect(
	_ context.Context, at ecosystem.Place, file ecosystem.SizedReaderAt,
) (d catalog.Details, err error) {
	keep := func(name string, value any) {
		raw, wrong := json.Marshal(value)
		if d.Native == nil {
			d.Native = map[string]json.RawMessage{}
		}
		d.Native[name], err = raw, errors.Join(err, wrong)
	}
	switch at.Extension {
	case manifestKind:
		h, err := fileset.ReadHeader(io.NewSectionReader(file, 0, file.Size()))
		if err != nil {
			return d, badManifest(err)
		}
		d.Description = h.Description
		keep(nativeFiles, h.Files)
		keep(nativeBytes, h.Bytes)
	case layoutKind:
		l, err := fileset.OpenLayout(file, file.Size())
		if err != nil {
			return d, badManifest(err)
		}
		keep(nativePacks, len(l.Packs()))
	case signatureKind:
		raw := make([]byte, min(file.Size(), maxSignature+1))
		if _, err := file.ReadAt(raw, 0); err != nil && !errors.Is(err, io.EOF) {
			return d, err
		}
		if len(raw) > maxSignature || !attest.IsSignature(raw) {
			return d, fault.New(fault.Invalid, "bad-signature", "%s is no armored detached OpenPGP signature", signatureFile).
				WithHint("gpg --armor --detach-sign manifest.jsonl makes one.")
		}
	}
	return d, err
}

func badManifest(err error) error {
	var told *fault.Error
	if errors.As(err, &told) {
		return told
	}
	return fault.New(fault.Invalid, "bad-manifest", "the manifest cannot be taken: %v", err)
}

// Whole implements ecosystem.Ecosystem.
func (Generic) Whole(d catalog.Details, files []catalog.File) bool {
	packs, manifest, layout := 0, false, false
	for _, f := range files {
		manifest = manifest || f.Extension == manifestKind
		layout = layout || f.Extension == layoutKind
		if f.Extension == packKind {
			packs++
		}
	}
	var named int
	return manifest && layout && json.Unmarshal(d.Native[nativePacks], &named) == nil && packs >= named
}

// Place implements ecosystem.Ecosystem: file sets are published by their own protocol.
func (Generic) Place(_ context.Context, _ []ecosystem.Handed, as purl.PURL) ([]ecosystem.Placed, error) {
	if as.Ecosystem != Name {
		return nil, ecosystem.ErrNotMine
	}
	return nil, fault.New(fault.Invalid, "not-by-hand", "a file set is published as a folder").
		WithHint("Use: crelvo publish FOLDER --as %s --to REPOSITORY", as)
}

// upload is the segment that names a version in addresses, or one upload of a snapshot.
func segment(version, upload string) string { return cmp.Or(upload, version) }

// Address implements ecosystem.Ecosystem.
func (Generic) Address(p purl.PURL, upload string, f catalog.File) string {
	return path.Join(setsDoor, p.Name, segment(p.Version, upload), f.Name)
}

// versionOf reads such a segment.
func versionOf(segment string) (version, upload string) {
	if version, _, ok := strings.Cut(segment, "+"); ok {
		return version, segment
	}
	return segment, ""
}

// maxListed is how many entries of a folder a person is shown.
const maxListed = 10_000

// Folder implements ecosystem.Ecosystem: the files of a version stand below it.
func (g Generic) Folder(
	ctx context.Context, desk ecosystem.Shelves, repository catalog.Repository, at string,
) (ecosystem.Folder, error) {
	at = strings.Trim(at, "/")
	segments := strings.SplitN(at, "/", 3)
	reader, can := desk.(ecosystem.Opener)
	if len(segments) < 2 || !can || segments[0] == setsDoor {
		return ecosystem.TreeFolder(ctx, desk, repository, Name, strings.TrimPrefix(at, setsDoor+"/"))
	}
	version, upload := versionOf(segments[1])
	key, err := key(repository, segments[0], version)
	if err != nil {
		return ecosystem.Folder{}, ecosystem.ErrNoFolder
	}
	s, err := open(ctx, reader, key, version, upload)
	if errors.Is(err, ecosystem.ErrNoFile) || errors.Is(err, ecosystem.ErrNoPackage) {
		return ecosystem.Folder{}, ecosystem.ErrNoFolder
	}
	if err != nil {
		return ecosystem.Folder{}, err
	}
	defer s.Close()
	inside := ""
	if len(segments) == 3 {
		inside = segments[2] + "/"
	}
	lines, _, err := s.layout.List(inside, "", maxListed)
	if errors.Is(err, fileset.ErrNotThere) {
		return ecosystem.Folder{}, ecosystem.ErrNoFolder
	}
	f := ecosystem.Folder{Path: at}
	for _, l := range lines {
		e := ecosystem.Entry{Name: l.Name, Folder: l.Kind == fileset.Folder, Size: l.Size, ChangedAt: l.Modified}
		if l.Kind == fileset.File {
			e.Digests = &catalog.Digests{SHA256: l.Digest, Size: l.Size}
		}
		f.Entries = append(f.Entries, e)
	}
	return f, err
}

// noVersion is that there is no such version, or why.
func noVersion(c *ecosystem.Call, key catalog.PackageKey, version string) error {
	what := key.Name
	if version != "" {
		what = fmt.Sprintf("%s %s", key.Name, version)
	}
	return c.Absent(key, version, fault.New(fault.NotFound, "no-such-version", "%s holds no %s", c.Repository.At(), what))
}
