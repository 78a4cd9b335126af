package signin

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// NewToken makes a token that stands for an account in scripts, within a scope; its secret is given this once.
func (a *Accounts) NewToken(ctx context.Context, v Visitor, name, label string, scope keep.Scope, life time.Duration) (keep.Secret, error) {
	holder, err := a.DB.Holder(ctx, name)
	if err != nil {
		return "", err
	}
	now := time.Now()
	has, err := a.DB.AccountTokens(ctx, holder.Account.ID, now)
	switch {
	case err != nil:
		return "", err
	case strings.TrimSpace(label) == "" || len(label) > maxLabel || strings.ContainsFunc(label, func(r rune) bool { return r < ' ' }):
		return "", &keep.FieldError{Field: "label", Say: "give it a name by which you know the script, on one line"}
	case scope.Rights == 0:
		return "", &keep.FieldError{Field: "rights", Say: "say what it may do"}
	case life <= 0 || life > keep.MaxAccountTokenLife:
		return "", &keep.FieldError{Field: "days", Say: "use 1 to 366"}
	case len(has) >= keep.MaxAccountTokens:
		return "", &keep.FieldError{Field: "label", Say: fmt.Sprintf("an account has %d tokens at the most: end some first", keep.MaxAccountTokens)}
	}
	secret := keep.Secret(rand.Text())
	t := keep.AccountToken{ID: rand.Text()[:12], Account: holder.Account.ID, Digest: digest(secret), Label: label, Scope: scope, Address: v.Address, Created: now, Expires: now.Add(life)}
	r := v.record(holder.Account.Name, keep.TokenAdd)
	r.Outcome, r.Target, r.Detail = keep.Done, t.ID, label+": "+scope.String()
	return secret, a.Trail.Change(ctx, r, func(ctx context.Context) error { return a.DB.AddAccountToken(ctx, t) })
}

// DropToken ends a token of an account.
func (a *Accounts) DropToken(ctx context.Context, v Visitor, name, id string) error {
	holder, err := a.DB.Holder(ctx, name)
	if err != nil {
		return err
	}
	r := v.record(holder.Account.Name, keep.AccessEnd)
	r.Outcome, r.Target = keep.Done, id
	err = a.Trail.Change(ctx, r, func(ctx context.Context) error { return a.DB.DropAccountToken(ctx, holder.Account.ID, id) })
	if errors.Is(err, records.ErrNotFound) {
		return keep.Refuse(keep.NotFound, "you have no such token")
	}
	return err
}

// ByToken signs an account in by a token, within its scope. Guessing at tokens locks out as guessing at passwords does.
func (a *Accounts) ByToken(ctx context.Context, v Visitor, t *Attempt, secret keep.Secret) (*keep.Effective, keep.AccountToken, error) {
	started := time.Now()
	ctx = a.Guard.known(ctx, v)
	if a.Guard.Locked("", v.Address) {
		return nil, keep.AccountToken{}, a.fail(ctx, v, "", started, keep.LockedOutNow, lockedOut, nil)
	}
	token, name, err := a.DB.AccountTokenOf(ctx, digest(secret), started)
	if errors.Is(err, records.ErrNotFound) {
		return nil, token, a.fail(ctx, v, "", started, keep.BadCredentials, "no such token", nil)
	}
	var holder records.Holder
	if err == nil {
		holder, err = a.DB.Holder(ctx, name)
	}
	if err != nil {
		return nil, token, a.fail(ctx, v, name, started, keep.Failure, "the account could not be checked", err)
	}
	settled, reason, why := a.still(ctx, v, holder.Account)
	if why != "" {
		return nil, token, a.fail(ctx, v, name, started, reason, "the token "+token.Label+" is right, but "+why, nil)
	}
	account, err := a.admitBy(ctx, v, t, settled, started, "", "with the token "+token.Label, true)
	if err != nil {
		return nil, token, err
	}
	return account.Within(&token.Scope), token, nil
}

// TokenOf says for which account a secret is a live token; nothing is counted of one that is none.
func (a *Accounts) TokenOf(ctx context.Context, secret keep.Secret) (t keep.AccountToken, account string, err error) {
	return a.DB.AccountTokenOf(ctx, digest(secret), time.Now())
}
