package ftp

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/protocol/wire"
)

// dataPlan is how the next data connection is to come about: by a listener
// that waits for the client, or by calling the client's address.
type dataPlan struct {
	listener net.Listener
	release  func() // gives the passive port back
	active   string
	came     net.Conn   // the client's, which has not spoken yet; nil: none is known of
	shakes   chan claim // gives the client's, which has begun TLS; nil: none has
	quit     func()     // ends that
}

// drop forgets the plan and gives its port back.
func (p *dataPlan) drop() {
	if p.listener != nil {
		p.listener.Close()
		p.release()
	}
	if p.came != nil {
		p.came.Close()
	}
	if p.shakes != nil {
		p.quit()
		if one := <-p.shakes; one.conn != nil {
			one.conn.kill()
		}
	}
	*p = dataPlan{}
}

func (p *dataPlan) ready() bool { return p.listener != nil || p.active != "" }

// portRange hands out the passive ports of a listener, so that nobody can tell which is next.
type portRange struct {
	low, high int

	mu    sync.Mutex
	taken map[int]bool
	none  int // how often all were in use
}

func (r *portRange) use() (taken, refused int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.taken), r.none
}

var errNoPort = fail{425, "all passive ports are in use; try again in a moment"}

// plainTCP listens without Multipath TCP (RFC 8684), which is for connections that last: its sockets are slow to come, and
// to give their port back.
var plainTCP = func() (l net.ListenConfig) { l.SetMultipathTCP(false); return l }()

// listen opens a passive port on an address.
func (r *portRange) listen(host string) (net.Listener, func(), error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.taken == nil {
		r.taken = map[int]bool{}
	}
	size := r.high - r.low + 1
	first := rand.IntN(size)
	for n := range size {
		port := r.low + (first+n)%size
		if r.taken[port] {
			continue
		}
		l, err := plainTCP.Listen(context.Background(), "tcp", net.JoinHostPort(host, strconv.Itoa(port)))
		if err != nil {
			continue // another program's
		}
		r.taken[port] = true
		return l, func() {
			r.mu.Lock()
			delete(r.taken, port)
			r.mu.Unlock()
		}, nil
	}
	r.none++
	return nil, nil, errNoPort
}

func (c *conn) passive() (port int, err error) {
	c.data.drop()
	if c.eager != nil { // the client has come to the next one
		c.eager()
		c.eager = nil
	}
	l, release, err := c.server.ports.listen(wire.IP(c.raw.LocalAddr()).String())
	if err != nil {
		return 0, err
	}
	c.data = dataPlan{listener: l, release: release}
	return l.Addr().(*net.TCPAddr).Port, nil
}

func (c *conn) cmdPasv(string) error {
	if c.epsvAll {
		return fail{501, "after EPSV ALL only EPSV may be used"}
	}
	local := wire.IP(wire.Reached(c.raw))
	if !local.Is4() {
		return fail{425, "PASV can't tell an IPv6 address: use EPSV"}
	}
	told, err := c.advertised(local)
	if err != nil {
		return err
	}
	port, err := c.passive()
	if err != nil {
		return err
	}
	ip := told.As4()
	c.reply(227, fmt.Sprintf("Entering Passive Mode (%d,%d,%d,%d,%d,%d)", ip[0], ip[1], ip[2], ip[3], port>>8, port&255))
	return nil
}

// lookUp bounds the search for the address of an advertised name.
const lookUp = 5 * time.Second

// advertised is the address that the client is told: behind a router the one
// outside, but not for a client on this side of it.
func (c *conn) advertised(local netip.Addr) (netip.Addr, error) {
	peer := wire.IP(c.raw.RemoteAddr())
	if c.listener.Advertise == "" || peer.IsPrivate() || peer.IsLoopback() || peer.IsLinkLocalUnicast() {
		return local, nil
	}
	if address, err := netip.ParseAddr(c.listener.Advertise); err == nil {
		return address, nil
	}
	ctx, stop := context.WithTimeout(c.ctx, lookUp)
	defer stop()
	found, err := net.DefaultResolver.LookupNetIP(ctx, "ip4", c.listener.Advertise)
	if err != nil || len(found) == 0 {
		c.server.Log.Error("the advertised name can't be resolved", "name", c.listener.Advertise, "cause", err)
		return local, fail{425, "the address to connect to can't be found at the moment; try EPSV, or again later"}
	}
	return found[0].Unmap(), nil
}

