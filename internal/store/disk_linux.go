package store

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// startWriting begins to write a part of a file to the disk. It is only a hint:
// where it is not supported, fsync does all the work.
func startWriting(file *os.File, offset, length int64) {
	_ = unix.SyncFileRange(int(file.Fd()), offset, length, unix.SYNC_FILE_RANGE_WRITE)
}

// diskOf tells how large the disk of a folder is, and how much of it is free, in
// bytes.
func diskOf(folder string) (size, free int64, err error) {
	var disk unix.Statfs_t
	err = unix.Statfs(folder, &disk)
	return int64(disk.Blocks) * disk.Bsize, int64(disk.Bavail) * disk.Bsize, err
}

// tryLock takes the lock on a file until it is closed, or gives ErrBusy.
func tryLock(file *os.File) error {
	err := unix.Flock(int(file.Fd()), unix.LOCK_EX|unix.LOCK_NB)
	if errors.Is(err, unix.EWOULDBLOCK) {
		return ErrBusy
	}
	return err
}
