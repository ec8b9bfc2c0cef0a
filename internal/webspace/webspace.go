// Package webspace writes files to where a web server hands them out as they are: a folder, a machine that speaks
// SFTP or FTP, a server that takes PUT (WebDAV or plain), or a bucket that speaks S3.
package webspace

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path/filepath"
	"strings"
)

// Space is such a place. Its methods may be called at the same time. Paths have slashes, and are below its root.
type Space interface {
	// Write puts size bytes at a path, in the place of what is there. Where the place can do that, a reader meets
	// either what was there or all of the new.
	Write(ctx context.Context, path string, content io.ReaderAt, size int64, contentType string) error
	// Read gives what is at a path, which is at most that long; fs.ErrNotExist if nothing is.
	Read(ctx context.Context, path string, most int64) ([]byte, error)
	// Size tells how many bytes are at a path; fs.ErrNotExist if nothing is.
	Size(ctx context.Context, path string) (int64, error)
	// Remove takes away what is at a path. That nothing is there is no error.
	Remove(ctx context.Context, path string) error
	// Close ends what the space holds open.
	Close() error
}

// Options tell where a space is, and who signs in.
type Options struct {
	// Address is the whole path of a folder, sftp://HOST[:PORT]/PATH, ftp(s)://HOST[:PORT]/PATH, http(s)://HOST/PATH/, or
	// s3+https://HOST/BUCKET/PREFIX?region=REGION&addressing=path.
	Address string
	// User and Secret are a name and a password; for SFTP the secret may be a private key (PEM), and for S3 they
	// are an access key and its secret. Over HTTP, a secret without a user is a Bearer token.
	User, Secret string
	// HostKey is that of the machine that speaks SFTP, by its fingerprint: SHA256:….
	HostKey string
	// Roots are whom a machine of FTP over TLS must be vouched for by; nil: those of this machine.
	Roots *x509.CertPool
	// Client is what asks servers of HTTP and S3, and Dial reaches the machines of SFTP and FTP.
	Client *http.Client
	Dial   func(ctx context.Context, network, address string) (connection, error)
	Agent  string
}

// Kinds of spaces, as people call them.
const (
	Folder = "folder"
	SFTP   = "sftp"
	FTP    = "ftp"
	PUT    = "put"
	S3     = "s3"
)

// errAddress is that an address says nothing of a space.
var errAddress = errors.New("write the whole path of a folder, sftp://HOST/PATH, ftps://HOST/PATH, " +
	"https://HOST/PATH/ of a server that takes PUT, or s3+https://HOST/BUCKET/PREFIX")

// Kind tells of which kind the space at an address is. Errors are for people.
func Kind(address string) (string, error) {
	if filepath.IsAbs(address) {
		if filepath.Clean(address) == "/" {
			return "", errors.New("the root of the file system is no folder to write to")
		}
		return Folder, nil
	}
	u, err := url.Parse(strings.TrimPrefix(address, "s3+"))
	if err != nil || u.Host == "" || u.User != nil || u.Fragment != "" {
		return "", errAddress
	}
	web := u.Scheme == "http" || u.Scheme == "https"
	switch {
	case strings.HasPrefix(address, "s3+") && web:
		if bucket, _ := bucketIn(u); bucket == "" {
			return "", errAddress
		}
		return S3, nil
	case u.RawQuery != "":
		return "", errAddress
	case u.Scheme == "sftp":
		return SFTP, nil
	case u.Scheme == "ftp" || u.Scheme == "ftps":
		return FTP, nil
	case web:
		return PUT, nil
	}
	return "", errAddress
}

// Host is the address of the server of a space, as of a web address; "" for a folder.
func Host(address string) string {
	if filepath.IsAbs(address) {
		return ""
	}
	u, err := url.Parse(strings.TrimPrefix(address, "s3+"))
	if err != nil {
		return ""
	}
	return u.Scheme + "://" + u.Host + "/"
}

// Open opens a space. Only SFTP and FTP ask their machines for anything yet.
func Open(ctx context.Context, o Options) (Space, error) {
	kind, err := Kind(o.Address)
	if err != nil {
		return nil, err
	}
	switch kind {
	case Folder:
		return openFolder(o.Address)
	case SFTP:
		return openSFTP(ctx, o)
	case FTP:
		return openFTP(ctx, o)
	case S3:
		return openS3(o)
	}
	return openPUT(o), nil
}

// tooLong is that a file is longer than it may be.
func tooLong(path string, most int64) error {
	return fmt.Errorf("%s is longer than %d bytes", path, most)
}

// readAll reads a file that may have so many bytes.
func readAll(r io.Reader, path string, most int64) ([]byte, error) {
	raw, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && int64(len(raw)) > most {
		err = tooLong(path, most)
	}
	return raw, err
}
