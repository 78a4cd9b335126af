package ftp

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/tls"
	"time"

	"golang.org/x/crypto/ssh"

	"urbankeep/internal/keep"
)

// secure puts TLS over the control connection.
func (c *conn) secure() error {
	secured := tls.Server(c.raw, c.controlTLS())
	ctx, stop := context.WithTimeout(c.ctx, c.server.Timeouts.Connect)
	defer stop()
	if err := secured.HandshakeContext(ctx); err != nil {
		return err
	}
	c.control, c.encrypted = secured, true
	c.lines = newLineReader(secured)
	state := secured.ConnectionState()
	if certificates := state.PeerCertificates; len(certificates) > 0 {
		now := time.Now()
		if leaf := certificates[0]; !now.Before(leaf.NotBefore) && now.Before(leaf.NotAfter) {
			c.key, _ = ssh.NewPublicKey(leaf.PublicKey) // a kind that SSH does not know opens nothing
		}
	}
	c.visit.Secured(tls.VersionName(state.Version) + " " + tls.CipherSuiteName(state.CipherSuite))
	return nil
}

// ticketMark begins what a session ticket of ours carries beside TLS's own: the
// command connection that it was made for.
var ticketMark = []byte("urbankeep control ")

// controlTLS is the configuration of a command connection.
func (c *conn) controlTLS() *tls.Config {
	c.ticket = append(bytes.Clone(ticketMark), rand.Text()...)
	config := c.server.TLS.Clone()
	if c.listener.ClientCertificates {
		// Whoever signed it: what counts is whether its key is one of the account's.
		config.ClientAuth = tls.RequestClientCert
	}
	config.WrapSession = c.wrap
	config.UnwrapSession = c.server.TLS.DecryptTicket
	return config
}

// wrap marks the tickets of this connection.
func (c *conn) wrap(state tls.ConnectionState, session *tls.SessionState) ([]byte, error) {
	session.Extra = append(session.Extra, c.ticket)
	return c.server.TLS.EncryptTicket(state, session)
}

var errNotResumed = keep.Refuse(keep.NoDataConnection, "the TLS session of the data connection must resume that of the command connection: this service asks for it, so that nobody else can take the data")

// dataTLS is the configuration of a data connection, and a look at its session once the
// handshake is done: whether it resumes that of this command connection.
func (c *conn) dataTLS() (*tls.Config, func(tls.ConnectionState) bool) {
	base := c.server.TLS
	config := base.Clone()
	if c.ticket == nil { // the command connection is in clear
		return config, func(tls.ConnectionState) bool { return false }
	}
	mine := false
	config.WrapSession = c.wrap
	if c.listener.ClientCertificates {
		config.ClientAuth = tls.RequestClientCert // else crypto/tls does not resume a session that has one
	}
	config.UnwrapSession = func(identity []byte, state tls.ConnectionState) (*tls.SessionState, error) {
		session, err := base.DecryptTicket(identity, state)
		if err != nil || session == nil {
			return nil, err
		}
		for _, extra := range session.Extra {
			mine = mine || bytes.Equal(extra, c.ticket)
		}
		if !mine {
			return nil, nil
		}
		return session, nil
	}
	return config, func(state tls.ConnectionState) bool { return mine && state.DidResume }
}
