package signin

import (
	"crypto/subtle"
	"sync"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/passwords"
)

// KeyOfRehearsal is with what a rehearsal came, in the place of a key.
const KeyOfRehearsal = "rehearsal"

// Rehearsal is a sign-in by which the service tries out an account itself.
type Rehearsal struct {
	Account  string
	Operator string     // who asked for it
	Folder   string     // stands for all stores
	Pass     *keep.Pass // with which it comes; nil: as the account
}

// rehearsals are the credentials of rehearsals that have not been used.
type rehearsals struct {
	mu     sync.Mutex
	unused map[keep.Secret]*Rehearsal
}

// maxUnused bounds them.
const maxUnused = 1000

// Issue makes a password that signs a rehearsal in, once. The returned function
// takes it back.
func (a *Accounts) Issue(r *Rehearsal) (secret keep.Secret, withdraw func()) {
	secret = passwords.Generate() + passwords.Generate()
	a.rehearsals.mu.Lock()
	defer a.rehearsals.mu.Unlock()
	if a.rehearsals.unused == nil || len(a.rehearsals.unused) >= maxUnused {
		a.rehearsals.unused = map[keep.Secret]*Rehearsal{}
	}
	a.rehearsals.unused[secret] = r
	return secret, func() { a.rehearsals.take(r.Account, secret) }
}

// take uses a credential up; nil when it is none of this account. Those with a pass are found without its name.
func (r *rehearsals) take(account string, secret keep.Secret) *Rehearsal {
	r.mu.Lock()
	defer r.mu.Unlock()
	for known, found := range r.unused {
		if (found.Account == account || account == "" && found.Pass != nil) && subtle.ConstantTimeCompare([]byte(known.Reveal()), []byte(secret.Reveal())) == 1 {
			delete(r.unused, known)
			return found
		}
	}
	return nil
}
