package webspace

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/textproto"
	"net/url"
	"path"
	"sync"
	"time"

	"github.com/jlaffaye/ftp"
)

// transfers is a Space on a machine that speaks FTP (RFC 959), which does one thing at a time; over TLS (RFC 4217) if
// its address begins with ftps.
type transfers struct {
	root string

	turn sync.Mutex // of whoever says something
	c    *ftp.ServerConn
	made map[string]bool // folders that are there

	mu    sync.Mutex
	open  map[*spoken]bool
	ended bool
}

func openFTP(ctx context.Context, o Options) (*transfers, error) {
	u, err := url.Parse(o.Address)
	if err != nil {
		return nil, err
	}
	host := u.Host
	if u.Port() == "" {
		host = net.JoinHostPort(u.Hostname(), "21")
	}
	t := &transfers{root: path.Join("/", u.Path), open: map[*spoken]bool{}, made: map[string]bool{}}
	var safe *tls.Config
	if u.Scheme == "ftps" {
		// Many servers want what comes over a second connection to belong to the first one's session.
		safe = &tls.Config{ServerName: u.Hostname(), ClientSessionCache: tls.NewLRUClientSessionCache(0), RootCAs: o.Roots}
	}
	first := true
	options := []ftp.DialOption{ftp.DialWithShutTimeout(reachedWithin),
		ftp.DialWithDialFunc(func(network, address string) (net.Conn, error) {
			dialing, cancel := context.WithTimeout(ctx, reachedWithin)
			defer cancel()
			conn, err := o.Dial(dialing, network, address)
			if err != nil {
				return nil, err
			}
			over := &spoken{Conn: conn, of: t}
			if err := t.opened(over); err != nil {
				return nil, err
			}
			if safe != nil && !first {
				return &sealed{tls.Client(over, safe), over}, nil
			}
			first = false
			return over, nil
		})}
	if safe != nil {
		options = append(options, ftp.DialWithExplicitTLS(safe))
	}
	// What is hung up on ends at once, wherever it waits.
	context.AfterFunc(ctx, t.hangUp)
	if t.c, err = ftp.Dial(host, options...); err != nil {
		return nil, err
	}
	if err := t.c.Login(o.User, o.Secret); err != nil {
		return nil, errors.Join(fmt.Errorf("it does not let %s in: %w", o.User, err), t.Close())
	}
	if err := t.c.ChangeDir(t.root); err != nil {
		return nil, errors.Join(fmt.Errorf("the folder %s is not there: %w", t.root, err), t.Close())
	}
	return t, nil
}

// spoken is a connection of a space, which is not silent for long.
type spoken struct {
	net.Conn
	of *transfers
}

// longestSilence is how long a machine may be silent in the middle of something.
const longestSilence = time.Minute

// Read implements net.Conn.
func (s *spoken) Read(p []byte) (int, error) {
	if err := s.SetReadDeadline(time.Now().Add(longestSilence)); err != nil {
		return 0, err
	}
	return s.Conn.Read(p)
}

// Write implements net.Conn.
func (s *spoken) Write(p []byte) (int, error) {
	if err := s.SetWriteDeadline(time.Now().Add(longestSilence)); err != nil {
		return 0, err
	}
	return s.Conn.Write(p)
}

// Close implements net.Conn.
func (s *spoken) Close() error {
	s.of.mu.Lock()
	delete(s.of.open, s)
	s.of.mu.Unlock()
	return s.Conn.Close()
}

// sealed is a connection over TLS of which something may still be on its way when it is closed.
type sealed struct {
	*tls.Conn
	over *spoken
}

// Close implements net.Conn. What came and was not read, such as tickets of sessions, would have the system cut off
// what was sent: so it waits until the other side has ended, too. How that ends says nothing of what was sent.
func (s *sealed) Close() error {
	_ = s.CloseWrite()
	if half, ok := s.over.Conn.(interface{ CloseWrite() error }); ok && half.CloseWrite() == nil {
		_, _ = io.Copy(io.Discard, s.Conn)
	}
	return ignoreClosed(s.over.Close())
}

