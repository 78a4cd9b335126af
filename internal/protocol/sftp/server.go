package sftp

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"urbankeep/internal/files/store"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/wire"
)

// Keeper lets connections in.
type Keeper interface {
	// Arrive opens the visit of a new connection. cut closes the connection
	// from outside.
	Arrive(remote net.Addr, protocol keep.Protocol, encrypted bool, cut func(*keep.Fault)) Visit
}

// Visit is one connection as the house sees it.
type Visit interface {
	// SignIn opens the account's tree by password. The error is a [keep.Fault].
	SignIn(ctx context.Context, account string, password keep.Secret) (*tree.Tree, error)
	// Answer is SignIn once more, with what a [keep.CodeNeeded] asked for.
	Answer(ctx context.Context, account string, password keep.Secret, code string) (*tree.Tree, error)
	// Link is how an account may sign in with a browser instead of a password; nil where it may not.
	Link(ctx context.Context, account string) *Link
	// ChangePassword gives an account that must change its password a new one. The
	// error is a [*keep.FieldError] when another may be tried.
	ChangePassword(ctx context.Context, account string, old, wanted keep.Secret, code string) error
	// Offer reports whether a key, or a user certificate, would sign an account
	// in; the client has proved nothing yet.
	Offer(ctx context.Context, account string, key ssh.PublicKey) bool
	// KeyProved opens the account's tree once the client has proved that it has
	// the key; a [keep.PasswordToo] says that a password must follow.
	KeyProved(ctx context.Context, account string, key ssh.PublicKey) (*tree.Tree, error)
	// Secured says what protects the connection.
	Secured(cipher string)
	// Named says what software the client claims to be.
	Named(client string)
	// SignOut ends the session; why is nil for a plain goodbye.
	SignOut(why *keep.Fault)
}

// Link is how somebody may sign in with a browser.
type Link struct {
	Passwords bool // a password may do as well
	// Begin says where the browser is to go, and within which time; wait opens the account's tree once somebody has signed in there.
	Begin func() (url string, within time.Duration, wait func(ctx context.Context) (*tree.Tree, error), err error)
}

// HostKeys are the keys by which clients know the service; they may change
// while it runs.
type HostKeys interface {
	Serving() []ssh.Signer // prove the service, one of each type
	Known() []ssh.Signer   // these, and those that clients are to learn
}

// Timeouts bound how long anything may take.
type Timeouts struct {
	SignIn time.Duration // from the connection to the end of the sign-in
	Idle   time.Duration // without a request
	Alive  time.Duration // between two signs of life that are asked for
}

// DefaultTimeouts are the usual bounds.
var DefaultTimeouts = Timeouts{SignIn: time.Minute, Idle: 15 * time.Minute, Alive: time.Minute}

// usualTries bounds the passwords that one connection may try; maxOffers are more tries, for
// the keys that clients offer one after the other.
const (
	usualTries = 3
	maxOffers  = 5
)

func (s *Server) tries() int {
	if s.Attempts == nil {
		return usualTries + maxOffers
	}
	return s.Attempts() + maxOffers
}

// maxChoices bounds how often a new password may be tried.
const maxChoices = 3

// maxChannels bounds the sessions that one connection may have at once, and with
// them its memory.
const maxChannels = 10

// endsWithin is how long a session that a client has closed may take to end, where the next one waits for its place.
const endsWithin = time.Second

// Server serves one listener.
type Server struct {
	Listener keep.Listener
	HostKeys HostKeys
	Keeper   Keeper
	Admit    func(from string, l *keep.Listener) bool // may an address connect; nil: everybody
	Attempts func() int                               // sign-ins that one connection may try; nil: a few
	Crowd    *wire.Crowd                              // the room for who has not signed in; nil: one of its own
	Timeouts Timeouts
	Log      *slog.Logger

	wire    wire.Server
	current atomic.Pointer[keep.Listener]
}

// Configure puts changed settings of the listener in force for new connections.
func (s *Server) Configure(l keep.Listener) { s.current.Store(&l) }

