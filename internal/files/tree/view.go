package tree

import "urbankeep/internal/keep"

// Why says why the account may not do something at a clean path; nil when it may.
func (t *Tree) Why(right keep.Rights, at string) error { return t.may(right, at) }

// Narrowed reports whether the session is held to a part of what the account may, as by a token, in which a right on a clean path
// does not lie.
func (t *Tree) Narrowed(right keep.Rights, at string) bool {
	return t.policy.Load().Narrowed(right, at)
}

// Draws says under what key small pictures of a file may be kept, "" when none may be made. The key is one of
// the account's own: who looks at a file for the first time reads it, and has a record of that.
func (t *Tree) Draws(at string) (key string, err error) {
	if !t.mountOf(at).draws {
		return "", nil
	}
	lies, err := t.Place(at, true)
	if err != nil {
		return "", err
	}
	return t.who.Account + "\x00" + lies.Spot.Store + "\x00" + lies.Spot.Path, nil
}
