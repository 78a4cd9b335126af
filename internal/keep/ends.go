package keep

import (
	"reflect"
	"strings"
)

// AccountChange is a change of an account after which something ends that it has shown, or that stands for it.
type AccountChange int

// The changes. What a deleted account has shown ends with it; a removed key, passkey or token ends what it let in.
const (
	PasswordByHolder   AccountChange = iota // who shows the one before
	PasswordByOperator                      // of whoever may have it now
	AccountSuspended                        // or handed to another source
	FactorChanged                           // the second factor is another, or none
)

// Ended is what ends. Keys that an operator gave, and passes, which have an end of their own, stay; of an account that is
// suspended they don't work.
type Ended struct {
	Sessions func(shown string) bool // those that were let in by a key's fingerprint, the ID of a token or passkey, or "": a password, single sign-on
	Tokens   bool
	Passkeys bool
	Networks bool // where the second factor is not asked for
	Links    bool // that show the password
}

// Ends is what ends when. docs/security.md has it as a table.
var Ends = map[AccountChange]Ended{
	PasswordByHolder:   {Sessions: func(shown string) bool { return shown == "" }, Networks: true, Links: true},
	PasswordByOperator: {Sessions: func(shown string) bool { return !strings.HasPrefix(shown, "SHA256:") }, Tokens: true, Passkeys: true, Networks: true, Links: true},
	AccountSuspended:   {Sessions: func(string) bool { return true }, Tokens: true, Networks: true, Links: true},
	FactorChanged:      {Sessions: func(string) bool { return false }, Networks: true},
}

// ChangesOf are the changes between an account as it was and as an operator, or its source, makes it.
func ChangesOf(was, now *Account) (found []AccountChange) {
	if was.PasswordHash != now.PasswordHash {
		found = append(found, PasswordByOperator)
	}
	if now.State == StateSuspended || was.Source != now.Source {
		found = append(found, AccountSuspended)
	}
	if !reflect.DeepEqual(was.Settings.SecondFactor, now.Settings.SecondFactor) || !reflect.DeepEqual(was.Settings.FactorBy, now.Settings.FactorBy) {
		found = append(found, FactorChanged)
	}
	return found
}
