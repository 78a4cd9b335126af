package ftp

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/wire"
)

// Keeper lets connections in.
type Keeper interface {
	// Arrive opens the visit of a new connection. cut closes the connection
	// from outside, for a reason that the client is told.
	Arrive(remote net.Addr, protocol keep.Protocol, encrypted bool, cut func(*keep.Fault)) Visit
}

// Visit is one connection as the house sees it.
type Visit interface {
	// MayBePlain reports whether an account may sign in without TLS, where the
	// listener would let it or not, and records the refusal when not.
	MayBePlain(ctx context.Context, account string, byListener bool) bool
	// MustProtect reports whether data of who is signed in goes encrypted only, where the listener would let it go in clear.
	MustProtect() bool
	// SignIn opens the account's tree. The error is a [keep.Fault].
	SignIn(ctx context.Context, account string, password keep.Secret) (*tree.Tree, error)
	// Offer reports whether the key of a client certificate would sign an account in.
	Offer(ctx context.Context, account string, key ssh.PublicKey) bool
	// KeyProved opens the account's tree for a client that has proved, by its TLS
	// handshake, that it has the key; a [keep.PasswordToo] says that a password
	// must follow.
	KeyProved(ctx context.Context, account string, key ssh.PublicKey) (*tree.Tree, error)
	// Secured says that the connection is encrypted from now on.
	Secured(cipher string)
	// Named says what software the client claims to be.
	Named(client string)
	// SignOut ends the session, not the connection; why is nil for a plain goodbye.
	SignOut(why *keep.Fault)
}

// Timeouts bound how long anything may take, so that no client ever hangs and no
// client makes the service wait for ever.
type Timeouts struct {
	SignIn  time.Duration // from the connection to the end of the sign-in
	Idle    time.Duration // between two commands, a running transfer not counted
	Connect time.Duration // for a data connection to come about, TLS included
	Stall   time.Duration // without a byte moved on a data connection
	Reply   time.Duration // for the client to take a reply
}

// DefaultTimeouts are the usual bounds.
var DefaultTimeouts = Timeouts{SignIn: time.Minute, Idle: 15 * time.Minute, Connect: 30 * time.Second, Stall: time.Minute, Reply: 30 * time.Second}

// usualTries ends a connection after so many failed sign-ins.
const usualTries = 3

func (s *Server) tries() int {
	if s.Attempts == nil {
		return usualTries
	}
	return s.Attempts()
}

// Server serves one listener.
type Server struct {
	Listener keep.Listener
	TLS      *tls.Config
	Keeper   Keeper
	Admit    func(from string, l *keep.Listener) bool // may an address connect; nil: everybody
	Attempts func() int                               // sign-ins that one connection may try; nil: a few
	Crowd    *wire.Crowd                              // the room for who has not signed in; nil: one of its own
	Ours     func(netip.AddrPort) bool                // is it an address that the service itself listens on; nil: none is
	Timeouts Timeouts
	Log      *slog.Logger

	wire    wire.Server
	ports   portRange
	current atomic.Pointer[keep.Listener]
}

// Configure puts changed settings of the listener in force for new connections;
// those that are open keep what they began with. Address and ports stay.
func (s *Server) Configure(l keep.Listener) { s.current.Store(&l) }

// PassiveUse is how many passive ports are taken, and how often there was none left.
func (s *Server) PassiveUse() (taken, refused int) { return s.ports.use() }

// Serve accepts connections until Shutdown.
func (s *Server) Serve(l net.Listener) error {
	s.current.CompareAndSwap(nil, &s.Listener)
	s.ports.low, s.ports.high = s.Listener.PassiveLow, s.Listener.PassiveHigh
	s.wire.Handle, s.wire.Log = s.handle, s.Log
	if s.Admit != nil {
		s.wire.Admit = func(from string) bool { return s.Admit(from, s.current.Load()) }
	}
	s.wire.TurnAway = func(conn net.Conn) {
		if s.Listener.Protocol == keep.FTP {
			io.WriteString(conn, "421 too many connections that have not signed in; try again later\r\n")
		}
	}
	s.wire.Crowd = s.Crowd
	return s.wire.Serve(l)
}

// Retire takes no new connections; those that are open go on.
func (s *Server) Retire() { s.wire.Retire() }

// Shutdown lets running transfers end until ctx is done, then cuts the rest.
func (s *Server) Shutdown(ctx context.Context) { s.wire.Shutdown(ctx) }

func (s *Server) handle(stopping context.Context, raw net.Conn, signedIn func()) {
	c := newConn(s, raw, stopping)
	c.signedIn = signedIn
	defer c.end()
	if c.listener.Protocol == keep.FTPS {
		if err := c.secure(); err != nil {
			s.Log.Debug("TLS handshake failed", "remote", raw.RemoteAddr(), "cause", err)
			return
		}
	}
	c.run()
}

// timedOut reports whether an error is a passed deadline.
func timedOut(err error) bool {
	var timeout net.Error
	return errors.As(err, &timeout) && timeout.Timeout()
}
