package keep

import (
	"fmt"
	"time"
)

// Proofs says what an account must show to sign in.
type Proofs string

// The policies. A user certificate of a trusted authority counts as a key.
const (
	ByEither   Proofs = "either" // a password or a key
	ByPassword Proofs = "password"
	ByKey      Proofs = "key"
	ByBoth     Proofs = "both" // a key, then a password: only SSH can do it
)

// DefaultProofs is the policy of an account that names none.
const DefaultProofs = ByEither

func (p Proofs) check() error {
	switch p {
	case ByEither, ByPassword, ByKey, ByBoth:
		return nil
	}
	return &FieldError{"signInBy", fmt.Sprintf("%q is not known: use either, password, key or both", p)}
}

// say is the policy in words.
func (p Proofs) say() string {
	switch p {
	case ByEither:
		return "a password or a key"
	case ByBoth:
		return "a key, then a password"
	}
	return "a " + string(p)
}

// TakesKey reports whether a key is of any use.
func (p Proofs) TakesKey() bool { return p != ByPassword }

// TakesPassword reports whether a password is of any use when a key has been
// proved or not. With both, the key comes first: who has no key learns nothing
// about the password.
func (p Proofs) TakesPassword(keyProved bool) bool {
	return p == ByEither || p == ByPassword || p == ByBoth && keyProved
}

// Enough reports whether an account that has a password or not, and so many keys,
// has what it must show.
func (p Proofs) Enough(password bool, keys int) bool {
	switch p {
	case ByPassword:
		return password
	case ByKey:
		return keys > 0
	case ByBoth:
		return password && keys > 0
	}
	return password || keys > 0
}

// Means says what an account signs in with, and what it lacks for it: "password
// or 2 keys", "key (none yet)".
func (p Proofs) Means(password bool, keys int) string {
	byPassword, byKey := "password", "key"
	if !password {
		byPassword = "password (none set)"
	}
	switch {
	case keys == 0:
		byKey = "key (none yet)"
	case keys > 1:
		byKey = fmt.Sprintf("%d keys", keys)
	}
	switch {
	case p == ByPassword:
		return byPassword
	case p == ByKey:
		return byKey
	case p == ByBoth:
		return byKey + " and " + byPassword
	case !p.Enough(password, keys):
		return "nothing yet"
	case keys == 0:
		return byPassword
	case !password:
		return byKey
	}
	return byPassword + " or " + byKey
}

// Means says what the account signs in with; see [Proofs.Means].
func (a *Effective) Means(keys int) string {
	if a.Anonymous() {
		return "open to all"
	}
	means := a.SignInBy.Means(a.HasPassword(), keys)
	if a.Source != "" {
		means += "; " + a.Source + " vouches for it"
	}
	return means
}

// CanSignIn reports whether the account has what it must show.
func (a *Effective) CanSignIn(keys int) bool {
	return a.Anonymous() || a.SignInBy.Enough(a.HasPassword(), keys)
}

// HasPassword reports whether there is one for the account, here or with its source.
func (a *Account) HasPassword() bool { return a.PasswordHash != "" || a.Source != "" }

// SecondFactor says whether a one-time code is asked for besides a password.
type SecondFactor string

// The policies.
const (
	FactorOptional SecondFactor = "optional" // once the holder has set codes up
	FactorRequired SecondFactor = "required" // nobody signs in without
)

// say is the policy in words.
func (f SecondFactor) say() string {
	if f == FactorRequired {
		return "required"
	}
	return "if its holder sets one up"
}

// FactorBy is what gives the code of a holder who has set none up: these, or the name of a RADIUS source.
type FactorBy string

// What can give it besides.
const (
	FactorByApp  FactorBy = "app" // nothing: one must be set up
	FactorByMail FactorBy = "mail"
)

// maxFactorRemember bounds how long a network is not asked again.
const maxFactorRemember = 90 * 24 * time.Hour

func (f FactorBy) say() string {
	switch f {
	case FactorByApp:
		return "an app"
	case FactorByMail:
		return "mail"
	}
	return string(f)
}
