package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"
)

// confirm asks before what no single command takes back, unless --yes was given.
func (s *session) confirm(cmd *cobra.Command, question string) error {
	if s.yes {
		return nil
	}
	fmt.Fprint(cmd.ErrOrStderr(), question+" [y/N] ")
	answer, err := readLine(cmd.Context(), newInput(cmd))
	if err != nil && err != io.EOF {
		return err
	}
	if a := strings.ToLower(strings.TrimSpace(answer)); a != "y" && a != "yes" {
		return fmt.Errorf("nothing was changed; answer y, or give --yes")
	}
	return nil
}

func newInput(cmd *cobra.Command) *bufio.Reader { return bufio.NewReader(cmd.InOrStdin()) }

// ended runs what waits for a person, and does not wait any longer than the context.
func ended[T any](ctx context.Context, wait func() (T, error)) (T, error) {
	type result struct {
		value T
		err   error
	}
	done := make(chan result, 1)
	go func() {
		value, err := wait()
		done <- result{value, err}
	}()
	select {
	case r := <-done:
		return r.value, r.err
	case <-ctx.Done():
		var nothing T
		return nothing, ctx.Err()
	}
}

// readLine reads a line that somebody types.
func readLine(ctx context.Context, input *bufio.Reader) (string, error) {
	return ended(ctx, func() (string, error) { return input.ReadString('\n') })
}

// onTerminal tells whether a person is asked.
func onTerminal(cmd *cobra.Command) (fd int, is bool) {
	f, ok := cmd.InOrStdin().(*os.File)
	if !ok {
		return 0, false
	}
	return int(f.Fd()), term.IsTerminal(int(f.Fd()))
}

// readPassword reads a password: unseen from a terminal, else a line.
func readPassword(cmd *cobra.Command, input *bufio.Reader) (string, error) {
	fd, is := onTerminal(cmd)
	if !is {
		line, err := readLine(cmd.Context(), input)
		if err == io.EOF {
			err = nil
		}
		return strings.TrimRight(line, "\r\n"), err
	}
	fmt.Fprint(cmd.ErrOrStderr(), "Password: ")
	state, err := term.GetState(fd)
	if err != nil {
		return "", err
	}
	raw, err := ended(cmd.Context(), func() ([]byte, error) { return term.ReadPassword(fd) })
	fmt.Fprintln(cmd.ErrOrStderr())
	if cmd.Context().Err() != nil {
		_ = term.Restore(fd, state) // what is typed from here on is seen again
	}
	return string(raw), err
}