// Serve accepts connections until Shutdown.
func (s *Server) Serve(l net.Listener) error {
	s.current.CompareAndSwap(nil, &s.Listener)
	s.wire.Handle, s.wire.Log = s.handle, s.Log
	if s.Admit != nil {
		s.wire.Admit = func(from string) bool { return s.Admit(from, s.current.Load()) }
	}
	s.wire.Crowd = s.Crowd
	s.wire.TurnAway = func(conn net.Conn) { // lines before the version are allowed (RFC 4253, section 4.2)
		io.WriteString(conn, "too many connections that have not signed in: try again later\r\n")
	}
	return s.wire.Serve(l)
}

// Retire takes no new connections; those that are open go on.
func (s *Server) Retire() { s.wire.Retire() }

// Shutdown lets open files be finished until ctx is done, then cuts the rest.
func (s *Server) Shutdown(ctx context.Context) { s.wire.Shutdown(ctx) }

// conn is one SSH connection.
type conn struct {
	server *Server
	raw    net.Conn
	visit  Visit
	ctx    context.Context // ends with the connection
	cancel context.CancelFunc
	tree   *tree.Tree
	gone   *leaving
	idle   *time.Timer
	busy   atomic.Int64 // requests that are worked on
	// draftLinks is for clients that send a link's own path first, as the draft has it, to
	// every server that does not call itself OpenSSH.
	draftLinks  bool
	longReplies bool // the client is known to read replies of 256 KiB

	answering sync.Mutex // a request that belongs to no channel

	mu       sync.Mutex
	reason   *keep.Fault // why it was cut
	open     int         // files that are open, over all its sessions
	stopping bool
}

// cut ends the connection from outside.
func (c *conn) cut(why *keep.Fault) {
	c.mu.Lock()
	if c.reason == nil {
		c.reason = why
	}
	c.mu.Unlock()
	c.cancel()
	c.raw.Close()
}

func (c *conn) cutReason() *keep.Fault {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.reason
}

var errStopping = keep.Refuse(keep.Stopping, "the service is stopping")

// stop ends the connection as soon as no file is open on it.
func (c *conn) stop() {
	c.mu.Lock()
	c.stopping = true
	busy := c.open > 0
	c.mu.Unlock()
	if !busy {
		c.cut(errStopping)
	}
}

// opened counts open files; the last one to be closed while stopping ends the
// connection.
func (c *conn) opened(delta int) {
	c.mu.Lock()
	c.open += delta
	end := c.stopping && c.open == 0
	c.mu.Unlock()
	if end {
		c.cut(errStopping)
	}
}

// listRead is how much of a folder is read for one reply, bytes.
func (c *conn) listRead() int {
	if c.longReplies {
		return store.MediumRead
	}
	return store.SmallRead
}

func (s *Server) handle(stopping context.Context, raw net.Conn, signedIn func()) {
	c := &conn{server: s, raw: raw}
	c.ctx, c.cancel = context.WithCancel(context.Background())
	defer c.cancel()
	c.visit = s.Keeper.Arrive(raw.RemoteAddr(), keep.SFTP, true, c.cut)
	c.gone = &leaving{Conn: wire.QuickAcks(raw)}
	first, version, ciphers, err := peek(c.gone)
	if err != nil {
		c.leave(err)
		return
	}
	if strings.Contains(version, "OpenSSH") { // it switches the algorithm of RFC 896 off
		wire.UsualAcks(c.gone.Conn)
	}
	raw.SetDeadline(time.Now().Add(s.Timeouts.SignIn))
	unhook := context.AfterFunc(stopping, c.stop)
	defer unhook()
	shell, channels, requests, err := ssh.NewServerConn(first, c.config(ciphers))
	if err != nil {
		s.Log.Debug("SSH connection not signed in", "remote", raw.RemoteAddr(), "cause", err)
		c.leave(err)
		return
	}
	raw.SetDeadline(time.Time{})
	signedIn()
	c.visit.Named(string(shell.ClientVersion()))
	c.draftLinks = strings.Contains(version, "ssh2js")
	c.longReplies = strings.Contains(version, "OpenSSH")
	if algorithms, ok := shell.Conn.(ssh.AlgorithmsConnMetadata); ok {
		c.visit.Secured(algorithms.Algorithms().Write.Cipher)
	}
	c.idle = time.AfterFunc(c.tree.Idle(s.Timeouts.Idle), c.isIdle)
	defer c.idle.Stop()

	var running sync.WaitGroup
	running.Go(func() { c.serveConnection(shell, requests) })
	places := make(chan struct{}, maxChannels)
	for offered := range channels {
		if offered.ChannelType() != "session" {
			offered.Reject(ssh.Prohibited, "this service moves files; it forwards nothing")
			continue
		}
		select {
		case places <- struct{}{}:
		case <-time.After(endsWithin): // one that the client has closed may be about to end
			offered.Reject(ssh.ResourceShortage, "too many sessions on one connection: end one first")
			continue
		}
		channel, asked, err := offered.Accept()
		if err != nil {
			<-places
			continue
		}
		running.Go(func() {
			defer func() { <-places }()
			c.serveChannel(channel, asked)
		})
	}
	c.cancel() // what is still done is for nobody
	running.Wait()
	c.leave(shell.Wait())
}

