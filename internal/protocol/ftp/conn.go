package ftp

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
)

// conn is one control connection. Its fields belong to the goroutine of run,
// but for cut.
type conn struct {
	server   *Server
	listener keep.Listener // as it was when the connection began
	raw      net.Conn
	control  net.Conn // raw, or TLS over it
	lines    *lineReader
	stopping context.Context
	draining sync.WaitGroup  // data connections that are read on for a client's sake
	eager    func()          // ends the wait for a data connection that was refused; nil: there was none
	ctx      context.Context // ends with the connection, or when it is cut
	cancel   context.CancelFunc
	pending  chan line // the read under way, if any
	held     *line     // a line that came during a transfer

	visit     Visit
	signedIn  func()
	encrypted bool
	user      string
	key       ssh.PublicKey // of the client's certificate, proved by the handshake; nil for none
	ticket    []byte        // marks the TLS sessions of this connection; nil without TLS
	speaks    int           // when it begins TLS on a data connection
	resumes   bool          // its data connections are expected to resume one of them
	tree      *tree.Tree
	failures  int
	quit      bool

	cwd        string
	ascii      bool
	protected  bool // PROT P
	restart    int64
	rangeTo    int64 // RANG: the last byte, inclusive; -1 for none
	hash       string
	facts      []string // that listings tell, of [factNames]
	announced  int64    // ALLO, bytes
	renameFrom string
	epsvAll    bool
	data       dataPlan
	transfer   *running // while one runs

	mu     sync.Mutex
	reason *keep.Fault // why it was cut

	waking  sync.Mutex
	waits   bool          // run waits for a command; under waking
	unwatch []func() bool // end the watch over what ends that wait
}

type line struct {
	text string
	err  error
}

func newConn(s *Server, raw net.Conn, stopping context.Context) *conn {
	c := &conn{server: s, listener: *s.current.Load(), raw: raw, control: raw, lines: newLineReader(raw), stopping: stopping}
	c.reset()
	inlineUrgent(raw)
	c.ctx, c.cancel = context.WithCancel(context.Background())
	for _, ends := range []context.Context{c.ctx, stopping} {
		c.unwatch = append(c.unwatch, context.AfterFunc(ends, c.wake))
	}
	c.visit = s.Keeper.Arrive(raw.RemoteAddr(), s.Listener.Protocol, false, c.cut)
	return c
}

// reset puts everything that a sign-in begins with.
func (c *conn) reset() {
	c.user, c.cwd, c.ascii, c.restart, c.rangeTo, c.announced, c.renameFrom = "", "/", true, 0, -1, 0, ""
	c.epsvAll, c.protected, c.hash, c.facts = false, false, usualHash, factNames
}

// cut ends the connection from outside, at most once.
func (c *conn) cut(why *keep.Fault) {
	c.mu.Lock()
	if c.reason == nil {
		c.reason = why
	}
	c.mu.Unlock()
	c.cancel()
}

func (c *conn) cutReason() *keep.Fault {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.reason
}

// end closes everything the connection owns.
func (c *conn) end() {
	for _, stop := range c.unwatch {
		stop()
	}
	c.cancel()
	c.data.drop()
	c.control.Close()
	c.raw.Close()
	if c.pending != nil {
		<-c.pending // the reader has seen the close
	}
	c.draining.Wait()
	why := c.cutReason()
	if why == nil && !c.quit {
		why = keep.Refuse(keep.ClientGone, "the client closed the connection")
	}
	c.signOut(why)
}

func (c *conn) signOut(why *keep.Fault) {
	if c.tree != nil {
		c.tree.Close()
		c.tree = nil
	}
	c.visit.SignOut(why)
}

// run greets and serves commands until the connection ends.
func (c *conn) run() {
	banner := c.listener.Banner
	if banner == "" {
		banner = "Urban Keep file transfer service"
	}
	c.reply(220, strings.Split(banner, "\n")...)
	signInBy := time.Now().Add(c.server.Timeouts.SignIn)
	for !c.quit {
		deadline := signInBy
		if c.tree != nil {
			deadline = time.Now().Add(c.tree.Idle(c.server.Timeouts.Idle))
		}
		got, ok := c.next(deadline)
		if !ok {
			return
		}
		switch {
		case errors.Is(got.err, errLineTooLong):
			c.reply(500, fmt.Sprintf("the command line is longer than %d bytes", maxLine))
		case timedOut(got.err):
			c.cut(keep.Refuse(keep.Stalled, "nothing was asked for too long"))
			c.reply(421, "nothing was asked for too long; goodbye")
			return
		case got.err != nil:
			return
		default:
			c.dispatch(got.text)
		}
	}
}

