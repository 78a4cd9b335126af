package testkit

import (
	"bytes"
	"io"
	"log"
	"mime/quotedprintable"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/require"
)

// Mails is a mail server that takes everything, without TLS.
type Mails struct {
	Address string
	t       *testing.T
	mu      sync.Mutex
	taken   []Mail
}

// Mail is one that came. Text is all of it, decoded.
type Mail struct{ To, Text string }

// MailBox starts one.
func MailBox(t *testing.T) *Mails {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	m := &Mails{Address: l.Addr().String(), t: t}
	server := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &mailing{box: m}, nil }))
	server.Domain, server.ErrorLog = "localhost", log.New(io.Discard, "", 0)
	var serving sync.WaitGroup
	serving.Go(func() { server.Serve(l) })
	t.Cleanup(func() { server.Close(); serving.Wait() })
	return m
}

type mailing struct {
	box *Mails
	to  string
}

func (*mailing) Mail(string, *smtp.MailOptions) error { return nil }
func (m *mailing) Rcpt(to string, _ *smtp.RcptOptions) error {
	m.to = to
	return nil
}
func (*mailing) Reset()        {}
func (*mailing) Logout() error { return nil }
func (m *mailing) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	text, _ := io.ReadAll(quotedprintable.NewReader(bytes.NewReader(raw)))
	m.box.mu.Lock()
	defer m.box.mu.Unlock()
	m.box.taken = append(m.box.taken, Mail{m.to, strings.ReplaceAll(string(text), "\r\n", "\n")})
	return nil
}

// Wait waits until so many have come, and gives all.
func (m *Mails) Wait(n int) (all []Mail) {
	m.t.Helper()
	require.Eventually(m.t, func() bool {
		m.mu.Lock()
		defer m.mu.Unlock()
		all = append([]Mail{}, m.taken...)
		return len(all) >= n
	}, Patience, 10*time.Millisecond)
	return all
}
