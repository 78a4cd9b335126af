package office

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// maxOwnReceivers bounds the holders who are told something.
const maxOwnReceivers = 1000

// OwnEvents are those of which holders can have themselves told.
var OwnEvents = []keep.Event{keep.EventUpload, keep.EventDownload, keep.EventDelete, keep.EventCheckRefused, keep.EventPassUse, keep.EventPassEnd}

// OwnNotices are the notices that the holder of an account made.
func (o *Office) OwnNotices(ctx context.Context, account string) ([]keep.Notice, error) {
	all, err := o.DB.Notices(ctx)
	mine := []keep.Notice{}
	for _, n := range all {
		if n.Account == account {
			mine = append(mine, n)
		}
	}
	return mine, err
}

// AddOwnNotice has the holder of an account told by mail; a path is where that is about files.
func (o *Office) AddOwnNotice(ctx context.Context, who Actor, events []keep.Event, at string, self bool) (n keep.Notice, err error) {
	o.changing.Lock()
	defer o.changing.Unlock()
	e, err := o.Account(ctx, who.Account)
	if err != nil {
		return n, err
	}
	server, err := o.MailServer(ctx)
	switch {
	case err != nil:
		return n, err
	case server.Host == "":
		return n, keep.Refuse(keep.NoRight, "mail is not set up here: tell the administrator")
	case e.Mail == "":
		return n, keep.Refuse(keep.NoRight, "your account has no e-mail address: the administrator can give it one")
	}
	n = keep.Notice{Name: keep.HolderReceiver + e.Name + keep.HolderReceiver + strings.ToLower(rand.Text()[:8]), Account: e.Name, Events: events, Self: self, Receivers: []string{keep.HolderReceiver + e.Name}}
	files := false
	for _, one := range events {
		if !slices.Contains(OwnEvents, one) {
			return n, &keep.FieldError{Field: "events", Say: fmt.Sprintf("%q is not one of which you can be told", one)}
		}
		files = files || keep.FactsOf(one).Files
	}
	if files {
		if at == "" {
			return n, &keep.FieldError{Field: "path", Say: "say in which folder"}
		}
		clean, err := keep.CleanPath("/", at)
		if err != nil {
			return n, &keep.FieldError{Field: "path", Say: err.Error()}
		}
		if policy := keep.NewPolicy(e); !policy.Any(clean) || policy.MountOf(clean) == nil && len(policy.Branches(clean)) == 0 {
			return n, &keep.FieldError{Field: "path", Say: "it would never happen: there is nothing of yours"}
		}
		n.Paths = []string{clean}
	}
	mine, err := o.OwnNotices(ctx, e.Name)
	if err != nil {
		return n, err
	}
	if len(mine) >= keep.MaxOwnNotices {
		return n, keep.Refuse(keep.TooLarge, fmt.Sprintf("you have %d notices, as many as you may: remove some first", len(mine)))
	}
	if len(n.Paths) > 0 && strings.ContainsAny(n.Paths[0], "*?") { // which patterns are made of: each stands for any one
		any := strings.ReplaceAll(n.Paths[0], "*", "?")
		n.Paths = []string{any, any + "/**"}
	}
	if err := o.ownReceiver(ctx, who, e.Name); err != nil {
		return n, err
	}
	return n, o.saveNotice(ctx, who, keep.NoticeAdd, &n)
}

// ownReceiver makes the receiver that is a holder, where there is none yet.
func (o *Office) ownReceiver(ctx context.Context, who Actor, account string) error {
	all, err := o.DB.Receivers(ctx)
	if err != nil {
		return err
	}
	own := 0
	for _, r := range all {
		if r.Account == account {
			return nil
		}
		if r.Account != "" {
			own++
		}
	}
	if own >= maxOwnReceivers {
		return keep.Refuse(keep.TooLarge, "as many people are told by mail as may be: tell the administrator")
	}
	r := keep.Receiver{Name: keep.HolderReceiver + account, Account: account, Kind: keep.MailMessage}
	if err := r.Check(); err != nil {
		return err
	}
	newest, err := o.DB.LastAudit(ctx)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return err
	}
	return o.DB.SaveReceiver(ctx, r, newest.Seq)
}

// RemoveOwnNotice forgets a notice of a holder, and the receiver with the last.
func (o *Office) RemoveOwnNotice(ctx context.Context, who Actor, name string) (err error) {
	o.changing.Lock()
	defer o.changing.Unlock()
	mine, err := o.OwnNotices(ctx, who.Account)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(mine, func(n keep.Notice) bool { return n.Name == name }) {
		return keep.Refuse(keep.NotFound, "you have no such notice")
	}
	if len(mine) == 1 {
		defer func() {
			if err == nil {
				err = errors.Join(o.DB.DropReceiver(ctx, keep.HolderReceiver+who.Account), o.Teller.Arrange(ctx))
			}
		}()
	}
	return o.dropNotice(ctx, who, name)
}

// forgetOwnNotices forgets all of an account that is deleted.
func (o *Office) forgetOwnNotices(ctx context.Context, account string) error {
	mine, err := o.OwnNotices(ctx, account)
	for _, n := range mine {
		err = errors.Join(err, o.DB.DropNotice(ctx, n.Name))
	}
	if gone := o.DB.DropReceiver(ctx, keep.HolderReceiver+account); !errors.Is(gone, records.ErrNotFound) {
		err = errors.Join(err, gone)
	}
	return err
}
