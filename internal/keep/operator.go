package keep

import "time"

// Role is what an operator may do.
type Role string

// The roles, from most to least.
const (
	Owner   Role = "owner"   // everything, operators included
	Manager Role = "manager" // everything but operators
	Auditor Role = "auditor" // reads, changes nothing
)

// Operator is who administers.
type Operator struct {
	ID           int64
	Name         string
	Role         Role
	PasswordHash Secret
	CodeSecret   Secret // of one-time codes, base32; "": it needs none
	CodeStep     int64  // the last time step (RFC 6238, section 4.2) whose code was used
	Source       string // that vouches for it; "": the own records
	SourceID     string // what that calls it for ever; "": it was not asked yet
	Created      time.Time
	LastSignIn   time.Time // to the console
}

// Lesser is the role that may do less.
func (r Role) Lesser(other Role) Role {
	if r == Owner || other == Auditor || r == other {
		return other
	}
	return r
}

// Check refuses a role that there is not, as a [*FieldError].
func (r Role) Check() error {
	if r != Owner && r != Manager && r != Auditor {
		return &FieldError{"role", "use owner, manager or auditor"}
	}
	return nil
}

// MayChange reports whether the role may change anything.
func (r Role) MayChange() bool { return r == Owner || r == Manager }

// Passkey is what an operator signs in with instead of a password and a code (WebAuthn).
type Passkey struct {
	ID         string
	Label      string
	Host       string // the name of the console under which it works
	Credential []byte // its public key and what is known of it, as the library writes it
	Created    time.Time
	LastUsed   time.Time // zero: never
}
