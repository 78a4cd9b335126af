package sftpclient

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// The packets, and the flags of open (section 3; 6.3).
const (
	PktInit, PktVersion                    = 1, 2
	PktOpen, PktClose, PktRead, PktWrite   = 3, 4, 5, 6
	PktLstat, PktFstat                     = 7, 8
	PktSetstat, PktFsetstat                = 9, 10
	PktOpendir, PktReaddir, PktRemove      = 11, 12, 13
	PktMkdir, PktRmdir, PktRealpath        = 14, 15, 16
	PktStat, PktRename, PktReadlink        = 17, 18, 19
	PktSymlink                             = 20
	PktStatus, PktHandle, PktData, PktName = 101, 102, 103, 104
	PktAttrs                               = 105
	PktExtended, PktExtendedReply          = 200, 201

	FlagRead, FlagWrite, FlagAppend, FlagCreate, FlagTruncate, FlagExclusive = 1, 2, 4, 8, 16, 32
)

// The codes of a status (section 7).
const (
	StatusOK, StatusEOF, StatusNoSuchFile, StatusDenied, StatusFailure = 0, 1, 2, 3, 4
	StatusUnsupported                                                  = 8
)

// Status is an answer that is no success.
type Status struct {
	Code uint32
	Text string
}

func (s *Status) Error() string {
	if s.Text == "" {
		return fmt.Sprintf("status %d", s.Code)
	}
	return s.Text
}

// ErrGone says that the connection has ended.
var ErrGone = errors.New("the connection to the other server has ended")

// How long a request may take, and how large an answer may be, bytes.
const (
	Patience  = 30 * time.Second
	maxAnswer = 1 << 20
)

// Client is one channel to a server.
type Client struct {
	ssh        *ssh.Client
	extensions map[string]string
	maxRead    int
	maxWrite   int

	sending sync.Mutex // held while a request is written
	out     io.Writer

	mu      sync.Mutex
	id      uint32
	waiting map[uint32]chan Answer
	gone    error
	ended   chan struct{}
}

// Answer is what a request led to.
type Answer struct {
	Kind byte
	Body []byte // without the number of the request
	Err  error  // the connection's
}

// Dial connects to a server and signs in.
func Dial(ctx context.Context, address string, config *ssh.ClientConfig) (*Client, error) {
	raw, err := (&net.Dialer{Timeout: config.Timeout}).DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, err
	}
	raw.SetDeadline(time.Now().Add(Patience))
	shell, channels, requests, err := ssh.NewClientConn(raw, address, config)
	if err != nil {
		raw.Close()
		return nil, err
	}
	raw.SetDeadline(time.Time{})
	c, err := New(ssh.NewClient(shell, channels, requests))
	if err != nil {
		shell.Close()
	}
	return c, err
}

// New opens a channel over a connection, which ends with it.
func New(over *ssh.Client) (*Client, error) {
	session, err := over.NewSession()
	if err != nil {
		return nil, err
	}
	out, err := session.StdinPipe()
	if err != nil {
		return nil, err
	}
	in, err := session.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := session.RequestSubsystem("sftp"); err != nil {
		return nil, fmt.Errorf("it offers no SFTP: %w", err)
	}
	c := &Client{ssh: over, out: out, extensions: map[string]string{}, maxRead: 32 << 10, maxWrite: 32 << 10, waiting: map[uint32]chan Answer{}, ended: make(chan struct{})}
	reader := bufio.NewReaderSize(in, 256<<10)
	stuck := time.AfterFunc(Patience, func() { over.Close() })
	defer stuck.Stop()
	if err := c.write(PktInit, U32(3)); err != nil {
		return nil, err
	}
	kind, body, err := read(reader)
	if err != nil || kind != PktVersion || len(body) < 4 {
		return nil, errors.Join(err, fmt.Errorf("packet %d came instead of a version", kind))
	}
	for rest := (&Parser{b: body[4:]}); len(rest.b) > 0 && rest.err == nil; {
		name, value := rest.String(), rest.String()
		c.extensions[name] = value
	}
	go c.receive(reader)
	c.learnLimits()
	return c, nil
}

// Offers reports whether the server has an extension.
func (c *Client) Offers(extension string) bool {
	_, offers := c.extensions[extension]
	return offers
}

// learnLimits asks for how much goes into one packet.
func (c *Client) learnLimits() {
	if !c.Offers("limits@openssh.com") {
		return
	}
	kind, body, err := c.Ask(PktExtended, Str("limits@openssh.com"))
	if err != nil || kind != PktExtendedReply {
		return
	}
	p := &Parser{b: body}
	p.Uint64()
	most := func(n uint64) int { return int(min(max(n, 32<<10), 255<<10)) }
	reads, writes := p.Uint64(), p.Uint64()
	if p.err == nil && reads > 0 && writes > 0 {
		c.maxRead, c.maxWrite = most(reads), most(writes)
	}
}

