package collector

import (
	"syscall"

	"golang.org/x/sys/unix"
)

// control has the system give up on bytes that the other side does not acknowledge
// (RFC 5482).
func control(network, _ string, c syscall.RawConn) error {
	if network != "tcp4" && network != "tcp6" {
		return nil
	}
	return c.Control(func(fd uintptr) {
		unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_USER_TIMEOUT, int(unacked.Milliseconds()))
	})
}
