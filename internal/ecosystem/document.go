package ecosystem

import (
	"bytes"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"sync"
	"sync/atomic"
	"time"

	"github.com/klauspost/compress/gzip"

	"crelvo/internal/core/catalog"
)

// Document is bytes that were made from records.
type Document struct {
	ContentType string
	ETag        string // quoted
	Changed     time.Time
	parts       []Part
	size        int64
	packed      *packed
	digests     func() catalog.Digests
}

// Part is a piece of a document. Large documents are made of parts, so that
// those that have not changed need not be made again.
type Part struct {
	bytes []byte
	sum   [sha256.Size]byte
	// Of is what the part was made of, for whoever makes it.
	Of any
}

// NewPart makes a piece of a document; the bytes must not be changed any more.
func NewPart(content []byte, of any) Part {
	return Part{bytes: content, sum: sha256.Sum256(content), Of: of}
}

// Bytes are those of the piece.
func (p Part) Bytes() []byte { return p.bytes }

// packed is a document's bytes, compressed, once somebody wanted them so.
type packed struct {
	once  sync.Once
	bytes atomic.Pointer[[]byte]
}

// What is smaller than packFrom is not worth compressing; up to packAtOnce, it is
// compressed before the answer. Both in bytes.
const packFrom, packAtOnce = 1400, 128 << 10

// NewDocument makes a document of one piece.
func NewDocument(contentType string, content []byte, changed time.Time) Document {
	return Assemble(contentType, changed, NewPart(content, nil))
}

// Assemble makes a document of pieces. Its validator is computed from theirs.
func Assemble(contentType string, changed time.Time, parts ...Part) Document {
	d := Document{ContentType: contentType, Changed: changed, parts: parts, packed: new(packed)}
	sum := sha256.New()
	for _, p := range parts {
		sum.Write(p.sum[:])
		d.size += int64(len(p.bytes))
	}
	d.ETag = `"` + hex.EncodeToString(sum.Sum(nil)[:16]) + `"`
	d.digests = sync.OnceValue(d.digest)
	return d
}

// Parts are the document's pieces.
func (d Document) Parts() []Part { return d.parts }

// Bytes are the document's bytes.
func (d Document) Bytes() []byte {
	if len(d.parts) == 1 {
		return d.parts[0].bytes
	}
	all := make([]byte, 0, d.size)
	for _, p := range d.parts {
		all = append(all, p.bytes...)
	}
	return all
}

// Packed is the document by gzip; nil if it is not compressed (yet). A large one
// is compressed beside what goes on, so that it can be answered with at once.
func (d Document) Packed() []byte {
	if d.size < packFrom {
		return nil
	}
	if d.size <= packAtOnce {
		d.packed.once.Do(d.pack)
	} else {
		d.packed.once.Do(func() { go d.pack() })
	}
	if p := d.packed.bytes.Load(); p != nil {
		return *p
	}
	return nil
}

func (d Document) pack() {
	var b bytes.Buffer
	w := packers.Get().(*gzip.Writer)
	defer packers.Put(w)
	w.Reset(&b)
	for _, p := range d.parts {
		_, _ = w.Write(p.bytes) // a buffer takes everything
	}
	_ = w.Close()
	w.Reset(nil) // it keeps the buffer alive otherwise
	compressed := bytes.Clone(b.Bytes())
	d.packed.bytes.Store(&compressed)
}

// packers compress: each has tables of its own, which are larger than most documents.
var packers = sync.Pool{New: func() any {
	w, err := gzip.NewWriterLevel(nil, gzip.BestSpeed+3)
	if err != nil {
		panic(err) // the level is a constant
	}
	return w
}}

// Weight is about what the document takes in memory, in bytes.
func (d Document) Weight() int64 { return 300 + d.size + d.size/4 }

// Digests are the digests of the document's bytes, computed once they are wanted.
func (d Document) Digests() catalog.Digests { return d.digests() }

func (d Document) digest() catalog.Digests {
	content := d.Bytes()
	return catalog.Digests{Size: d.size, MD5: md5.Sum(content), SHA1: sha1.Sum(content),
		SHA256: sha256.Sum256(content), SHA512: sha512.Sum512(content)}
}
