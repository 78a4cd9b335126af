package keep

import "fmt"

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

// TakesKey reports whether a key is of any use.
func (p Proofs) TakesKey() bool { return p != ByPassword }

// TakesPassword reports whether a password is of any use when a key has been
// proved or not. With both, the key comes first: who has no key learns nothing
// about the password.
func (p Proofs) TakesPassword(keyProved bool) bool {
	return p == ByEither || p == ByPassword || p == ByBoth && keyProved
}