func read(in io.Reader) (kind byte, body []byte, err error) {
	var head [5]byte
	if _, err := io.ReadFull(in, head[:]); err != nil {
		return 0, nil, err
	}
	length := binary.BigEndian.Uint32(head[:])
	if length < 1 || length > maxAnswer {
		return 0, nil, fmt.Errorf("an answer of %d bytes", length)
	}
	body = make([]byte, length-1)
	_, err = io.ReadFull(in, body)
	return head[4], body, err
}

// receive hands out the answers as they come; it ends with the connection.
func (c *Client) receive(in io.Reader) {
	for {
		kind, body, err := read(in)
		if err == nil && len(body) < 4 {
			err = errors.New("an answer without a number")
		}
		if err != nil {
			c.end(err)
			return
		}
		id := binary.BigEndian.Uint32(body)
		c.mu.Lock()
		to := c.waiting[id]
		delete(c.waiting, id)
		c.mu.Unlock()
		if to != nil {
			to <- Answer{Kind: kind, Body: body[4:]}
		}
	}
}

func (c *Client) end(why error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.gone != nil {
		return
	}
	c.gone = fmt.Errorf("%w: %w", ErrGone, why)
	for id, to := range c.waiting {
		to <- Answer{Err: c.gone}
		delete(c.waiting, id)
	}
	close(c.ended)
	c.ssh.Close()
}

// Gone says why the connection has ended, nil while it has not.
func (c *Client) Gone() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.gone
}

// Close ends the connection.
func (c *Client) Close() error {
	c.end(errors.New("it was closed"))
	return nil
}

func (c *Client) write(kind byte, parts ...[]byte) error {
	length := 1
	for _, part := range parts {
		length += len(part)
	}
	packet := append(binary.BigEndian.AppendUint32(make([]byte, 0, length+4), uint32(length)), kind)
	for _, part := range parts {
		packet = append(packet, part...)
	}
	c.sending.Lock()
	defer c.sending.Unlock()
	_, err := c.out.Write(packet)
	return err
}

// Send makes a request and does not wait for its answer, which comes over what is given.
func (c *Client) Send(kind byte, parts ...[]byte) <-chan Answer {
	to := make(chan Answer, 1)
	c.mu.Lock()
	if c.gone != nil {
		to <- Answer{Err: c.gone}
		c.mu.Unlock()
		return to
	}
	c.id++
	id := c.id
	c.waiting[id] = to
	c.mu.Unlock()
	stuck := time.AfterFunc(Patience, func() { c.end(errors.New("it takes nothing in")) })
	err := c.write(kind, append([][]byte{U32(id)}, parts...)...)
	stuck.Stop()
	if err != nil {
		c.end(err)
	}
	return to
}

// Wait waits for an answer. A status that is no success is an error: a [*Status], or [io.EOF].
func (c *Client) Wait(to <-chan Answer) (kind byte, body []byte, err error) {
	patience := time.NewTimer(Patience)
	defer patience.Stop()
	var a Answer
	select {
	case a = <-to:
	case <-patience.C:
		c.end(errors.New("it does not answer"))
		select {
		case a = <-to:
		default:
			a.Err = ErrGone
		}
	}
	if a.Err != nil {
		return 0, nil, a.Err
	}
	if a.Kind == PktStatus {
		p := &Parser{b: a.Body}
		switch code := p.Uint32(); {
		case p.err != nil:
			return 0, nil, p.err
		case code == StatusEOF:
			return a.Kind, nil, io.EOF
		case code != StatusOK:
			return a.Kind, nil, &Status{code, p.String()}
		}
	}
	return a.Kind, a.Body, nil
}

// Ask makes a request and waits for its answer.
func (c *Client) Ask(kind byte, parts ...[]byte) (byte, []byte, error) {
	return c.Wait(c.Send(kind, parts...))
}

// Do is Ask for what is answered by a status.
func (c *Client) Do(kind byte, parts ...[]byte) error {
	_, _, err := c.Ask(kind, parts...)
	return err
}

// U32, U64 and Str write what packets are made of.
func U32(n uint32) []byte { return binary.BigEndian.AppendUint32(nil, n) }
func U64(n uint64) []byte { return binary.BigEndian.AppendUint64(nil, n) }
func Str(text string) []byte {
	return append(U32(uint32(len(text))), text...)
}

// Parser reads what packets are made of. After an error it gives zeros.
type Parser struct {
	b   []byte
	err error
}

// Err is the first error.
func (p *Parser) Err() error { return p.err }

func (p *Parser) take(n int) []byte {
	if p.err != nil || n < 0 || n > len(p.b) {
		p.err = errors.New("the answer is too short")
		return make([]byte, min(max(n, 0), 8))
	}
	part := p.b[:n]
	p.b = p.b[n:]
	return part
}

// Uint32 reads four bytes.
func (p *Parser) Uint32() uint32 { return binary.BigEndian.Uint32(p.take(4)) }

// Uint64 reads eight bytes.
func (p *Parser) Uint64() uint64 { return binary.BigEndian.Uint64(p.take(8)) }

func (p *Parser) String() string { return string(p.bytes()) }

func (p *Parser) bytes() []byte {
	n := p.Uint32()
	if p.err != nil || int64(n) > int64(len(p.b)) {
		p.err = errors.New("the answer is too short")
		return nil
	}
	return p.take(int(n))
}
