package directory

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"sync"
	"time"

	"github.com/go-ldap/ldap/v3"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/source"
)

const (
	// maxIdle connections of a kind are kept for the next question, for maxRest at the most: a directory ends those that rest.
	maxIdle = 8
	maxRest = 30 * time.Second
)

// pool keeps connections to a directory that are of one kind.
type pool struct {
	set   *keep.Source
	trust *x509.CertPool
	ready func(*ldap.Conn) error // makes a new one ready; nil: it is

	mu     sync.Mutex
	idle   []resting
	closed bool
}

type resting struct {
	c     *ldap.Conn
	since time.Time
}

// use does something on a connection. What fails because the connection rested too long is done again on a new one; else a
// failure of the connection is an [*source.Away].
func (p *pool) use(ctx context.Context, do func(*ldap.Conn) error) error {
	for {
		c, rested, err := p.take(ctx)
		if err != nil {
			return err
		}
		stop := context.AfterFunc(ctx, func() { c.Close() })
		err = do(c)
		broken := !stop() || broke(err)
		if !broken {
			p.rest(c)
			return err
		}
		c.Close()
		if rested && ctx.Err() == nil {
			continue
		}
		if ctx.Err() != nil {
			err = errors.New("it did not answer in time")
		}
		return &source.Away{Cause: err}
	}
}

// broke reports whether an error is of the connection, or says that the directory can do nothing now.
func broke(err error) bool {
	var said *ldap.Error
	if err == nil || !errors.As(err, &said) {
		return err != nil
	}
	return said.ResultCode >= ldap.ErrorNetwork || ldap.IsErrorAnyOf(err, ldap.LDAPResultBusy, ldap.LDAPResultUnavailable, ldap.LDAPResultTimeLimitExceeded, ldap.LDAPResultOperationsError, ldap.LDAPResultProtocolError)
}

func (p *pool) take(ctx context.Context) (c *ldap.Conn, rested bool, err error) {
	p.mu.Lock()
	for len(p.idle) > 0 {
		last := p.idle[len(p.idle)-1]
		p.idle = p.idle[:len(p.idle)-1]
		if !last.c.IsClosing() && time.Since(last.since) < maxRest {
			p.mu.Unlock()
			return last.c, true, nil
		}
		last.c.Close()
	}
	p.mu.Unlock()
	var errs []error
	for i, server := range p.set.Servers {
		within, cancel := share(ctx, len(p.set.Servers)-i)
		c, _, err := p.dial(within, server)
		if err == nil && p.ready != nil {
			stop := context.AfterFunc(within, func() { c.Close() })
			if err = p.ready(c); err != nil {
				c.Close()
			}
			stop()
		}
		cancel()
		if err == nil {
			return c, false, nil
		}
		errs = append(errs, fmt.Errorf("%s: %w", server, err))
	}
	return nil, false, &source.Away{Cause: errors.Join(errs...)}
}

// share is the part of the time that is left which one of some servers gets.
func share(ctx context.Context, servers int) (context.Context, context.CancelFunc) {
	until, ok := ctx.Deadline()
	if !ok {
		return context.WithCancel(ctx)
	}
	return context.WithTimeout(ctx, time.Until(until)/time.Duration(servers))
}

func (p *pool) rest(c *ldap.Conn) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.closed || len(p.idle) >= maxIdle {
		c.Close()
		return
	}
	p.idle = append(p.idle, resting{c, time.Now()})
}

func (p *pool) close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.closed = true
	for _, one := range p.idle {
		one.c.Close()
	}
	p.idle = nil
}

// dial connects to a directory and begins TLS. said tells how that is protected.
func (p *pool) dial(ctx context.Context, server string) (c *ldap.Conn, said string, err error) {
	u, err := url.Parse(server)
	if err != nil {
		return nil, "", err
	}
	port := u.Port()
	if port == "" {
		port = map[string]string{"ldap": "389", "ldaps": "636"}[u.Scheme]
	}
	plain, err := (&net.Dialer{}).DialContext(ctx, "tcp", net.JoinHostPort(u.Hostname(), port))
	if err != nil {
		return nil, "", err
	}
	stop := context.AfterFunc(ctx, func() { plain.Close() })
	defer stop()
	config := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: u.Hostname(), RootCAs: p.trust}
	said = server + " over TLS"
	if u.Scheme == "ldaps" {
		over := tls.Client(plain, config)
		if err := over.HandshakeContext(ctx); err != nil {
			plain.Close()
			return nil, "", untrusted(err)
		}
		c = ldap.NewConn(over, true)
		c.Start()
	} else {
		c = ldap.NewConn(plain, false)
		c.Start()
		switch said = server + " with StartTLS"; {
		case p.set.Plain:
			said = server + " without TLS: passwords can be read on the way"
		default:
			if err := c.StartTLS(config); err != nil {
				c.Close()
				return nil, "", untrusted(err)
			}
		}
	}
	c.SetTimeout(p.set.Timeout.Duration())
	if ctx.Err() != nil {
		c.Close()
		return nil, "", ctx.Err()
	}
	return c, said, nil
}

// untrusted says what a failed handshake means.
func untrusted(err error) error {
	var unknown x509.UnknownAuthorityError
	if errors.As(err, &unknown) || ldap.IsErrorWithCode(err, ldap.ErrorNetwork) && errors.As(errors.Unwrap(err), &unknown) {
		return fmt.Errorf("its certificate is signed by nobody that is trusted: name the authority's (trust): %w", err)
	}
	return fmt.Errorf("TLS: %w", err)
}
