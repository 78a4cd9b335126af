package ftp

import (
	"context"
	"crypto/tls"
	"io"
	"net"
	"time"

	"urbankeep/internal/keep"
)

// A refusal must reach the client. Most clients read replies only once their side of the data
// connection is done, and a connection that is reset on them is all that they then tell of. So
// the reply goes out first, what the client still sends is read and thrown away for a while, and the
// connection is closed at its end.

const (
	// drainTime bounds how long a client may go on sending what was refused.
	drainTime = 30 * time.Second
	// eagerTime is how long a client that is refused may take to open the data connection
	// that it was about to use, and to close it.
	eagerTime = time.Second
)

// refusal reports whether an error is the service's own no, and not the end of a connection.
func refusal(err error) bool {
	outcome, reason, _ := keep.OutcomeOf(err)
	return err != nil && outcome != keep.Interrupted && reason != keep.NoDataConnection
}

// drain reads on what a client sends that has been refused, and closes when the client does.
func (c *conn) drain(d dataConn) {
	c.draining.Go(func() {
		defer context.AfterFunc(c.ctx, d.kill)()
		defer time.AfterFunc(drainTime, d.kill).Stop()
		io.Copy(io.Discard, struct{ io.Reader }{d})
		d.finish()
	})
}

// half is a connection of which one direction can be closed.
type half interface {
	io.Reader
	CloseWrite() error
}

// letDown ends a planned data connection that will not be used: a client that has opened it
// already, or is about to, finds it closed and not reset.
func (c *conn) letDown() {
	plan := c.data
	c.data = dataPlan{}
	listener, passive := plan.listener.(*net.TCPListener)
	if !passive {
		plan.drop()
		return
	}
	config, _ := c.dataTLS()
	protected := c.protected
	ctx, cancel := context.WithCancel(c.ctx)
	gone := make(chan struct{})
	c.eager = func() { cancel(); <-gone }
	c.draining.Go(func() {
		defer close(gone)
		defer cancel()
		defer plan.drop()
		defer context.AfterFunc(ctx, func() { listener.Close() })()
		end := time.Now().Add(eagerTime)
		listener.SetDeadline(end)
		raw, err := listener.Accept()
		if err != nil {
			return
		}
		defer raw.Close()
		defer context.AfterFunc(ctx, func() { raw.Close() })()
		own, is := c.sameClient(raw)
		if !is {
			return
		}
		own.SetDeadline(end)
		data := own.(half)
		if protected { // a client that waits for the handshake would tell of that
			secured := tls.Server(own, config)
			if secured.HandshakeContext(ctx) != nil {
				return
			}
			data = secured
		}
		data.CloseWrite()
		io.Copy(io.Discard, data)
	})
}
