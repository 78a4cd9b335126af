package signin

import (
	"cmp"
	"context"
	"errors"
	"strings"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/passwords"
	"urbankeep/internal/people/source"
	"urbankeep/internal/records"
)

var (
	errCodeToo   = keep.Refuse(keep.CodeNeeded, "the password is right; type the code that your authenticator shows now, too, or a recovery code")
	errCodeUnset = keep.Refuse(keep.CodeUnset, "the password is right; set one-time codes up on the portal first: this account may not go without")
	errTokenOnly = keep.Refuse(keep.CodeNeeded, "the password is right, but here the account signs in with a token only: make one on the portal")
)

// second asks who has shown the right password for the second factor, where there is to be one. An account that must have
// one sets it up on the portal.
func (a *Accounts) second(ctx context.Context, v Visitor, t *Attempt, account *keep.Effective, started time.Time) error {
	if account.MustChange { // first, with the second factor; see [Accounts.ChangePassword]
		return nil
	}
	return a.factor(ctx, v, t, account, started)
}

func (a *Accounts) factor(ctx context.Context, v Visitor, t *Attempt, account *keep.Effective, started time.Time) error {
	if account.Anonymous() || !account.FactorOn.Has(v.Protocol) || t.factor == account.ID {
		return nil
	}
	secret, _, err := a.DB.CodeSecret(ctx, account.ID)
	if err != nil {
		return a.fail(ctx, v, account.Name, started, keep.Failure, "the account could not be checked", err)
	}
	if secret == "" && account.SecondFactor != keep.FactorRequired {
		return nil
	}
	if v.Protocol == keep.WebDAV {
		return a.ask(v, account.Name, errTokenOnly)
	}
	if t.Code != "" && t.NewSecret == "" {
		if why := tryCode(a.Guard, a.Trail, v, account.Name); why != nil {
			return a.ask(v, account.Name, why)
		}
	}
	from := network(v.Address)
	if account.FactorRemember > 0 && (secret != "" || account.FactorBy != keep.FactorByApp) {
		if known, err := a.DB.FactorRemembered(ctx, account.ID, from, time.Now()); err != nil || known {
			return err
		}
	}
	switch {
	case secret != "":
		err = a.byApp(ctx, v, t, account, secret, started)
	case account.FactorBy == keep.FactorByMail:
		err = a.byMail(ctx, v, t, account, started)
	case account.FactorBy != keep.FactorByApp:
		err = a.bySource(ctx, v, t, account, started)
	case v.Protocol != keep.Portal || t.NewSecret == "":
		return a.ask(v, account.Name, errCodeUnset)
	default:
		t.Recovery, err = a.UseCodes(ctx, v, account.Name, t.NewSecret, t.Code)
	}
	if err != nil {
		return err
	}
	t.factor = account.ID
	if account.FactorRemember == 0 {
		return nil
	}
	now := time.Now()
	return a.DB.RememberFactor(ctx, account.ID, from, now, now.Add(account.FactorRemember.Duration()))
}

func (a *Accounts) byApp(ctx context.Context, v Visitor, t *Attempt, account *keep.Effective, secret keep.Secret, started time.Time) error {
	if t.Code == "" {
		return a.ask(v, account.Name, errCodeToo)
	}
	err := a.spend(ctx, account.ID, secret, t.Code)
	if errors.Is(err, records.ErrNotFound) {
		return a.fail(ctx, v, account.Name, started, keep.BadCredentials, "wrong one-time code", nil)
	}
	return err
}

// bySource has a RADIUS source say whether a code is right.
func (a *Accounts) bySource(ctx context.Context, v Visitor, t *Attempt, account *keep.Effective, started time.Time) error {
	s := a.Book.Source(string(account.FactorBy))
	if s == nil {
		return a.fail(ctx, v, account.Name, started, keep.SourceAway, "the source "+string(account.FactorBy)+", which is to check the second factor, is off", nil)
	}
	if t.Code == "" {
		return a.ask(v, account.Name, errCodeToo)
	}
	q := source.Question{Name: account.Name, Password: keep.Secret(t.Code), From: v.Address}
	open := challengeKey(s.Name, account.Name, v.Address, "")
	if asked, ok := a.challenges.take(open, inTime); ok {
		q.State = asked.state
	}
	_, err := s.Ask(ctx, q)
	var asks *source.Challenge
	var away *source.Away
	switch {
	case err == nil:
		return nil
	case errors.As(err, &asks):
		a.challenges.add(v, open, challenge{asks.State, time.Now()})
		return a.ask(v, account.Name, keep.Refuse(keep.CodeNeeded, cmp.Or(asks.Say, errCodeToo.Say)))
	case errors.Is(err, source.ErrWrong), errors.Is(err, source.ErrNobody):
		return a.fail(ctx, v, account.Name, started, keep.BadCredentials, "wrong one-time code, says "+s.Name, nil)
	case errors.As(err, &away):
		return a.fail(ctx, v, account.Name, started, keep.SourceAway, s.Name+": "+err.Error(), err)
	}
	return a.fail(ctx, v, account.Name, started, keep.Failure, s.Name+": "+err.Error(), err)
}

// behindPassword is the code that somebody typed behind their password, over a protocol that can't ask for it.
func (a *Accounts) behindPassword(ctx context.Context, v Visitor, account *keep.Effective, given keep.Secret) (password keep.Secret, code string) {
	at := len(given) - codeDigits
	if !v.Protocol.IsFTP() || at < 0 || !account.FactorOn.Has(v.Protocol) || strings.Trim(given.Reveal()[at:], "0123456789") != "" {
		return given, ""
	}
	secret, _, err := a.DB.CodeSecret(ctx, account.ID)
	switch {
	case err != nil || secret == "" && account.SecondFactor != keep.FactorRequired:
		return given, ""
	case secret == "" && (account.FactorBy == keep.FactorByApp || account.FactorBy == keep.FactorByMail && !a.mailed.waits(account.ID)):
		return given, ""
	}
	if known, err := a.DB.FactorRemembered(ctx, account.ID, network(v.Address), time.Now()); account.FactorRemember > 0 && (known || err != nil) {
		return given, ""
	}
	return given[:at], given.Reveal()[at:]
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
		return cmp.Or(a.DB.SetCodeSecret(ctx, holder.Account.ID, secret, step, digests), a.DB.EndShown(ctx, holder.Account.ID, keep.FactorChanged))
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
		ok, err = a.Hasher.Matches(source.Known(ctx), holder.Account.PasswordHash, password)
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
	if err := passwords.Check(wanted, holder.Account.Name); err != nil {
		return err
	}
	hash, err := a.Hasher.Hash(ctx, wanted)
	if err != nil {
		return err
	}
	r := v.record(holder.Account.Name, keep.PasswordChange)
	r.Outcome = keep.Done
	return a.Trail.Change(ctx, r, func(ctx context.Context) error { return a.newPassword(ctx, holder.Account.ID, hash) })
}

func (a *Accounts) newPassword(ctx context.Context, account int64, hash keep.Secret) error {
	return cmp.Or(a.DB.SetPassword(ctx, account, hash), a.DB.EndShown(ctx, account, keep.PasswordByHolder))
}
