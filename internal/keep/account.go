package keep

import (
	"fmt"
	"net/mail"
	"slices"
	"strings"
	"time"
	"unicode"
)

// State says whether an account may sign in.
type State string

// The states of an account.
const (
	StateActive    State = "active"
	StateSuspended State = "suspended"
)

// Account is who signs in to move files: a person or a machine.
type Account struct {
	ID           int64
	Name         string
	Note         string
	Mail         string // where its holder can have themselves told
	State        State
	Source       string // that vouches for it; "": the service's own records
	SourceID     string // what that calls it, for ever; "": it is not known yet
	PasswordHash Secret // argon2id in PHC form; empty: no password
	MustChange   bool   // its password, at the next sign-in, before anything else
	Groups       []string
	Settings     Settings // its own
	Mounts       []Mount  // its own
	Grants       []Grant  // its own
	Furnished    bool     // its starter folders were made
	Created      time.Time
	Changed      time.Time
	LastSignIn   time.Time // zero: never
}

// Closed says why the account may not be used at a time; nil when it may.
func (e *Effective) Closed(now time.Time) *Fault {
	switch {
	case e.State != StateActive:
		return Refuse(Suspended, "the account is suspended")
	case now.Before(e.ValidFrom.Time):
		return Refuse(NotYetValid, "the account's time begins on "+e.ValidFrom.String())
	case !e.ValidUntil.IsZero() && !now.Before(e.ValidUntil.Time):
		return Refuse(Expired, "the account's time ended on "+e.ValidUntil.String())
	}
	return nil
}

// MaxNameLength bounds the names of accounts, stores and operators: they
// become folder names, and some file systems stop at 64 UTF-16 units.
const MaxNameLength = 64

// NameRule is the rule that [CheckName] enforces, for people.
const NameRule = "1 to 64 letters, digits, '.', '_', '-', '@' or '+', starting with a letter or a digit and not ending in a dot"

// CheckName enforces [NameRule]: such a name is one folder name on every
// system, never hidden, never a path and never an option of a command.
func CheckName(field, name string) error {
	ok := name != "" && len(name) <= MaxNameLength && !strings.HasSuffix(name, ".")
	for i, r := range name {
		letter := r < unicode.MaxASCII && (unicode.IsLetter(r) || unicode.IsDigit(r))
		if !letter && (i == 0 || !strings.ContainsRune("._-@+", r)) {
			ok = false
		}
	}
	if !ok || reservedNames[strings.ToLower(strings.SplitN(name, ".", 2)[0])] {
		return &FieldError{field, fmt.Sprintf("%q can't be used; a name is %s", name, NameRule)}
	}
	return nil
}

// reservedNames can't be folder names on Windows.
var reservedNames = map[string]bool{"con": true, "prn": true, "aux": true, "nul": true}

// Check reports what is wrong with the account by itself as a [*FieldError], and
// brings paths into their clean form. See [Resolve] for what its groups make of it.
func (a *Account) Check() error {
	if err := CheckName("name", a.Name); err != nil {
		return err
	}
	if a.State != StateActive && a.State != StateSuspended {
		return &FieldError{"state", fmt.Sprintf("%q is not a state: use active or suspended", a.State)}
	}
	if a.Mail != "" {
		if _, err := mail.ParseAddress(a.Mail); err != nil {
			return &FieldError{"mail", fmt.Sprintf("%q is no e-mail address", a.Mail)}
		}
	}
	for i, name := range a.Groups {
		if slices.Contains(a.Groups[:i], name) {
			return &FieldError{"groups", fmt.Sprintf("the group %s is named twice", name)}
		}
	}
	if err := a.Settings.check(); err != nil {
		return err
	}
	if by := a.Settings.FactorBy; by != nil && *by == FactorByMail && a.Mail == "" && a.Source == "" { // a source may say it later
		return &FieldError{"factorBy", "the account has no e-mail address to which a code could be mailed: give it one too"}
	}
	if err := a.checkAnonymous(); err != nil {
		return err
	}
	if err := checkMounts(a.Mounts); err != nil {
		return err
	}
	return checkGrants(a.Grants)
}
