//go:build linux

// Package privatepg runs a PostgreSQL server of Crelvo's own, from the server
// binaries that are installed on the machine, in a folder, on loopback only.
package privatepg

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"crelvo/internal/core/fault"
)

// Server is a running PostgreSQL.
type Server struct {
	URL  string // how to reach its database
	Log  string // the file that it writes what goes wrong to
	cmd  *exec.Cmd
	done chan struct{} // closed when the process has ended
}

const (
	superuser = "crelvo"
	stopWait  = 20 * time.Second
)

// Start makes the cluster in dir if there is none and starts it. When the
// caller is root the server runs as an unprivileged account, since PostgreSQL
// refuses to be root; dir must then be reachable for that account.
func Start(ctx context.Context, dir string) (*Server, error) {
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	account, err := serverAccount()
	if err != nil {
		return nil, err
	}
	dir, err = filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o711); err != nil {
		return nil, err
	}
	if account != nil {
		if err := reachable(dir, account); err != nil {
			return nil, err
		}
	}
	passwordFile := dir + "-password"
	password, err := readOrMakePassword(passwordFile)
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(dir); errors.Is(err, fs.ErrNotExist) {
		if err := initialise(ctx, bin, dir, password, account); err != nil {
			return nil, err
		}
	}
	if err := awaitFormer(ctx, dir); err != nil {
		return nil, err
	}
	return start(ctx, bin, dir, password, account)
}

// binaries finds the folder of the newest server binaries.
func binaries() (string, error) {
	if path, err := exec.LookPath("postgres"); err == nil {
		if initdb := filepath.Join(filepath.Dir(path), "initdb"); executable(initdb) {
			return filepath.Dir(path), nil
		}
	}
	found, newest := "", 0
	matches, err := filepath.Glob("/usr/lib/postgresql/*/bin")
	if err != nil {
		return "", err
	}
	for _, dir := range matches {
		version, err := strconv.Atoi(filepath.Base(filepath.Dir(dir)))
		if err == nil && version > newest && executable(filepath.Join(dir, "initdb")) {
			found, newest = dir, version
		}
	}
	if found == "" {
		return "", fault.New(fault.Internal, "no-postgresql", "no PostgreSQL server is installed").
			WithHint("Install Debian's postgresql package, or give the address of a database with --database.")
	}
	return found, nil
}

func executable(path string) bool {
	stat, err := os.Stat(path)
	return err == nil && stat.Mode()&0o111 != 0
}

// serverAccount is the account to run as, nil for the caller's own.
func serverAccount() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	for _, name := range []string{"postgres", "nobody"} {
		u, err := user.Lookup(name)
		if err != nil {
			continue
		}
		uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
		gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
		if err := errors.Join(err1, err2); err != nil {
			return nil, err
		}
		return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
	}
	return nil, errors.New(
		"PostgreSQL does not run as root, and there is no account \"postgres\" or \"nobody\"; start Crelvo as another user")
}

// reachable checks that the account can get to dir through its parents.
func reachable(dir string, account *syscall.Credential) error {
	for parent := filepath.Dir(dir); ; parent = filepath.Dir(parent) {
		stat, err := os.Stat(parent)
		if err != nil {
			return err
		}
		owner, ok := stat.Sys().(*syscall.Stat_t)
		if stat.Mode()&0o001 == 0 && !(ok && owner.Uid == account.Uid && stat.Mode()&0o100 != 0) {
			return fault.New(fault.Internal, "folder-closed",
				"the private PostgreSQL runs as another account, which may not enter %s", parent).
				WithHint("Choose another --data folder, or run: chmod o+x %s", parent)
		}
		if parent == filepath.Dir(parent) {
			return nil
		}
	}
}

func readOrMakePassword(path string) (string, error) {
	raw, err := os.ReadFile(path)
	if err == nil {
		return strings.TrimSpace(string(raw)), nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	password := rand.Text()
	return password, os.WriteFile(path, []byte(password+"\n"), 0o600)
}

// initialise makes the cluster in a folder beside dir, which becomes dir when
// it is whole: an initdb that was cut is begun again by the next start.
func initialise(ctx context.Context, bin, dir, password string, account *syscall.Credential) error {
	unfinished := dir + ".unfinished"
	if err := errors.Join(os.RemoveAll(unfinished), os.Mkdir(unfinished, 0o700)); err != nil {
		return err
	}
	if account != nil {
		if err := os.Chown(unfinished, int(account.Uid), int(account.Gid)); err != nil {
			return err
		}
	}
	// initdb reads the password from a file, as the account that it runs as.
	secret, err := os.CreateTemp("", "crelvo-")
	if err != nil {
		return err
	}
	defer os.Remove(secret.Name())
	_, err = secret.WriteString(password + "\n")
	if account != nil {
		err = errors.Join(err, secret.Chown(int(account.Uid), int(account.Gid)))
	}
	if err := errors.Join(err, secret.Close()); err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "--pgdata="+unfinished, "--username="+superuser,
		"--pwfile="+secret.Name(), "--auth=scram-sha-256", "--encoding=UTF8", "--locale=C.UTF-8", "--data-checksums")
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: account}
	if output, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("initdb: %w: %s", err, lastLine(output))
	}
	return os.Rename(unfinished, dir)
}

