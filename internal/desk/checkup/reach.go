package checkup

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"urbankeep/internal/keep"
)

// patience bounds each try to connect, and the wait for a greeting.
const patience = 4 * time.Second

// Post is a listener as it runs.
type Post struct {
	keep.Listener
	At      string                    // where it really listens; "": it doesn't
	Unable  string                    // why it can't listen; "": it can
	Taken   int                       // passive ports in use
	Refused int                       // times that none was left
	Admits  func(address string) bool // by the network rules of service and listener
}

// port is where it really listens.
func (p *Post) port() int {
	_, text, _ := net.SplitHostPort(p.At)
	port, _ := strconv.Atoi(text)
	return port
}

// outside reports whether it listens on all addresses, or on one that others reach.
func (p *Post) outside() bool {
	host, _, _ := net.SplitHostPort(p.At)
	ip, err := netip.ParseAddr(host)
	return err != nil || !ip.IsLoopback()
}

// near is an address of this machine on which it answers.
func (p *Post) near() string {
	host, port, _ := net.SplitHostPort(p.At)
	if ip, err := netip.ParseAddr(host); err != nil || ip.IsUnspecified() {
		host = "127.0.0.1"
	}
	return net.JoinHostPort(host, port)
}

// Listeners tries each listener here, and under the host name that clients use: with anywhere whatever machine that is, else only
// if it is this one, so that nobody looks round other networks with it. What answers is never repeated.
func Listeners(ctx context.Context, posts []Post, host string, anywhere bool) Findings {
	parts := make([]Findings, len(posts))
	var all sync.WaitGroup
	for i := range posts {
		all.Go(func() { parts[i] = posts[i].look(ctx, host, anywhere) })
	}
	all.Wait()
	var f Findings
	for _, part := range parts {
		f = append(f, part...)
	}
	if len(posts) == 0 {
		f.Add("listener", "", Fault, "make one with listener add", "there is no listener: nobody can connect")
	}
	return append(f, hostName(ctx, posts, host)...)
}

func (p *Post) look(ctx context.Context, host string, anywhere bool) (f Findings) {
	if p.Stopped {
		f.Add("listener", p.Name, Note, "", "it is stopped")
		return f
	}
	if p.At == "" {
		f.Add("listener", p.Name, Fault, "free the address, or give it another (listener set "+p.Name+" -address); it is tried again by itself", "it does not listen on %s: %s", p.Address, p.Unable)
		return f
	}
	if !p.Admits("127.0.0.1") && strings.HasPrefix(p.near(), "127.") {
		f.Add("listener", p.Name, Note, "", "it listens on %s; the network rules don't let this machine in, so it was not tried", p.At)
	} else if said, err := p.greet(ctx, p.near()); err != nil {
		f.Add("listener", p.Name, Fault, "see the service's log", "it listens on %s, but does not greet: %v", p.At, err)
	} else {
		f.Add("listener", p.Name, Fine, "", "it answers on %s: %s", p.At, said)
	}
	if host == "" || !p.outside() {
		return f
	}
	at := net.JoinHostPort(host, strconv.Itoa(p.port()))
	if !anywhere && !isHere(ctx, host) {
		f.Add("outside", p.Name, Note, "", notTried, at)
		return f
	}
	if said, err := p.greet(ctx, at); err == nil {
		f.Add("outside", p.Name, Fine, "", "it answers on %s: %s", at, said)
	} else {
		f.Add("outside", p.Name, Warning, fmt.Sprintf("open TCP port %d in the firewall and forward it to this machine (checkup -ports); some routers can't be tried from inside, then try from elsewhere", p.port()),
			"nothing answers on %s: %v", at, err)
	}
	return f
}

// greet connects as a client would and reads the first line.
func (p *Post) greet(ctx context.Context, at string) (string, error) {
	dialer := net.Dialer{Timeout: patience}
	conn, err := dialer.DialContext(ctx, "tcp", at)
	if err != nil {
		return "", plain(err)
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(patience))
	io.WriteString(conn, p.Introduction(conn.LocalAddr()))
	want := "220"
	switch p.Protocol {
	case keep.SFTP:
		want = "SSH-2.0-"
	case keep.Web:
		return p.ask(ctx, conn)
	case keep.FTPS:
		secure := tls.Client(conn, &tls.Config{InsecureSkipVerify: true}) // its certificate is looked at elsewhere
		if err := secure.HandshakeContext(ctx); err != nil {
			return "", fmt.Errorf("no TLS: %w", plain(err))
		}
		conn = secure
	}
	line, err := bufio.NewReaderSize(conn, 512).ReadString('\n')
	if err != nil {
		return "", fmt.Errorf("it connects, but says nothing: %w", plain(err))
	}
	if line = strings.TrimSpace(line); !strings.HasPrefix(line, want) {
		return "", errElse
	}
	return string(p.Protocol), nil
}

