package ecosystem

import (
	"context"
	"net"
	"syscall"
	"testing"
)

// TestGathered: packets are held back while an answer is written, and go when it is; without a
// connection it is written all the same.
func TestGathered(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	client, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer client.Close()
	c, err := l.Accept()
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	held := func() (on int) {
		t.Helper()
		raw, err := c.(syscall.Conn).SyscallConn()
		if err != nil {
			t.Fatal(err)
		}
		var asked error
		if err := raw.Control(func(fd uintptr) {
			on, asked = syscall.GetsockoptInt(int(fd), syscall.IPPROTO_TCP, syscall.TCP_CORK)
		}); err != nil || asked != nil {
			t.Fatal(err, asked)
		}
		return on
	}
	during := -1
	gathered(WithConnection(t.Context(), c), func() { during = held() })
	if during != 1 || held() != 0 {
		t.Errorf("held back while it was written: %d, and afterwards: %d", during, held())
	}
	pipe, other := net.Pipe() // is no socket
	defer pipe.Close()
	defer other.Close()
	c.Close()
	for _, ctx := range []context.Context{t.Context(), WithConnection(t.Context(), pipe), WithConnection(t.Context(), c)} {
		written := false
		if gathered(ctx, func() { written = true }); !written {
			t.Error("nothing was written")
		}
	}
}
