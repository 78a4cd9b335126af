package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/ftp"
	"urbankeep/internal/protocol/sftp"
	"urbankeep/internal/protocol/wire"
)

// protocolServer is a listener's server, of whatever protocol.
type protocolServer interface {
	Serve(net.Listener) error
	// Retire takes no new connections; those that are open go on.
	Retire()
	Shutdown(context.Context)
	Configure(keep.Listener)
}

// post is a listener that accepts.
type post struct {
	keep.Listener
	socket net.Listener
	server protocolServer
	now    *atomic.Pointer[keep.Listener] // Listener, for who reads it while it may change
}

// posts are the listeners that accept, and the servers whose listeners don't any
// more but on which sessions may still be open.
type posts struct {
	mu      sync.Mutex
	open    []*post
	retired []protocolServer
	failed  map[string]string // why listeners can't listen that should
	closed  bool              // the service is stopping
}

// unable notes why a listener can't listen; nil: it can.
func (p *posts) unable(name string, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.note(name, err)
}

func (p *posts) note(name string, err error) {
	delete(p.failed, name)
	if err != nil {
		if p.failed == nil {
			p.failed = map[string]string{}
		}
		p.failed[name] = err.Error()
	}
}

func (p *posts) find(name string) (*post, int) {
	at := slices.IndexFunc(p.open, func(o *post) bool { return o.Name == name })
	if at < 0 {
		return nil, -1
	}
	return p.open[at], at
}

// listen opens a listener's address. What can be mended by choosing another is a
// [*keep.FieldError].
func listen(l keep.Listener) (net.Listener, error) {
	socket, err := net.Listen("tcp", l.Address)
	if err == nil {
		return socket, nil
	}
	advice := ""
	var op *net.OpError
	if errors.As(err, &op) {
		err = op.Err
	}
	switch {
	case errors.Is(err, fs.ErrPermission):
		advice = "ports below 1024 need the capability CAP_NET_BIND_SERVICE"
	case errors.Is(err, syscall.EADDRNOTAVAIL):
		advice = "leave the host out to listen on every address this machine has"
	}
	return nil, &keep.FieldError{Field: "address", Say: strings.TrimSuffix(fmt.Sprintf("listener %s on %s: %v: %s", l.Name, l.Address, err, advice), ": ")}
}

// tlsSuites are what TLS 1.2 offers: forward-secret, with authenticated encryption. TLS 1.3
// has no other.
var tlsSuites = []uint16{tls.TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256, tls.TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256, tls.TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384,
	tls.TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384, tls.TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256, tls.TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256}

// serverFor makes the server of a listener; now are its settings while they change.
func (s *Service) serverFor(l keep.Listener, now *atomic.Pointer[keep.Listener]) protocolServer {
	log := s.log.With("listener", l.Name)
	config := &tls.Config{GetCertificate: s.certificateFor(now), MinVersion: tls.VersionTLS12, CipherSuites: tlsSuites}
	if l.Protocol == keep.Web {
		return s.webServer(l, config, log)
	}
	admit := func(from string, l *keep.Listener) bool { return s.door.admits(from, l) }
	if l.Protocol == keep.SFTP {
		return &sftp.Server{Listener: l, HostKeys: s.HostKeys, Keeper: sftpDoor{s.door}, Admit: admit, Crowd: s.crowd, Attempts: s.attempts, Timeouts: sftp.DefaultTimeouts, Log: log}
	}
	return &ftp.Server{Listener: l, TLS: config,
		Keeper: ftpDoor{s.door}, Admit: admit, Crowd: s.crowd, Attempts: s.attempts, Ours: s.ours, Timeouts: ftp.DefaultTimeouts, Log: log}
}

// ours reports whether an address is one of this machine where the service itself listens, or
// may for passive FTP.
func (s *Service) ours(at netip.AddrPort) bool {
	if !at.Addr().IsLoopback() {
		addresses, _ := net.InterfaceAddrs()
		if !slices.ContainsFunc(addresses, func(a net.Addr) bool {
			prefix, err := netip.ParsePrefix(a.String())
			return err == nil && prefix.Addr().Unmap() == at.Addr()
		}) {
			return false
		}
	}
	port := int(at.Port())
	s.posts.mu.Lock()
	defer s.posts.mu.Unlock()
	return slices.ContainsFunc(s.posts.open, func(o *post) bool {
		return port == tcpPort(o.socket.Addr()) || port >= o.PassiveLow && port <= o.PassiveHigh
	})
}

