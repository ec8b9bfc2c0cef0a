package cli

import (
	"os"

	"golang.org/x/sys/windows"
)

// lockFile takes a file for this process alone, until it ends. What is locked is a
// byte behind its text, so that others can read whose it is.
func lockFile(f *os.File) error {
	return windows.LockFileEx(windows.Handle(f.Fd()), windows.LOCKFILE_EXCLUSIVE_LOCK|windows.LOCKFILE_FAIL_IMMEDIATELY, 0,
		1, 0, &windows.Overlapped{Offset: 1 << 20})
}
