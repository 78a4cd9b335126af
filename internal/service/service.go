package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"path/filepath"
	"sync"
	"time"

	"urbankeep/internal/audit"
	"urbankeep/internal/ftp"
	"urbankeep/internal/hostkey"
	"urbankeep/internal/keep"
	"urbankeep/internal/office"
	"urbankeep/internal/records"
	"urbankeep/internal/sftp"
	"urbankeep/internal/signin"
	"urbankeep/internal/traffic"
	"urbankeep/internal/web/api"
)

// Options are what a start may say. Empty addresses leave what the records have.
type Options struct {
	Dir          string // data folder
	Console      string // address of the console and the API
	FTP          string
	FTPS         string
	SFTP         string
	PassiveLow   int
	PassiveHigh  int
	FailureDelay time.Duration // 0: [signin.FailureDelay]
	Log          *slog.Logger
}

// Default addresses. The console is for this machine only until an operator
// says otherwise.
const (
	DefaultConsole     = "127.0.0.1:8470"
	DefaultFTP         = ":2121"
	DefaultFTPS        = ":2990"
	DefaultSFTP        = ":2222"
	DefaultPassiveLow  = 47000
	DefaultPassiveHigh = 47199
)

// protocolServer is a listener's server, of whatever protocol.
type protocolServer interface {
	Serve(net.Listener) error
	Shutdown(context.Context)
	Configure(keep.Listener)
}

// Service is the running whole.
type Service struct {
	DB        *records.DB
	Trail     *audit.Trail
	Office    *office.Office
	Operators *signin.Operators
	Traffic   *traffic.Registry
	HostKeys  *hostkey.Ring
	TLS       tls.Certificate

	dir       string
	log       *slog.Logger
	door      *door
	started   time.Time
	consoleAt string
	changing  sync.Mutex      // of listeners
	listeners []keep.Listener // with the addresses they really have
	servers   []protocolServer
	web       *consoles
	serving   sync.WaitGroup
	failed    chan error
}

// Open opens a data folder and prepares everything that does not listen.
func Open(ctx context.Context, o Options) (*Service, error) {
	db, err := records.Open(ctx, o.Dir)
	if err != nil {
		return nil, err
	}
	s := &Service{DB: db, dir: o.Dir, log: o.Log, Traffic: traffic.NewRegistry(), started: time.Now().UTC(), consoleAt: o.Console,
		failed: make(chan error, 1)}
	if err := s.prepare(ctx, o); err != nil {
		return nil, errors.Join(err, s.close())
	}
	return s, nil
}

func (s *Service) prepare(ctx context.Context, o Options) (err error) {
	if s.Trail, err = audit.Open(ctx, s.DB, o.Log); err != nil {
		return err
	}
	if err := s.furnish(ctx, o); err != nil {
		return err
	}
	if s.HostKeys, err = hostkey.Open(filepath.Join(o.Dir, "hostkeys")); err != nil {
		return err
	}
	if s.TLS, err = certificate(o.Dir, time.Now()); err != nil {
		return err
	}
	delay := o.FailureDelay
	if delay == 0 {
		delay = signin.FailureDelay
	}
	hasher := signin.NewHasher()
	accounts := &signin.Accounts{DB: s.DB, Trail: s.Trail, Hasher: hasher, Log: o.Log, Delay: delay}
	s.Operators = &signin.Operators{DB: s.DB, Trail: s.Trail, Hasher: hasher, Delay: delay}
	s.door = &door{db: s.DB, trail: s.Trail, accounts: accounts, traffic: s.Traffic, log: o.Log, inside: map[*visit]bool{}}
	s.Office = &office.Office{DB: s.DB, Trail: s.Trail, Hasher: hasher, HostKeys: s.HostKeys, Live: live{s.door, s}, Traffic: s.Traffic, Log: o.Log}
	return nil
}

// furnish puts the first store and listeners into new records, and the addresses
// of this start into the listeners.
func (s *Service) furnish(ctx context.Context, o Options) error {
	stores, err := s.DB.Stores(ctx)
	if err != nil {
		return err
	}
	if len(stores) == 0 {
		folder, err := filepath.Abs(filepath.Join(o.Dir, "files"))
		if err != nil {
			return err
		}
		if err := s.DB.SaveStore(ctx, keep.Store{Name: "files", Folder: folder}); err != nil {
			return err
		}
	}
	found, err := s.DB.Listeners(ctx)
	if err != nil {
		return err
	}
	known := map[string]keep.Listener{}
	for _, l := range found {
		known[l.Name] = l
	}
	for _, first := range []struct {
		protocol       keep.Protocol
		usual, address string
	}{{keep.FTP, DefaultFTP, o.FTP}, {keep.FTPS, DefaultFTPS, o.FTPS}, {keep.SFTP, DefaultSFTP, o.SFTP}} {
		l, ok := known[string(first.protocol)]
		if !ok {
			l = keep.Listener{Name: string(first.protocol), Protocol: first.protocol, Address: first.usual, Encryption: keep.EncryptionRequired}
			if first.protocol != keep.SFTP {
				l.PassiveLow, l.PassiveHigh = DefaultPassiveLow, DefaultPassiveHigh
			}
		}
		if first.address != "" {
			l.Address = first.address
		}
		if o.PassiveLow != 0 && l.Protocol != keep.SFTP {
			l.PassiveLow, l.PassiveHigh = o.PassiveLow, o.PassiveHigh
		}
		if err := s.DB.SaveListener(ctx, l); err != nil {
			return err
		}
	}
	return nil
}