// cmdEpsv is RFC 2428, section 3.
func (c *conn) cmdEpsv(arg string) error {
	local := wire.IP(wire.Reached(c.raw))
	switch strings.ToUpper(arg) {
	case "", map[bool]string{true: "1", false: "2"}[local.Is4()]:
	case "ALL":
		c.epsvAll = true
		c.reply(200, "only EPSV from now on")
		return nil
	case "1", "2":
		return fail{522, map[bool]string{true: "this connection is IPv4, use (1)", false: "this connection is IPv6, use (2)"}[local.Is4()]}
	default:
		return fail{501, "use EPSV, EPSV 1, EPSV 2 or EPSV ALL"}
	}
	port, err := c.passive()
	if err != nil {
		return err
	}
	c.reply(229, fmt.Sprintf("Entering Extended Passive Mode (|||%d|)", port))
	return nil
}

func (c *conn) cmdPort(arg string) error {
	parts := strings.Split(arg, ",")
	var n [6]uint8
	bad := len(parts) != 6
	for i := 0; i < 6 && !bad; i++ {
		v, err := strconv.ParseUint(strings.TrimSpace(parts[i]), 10, 8)
		n[i], bad = uint8(v), err != nil
	}
	if bad {
		return fail{501, "use PORT h1,h2,h3,h4,p1,p2"}
	}
	return c.activeTo(netip.AddrPortFrom(netip.AddrFrom4([4]byte(n[:4])), uint16(n[4])<<8|uint16(n[5])))
}

// cmdEprt is RFC 2428, section 2.
func (c *conn) cmdEprt(arg string) error {
	bad := fail{501, "use EPRT |family|address|port|"}
	if len(arg) < 2 {
		return bad
	}
	parts := strings.Split(arg, arg[:1])
	if len(parts) != 5 {
		return bad
	}
	addr, err := netip.ParseAddr(parts[2])
	port, perr := strconv.ParseUint(parts[3], 10, 16)
	if err != nil || perr != nil {
		return bad
	}
	switch {
	case parts[1] != "1" && parts[1] != "2":
		return fail{522, "network protocol not known, use (1,2)"}
	case (parts[1] == "1") != addr.Is4():
		return bad
	}
	return c.activeTo(netip.AddrPortFrom(addr.Unmap(), uint16(port)))
}

// activeTo plans a call to the client, and to nobody else: RFC 2577, section 3,
// says what happens otherwise. Some clients send the unspecified address where
// they mean their own.
func (c *conn) activeTo(to netip.AddrPort) error {
	peer := wire.IP(c.raw.RemoteAddr())
	if to.Addr() == netip.IPv6Unspecified() { // lftp says so where its socket has not been bound to an address
		to = netip.AddrPortFrom(peer, to.Port())
	}
	switch {
	case c.epsvAll:
		return fail{501, "after EPSV ALL only EPSV may be used"}
	case c.listener.NoActive:
		return fail{502, "this service does not call clients: use PASV or EPSV"}
	case to.Addr() != peer:
		return fail{504, "data goes only to the address that the command connection comes from"}
	case to.Port() < 1024:
		return fail{504, "data does not go to ports below 1024"}
	case c.server.Ours != nil && c.server.Ours(to):
		return fail{504, "data does not go to this service itself"}
	}
	c.data.drop()
	c.data.active = to.String()
	c.reply(200, "data will go there")
	return nil
}

// openData makes the planned data connection, with TLS when it is protected.
func (c *conn) openData(ctx context.Context) (dataConn, error) {
	plan := c.data
	c.data = dataPlan{}
	defer plan.drop()
	ctx, stop := context.WithTimeout(ctx, c.server.Timeouts.Connect)
	defer stop()
	if c.protected && plan.listener != nil {
		claims := make(chan claim)
		ctx, stop := context.WithCancel(ctx)
		defer stop()
		go c.admit(ctx, plan.listener, claims)
		if plan.came != nil {
			go c.handIn(ctx, plan.came, claims)
		}
		if plan.shakes != nil {
			defer plan.quit()
			go pass(ctx, plan.shakes, claims)
		}
		plan.came, plan.shakes = nil, nil
		return c.claimed(ctx, plan.listener, claims)
	}
	raw, err := c.connect(ctx, plan)
	if err != nil {
		return nil, err
	}
	if c.protected {
		return c.protect(ctx, raw)
	}
	tcp, _ := wire.TCP(raw)
	return &plainData{tcp, c.server.Timeouts.Stall}, nil
}

var errNoDataCame = keep.Refuse(keep.NoDataConnection, "no data connection came about: is the passive port range open and forwarded?")

