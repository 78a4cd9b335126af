package office

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode"

	"urbankeep/internal/keep"
	"urbankeep/internal/keys/pubkey"
	"urbankeep/internal/people/signin"
	"urbankeep/internal/records"
)

// HeldKey is a key and the other accounts that have it too.
type HeldKey struct {
	keep.Key
	SharedWith []string
}

// KeyRules are what an operator says of a key; nil leaves what it has.
type KeyRules struct {
	Label    *string
	Expires  *time.Time // the zero time: never
	Networks *keep.Networks
}

// maxLabel bounds a key's label, bytes.
const maxLabel = 200

func (r KeyRules) apply(k *keep.Key) error {
	if r.Label != nil {
		if len(*r.Label) > maxLabel || strings.ContainsFunc(*r.Label, unicode.IsControl) {
			return &keep.FieldError{Field: "label", Say: fmt.Sprintf("it holds control characters or is longer than %d bytes", maxLabel)}
		}
		k.Label = *r.Label
	}
	if r.Expires != nil {
		k.Expires = r.Expires.UTC()
	}
	if r.Networks != nil {
		k.Networks = *r.Networks
	}
	return nil
}

// Keys reads an account's keys.
func (o *Office) Keys(ctx context.Context, name string) ([]HeldKey, error) {
	a, err := o.Account(ctx, name)
	if err != nil {
		return nil, err
	}
	keys, err := o.DB.Keys(ctx, a.ID)
	if err != nil {
		return nil, err
	}
	held := make([]HeldKey, len(keys))
	for i, k := range keys {
		if held[i], err = o.held(ctx, a.Name, k); err != nil {
			return nil, err
		}
	}
	return held, nil
}

// held finds who else has a key.
func (o *Office) held(ctx context.Context, account string, k keep.Key) (HeldKey, error) {
	holders, err := o.DB.KeyHolders(ctx, k.Fingerprint)
	h := HeldKey{Key: k, SharedWith: []string{}}
	for _, holder := range holders {
		if holder != account {
			h.SharedWith = append(h.SharedWith, holder)
		}
	}
	return h, err
}

// NewKeys are public keys to be given to an account.
type NewKeys struct {
	Text      string
	Rules     KeyRules // for all of them, over the options in the text
	Authority bool     // they sign user certificates
	Shared    bool     // another account may have them too
	Own       bool     // the account's holder asks
}

// maxOwnKeys bounds the keys to which a holder may add.
const maxOwnKeys = 50

// AddKeys gives an account the public keys in a text: all, or none when one
// can't be taken. A key that another account has is refused unless it is said
// that this is meant.
func (o *Office) AddKeys(ctx context.Context, who Actor, name string, ask NewKeys) ([]HeldKey, error) {
	o.changing.Lock()
	defer o.changing.Unlock()
	a, err := o.Account(ctx, name)
	if err != nil {
		return nil, err
	}
	held, err := o.readyAll(ctx, a, ask)
	if err != nil || len(held) == 0 {
		return nil, err
	}
	last := len(held) - 1
	err = o.recorded(ctx, who, keep.KeyAdd, a.Name, keyFacts(held[last].Key), func(ctx context.Context) error {
		if err := o.saveKeys(ctx, who, a.Account, held[:last]); err != nil {
			return err
		}
		return o.saveKey(ctx, a.Account, &held[last].Key)
	})
	if err != nil {
		return nil, err
	}
	return held, nil
}

// saveKeys saves keys of an account, and has each recorded, with the change that they are a part of.
func (o *Office) saveKeys(ctx context.Context, who Actor, a *keep.Account, held []HeldKey) error {
	for i := range held {
		if err := o.saveKey(ctx, a, &held[i].Key); err != nil {
			return err
		}
		if _, err := o.DB.AddDue(ctx, recordOf(who, keep.KeyAdd, a.Name, keyFacts(held[i].Key))); err != nil {
			return err
		}
	}
	return nil
}

func (o *Office) saveKey(ctx context.Context, a *keep.Account, k *keep.Key) error {
	k.AccountID = a.ID
	err := o.DB.AddKey(ctx, k)
	if errors.Is(err, records.ErrTaken) {
		return &keep.FieldError{Field: "key", Say: "the key " + k.Fingerprint + " is there twice"}
	}
	return err
}