func tcpPort(a net.Addr) int {
	if tcp, ok := a.(*net.TCPAddr); ok {
		return tcp.Port
	}
	return 0
}

// begin starts to serve on an open socket. The caller holds posts.mu.
func (s *Service) begin(l keep.Listener, socket net.Listener) {
	o := &post{Listener: l, socket: socket, now: new(atomic.Pointer[keep.Listener])}
	o.now.Store(&l)
	o.server = s.serverFor(l, o.now)
	s.posts.open = append(s.posts.open, o)
	behind := wire.Behind(socket, func(from string) bool {
		now := o.now.Load()
		return now.Forwarded == "" && now.Proxies.Has(from)
	}, func(from string, why error) { s.door.notIntroduced(from, o.now.Load(), why) })
	s.run(func() error { return o.server.Serve(behind) })
}

// Apply makes a listener run as its settings say; sessions that are open stay.
// When that can't be done, what ran before runs on. It implements [office.Live].
func (s *Service) Apply(l keep.Listener) error {
	s.posts.mu.Lock()
	defer s.posts.mu.Unlock()
	now, at := s.posts.find(l.Name)
	switch {
	case s.posts.closed:
		return keep.Refuse(keep.Stopping, "the service is stopping")
	case now == nil && l.Stopped:
		s.posts.note(l.Name, nil)
		return nil
	case now == nil:
		socket, err := listen(l)
		if err != nil {
			return err
		}
		s.posts.note(l.Name, nil)
		s.begin(l, socket)
	case l.Stopped:
		s.retire(at)
	case l.Address == now.Address && l.Protocol == now.Protocol && l.PassiveLow == now.PassiveLow && l.PassiveHigh == now.PassiveHigh:
		now.Listener = l
		now.now.Store(&l)
		now.server.Configure(l)
	default:
		return s.move(at, l)
	}
	return nil
}

// move lets a listener begin anew, on another address or with other ports. The
// caller holds posts.mu.
func (s *Service) move(at int, l keep.Listener) error {
	before := *s.posts.open[at]
	socket, err := listen(l)
	if err == nil {
		s.retire(at)
		s.begin(l, socket)
		return nil
	}
	if wire.Port(before.socket.Addr()) != portOf(l) {
		return err
	}
	// Its own old socket is in the way.
	s.retire(at)
	if socket, err = listen(l); err == nil {
		s.begin(l, socket)
		return nil
	}
	back := before.Listener
	back.Address = before.socket.Addr().String()
	if socket, again := listen(back); again == nil {
		s.begin(before.Listener, socket)
	} else {
		err = errors.Join(err, again)
	}
	return err
}

func portOf(l keep.Listener) int {
	port, _ := l.Port()
	return port
}

// retire takes a listener off its post. The caller holds posts.mu.
func (s *Service) retire(at int) {
	o := s.posts.open[at]
	o.server.Retire()
	s.posts.retired = append(s.posts.retired, o.server)
	s.posts.open = slices.Delete(s.posts.open, at, at+1)
}

// Remove stops a listener for good. It implements [office.Live].
func (s *Service) Remove(name string) {
	s.posts.mu.Lock()
	defer s.posts.mu.Unlock()
	s.posts.note(name, nil)
	if _, at := s.posts.find(name); at >= 0 {
		s.retire(at)
	}
}

// Unable says why a listener can't listen that should, "" when it can.
func (s *Service) Unable(name string) string {
	s.posts.mu.Lock()
	defer s.posts.mu.Unlock()
	return s.posts.failed[name]
}

// tryAgain lets listeners begin that could not.
func (s *Service) tryAgain(ctx context.Context) {
	found, err := s.DB.Listeners(ctx)
	if err != nil {
		return
	}
	for _, l := range found {
		if s.Unable(l.Name) != "" && s.Apply(l) == nil {
			s.log.Info("the listener listens now", "listener", l.Name, "address", l.Address)
		}
	}
}

