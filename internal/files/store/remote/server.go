package remote

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/sftpclient"
	"urbankeep/internal/keep"
)

// Server is the other server.
type Server struct {
	name   string // of the store
	site   keep.Site
	config *ssh.ClientConfig
	base   string // the folder, without a slash at its end

	mu    sync.Mutex
	conns [connections]*conn
	next  int
	ended bool
	names sync.Mutex // held between a look at a name and what is done to it
}

// connections bounds how many are open to the server.
const connections = 4

// conn is one connection, or the attempt at one.
type conn struct {
	mu     sync.Mutex
	client *sftpclient.Client
	failed time.Time // when connecting failed last
	why    error
}

// tryAgain is how long it takes until a server is called again that could not be reached.
const tryAgain = 2 * time.Second

// hostKeys are the kinds of host keys that the server is asked for, one after the other until it shows one that is
// pinned: by a fingerprint nobody knows of which kind its key is.
var hostKeys = [][]string{{ssh.KeyAlgoED25519}, {ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521}, {ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}}

// errOther says that a server shows a host key that was not pinned.
var errOther = errors.New("which is not one of those that were pinned: somebody may be in between, or the key was changed")

// New gives a server; nothing is asked of it yet. signer, if not nil, signs in instead of the secret.
func New(store string, site keep.Site, secret keep.Secret, signer ssh.Signer) *Server {
	s := &Server{name: store, site: site, base: strings.TrimSuffix(site.Folder, "/")}
	s.config = &ssh.ClientConfig{User: site.User, ClientVersion: "SSH-2.0-UrbanKeep", Timeout: 5 * time.Second,
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			if shown := ssh.FingerprintSHA256(key); !slices.Contains(site.HostKeys, shown) {
				return fmt.Errorf("it shows the host key %s (%s), %w", shown, key.Type(), errOther)
			}
			return nil
		}}
	if signer != nil {
		s.config.Auth = append(s.config.Auth, ssh.PublicKeys(signer))
	}
	if secret != "" {
		s.config.Auth = append(s.config.Auth, ssh.Password(secret.Reveal()), ssh.KeyboardInteractive(func(_, _ string, questions []string, _ []bool) ([]string, error) {
			answers := make([]string, len(questions))
			for i := range answers {
				answers[i] = secret.Reveal()
			}
			return answers, nil
		}))
	}
	return s
}

// Close ends the connections.
func (s *Server) Close() {
	s.mu.Lock()
	s.ended = true
	conns := s.conns
	s.mu.Unlock()
	for _, c := range conns {
		if c != nil {
			c.mu.Lock()
			if c.client != nil {
				c.client.Close()
			}
			c.mu.Unlock()
		}
	}
}

// Root is the store's own folder.
func (s *Server) Root() store.Folder { return &folder{s, s.base} }

// Reach connects, if that has not been done.
func (s *Server) Reach() error {
	_, err := s.client()
	return err
}

// client gives a connection, in turn.
func (s *Server) client() (*sftpclient.Client, error) {
	s.mu.Lock()
	if s.ended {
		s.mu.Unlock()
		return nil, s.fault(errors.New("it is not used any more"))
	}
	s.next++
	at := s.next % connections
	if s.conns[at] == nil {
		s.conns[at] = new(conn)
	}
	c := s.conns[at]
	s.mu.Unlock()
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.client != nil && c.client.Gone() == nil {
		return c.client, nil
	}
	if time.Since(c.failed) < tryAgain {
		return nil, c.why
	}
	client, err := s.dial()
	if err != nil {
		c.failed, c.why = time.Now(), s.fault(fmt.Errorf("it can't be connected to: %w", err))
		return nil, c.why
	}
	c.client = client
	return client, nil
}

func (s *Server) dial() (client *sftpclient.Client, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), sftpclient.Patience)
	defer cancel()
	var first error
	for _, kind := range hostKeys {
		config := *s.config
		config.HostKeyAlgorithms = kind
		client, err := sftpclient.Dial(ctx, s.site.Endpoint, &config)
		if err == nil {
			return client, nil
		}
		other := errors.Is(err, errOther)
		if first == nil || other {
			first = err
		}
		if !other && !strings.Contains(err.Error(), "no common algorithm for host key") {
			return nil, err
		}
	}
	return nil, first
}

// fault is an error of the server as sessions are told of it.
func (s *Server) fault(err error) error {
	return &keep.Fault{Reason: keep.StoreAway, Say: "the store " + s.name + " did not do it: try again, and tell the administrator if it goes on", Cause: fmt.Errorf("store %s, %s: %w", s.name, s.site.Endpoint, err)}
}

// wrong turns an error of the server into one of a file system.
func (s *Server) wrong(op, name string, err error) error {
	var status *sftpclient.Status
	if err == nil {
		return nil
	}
	if fault := (*keep.Fault)(nil); errors.As(err, &fault) {
		return err
	}
	if !errors.As(err, &status) {
		return s.fault(err)
	}
	switch text := strings.ToLower(status.Text); {
	case status.Code == sftpclient.StatusNoSuchFile:
		err = fs.ErrNotExist
	case status.Code == sftpclient.StatusDenied:
		err = fs.ErrPermission
	case strings.Contains(text, "space"), strings.Contains(text, "quota"), strings.Contains(text, "full"):
		err = syscall.ENOSPC
	}
	return &fs.PathError{Op: op, Path: name, Err: err}
}
