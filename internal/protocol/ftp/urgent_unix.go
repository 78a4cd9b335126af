//go:build unix

package ftp

import (
	"net"
	"syscall"

	"urbankeep/internal/protocol/wire"
)

// inlineUrgent keeps urgent bytes in the stream. Clients send the Synch of an ABOR so (RFC 959, section
// 4.1.3), and some the line's own end.
func inlineUrgent(conn net.Conn) {
	if tcp, ok := wire.TCP(conn); ok {
		if raw, err := tcp.SyscallConn(); err == nil {
			_ = raw.Control(func(fd uintptr) { _ = syscall.SetsockoptInt(int(fd), syscall.SOL_SOCKET, syscall.SO_OOBINLINE, 1) })
		}
	}
}