// Start makes every listener accept. When one can't, none does.
func (s *Service) Start(ctx context.Context) error {
	found, err := s.DB.Listeners(ctx)
	if err != nil {
		return err
	}
	var opened []net.Listener
	for _, l := range found {
		socket, err := listen(l)
		if err != nil {
			for _, o := range opened {
				o.Close()
			}
			return err
		}
		opened = append(opened, socket)
		l.Address = socket.Addr().String()
		s.listeners = append(s.listeners, l)
	}
	if s.web, err = s.openConsoles(); err != nil {
		for _, o := range opened {
			o.Close()
		}
		return err
	}
	if err := s.Trail.Record(keep.AuditRecord{Action: keep.ServiceStart, Outcome: keep.Done}); err != nil {
		return err
	}
	for i, l := range s.listeners {
		server := s.serverFor(l)
		s.servers = append(s.servers, server)
		s.run(func() error { return server.Serve(opened[i]) })
	}
	s.web.serve(s)
	return nil
}

// run serves in a goroutine that Stop waits for; its failure ends the service.
func (s *Service) run(serve func() error) {
	s.serving.Go(func() {
		if err := serve(); err != nil {
			select {
			case s.failed <- err:
			default:
			}
		}
	})
}

// Failed tells of a listener that broke.
func (s *Service) Failed() <-chan error { return s.failed }

func listen(l keep.Listener) (net.Listener, error) {
	socket, err := net.Listen("tcp", l.Address)
	if err == nil {
		return socket, nil
	}
	advice := fmt.Sprintf("choose another with -%s", l.Protocol)
	var op *net.OpError
	if errors.As(err, &op) {
		err = op.Err
	}
	if errors.Is(err, fs.ErrPermission) {
		advice = "ports below 1024 need the capability CAP_NET_BIND_SERVICE, or " + advice
	}
	return nil, fmt.Errorf("listener %s on %s: %w: %s", l.Name, l.Address, err, advice)
}

func (s *Service) serverFor(l keep.Listener) protocolServer {
	log := s.log.With("listener", l.Name)
	if l.Protocol == keep.SFTP {
		return &sftp.Server{Listener: l, HostKeys: s.HostKeys, Keeper: sftpDoor{s.door}, Timeouts: sftp.DefaultTimeouts, Log: log}
	}
	return &ftp.Server{Listener: l, TLS: &tls.Config{Certificates: []tls.Certificate{s.TLS}, MinVersion: tls.VersionTLS12},
		Keeper: ftpDoor{s.door}, Timeouts: ftp.DefaultTimeouts, Log: log}
}

// live is what operators' changes act on: the sessions inside and the listeners.
type live struct {
	*door
	s *Service
}

// Configure implements [office.Live].
func (v live) Configure(l keep.Listener) {
	s := v.s
	s.changing.Lock()
	defer s.changing.Unlock()
	for i := range s.listeners {
		if s.listeners[i].Name == l.Name {
			l.Address = s.listeners[i].Address // where it really listens
			s.listeners[i] = l
			s.servers[i].Configure(l)
		}
	}
}

// Stop takes no new connections, lets running transfers end until ctx is done,
// cuts the rest, and closes the records.
func (s *Service) Stop(ctx context.Context) error {
	var stopping sync.WaitGroup
	for _, server := range s.servers {
		stopping.Go(func() { server.Shutdown(ctx) })
	}
	stopping.Wait()
	if s.web != nil {
		s.web.stop(ctx)
	}
	s.serving.Wait()
	if s.servers != nil {
		s.Trail.Note(keep.AuditRecord{Action: keep.ServiceStop, Outcome: keep.Done})
	}
	return s.close()
}

func (s *Service) close() error {
	if s.Trail != nil {
		s.Trail.Close()
	}
	return s.DB.Close()
}

// Status is how the service is.
func (s *Service) Status(ctx context.Context) (api.Status, error) {
	operators, err := s.DB.Operators(ctx)
	status := api.Status{SetUp: len(operators) > 0, Started: s.started, Listeners: []api.Listener{}}
	status.Sessions, status.Transfers = s.Traffic.Counts()
	s.changing.Lock()
	defer s.changing.Unlock()
	for _, l := range s.listeners {
		status.Listeners = append(status.Listeners, api.Listener{Name: l.Name, Protocol: l.Protocol, Address: l.Address, Encryption: l.Encryption,
			PassiveLow: l.PassiveLow, PassiveHigh: l.PassiveHigh, Banner: l.Banner})
	}
	return status, err
}

// Address is where a listener really listens, by name; "" when it does not.
func (s *Service) Address(name string) string {
	for _, l := range s.listeners {
		if l.Name == name {
			return l.Address
		}
	}
	return ""
}
