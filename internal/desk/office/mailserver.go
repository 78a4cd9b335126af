package office

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"urbankeep/internal/keep"
	"urbankeep/internal/watch/notice"
)

// mailSetting and mailPassword are where the mail server is kept.
const (
	mailSetting  = "mail"
	mailPassword = "mail-password"
)

// MailServer is where mail is handed in.
func (o *Office) MailServer(ctx context.Context) (m keep.MailServer, err error) {
	text, err := o.DB.Setting(ctx, mailSetting)
	if err != nil || text == "" {
		return m, err
	}
	if err := json.Unmarshal([]byte(text), &m); err != nil {
		return m, err
	}
	password, err := o.DB.Setting(ctx, mailPassword)
	m.Password = keep.Secret(password)
	return m, err
}

// SetMailServer changes it; a password of nil stays what it is.
func (o *Office) SetMailServer(ctx context.Context, who Actor, m keep.MailServer, password *keep.Secret) error {
	o.changing.Lock()
	defer o.changing.Unlock()
	before, err := o.MailServer(ctx)
	if err != nil {
		return err
	}
	if m.Password = before.Password; password != nil {
		m.Password = *password
	}
	if m.User == "" && password == nil {
		m.Password = ""
	}
	if (m.Host != before.Host || m.Port != before.Port || m.Security != before.Security) && before.Password != "" && password == nil && m.Password != "" {
		return &keep.FieldError{Field: "password", Say: "give the password again: the one that is kept was for another server"}
	}
	if err := m.Check(); err != nil {
		return err
	}
	if m.Trust != "" && !isCertificate(m.Trust) {
		return errNoCertificate
	}
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	detail := "nowhere"
	if m.Host != "" {
		detail = fmt.Sprintf("%s:%d, %s, from %s", m.Host, m.Port, m.Security, m.From)
	}
	return o.recorded(ctx, who, keep.MailSet, "", detail, func(ctx context.Context) error {
		return errors.Join(o.DB.SaveSetting(ctx, mailSetting, string(text)), o.DB.SaveSetting(ctx, mailPassword, m.Password.Reveal()))
	})
}

// TryMail hands in a mail as a test.
func (o *Office) TryMail(ctx context.Context, to string) (string, error) {
	to, err := keep.CheckMail("to", to)
	if err != nil {
		return "", err
	}
	server, err := o.MailServer(ctx)
	if err == nil && server.Host == "" {
		err = &keep.FieldError{Field: "to", Say: notice.ErrNoMail.Error()}
	}
	if err != nil {
		return "", err
	}
	said, err := o.Teller.TryMail(ctx, server, to)
	if err != nil {
		return "", &keep.FieldError{Field: "to", Say: err.Error()}
	}
	return said, nil
}
