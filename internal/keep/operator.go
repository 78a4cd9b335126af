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
	Created      time.Time
}

// MayChange reports whether the role may change anything.
func (r Role) MayChange() bool { return r == Owner || r == Manager }
