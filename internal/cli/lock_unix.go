//go:build unix

package cli

import (
	"os"
	"syscall"
)

// lockFile takes a file for this process alone, until it ends.
func lockFile(f *os.File) error { return syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) }
