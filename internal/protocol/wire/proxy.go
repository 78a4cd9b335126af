package wire

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"sync"
	"time"

	"github.com/pires/go-proxyproto"
	"github.com/pires/go-proxyproto/tlvparse"
)

const (
	// introduction bounds how long a proxy may take to say for whom it connects.
	introduction = 5 * time.Second
	// maxIntroductions bounds how many connections of proxies may be without a word yet.
	maxIntroductions = 256
)

// ErrNotIntroduced says that a proxy did not say for whom it connects.
var ErrNotIntroduced = errors.New("the proxy did not say for whom it connects (PROXY protocol, version 1 or 2)")

// introduced is a connection of a proxy on behalf of somebody else.
type introduced struct {
	*net.TCPConn
	from, reached net.Addr
	encrypted     bool
}

func (i *introduced) RemoteAddr() net.Addr { return i.from }

// NetConn is the connection with the proxy.
func (i *introduced) NetConn() net.Conn { return i.TCPConn }

// Introduce reads for whom a proxy connects (the PROXY protocol, versions 1 and 2). A proxy that
// connects for itself, to see whether the service is there, keeps its own address. The
// connection is not closed when that fails.
func Introduce(conn net.Conn) (net.Conn, error) {
	tcp, ok := conn.(*net.TCPConn)
	if !ok {
		return nil, ErrNotIntroduced
	}
	tcp.SetDeadline(time.Now().Add(introduction))
	text, err := headOf(tcp)
	if err != nil {
		return nil, errors.Join(ErrNotIntroduced, err)
	}
	header, err := proxyproto.Read(bufio.NewReaderSize(bytes.NewReader(text), len(text)))
	if err != nil {
		return nil, errors.Join(ErrNotIntroduced, err)
	}
	tcp.SetDeadline(time.Time{})
	from, ok1 := header.SourceAddr.(*net.TCPAddr)
	reached, ok2 := header.DestinationAddr.(*net.TCPAddr)
	if header.Command.IsLocal() || !ok1 || !ok2 {
		return conn, nil
	}
	i := &introduced{TCPConn: tcp, from: from, reached: reached}
	if parts, err := header.TLVs(); err == nil {
		if ssl, found := tlvparse.FindSSL(parts); found {
			i.encrypted = ssl.ClientSSL()
		}
	}
	return i, nil
}

const (
	// maxLine is the longest header of version 1, bytes.
	maxLine = 107
	// fixed is the part of a header of version 2 that tells how long the rest is.
	fixed = 16
	// maxParts bounds that rest, bytes: addresses, and what a proxy adds about them.
	maxParts = 4096
)

// headOf reads a header, and not a byte more: what follows is somebody else's to read.
func headOf(r io.Reader) ([]byte, error) {
	text := make([]byte, 1, maxLine)
	if _, err := io.ReadFull(r, text); err != nil {
		return nil, err
	}
	if text[0] == proxyproto.SIGV2[0] {
		text = append(text, make([]byte, fixed-1)...)
		if _, err := io.ReadFull(r, text[1:]); err != nil {
			return nil, err
		}
		rest := int(binary.BigEndian.Uint16(text[fixed-2:]))
		if !bytes.HasPrefix(text, proxyproto.SIGV2) || rest > maxParts {
			return nil, proxyproto.ErrNoProxyProtocol
		}
		text = append(text, make([]byte, rest)...)
		_, err := io.ReadFull(r, text[fixed:])
		return text, err
	}
	for next := make([]byte, 1); text[len(text)-1] != '\n'; {
		if _, err := io.ReadFull(r, next); err != nil {
			return nil, err
		}
		if text = append(text, next[0]); len(text) > maxLine || !bytes.HasPrefix(text, proxyproto.SIGV1[:min(len(text), len(proxyproto.SIGV1))]) {
			return nil, proxyproto.ErrNoProxyProtocol
		}
	}
	return text, nil
}

// Introduced reports whether a proxy has said for whom a connection is, and whether that one's
// connection with the proxy is encrypted.
func Introduced(conn net.Conn) (yes, encrypted bool) {
	i, yes := conn.(*introduced)
	return yes, yes && i.encrypted
}

// Reached is the address to which the client connected: the proxy's, where there is one.
func Reached(conn net.Conn) net.Addr {
	if i, ok := conn.(*introduced); ok {
		return i.reached
	}
	return conn.LocalAddr()
}

// TCP is the TCP connection below one, with the client or with a proxy.
func TCP(conn net.Conn) (*net.TCPConn, bool) {
	if i, ok := conn.(*introduced); ok {
		return i.TCPConn, true
	}
	tcp, ok := conn.(*net.TCPConn)
	return tcp, ok
}

// Behind is a listener on which the connections of proxies have the addresses of whom they are for.
// Proxies says which address is a proxy's; its word is not only believed but required.
// A proxy that does not say it is refused; refused hears of that.
func Behind(l net.Listener, proxies func(from string) bool, refused func(from string, why error)) net.Listener {
	return &behind{Listener: l, proxies: proxies, refused: refused, ready: make(chan net.Conn), failed: make(chan error), closed: make(chan struct{}),
		reading: map[net.Conn]bool{}}
}

type behind struct {
	net.Listener
	proxies func(string) bool
	refused func(string, error)
	ready   chan net.Conn
	failed  chan error
	closed  chan struct{}
	begin   sync.Once
	running sync.WaitGroup

	mu      sync.Mutex
	ended   bool
	reading map[net.Conn]bool // who has not said for whom they are
}

func (b *behind) Accept() (net.Conn, error) {
	b.begin.Do(func() { b.start(b.pump) })
	select {
	case conn := <-b.ready:
		return conn, nil
	case err := <-b.failed:
		return nil, err
	case <-b.closed:
		return nil, net.ErrClosed
	}
}

// start runs something that Close waits for.
func (b *behind) start(do func()) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if !b.ended {
		b.running.Go(do)
	}
}

func (b *behind) pump() {
	for {
		conn, err := b.Listener.Accept()
		switch {
		case err != nil:
			select {
			case b.failed <- err:
			case <-b.closed:
			}
			if errors.Is(err, net.ErrClosed) {
				return
			}
		case !b.proxies(IP(conn.RemoteAddr()).String()):
			b.pass(conn)
		case !b.enter(conn):
			conn.Close()
		default:
			b.start(func() { b.introduce(conn) })
		}
	}
}

// enter counts a connection among those that have said nothing yet.
func (b *behind) enter(conn net.Conn) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.ended || len(b.reading) >= maxIntroductions {
		return false
	}
	b.reading[conn] = true
	return true
}

func (b *behind) introduce(conn net.Conn) {
	known, err := Introduce(conn)
	b.mu.Lock()
	delete(b.reading, conn)
	b.mu.Unlock()
	if err == nil {
		b.pass(known)
		return
	}
	conn.Close()
	if !errors.Is(err, io.EOF) { // else it looked whether anybody is here
		b.refused(IP(conn.RemoteAddr()).String(), err)
	}
}

func (b *behind) pass(conn net.Conn) {
	select {
	case b.ready <- conn:
	case <-b.closed:
		conn.Close()
	}
}

// Close ends the listener, and the connections that it has not passed on.
func (b *behind) Close() error {
	b.mu.Lock()
	if b.ended {
		b.mu.Unlock()
		return net.ErrClosed
	}
	b.ended = true
	close(b.closed)
	for conn := range b.reading {
		conn.Close()
	}
	b.mu.Unlock()
	err := b.Listener.Close()
	b.running.Wait()
	return err
}
