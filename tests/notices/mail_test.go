package notices_test

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/mail"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// postOffice is a mail server that takes mail over TLS from who signs in.
type postOffice struct {
	at     string
	mu     sync.Mutex
	busy   bool // it takes nothing for now
	mails  []letter
	refuse string // the address that it does not know
}

type letter struct {
	to          string
	head        mail.Header
	plain, html string
}

const mailPassword = "letters for selwyn"

func openPostOffice(t *testing.T, implicit bool) (*postOffice, string) {
	cert, key := testkit.NewCertificate(t, t.TempDir(), "localhost")
	pair, err := tls.LoadX509KeyPair(cert, key)
	require.NoError(t, err)
	p := &postOffice{}
	server := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &counter{p: p, t: t}, nil }))
	server.TLSConfig = &tls.Config{Certificates: []tls.Certificate{pair}}
	server.Domain = "localhost"
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, port, _ := net.SplitHostPort(l.Addr().String())
	p.at = "localhost:" + port
	if implicit {
		l = tls.NewListener(l, server.TLSConfig)
	}
	var serving sync.WaitGroup
	serving.Go(func() { server.Serve(l) })
	t.Cleanup(func() { server.Close(); serving.Wait() })
	return p, cert
}

// counter is one connection to it.
type counter struct {
	p      *postOffice
	t      *testing.T
	signed bool
	to     string
}

func (c *counter) AuthMechanisms() []string { return []string{sasl.Plain} }
func (c *counter) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, name, password string) error {
		if c.signed = name == "keeper" && password == mailPassword; !c.signed {
			return smtp.ErrAuthFailed
		}
		return nil
	}), nil
}
func (c *counter) Mail(string, *smtp.MailOptions) error {
	c.p.mu.Lock()
	defer c.p.mu.Unlock()
	switch {
	case !c.signed:
		return smtp.ErrAuthRequired
	case c.p.busy:
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: "try later"}
	}
	return nil
}
func (c *counter) Rcpt(to string, _ *smtp.RcptOptions) error {
	if c.to = to; to == c.p.refuse {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "nobody of that name"}
	}
	return nil
}
func (c *counter) Data(r io.Reader) error {
	m, err := mail.ReadMessage(r)
	if !assert.NoError(c.t, err) {
		return err
	}
	l := letter{to: c.to, head: m.Header}
	_, params, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
	assert.NoError(c.t, err)
	for parts := multipart.NewReader(m.Body, params["boundary"]); ; {
		part, err := parts.NextRawPart()
		if errors.Is(err, io.EOF) {
			break
		}
		if !assert.NoError(c.t, err) {
			return err
		}
		text, err := io.ReadAll(quotedprintable.NewReader(part))
		assert.NoError(c.t, err)
		if strings.HasPrefix(part.Header.Get("Content-Type"), "text/html") {
			l.html = string(text)
		} else {
			l.plain = string(text)
		}
	}
	c.p.mu.Lock()
	defer c.p.mu.Unlock()
	c.p.mails = append(c.p.mails, l)
	return nil
}
func (c *counter) Reset()        {}
func (c *counter) Logout() error { return nil }

func (p *postOffice) got() []letter {
	p.mu.Lock()
	defer p.mu.Unlock()
	return append([]letter{}, p.mails...)
}

func (p *postOffice) waitFor(t *testing.T, n int) []letter {
	t.Helper()
	require.Eventually(t, func() bool { return len(p.got()) >= n }, testkit.Patience, 10*time.Millisecond)
	return p.got()
}

func subject(l letter) string {
	text, _ := new(mime.WordDecoder).DecodeHeader(l.head.Get("Subject"))
	return text
}

