package ecosystem

import "syscall"

// cork holds back packets that are not full, or lets them go (TCP_CORK of tcp(7)).
func cork(c syscall.Conn, on int) bool {
	raw, err := c.SyscallConn()
	if err != nil {
		return false
	}
	var corkErr error
	err = raw.Control(func(fd uintptr) {
		corkErr = syscall.SetsockoptInt(int(fd), syscall.IPPROTO_TCP, syscall.TCP_CORK, on)
	})
	return err == nil && corkErr == nil
}
