package notice

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	_ "embed"
	"errors"
	"fmt"
	"html/template"
	"net"
	"strings"
	texts "text/template"
	"time"

	"github.com/wneessen/go-mail"

	"urbankeep/internal/keep"
)

//go:embed mail.txt
var plainText string

//go:embed mail.html
var htmlText string

var (
	plainMail = texts.Must(texts.New("mail").Parse(plainText))
	htmlMail  = template.Must(template.New("mail").Parse(htmlText))
)

const (
	// mailTime bounds the handing in of mails, mailStep each step of that.
	mailTime, mailStep = 2 * time.Minute, 30 * time.Second
	// maxSubject bounds a subject, bytes.
	maxSubject = 150
)

// ErrNoMail says that no mail server is set.
var ErrNoMail = errors.New("no mail server is set: mail set names one")

// letter is what the templates of mails show.
type letter struct {
	Service string
	Title   string
	Items   []letterItem
	Sample  bool
	Notices string
}

type letterItem struct {
	When, Says string
	Facts      [][2]string
}

// mail tells a receiver some things by one mail to each of its addresses.
func (l *line) mail(ctx context.Context, some []item) (string, error) {
	server, err := l.t.Mail(ctx)
	if err != nil {
		return "", err
	}
	if server.Host == "" {
		return "", ErrNoMail
	}
	to := l.r.To
	if l.r.Account != "" {
		own := l.t.MailOf(ctx, l.r.Account)
		if own == "" {
			return "", refusal{errors.New("the account has no e-mail address")}
		}
		to = []string{own}
	}
	service := ""
	if l.t.Name != nil {
		service = l.t.Name()
	}
	made := letterOf(service, some)
	return l.post.send(ctx, server, to, made)
}

func letterOf(service string, some []item) letter {
	made := letter{Service: service, Sample: some[0].sample}
	if made.Service == "" {
		made.Service = "Urban Keep"
	}
	var names []string
	for i := range some {
		it := &some[i]
		names = append(names, it.notices...)
		r := &it.r
		one := letterItem{When: r.At.UTC().Format("2006-01-02 15:04:05 UTC"), Says: Says(it.event, it.over, r)}
		for _, fact := range [][2]string{{"Account", r.Account}, {"Operator", r.Operator}, {"Path", r.Path}, {"Target", r.Target}, {"From", r.Address}, {"Over", string(r.Protocol)}, {"SHA-256", r.Hash}, {"Reason", string(r.Reason)}} {
			if fact[1] != "" {
				one.Facts = append(one.Facts, [2]string{fact[0], Visible(fact[1])})
			}
		}
		made.Items = append(made.Items, one)
	}
	made.Notices = strings.Join(unique(names), ", ")
	if made.Title = made.Items[0].Says; len(some) > 1 {
		made.Title = fmt.Sprintf("%d notices: %s", len(some), made.Notices)
	}
	if len(made.Title) > maxSubject {
		made.Title = strings.ToValidUTF8(made.Title[:maxSubject], "") + "…"
	}
	return made
}

func unique(words []string) []string {
	seen := map[string]bool{}
	var found []string
	for _, w := range words {
		if !seen[w] {
			seen[w] = true
			found = append(found, w)
		}
	}
	return found
}

// post hands mails in, and remembers of the mail that is being handed in who has got it already.
type post struct {
	title string
	got   map[string]bool
}

// send says who got the mail; its error is one of those who have not got it yet, and may.
func (p *post) send(ctx context.Context, server keep.MailServer, to []string, made letter) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, mailTime)
	defer cancel()
	if p.got == nil || p.title != made.Title+made.Items[0].When {
		p.title, p.got = made.Title+made.Items[0].When, map[string]bool{}
	}
	var messages []*mail.Msg
	var meant []string
	for _, address := range to {
		if p.got[address] {
			continue
		}
		m, err := message(server, address, made)
		if err != nil {
			return "", refusal{err}
		}
		messages, meant = append(messages, m), append(meant, address)
	}
	if len(messages) == 0 {
		return "sent to " + strings.Join(to, ", "), nil
	}
	if err := hand(ctx, server, messages); err != nil {
		return "", err
	}
	var refused, again []string
	for i, m := range messages {
		var why *mail.SendError
		switch err := m.SendError(); {
		case err == nil:
			p.got[meant[i]] = true
		case errors.As(err, &why) && !why.IsTemp() && why.ErrorCode() >= 500:
			refused = append(refused, meant[i]+" ("+oneLine([]byte(err.Error()))+")")
		default:
			again = append(again, meant[i]+" ("+oneLine([]byte(err.Error()))+")")
		}
	}
	switch {
	case len(again) > 0:
		return "", errors.New("the mail server does not take it for now: " + strings.Join(again, ", "))
	case len(p.got) == 0:
		return "", refusal{errors.New("the mail server refused it: " + strings.Join(refused, ", "))}
	case len(refused) > 0:
		return fmt.Sprintf("sent, but refused: %s", strings.Join(refused, ", ")), nil
	}
	return "sent to " + strings.Join(to, ", "), nil
}

