package https

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/wire"
)

// Visit is how a request came.
type Visit struct {
	Listener  *keep.Listener
	Encrypted bool // between the client and this program, or the proxy that is believed
}

// Server serves one listener.
type Server struct {
	Listener keep.Listener
	TLS      *tls.Config
	Handle   func(w http.ResponseWriter, r *http.Request, v Visit)
	Admit    func(from string, l *keep.Listener) bool // may an address ask
	Crowd    *wire.Crowd                              // the room for connections
	Onward   func(listener string) (port int)         // of a listener that requests are sent on to; 0: it does not listen
	Answer   func(token string) (text string)         // what an ACME authority is to find (RFC 8555, section 8.3); "": nothing
	Ready    func(ctx context.Context) bool           // does the service do its work
	Stall    time.Duration                            // how long a client may take nothing of an answer; 0: a minute
	Log      *slog.Logger

	current atomic.Pointer[keep.Listener]
	begin   sync.Once
	tls     *tls.Config
	http    *http.Server
	brought atomic.Int64 // connections of proxies that tell in headers for whom they are

	mu      sync.Mutex
	retired bool
	socket  net.Listener
}

const (
	// headerTime bounds how long a handshake, and the head of a request, may take.
	headerTime = 10 * time.Second
	// bodyTime is how long the body of a request may take that nobody reads.
	bodyTime = 20 * time.Second
	// idleTime is how long a connection may wait for its next request.
	idleTime = 2 * time.Minute
	// maxHeader bounds the head of a request, bytes.
	maxHeader = 64 << 10
	// maxStreams bounds the requests at once of one HTTP/2 connection.
	maxStreams = 64
	// maxBrought bounds the connections of proxies that tell in headers for whom they are.
	maxBrought = 1024
)

// acmeProtocol is what an authority asks for that wants to see a certificate of its challenge
// (RFC 8737).
const acmeProtocol = "acme-tls/1"

func (s *Server) prepare() {
	s.begin.Do(func() {
		s.current.CompareAndSwap(nil, &s.Listener)
		s.Stall = cmp.Or(s.Stall, usualStall)
		s.tls = s.TLS.Clone()
		s.tls.NextProtos = []string{"h2", "http/1.1", acmeProtocol}
		s.http = &http.Server{Handler: s, ReadHeaderTimeout: headerTime, IdleTimeout: idleTime, MaxHeaderBytes: maxHeader,
			DisableGeneralOptionsHandler: true, // OPTIONS * too is for the faces to answer
			HTTP2:                        &http.HTTP2Config{MaxConcurrentStreams: maxStreams, WriteByteTimeout: s.Stall, SendPingTimeout: time.Minute},
			ErrorLog:                     slog.NewLogLogger(s.Log.Handler(), slog.LevelDebug),
			ConnContext:                  withConn}
	})
}

// Configure puts changed settings in force: TLS for new connections, all else for new
// requests. The address stays.
func (s *Server) Configure(l keep.Listener) { s.current.Store(&l) }

// Serve answers until Shutdown, or until Retire and the last request.
func (s *Server) Serve(l net.Listener) error {
	s.prepare()
	s.mu.Lock()
	if s.retired {
		s.mu.Unlock()
		return l.Close()
	}
	s.socket = l
	s.mu.Unlock()
	err := s.http.Serve(entrance{l, s})
	s.mu.Lock()
	defer s.mu.Unlock()
	if errors.Is(err, http.ErrServerClosed) || s.retired {
		return nil
	}
	return err
}

// Retire takes no new connections; what is being answered goes on, and is the last on
// its connection.
func (s *Server) Retire() {
	s.prepare()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.retired = true
	if s.socket != nil {
		s.socket.Close()
	}
	s.http.SetKeepAlivesEnabled(false)
}

// Shutdown lets what is being answered end until ctx is done, then cuts the rest.
func (s *Server) Shutdown(ctx context.Context) {
	s.prepare()
	if s.http.Shutdown(ctx) != nil {
		s.http.Close()
	}
}
