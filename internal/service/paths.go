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
)

// paths are how this machine itself reaches the API: the control socket.
type paths struct {
	local    net.Listener
	server   *http.Server
	stopping context.Context // ends event streams, of web listeners too
	cancel   context.CancelFunc
}

func (s *Service) openPaths() (*paths, error) {
	p := &paths{}
	p.stopping, p.cancel = context.WithCancel(context.Background())
	s.pages.Stopping = p.stopping
	var err error
	if p.local, err = listenLocal(filepath.Join(s.dir, command.SocketName)); err != nil {
		p.cancel()
		return nil, err
	}
	return p, nil
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

func (p *paths) serve(s *Service) {
	p.server = &http.Server{Handler: s.pages.Handler(true), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10}
	s.run(func() error {
		if err := p.server.Serve(p.local); !errors.Is(err, http.ErrServerClosed) {
			return err
		}
		return nil
	})
}

// stop ends the event streams and waits for what else is being answered.
func (p *paths) stop(ctx context.Context) {
	p.cancel()
	if p.server.Shutdown(ctx) != nil {
		p.server.Close()
	}
}
