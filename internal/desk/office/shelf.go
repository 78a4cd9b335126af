package office

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/keys/pubkey"
	"urbankeep/internal/people/signin"
	"urbankeep/internal/records"
)

// Shelf are the keys on the shelf, by name.
func (o *Office) Shelf(ctx context.Context) ([]keep.ShelfKey, error) { return o.DB.ShelfKeys(ctx) }

// ShelfKey is a key on the shelf; an error says that there is none of that name.
func (o *Office) ShelfKey(ctx context.Context, name string) (keep.ShelfKey, error) {
	all, err := o.DB.ShelfKeys(ctx)
	if err != nil {
		return keep.ShelfKey{}, err
	}
	if at := slices.IndexFunc(all, func(k keep.ShelfKey) bool { return strings.EqualFold(k.Name, name) }); at >= 0 {
		return all[at], nil
	}
	return keep.ShelfKey{}, keep.NoSuch("key on the shelf", name)
}

// ShelfAsk is what an operator says of a key on the shelf; nil leaves what it has.
type ShelfAsk struct {
	Text        *string // the public key
	Owner, Note *string
	Rules       KeyRules // without a label
	Authority   bool     // of a new one: it signs user certificates
}

func (ask ShelfAsk) apply(k *keep.ShelfKey) error {
	if ask.Owner != nil {
		k.Owner = strings.TrimSpace(*ask.Owner)
	}
	if ask.Note != nil {
		k.Note = strings.TrimSpace(*ask.Note)
	}
	if ask.Text != nil {
		readings, err := pubkey.Read(*ask.Text)
		switch {
		case err != nil:
			return err
		case len(readings) != 1:
			return &keep.FieldError{Field: "key", Say: fmt.Sprintf("there are %d keys in it: give one", len(readings))}
		case readings[0].Err != nil:
			return readings[0].Err
		}
		given := readings[0].Key
		k.Type, k.Bits, k.Fingerprint, k.Blob, k.Added = given.Type, given.Bits, given.Fingerprint, given.Blob, time.Now().UTC()
		if k.ID == 0 {
			k.Authority, k.Expires, k.Networks = given.Authority || ask.Authority, given.Expires, given.Networks
		} else if given.Authority && !k.Authority {
			return &keep.FieldError{Field: "key", Say: "that is the key of an authority, and the one on the shelf is none: add another"}
		}
	}
	if err := ask.Rules.apply(&k.Key); err != nil {
		return err
	}
	if ask.Rules.Expires != nil && !k.Expires.IsZero() && !k.Expires.After(time.Now()) {
		return &keep.FieldError{Field: "expires", Say: "it is in the past already: give a later time, or none"}
	}
	return k.Check()
}

// AddShelfKey puts a key on the shelf.
func (o *Office) AddShelfKey(ctx context.Context, who Actor, name string, ask ShelfAsk) (keep.ShelfKey, error) {
	o.changing.Lock()
	defer o.changing.Unlock()
	all, err := o.DB.ShelfKeys(ctx)
	if err != nil {
		return keep.ShelfKey{}, err
	}
	if len(all) >= keep.MaxShelf {
		return keep.ShelfKey{}, &keep.FieldError{Field: "name", Say: fmt.Sprintf("there are %d keys on the shelf, as many as there may be: remove some first", len(all))}
	}
	k := keep.ShelfKey{Name: name}
	if err := ask.apply(&k); err != nil {
		return k, err
	}
	return k, o.saveShelfKey(ctx, who, keep.ShelfAdd, all, &k, keyFacts(k.Key))
}

// saveShelfKey writes a key whose public half no other on the shelf has.
func (o *Office) saveShelfKey(ctx context.Context, who Actor, action keep.Action, all []keep.ShelfKey, k *keep.ShelfKey, detail string) error {
	for _, other := range all {
		if other.Fingerprint == k.Fingerprint && other.ID != k.ID {
			return &keep.FieldError{Field: "key", Say: "that key is on the shelf already, as " + other.Name + ": attach that one"}
		}
	}
	err := o.recorded(ctx, who, action, k.Name, detail, func(ctx context.Context) error { return o.DB.SaveShelfKey(ctx, k) })
	if errors.Is(err, records.ErrTaken) {
		return errNameTaken
	}
	return err
}