// leave ends the visit with the reason for it.
func (c *conn) leave(err error) {
	if c.tree != nil {
		c.tree.Close()
	}
	why := c.cutReason()
	if why == nil && err != nil && !errors.Is(err, io.EOF) && c.tree != nil {
		var goodbye *ssh.ExitError
		if !errors.As(err, &goodbye) && !isDisconnect(err) {
			why = &keep.Fault{Reason: keep.ClientGone, Say: "the connection broke off", Cause: err}
		}
	}
	c.visit.SignOut(why)
}

// isDisconnect reports whether the client said goodbye (RFC 4253, section 11.1).
func isDisconnect(err error) bool {
	return err != nil && len(err.Error()) > 15 && err.Error()[:15] == "ssh: disconnect"
}

// errAuth is all that a client learns of a failed sign-in.
var errAuth = errors.New("sign-in refused")

// config makes the settings of one connection: its callbacks know its visit.
func (c *conn) config(ciphers []string) *ssh.ServerConfig {
	config := &ssh.ServerConfig{
		Config:                      ssh.Config{Ciphers: Ciphers(ciphers), KeyExchanges: keyExchanges, MACs: macs},
		ServerVersion:               ourVersion,
		MaxAuthTries:                c.server.tries(),
		PasswordCallback:            c.byPassword,
		KeyboardInteractiveCallback: c.byQuestion,
		PublicKeyCallback: func(meta ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			if !c.visit.Offer(c.ctx, meta.User(), key) {
				return nil, errAuth
			}
			return &ssh.Permissions{}, nil
		},
		VerifiedPublicKeyCallback: func(meta ssh.ConnMetadata, key ssh.PublicKey, _ *ssh.Permissions, _ string) (*ssh.Permissions, error) {
			opened, err := c.visit.KeyProved(c.ctx, meta.User(), key)
			if err != nil && keep.FaultOf(err).Reason == keep.PasswordToo { // RFC 4252, section 5.1
				return nil, &ssh.PartialSuccessError{Next: ssh.ServerAuthCallbacks{PasswordCallback: c.byPassword, KeyboardInteractiveCallback: c.byQuestion}}
			}
			return c.entered(opened, err)
		},
		PublicKeyAuthAlgorithms: []string{ssh.KeyAlgoED25519, ssh.KeyAlgoSKED25519, ssh.KeyAlgoSKECDSA256,
			ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521, ssh.KeyAlgoRSASHA256, ssh.KeyAlgoRSASHA512},
	}
	if banner := c.server.current.Load().Banner; banner != "" {
		config.BannerCallback = func(ssh.ConnMetadata) string { return banner + "\n" }
	}
	for _, key := range c.server.HostKeys.Serving() {
		config.AddHostKey(modern(key))
	}
	return config
}

func (c *conn) byPassword(meta ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
	given := keep.Secret(password)
	opened, err := c.visit.SignIn(c.ctx, meta.User(), given)
	if asks(err) {
		return nil, &ssh.PartialSuccessError{Next: ssh.ServerAuthCallbacks{KeyboardInteractiveCallback: func(meta ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
			return c.byCode(meta, given, err, ask)
		}}}
	}
	return c.entered(opened, err)
}

// asks reports whether the house wants to know more of who gave the right password.
func asks(err error) bool {
	return err != nil && (keep.FaultOf(err).Reason == keep.CodeNeeded || keep.FaultOf(err).Reason == keep.CodeUnset)
}

