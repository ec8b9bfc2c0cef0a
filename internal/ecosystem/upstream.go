package ecosystem

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
)

// Mirrored is an ecosystem whose packages can be fetched from servers
// elsewhere.
type Mirrored interface {
	Ecosystem
	// ListingPath is where an upstream lists the versions of a package; for a
	// purl with a snapshot version, its uploads; for one without a name, the
	// plugins of the namespace. "" is that there is no such list. It is below
	// the upstream's address, without escapes; a beginning {name} stands for an
	// address that the upstream's entrance tells.
	ListingPath(p purl.PURL) string
	// Accepts is the Accept header that asks for such a list.
	Accepts() string
	// ReadListing reads what stands there. Errors say what is wrong with it.
	ReadListing(ctx context.Context, p purl.PURL, r Reading) (catalog.Listing, error)
	// PlaceOf gives the place of the file that a question names. Errors are
	// faults.
	PlaceOf(q catalog.FileQuestion) (Place, error)
	// Companions are the files of a version that somebody who uses it will
	// want, given what is known of it, and which files it is listed with or, if
	// with none, which were wanted of another version. The first is what every
	// version has.
	Companions(p purl.PURL, details catalog.Details, like []catalog.File) []catalog.FileQuestion
}

// Reading is a document of an upstream. Addresses in listings are relative to
// the upstream's address, or whole.
type Reading struct {
	io.Reader
	// Address is where the document was found.
	Address string
	// More gets a further document that this one names.
	More func(address string) (io.ReadCloser, error)
}

// Resolve gives the whole address of something that the document names.
func (r Reading) Resolve(address string) (string, error) {
	base, err := url.Parse(r.Address)
	if err != nil {
		return "", err
	}
	u, err := base.Parse(address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return "", fmt.Errorf("%q is no address of a file", address)
	}
	return u.String(), nil
}

// ByPath is a Mirrored ecosystem whose files stand at paths that follow from
// their names. In others, the lists tell where files are.
type ByPath interface {
	Mirrored
	// FilePath is where an upstream has a file, without escapes.
	FilePath(p Place) string
	// Checksums lists where an upstream may have a checksum of the file at a
	// path, the best first.
	Checksums(path string) []Checksum
	// Marker is the file that every version has, which tells whether there is
	// such a version where no list does.
	Marker(p purl.PURL, upload string) catalog.FileQuestion
}

// Described is a Mirrored ecosystem whose upstreams tell in the header of an answer what the file is.
type Described interface {
	// SaidBeside is what they tell. What is in the file counts for more.
	SaidBeside(h http.Header) catalog.Details
}

// ByName is a Mirrored ecosystem in whose versions nothing is known that rules could ask for but their names.
type ByName interface{ JudgedByName() }

// ByContent is a ByPath ecosystem whose files are named by their content, and whose labels
// the upstream is asked for one by one.
type ByContent interface {
	ByPath
	// SumOf is the digest that the file of a place has by its name.
	SumOf(p Place) (catalog.Sum, bool)
	// LabelPath is where an upstream tells what a label points to, by a digest.
	LabelPath(key catalog.PackageKey, label string) string
	// LabelsPath is where it lists the labels, and ReadLabels reads that.
	LabelsPath(key catalog.PackageKey) string
	ReadLabels(r Reading) ([]string, error)
	// AboutPaths are where it may list what is about a version, the best first, and ReadAbout
	// reads that: versions with their own file alone.
	AboutPaths(key catalog.PackageKey, version string) []string
	ReadAbout(r Reading) ([]catalog.Version, error)
	// FileOf asks for the file that a digest names.
	FileOf(key catalog.PackageKey, sum catalog.Sum) catalog.FileQuestion
	// Names are the parts that a file names which has arrived, and its media type, as far
	// as the upstream said it.
	Names(ctx context.Context, place Place, file SizedReaderAt, mediaType string) ([]NamedPart, string, error)
}

// Guided is a Mirrored ecosystem whose upstreams have an entrance, which tells
// the addresses of what they offer.
type Guided interface {
	// Entrance is its path.
	Entrance() string
	// ReadEntrance gives the addresses by the names that ListingPath uses.
	ReadEntrance(r Reading) (map[string]string, error)
	// Older is for upstreams that have no entrance, since they speak an older protocol:
	// where they list the versions of a package, as a path with a query, a document
	// that tells that they do, and the Accept header for both.
	Older(p purl.PURL) (listing, tells, accepts string)
	// ReadOlder tells what is wrong with the document that tells it.
	ReadOlder(r Reading) error
}

// Sectioned is a Mirrored ecosystem whose upstreams list all their packages in one document,
// of which each has a section. The ListingPath of a package is its path, a # and the name.
type Sectioned interface {
	Mirrored
	// WholePath is where that document is.
	WholePath() string
	// Sections takes it apart; each is given every section with its name, which ReadListing
	// reads. Errors say what is wrong with it.
	Sections(r io.Reader, each func(name string, section []byte) error) error
}

// Enumerated is a Mirrored ecosystem whose upstreams may tell the names of the packages that they have.
type Enumerated interface {
	Mirrored
	// Enumerate has documents of the upstream asked for, one after the other, and gives each name that they
	// tell; more than once, perhaps. Errors are those of ask and of each, or say what is wrong with a document.
	Enumerate(ctx context.Context, ask Asking, each func(of purl.PURL) error) error
}

// Asked is a document of an upstream: below its address, without escapes, or where else the upstream said.
type Asked struct{ Path, Query, Address, Accept string }

// Asking gets a document, which is to be closed. All of an enumeration are of one upstream.
type Asking func(a Asked) (Reading, io.Closer, error)

// Rooted is a Mirrored ecosystem whose upstreams have a document that tells that they
// are such.
type Rooted interface {
	// Root is its path, and what it is.
	Root() (path, what string)
	// ReadRoot tells what is wrong with it.
	ReadRoot(r Reading) error
}

// Checksum is where a checksum stands, and by which of catalog.Algorithms.
type Checksum struct{ Path, Algorithm string }

// ChecksumIn finds the digest in the text of a checksum file. Tools write it
// bare, or as "digest  file name", or as "ALGORITHM (file name) = digest".
func ChecksumIn(text, algorithm string) (hex string, ok bool) {
	length := len(catalog.Digests{}.Hex(algorithm))
	for _, word := range strings.Fields(text) {
		word = strings.ToLower(word)
		if len(word) == length && strings.Trim(word, "0123456789abcdef") == "" {
			return word, true
		}
	}
	return "", false
}

// The most lines that a list of lines may have, and bytes that one may have.
const maxLines, maxLine = 100_000, 8 << 20

// Lines reads a list that has a line for each version.
func Lines(r io.Reader, each func(line []byte) error) error {
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 0, 64<<10), maxLine)
	for read := 0; lines.Scan(); read++ {
		if read >= maxLines {
			return fmt.Errorf("it lists more than %d versions", maxLines)
		}
		if err := each(lines.Bytes()); err != nil {
			return err
		}
	}
	return lines.Err()
}
