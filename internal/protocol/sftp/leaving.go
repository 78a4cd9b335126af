package sftp

import (
	"net"
	"sync/atomic"
)

// leaving is a connection that tells when its client has left, to who waits for something else meanwhile.
type leaving struct {
	net.Conn
	tell atomic.Pointer[func()]
}

// watch has somebody told; nil: nobody any more.
func (l *leaving) watch(tell func()) {
	if tell == nil {
		l.tell.Store(nil)
		return
	}
	l.tell.Store(&tell)
}

func (l *leaving) Read(p []byte) (int, error) {
	n, err := l.Conn.Read(p)
	if err != nil {
		if tell := l.tell.Load(); tell != nil {
			(*tell)()
		}
	}
	return n, err
}
