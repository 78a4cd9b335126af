package api

import (
	"encoding/json"
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

// Unchanged is the header of an answer to a change that changed nothing, since it is so already.
const Unchanged = "Unchanged"

// Page is one page of a list. Next is the cursor of the page after it, "" at the end. Total is how many there are of
// what was asked for, where that is told.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty"`
	Total int    `json:"total,omitempty"`
}

// Named is one thing that a search by name has found.
type Named struct {
	Kind string `json:"kind"` // account, group or listener
	Name string `json:"name"`
	Note string `json:"note"`
}

// Account is who signs in to move files.
type Account struct {
	Name        string        `json:"name"`
	Note        string        `json:"note"`
	Mail        string        `json:"mail"`
	State       keep.State    `json:"state"`
	Source      string        `json:"source"` // that vouches for it
	HasPassword bool          `json:"hasPassword"`
	MustChange  bool          `json:"mustChange"` // its password, at the next sign-in
	SignInBy    keep.Proofs   `json:"signInBy"`   // in force
	Means       string        `json:"means"`      // what it signs in with, in words
	CanSignIn   bool          `json:"canSignIn"`  // it has what it must show
	Keys        int           `json:"keys"`
	Plain       bool          `json:"plain"` // may sign in over FTP without TLS whatever the listener says
	Groups      []string      `json:"groups"`
	Settings    keep.Settings `json:"settings"` // its own, as are these:
	Mounts      []keep.Mount  `json:"mounts"`
	Grants      []keep.Grant  `json:"grants"`
	InForce     InForce       `json:"inForce"`  // with what its groups bring
	Sessions    int           `json:"sessions"` // live now
	Created     time.Time     `json:"created"`
	Changed     time.Time     `json:"changed"`
	LastSignIn  *time.Time    `json:"lastSignIn,omitempty"`
}

// InForce is what an account and its groups make together.
type InForce struct {
	Settings []keep.SetValue `json:"settings,omitempty"` // all of them; not in lists
	Mounts   []Mount         `json:"mounts"`
	Grants   []Grant         `json:"grants"`
}

// Mount is a mount with where it comes from and what its place holds.
type Mount struct {
	keep.Mount
	From string      `json:"from"` // "account" or "group NAME"
	Used *keep.Quota `json:"used,omitempty"`
}

// Grant is a grant with where it comes from.
type Grant struct {
	keep.Grant
	From       string `json:"from"`
	Conditions string `json:"conditions,omitempty"` // filter and window, in words
}

// UnmarshalJSON reads what is written; a [keep.Mount] by itself may be a text too.
func (m *Mount) UnmarshalJSON(raw []byte) error {
	type plain keep.Mount
	var all struct {
		plain
		From string
		Used *keep.Quota
	}
	err := json.Unmarshal(raw, &all)
	*m = Mount{keep.Mount(all.plain), all.From, all.Used}
	return err
}

// UnmarshalJSON reads what is written; a [keep.Grant] by itself may be a text too.
func (g *Grant) UnmarshalJSON(raw []byte) error {
	type plain keep.Grant
	var all struct {
		plain
		From, Conditions string
	}
	err := json.Unmarshal(raw, &all)
	*g = Grant{keep.Grant(all.plain), all.From, all.Conditions}
	return err
}

// AccountNew asks for a new account.
type AccountNew struct {
	Name       string                     `json:"name"`
	Note       string                     `json:"note,omitempty"`
	Mail       string                     `json:"mail,omitempty"`
	Source     string                     `json:"source,omitempty"` // that vouches for it; own where it is not given
	Password   string                     `json:"password,omitempty"`
	Generate   bool                       `json:"generate,omitempty"` // make a password and give it back once
	MustChange bool                       `json:"mustChange,omitempty"`
	Key        string                     `json:"key,omitempty"` // SSH public keys, one on each line: the account comes with them, or not at all
	Groups     []string                   `json:"groups,omitempty"`
	Settings   map[string]json.RawMessage `json:"settings,omitempty"` // see keep.Settings; a text is understood for each
	Mounts     []keep.Mount               `json:"mounts"`
	Grants     []keep.Grant               `json:"grants"`
}

