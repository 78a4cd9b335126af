package signin

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"urbankeep/internal/audit"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// FailureDelay is how long a failed sign-in takes at least, so that guessing is
// slow and a wrong name takes as long as a wrong password.
const FailureDelay = time.Second

// Visitor is where an attempt comes from.
type Visitor struct {
	Address   string // IP address
	Protocol  keep.Protocol
	Encrypted bool
	Session   string
}

// Accounts proves accounts.
type Accounts struct {
	DB     *records.DB
	Trail  *audit.Trail
	Hasher *Hasher
	Log    *slog.Logger
	Delay  time.Duration // of a failure; see [FailureDelay]
}

// errDenied is all that a client learns of a failed sign-in.
func errDenied(cause error) *keep.Fault {
	return &keep.Fault{Reason: keep.BadCredentials, Say: "the name, password or key is not right", Cause: cause}
}

// Password proves an account by its password. The error is always the same
// [keep.Fault]; the trail has the reason.
func (a *Accounts) Password(ctx context.Context, v Visitor, name string, password keep.Secret) (*keep.Account, error) {
	started := time.Now()
	holder, err := a.DB.Holder(ctx, name)
	var hash keep.Secret
	if err == nil {
		hash = holder.Account.PasswordHash
	}
	ok, hashErr := a.Hasher.Matches(ctx, hash, password)
	switch {
	case err != nil && !errors.Is(err, records.ErrNotFound), hashErr != nil:
		return nil, a.fail(ctx, v, name, started, keep.Failure, "the account could not be checked", errors.Join(err, hashErr))
	case err != nil:
		return nil, a.fail(ctx, v, name, started, keep.BadCredentials, "no such account", err)
	case hash == "":
		return nil, a.fail(ctx, v, name, started, keep.BadCredentials, "the account has no password", nil)
	case !ok:
		return nil, a.fail(ctx, v, name, started, keep.BadCredentials, "wrong password", nil)
	}
	return a.admit(ctx, v, holder.Account, started, "", "password")
}

// Holds reports whether an account has a key: an offer, proving nothing yet. It
// is not recorded, for clients offer all the keys they have.
func (a *Accounts) Holds(ctx context.Context, name, fingerprint string) bool {
	_, err := a.holder(ctx, name, fingerprint)
	return err == nil
}

func (a *Accounts) holder(ctx context.Context, name, fingerprint string) (*keep.Account, error) {
	holder, err := a.DB.Holder(ctx, name)
	if err != nil {
		return nil, err
	}
	for _, k := range holder.Keys {
		if k.Fingerprint == fingerprint {
			return holder.Account, nil
		}
	}
	return nil, records.ErrNotFound
}

// KeyProved signs in an account whose client has proved that it holds the key.
func (a *Accounts) KeyProved(ctx context.Context, v Visitor, name, fingerprint string) (*keep.Account, error) {
	started := time.Now()
	account, err := a.holder(ctx, name, fingerprint)
	if err != nil {
		return nil, a.fail(ctx, v, name, started, keep.BadCredentials, "the key is not one of the account's: "+fingerprint, err)
	}
	return a.admit(ctx, v, account, started, fingerprint, "key")
}

// admit records a sign-in; the fingerprint of the key, if it was one, stands in
// the record as its target.
func (a *Accounts) admit(ctx context.Context, v Visitor, account *keep.Account, started time.Time, fingerprint, how string) (*keep.Account, error) {
	if account.State != keep.StateActive {
		return nil, a.fail(ctx, v, account.Name, started, keep.Suspended, "the account is suspended", nil)
	}
	r := v.record(account.Name, keep.SignIn)
	r.Duration, r.Outcome, r.Target, r.Detail = time.Since(started), keep.Done, fingerprint, how
	return account, a.Trail.Record(r)
}

// fail records why, waits, and says nothing of it.
func (a *Accounts) fail(ctx context.Context, v Visitor, name string, started time.Time, reason keep.Reason, detail string, cause error) error {
	if reason == keep.Failure {
		a.Log.Error("sign-in could not be checked", "account", name, "cause", cause)
	}
	r := v.record(name, keep.SignIn)
	r.Duration, r.Outcome, r.Reason, r.Detail = time.Since(started), keep.Refused, reason, detail
	if reason == keep.Failure {
		r.Outcome = keep.Failed
	}
	a.Trail.Note(r)
	select {
	case <-time.After(a.Delay - time.Since(started)):
	case <-ctx.Done():
	}
	return errDenied(cause)
}

// RefusePlain records that somebody wanted to sign in without encryption.
func (a *Accounts) RefusePlain(v Visitor, name string) {
	r := v.record(name, keep.SignIn)
	r.Outcome, r.Reason, r.Detail = keep.Refused, keep.NeedsEncryption, "the listener signs in over TLS only"
	a.Trail.Note(r)
}

// Left records the end of a session.
func (a *Accounts) Left(v Visitor, account string, since time.Time, why *keep.Fault) {
	r := v.record(account, keep.SignOut)
	r.Duration, r.Outcome = time.Since(since), keep.Done
	if why != nil {
		r.Reason, r.Detail = why.Reason, why.Say
	}
	a.Trail.Note(r)
}

// maxName bounds how much of a made-up account name one record takes.
const maxName = 128

func (v Visitor) record(account string, action keep.Action) keep.AuditRecord {
	if len(account) > maxName {
		account = account[:maxName]
	}
	return keep.AuditRecord{Account: account, Address: v.Address, Protocol: v.Protocol, Encrypted: v.Encrypted, Session: v.Session, Action: action}
}
