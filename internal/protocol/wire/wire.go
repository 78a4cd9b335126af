package wire

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"net/netip"
	"runtime/debug"
	"sync"
	"time"
)

// Server serves connections until it is shut down. Its zero value with Handle
// set is ready.
type Server struct {
	// Handle serves one connection. It returns soon after stopping is cancelled
	// when the connection is idle, or once its running transfer has ended. It
	// calls signedIn when somebody has signed in.
	Handle func(stopping context.Context, conn net.Conn, signedIn func())
	// Admit decides whether an address may connect; nil lets everybody.
	Admit func(from string) bool
	// TurnAway says what can be said to a connection that is one too many, and
	// must not wait. Nil says nothing.
	TurnAway func(conn net.Conn)
	// Crowd is the room for strangers, which servers may share; nil: [UsualCrowd].
	Crowd *Crowd
	Log   *slog.Logger

	mu        sync.Mutex
	stop      context.CancelFunc // nil until the first Serve or Shutdown
	stopping  context.Context
	retired   bool
	listeners map[net.Listener]bool
	conns     map[net.Conn]bool
	turning   chan struct{} // who is being turned away
	running   sync.WaitGroup
}

// begin makes the state; the caller holds mu.
func (s *Server) begin() {
	if s.stopping == nil {
		s.stopping, s.stop = context.WithCancel(context.Background())
		s.listeners, s.conns, s.turning = map[net.Listener]bool{}, map[net.Conn]bool{}, make(chan struct{}, maxTurning)
	}
}

// Serve accepts connections until Shutdown, which makes it return nil.
func (s *Server) Serve(l net.Listener) error {
	s.mu.Lock()
	s.begin()
	if s.stopping.Err() != nil || s.retired {
		s.mu.Unlock()
		return errors.Join(l.Close())
	}
	s.listeners[l] = true
	s.mu.Unlock()
	for {
		conn, err := l.Accept()
		if err != nil {
			if s.stopping.Err() != nil || s.isRetired() {
				return nil
			}
			if errors.Is(err, net.ErrClosed) {
				return err
			}
			s.Log.Warn("connection not accepted", "cause", err) // out of file descriptors, most likely
			select {
			case <-time.After(100 * time.Millisecond):
			case <-s.stopping.Done():
			}
			continue
		}
		if s.Admit != nil && !s.Admit(IP(conn.RemoteAddr()).String()) {
			conn.Close()
			continue
		}
		if !s.start(conn) {
			s.turnAway(conn)
		}
	}
}

// turnAway says a word to a connection and closes it. Nobody waits for that.
func (s *Server) turnAway(conn net.Conn) {
	select {
	case s.turning <- struct{}{}:
	default: // too many to talk to
		conn.Close()
		return
	}
	s.mu.Lock()
	stopping := s.stopping.Err() != nil
	if !stopping {
		s.running.Add(1) // before Shutdown waits, or not at all
	}
	s.mu.Unlock()
	if stopping {
		conn.Close()
		<-s.turning
		return
	}
	go func() {
		defer s.running.Done()
		defer func() { conn.Close(); <-s.turning }()
		if s.TurnAway != nil {
			conn.SetDeadline(time.Now().Add(turnAwayTime))
			s.TurnAway(conn)
		}
	}()
}

func (s *Server) isRetired() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.retired
}

const (
	// turnAwayTime bounds how long a connection that is turned away stays; a word fits into
	// an empty socket buffer at once.
	turnAwayTime = time.Second
	// maxTurning bounds how many are being turned away at once.
	maxTurning = 32
)

// start runs Handle in a goroutine that Shutdown waits for; false when stopping
// or when there are too many strangers.
func (s *Server) start(conn net.Conn) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.stopping.Err() != nil {
		return false
	}
	if s.Crowd == nil {
		s.Crowd = UsualCrowd()
	}
	known, ok := s.Crowd.Enter(conn)
	if !ok {
		return false
	}
	s.conns[conn] = true
	s.running.Add(1)
	go func() {
		defer s.running.Done()
		defer Rescue(s.Log, conn.RemoteAddr())
		defer func() {
			conn.Close()
			known()
			s.mu.Lock()
			delete(s.conns, conn)
			s.mu.Unlock()
		}()
		s.Handle(s.stopping, conn, known)
	}()
	return true
}

// Rescue, deferred by a goroutine that serves one connection, keeps a fault of
// the program there from ending everybody else's.
func Rescue(log *slog.Logger, remote net.Addr) {
	if cause := recover(); cause != nil {
		log.Error("connection ended by a fault of the program", "remote", remote, "cause", cause, "stack", string(debug.Stack()))
	}
}

// Shutdown closes the listeners, lets running transfers end until ctx is done,
// then cuts what is left. It returns when nothing runs any more.
func (s *Server) Shutdown(ctx context.Context) {
	s.mu.Lock()
	s.begin()
	s.stop()
	for l := range s.listeners {
		l.Close()
	}
	s.mu.Unlock()
	ended := make(chan struct{})
	go func() {
		s.running.Wait()
		close(ended)
	}()
	select {
	case <-ended:
		return
	case <-ctx.Done():
	}
	s.mu.Lock()
	for conn := range s.conns {
		conn.Close()
	}
	s.mu.Unlock()
	<-ended
}

// Retire closes the listeners; connections that are open go on.
func (s *Server) Retire() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.begin()
	s.retired = true
	for l := range s.listeners {
		l.Close()
	}
}

// Port is the port of a TCP address.
func Port(addr net.Addr) int {
	ap, err := netip.ParseAddrPort(addr.String())
	if err != nil {
		return 0
	}
	return int(ap.Port())
}

// IP is the address without its port, an IPv4 address in its own form even on a
// listener for both families.
func IP(addr net.Addr) netip.Addr {
	ap, err := netip.ParseAddrPort(addr.String())
	if err != nil {
		return netip.Addr{}
	}
	return ap.Addr().Unmap().WithZone("")
}
