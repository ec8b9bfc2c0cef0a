package ecosystem

import (
	"io"
	"strings"

	"crelvo/internal/core/catalog"
	"crelvo/internal/core/purl"
)

// Mirrored is an ecosystem whose packages can be fetched from servers
// elsewhere. Paths are below an upstream's address, without escapes.
type Mirrored interface {
	Ecosystem
	// ListingPath is where an upstream lists the versions of a package; for a
	// purl with a snapshot version, its uploads; for one without a name, the
	// plugins of the namespace. "" is that there is no such list.
	ListingPath(p purl.PURL) string
	// ReadListing reads what stands there. Errors say what is wrong with it.
	ReadListing(p purl.PURL, r io.Reader) (catalog.Listing, error)
	// PlaceOf gives the place of the file that a question names. Errors are
	// faults.
	PlaceOf(q catalog.FileQuestion) (Place, error)
	// FilePath is where an upstream has a file.
	FilePath(p Place) string
	// Checksums lists where an upstream may have a checksum of the file at a
	// path, the best first.
	Checksums(path string) []Checksum
	// Marker is the file that every version has, which tells whether there is
	// such a version where no list does.
	Marker(p purl.PURL, upload string) catalog.FileQuestion
	// Companions are the other files of a version that somebody who uses it
	// will want, given what is known of it, and which files were wanted of
	// another version.
	Companions(p purl.PURL, details catalog.Details, like []catalog.File) []catalog.FileQuestion
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
