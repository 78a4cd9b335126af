package signin

import (
	"context"
	"crypto/rand"
	"errors"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// NewPassSecret makes the secret of a pass's link and the digest that is kept of it.
func NewPassSecret() (keep.Secret, []byte) {
	secret := keep.Secret(rand.Text())
	return secret, digest(secret)
}

// What a visitor with a link may hear. Nothing of it is about the account.
var (
	errNoPass      = keep.Refuse(keep.NotFound, "there is no such link: it may be cut short, or long past its end")
	errPassNow     = keep.Refuse(keep.AccountChanged, "this link does not work now: ask whoever gave it to you")
	errPassFrom    = keep.Refuse(keep.NetworkRefused, "this link does not work from your network")
	errPassLocked  = keep.Refuse(keep.TooManyAttempts, "there were too many wrong passwords from your address: try again later")
	errPassWord    = keep.Refuse(keep.PasswordToo, "this link asks for a password")
	errPassWrong   = keep.Refuse(keep.BadCredentials, "that is not the password")
	errPassUnknown = keep.Refuse(keep.Failure, "the link could not be checked: try again later")
)

// ByPass lets a visitor in with the secret of a pass, and its password where it has one. Links that are guessed cost a look
// and leave no record; wrong passwords are recorded and lock out as those of accounts do.
func (a *Accounts) ByPass(ctx context.Context, v Visitor, t *Attempt, secret, password keep.Secret) (*keep.Effective, keep.Pass, error) {
	started := time.Now()
	if r := a.rehearsals.take("", secret); r != nil {
		return a.rehearsePass(ctx, v, t, r)
	}
	found, err := a.DB.PassBy(ctx, digest(secret))
	if errors.Is(err, records.ErrNotFound) {
		return nil, keep.Pass{}, errNoPass
	}
	if err != nil {
		a.Log.Error("a pass could not be checked", "cause", err)
		return nil, keep.Pass{}, errPassUnknown
	}
	p := found.Pass
	r := v.record(found.Name, keep.SignIn)
	r.Target = p.ID
	refuse := func(why *keep.Fault, say string) (*keep.Effective, keep.Pass, error) {
		r.Duration, r.Outcome, r.Reason, r.Detail = time.Since(started), keep.Refused, why.Reason, say
		a.Repeats.Refused(r)
		return nil, p, why
	}
	if closed := p.Closed(started); closed != nil {
		return refuse(closed, "with a pass: "+closed.Say)
	}
	if len(p.Networks) > 0 && !p.Networks.Has(v.Address) {
		return refuse(errPassFrom, "the pass does not work from this address")
	}
	if p.Password != "" {
		counted := PassTarget(p.ID)
		switch {
		case password == "" && !a.Guard.Locked(counted, v.Address):
			return nil, p, errPassWord
		case a.Guard.Claim(counted, v.Address):
			return refuse(errPassLocked, lockedOut)
		}
		ok, err := a.Hasher.Matches(ctx, p.Password, password)
		if err != nil {
			a.Log.Error("the password of a pass could not be checked", "cause", err)
			return nil, p, errPassUnknown
		}
		if !ok {
			a.count(v, counted)
			select {
			case <-time.After(a.delay() - time.Since(started)):
			case <-ctx.Done():
			}
			return refuse(errPassWrong, "wrong password for a pass")
		}
		a.Guard.Succeeded(counted, v.Address, false)
	}
	holder, err := a.DB.Holder(ctx, found.Name)
	if err != nil {
		a.Log.Error("the account of a pass could not be read", "cause", err)
		return nil, p, errPassUnknown
	}
	if why := p.Allowed(holder.Account, started); why != nil {
		return refuse(errPassNow, "with a pass: "+why.Say)
	}
	r.Duration, r.Outcome, r.Detail = time.Since(started), keep.Done, "with a pass to "+string(p.Kind)
	if p.Note != "" {
		r.Detail += ": " + p.Note
	}
	return holder.Account, p, a.Trail.Record(r)
}

// rehearsePass admits a rehearsal of a pass: whether it is open counts; from where, how often and its password do not.
func (a *Accounts) rehearsePass(ctx context.Context, v Visitor, t *Attempt, r *Rehearsal) (*keep.Effective, keep.Pass, error) {
	p := *r.Pass
	holder, err := a.DB.Holder(ctx, r.Account)
	if err != nil {
		return nil, p, errPassUnknown
	}
	if closed := p.Closed(time.Now()); closed != nil {
		return nil, p, closed
	}
	if p.Allowed(holder.Account, time.Now()) != nil {
		return nil, p, errPassNow
	}
	record := v.record(holder.Account.Name, keep.Rehearsing)
	record.Outcome, record.Target, record.Detail = keep.Done, p.ID, "a visit to try a pass out, asked for by "+r.Operator
	// What is counted is of no pass.
	p.ID, p.MaxUses, p.MaxBytes = KeyOfRehearsal, 0, 0
	*t = Attempt{Rehearsal: r, Key: KeyOfRehearsal}
	return holder.Account, p, a.Trail.Record(record)
}
