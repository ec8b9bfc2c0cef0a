package store

import (
	"bytes"
	"errors"
	"os"
	"testing"
)

// TestStageNoRoom: a failure of the disk is not one of the client.
func TestStageNoRoom(t *testing.T) {
	full, err := os.OpenFile("/dev/full", os.O_RDWR, 0)
	if err != nil {
		t.Skip(err)
	}
	defer full.Close()
	for _, size := range []int{10, 4 * chunkSize} {
		err = newDigester().copy(t.Context(), full, bytes.NewReader(make([]byte, size)), false)
		if w := (writeError{}); !errors.As(err, &w) {
			t.Errorf("%d bytes: %v; want a write error", size, err)
		}
	}
}