var errElse = errors.New("something else answers there")

// notTried says of an address that is no address of this machine that it was not tried.
const notTried = "%s is no address of this machine, and was not tried: an owner's check-up tries it"

// isHere reports whether a name leads to this machine alone.
func isHere(ctx context.Context, host string) bool {
	found, err := net.DefaultResolver.LookupHost(ctx, host)
	return err == nil && len(found) > 0 && !slices.ContainsFunc(found, func(one string) bool { return !ofThisMachine([]string{one}) })
}

// ask asks a web listener whether it lives.
func (p *Post) ask(ctx context.Context, conn net.Conn) (string, error) {
	what := "HTTP"
	if p.Encryption != keep.EncryptionOff {
		host := ""
		if len(p.Hosts) > 0 {
			host = p.Hosts[0]
		}
		secure := tls.Client(conn, &tls.Config{InsecureSkipVerify: true, ServerName: host})
		if err := secure.HandshakeContext(ctx); err != nil {
			return "", fmt.Errorf("no TLS: %w", plain(err))
		}
		conn, what = secure, "HTTPS"
	}
	fmt.Fprintf(conn, "GET /healthz HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n")
	line, err := bufio.NewReaderSize(conn, 512).ReadString('\n')
	if err != nil {
		return "", fmt.Errorf("it connects, but says nothing: %w", plain(err))
	}
	if !strings.HasPrefix(line, "HTTP/1.1 200") {
		return "", errElse
	}
	return what + ", " + p.serves(), nil
}

// serves says in words what a web listener shows.
func (p *Post) serves() string {
	if p.Redirect != "" {
		return "sends on to " + p.Redirect
	}
	words := make([]string, len(p.Faces))
	for i, face := range p.Faces {
		words[i] = string(face)
	}
	return "serves " + strings.Join(words, ", ")
}

// plain leaves what a person needs of a network error.
func plain(err error) error {
	var op *net.OpError
	if errors.As(err, &op) {
		err = op.Err
	}
	var timeout net.Error
	if errors.As(err, &timeout) && timeout.Timeout() {
		return errors.New("no answer in time")
	}
	if errors.Is(err, syscall.ECONNREFUSED) {
		return errors.New("connection refused")
	}
	return err
}

// hostName looks at the name under which clients are to come.
func hostName(ctx context.Context, posts []Post, host string) (f Findings) {
	out := false
	for i := range posts {
		out = out || !posts[i].Stopped && posts[i].At != "" && posts[i].outside()
	}
	switch {
	case !out:
		f.Add("host", "", Note, "", "every listener is for this machine only")
	case host == "":
		f.Add("host", "", Warning, "say it with service set -host NAME", "nobody said under which address clients reach the service: hand-over sheets and this check can't name it")
	default:
		found, err := net.DefaultResolver.LookupHost(ctx, host)
		if err != nil {
			f.Add("host", "", Fault, "put an A or AAAA record for it in the DNS, or correct it with service set -host NAME", "%s is no address that this machine can find: %v", host, plain(err))
			return f
		}
		f.Add("host", "", Fine, "", "%s is %s", host, strings.Join(found, ", "))
	}
	return f
}

// Passive looks at the ports and the address of passive FTP.
func Passive(ctx context.Context, posts []Post, host string, anywhere bool) (f Findings) {
	var spans []string
	low, high := ephemeral()
	for i := range posts {
		p := &posts[i]
		if !p.Protocol.IsFTP() || p.Stopped || p.At == "" {
			continue
		}
		f = append(f, p.passive(ctx, host, anywhere)...)
		if low <= p.PassiveHigh && p.PassiveLow <= high && !reserved(p.PassiveLow, p.PassiveHigh) {
			spans = append(spans, p.span())
		}
	}
	if len(spans) > 0 {
		f.Add("passive", "", Note, "keep them out of that: sysctl -w net.ipv4.ip_local_reserved_ports="+strings.Join(spans, ","),
			"ports of passive FTP lie where the system takes ports for outgoing connections, %d-%d: now and then one will be taken", low, high)
	}
	return f
}

func (p *Post) span() string { return fmt.Sprintf("%d-%d", p.PassiveLow, p.PassiveHigh) }

