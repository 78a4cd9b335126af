package ftp

import (
	"context"
	"crypto/tls"
	"net"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/wire"
)

// Whoever shares a client's address can connect to its passive port. A data connection that resumes the TLS session of
// the command connection is the client's own, since nobody else has the ticket. Not every client can resume, and one that
// can may have used up its tickets (RFC 8446, appendix C.4); so a client is expected to from its first data connection that
// did until one that did not and had no rival. Where it is expected, a connection that did not resume has to wait for a rival that does.

const (
	// rivalTime is how long a data connection that proves nothing waits for one that does.
	rivalTime = time.Second
	// mostRivals is how many may come to one passive port.
	mostRivals = 16
)

var errNoDataTLS = keep.Refuse(keep.NoDataConnection, "TLS on the data connection failed")

// claim is one connection that came to a passive port.
type claim struct {
	conn   *tlsData // nil when its handshake failed
	proved bool     // it resumes the session of the command connection
}

// claimed makes the data connection of a passive plan with TLS: of those that come, the one that proves to be the client's.
func (c *conn) claimed(ctx context.Context, listener net.Listener, claims <-chan claim) (dataConn, error) {
	defer context.AfterFunc(ctx, func() { listener.Close() })()
	var first *tlsData
	var waited <-chan time.Time
	for {
		select {
		case one := <-claims:
			switch {
			case one.proved:
				c.resumes = true
				if first != nil {
					first.kill()
				}
				return one.conn, nil
			case first == nil:
				first = one.conn
			case one.conn != nil:
				one.conn.kill()
			}
			if !c.resumes && !c.listener.ResumeData {
				return settled(first, errNoDataTLS)
			}
			if waited == nil {
				waited = time.After(rivalTime)
			}
		case <-waited:
			if c.listener.ResumeData && first != nil {
				first.kill()
				return nil, errNotResumed
			}
			c.resumes = false
			return settled(first, errNoDataTLS)
		case <-ctx.Done():
			return settled(first, errNoDataCame)
		}
	}
}

func settled(d *tlsData, none error) (dataConn, error) {
	if d == nil {
		return nil, none
	}
	return d, nil
}

// admit takes connections until the listener closes or ctx ends, and shakes hands with each on its own: none of
// them can hold up another.
func (c *conn) admit(ctx context.Context, listener net.Listener, claims chan<- claim) {
	for range mostRivals {
		raw, err := listener.Accept()
		if err != nil {
			return
		}
		go func() {
			own, is := c.sameClient(raw)
			if !is {
				raw.Close() // somebody else's; RFC 2577, section 7
				return
			}
			c.handIn(ctx, own, claims)
		}()
	}
}

// handIn puts TLS over a connection of the client's and hands it in.
func (c *conn) handIn(ctx context.Context, own net.Conn, claims chan<- claim) {
	secured, proved, _ := c.shake(ctx, own, nil)
	one := make(chan claim, 1)
	one <- claim{secured, proved}
	pass(ctx, one, claims)
}

// pass hands one on, unless nobody waits for it any more.
func pass(ctx context.Context, from <-chan claim, to chan<- claim) {
	one := <-from
	select {
	case to <- one:
	case <-ctx.Done():
		if one.conn != nil {
			one.conn.kill()
		}
	}
}

// When a client begins TLS on a data connection. Some do as soon as it is there, and take the reply 150 for the word that it is done:
// they end an empty file on a connection that is not protected yet. So what has begun by then is brought to its end first.
const (
	speaksUnknown = iota
	speaksEarly   // before the 150
	speaksLate

	// firstWait is how long the first data connection of a client is given to begin, helloWait each further one of those that did.
	firstWait, helloWait = 30 * time.Millisecond, 500 * time.Millisecond
	// handshakeWait is how long the 150 waits for what has begun.
	handshakeWait = time.Second
)

// greet shakes hands with a client that begins before the 150.
func (c *conn) greet() {
	listener, passive := c.data.listener.(*net.TCPListener)
	if !c.protected || !passive {
		return
	}
	wait := map[int]time.Duration{speaksUnknown: firstWait, speaksEarly: helloWait, speaksLate: time.Millisecond}[c.speaks]
	until := time.Now().Add(wait)
	listener.SetDeadline(until)
	raw, err := listener.Accept()
	listener.SetDeadline(time.Time{})
	if err != nil {
		c.speaks = speaksLate
		return
	}
	own, is := c.sameClient(raw)
	if !is {
		raw.Close() // somebody else's; RFC 2577, section 7
		return
	}
	first := make([]byte, 1)
	own.SetReadDeadline(until)
	n, err := own.Read(first)
	own.SetReadDeadline(time.Time{})
	switch {
	case n == 1:
		ctx, quit := context.WithTimeout(c.ctx, c.server.Timeouts.Connect)
		c.speaks, c.data.quit, c.data.shakes = speaksEarly, quit, make(chan claim, 1)
		shaken := make(chan struct{})
		go func(to chan<- claim) {
			secured, proved, _ := c.shake(ctx, own, first)
			to <- claim{secured, proved}
			close(shaken)
		}(c.data.shakes)
		select {
		case <-shaken:
		case <-time.After(handshakeWait):
		}
	case timedOut(err):
		c.speaks, c.data.came = speaksLate, own
	default: // it has gone again
		own.Close()
		c.data.quit, c.data.shakes = func() {}, make(chan claim, 1)
		c.data.shakes <- claim{}
	}
}

// shake puts TLS over a data connection, and closes it when that fails. first is what was read of it already.
func (c *conn) shake(ctx context.Context, raw net.Conn, first []byte) (secured *tlsData, proved bool, err error) {
	spy := &eofSpy{Conn: wire.QuickAcks(raw), first: first}
	config, mine := c.dataTLS()
	over := tls.Server(spy, config)
	if err := over.HandshakeContext(ctx); err != nil {
		raw.Close()
		return nil, false, errNoDataTLS
	}
	return &tlsData{over, spy, c.server.Timeouts.Stall}, mine(over.ConnectionState()), nil
}
