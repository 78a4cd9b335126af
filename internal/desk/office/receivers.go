package office

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/notice"
)

func isCertificate(pem string) bool { return x509.NewCertPool().AppendCertsFromPEM([]byte(pem)) }

var errNoCertificate = &keep.FieldError{Field: "trust", Say: "that is no certificate: give the PEM file of the authority that signed the other side's"}

// SetReceiver makes a receiver, or changes one. Edit is given the receiver as it is; the secret is made where there is none.
// secret is given when it is new.
func (o *Office) SetReceiver(ctx context.Context, who Actor, name string, add bool, edit func(*keep.Receiver) error) (r keep.Receiver, secret keep.Secret, err error) {
	o.changing.Lock()
	defer o.changing.Unlock()
	before, err := o.DB.Receiver(ctx, name)
	switch {
	case errors.Is(err, records.ErrNotFound) && !add, err == nil && before.Account != "":
		return r, "", keep.NoSuch("receiver", name)
	case err == nil && add:
		return r, "", errNameTaken
	case err != nil && !errors.Is(err, records.ErrNotFound):
		return r, "", err
	}
	r = before
	r.Headers = slices.Clone(before.Headers)
	for i := range r.Headers {
		r.Headers[i].Kept = true
	}
	r.Name = name
	if err := edit(&r); err != nil {
		return r, "", err
	}
	if r.Kind == keep.WebCall && r.Secret == "" {
		random := make([]byte, 32)
		rand.Read(random)
		r.Secret = keep.NewSigningSecret(random)
	}
	if err := r.Check(); err != nil {
		return r, "", err
	}
	if r.Trust != "" && !isCertificate(r.Trust) {
		return r, "", errNoCertificate
	}
	if r.Body != "" {
		if _, err := notice.ParseBody(r.Body); err != nil {
			return r, "", err
		}
	}
	if who.Role != keep.Owner && r.Private && (!before.Private || before.URL != r.URL) {
		return r, "", &keep.FieldError{Field: "private", Say: "only an owner may let notices into this machine's or a private network"}
	}
	for i, h := range r.Headers {
		if h.Kept && !keep.SameOrigin(before.URL, r.URL) {
			return r, "", &keep.FieldError{Field: "headers", Say: "give the headers again: the value of " + h.Name + " that is kept was for another address"}
		}
		r.Headers[i].Kept = false
	}
	action := keep.ReceiverSet
	if add {
		action = keep.ReceiverAdd
		all, err := o.DB.Receivers(ctx)
		if err != nil {
			return r, "", err
		}
		if len(all) >= keep.MaxReceivers {
			return r, "", &keep.FieldError{Field: "name", Say: fmt.Sprintf("there are %d receivers, as many as there may be: remove some first", len(all))}
		}
	}
	if err := o.saveReceiver(ctx, who, action, r, before.Off && !r.Off); err != nil {
		return r, "", err
	}
	if r.Secret != before.Secret {
		secret = r.Secret
	}
	return r, secret, nil
}

func (o *Office) saveReceiver(ctx context.Context, who Actor, action keep.Action, r keep.Receiver, skip bool) error {
	newest, err := o.DB.LastAudit(ctx)
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return err
	}
	where := r.URL
	if r.Kind == keep.MailMessage {
		where = strings.Join(r.To, ", ")
	}
	err = o.recorded(ctx, who, action, r.Name, string(r.Kind)+" "+where, func(ctx context.Context) error {
		err := o.DB.SaveReceiver(ctx, r, newest.Seq)
		if err == nil && skip {
			err = o.DB.SkipReceiver(ctx, r.Name, newest.Seq)
		}
		return err
	})
	if err != nil {
		return err
	}
	return o.Teller.Arrange(ctx)
}

// RemoveReceiver forgets a receiver that no notice needs.
func (o *Office) RemoveReceiver(ctx context.Context, who Actor, name string) error {
	o.changing.Lock()
	defer o.changing.Unlock()
	r, err := o.DB.Receiver(ctx, name)
	if errors.Is(err, records.ErrNotFound) || err == nil && r.Account != "" {
		return keep.NoSuch("receiver", name)
	}
	if err != nil {
		return err
	}
	notices, err := o.DB.Notices(ctx)
	if err != nil {
		return err
	}
	var needed []string
	for _, n := range notices {
		if n.Account == "" && slices.Contains(n.Receivers, name) {
			needed = append(needed, n.Name)
		}
	}
	accounts, err := o.DB.AllAccounts(ctx)
	if err != nil {
		return err
	}
	groups, err := o.DB.Groups(ctx)
	if err != nil {
		return err
	}
	checks := func(mounts []keep.Mount) bool {
		return slices.ContainsFunc(mounts, func(m keep.Mount) bool { return m.Check != nil && m.Check.Receiver == name })
	}
	for _, a := range accounts {
		if checks(a.Mounts) {
			needed = append(needed, "account "+a.Name)
		}
	}
	for _, g := range groups {
		if checks(g.Mounts) {
			needed = append(needed, "group "+g.Name)
		}
	}
	if len(needed) > 0 {
		return keep.Refuse(keep.InUse, "it is needed by "+strings.Join(needed, ", ")+": change or remove those first")
	}
	if err := o.recorded(ctx, who, keep.ReceiverRemove, name, string(r.Kind), func(ctx context.Context) error { return o.DB.DropReceiver(ctx, name) }); err != nil {
		return err
	}
	return o.Teller.Arrange(ctx)
}

// TryReceiver tells a receiver something that did not happen.
func (o *Office) TryReceiver(ctx context.Context, r keep.Receiver, notices []string, event keep.Event) notice.Answer {
	return o.Teller.Try(ctx, r, sampleOf(event), notices)
}

// sampleOf is a record as one of an event could be.
func sampleOf(event keep.Event) keep.AuditRecord {
	r := keep.AuditRecord{At: time.Now().UTC().Truncate(time.Microsecond), Outcome: keep.Done, Action: keep.ActionsOf([]keep.Event{event})[0]}
	f := keep.FactsOf(event)
	if f.People {
		r.Account, r.Address, r.Protocol, r.Encrypted = "sample", "192.0.2.7", keep.SFTP, true
	}
	if f.Files {
		r.Path, r.Bytes = "/sample/file.csv", 1234
	}
	switch event {
	case keep.EventRename:
		r.Target = "/sample/new.csv"
	case keep.EventCutOff:
		r.Outcome, r.Reason = keep.Interrupted, keep.ClientGone
	case keep.EventSignInRefused:
		r.Outcome, r.Reason, r.Detail = keep.Refused, keep.BadCredentials, "wrong name, password or key"
	case keep.EventOverwrite:
		r.Replaced = true
	}
	if r.Action == keep.Trouble || r.Action == keep.TroubleOver {
		r.Outcome, r.Reason, r.Target, r.Detail = keep.Failed, keep.Reason(event), "sample", f.Says
	}
	return r
}

// RetryReceiver has a receiver tried at once, and with what was set aside: one thing of it, or all when id is 0. It says how
// much of that there is.
func (o *Office) RetryReceiver(ctx context.Context, who Actor, name string, id int64) (n int64, err error) {
	if _, err := o.DB.Receiver(ctx, name); err != nil {
		if errors.Is(err, records.ErrNotFound) {
			err = keep.NoSuch("receiver", name)
		}
		return 0, err
	}
	err = o.recorded(ctx, who, keep.NoticeRetry, name, "", func(ctx context.Context) error {
		n, err = o.DB.TryAgain(ctx, name, id)
		return err
	})
	if err == nil {
		o.Teller.Again(name)
	}
	return n, err
}