// shutDown ends every server, and lets no new one begin.
func (p *posts) shutDown(ctx context.Context) {
	p.mu.Lock()
	p.closed = true
	servers := slices.Clone(p.retired)
	for _, o := range p.open {
		servers = append(servers, o.server)
	}
	p.mu.Unlock()
	var stopping sync.WaitGroup
	for _, server := range servers {
		stopping.Go(func() { server.Shutdown(ctx) })
	}
	stopping.Wait()
}

// Watch tells where a listener really listens, "" when it doesn't, how many of
// its passive ports are taken and how often there was none left.
func (s *Service) Watch(name string) (address string, taken, refused int) {
	s.posts.mu.Lock()
	defer s.posts.mu.Unlock()
	o, _ := s.posts.find(name)
	if o == nil {
		return "", 0, 0
	}
	if server, ok := o.server.(*ftp.Server); ok {
		taken, refused = server.PassiveUse()
	}
	return o.socket.Addr().String(), taken, refused
}

// Address is where a listener really listens, by name; "" when it does not.
func (s *Service) Address(name string) string {
	address, _, _ := s.Watch(name)
	return address
}

// addresses names the listeners that accept, each with its address, but for one.
func (s *Service) addresses(but string) string {
	s.posts.mu.Lock()
	defer s.posts.mu.Unlock()
	text := ""
	for _, o := range s.posts.open {
		if o.Name == but {
			continue
		}
		text += fmt.Sprintf("  %s %s", o.Name, o.socket.Addr())
	}
	return text
}

// turnedAwayEvery bounds the records about one address that may not connect.
const turnedAwayEvery = time.Minute

// maxTurnedAway bounds the addresses that are remembered for it.
const maxTurnedAway = 4096

// admits decides whether an address may connect, and records it when not, once a
// minute for each address.
func (d *door) admits(from string, l *keep.Listener) bool {
	why := ""
	switch until, locked := d.accounts.Guard.AddressLocked(from); {
	case locked:
		why = "the address is locked out until " + until.UTC().Format("15:04:05 MST")
	case !d.gate.Load().Admit(from):
		why = "the network rules of the service do not let the address in"
	case !l.Admits(from):
		why = "the network rules of the listener " + l.Name + " do not let the address in"
	default:
		return true
	}
	d.noteTurnedAway(from, l, why)
	return false
}

// admitsPage decides whether an address may ask a web listener. A lockout doesn't count there: it
// is of sign-ins, which count for themselves.
func (d *door) admitsPage(from string, l *keep.Listener) bool {
	why := ""
	switch {
	case !d.gate.Load().Admit(from):
		why = "the network rules of the service do not let the address in"
	case !l.Admits(from):
		why = "the network rules of the listener " + l.Name + " do not let the address in"
	default:
		return true
	}
	d.noteTurnedAway(from, l, why)
	return false
}

// notIntroduced records that a proxy did not say for whom it connects.
func (d *door) notIntroduced(from string, l *keep.Listener, why error) {
	d.log.Warn("a proxy was refused", "listener", l.Name, "proxy", from, "cause", why)
	d.noteTurnedAway(from, l, "it is a proxy of the listener "+l.Name+", but does not say for whom it connects")
}

func (d *door) noteTurnedAway(from string, l *keep.Listener, why string) {
	if d.firstInAWhile(from) {
		d.trail.Note(keep.AuditRecord{Address: from, Protocol: l.Protocol, Action: keep.Connecting, Outcome: keep.Refused, Reason: keep.TurnedAway, Detail: why})
	}
}

// firstInAWhile reports whether an address that is turned away is to be recorded.
func (d *door) firstInAWhile(from string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if time.Since(d.turnedAway[from]) < turnedAwayEvery {
		return false
	}
	if len(d.turnedAway) >= maxTurnedAway || d.turnedAway == nil {
		d.turnedAway = map[string]time.Time{}
	}
	d.turnedAway[from] = time.Now()
	return true
}
