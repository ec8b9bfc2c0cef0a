// Package house runs the real program for tests and measurements: a service
// with a data folder of its own and a private PostgreSQL.
package house

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"crelvo/internal/checkout"
)

// Token signs in as the first user, admin.
const Token = "a-token-for-the-tests-of-crelvo"

// Password is admin's.
const Password = "a-password-for-the-tests"

// Program is the path of bin/crelvo.
func Program() string { return checkout.Path("bin/crelvo") }

// patience is how long a service may take to get ready, and to end: a minute
// was too little for the demo's data where other tests had the machine, and a
// service that hangs is found late as well as soon.
const patience = 4 * time.Minute

// House is a running service.
type House struct {
	Address string
	Data    string
	Command *exec.Cmd
	Args    []string
	// Program is which one runs; "" is bin/crelvo.
	Program string

	mu     sync.Mutex
	log    bytes.Buffer
	ended  chan struct{}
	exit   error
	stdout bytes.Buffer
}

// TempDir makes a folder that the account of a private PostgreSQL can reach.
func TempDir() (string, error) {
	dir, err := os.MkdirTemp("", "crelvo-test-")
	if err != nil {
		return "", err
	}
	return dir, os.Chmod(dir, 0o755)
}

// Start starts a service on a free port of loopback with the given data folder,
// and waits until it answers. More flags may be given.
func Start(data string, flags ...string) (*House, error) {
	h := &House{Data: data, Args: append([]string{"serve", "--data", data, "--listen", "127.0.0.1:0"}, flags...)}
	return h, h.start()
}

// StartOf is Start of another program than bin/crelvo.
func StartOf(program, data string, flags ...string) (*House, error) {
	h := &House{Data: data, Program: program,
		Args: append([]string{"serve", "--data", data, "--listen", "127.0.0.1:0"}, flags...)}
	return h, h.start()
}

// StartDemo starts a service with the demo data, and the demo's own sign-ins.
func StartDemo(data string, flags ...string) (*House, error) {
	h := &House{Data: data, Args: append([]string{"demo", "--data", data, "--listen", "127.0.0.1:0"}, flags...)}
	return h, h.start()
}

func (h *House) start() error {
	h.Command = exec.Command(cmp.Or(h.Program, Program()), h.Args...)
	h.Command.Env = os.Environ()
	if h.Args[0] == "serve" {
		h.Command.Env = append(h.Command.Env, "CRELVO_ADMIN_TOKEN="+Token, "CRELVO_ADMIN_PASSWORD="+Password)
	}
	h.Command.Stderr = writer{&h.mu, &h.log}
	// Whatever becomes of the test, the service ends with it.
	h.Command.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	out, err := h.Command.StdoutPipe()
	if err != nil {
		return err
	}
	address := make(chan string, 1)
	h.ended = make(chan struct{})
	started := make(chan error, 1)
	go func() {
		runtime.LockOSThread() // Pdeathsig is about the thread
		err := h.Command.Start()
		started <- err
		if err != nil {
			return
		}
		lines := bufio.NewScanner(out)
		for lines.Scan() {
			h.mu.Lock()
			fmt.Fprintln(&h.stdout, lines.Text())
			h.mu.Unlock()
			if at, ok := strings.CutPrefix(lines.Text(), "ready on "); ok {
				address <- at
			}
		}
		h.exit = h.Command.Wait()
		close(h.ended)
	}()
	if err := <-started; err != nil {
		return fmt.Errorf("%w; run make build first", err)
	}
	select {
	case h.Address = <-address:
		return nil
	case <-h.ended:
		return fmt.Errorf("the service ended at once: %w: %s", h.exit, h.Log())
	case <-time.After(patience):
		// What it was at tells whether it hung, or the machine was slow.
		_ = h.Command.Process.Signal(syscall.SIGQUIT)
		select {
		case <-h.ended:
		case <-time.After(10 * time.Second):
			_ = h.Kill()
		}
		return errors.New("the service did not get ready: " + h.Log())
	}
}

