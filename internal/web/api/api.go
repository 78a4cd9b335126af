// Package api has the shapes that go over HTTP, as openapi.yaml describes them.
// The server writes them and the command line reads them.
package api

import (
	"time"

	"urbankeep/internal/keep"
)

// Problem is an error (RFC 9457).
type Problem struct {
	Type   string `json:"type"` // always "about:blank"
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail"`
	Field  string `json:"field,omitempty"`  // of the request, where one is wrong
	Reason string `json:"reason,omitempty"` // see keep.Reason
}

// Page is one page of a list. Next is the cursor of the page after it, "" at the end.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty"`
}

// Account is who signs in to move files.
type Account struct {
	Name        string       `json:"name"`
	Note        string       `json:"note"`
	State       keep.State   `json:"state"`
	HasPassword bool         `json:"hasPassword"`
	SignInBy    keep.Proofs  `json:"signInBy"`
	Means       string       `json:"means"`     // what it signs in with, in words
	CanSignIn   bool         `json:"canSignIn"` // it has what it must show
	Keys        int          `json:"keys"`
	AllowPlain  bool         `json:"allowPlain"`
	ValidFrom   *time.Time   `json:"validFrom,omitempty"`
	ValidUntil  *time.Time   `json:"validUntil,omitempty"`
	MaxSessions int          `json:"maxSessions"` // 0: any number
	MaxUpload   int64        `json:"maxUpload"`   // bytes; 0: any size
	Mounts      []keep.Mount `json:"mounts"`
	Grants      []keep.Grant `json:"grants"`
	Sessions    int          `json:"sessions"` // live now
	Created     time.Time    `json:"created"`
	Changed     time.Time    `json:"changed"`
	LastSignIn  *time.Time   `json:"lastSignIn,omitempty"`
}

// AccountNew asks for a new account.
type AccountNew struct {
	Name        string       `json:"name"`
	Note        string       `json:"note,omitempty"`
	Password    string       `json:"password,omitempty"`
	Generate    bool         `json:"generate,omitempty"` // make a password and give it back once
	SignInBy    keep.Proofs  `json:"signInBy,omitempty"` // "": either
	AllowPlain  bool         `json:"allowPlain,omitempty"`
	ValidFrom   *time.Time   `json:"validFrom,omitempty"`
	ValidUntil  *time.Time   `json:"validUntil,omitempty"`
	MaxSessions int          `json:"maxSessions,omitempty"`
	MaxUpload   int64        `json:"maxUpload,omitempty"`
	Mounts      []keep.Mount `json:"mounts"`
	Grants      []keep.Grant `json:"grants"`
}

// AccountChange asks for changes; fields that are not there stay as they are.
type AccountChange struct {
	Note        *string       `json:"note,omitempty"`
	Password    *string       `json:"password,omitempty"`
	Generate    bool          `json:"generate,omitempty"`
	SignInBy    *keep.Proofs  `json:"signInBy,omitempty"`
	AllowPlain  *bool         `json:"allowPlain,omitempty"`
	ValidFrom   *time.Time    `json:"validFrom,omitempty"`  // 0001-01-01T00:00:00Z: always
	ValidUntil  *time.Time    `json:"validUntil,omitempty"` // 0001-01-01T00:00:00Z: for ever
	MaxSessions *int          `json:"maxSessions,omitempty"`
	MaxUpload   *int64        `json:"maxUpload,omitempty"`
	Mounts      *[]keep.Mount `json:"mounts,omitempty"`
	Grants      *[]keep.Grant `json:"grants,omitempty"`
}

// AccountMade is a new or changed account, with its generated password if one
// was asked for. It is shown this once.
type AccountMade struct {
	Account  Account `json:"account"`
	Password string  `json:"password,omitempty"`
}

// Explanation says whether an account may do something, and why.
type Explanation struct {
	Allowed bool        `json:"allowed"`
	Steps   []keep.Step `json:"steps"` // it may when every one is OK
}