// message is a mail to one address (RFC 5322), with a text and an HTML part.
func message(server keep.MailServer, to string, made letter) (*mail.Msg, error) {
	m := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := errors.Join(m.From(server.From), m.To(to)); err != nil {
		return nil, err
	}
	var plain, html bytes.Buffer
	if err := errors.Join(plainMail.Execute(&plain, made), htmlMail.Execute(&html, made)); err != nil {
		return nil, err
	}
	m.Subject(made.Service + ": " + made.Title)
	m.SetDate()
	_, domain, _ := strings.Cut(strings.Trim(server.From[strings.LastIndexByte(server.From, '<')+1:], "> "), "@")
	m.SetMessageIDWithValue(rand.Text() + "@" + domain)
	m.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: nobody is to answer it by a machine
	m.SetBodyString(mail.TypeTextPlain, plain.String())
	m.AddAlternativeString(mail.TypeTextHTML, html.String())
	return m, nil
}

// hand connects to the mail server and hands mails in; what becomes of each it says itself.
func hand(ctx context.Context, server keep.MailServer, messages []*mail.Msg) error {
	trust := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: server.Host}
	if server.Trust != "" {
		trust.RootCAs = x509.NewCertPool()
		trust.RootCAs.AppendCertsFromPEM([]byte(server.Trust))
	}
	dial := func(dialing context.Context, network, address string) (conn net.Conn, err error) {
		if server.Security == keep.MailTLS {
			conn, err = (&tls.Dialer{Config: trust}).DialContext(dialing, network, address)
		} else {
			conn, err = new(net.Dialer).DialContext(dialing, network, address)
		}
		if err == nil {
			context.AfterFunc(ctx, func() { conn.Close() })
		}
		return conn, err
	}
	policy := map[keep.MailSecurity]mail.TLSPolicy{keep.MailSTARTTLS: mail.TLSMandatory, keep.MailTLS: mail.TLSOpportunistic, keep.MailClear: mail.NoTLS}[server.Security]
	options := []mail.Option{mail.WithPort(server.Port), mail.WithTimeout(mailStep), mail.WithTLSPolicy(policy), mail.WithTLSConfig(trust), mail.WithDialContextFunc(dial)}
	if server.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(server.User), mail.WithPassword(server.Password.Reveal()))
	}
	client, err := mail.NewClient(server.Host, options...)
	if err != nil {
		return err
	}
	if err := client.DialWithContext(ctx); err != nil {
		return fmt.Errorf("the mail server %s can't be used: %s", server.Host, oneLine([]byte(err.Error())))
	}
	defer client.Close()
	client.Send(messages...)
	return ctx.Err()
}

// Letter is a mail about one thing.
type Letter struct {
	Title, Says string
	Facts       [][2]string
}

// Write mails a letter to one address.
func (t *Teller) Write(ctx context.Context, server keep.MailServer, to string, l Letter) (string, error) {
	made := letter{Service: "Urban Keep", Title: l.Title, Items: []letterItem{{Says: l.Says, Facts: l.Facts}}}
	if t.Name != nil {
		if name := t.Name(); name != "" {
			made.Service = name
		}
	}
	return new(post).send(ctx, server, []string{to}, made)
}

// TryMail hands in a mail that says no more than that it works.
func (t *Teller) TryMail(ctx context.Context, server keep.MailServer, to string) (string, error) {
	return t.Write(ctx, server, to, Letter{Title: "a test of the mail server", Says: "Mail from this service arrives here."})
}
