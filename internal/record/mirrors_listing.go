package record

import (
	"bytes"
	"context"
	"encoding/gob"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"sync"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"crelvo/internal/core/catalog"
)

// The coders of listings, which are large, for one listing at a time each. They work by
// themselves, and not by goroutines of their own.
var (
	listingWriters = sync.Pool{New: func() any {
		w, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1),
			zstd.WithWindowSize(256<<10))
		return &coder[*zstd.Encoder]{w, err}
	}}
	listingReaders = sync.Pool{New: func() any {
		r, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true))
		return &coder[*zstd.Decoder]{r, err}
	}}
)

type coder[T any] struct {
	it  T
	err error
}

// detailsAtOnce is of how many versions the details are written together.
const detailsAtOnce = 64

// detailed are the details of a version of a listing, by its place in it.
type detailed struct {
	At      int
	Details catalog.Details
}

// packListing writes a listing compressed: first what is asked of it most, which versions
// and files there are, then what they are like, part by part, since some list thousands.
// What ecosystems say in their own form is written as it is.
func packListing(l catalog.Listing) ([]byte, error) {
	pooled := listingWriters.Get().(*coder[*zstd.Encoder])
	if pooled.err != nil {
		return nil, pooled.err
	}
	defer listingWriters.Put(pooled)
	var b bytes.Buffer
	pooled.it.Reset(&b)
	encoder := gob.NewEncoder(pooled.it)
	versions := l.Versions
	l.Versions = slices.Clone(versions)
	for i := range l.Versions {
		l.Versions[i].Details = nil
	}
	if err := encoder.Encode(l); err != nil {
		return nil, err
	}
	some := make([]detailed, 0, detailsAtOnce)
	for i, v := range versions {
		if v.Details != nil {
			some = append(some, detailed{i, *v.Details})
			some[len(some)-1].Details.Readme = nil // it is kept apart
		}
		if len(some) == detailsAtOnce || i == len(versions)-1 && len(some) > 0 {
			if err := encoder.Encode(some); err != nil {
				return nil, err
			}
			some = some[:0]
		}
	}
	err := pooled.it.Close()
	return b.Bytes(), err
}

// unpackListing reads what packListing wrote; without details, if these are not wanted.
func unpackListing(raw []byte, details bool) (l catalog.Listing, err error) {
	if len(raw) == 0 {
		return l, nil
	}
	if raw[0] == '{' || bytes.HasPrefix(raw, []byte{0x1f, 0x8b}) { // RFC 1952 section 2.3.1
		return unpackOldListing(raw)
	}
	pooled := listingReaders.Get().(*coder[*zstd.Decoder])
	if pooled.err != nil {
		return l, pooled.err
	}
	defer listingReaders.Put(pooled)
	if err := pooled.it.Reset(bytes.NewReader(raw)); err != nil {
		return l, err
	}
	decoder := gob.NewDecoder(pooled.it)
	if err := decoder.Decode(&l); err != nil || !details {
		return l, err
	}
	for {
		var some []detailed
		if err := decoder.Decode(&some); err == io.EOF {
			return l, nil
		} else if err != nil {
			return l, err
		}
		for i := range some {
			if at := some[i].At; at < 0 || at >= len(l.Versions) {
				return l, fmt.Errorf("a listing of %d versions has details of number %d", len(l.Versions), at)
			}
			l.Versions[some[i].At].Details = &some[i].Details
		}
	}
}

// unpackOldListing reads a listing as it was written before: as JSON, compressed or not.
func unpackOldListing(raw []byte) (l catalog.Listing, err error) {
	if raw[0] == '{' {
		return l, json.Unmarshal(raw, &l)
	}
	zipped, err := gzip.NewReader(bytes.NewReader(raw))
	if err != nil {
		return l, err
	}
	decoder := json.NewDecoder(zipped)
	if err := decoder.Decode(&l); err != nil {
		return l, err
	}
	for {
		var v catalog.ListedVersion
		if err := decoder.Decode(&v); err == io.EOF {
			return l, nil
		} else if err != nil {
			return l, err
		}
		l.Versions = append(l.Versions, v)
	}
}

// ListedNames are the packages without a namespace of which a mirror keeps something, or has
// a list of its upstream.
func (db *DB) ListedNames(ctx context.Context, repositoryID int64, ecosystem string) (names []string, err error) {
	err = db.SelectContext(ctx, &names, `select name from package where repository_id = $1 and ecosystem = $2
			and namespace = '' and versions > 0
		union select name from upstream_document where repository_id = $1 and ecosystem = $2 and namespace = ''
			and name <> '' and found order by 1`, repositoryID, ecosystem)
	return names, err
}
