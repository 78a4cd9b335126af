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
func (c *conn) claimed(ctx context.Context, listener net.Listener) (dataConn, error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	claims := make(chan claim)
	defer context.AfterFunc(ctx, func() { listener.Close() })()
	go c.admit(ctx, listener, claims)

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
			secured, proved, _ := c.shake(ctx, own)
			select {
			case claims <- claim{secured, proved}:
			case <-ctx.Done():
				raw.Close()
			}
		}()
	}
}

// shake puts TLS over a data connection, and closes it when that fails.
func (c *conn) shake(ctx context.Context, raw net.Conn) (secured *tlsData, proved bool, err error) {
	spy := &eofSpy{Conn: wire.QuickAcks(raw)}
	config, mine := c.dataTLS()
	over := tls.Server(spy, config)
	if err := over.HandshakeContext(ctx); err != nil {
		raw.Close()
		return nil, false, errNoDataTLS
	}
	return &tlsData{over, spy, c.server.Timeouts.Stall}, mine(over.ConnectionState()), nil
}
