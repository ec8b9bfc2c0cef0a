package ecosystem

import (
	"bytes"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"io"
	"time"

	"crelvo/internal/core/catalog"
)

// Document is bytes that were made from records.
type Document struct {
	ContentType string
	Bytes       []byte
	ETag        string // quoted
	Changed     time.Time
}

// NewDocument makes a document whose validator is computed from its bytes.
func NewDocument(contentType string, content []byte, changed time.Time) Document {
	sum := sha256.Sum256(content)
	return Document{ContentType: contentType, Bytes: content, Changed: changed,
		ETag: `"` + hex.EncodeToString(sum[:16]) + `"`}
}

// Reader reads the document's bytes.
func (d Document) Reader() io.ReadSeeker { return bytes.NewReader(d.Bytes) }

// Digests are the digests of the document's bytes.
func (d Document) Digests() catalog.Digests {
	return catalog.Digests{Size: int64(len(d.Bytes)), MD5: md5.Sum(d.Bytes), SHA1: sha1.Sum(d.Bytes),
		SHA256: sha256.Sum256(d.Bytes), SHA512: sha512.Sum512(d.Bytes)}
}
