package https

import (
	"crypto/tls"
	"io"
	"net"
	"sync/atomic"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/wire"
)

// entrance lets connections in, and puts TLS on them where the listener speaks it.
type entrance struct {
	net.Listener
	server *Server
}

func (e entrance) Accept() (net.Conn, error) {
	for {
		raw, err := e.Listener.Accept()
		if err != nil {
			return nil, err
		}
		l := e.server.current.Load()
		leave, ok := e.server.enter(raw, l)
		if !ok {
			raw.Close()
			continue
		}
		c := &conn{Conn: raw, leave: leave}
		if l.Encryption == keep.EncryptionOff {
			return c, nil
		}
		return tls.Server(c, e.server.tls), nil
	}
}

// enter finds room for a connection: among the strangers, or among those of proxies that tell
// in headers for whom each request is.
func (s *Server) enter(raw net.Conn, l *keep.Listener) (leave func(), ok bool) {
	if !l.Forwarded || !l.Proxies.Has(wire.IP(raw.RemoteAddr()).String()) {
		return s.Crowd.Enter(raw)
	}
	if s.brought.Add(1) > maxBrought {
		s.brought.Add(-1)
		return nil, false
	}
	return func() { s.brought.Add(-1) }, true
}

// conn is a connection whose writes fail when the client does not read for too long.
type conn struct {
	net.Conn
	leave func()
	left  atomic.Bool
	own   atomic.Bool // who answers bounds its writes itself
}

const (
	// stall is how long a client may take to read a piece.
	stall = time.Minute
	// piece is what is sent with one bound, bytes.
	piece = 1 << 20
)

func (c *conn) SetWriteDeadline(t time.Time) error {
	c.own.Store(!t.IsZero())
	return c.Conn.SetWriteDeadline(t)
}

func (c *conn) SetDeadline(t time.Time) error {
	c.own.Store(!t.IsZero())
	return c.Conn.SetDeadline(t)
}

func (c *conn) bound() {
	if !c.own.Load() {
		c.Conn.SetWriteDeadline(time.Now().Add(stall))
	}
}

func (c *conn) Write(p []byte) (n int, err error) {
	for {
		c.bound()
		sent, err := c.Conn.Write(p[:min(len(p), piece)])
		n += sent
		if p = p[sent:]; err != nil || len(p) == 0 {
			return n, err
		}
	}
}

// ReadFrom sends a reader piece by piece; a file is sent by the kernel.
func (c *conn) ReadFrom(r io.Reader) (n int64, err error) {
	limited, ok := r.(*io.LimitedReader)
	if !ok {
		limited = &io.LimitedReader{R: r, N: 1<<63 - 1}
	}
	for limited.N > 0 {
		c.bound()
		part := &io.LimitedReader{R: limited.R, N: min(limited.N, piece)}
		sent, err := io.Copy(c.Conn, part)
		n, limited.N = n+sent, limited.N-sent
		if err != nil || part.N > 0 {
			return n, err
		}
	}
	return n, nil
}

func (c *conn) Close() error {
	if !c.left.Swap(true) {
		c.leave()
	}
	return c.Conn.Close()
}

// NetConn is what lies below.
func (c *conn) NetConn() net.Conn { return c.Conn }