func (t *transfers) opened(conn *spoken) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.ended {
		return errors.Join(net.ErrClosed, conn.Conn.Close())
	}
	t.open[conn] = true
	return nil
}

func (t *transfers) hangUp() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.ended = true
	for conn := range t.open {
		_ = conn.Conn.Close()
	}
}

// unavailable makes fs.ErrNotExist of the answer that something is not there, which is also that for what may not be
// done.
func unavailable(err error) error {
	var said *textproto.Error
	if errors.As(err, &said) && said.Code == ftp.StatusFileUnavailable {
		return fmt.Errorf("%w: %s", fs.ErrNotExist, said.Msg)
	}
	return err
}

func (t *transfers) at(p string) string { return path.Join(t.root, p) }

// makeFolders makes the folders of a path that are not there.
func (t *transfers) makeFolders(dir string) {
	if dir == t.root || dir == "/" || t.made[dir] {
		return
	}
	t.makeFolders(path.Dir(dir))
	// Whether it was there or may not be made, whoever writes into it finds out.
	t.made[dir] = t.c.MakeDir(dir) == nil || t.c.ChangeDir(dir) == nil
}

// Write implements Space.
func (t *transfers) Write(ctx context.Context, p string, content io.ReaderAt, size int64, _ string) error {
	t.turn.Lock()
	defer t.turn.Unlock()
	at := t.at(p)
	t.makeFolders(path.Dir(at))
	name := path.Join(path.Dir(at), partial+rand.Text())
	err := t.c.Stor(name, &whole{r: &until{ctx, io.NewSectionReader(content, 0, size)}, left: size})
	if err == nil { // servers take what was cut for all of it
		var came int64
		if came, err = t.c.FileSize(name); err == nil && came != size {
			err = fmt.Errorf("%d bytes of %d came there", came, size)
		}
	}
	if err == nil {
		// Where a file is not put in the place of another one, that goes first.
		if err = t.c.Rename(name, at); err != nil && unavailable(t.c.Delete(at)) == nil {
			err = t.c.Rename(name, at)
		}
	}
	if err != nil {
		return errors.Join(err, ignoreAbsent(unavailable(t.c.Delete(name))))
	}
	return nil
}

// whole is a reader that must give as many bytes as it is said to.
type whole struct {
	r    io.Reader
	left int64
}

// Read implements io.Reader.
func (w *whole) Read(p []byte) (int, error) {
	n, err := w.r.Read(p)
	w.left -= int64(n)
	if errors.Is(err, io.EOF) && w.left > 0 {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

// Read implements Space.
func (t *transfers) Read(_ context.Context, p string, most int64) ([]byte, error) {
	t.turn.Lock()
	defer t.turn.Unlock()
	size, err := t.c.FileSize(t.at(p))
	if err != nil {
		return nil, unavailable(err)
	}
	if size > most {
		return nil, tooLong(p, most)
	}
	r, err := t.c.Retr(t.at(p))
	if err != nil {
		return nil, unavailable(err)
	}
	raw, err := readAll(r, p, most)
	return raw, errors.Join(err, r.Close())
}

// Size implements Space.
func (t *transfers) Size(_ context.Context, p string) (int64, error) {
	t.turn.Lock()
	defer t.turn.Unlock()
	size, err := t.c.FileSize(t.at(p))
	return size, unavailable(err)
}

// Remove implements Space. Folders that are empty then go too.
func (t *transfers) Remove(_ context.Context, p string) error {
	t.turn.Lock()
	defer t.turn.Unlock()
	if err := t.c.Delete(t.at(p)); err != nil {
		if _, there := t.c.FileSize(t.at(p)); !errors.Is(unavailable(there), fs.ErrNotExist) {
			return err
		}
		return nil
	}
	for dir := path.Dir(p); dir != "."; dir = path.Dir(dir) {
		if t.c.RemoveDir(t.at(dir)) != nil {
			return nil // something else is in it
		}
		delete(t.made, t.at(dir))
	}
	return nil
}

// Close implements Space.
func (t *transfers) Close() error {
	t.turn.Lock()
	err := t.c.Quit()
	t.turn.Unlock()
	t.hangUp()
	return ignoreClosed(err)
}
