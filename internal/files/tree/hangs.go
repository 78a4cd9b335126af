package tree

import (
	"crypto/rand"
	"errors"
	"strings"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/keep"
)

// Hangings is the list of what hangs on places of stores: locks and properties, uploads that are not whole yet or wait for their
// check, bins. Whatever moves or goes, goes through it: what hangs on it goes along, or keeps it where it is.
type Hangings interface {
	// Stays says why what lies at a spot must stay there, with all that is in it, or with gone, why it can't go for good; nil: it
	// can.
	Stays(at quota.Spot, gone bool) error
	// Any reports whether something hangs at a spot or below it.
	Any(at quota.Spot) bool
	// Begin writes a deed down before its first step.
	Begin(d keep.Deed) error
	// Commit says that what was at From is at To, or gone: what hung there goes along, what hung at To is gone. It marks the
	// deed as done, and with over has it forgotten.
	Commit(d keep.Deed, over bool) error
	// Forget forgets a deed when nothing of it is left.
	Forget(id string) error
}

// nothing hangs anywhere.
type nothing struct{}

func (nothing) Stays(quota.Spot, bool) error { return nil }
func (nothing) Any(quota.Spot) bool          { return false }
func (nothing) Begin(keep.Deed) error        { return nil }
func (nothing) Commit(keep.Deed, bool) error { return nil }
func (nothing) Forget(string) error          { return nil }

// newDeed is one of this tree's account.
func (t *Tree) newDeed(from, to quota.Spot, at string) keep.Deed {
	return keep.Deed{ID: strings.ToLower(rand.Text()[:16]), Account: t.who.Account, Path: at, From: from, To: to}
}

// taking does the one step of a deed by which something moves from one spot to another, or goes for good where to is the zero
// one, with all that hangs on it.
func (t *Tree) taking(from, to quota.Spot, at string, do func() error) error {
	if !t.hangs.Any(from) && (to == quota.Spot{} || !t.hangs.Any(to)) {
		return do()
	}
	d := t.newDeed(from, to, at)
	if err := t.hangs.Begin(d); err != nil {
		return err
	}
	err := do()
	if err == nil {
		return t.hangs.Commit(d, true)
	}
	if left := t.hangs.Forget(d.ID); left != nil {
		return errors.Join(err, left)
	}
	return err
}
