package ecosystem

import (
	"bytes"
	"compress/gzip"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/binary"
	"encoding/hex"
	"hash/crc32"
	"io"
	"sync/atomic"
	"time"

	"crelvo/internal/core/catalog"
)

// Document is bytes that were made from records.
type Document struct {
	ContentType string
	Bytes       []byte
	ETag        string // quoted
	Changed     time.Time
	packed      *packed
}

// packed is a document's bytes, compressed; nil as long as they are not.
type packed struct{ bytes atomic.Pointer[[]byte] }

// What is smaller than packFrom is not worth compressing; up to packAtOnce, it is
// compressed before the first answer. Up to hashWhole the validator is a
// cryptographic digest. All in bytes.
const packFrom, packAtOnce, hashWhole = 1400, 128 << 10, 256 << 10

// NewDocument makes a document whose validator is computed from its bytes.
func NewDocument(contentType string, content []byte, changed time.Time) Document {
	var sum []byte
	if len(content) <= hashWhole {
		whole := sha256.Sum256(content)
		sum = whole[:16]
	} else {
		// Two different polynomials and the length, at memory speed.
		sum = binary.BigEndian.AppendUint32(sum, crc32.ChecksumIEEE(content))
		sum = binary.BigEndian.AppendUint32(sum, crc32.Checksum(content, crc32.MakeTable(crc32.Castagnoli)))
		sum = binary.BigEndian.AppendUint32(sum, uint32(len(content)))
	}
	return Document{ContentType: contentType, Bytes: content, Changed: changed, ETag: `"` + hex.EncodeToString(sum) + `"`}
}

// Pack compresses the document, once; a large one beside what goes on, so that
// it can be answered with at once.
func (d *Document) Pack() {
	if len(d.Bytes) < packFrom {
		return
	}
	d.packed = new(packed)
	content, into := d.Bytes, d.packed
	pack := func() {
		var b bytes.Buffer
		w, err := gzip.NewWriterLevel(&b, gzip.BestSpeed+3)
		if err != nil {
			panic(err) // the level is a constant
		}
		_, writeErr := w.Write(content)
		if writeErr == nil && w.Close() == nil { // a buffer takes everything
			compressed := bytes.Clone(b.Bytes())
			into.bytes.Store(&compressed)
		}
	}
	if len(content) <= packAtOnce {
		pack()
		return
	}
	go pack()
}

// Packed is the document by gzip; nil if it is not compressed (yet).
func (d Document) Packed() []byte {
	if d.packed == nil {
		return nil
	}
	if p := d.packed.bytes.Load(); p != nil {
		return *p
	}
	return nil
}

// Weight is about what the document takes in memory, in bytes.
func (d Document) Weight() int64 { return 300 + int64(len(d.Bytes)) + int64(len(d.Bytes))/4 }

// Reader reads the document's bytes.
func (d Document) Reader() io.ReadSeeker { return bytes.NewReader(d.Bytes) }

// Digests are the digests of the document's bytes.
func (d Document) Digests() catalog.Digests {
	return catalog.Digests{Size: int64(len(d.Bytes)), MD5: md5.Sum(d.Bytes), SHA1: sha1.Sum(d.Bytes),
		SHA256: sha256.Sum256(d.Bytes), SHA512: sha512.Sum512(d.Bytes)}
}
