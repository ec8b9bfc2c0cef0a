package webspace

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"path"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// connection is what the machine of SFTP is spoken to over.
type connection = net.Conn

// remote is a Space on a machine that speaks SFTP (draft-ietf-secsh-filexfer-02), with the extension by which
// OpenSSH renames over what is there.
type remote struct {
	connection *ssh.Client
	files      *sftp.Client
	root       string
}

// OtherHostKey is that a machine shows another key than the one that is known of it, or that none is known.
type OtherHostKey struct{ Host, Shows, Known string }

func (e *OtherHostKey) Error() string {
	if e.Known == "" {
		return fmt.Sprintf("%s shows the host key %s, and none is known of it: if it is right, give it", e.Host, e.Shows)
	}
	return fmt.Sprintf("%s shows the host key %s, and not %s", e.Host, e.Shows, e.Known)
}

// reachedWithin is how long a machine may take to answer, and to let somebody in.
const reachedWithin = 20 * time.Second

func openSFTP(ctx context.Context, o Options) (*remote, error) {
	u, err := url.Parse(o.Address)
	if err != nil {
		return nil, err
	}
	host := u.Host
	if u.Port() == "" {
		host = net.JoinHostPort(u.Hostname(), "22")
	}
	signIn := ssh.Password(o.Secret)
	if strings.HasPrefix(strings.TrimSpace(o.Secret), "-----BEGIN") {
		key, err := ssh.ParsePrivateKey([]byte(o.Secret))
		if err != nil {
			return nil, fmt.Errorf("the private key cannot be read: %w", err)
		}
		signIn = ssh.PublicKeys(key)
	}
	var other *OtherHostKey
	config := &ssh.ClientConfig{User: o.User, Auth: []ssh.AuthMethod{signIn}, Timeout: reachedWithin,
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			if shows := ssh.FingerprintSHA256(key); shows != o.HostKey {
				other = &OtherHostKey{Host: u.Host, Shows: shows, Known: o.HostKey}
				return other
			}
			return nil
		}}
	dialing, cancel := context.WithTimeout(ctx, reachedWithin)
	defer cancel()
	over, err := o.Dial(dialing, "tcp", host)
	if err != nil {
		return nil, err
	}
	if err := over.SetDeadline(time.Now().Add(reachedWithin)); err != nil {
		return nil, errors.Join(err, over.Close())
	}
	c, channels, requests, err := ssh.NewClientConn(over, host, config)
	if err != nil {
		if other != nil {
			err = other
		}
		return nil, errors.Join(err, ignoreClosed(over.Close()))
	}
	if err := over.SetDeadline(time.Time{}); err != nil {
		return nil, errors.Join(err, c.Close())
	}
	client := ssh.NewClient(c, channels, requests)
	files, err := sftp.NewClient(client, sftp.UseConcurrentWrites(true))
	if err != nil {
		return nil, errors.Join(err, client.Close())
	}
	r := &remote{connection: client, files: files, root: u.Path}
	if _, err := files.Stat(r.root); err != nil {
		return nil, errors.Join(fmt.Errorf("the folder %s is not there: %w", r.root, err), r.Close())
	}
	// What is hung up on ends at once, wherever it waits.
	context.AfterFunc(ctx, func() { _ = over.Close() })
	return r, nil
}

func ignoreClosed(err error) error {
	if errors.Is(err, net.ErrClosed) {
		return nil
	}
	return err
}

func (r *remote) at(p string) string { return path.Join(r.root, p) }

// Write implements Space.
func (r *remote) Write(ctx context.Context, p string, content io.ReaderAt, size int64, _ string) error {
	at := r.at(p)
	if err := r.files.MkdirAll(path.Dir(at)); err != nil {
		return err
	}
	name := path.Join(path.Dir(at), partial+rand.Text())
	file, err := r.files.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL)
	if err != nil {
		return err
	}
	err = errors.Join(copyAll(ctx, file, content, size), file.Close())
	if err == nil {
		err = r.replace(name, at)
	}
	if err != nil {
		return errors.Join(err, ignoreAbsent(r.files.Remove(name)))
	}
	return nil
}

// replace gives a file the name of another one. Without the extension that does so at once, what is there is
// taken away first.
func (r *remote) replace(name, at string) error {
	if _, ok := r.files.HasExtension("posix-rename@openssh.com"); ok {
		return r.files.PosixRename(name, at)
	}
	if err := ignoreAbsent(r.files.Remove(at)); err != nil {
		return err
	}
	return r.files.Rename(name, at)
}

// Read implements Space.
func (r *remote) Read(_ context.Context, p string, most int64) ([]byte, error) {
	file, err := r.files.Open(r.at(p))
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return readAll(file, p, most)
}

// Size implements Space.
func (r *remote) Size(_ context.Context, p string) (int64, error) {
	is, err := r.files.Stat(r.at(p))
	if err != nil {
		return 0, err
	}
	return is.Size(), nil
}

// Remove implements Space. Folders that are empty then go too.
func (r *remote) Remove(_ context.Context, p string) error {
	if err := ignoreAbsent(r.files.Remove(r.at(p))); err != nil {
		return err
	}
	for dir := path.Dir(p); dir != "."; dir = path.Dir(dir) {
		if r.files.RemoveDirectory(r.at(dir)) != nil {
			return nil // something else is in it
		}
	}
	return nil
}

// Close implements Space.
func (r *remote) Close() error {
	return errors.Join(ignoreClosed(r.files.Close()), ignoreClosed(r.connection.Close()))
}