func (c *conn) connect(ctx context.Context, plan dataPlan) (net.Conn, error) {
	if plan.active != "" {
		raw, err := new(net.Dialer).DialContext(ctx, "tcp", plan.active)
		if err != nil {
			return nil, keep.Refuse(keep.NoDataConnection, "the client's data port could not be reached: try passive mode")
		}
		return raw, nil
	}
	stop := context.AfterFunc(ctx, func() { plan.listener.Close() })
	defer stop()
	for {
		raw, err := plan.listener.Accept()
		if err != nil {
			return nil, errNoDataCame
		}
		if own, is := c.sameClient(raw); is {
			return own, nil
		}
		raw.Close() // somebody else's; RFC 2577, section 7
	}
}

// protect puts TLS over the data connection that was made to a client.
func (c *conn) protect(ctx context.Context, raw net.Conn) (dataConn, error) {
	d, proved, err := c.shake(ctx, raw, nil)
	if err == nil && c.listener.ResumeData && !proved {
		d.kill()
		err = errNotResumed
	}
	if err != nil {
		return nil, err
	}
	return d, nil
}

// sameClient reports whether a data connection comes from the client of the command connection.
// Where a proxy has brought that one, it may bring this one too, and says so then.
func (c *conn) sameClient(raw net.Conn) (net.Conn, bool) {
	own := wire.IP(c.raw.RemoteAddr())
	if brought, _ := wire.Introduced(c.raw); brought && c.listener.Proxies.Has(wire.IP(raw.RemoteAddr()).String()) {
		known, err := wire.Introduce(raw)
		if err != nil {
			return raw, false
		}
		raw = known
	}
	return raw, wire.IP(raw.RemoteAddr()) == own
}

// dataConn is a data connection whose reads and writes fail when nothing moves
// for too long.
type dataConn interface {
	io.Reader
	io.Writer
	// finish says properly that the data is at its end.
	finish() error
	// kill closes at once, so that the other side sees that something is missing.
	kill()
}

type plainData struct {
	*net.TCPConn
	stall time.Duration
}

func (d *plainData) Read(p []byte) (int, error) {
	d.SetReadDeadline(time.Now().Add(d.stall))
	return d.TCPConn.Read(p)
}

func (d *plainData) Write(p []byte) (int, error) {
	d.SetWriteDeadline(time.Now().Add(d.stall))
	return d.TCPConn.Write(p)
}

// ReadFrom lets the kernel move the bytes of a file.
func (d *plainData) ReadFrom(r io.Reader) (int64, error) {
	d.SetWriteDeadline(time.Now().Add(d.stall))
	return d.TCPConn.ReadFrom(r)
}

func (d *plainData) finish() error { return d.TCPConn.Close() }

func (d *plainData) kill() {
	d.SetLinger(0) // a reset, not an end of file
	d.TCPConn.Close()
}

// eofSpy sees the end of a TCP stream under TLS.
type eofSpy struct {
	net.Conn
	first []byte // what was read before TLS was put over it
	ended bool
}

func (s *eofSpy) Read(p []byte) (int, error) {
	if len(s.first) > 0 {
		n := copy(p, s.first)
		s.first = s.first[n:]
		return n, nil
	}
	n, err := s.Conn.Read(p)
	s.ended = s.ended || err == io.EOF
	return n, err
}

type tlsData struct {
	*tls.Conn
	spy   *eofSpy
	stall time.Duration
}

var errTruncated = keep.Refuse(keep.ClientGone, "the data connection ended without a TLS goodbye, so bytes may be missing")

// Read takes the end of the data only from the client itself: an end of the TCP
// stream alone can be anybody's doing (RFC 8446, section 6.1). crypto/tls lets
// that pass between two records.
func (d *tlsData) Read(p []byte) (int, error) {
	d.SetReadDeadline(time.Now().Add(d.stall))
	n, err := d.Conn.Read(p)
	if err == io.EOF && d.spy.ended {
		err = errTruncated
	}
	return n, err
}

func (d *tlsData) Write(p []byte) (int, error) {
	d.SetWriteDeadline(time.Now().Add(d.stall))
	return d.Conn.Write(p)
}

func (d *tlsData) finish() error { return d.Conn.Close() } // sends close_notify

func (d *tlsData) kill() { d.Conn.NetConn().Close() }

// faultOfData sorts what can go wrong on a data connection.
func faultOfData(err error) error {
	var fault *keep.Fault
	switch {
	case err == nil, errors.As(err, &fault):
		return err
	case timedOut(err):
		return &keep.Fault{Reason: keep.Stalled, Say: "nothing moved on the data connection for too long", Cause: err}
	}
	return &keep.Fault{Reason: keep.ClientGone, Say: "the data connection broke off", Cause: err}
}
