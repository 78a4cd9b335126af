package sftp

import (
	"net"
	"syscall"

	"golang.org/x/sys/unix"

	"urbankeep/internal/protocol/wire"
)

// quick is a connection on which what has come is acknowledged at once. A client that does not switch off the algorithm of RFC 896 holds the last part of a
// request back until then: without this each write of 32 KiB takes 40 ms.
type quick struct {
	net.Conn
	raw syscall.RawConn
	off bool // the client needs none of this
}

func quickAcks(conn net.Conn) net.Conn {
	if tcp, can := wire.TCP(conn); can {
		if raw, err := tcp.SyscallConn(); err == nil {
			return &quick{Conn: conn, raw: raw}
		}
	}
	return conn
}

// usualAcks leaves acknowledgements to the kernel again.
func usualAcks(conn net.Conn) {
	if q, is := conn.(*quick); is {
		q.off = true
	}
}

func (q *quick) Read(p []byte) (int, error) {
	n, err := q.Conn.Read(p)
	if err == nil && !q.off {
		q.raw.Control(func(fd uintptr) { unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_QUICKACK, 1) })
	}
	return n, err
}