// readyAll checks the keys in a text against the account they are for.
func (o *Office) readyAll(ctx context.Context, a *keep.Effective, ask NewKeys) ([]HeldKey, error) {
	readings, err := pubkey.Read(ask.Text)
	if err != nil {
		return nil, err
	}
	if a.Anonymous() {
		return nil, &keep.FieldError{Field: "key", Say: "everybody may use the account anonymous: it has no keys"}
	}
	if ask.Own {
		has, err := o.DB.Keys(ctx, a.ID)
		if err != nil {
			return nil, err
		}
		if len(has)+len(readings) > maxOwnKeys {
			return nil, &keep.FieldError{Field: "key", Say: fmt.Sprintf("an account has %d keys at the most: remove some first", maxOwnKeys)}
		}
	}
	if len(readings) > 1 && ask.Rules.Label != nil {
		return nil, &keep.FieldError{Field: "label", Say: fmt.Sprintf("there are %d keys in it: add them without a label, so that each keeps its comment, or one at a time", len(readings))}
	}
	held := make([]HeldKey, len(readings))
	for i, r := range readings {
		if held[i], err = o.ready(ctx, a, r, ask); err != nil {
			return nil, atLine(err, r.Line, len(readings))
		}
	}
	return held, nil
}

// atLine says where in a text of several keys the wrong one is.
func atLine(err error, line, keys int) error {
	var field *keep.FieldError
	if keys > 1 && errors.As(err, &field) {
		return &keep.FieldError{Field: field.Field, Say: fmt.Sprintf("line %d: %s; none of the %d keys was added", line, field.Say, keys)}
	}
	return err
}

// ready checks one key against the account it is for.
func (o *Office) ready(ctx context.Context, a *keep.Effective, r pubkey.Reading, ask NewKeys) (HeldKey, error) {
	if r.Err != nil {
		return HeldKey{}, r.Err
	}
	k := r.Key
	k.AccountID, k.Added = a.ID, time.Now().UTC()
	k.Authority = k.Authority || ask.Authority
	if k.Authority && ask.Own {
		return HeldKey{}, &keep.FieldError{Field: "key", Say: "only an operator can trust an authority: give a key of your own"}
	}
	if err := ask.Rules.apply(&k); err != nil {
		return HeldKey{}, err
	}
	if !k.Expires.IsZero() && !k.Expires.After(k.Added) {
		return HeldKey{}, &keep.FieldError{Field: "expires", Say: "it is in the past already: give a later time, or none"}
	}
	holders, err := o.DB.KeyHolders(ctx, k.Fingerprint)
	if err != nil {
		return HeldKey{}, err
	}
	for _, holder := range holders {
		switch {
		case holder == a.Name:
			return HeldKey{}, &keep.FieldError{Field: "key", Say: "the account has the key " + k.Fingerprint + " already"}
		case ask.Own:
			return HeldKey{}, &keep.FieldError{Field: "key", Say: "another account has this key already: make one that only you have"}
		case !ask.Shared && !k.Authority:
			return HeldKey{}, &keep.FieldError{Field: "shared", Say: "the account " + holder + " has this key already: make a key for each account, or say that it is shared"}
		}
	}
	return o.held(ctx, a.Name, k)
}

// keyFacts says of a key what the trail should know.
func keyFacts(k keep.Key) string {
	text := k.Type + " " + k.Fingerprint
	if k.Authority {
		text += ", authority"
	}
	if !k.Expires.IsZero() {
		text += ", expires " + k.Expires.Format(time.RFC3339)
	}
	if len(k.Networks) > 0 {
		text += ", from " + k.Networks.String()
	}
	if k.Label != "" {
		text += fmt.Sprintf(", label %q", k.Label)
	}
	return text
}

