// Package signin answers "who is this": it proves accounts by password or SSH
// key and operators by password, cookie or set-up link, slowly where it fails,
// and records every attempt.
//
// It knows records and the audit trail. It knows no wire: protocols tell it
// where an attempt came from.
package signin
