package office

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/watch/notice"
)

// maxPassMails is how many links may be mailed for one account in an hour: nobody is to send mail to the world by it.
const maxPassMails = 20

// passMails are when links were mailed in the last hour, by account.
type passMails struct {
	mu sync.Mutex
	of map[string][]time.Time
}

// take counts one more, and refuses one too many.
func (p *passMails) take(account string, now time.Time) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.of == nil {
		p.of = map[string][]time.Time{}
	}
	for name, sent := range p.of {
		for len(sent) > 0 && now.Sub(sent[0]) > time.Hour {
			sent = sent[1:]
		}
		if p.of[name] = sent; len(sent) == 0 {
			delete(p.of, name)
		}
	}
	if len(p.of[account]) >= maxPassMails {
		return fmt.Errorf("%d links of the account were mailed in the last hour, as many as may: hand it on yourself", maxPassMails)
	}
	p.of[account] = append(p.of[account], now)
	return nil
}

// MailPass mails the link of a new pass to somebody. The pass is there whatever becomes of the mail.
func (o *Office) MailPass(ctx context.Context, account, to, link string, p keep.Pass) (said string, err error) {
	if to, err = keep.CheckMail("mailTo", to); err != nil {
		return "", err
	}
	if strings.HasPrefix(link, "/") {
		return "", errors.New("no web listener shows passes to others")
	}
	server, err := o.MailServer(ctx)
	if err == nil && server.Host == "" {
		err = notice.ErrNoMail
	}
	if err == nil {
		err = o.passMails.take(account, time.Now())
	}
	if err != nil {
		return "", err
	}
	says := "Files are here for you."
	if p.Kind == keep.DropPass {
		says = "You can leave files here."
	}
	return o.Teller.Write(ctx, server, to, notice.Letter{Title: strings.TrimSuffix(says, "."), Says: strings.TrimSpace(p.Text + "\n" + says),
		Facts: [][2]string{{"Link", link}, {"Works until", p.Expires.UTC().Format("2006-01-02 15:04 UTC")}}})
}

// MailCode mails a one-time code to the holder of an account.
func (o *Office) MailCode(ctx context.Context, account *keep.Effective, code string) error {
	server, err := o.MailServer(ctx)
	if err == nil && server.Host == "" {
		err = notice.ErrNoMail
	}
	if err == nil && account.Mail == "" {
		err = errors.New("the account has no e-mail address")
	}
	if err != nil {
		return err
	}
	_, err = o.Teller.Write(ctx, server, account.Mail, notice.Letter{Title: "a code to sign in with", Says: "Somebody signs in as " + account.Name + " with the right password. If it is you, type this code. If not, change the password.",
		Facts: [][2]string{{"Code", code}, {"Works for", "10 minutes, once"}}})
	return err
}