// MakeKey makes a key pair for an account that can't make its own. The private
// half is in the answer and nowhere else.
func (o *Office) MakeKey(ctx context.Context, who Actor, name string, kind pubkey.Kind, passphrase keep.Secret, rules KeyRules) (keep.Key, keep.Secret, error) {
	a, err := o.Account(ctx, name)
	if err != nil {
		return keep.Key{}, "", err
	}
	if a.Anonymous() {
		return keep.Key{}, "", &keep.FieldError{Field: "key", Say: "everybody may use the account anonymous: it has no keys"}
	}
	k, private, err := pubkey.Make(kind, a.Name, passphrase)
	if err != nil {
		return k, "", err
	}
	k.Added = time.Now().UTC()
	if err := rules.apply(&k); err != nil {
		return k, "", err
	}
	return k, private, o.recorded(ctx, who, keep.KeyAdd, a.Name, keyFacts(k), func(ctx context.Context) error { return o.saveKey(ctx, a.Account, &k) })
}

// findKey reads an account and one of its keys.
func (o *Office) findKey(ctx context.Context, name string, id int64) (*keep.Effective, keep.Key, error) {
	a, err := o.Account(ctx, name)
	if err != nil {
		return nil, keep.Key{}, err
	}
	keys, err := o.DB.Keys(ctx, a.ID)
	for _, k := range keys {
		if k.ID == id {
			return a, k, nil
		}
	}
	return nil, keep.Key{}, errors.Join(err, keep.Refuse(keep.NotFound, "the account has no such key: key list shows the ones it has"))
}

// SetKey changes a key's label and where and until when it may be used.
func (o *Office) SetKey(ctx context.Context, who Actor, name string, id int64, rules KeyRules) (HeldKey, error) {
	a, k, err := o.findKey(ctx, name, id)
	if err != nil {
		return HeldKey{}, err
	}
	if k.Shelf != "" {
		return HeldKey{}, keep.Refuse(keep.BadRequest, "the key is on the shelf, as "+k.Shelf+": change it there (shelf set)")
	}
	before := keyFacts(k)
	if err := rules.apply(&k); err != nil {
		return HeldKey{}, err
	}
	if before == keyFacts(k) {
		signin.NothingChanged(ctx)
		return o.held(ctx, a.Name, k)
	}
	detail := fmt.Sprintf("before: %s; after: %s", before, keyFacts(k))
	if err := o.recorded(ctx, who, keep.KeySet, a.Name, detail, func(ctx context.Context) error { return o.DB.SaveKey(ctx, k) }); err != nil {
		return HeldKey{}, missing(err, name)
	}
	return o.held(ctx, a.Name, k)
}

// RemoveKey takes a key from an account and ends the sessions it signed in.
func (o *Office) RemoveKey(ctx context.Context, who Actor, name string, id int64) error {
	a, k, err := o.findKey(ctx, name, id)
	if err != nil {
		return err
	}
	switch {
	case k.Shelf != "" && who.Account != "":
		return keep.Refuse(keep.NoRight, "the key was given to you by an administrator, who may take it away")
	case k.Shelf != "":
		return o.DetachShelfKey(ctx, who, k.Shelf, a.Name)
	}
	if err := o.recorded(ctx, who, keep.KeyRemove, a.Name, keyFacts(k), func(ctx context.Context) error { return o.DB.DeleteKey(ctx, a.ID, k.ID) }); err != nil {
		return missing(err, name)
	}
	o.Live.EndKey(a.Name, k.Fingerprint, keep.Refuse(keep.AccountChanged, "the key it was signed in with was removed"))
	return nil
}

// TestedKey is what was found in a text, and whom it would let in.
type TestedKey struct {
	pubkey.Reading
	Accounts []string
}

// TestKeys says what keys are in a text and which accounts they would open.
// Nothing is changed.
func (o *Office) TestKeys(ctx context.Context, text string) ([]TestedKey, error) {
	readings, err := pubkey.Read(text)
	if err != nil {
		return nil, err
	}
	tested := make([]TestedKey, len(readings))
	for i, r := range readings {
		tested[i] = TestedKey{r, []string{}}
		if r.Err == nil {
			if tested[i].Accounts, err = o.DB.KeyHolders(ctx, r.Key.Fingerprint); err != nil {
				return nil, err
			}
		}
	}
	return tested, nil
}
