package signin

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// MaxLinkLife bounds how long a one-time password link works.
const MaxLinkLife = 30 * 24 * time.Hour

// NewPasswordLink seals a password of an account and gives the secret of the link that
// shows it once. The records alone don't give the password away.
func NewPasswordLink(ctx context.Context, db *records.DB, account string, password keep.Secret, life time.Duration) (keep.Secret, error) {
	secret := keep.Secret(rand.Text())
	seal, err := sealer(secret)
	if err != nil {
		return "", err
	}
	nonce := make([]byte, seal.NonceSize())
	rand.Read(nonce)
	now := time.Now()
	return secret, db.AddPasswordLink(ctx, records.PasswordLink{Digest: digest(secret), Account: account,
		Sealed: seal.Seal(nonce, nonce, []byte(password.Reveal()), []byte(account)), Expires: now.Add(life)}, now)
}

// sealer is AES-256-GCM with a key that is made of the link's secret, but is not its digest.
func sealer(secret keep.Secret) (cipher.AEAD, error) {
	key := sha256.Sum256([]byte("urbankeep password link\x00" + secret.Reveal()))
	block, err := aes.NewCipher(key[:])
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(block)
}

var errLink = keep.Refuse(keep.NotFound, "this link was used before, is too old, is not whole, or the password was changed since it was made: ask for a new one")

// OpenPasswordLink spends a link and gives the account and its password, as long as that
// still is its password.
func (o *Operators) OpenPasswordLink(ctx context.Context, v Visitor, secret keep.Secret) (account string, password keep.Secret, err error) {
	if o.Guard.Locked("", v.Address) {
		return "", "", errTooMany
	}
	l, err := o.DB.TakePasswordLink(ctx, digest(secret), time.Now())
	if errors.Is(err, records.ErrNotFound) {
		o.failed(v, "")
		return "", "", errLink
	}
	if err != nil {
		return "", "", err
	}
	seal, err := sealer(secret)
	if err != nil {
		return "", "", err
	}
	text, err := seal.Open(nil, l.Sealed[:seal.NonceSize()], l.Sealed[seal.NonceSize():], []byte(l.Account))
	if err != nil {
		return "", "", errLink
	}
	r := v.record(l.Account, keep.PasswordShown)
	r.Outcome = keep.Done
	a, err := o.DB.Account(ctx, l.Account)
	if err == nil {
		var same bool
		if same, err = o.Hasher.Matches(ctx, a.PasswordHash, keep.Secret(text)); err == nil && same {
			return l.Account, keep.Secret(text), o.Trail.Record(r)
		}
	}
	if err == nil || errors.Is(err, records.ErrNotFound) {
		return "", "", keep.Refuse(keep.NotFound, "the password was changed since this link was made: ask for a new one")
	}
	return "", "", err
}
