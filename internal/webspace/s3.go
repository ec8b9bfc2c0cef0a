package webspace

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"strings"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

// bucket is a Space in a bucket of an object store that speaks S3.
type bucket struct {
	client       *minio.Client
	name, prefix string
}

func bucketIn(u *url.URL) (name, prefix string) {
	name, prefix, _ = strings.Cut(strings.Trim(u.Path, "/"), "/")
	if prefix != "" {
		prefix += "/"
	}
	return name, prefix
}

func openS3(o Options) (*bucket, error) {
	u, err := url.Parse(strings.TrimPrefix(o.Address, "s3+"))
	if err != nil {
		return nil, err
	}
	lookup := minio.BucketLookupAuto
	switch how := u.Query().Get("addressing"); how {
	case "path":
		lookup = minio.BucketLookupPath
	case "host":
		lookup = minio.BucketLookupDNS
	case "":
	default:
		return nil, fmt.Errorf("%q is no way to address a bucket; write path or host", how)
	}
	with := credentials.NewEnvAWS()
	if o.User != "" {
		with = credentials.NewStaticV4(o.User, o.Secret, "")
	}
	client, err := minio.New(u.Host, &minio.Options{Creds: with, Secure: u.Scheme == "https",
		Region: u.Query().Get("region"), BucketLookup: lookup, Transport: o.Client.Transport})
	if err != nil {
		return nil, err
	}
	name, prefix := bucketIn(u)
	return &bucket{client, name, prefix}, nil
}

// Write implements Space: an object appears whole.
func (b *bucket) Write(ctx context.Context, at string, content io.ReaderAt, size int64, contentType string) error {
	var body io.Reader = io.NewSectionReader(content, 0, size)
	if size == 0 {
		body = bytes.NewReader(nil) // of which it is seen that there is nothing to send
	}
	_, err := b.client.PutObject(ctx, b.name, b.prefix+at, body, size, minio.PutObjectOptions{ContentType: contentType})
	return err
}

// absent makes fs.ErrNotExist of an object that is not there.
func absent(err error) error {
	if r := minio.ToErrorResponse(err); err != nil && (r.Code == minio.NoSuchKey || r.StatusCode == http.StatusNotFound &&
		r.Code != minio.NoSuchBucket) {
		return fs.ErrNotExist
	}
	return err
}

// Read implements Space.
func (b *bucket) Read(ctx context.Context, at string, most int64) ([]byte, error) {
	object, err := b.client.GetObject(ctx, b.name, b.prefix+at, minio.GetObjectOptions{})
	if err != nil {
		return nil, absent(err)
	}
	defer object.Close()
	raw, err := readAll(object, at, most)
	return raw, absent(err)
}

// Size implements Space.
func (b *bucket) Size(ctx context.Context, at string) (int64, error) {
	is, err := b.client.StatObject(ctx, b.name, b.prefix+at, minio.StatObjectOptions{})
	return is.Size, absent(err)
}

// Remove implements Space.
func (b *bucket) Remove(ctx context.Context, at string) error {
	return ignoreAbsent(absent(b.client.RemoveObject(ctx, b.name, b.prefix+at, minio.RemoveObjectOptions{})))
}

// Close implements Space.
func (b *bucket) Close() error { return nil }
