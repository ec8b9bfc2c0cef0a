package store

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// startWriting leaves all the work to fsync.
func startWriting(*os.File, int64, int64) {}

// diskOf tells how large the disk of a folder is, and how much of it is free, in
// bytes.
func diskOf(folder string) (size, free int64, err error) {
	var disk unix.Statfs_t
	err = unix.Statfs(folder, &disk)
	return int64(disk.Blocks) * int64(disk.Bsize), int64(disk.Bavail) * int64(disk.Bsize), err
}

// tryLock takes the lock on a file until it is closed, or gives ErrBusy.
func tryLock(file *os.File) error {
	err := unix.Flock(int(file.Fd()), unix.LOCK_EX|unix.LOCK_NB)
	if errors.Is(err, unix.EWOULDBLOCK) {
		return ErrBusy
	}
	return err
}
