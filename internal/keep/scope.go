package keep

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Scope narrows what an account may do, for who comes with less than its password: never more than the account may
// itself, now.
type Scope struct {
	Paths  []string // these files, and these folders with what is below them; clean and absolute
	Rights Rights
}

// holds reports whether a right on a path lies within it.
func (s *Scope) holds(right Rights, at string) bool {
	return s == nil || s.Rights.Has(right) && slices.ContainsFunc(s.Paths, func(own string) bool { return Covers(own, at) })
}

// leads reports whether a path lies in it, or on the way to it.
func (s *Scope) leads(at string) bool {
	return s == nil || slices.ContainsFunc(s.Paths, func(own string) bool { return Covers(own, at) || Covers(at, own) })
}

// String is the scope in words.
func (s *Scope) String() string {
	return fmt.Sprintf("%s on %s", strings.Join(s.Rights.Names(), ","), strings.Join(s.Paths, " and "))
}

// Within is the account as somebody has it who is held to a scope.
func (e *Effective) Within(s *Scope) *Effective {
	if s == nil {
		return e
	}
	narrow := *e
	narrow.scope = s
	return &narrow
}

// AccountToken stands for an account in scripts, within a scope.
type AccountToken struct {
	ID       string // for people; no secret
	Account  int64
	Digest   []byte // SHA-256 of the secret
	Label    string
	Scope    Scope
	Address  string // from where it was made
	Created  time.Time
	Expires  time.Time
	LastUsed time.Time // to the minute; zero: never
}

const (
	// MaxAccountTokens bounds those of one account.
	MaxAccountTokens = 20
	// MaxAccountTokenLife bounds how long one works.
	MaxAccountTokenLife = 366 * 24 * time.Hour
)
