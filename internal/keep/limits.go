package keep

import (
	"fmt"
	"time"
)

// Limits are what the service puts up with from everybody together. They are settings.
type Limits struct {
	FailuresPerAddress Count   `json:"failuresPerAddress"` // failed sign-ins until an address is locked out
	FailuresPerAccount Count   `json:"failuresPerAccount"` // from addresses unknown to the account, until it is on alert
	Within             Seconds `json:"within"`             // in which they are counted
	Lockout            Seconds `json:"lockout"`            // how long that lasts
	Delay              Seconds `json:"delay"`              // how long a failed sign-in takes at least
	Attempts           Count   `json:"attempts"`           // passwords that one connection may try
	Sessions           Count   `json:"sessions"`           // at once, in all
	SessionsPerAddress Count   `json:"sessionsPerAddress"` // at once, of one address
	Transfers          Count   `json:"transfers"`          // at once, in all
	TransfersPerHolder Count   `json:"transfersPerAccount"`
	DeepListing        Count   `json:"deepListing"` // files and folders that one PROPFIND of infinite depth may tell of
}

// UsualLimits are enough for a person who tries all their passwords, far too few for a program
// that tries a list.
var UsualLimits = Limits{FailuresPerAddress: 20, FailuresPerAccount: 10, Within: 600, Lockout: 900,
	Delay: 1, Attempts: 3, Sessions: 10_000, SessionsPerAddress: 5000, Transfers: 10_000, TransfersPerHolder: 3000, DeepListing: 100_000}

// Check reports what is wrong with the limits as a [*FieldError].
func (l *Limits) Check() error {
	for _, n := range []struct {
		field string
		value Count
		most  Count
	}{{"failuresPerAddress", l.FailuresPerAddress, 100_000}, {"failuresPerAccount", l.FailuresPerAccount, 100_000}, {"attempts", l.Attempts, 100},
		{"sessions", l.Sessions, 1_000_000}, {"sessionsPerAddress", l.SessionsPerAddress, 1_000_000}, {"transfers", l.Transfers, 1_000_000}, {"transfersPerAccount", l.TransfersPerHolder, 1_000_000}, {"deepListing", l.DeepListing, 10_000_000}} {
		if n.value < 1 || n.value > n.most {
			return &FieldError{n.field, fmt.Sprintf("it must be from 1 to %d", n.most)}
		}
	}
	for _, d := range []struct {
		field       string
		value       Seconds
		least, most time.Duration
	}{{"within", l.Within, time.Second, 24 * time.Hour}, {"lockout", l.Lockout, time.Second, 7 * 24 * time.Hour}, {"delay", l.Delay, 0, 10 * time.Second}} {
		if v := d.value.Duration(); v < d.least || v > d.most {
			return &FieldError{d.field, fmt.Sprintf("it must be from %s to %s", d.least, d.most)}
		}
	}
	return nil
}