func TestMailGoesToWhoTakesIt(t *testing.T) {
	for _, implicit := range []bool{false, true} {
		t.Run(fmt.Sprintf("implicit TLS %t", implicit), func(t *testing.T) {
			k, _ := start(t)
			p, trust := openPostOffice(t, implicit)
			p.refuse = "gone@portselwyn.example"
			set := func(password string, more ...string) (string, string, int) {
				args := append([]string{"mail", "set", p.at, "-user", "keeper", "-from", "Files <files@portselwyn.example>"}, more...)
				if implicit {
					args = append(args, "-security", "tls")
				}
				return k.CLIWith(password+"\n", args...)
			}
			_, errs, status := set(mailPassword)
			require.Zero(t, status, errs)
			assert.Contains(t, k.Refused("mail", "test", "ilse@portselwyn.example"), "certificate", "who is not trusted gets no password")
			set("wrong", "-trust", trust)
			assert.Contains(t, k.Refused("mail", "test", "ilse@portselwyn.example"), "AUTH failed")
			out, errs, status := set(mailPassword, "-trust", trust)
			require.Zero(t, status, errs)
			assert.NotContains(t, out+k.Must(nil, "mail", "show", "-json"), mailPassword)
			assert.Contains(t, k.Must(nil, "mail", "test", "ilse@portselwyn.example"), "sent to ilse@")
			assert.Contains(t, p.waitFor(t, 1)[0].plain, "Mail from this service arrives here.")

			k.Must(nil, "receiver", "add", "office", "ilse@portselwyn.example", "gone@portselwyn.example", "Mia <mia@portselwyn.example>")
			k.Must(nil, "notice", "add", "arrived", "-events", "upload", "-receivers", "office")
			name := `/<b>"ünlaut" {{.}}.csv`
			upload(t, k, "gauge-quay", `/%3Cb%3E%22%C3%BCnlaut%22%20%7B%7B.%7D%7D.csv`)
			got := p.waitFor(t, 3)[1:]
			assert.Equal(t, []string{"ilse@portselwyn.example", "mia@portselwyn.example"}, []string{got[0].to, got[1].to})
			assert.Contains(t, subject(got[0]), name)
			assert.Contains(t, got[0].plain, "Path: "+name)
			assert.Contains(t, got[0].html, "&lt;b&gt;&#34;ünlaut&#34; {{.}}.csv")
			assert.NotContains(t, got[0].html, "<b>")
			assert.Equal(t, "auto-generated", got[0].head.Get("Auto-Submitted"))
			assert.Contains(t, got[0].head.Get("Message-Id"), "@portselwyn.example>")
			var told []api.Told
			require.Eventually(t, func() bool {
				k.Must(&told, "notice", "told", "-receiver", "office")
				return len(told) == 1
			}, testkit.Patience, 20*time.Millisecond)
			assert.Contains(t, told[0].Answer, "refused: gone@portselwyn.example (")
			assert.Contains(t, told[0].Answer, "nobody of that name")
		})
	}
}

func TestABusyMailServerGetsItLaterAndAFloodIsOneMail(t *testing.T) {
	k, _ := start(t)
	p, trust := openPostOffice(t, false)
	_, errs, status := k.CLIWith(mailPassword+"\n", "mail", "set", p.at, "-user", "keeper", "-from", "files@portselwyn.example", "-trust", trust)
	require.Zero(t, status, errs)
	k.Must(nil, "receiver", "add", "office", "ilse@portselwyn.example")
	k.Must(nil, "receiver", "add", "hourly", "mia@portselwyn.example", "-digest", "1h")
	k.Must(nil, "notice", "add", "arrived", "-events", "upload", "-receivers", "office,hourly")
	p.busy = true
	upload(t, k, "gauge-quay", "/a")
	var all []api.Receiver
	require.Eventually(t, func() bool {
		k.Must(&all, "receiver", "list")
		return strings.Contains(fmt.Sprint(all), "try later")
	}, testkit.Patience, 20*time.Millisecond)
	p.mu.Lock()
	p.busy = false
	p.mu.Unlock()
	assert.Contains(t, p.waitFor(t, 1)[0].plain, "uploaded /a")
	names := []string{}
	for i := range 30 {
		names = append(names, fmt.Sprintf("/f%02d", i))
	}
	upload(t, k, "gauge-quay", names...)
	p.waitFor(t, 10)
	require.Eventually(t, func() bool {
		k.Must(&all, "receiver", "list")
		return all[0].Name == "hourly" && all[0].Queued == 31
	}, testkit.Patience, 20*time.Millisecond)
	k.Must(nil, "notice", "retry", "hourly") // which doesn't wait for its hour then
	require.Eventually(t, func() bool {
		for _, l := range p.got() {
			if l.to == "mia@portselwyn.example" && strings.Contains(l.plain, "/f29") {
				assert.Contains(t, subject(l), "31 notices: arrived")
				return true
			}
		}
		return false
	}, testkit.Patience, 20*time.Millisecond)
	assert.LessOrEqual(t, len(p.got()), 12, "ten, and one more that tells of the rest in a minute")
}
