package signin

import (
	"context"
	"errors"
	"strconv"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

func (a *Accounts) keyHolder(ctx context.Context, account *keep.Effective) (keyHolder, error) {
	keys, err := a.DB.AccountPasskeys(ctx, account.ID)
	return keyHolder{accountHandle + strconv.FormatInt(account.ID, 10), account.Name, keys}, err
}

// NewPasskey begins to register a passkey of an account's holder; the options are for the browser.
func (a *Accounts) NewPasskey(ctx context.Context, v Visitor, at Site, account *keep.Effective) (id string, options any, err error) {
	h, err := a.keyHolder(ctx, account)
	if err != nil {
		return "", nil, err
	}
	return a.ceremonies.register(v, at, h)
}

// AddPasskey keeps the passkey that a browser has made.
func (a *Accounts) AddPasskey(ctx context.Context, v Visitor, at Site, account *keep.Effective, id, label string, response []byte) error {
	h, err := a.keyHolder(ctx, account)
	if err != nil {
		return err
	}
	key, err := a.ceremonies.registered(at, h, id, label, response)
	if err != nil {
		return err
	}
	r := v.record(account.Name, keep.FactorSet)
	r.Outcome, r.Detail = keep.Done, "passkey added: "+key.Label
	return a.Trail.Change(ctx, r, func(ctx context.Context) error { return a.DB.AddAccountPasskey(ctx, account.ID, key) })
}

// DropPasskey removes a passkey of an account.
func (a *Accounts) DropPasskey(ctx context.Context, v Visitor, account *keep.Effective, id string) error {
	h, err := a.keyHolder(ctx, account)
	if err != nil {
		return err
	}
	for _, key := range h.keys {
		if key.ID == id {
			r := v.record(account.Name, keep.FactorSet)
			r.Outcome, r.Detail = keep.Done, "passkey removed: "+key.Label
			return a.Trail.Change(ctx, r, func(ctx context.Context) error { return a.DB.DropAccountPasskeys(ctx, account.ID, id) })
		}
	}
	return errNoPasskey
}

// AskPasskey begins a sign-in by passkey; the options are for the browser.
func (a *Accounts) AskPasskey(v Visitor, at Site) (id string, options any, err error) {
	return a.ceremonies.challenge(v, at)
}

// ByPasskey proves an account by a passkey in place of its password; used is the ID of the passkey. What the account must show
// besides a password it must show here.
func (a *Accounts) ByPasskey(ctx context.Context, v Visitor, t *Attempt, at Site, id string, response []byte) (e *keep.Effective, used string, err error) {
	started := time.Now()
	ctx = a.Guard.known(ctx, v)
	if a.Guard.Locked("", v.Address) {
		return nil, "", a.fail(ctx, v, "", started, keep.LockedOutNow, lockedOut, nil)
	}
	var account *keep.Effective
	key, err := a.ceremonies.proved(at, accountHandle, id, response, func(number int64) (keyHolder, error) {
		name, err := a.DB.AccountName(ctx, number)
		if err != nil {
			return keyHolder{}, err
		}
		found, err := a.DB.Holder(ctx, name)
		if err != nil {
			return keyHolder{}, err
		}
		account = found.Account
		return a.keyHolder(ctx, account)
	})
	if err == nil {
		err = a.DB.NoteAccountPasskey(ctx, key.ID, key.Credential, started)
	}
	if err == errPasskey || errors.Is(err, records.ErrNotFound) {
		name := ""
		if account != nil {
			name = account.Name
		}
		a.fail(ctx, v, name, started, keep.BadCredentials, "no such passkey", nil)
		return nil, "", errPasskey
	}
	if err != nil {
		return nil, "", err
	}
	settled, reason, why := a.still(ctx, v, account)
	if why != "" {
		return nil, "", a.fail(ctx, v, account.Name, started, reason, "the passkey is right, but "+why, nil)
	}
	if !settled.SignInBy.TakesPassword(false) {
		return nil, "", a.fail(ctx, v, account.Name, started, keep.BadCredentials, "the passkey is right, but the account signs in with a key", nil)
	}
	if err := a.second(ctx, v, t, settled, started); err != nil {
		return nil, "", err
	}
	e, err = a.admitBy(ctx, v, t, settled, started, "", "with the passkey "+key.Label, true)
	return e, key.ID, err
}
