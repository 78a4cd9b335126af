package notice

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
	"unicode"

	"urbankeep/internal/keep"
)

// maxAnswer bounds what is read of an answer, maxSaid what is kept of it, bytes.
const maxAnswer, maxSaid = 64 << 10, 200

// later asks for a pause (RFC 9110, section 10.2.3).
type later struct {
	error
	after time.Duration
}

func (l *later) Unwrap() error { return l.error }

// caller makes the calls to receivers, over connections that are kept for each.
type caller struct {
	own     func(netip.AddrPort) bool
	mu      sync.Mutex
	clients map[string]*client
}

// client is what calls one receiver, as long as it stays what it is.
type client struct {
	http    *http.Client
	trust   string
	private bool
}

func (c *caller) of(r *keep.Receiver) *http.Client {
	c.mu.Lock()
	defer c.mu.Unlock()
	if found := c.clients[r.Name]; found != nil {
		if found.trust == r.Trust && found.private == r.Private {
			return found.http
		}
		found.http.CloseIdleConnections()
	}
	if c.clients == nil {
		c.clients = map[string]*client{}
	}
	made := &client{c.make(r), r.Trust, r.Private}
	c.clients[r.Name] = made
	return made.http
}

// forget ends the connections to receivers that there are no more.
func (c *caller) forget(but []keep.Receiver) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for name, one := range c.clients {
		if !slices.ContainsFunc(but, func(r keep.Receiver) bool { return r.Name == name }) {
			one.http.CloseIdleConnections()
			delete(c.clients, name)
		}
	}
}

func (c *caller) make(r *keep.Receiver) *http.Client {
	private := r.Private
	dialer := &net.Dialer{Timeout: 10 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(address)
		if err != nil {
			return err
		}
		return c.mayReach(netip.AddrPortFrom(at.Addr().Unmap(), at.Port()), private)
	}}
	transport := &http.Transport{DialContext: dialer.DialContext, MaxIdleConns: 1, MaxConnsPerHost: 2, IdleConnTimeout: 30 * time.Second, MaxResponseHeaderBytes: maxAnswer,
		TLSHandshakeTimeout: 10 * time.Second, DisableCompression: true, TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12}}
	if r.Trust != "" {
		transport.TLSClientConfig.RootCAs = x509.NewCertPool()
		transport.TLSClientConfig.RootCAs.AppendCertsFromPEM([]byte(r.Trust))
	}
	return &http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

var errPrivate = errors.New("it is in this machine's or a private network, where only an owner may let notices go: receiver set NAME -private")

// mayReach says why an address must not be called.
func (c *caller) mayReach(at netip.AddrPort, private bool) error {
	ip := inside(at.Addr())
	if ip.IsUnspecified() { // which the system takes for this machine
		ip = netip.AddrFrom4([4]byte{127, 0, 0, 1})
	}
	at = netip.AddrPortFrom(ip, at.Port())
	switch {
	case ip.IsMulticast() || ip == netip.AddrFrom4([4]byte{255, 255, 255, 255}):
		return errors.New("that is no address of one machine")
	case c.own != nil && c.own(at):
		return errors.New("that is this service itself, which would go round in a circle")
	case !private && (ip.IsLoopback() || ip.IsPrivate() || ip.IsLinkLocalUnicast() || shared.Contains(ip) || OfThisMachine(ip)):
		return errPrivate
	}
	return nil
}

// OfThisMachine reports whether an address is one of this machine's.
func OfThisMachine(at netip.Addr) bool {
	if at.IsLoopback() || at.IsUnspecified() {
		return true
	}
	addresses, _ := net.InterfaceAddrs()
	for _, one := range addresses {
		if prefix, err := netip.ParsePrefix(one.String()); err == nil && prefix.Addr().Unmap() == at {
			return true
		}
	}
	return false
}

// shared is the address space of RFC 6598; nat64 and sixToFour are IPv6 addresses that hold one of IPv4 (RFC 6052, RFC 3056).
var (
	shared    = netip.MustParsePrefix("100.64.0.0/10")
	nat64     = netip.MustParsePrefix("64:ff9b::/96")
	sixToFour = netip.MustParsePrefix("2002::/16")
)

// inside is the IPv4 address that an IPv6 address holds, else the address itself.
func inside(ip netip.Addr) netip.Addr {
	raw := ip.As16()
	switch {
	case nat64.Contains(ip):
		return netip.AddrFrom4([4]byte(raw[12:]))
	case sixToFour.Contains(ip):
		return netip.AddrFrom4([4]byte(raw[2:6]))
	}
	return ip
}

