package signin

import (
	"context"
	"errors"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

var (
	errCodeToo   = keep.Refuse(keep.CodeNeeded, "the password is right; type the code that your authenticator shows now, too")
	errCodeUnset = keep.Refuse(keep.CodeUnset, "the password is right; set one-time codes up first: this account may not go without")
)

// second asks a holder on the portal for the second factor, once the first is proved. An account that must have
// one sets it up there.
func (a *Accounts) second(ctx context.Context, v Visitor, t *Attempt, account *keep.Effective, started time.Time) error {
	if v.Protocol != keep.Portal || account.MustChange {
		return nil
	}
	secret, _, err := a.DB.CodeSecret(ctx, account.ID)
	if err != nil {
		return a.fail(ctx, v, account.Name, started, keep.Failure, "the account could not be checked", err)
	}
	ask := func(why *keep.Fault) error {
		r := v.record(account.Name, keep.SignIn)
		r.Outcome, r.Reason, r.Detail = keep.Refused, why.Reason, why.Say
		a.Repeats.Refused(r)
		return why
	}
	switch {
	case secret == "" && account.SecondFactor != keep.FactorRequired:
		return nil
	case secret == "" && t.NewSecret == "":
		return ask(errCodeUnset)
	case secret == "":
		t.Recovery, err = a.UseCodes(ctx, v, account.Name, t.NewSecret, t.Code)
		return err
	case t.Code == "":
		return ask(errCodeToo)
	}
	err = a.spend(ctx, account.ID, secret, t.Code)
	if errors.Is(err, records.ErrNotFound) {
		return a.fail(ctx, v, account.Name, started, keep.BadCredentials, "wrong one-time code", nil)
	}
	return err
}

// spend takes a one-time code or a recovery code; each works once.
func (a *Accounts) spend(ctx context.Context, account int64, secret keep.Secret, code string) error {
	code = plainCode(code)
	if step, ok := stepOf(secret, code); ok {
		return a.DB.SpendAccountStep(ctx, account, step)
	}
	return a.DB.SpendAccountRecovery(ctx, account, digest(keep.Secret(code)))
}

// UseCodes has the portal ask for a one-time code at each sign-in of an account, once its holder has shown that they can make
// one, and gives the recovery codes, this once.
func (a *Accounts) UseCodes(ctx context.Context, v Visitor, name string, secret keep.Secret, code string) (recovery []keep.Secret, err error) {
	holder, err := a.DB.Holder(ctx, name)
	if err != nil {
		return nil, err
	}
	if old, _, err := a.DB.CodeSecret(ctx, holder.Account.ID); err != nil || old != "" {
		return nil, errors.Join(err, keep.Refuse(keep.AlreadyThere, "one-time codes are asked for already: switch them off first"))
	}
	step, err := firstStep(secret, code)
	if err != nil {
		return nil, err
	}
	recovery, digests := newRecovery()
	r := v.record(holder.Account.Name, keep.FactorSet)
	r.Outcome, r.Detail = keep.Done, "one-time codes on"
	return recovery, a.Trail.Change(ctx, r, func(ctx context.Context) error {
		return a.DB.SetCodeSecret(ctx, holder.Account.ID, secret, step, digests)
	})
}

// DropCodes stops asking for codes, at the holder's wish.
func (a *Accounts) DropCodes(ctx context.Context, v Visitor, name string) error {
	holder, err := a.DB.Holder(ctx, name)
	if err != nil {
		return err
	}
	if holder.Account.SecondFactor == keep.FactorRequired {
		return keep.Refuse(keep.NoRight, "this account may not go without one-time codes")
	}
	r := v.record(holder.Account.Name, keep.FactorSet)
	r.Outcome, r.Detail = keep.Done, "one-time codes off"
	return a.Trail.Change(ctx, r, func(ctx context.Context) error { return a.DB.DropCodeSecret(ctx, holder.Account.ID) })
}

// Prove has a holder who is signed in show the password once more, before something that stays is changed. It is
// counted as any other try.
func (a *Accounts) Prove(ctx context.Context, v Visitor, name string, password keep.Secret) error {
	started := time.Now()
	holder, err := a.DB.Holder(ctx, name)
	if err != nil {
		return err
	}
	if a.Guard.Locked(name, v.Address) {
		return a.fail(ctx, v, name, started, keep.LockedOutNow, lockedOut, nil)
	}
	var ok bool
	if holder.Account.Source != "" && a.Book != nil {
		ok, err = a.proveElsewhere(ctx, v, holder.Account, password)
		if err != nil {
			return err
		}
	} else {
		ok, err = a.Hasher.Matches(known(ctx), holder.Account.PasswordHash, password)
	}
	switch {
	case err != nil:
		return a.fail(ctx, v, name, started, keep.Failure, "the account could not be checked", err)
	case !ok:
		a.fail(ctx, v, name, started, keep.BadCredentials, "wrong password, for a change of the account", nil)
		return &keep.FieldError{Field: "now", Say: "it is not the password that you have"}
	}
	return nil
}

// SetPassword gives an account the password that its holder chose, who has proved the one before.
func (a *Accounts) SetPassword(ctx context.Context, v Visitor, name string, wanted keep.Secret) error {
	holder, err := a.DB.Holder(ctx, name)
	if err != nil {
		return err
	}
	if holder.Account.Source != "" {
		return &keep.FieldError{Field: "next", Say: "the password is not kept here: change it where you have it from (" + holder.Account.Source + ")"}
	}
	if err := CheckPassword(wanted, holder.Account.Name); err != nil {
		return err
	}
	hash, err := a.Hasher.Hash(ctx, wanted)
	if err != nil {
		return err
	}
	r := v.record(holder.Account.Name, keep.PasswordChange)
	r.Outcome = keep.Done
	return a.Trail.Change(ctx, r, func(ctx context.Context) error { return a.DB.SetPassword(ctx, holder.Account.ID, hash) })
}