// awaitFormer waits for the server of a process that was killed to finish its
// own stop.
func awaitFormer(ctx context.Context, dir string) error {
	deadline := time.Now().Add(stopWait)
	for {
		raw, err := os.ReadFile(filepath.Join(dir, "postmaster.pid"))
		if err != nil {
			return nil // none, or just gone
		}
		first, _, _ := bytes.Cut(raw, []byte("\n"))
		pid, err := strconv.Atoi(string(bytes.TrimSpace(first)))
		if err != nil || syscall.Kill(pid, 0) != nil || !isPostgres(pid) {
			return nil // left behind by a crash; PostgreSQL itself sorts that out
		}
		if time.Now().After(deadline) {
			return fault.New(fault.Internal, "postgresql-runs", "another PostgreSQL (process %d) still uses %s", pid, dir).
				WithHint("Stop it, or choose another --data folder.")
		}
		// Its parent may have ended without its knowing.
		_ = syscall.Kill(pid, syscall.SIGINT)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

func isPostgres(pid int) bool {
	name, err := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
	return err == nil && strings.TrimSpace(string(name)) == "postgres"
}

func start(ctx context.Context, bin, dir, password string, account *syscall.Credential) (*Server, error) {
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	output, err := os.Create(dir + ".log")
	if err != nil {
		return nil, err
	}
	defer output.Close() // the server has its own
	cmd := exec.Command(filepath.Join(bin, "postgres"), "-D", dir, "-p", strconv.Itoa(port),
		"-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=",
		"-c", "max_connections=64", "-c", "shared_buffers=32MB", "-c", "jit=off",
		// Statements that were planned while a table was next to empty stay as they were until it is analyzed.
		"-c", "autovacuum_naptime=10s",
		"-c", "log_min_messages=fatal", "-c", "max_wal_size=1GB")
	cmd.Dir = "/"
	cmd.Stdout, cmd.Stderr = output, output
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: account, Setpgid: true, Pdeathsig: syscall.SIGINT}
	s := &Server{Log: output.Name(), cmd: cmd, done: make(chan struct{})}
	started := make(chan error, 1)
	go func() {
		// Pdeathsig fires when the thread that started the process ends.
		runtime.LockOSThread()
		defer close(s.done)
		err := cmd.Start()
		started <- err
		if err == nil {
			_ = cmd.Wait() // Stop and the readiness loop only need to know that it ended
		}
	}()
	if err := <-started; err != nil {
		return nil, err
	}
	address := url.URL{Scheme: "postgres", User: url.UserPassword(superuser, password),
		Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(port)), Path: "postgres", RawQuery: "sslmode=disable"}
	s.URL = address.String()
	for {
		conn, err := pgx.Connect(ctx, s.URL)
		if err == nil {
			return s, conn.Close(ctx)
		}
		select {
		case <-s.done:
			said, readErr := os.ReadFile(output.Name())
			return nil, errors.Join(fmt.Errorf("PostgreSQL ended at once: %s", lastLine(said)), readErr)
		case <-ctx.Done():
			return nil, errors.Join(ctx.Err(), s.Stop())
		case <-time.After(20 * time.Millisecond):
		}
	}
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// Done is closed when the server has ended, by Stop or by itself.
func (s *Server) Done() <-chan struct{} { return s.done }

// Pid is the process of the server, whose children do its work.
func (s *Server) Pid() int { return s.cmd.Process.Pid }

// Stop ends the server; connections are cut, nothing committed is lost.
func (s *Server) Stop() error { return s.end(syscall.SIGINT) }

// Abandon ends the server at once. What it has is not to be used again.
func (s *Server) Abandon() error { return s.end(syscall.SIGQUIT) }

func (s *Server) end(how syscall.Signal) error {
	if err := s.cmd.Process.Signal(how); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	select {
	case <-s.done:
		return nil
	case <-time.After(stopWait):
		_ = s.cmd.Process.Kill()
		return errors.New("PostgreSQL did not stop in time and was killed; it recovers at its next start")
	}
}

func lastLine(output []byte) string {
	text := strings.TrimSpace(string(output))
	return text[strings.LastIndexByte(text, '\n')+1:]
}
