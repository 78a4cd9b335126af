// Package wire is what every protocol server does with its listeners and
// connections: accept, hand over, count, and stop in an orderly way. It knows
// no protocol.
package wire

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"net/netip"
	"sync"
	"time"
)

// Server serves connections until it is shut down. Its zero value with Handle
// set is ready.
type Server struct {
	// Handle serves one connection. It returns soon after stopping is cancelled
	// when the connection is idle, or once its running transfer has ended.
	Handle func(stopping context.Context, conn net.Conn)
	Log    *slog.Logger

	mu        sync.Mutex
	stop      context.CancelFunc // nil until the first Serve or Shutdown
	stopping  context.Context
	listeners map[net.Listener]bool
	conns     map[net.Conn]bool
	running   sync.WaitGroup
}

// begin makes the state; the caller holds mu.
func (s *Server) begin() {
	if s.stopping == nil {
		s.stopping, s.stop = context.WithCancel(context.Background())
		s.listeners, s.conns = map[net.Listener]bool{}, map[net.Conn]bool{}
	}
}

// Serve accepts connections until Shutdown, which makes it return nil.
func (s *Server) Serve(l net.Listener) error {
	s.mu.Lock()
	s.begin()
	if s.stopping.Err() != nil {
		s.mu.Unlock()
		return errors.Join(l.Close())
	}
	s.listeners[l] = true
	s.mu.Unlock()
	for {
		conn, err := l.Accept()
		if err != nil {
			if s.stopping.Err() != nil {
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
		if !s.start(conn) {
			conn.Close()
		}
	}
}

// start runs Handle in a goroutine that Shutdown waits for; false when stopping.
func (s *Server) start(conn net.Conn) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.stopping.Err() != nil {
		return false
	}
	s.conns[conn] = true
	s.running.Add(1)
	go func() {
		defer s.running.Done()
		defer func() {
			conn.Close()
			s.mu.Lock()
			delete(s.conns, conn)
			s.mu.Unlock()
		}()
		s.Handle(s.stopping, conn)
	}()
	return true
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

// IP is the address without its port, an IPv4 address in its own form even on a
// listener for both families.
func IP(addr net.Addr) netip.Addr {
	ap, err := netip.ParseAddrPort(addr.String())
	if err != nil {
		return netip.Addr{}
	}
	return ap.Addr().Unmap().WithZone("")
}