// call tells a receiver one thing by a web call.
func (l *line) call(ctx context.Context, it *item) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, l.r.Timeout.Duration())
	defer cancel()
	id := fmt.Sprintf("urbankeep-%d", it.r.Seq)
	if it.urgent || it.sample {
		id = fmt.Sprintf("urbankeep-%s-%d", it.event, it.r.At.UnixMicro())
	}
	event := eventOf(it, l.t.Source, id)
	body, kind, err := bodyOf(&l.r, &event)
	if err != nil {
		return "", refusal{err}
	}
	request, err := http.NewRequestWithContext(ctx, l.r.Method, l.r.URL, bytes.NewReader(body))
	if err != nil {
		return "", err
	}
	request.Header.Set("Content-Type", kind)
	request.Header.Set("User-Agent", "Urban-Keep")
	for _, h := range l.r.Headers {
		request.Header.Set(h.Name, h.Value.Reveal())
	}
	Sign(request.Header, l.r.SigningKey(), id, time.Now(), bytes.NewReader(body))
	answer, err := l.t.caller.of(&l.r).Do(request)
	if err != nil {
		return "", plainly(err, l.r.Timeout)
	}
	defer answer.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(answer.Body, maxAnswer))
	return judge(answer, text)
}

// Sign puts the signature of the Standard Webhooks specification into the headers of a call ("Signature scheme",
// symmetric): HMAC-SHA256 over its number, the time and the body.
func Sign(h http.Header, key []byte, id string, now time.Time, body io.Reader) error {
	stamp := strconv.FormatInt(now.Unix(), 10)
	mac := hmac.New(sha256.New, key)
	fmt.Fprintf(mac, "%s.%s.", id, stamp)
	if _, err := io.Copy(mac, body); err != nil {
		return err
	}
	h.Set("Webhook-Id", id)
	h.Set("Webhook-Timestamp", stamp)
	h.Set("Webhook-Signature", "v1,"+base64.StdEncoding.EncodeToString(mac.Sum(nil)))
	return nil
}

// plainly is an error of a call in words for people, without the address, which may hold a secret.
func plainly(err error, most keep.Seconds) error {
	var to *tls.CertificateVerificationError
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("there was no answer within %s", most.Duration())
	case errors.As(err, &to):
		return fmt.Errorf("its certificate is not trusted: %w", to.Err)
	}
	var wrapped interface{ Unwrap() error }
	if errors.As(err, &wrapped) && wrapped.Unwrap() != nil { // *url.Error names the address
		return wrapped.Unwrap()
	}
	return err
}

// judge says whether an answer is good.
func judge(answer *http.Response, text []byte) (string, error) {
	said := answer.Status
	if line := oneLine(text); line != "" {
		said += ": " + line
	}
	switch code := answer.StatusCode; {
	case code >= 200 && code < 300:
		return said, nil
	case code == http.StatusBadRequest || code == http.StatusRequestEntityTooLarge || code == http.StatusUnsupportedMediaType || code == http.StatusUnprocessableEntity || code == http.StatusConflict:
		return "", refusal{errors.New(said)}
	case code >= 300 && code < 400:
		return "", errors.New(said + ": it sends calls on to another address, which is not followed: give that one")
	case code == http.StatusTooManyRequests || code == http.StatusServiceUnavailable:
		if n, err := strconv.Atoi(answer.Header.Get("Retry-After")); err == nil && n > 0 && n < 1e6 {
			return "", &later{errors.New(said), time.Duration(n) * time.Second}
		}
	}
	return "", errors.New(said)
}

// oneLine is the beginning of a text, fit to be shown.
func oneLine(text []byte) string {
	line := strings.ToValidUTF8(string(text[:min(len(text), 4*maxSaid)]), "")
	line = strings.Join(strings.Fields(strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return ' '
		}
		return r
	}, line)), " ")
	if len(line) > maxSaid {
		line = strings.ToValidUTF8(line[:maxSaid], "") + "…"
	}
	return line
}

// bodyOf is what a call carries, and its media type.
func bodyOf(r *keep.Receiver, event *Event) ([]byte, string, error) {
	if r.Body == "" {
		body, err := json.Marshal(event)
		return body, "application/cloudevents+json; charset=utf-8", err
	}
	t, err := ParseBody(r.Body)
	if err != nil {
		return nil, "", err
	}
	var body bounded
	if err := t.Execute(&body, event.Data); err != nil {
		return nil, "", err
	}
	return body.Bytes(), r.BodyType, nil
}
