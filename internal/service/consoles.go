package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"urbankeep/internal/face/command"
	"urbankeep/internal/face/web"
)

// consoles are the two faces of the API: over HTTP and over the control socket.
type consoles struct {
	http, local net.Listener
	servers     []*http.Server
	stopping    context.Context
	cancel      context.CancelFunc
}

func (s *Service) openConsoles(given net.Listener) (*consoles, error) {
	c := &consoles{}
	c.stopping, c.cancel = context.WithCancel(context.Background())
	var err error
	if c.http = given; given != nil {
		// a supervisor has opened it
	} else if c.http, err = net.Listen("tcp", s.consoleAt); err != nil {
		return nil, fmt.Errorf("console on %s: %w: choose another with -console", s.consoleAt, err)
	}
	if c.local, err = listenLocal(filepath.Join(s.dir, command.SocketName)); err != nil {
		c.http.Close()
		return nil, err
	}
	return c, nil
}

// maxSocketPath is what every Unix allows for the path of a socket (sun_path).
const maxSocketPath = 103

// listenLocal opens the control socket with mode 0600. A socket that an earlier
// run left is removed: the lock on the data folder says that nobody serves it.
func listenLocal(file string) (net.Listener, error) {
	if len(file) > maxSocketPath {
		return nil, fmt.Errorf("control socket %s: the path is longer than %d bytes: choose a data folder with a shorter path", file, maxSocketPath)
	}
	if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("control socket: %w", err)
	}
	setUmask(0o177)
	l, err := net.Listen("unix", file)
	setUmask(0) // files get the modes that umasks of accounts give; the service names the modes of its own
	if err != nil {
		return nil, fmt.Errorf("control socket: %w", err)
	}
	return l, nil
}

// serve starts both.
func (c *consoles) serve(s *Service) {
	api := &web.Server{Office: s.Office, Operators: s.Operators, DB: s.DB, Trail: s.Trail, Seal: s.Seal, Traffic: s.Traffic, Series: s.Series, Metrics: s.metrics, Posts: s, Status: s.Status, Admit: func(address string) bool { return s.door.gate.Load().Admit(address) }, Stopping: c.stopping, Log: s.log}
	for _, face := range []struct {
		l     net.Listener
		local bool
	}{{s.webCrowd(c.http), false}, {c.local, true}} {
		server := &http.Server{Handler: api.Handler(face.local), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10}
		c.servers = append(c.servers, server)
		s.run(func() error {
			if err := server.Serve(face.l); !errors.Is(err, http.ErrServerClosed) {
				return err
			}
			return nil
		})
	}
}

// stop ends the event streams and waits for what else is being answered.
func (c *consoles) stop(ctx context.Context) {
	c.cancel()
	for _, server := range c.servers {
		if server.Shutdown(ctx) != nil {
			server.Close()
		}
	}
}

// Watched is ConsoleAddress for [office.Live].
func (s *Service) Watched() string { return s.ConsoleAddress() }

// ConsoleAddress is where the console really listens.
func (s *Service) ConsoleAddress() string { return s.web.http.Addr().String() }

// SetupLink makes the one-time link for the first operator; "" when there is one.
func (s *Service) SetupLink(ctx context.Context) (string, error) {
	operators, err := s.DB.Operators(ctx)
	if err != nil || len(operators) > 0 {
		return "", err
	}
	secret, err := s.Operators.NewSetup(ctx)
	// The secret stands behind the #, which browsers keep to themselves: it is in
	// no request and no log.
	return "http://" + s.ConsoleAddress() + "/setup#" + secret.Reveal(), err
}