// AccountChange asks for changes; fields that are not there stay as they are, and
// so do settings. A setting that is null is taken away: the groups decide it.
type AccountChange struct {
	Note       *string                    `json:"note,omitempty"`
	Mail       *string                    `json:"mail,omitempty"`
	Source     *string                    `json:"source,omitempty"` // given anew, it forgets whom that vouched for before
	Password   *string                    `json:"password,omitempty"`
	Generate   bool                       `json:"generate,omitempty"`
	MustChange *bool                      `json:"mustChange,omitempty"`
	Groups     *[]string                  `json:"groups,omitempty"`
	Settings   map[string]json.RawMessage `json:"settings,omitempty"`
	Mounts     *[]keep.Mount              `json:"mounts,omitempty"`
	Grants     *[]keep.Grant              `json:"grants,omitempty"`
}

// AccountClone asks for a new account like another.
type AccountClone struct {
	Name     string `json:"name"`
	Generate bool   `json:"generate,omitempty"`
}

// AccountMade is a new or changed account, with its generated password if one
// was asked for. It is shown this once.
type AccountMade struct {
	Account  Account   `json:"account"`
	Password string    `json:"password,omitempty"`
	Strength *Strength `json:"strength,omitempty"` // of a password that was given
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
	Started   time.Time     `json:"started"`
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
	Rate      int64         `json:"rate"`           // bytes per second, lately
	Left      *float64      `json:"left,omitempty"` // seconds, while it runs
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
	keep.Facts
}

// RecordOf is an audit record as it goes out, its seconds to the microsecond.
func RecordOf(r *keep.AuditRecord) AuditRecord {
	out := AuditRecord{Seq: r.Seq, At: r.At, Account: r.Account, Operator: r.Operator, Address: r.Address, Protocol: r.Protocol, Encrypted: r.Encrypted, Session: r.Session,
		Action: r.Action, Path: r.Path, Target: r.Target, Offset: r.Offset, Bytes: r.Bytes, Seconds: float64(r.Duration.Microseconds()) / 1e6, Outcome: r.Outcome, Reason: r.Reason, Detail: r.Detail, Facts: r.Facts}
	if out.Hash == "" {
		out.Hash = r.OldHash()
	}
	return out
}

// AuditReport is what walking the chain found.
type AuditReport struct {
	Checked int64  `json:"checked"`
	BadSeq  int64  `json:"badSeq,omitempty"`
	Problem string `json:"problem,omitempty"`

	Checkpoints int    `json:"checkpoints"` // signed ones that agree with the chain
	Unsigned    int    `json:"unsigned"`    // places where one is due and none is there
	Key         string `json:"key"`         // fingerprint of what they are signed with

	Archived  int64 `json:"archived"`  // records that are no longer in the trail itself
	Archives  int   `json:"archives"`  // files that hold them and are as they were sealed
	Elsewhere int   `json:"elsewhere"` // archive files that were not there to be read

	Waiting int `json:"waiting,omitempty"` // newer records that are in the journal, and come when the disk takes them
}

// AuditProgress is how far walking the chain has come.
type AuditProgress struct {
	Checked int64 `json:"checked"`
	Total   int64 `json:"total"`
}

// AuditCount is how many records a search would find.
type AuditCount struct {
	Count int64 `json:"count"`
	More  bool  `json:"more"` // there are more than were counted
}

// Archive is a file that records of the trail were sealed into.
type Archive struct {
	Name    string    `json:"name"`
	Created time.Time `json:"created"`
	Records int64     `json:"records"`
	First   int64     `json:"first"` // places in the trail
	Last    int64     `json:"last"`
	File    string    `json:"file"`  // where it lies, or lay
	Bytes   int64     `json:"bytes"` // 0 when it is no longer there
}

// CollectorState is where audit records are sent, and how that does.
type CollectorState struct {
	Address   string    `json:"address"` // "" for nowhere
	Trust     string    `json:"trust"`
	Connected bool      `json:"connected"`
	Sent      int64     `json:"sent"`    // the last record that counts as delivered
	Waiting   int64     `json:"waiting"` // records behind it
	Trouble   string    `json:"trouble"`
	Since     time.Time `json:"since"`
}

// Checkpoint says how far the trail had come, signed.
type Checkpoint struct {
	Seq  int64     `json:"seq"`
	At   time.Time `json:"at"`
	Line string    `json:"line"` // to be kept elsewhere
	Key  string    `json:"key"`
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
	Problems  []string   `json:"problems"` // what keeps the service from its work
	Listeners []Listener `json:"listeners"`
}
