package wire

import (
	"net"
	"syscall"

	"golang.org/x/sys/unix"
)

// quick is a connection on which what has come is acknowledged at once. A client that does not switch off the algorithm of RFC 896 holds the last part of a
// request, or the end of a file, back until then: without this each takes 40 ms more.
type quick struct {
	net.Conn
	raw syscall.RawConn
	off bool // the client needs none of this
}

// QuickAcks gives a connection on which what has come is acknowledged at once.
func QuickAcks(conn net.Conn) net.Conn {
	if tcp, can := TCP(conn); can {
		if raw, err := tcp.SyscallConn(); err == nil {
			return &quick{Conn: conn, raw: raw}
		}
	}
	return conn
}

// UsualAcks leaves acknowledgements to the kernel again.
func UsualAcks(conn net.Conn) {
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
