// Package fileset has the forms of versioned sets of files (docs/file-sets.md): the manifest, which names
// files, links and folders with what they are made of; packs, in which chunks lie one after the other; and the
// layout, which tells where in which pack each chunk of a manifest is, and finds one file among very many
// without reading the rest.
package fileset

import (
	"fmt"
	"path"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"crelvo/internal/core/text"
)

// Bounds of a set.
const (
	MaxEntries = 1_000_000
	// MaxPieces is how many chunks the files of a set may have together.
	MaxPieces = 4_000_000
	// MaxPath is how many bytes a path or the target of a link may have.
	MaxPath = 4096
	// MaxChunk is how many bytes a chunk may have, so that one can be held in memory.
	MaxChunk = 8 << 20
	// MaxDescription is how many bytes the description of a set may have.
	MaxDescription = 8 << 10
)

// Digest is a SHA-256.
type Digest = [32]byte

// Chunk is a stretch of a file by what is in it.
type Chunk struct {
	Digest Digest
	Length uint32
}

// Kind is what an entry of a set is.
type Kind uint8

// Kinds of entries.
const (
	File Kind = iota
	Folder
	Link
)

// String is what it is called.
func (k Kind) String() string { return [...]string{"file", "folder", "link"}[k] }

// Entry is a file, a folder or a link of a set. A folder needs none unless it is empty, or its mode matters.
type Entry struct {
	// Path is relative to the set, with slashes; that of a folder ends with one.
	Path     string
	Kind     Kind
	Mode     uint16 // the nine bits of permissions; 0 of a link
	Modified time.Time
	Size     int64  // of a file, bytes
	Digest   Digest // of the content of a file
	// Chunks are those that a file of two or more consists of. One that has fewer is its own chunk, if it has any
	// bytes.
	Chunks []Chunk
	Target string // of a link, relative to the folder that it is in
}

// Made are the chunks that a file consists of, however many.
func (e Entry) Made() []Chunk {
	if len(e.Chunks) == 0 && e.Size > 0 {
		return []Chunk{{e.Digest, uint32(e.Size)}}
	}
	return e.Chunks
}

// Header is what a manifest says of the set as a whole.
type Header struct {
	Files       int   // without folders and links
	Bytes       int64 // of all of them
	Description string
	// Chunking is how the files were cut, for whoever makes the next version; the zero Chunking if it is not known.
	Chunking Chunking
}

// Folded is a path as it is on systems to which upper and lower case are the same.
func Folded(name string) string { return strings.ToLower(norm.NFC.String(name)) }

// CheckPath tells what is wrong with the path of an entry, in words.
func CheckPath(name string, folder bool) error {
	rest := name
	if folder {
		var ok bool
		if rest, ok = strings.CutSuffix(name, "/"); !ok {
			return fmt.Errorf("the path of the folder %.100q does not end with a slash", name)
		}
	}
	switch {
	case rest == "":
		return fmt.Errorf("a path is empty")
	case len(name) > MaxPath:
		return fmt.Errorf("a path has more than %d bytes", MaxPath)
	case !utf8.ValidString(name) || !text.Fit(name, false):
		return fmt.Errorf("the path %.100q has characters that cannot be kept or shown", name)
	case strings.Contains(name, `\`):
		return fmt.Errorf(`the path %.100q has a backslash, which parts folders on some systems`, name)
	case !norm.NFC.IsNormalString(name):
		return fmt.Errorf("the path %.100q is not in Unicode's normal form C", name)
	}
	for segment := range strings.SplitSeq(rest, "/") {
		if segment == "" || segment == "." || segment == ".." {
			return fmt.Errorf("the path %.100q is not relative and clean", name)
		}
		if len(segment) > text.MaxName {
			return fmt.Errorf("a name in the path %.100q has more than %d bytes", name, text.MaxName)
		}
	}
	return nil
}

// CheckTarget tells what is wrong with the target of a link at a path: one that leads out of the set would lead
// whoever fetches it somewhere else.
func CheckTarget(at, target string) error {
	switch {
	case target == "" || len(target) > MaxPath:
		return fmt.Errorf("the link %.100q has no target, or one of more than %d bytes", at, MaxPath)
	case !text.Fit(target, false) || strings.Contains(target, `\`):
		return fmt.Errorf("the target of the link %.100q has characters that cannot be kept or shown", at)
	case strings.HasPrefix(target, "/"):
		return fmt.Errorf("the link %.100q leads to %.100q, which is not relative", at, target)
	}
	if to := path.Join(path.Dir(at), target); to == ".." || strings.HasPrefix(to, "../") {
		return fmt.Errorf("the link %.100q leads to %.100q, out of the set", at, target)
	}
	return nil
}

// reserved are names that Windows keeps for devices, with or without an extension.
var reserved = map[string]bool{"con": true, "prn": true, "aux": true, "nul": true}

func init() {
	for _, n := range "123456789" {
		reserved["com"+string(n)], reserved["lpt"+string(n)] = true, true
	}
}

// Unportable tells why some systems cannot hold a path; "" if all can.
func Unportable(name string) string {
	for segment := range strings.SplitSeq(strings.TrimSuffix(name, "/"), "/") {
		stem, _, _ := strings.Cut(strings.ToLower(segment), ".")
		switch {
		case strings.ContainsAny(segment, `<>:"|?*`):
			return fmt.Sprintf("%q has one of < > : \" | ? *", segment)
		case strings.HasSuffix(segment, ".") || strings.HasSuffix(segment, " "):
			return fmt.Sprintf("%q ends with a dot or a blank", segment)
		case reserved[stem]:
			return fmt.Sprintf("%q is the name of a device", segment)
		}
	}
	return ""
}

// Assembly is that a file with a digest consists of chunks, which are told by a digest over theirs: of each its
// SHA-256 and, in little endian, its length.
type Assembly struct{ Digest, Chunks Digest }