// next waits for a command; false when the connection is to end. It reads by itself: to hand over each command from one
// goroutine to another cost a tenth of the speed of small files.
func (c *conn) next(deadline time.Time) (line, bool) {
	if c.held != nil {
		got := *c.held
		c.held = nil
		return got, true
	}
	c.wait(true, deadline)
	defer c.wait(false, time.Time{})
	var got line
	switch {
	case c.ctx.Err() != nil || c.stopping.Err() != nil:
	case c.pending != nil: // begun during a transfer
		got = <-c.pending
		c.pending = nil
	default:
		got.text, got.err = c.lines.read()
	}
	switch over := got.err != nil && got.err != errLineTooLong || got.text == ""; {
	case over && c.ctx.Err() != nil:
		c.reply(421, c.cutReason().Say+"; goodbye")
		return line{}, false
	case over && c.stopping.Err() != nil:
		c.cut(keep.Refuse(keep.Stopping, "the service is stopping"))
		c.reply(421, "the service is stopping; goodbye")
		return line{}, false
	}
	return got, true
}

// wait says whether run waits for a command, until when.
func (c *conn) wait(waits bool, deadline time.Time) {
	c.waking.Lock()
	defer c.waking.Unlock()
	c.waits = waits
	c.raw.SetReadDeadline(deadline)
}

// wake ends the wait for a command.
func (c *conn) wake() {
	c.waking.Lock()
	defer c.waking.Unlock()
	if c.waits {
		c.raw.SetReadDeadline(time.Unix(1, 0))
	}
}

// incoming gives the channel of the one read under way, starting it if need be.
func (c *conn) incoming() chan line {
	if c.pending == nil {
		pending, lines := make(chan line, 1), c.lines
		c.pending = pending
		go func() { // ends with its read, which end() makes sure of and waits for
			text, err := lines.read()
			pending <- line{text, err}
			close(pending)
		}()
	}
	return c.pending
}

// reply sends one reply; more than one line makes it a multi-line reply (RFC
// 959, section 4.2).
func (c *conn) reply(code int, text ...string) {
	var b strings.Builder
	for i, t := range text {
		t = strings.NewReplacer("\r", "", "\n", " ").Replace(t)
		mark := "-"
		if i == len(text)-1 {
			mark = " "
		}
		fmt.Fprintf(&b, "%03d%s%s\r\n", code, mark, t)
	}
	c.send(b.String())
}

// replyBlock sends a multi-line reply whose inner lines begin with a space, as
// RFC 2389 and RFC 3659 want them.
func (c *conn) replyBlock(code int, first string, inner []string, last string) {
	var b strings.Builder
	fmt.Fprintf(&b, "%03d-%s\r\n", code, first)
	for _, t := range inner {
		b.WriteString(" " + t + "\r\n")
	}
	fmt.Fprintf(&b, "%03d %s\r\n", code, last)
	c.send(b.String())
}

func (c *conn) send(text string) {
	text = strings.ReplaceAll(text, "\xff", "\xff\xff") // RFC 854: a data byte that looks like IAC is doubled
	c.raw.SetWriteDeadline(time.Now().Add(c.server.Timeouts.Reply))
	if _, err := c.control.Write([]byte(text)); err != nil {
		c.raw.Close() // the reader notices
	}
}

// fail is an error that is a reply.
type fail struct {
	code int
	text string
}

func (f fail) Error() string { return f.text }

// replyError says what went wrong.
func (c *conn) replyError(err error) {
	var f fail
	if errors.As(err, &f) {
		c.reply(f.code, f.text)
		return
	}
	fault := keep.FaultOf(err)
	if errors.Is(err, tree.ErrBehind) {
		c.reply(554, fault.Say) // RFC 3659, section 5.4
		return
	}
	if fault.Reason == keep.Failure {
		c.server.Log.Error("command failed", "account", c.user, "cause", fault.Cause)
	}
	c.reply(codeOf(fault.Reason), fault.Say)
}

// codeOf gives each reason its reply code (RFC 959, section 4.2.1).
func codeOf(reason keep.Reason) int {
	switch reason {
	case keep.DiskFull:
		return 452
	case keep.StoreAway: // it may be back in a moment
		return 450
	case keep.TooLarge, keep.QuotaFull:
		return 552
	case keep.Failure, keep.TrailUnavailable:
		return 451
	case keep.BadName:
		return 553
	case keep.BadRequest:
		return 501
	case keep.BadCredentials, keep.MustChange, keep.Suspended, keep.TooManyAttempts, keep.TooManySessions:
		return 530
	case keep.ClientGone, keep.ClientAborted, keep.Stalled, keep.AccountChanged, keep.EndedByOperator, keep.Stopping:
		return 426
	case keep.NoDataConnection:
		return 425
	}
	return 550
}