// byCode asks for what the house wants to know besides the password (RFC 4256), as often as it wants more.
func (c *conn) byCode(meta ssh.ConnMetadata, password keep.Secret, wants error, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
	for range maxChoices {
		say := keep.FaultOf(wants).Say
		say = strings.ToUpper(say[:1]) + say[1:] + "."
		if keep.FaultOf(wants).Reason == keep.CodeUnset { // here they can't do that
			ask("", say, nil, nil)
			return nil, errAuth
		}
		answers, err := ask("", say, []string{"Code: "}, []bool{false})
		if err != nil || len(answers) != 1 || answers[0] == "" {
			return nil, errAuth
		}
		opened, err := c.visit.Answer(c.ctx, meta.User(), password, answers[0])
		if !asks(err) {
			return c.entered(opened, err)
		}
		wants = err
	}
	return nil, errAuth
}

// byQuestion is for clients that ask for the password this way only (RFC 4256).
func (c *conn) byQuestion(meta ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
	link, say := c.visit.Link(c.ctx, meta.User()), ""
	if link != nil && !link.Passwords {
		return c.byLink(link, ask)
	}
	if link != nil {
		say = "To sign in with a browser, leave the password empty."
	}
	answers, err := ask("", say, []string{"Password: "}, []bool{false})
	if err != nil || len(answers) != 1 {
		return nil, errAuth
	}
	if link != nil && answers[0] == "" {
		return c.byLink(link, ask)
	}
	opened, err := c.visit.SignIn(c.ctx, meta.User(), keep.Secret(answers[0]))
	if err != nil && keep.FaultOf(err).Reason == keep.MustChange {
		return c.newPassword(meta, keep.Secret(answers[0]), ask)
	}
	if asks(err) {
		return c.byCode(meta, keep.Secret(answers[0]), err, ask)
	}
	return c.entered(opened, err)
}

// byLink shows where to sign in with a browser, and goes on once somebody has: a question without a prompt (RFC 4256, section 3.2)
// is answered at once.
func (c *conn) byLink(link *Link, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
	url, within, wait, err := link.Begin()
	if err != nil {
		return nil, errAuth
	}
	ctx, cancel := context.WithTimeout(c.ctx, within)
	defer cancel()
	c.raw.SetDeadline(time.Now().Add(within + c.server.Timeouts.SignIn))
	left := func() { cancel() }
	c.gone.watch(left)
	defer c.gone.watch(nil)
	say := fmt.Sprintf("Open this in a browser and sign in there, within %d minutes:\n\n    %s\n\nThis goes on by itself then.\n", int(within.Minutes()), url)
	if _, err := ask("", say, nil, nil); err != nil {
		return nil, errAuth
	}
	opened, err := wait(ctx)
	if err == nil {
		c.raw.SetDeadline(time.Now().Add(c.server.Timeouts.SignIn))
	}
	return c.entered(opened, err)
}

// newPassword asks for the new password that an account must choose, and signs it
// in with that. RFC 4256, section 3.1, leaves further questions to the server.
func (c *conn) newPassword(meta ssh.ConnMetadata, old keep.Secret, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
	say := "Your password must be changed before you can go on."
	for range maxChoices {
		answers, err := ask("", say, []string{"New password: ", "The same again: "}, []bool{false, false})
		if err != nil || len(answers) != 2 {
			return nil, errAuth
		}
		if answers[0] != answers[1] {
			say = "The two were not the same."
			continue
		}
		var field *keep.FieldError
		err = c.visit.ChangePassword(c.ctx, meta.User(), old, keep.Secret(answers[0]), "")
		for n := 0; asks(err) && n < maxChoices; n++ {
			shown, unasked := ask("", keep.FaultOf(err).Say, []string{"Code: "}, []bool{false})
			if unasked != nil || len(shown) != 1 || shown[0] == "" {
				return nil, errAuth
			}
			err = c.visit.ChangePassword(c.ctx, meta.User(), old, keep.Secret(answers[0]), shown[0])
		}
		switch {
		case errors.As(err, &field):
			say = "Not this one: " + field.Say + "."
		case err != nil:
			return nil, errAuth
		default:
			return c.byPassword(meta, []byte(answers[0]))
		}
	}
	return nil, errAuth
}

func (c *conn) entered(opened *tree.Tree, err error) (*ssh.Permissions, error) {
	if err != nil {
		return nil, errAuth
	}
	c.tree = opened
	return &ssh.Permissions{}, nil
}
