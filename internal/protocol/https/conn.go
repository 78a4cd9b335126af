package https

import (
	"crypto/tls"
	"errors"
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
		c := &conn{Conn: raw, leave: leave, stall: e.server.Stall}
		if l.Encryption == keep.EncryptionOff {
			return c, nil
		}
		return tls.Server(c, e.server.tls), nil
	}
}

// enter finds room for a connection: among the strangers, or among those of proxies that tell
// in headers for whom each request is.
func (s *Server) enter(raw net.Conn, l *keep.Listener) (leave func(), ok bool) {
	if l.Forwarded == "" || !l.Proxies.Has(wire.IP(raw.RemoteAddr()).String()) {
		return s.Crowd.Enter(raw)
	}
	if s.brought.Add(1) > maxBrought {
		s.brought.Add(-1)
		return nil, false
	}
	return func() { s.brought.Add(-1) }, true
}

// conn is a connection whose writes fail when the client reads nothing for too long.
type conn struct {
	net.Conn
	leave func()
	stall time.Duration // how long the client may take nothing
	left  atomic.Bool
	own   atomic.Bool  // who answers bounds its writes itself
	until atomic.Int64 // when the bound of a write has to be put off, Unix nanoseconds
}

const (
	// usualStall is how long a client may take nothing.
	usualStall = time.Minute
	// grain is the part of it after which the bound is put off: that costs a system call's time.
	grain = 12
	// piece is what is written with one bound, bytes.
	piece = 4 << 20
)

func (c *conn) SetWriteDeadline(t time.Time) error {
	c.own.Store(!t.IsZero())
	c.until.Store(0)
	return c.Conn.SetWriteDeadline(t)
}

func (c *conn) SetDeadline(t time.Time) error {
	c.own.Store(!t.IsZero())
	c.until.Store(0)
	return c.Conn.SetDeadline(t)
}

func (c *conn) bound() {
	if now := time.Now(); !c.own.Load() && now.UnixNano() > c.until.Load() {
		c.until.Store(now.Add(c.stall / grain).UnixNano())
		c.Conn.SetWriteDeadline(now.Add(c.stall + c.stall/grain))
	}
}

// moves reports whether a write that ran into its bound is to go on: the client is slow, but reads.
func (c *conn) moves(n int64, err error) bool {
	var late net.Error
	if n == 0 || c.own.Load() || !errors.As(err, &late) || !late.Timeout() {
		return false
	}
	c.until.Store(0)
	return true
}

func (c *conn) Write(p []byte) (n int, err error) {
	for {
		c.bound()
		sent, err := c.Conn.Write(p[:min(len(p), piece)])
		n += sent
		p = p[sent:]
		if err != nil && !c.moves(int64(sent), err) || len(p) == 0 {
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
		whole := part.N
		sent, err := io.Copy(c.Conn, part)
		n, limited.N = n+sent, limited.N-(whole-part.N)
		if err != nil && whole-part.N == sent && c.moves(sent, err) {
			continue // nothing was read that was not sent
		}
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
