package signin

import (
	"context"
	"errors"
	"strconv"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// operatorHandle and accountHandle begin what passkeys call their holders.
const operatorHandle, accountHandle = "operator-", "account-"

func (o *Operators) holderOf(ctx context.Context, name string) (*keep.Operator, keyHolder, error) {
	operator, err := o.find(ctx, name)
	if err != nil {
		return nil, keyHolder{}, err
	}
	keys, err := o.DB.Passkeys(ctx, operator.ID)
	return operator, keyHolder{operatorHandle + strconv.FormatInt(operator.ID, 10), name, keys}, err
}

// Passkeys are those of an operator.
func (o *Operators) Passkeys(ctx context.Context, name string) ([]keep.Passkey, error) {
	_, h, err := o.holderOf(ctx, name)
	return h.keys, err
}

// NewPasskey begins to register a passkey; the options are for the browser
// (navigator.credentials.create). now is the password, which a passkey outlives.
func (o *Operators) NewPasskey(ctx context.Context, v Visitor, at Site, name string, now, cookie keep.Secret) (id string, options any, err error) {
	if _, err := at.party(); err != nil {
		return "", nil, err
	}
	if _, err := o.prover(ctx, v, name, now, cookie); err != nil {
		return "", nil, err
	}
	_, h, err := o.holderOf(ctx, name)
	if err != nil {
		return "", nil, err
	}
	return o.ceremonies.register(v, at, h)
}

// AddPasskey keeps the passkey that a browser has made.
func (o *Operators) AddPasskey(ctx context.Context, v Visitor, at Site, name, id, label string, response []byte) error {
	operator, h, err := o.holderOf(ctx, name)
	if err != nil {
		return err
	}
	key, err := o.ceremonies.registered(at, h, id, label, response)
	if err != nil {
		return err
	}
	r := v.record("", keep.OperatorSet)
	r.Operator, r.Target, r.Outcome, r.Detail = name, name, keep.Done, "passkey added: "+key.Label
	return o.Trail.Change(ctx, r, func(ctx context.Context) error { return o.DB.AddPasskey(ctx, operator.ID, key) })
}

// DropPasskey removes a passkey of an operator's, at its own wish.
func (o *Operators) DropPasskey(ctx context.Context, v Visitor, name, id string) error {
	operator, h, err := o.holderOf(ctx, name)
	if err != nil {
		return err
	}
	for _, key := range h.keys {
		if key.ID == id {
			r := v.record("", keep.OperatorSet)
			r.Operator, r.Target, r.Outcome, r.Detail = name, name, keep.Done, "passkey removed: "+key.Label
			return o.Trail.Change(ctx, r, func(ctx context.Context) error { return o.DB.DropPasskeys(ctx, operator.ID, id) })
		}
	}
	return errNoPasskey
}

var errNoPasskey = keep.Refuse(keep.NotFound, "you have no such passkey")

// AskPasskey begins a sign-in by passkey; the options are for the browser
// (navigator.credentials.get).
func (o *Operators) AskPasskey(v Visitor, at Site) (id string, options any, err error) {
	return o.ceremonies.challenge(v, at)
}

// SignInByPasskey proves an operator by a passkey: what the operator has, and what unlocks it. So
// neither a password nor a code is asked for.
func (o *Operators) SignInByPasskey(ctx context.Context, v Visitor, at Site, id string, response []byte) (*keep.Operator, keep.Secret, error) {
	started := time.Now()
	r := v.record("", keep.OperatorSignIn)
	refuse := func(why *keep.Fault) (*keep.Operator, keep.Secret, error) {
		r.Outcome, r.Reason, r.Duration = keep.Refused, why.Reason, time.Since(started)
		o.Repeats.Refused(r)
		return nil, "", why
	}
	if o.Guard.Locked("", v.Address) {
		return refuse(errTooMany)
	}
	var operator *keep.Operator
	key, err := o.ceremonies.proved(at, operatorHandle, id, response, func(number int64) (keyHolder, error) {
		found, err := o.DB.OperatorByID(ctx, number)
		if err != nil {
			return keyHolder{}, err
		}
		operator, r.Operator = found, found.Name
		keys, err := o.DB.Passkeys(ctx, found.ID)
		return keyHolder{operatorHandle + strconv.FormatInt(number, 10), found.Name, keys}, err
	})
	if err == errPasskey {
		o.failed(v, "")
		return refuse(errPasskey)
	}
	if err != nil {
		return nil, "", err
	}
	r.Detail = "with the passkey " + key.Label
	if err := o.DB.NotePasskey(ctx, key.ID, key.Credential, started); errors.Is(err, records.ErrNotFound) {
		return refuse(errPasskey)
	} else if err != nil {
		return nil, "", err
	}
	return o.welcome(ctx, v, r, operator, started, CookieLife)
}