// Session is a live session.
type Session struct {
	ID        string        `json:"id"`
	Account   string        `json:"account"`
	Address   string        `json:"address"`
	Protocol  keep.Protocol `json:"protocol"`
	Encrypted bool          `json:"encrypted"`
	Cipher    string        `json:"cipher"`
	Client    string        `json:"client"`
	Since     time.Time     `json:"since"`
	Active    time.Time     `json:"active"`
	Doing     keep.Action   `json:"doing"`
	Path      string        `json:"path"`
	Up        int64         `json:"up"`
	Down      int64         `json:"down"`
}

// Transfer is one file moved in one direction, running or ended.
type Transfer struct {
	ID        string        `json:"id"`
	Seq       int64         `json:"seq,omitempty"` // of its audit record; 0 while it runs
	Session   string        `json:"session"`
	Account   string        `json:"account"`
	Address   string        `json:"address"`
	Protocol  keep.Protocol `json:"protocol"`
	Encrypted bool          `json:"encrypted"`
	Action    keep.Action   `json:"action"`
	Path      string        `json:"path"`
	Offset    int64         `json:"offset"`
	Total     int64         `json:"total"` // -1: unknown
	Bytes     int64         `json:"bytes"`
	Started   time.Time     `json:"started"`
	Ended     *time.Time    `json:"ended,omitempty"`
	Seconds   float64       `json:"seconds"`
	Outcome   string        `json:"outcome"` // "running" while it does
	Reason    keep.Reason   `json:"reason,omitempty"`
}

// AuditRecord is one thing that happened.
type AuditRecord struct {
	Seq       int64         `json:"seq"`
	At        time.Time     `json:"at"`
	Account   string        `json:"account,omitempty"`
	Operator  string        `json:"operator,omitempty"`
	Address   string        `json:"address,omitempty"`
	Protocol  keep.Protocol `json:"protocol,omitempty"`
	Encrypted bool          `json:"encrypted"`
	Session   string        `json:"session,omitempty"`
	Action    keep.Action   `json:"action"`
	Path      string        `json:"path,omitempty"`
	Target    string        `json:"target,omitempty"`
	Offset    int64         `json:"offset,omitempty"`
	Bytes     int64         `json:"bytes"`
	Seconds   float64       `json:"seconds"`
	Outcome   keep.Outcome  `json:"outcome"`
	Reason    keep.Reason   `json:"reason,omitempty"`
	Detail    string        `json:"detail,omitempty"`
}

// AuditReport is what walking the chain found.
type AuditReport struct {
	Checked int64  `json:"checked"`
	BadSeq  int64  `json:"badSeq,omitempty"`
	Problem string `json:"problem,omitempty"`
}

// Live is what changed since the message before; with Full it is everything.
type Live struct {
	Full      bool       `json:"full"`
	Now       time.Time  `json:"now"`
	Sessions  []Session  `json:"sessions"`
	Gone      []string   `json:"gone"`
	Transfers []Transfer `json:"transfers"`
}

// Operator is who administers.
type Operator struct {
	Operator string    `json:"operator"`
	Role     keep.Role `json:"role"`
}

// OperatorNew asks for an operator.
type OperatorNew struct {
	Operator string    `json:"operator"`
	Role     keep.Role `json:"role"`
	Password string    `json:"password"`
}

// TokenNew asks for an API token.
type TokenNew struct {
	Label string `json:"label"`
	Days  int    `json:"days"` // how long it works
}

// Token is an API token, shown this once.
type Token struct {
	Token string `json:"token"`
}

// SignIn asks to sign an operator in.
type SignIn struct {
	Operator string `json:"operator"`
	Password string `json:"password"`
}

// SetUp asks for the first operator.
type SetUp struct {
	Secret   string `json:"secret"` // of the set-up link
	Operator string `json:"operator"`
	Password string `json:"password"`
}

// Status is how the service is.
type Status struct {
	SetUp     bool       `json:"setUp"` // an operator is there
	Started   time.Time  `json:"started"`
	Sessions  int        `json:"sessions"`
	Transfers int        `json:"transfers"`
	Listeners []Listener `json:"listeners"`
}