type writer struct {
	mu *sync.Mutex
	b  *bytes.Buffer
}

func (w writer) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.b.Write(p)
}

// Log is what the service wrote to its standard error.
func (h *House) Log() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.log.String()
}

// Output is what the service wrote to its standard output.
func (h *House) Output() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.stdout.String()
}

// Stop ends the service in order, and gives its exit error.
func (h *House) Stop() error {
	if err := h.Command.Process.Signal(syscall.SIGTERM); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	return h.Wait()
}

// Kill ends the service with SIGKILL.
func (h *House) Kill() error {
	if err := h.Command.Process.Kill(); err != nil {
		return err
	}
	_ = h.Wait() // it was killed
	return nil
}

// Wait waits for the service to end.
func (h *House) Wait() error {
	select {
	case <-h.ended:
		return h.exit
	case <-time.After(patience):
		return errors.New("the service did not end")
	}
}

// Restart starts the service again on the same data.
func (h *House) Restart() error { return h.start() }

// Answer is what came of a request.
type Answer struct {
	Status int
	Reason string // the reason phrase of the status line
	Header http.Header
	Body   []byte
}

// Ask makes a request with a token, or with a name and password written
// name/password; "" is nobody.
func (h *House) Ask(
	ctx context.Context, method, path, token string, body io.Reader, headers ...string,
) (Answer, error) {
	r, err := http.NewRequestWithContext(ctx, method, h.Address+path, body)
	if err != nil {
		return Answer{}, err
	}
	if name, password, ok := strings.Cut(token, "/"); ok {
		r.SetBasicAuth(name, password)
	} else if token != "" {
		r.SetBasicAuth("anybody", token)
	}
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	response, err := http.DefaultTransport.RoundTrip(r)
	if err != nil {
		return Answer{}, err
	}
	defer response.Body.Close()
	raw, err := io.ReadAll(response.Body)
	_, reason, _ := strings.Cut(response.Status, " ")
	return Answer{response.StatusCode, reason, response.Header, raw}, err
}

// JSON asks an operation of the API as admin. in may be nil; out too.
func (h *House) JSON(ctx context.Context, method, path string, in, out any) (Answer, error) {
	var body io.Reader
	if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return Answer{}, err
		}
		body = bytes.NewReader(raw)
	}
	a, err := h.Ask(ctx, method, path, Token, body, "Content-Type", "application/json")
	if err == nil && a.Status < 300 && out != nil {
		err = json.Unmarshal(a.Body, out)
	}
	return a, err
}

// AddRepository makes a house repository.
func (h *House) AddRepository(ctx context.Context, name, holds string) error {
	return h.add(ctx, map[string]any{"name": name, "holds": holds})
}

// AddMirror makes a mirror of a Maven repository; more are settings of it.
func (h *House) AddMirror(ctx context.Context, name, upstream string, more map[string]any) error {
	return h.AddMirrorOf(ctx, "maven", name, upstream, more)
}

// AddMirrorOf makes a mirror of an ecosystem.
func (h *House) AddMirrorOf(ctx context.Context, ecosystem, name, upstream string, more map[string]any) error {
	settings := map[string]any{"upstreams": []string{upstream}}
	for key, value := range more {
		settings[key] = value
	}
	return h.add(ctx, map[string]any{"name": name, "kind": "mirror", "ecosystem": ecosystem, "mirror": settings})
}

// AddChain makes a chain of the named members.
func (h *House) AddChain(ctx context.Context, name string, members ...string) error {
	listed := []map[string]any{}
	for _, m := range members {
		listed = append(listed, map[string]any{"name": m})
	}
	return h.add(ctx, map[string]any{"name": name, "kind": "chain", "chain": map[string]any{"members": listed}})
}

func (h *House) add(ctx context.Context, repository map[string]any) error {
	a, err := h.JSON(ctx, http.MethodPost, "/api/v1/repositories", repository, nil)
	if err == nil && a.Status != http.StatusOK {
		err = fmt.Errorf("making %s: %d %s", repository["name"], a.Status, a.Body)
	}
	return err
}