// SetShelfKey changes a key on the shelf for all accounts that it is attached to. Another public key takes its place at once, and
// what was signed in with the one before ends.
func (o *Office) SetShelfKey(ctx context.Context, who Actor, name string, ask ShelfAsk) (keep.ShelfKey, error) {
	o.changing.Lock()
	defer o.changing.Unlock()
	all, err := o.DB.ShelfKeys(ctx)
	if err != nil {
		return keep.ShelfKey{}, err
	}
	before, err := o.ShelfKey(ctx, name)
	if err != nil {
		return before, err
	}
	k := before
	if err := ask.apply(&k); err != nil {
		return k, err
	}
	replaced := k.Fingerprint != before.Fingerprint
	if k.Added = before.Added; replaced {
		k.Added, k.Replaced = time.Now().UTC(), time.Now().UTC()
		for _, account := range k.Accounts {
			if err := o.freeOf(ctx, account, k.Fingerprint); err != nil {
				return k, err
			}
		}
	}
	if keyFacts(k.Key) == keyFacts(before.Key) && k.Owner == before.Owner && k.Note == before.Note {
		signin.NothingChanged(ctx)
		return k, nil
	}
	detail := fmt.Sprintf("before: %s; after: %s; attached to %s", keyFacts(before.Key), keyFacts(k.Key), keep.SayMany(len(k.Accounts), "account"))
	if err := o.saveShelfKey(ctx, who, keep.ShelfSet, all, &k, detail); err != nil {
		return k, err
	}
	if replaced {
		for _, account := range k.Accounts {
			o.Live.EndKey(account, before.Fingerprint, keep.Refuse(keep.AccountChanged, "another key took the place of the one it was signed in with"))
		}
	}
	return k, nil
}

// RemoveShelfKey takes a key from the shelf that no account has.
func (o *Office) RemoveShelfKey(ctx context.Context, who Actor, name string) error {
	o.changing.Lock()
	defer o.changing.Unlock()
	k, err := o.ShelfKey(ctx, name)
	if err != nil {
		return err
	}
	if len(k.Accounts) > 0 {
		return keep.Refuse(keep.InUse, "it is attached to "+keep.SayMany(len(k.Accounts), "account")+", "+strings.Join(k.Accounts[:min(len(k.Accounts), 5)], ", ")+": detach it there first (shelf detach)")
	}
	return o.recorded(ctx, who, keep.ShelfRemove, k.Name, keyFacts(k.Key), func(ctx context.Context) error { return o.DB.DropShelfKey(ctx, k.ID) })
}

// freeOf reports an account that has a key already.
func (o *Office) freeOf(ctx context.Context, account, fingerprint string) error {
	holders, err := o.DB.KeyHolders(ctx, fingerprint)
	if err == nil && slices.Contains(holders, account) {
		return &keep.FieldError{Field: "accounts", Say: "the account " + account + " has that key already: remove it there first (key remove)"}
	}
	return err
}

// AttachShelfKey gives accounts a key from the shelf: all of them, or none when one can't have it.
func (o *Office) AttachShelfKey(ctx context.Context, who Actor, name string, accounts []string) (keep.ShelfKey, error) {
	o.changing.Lock()
	defer o.changing.Unlock()
	k, err := o.ShelfKey(ctx, name)
	if err != nil {
		return k, err
	}
	var given []*keep.Effective
	for _, account := range accounts {
		a, err := o.Account(ctx, account)
		switch {
		case err != nil:
			return k, err
		case a.Anonymous():
			return k, &keep.FieldError{Field: "accounts", Say: "everybody may use the account anonymous: it has no keys"}
		case slices.ContainsFunc(given, func(b *keep.Effective) bool { return a.ID == b.ID }):
			continue
		}
		if err := o.freeOf(ctx, a.Name, k.Fingerprint); err != nil {
			return k, err
		}
		given = append(given, a)
	}
	for _, a := range given {
		err := o.recorded(ctx, who, keep.KeyAdd, a.Name, keyFacts(k.Key)+", from the shelf: "+k.Name, func(ctx context.Context) error { return o.DB.AttachShelfKey(ctx, a.ID, k.ID) })
		if err != nil {
			return k, err
		}
	}
	return o.ShelfKey(ctx, name)
}

// DetachShelfKey takes a key from the shelf away from an account, and ends the sessions that it signed in.
func (o *Office) DetachShelfKey(ctx context.Context, who Actor, name, account string) error {
	k, err := o.ShelfKey(ctx, name)
	if err != nil {
		return err
	}
	a, err := o.Account(ctx, account)
	if err != nil {
		return err
	}
	err = o.recorded(ctx, who, keep.KeyRemove, a.Name, keyFacts(k.Key)+", from the shelf: "+k.Name, func(ctx context.Context) error { return o.DB.DetachShelfKey(ctx, a.ID, k.ID) })
	if errors.Is(err, records.ErrNotFound) {
		return keep.Refuse(keep.NotFound, k.Name+" is not attached to "+a.Name+": shelf list shows to which accounts it is")
	}
	if err == nil {
		o.Live.EndKey(a.Name, k.Fingerprint, keep.Refuse(keep.AccountChanged, "the key it was signed in with was removed"))
	}
	return err
}