func (p *Post) passive(ctx context.Context, host string, anywhere bool) (f Findings) {
	free, blocked := p.tryPorts()
	span := p.span()
	if len(blocked) > p.Taken {
		f.Add("passive", p.Name, Warning, "give it a range that nothing else uses: listener set "+p.Name+" -passive LOW-HIGH", "of its ports %s, others hold %s: listings and transfers that get one of them fail", span, named(blocked))
	} else {
		f.Add("passive", p.Name, Fine, "", "its ports %s are free for it", span)
	}
	if p.Refused > 0 {
		f.Add("passive", p.Name, Warning, "give it more: listener set "+p.Name+" -passive LOW-HIGH", "%d times since its start, none of its %d passive ports was left", p.Refused, p.PassiveHigh-p.PassiveLow+1)
	}
	if !p.outside() {
		return f
	}
	said := p.Advertise
	if said == "" {
		said = host
		if ips, err := net.DefaultResolver.LookupHost(ctx, host); host != "" && err == nil && !ofThisMachine(ips) {
			f.Add("passive", p.Name, Warning, "listener set "+p.Name+" -advertise "+host, "%s is %s, which is no address of this machine, but passive FTP tells clients the address they reached here: behind a router they can't use it", host, strings.Join(ips, ", "))
		}
	} else if host != "" && !same(ctx, said, host) {
		f.Add("passive", p.Name, Warning, "listener set "+p.Name+" -advertise "+host, "passive FTP tells clients %s, but they reach the service at %s", said, host)
	}
	if said == "" || free == 0 {
		return f
	}
	if !anywhere && !isHere(ctx, said) {
		f.Add("passive", p.Name, Note, "", notTried, said)
		return f
	}
	if err := p.through(ctx, said, free); err != nil {
		f.Add("passive", p.Name, Warning, fmt.Sprintf("open TCP ports %s in the firewall and forward them to this machine, each to the same port (checkup -ports)", span), "a data connection to %s does not come through: %v", net.JoinHostPort(said, strconv.Itoa(free)), err)
	} else {
		f.Add("passive", p.Name, Fine, "", "a data connection to %s comes through", net.JoinHostPort(said, strconv.Itoa(free)))
	}
	return f
}

// most bounds the passive ports that are tried.
const most = 2000

// tryPorts takes each port for a moment: one that is free, 0 for none, and those that are not.
func (p *Post) tryPorts() (free int, blocked []string) {
	host, _, _ := net.SplitHostPort(p.At)
	for port := p.PassiveLow; port <= p.PassiveHigh && port < p.PassiveLow+most; port++ {
		l, err := net.Listen("tcp", net.JoinHostPort(host, strconv.Itoa(port)))
		if err != nil {
			blocked = append(blocked, strconv.Itoa(port))
			continue
		}
		l.Close()
		if free == 0 {
			free = port
		}
	}
	return free, blocked
}

// through makes a connection to a port of this machine by the address that clients are told.
func (p *Post) through(ctx context.Context, said string, port int) error {
	host, _, _ := net.SplitHostPort(p.At)
	l, err := net.Listen("tcp", net.JoinHostPort(host, strconv.Itoa(port)))
	if err != nil {
		return plain(err)
	}
	defer l.Close()
	dialer := net.Dialer{Timeout: patience}
	out, err := dialer.DialContext(ctx, "tcp", net.JoinHostPort(said, strconv.Itoa(port)))
	if err != nil {
		return plain(err)
	}
	defer out.Close()
	l.(*net.TCPListener).SetDeadline(time.Now().Add(patience))
	in, err := l.Accept()
	if err != nil {
		return errors.New("something else took it")
	}
	return in.Close()
}

func ofThisMachine(ips []string) bool {
	own, err := net.InterfaceAddrs()
	if err != nil {
		return true // nothing is known: nothing is said
	}
	for _, text := range ips {
		for _, one := range own {
			if network, ok := one.(*net.IPNet); ok && network.IP.Equal(net.ParseIP(text)) {
				return true
			}
		}
	}
	return false
}

// same reports whether two names are one machine, as far as can be found out.
func same(ctx context.Context, a, b string) bool {
	if a == b {
		return true
	}
	first, err1 := net.DefaultResolver.LookupHost(ctx, a)
	second, err2 := net.DefaultResolver.LookupHost(ctx, b)
	for _, x := range first {
		for _, y := range second {
			if x == y {
				return true
			}
		}
	}
	return err1 != nil || err2 != nil
}
