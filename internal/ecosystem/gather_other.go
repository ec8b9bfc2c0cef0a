//go:build !linux

package ecosystem

import "syscall"

func cork(syscall.Conn, int) bool { return false }
