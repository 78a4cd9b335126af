package office

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"sync"
	"time"

	"urbankeep/internal/audit"
	"urbankeep/internal/certificate"
	"urbankeep/internal/hostkey"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
	"urbankeep/internal/signin"
	"urbankeep/internal/traffic"
)

// Live is the sessions that a change acts on at once.
type Live interface {
	// Renew puts a changed account in force in its sessions.
	Renew(account *keep.Account)
	// EndAll ends the sessions of an account.
	EndAll(account string, why *keep.Fault)
	// EndKey ends the sessions of an account that were signed in with a key.
	EndKey(account, fingerprint string, why *keep.Fault)
	// Apply makes a listener run as its settings say. When it can't, what ran
	// before runs on.
	Apply(l keep.Listener) error
	// Remove stops a listener for good; its open sessions stay.
	Remove(listener string)
}

// Office carries out what operators ask.
type Office struct {
	DB          *records.DB
	Trail       *audit.Trail
	Hasher      *signin.Hasher
	HostKeys    *hostkey.Ring
	Certificate *certificate.Keeper
	Guard       *signin.Guard
	Live        Live
	Traffic     *traffic.Registry
	Log         *slog.Logger

	changing sync.Mutex // one change of an account at a time: each starts from the one before
}

// Actor is the operator who asks, and from where.
type Actor struct {
	Operator string
	Role     keep.Role
	Address  string
	Protocol keep.Protocol
}

// ErrAccountMissing says that no account has the name asked for.
var ErrAccountMissing = keep.Refuse(keep.NotFound, "no such account: account list shows the ones there are")

func missing(err error) error {
	if errors.Is(err, records.ErrNotFound) {
		return ErrAccountMissing
	}
	return err
}

// record puts a change in the trail.
func (o *Office) record(who Actor, action keep.Action, target, detail string) error {
	return o.Trail.Record(keep.AuditRecord{Operator: who.Operator, Address: who.Address, Protocol: who.Protocol,
		Encrypted: who.Protocol == keep.Local, Action: action, Target: target, Outcome: keep.Done, Detail: detail})
}

// facts are what before and after show of an account.
type facts struct {
	Note        string       `json:"note,omitempty"`
	State       keep.State   `json:"state"`
	Password    string       `json:"password,omitempty"` // "set" or "changed", never more
	SignInBy    keep.Proofs  `json:"signInBy"`
	AllowPlain  bool         `json:"allowPlain,omitempty"`
	ValidFrom   *time.Time   `json:"validFrom,omitempty"`
	ValidUntil  *time.Time   `json:"validUntil,omitempty"`
	MaxSessions int          `json:"maxSessions,omitempty"`
	MaxUpload   int64        `json:"maxUpload,omitempty"`
	Mounts      []keep.Mount `json:"mounts"`
	Grants      []keep.Grant `json:"grants"`
}

func factsOf(a *keep.Account) *facts {
	f := &facts{Note: a.Note, State: a.State, SignInBy: a.SignInBy, AllowPlain: a.AllowPlain, MaxSessions: a.MaxSessions, MaxUpload: a.MaxUpload, Mounts: a.Mounts, Grants: a.Grants}
	if a.PasswordHash != "" {
		f.Password = "set"
	}
	if !a.ValidFrom.IsZero() {
		f.ValidFrom = &a.ValidFrom
	}
	if !a.ValidUntil.IsZero() {
		f.ValidUntil = &a.ValidUntil
	}
	return f
}

// change is a before and after as JSON; nil is nothing.
func change(before, after *facts) string {
	text, err := json.Marshal(map[string]*facts{"before": before, "after": after})
	if err != nil {
		return ""
	}
	return string(text)
}

// Account reads one account.
func (o *Office) Account(ctx context.Context, name string) (*keep.Account, error) {
	a, err := o.DB.Account(ctx, name)
	return a, missing(err)
}

// Explain says whether an account may do something, and why.
func (o *Office) Explain(ctx context.Context, name string, q keep.Question) ([]keep.Step, error) {
	a, err := o.Account(ctx, name)
	if err != nil {
		return nil, err
	}
	keys, err := o.DB.Keys(ctx, a.ID)
	if err != nil {
		return nil, err
	}
	q.Keys = len(keys)
	if q.Listeners, err = o.DB.Listeners(ctx); err != nil {
		return nil, err
	}
	return keep.Explain(a, q), nil
}

// AddAccount saves a new account. Password is plain text, "" for none.
func (o *Office) AddAccount(ctx context.Context, who Actor, a *keep.Account, password keep.Secret) error {
	a.State = keep.StateActive
	a.Created = time.Now().UTC()
	a.Changed = a.Created
	if err := o.check(ctx, a); err != nil {
		return err
	}
	if err := o.setPassword(ctx, a, password); err != nil {
		return err
	}
	err := o.DB.AddAccount(ctx, a)
	if errors.Is(err, records.ErrTaken) {
		return &keep.FieldError{Field: "name", Say: "the name is taken: choose another"}
	}
	if err != nil {
		return err
	}
	return o.record(who, keep.AccountAdd, a.Name, change(nil, factsOf(a)))
}

func (o *Office) check(ctx context.Context, a *keep.Account) error {
	if err := a.Check(); err != nil {
		return err
	}
	stores, err := o.DB.Stores(ctx)
	if err != nil {
		return err
	}
	known := map[string]bool{}
	for _, s := range stores {
		known[s.Name] = true
	}
	for _, m := range a.Mounts {
		if !known[m.Store] {
			return &keep.FieldError{Field: "mounts", Say: "no store is named " + m.Store + ": the one made at first start is files"}
		}
	}
	return nil
}

func (o *Office) setPassword(ctx context.Context, a *keep.Account, password keep.Secret) (err error) {
	if password == "" {
		return nil
	}
	if a.Anonymous() {
		return &keep.FieldError{Field: "password", Say: "everybody may use the account anonymous: it has no password"}
	}
	if err := signin.CheckPassword(password); err != nil {
		return err
	}
	a.PasswordHash, err = o.Hasher.Hash(ctx, password)
	return err
}

// SetAccount changes an account: edit changes a copy, which is checked, saved
// and put in force. Password is plain text, "" to leave it.
func (o *Office) SetAccount(ctx context.Context, who Actor, name string, password keep.Secret, edit func(*keep.Account)) (*keep.Account, error) {
	o.changing.Lock()
	defer o.changing.Unlock()
	a, err := o.Account(ctx, name)
	if err != nil {
		return nil, err
	}
	before := factsOf(a)
	edit(a)
	if err := o.check(ctx, a); err != nil {
		return nil, err
	}
	if err := o.setPassword(ctx, a, password); err != nil {
		return nil, err
	}
	a.Changed = time.Now().UTC()
	if err := o.DB.SaveAccount(ctx, a); err != nil {
		return nil, missing(err)
	}
	after := factsOf(a)
	if password != "" {
		after.Password = "changed"
	}
	o.Live.Renew(a)
	return a, o.record(who, keep.AccountSet, a.Name, change(before, after))
}

// Suspend keeps an account from signing in and ends its sessions; Resume lets it in again.
func (o *Office) Suspend(ctx context.Context, who Actor, name string) (*keep.Account, error) {
	return o.setState(ctx, who, name, keep.StateSuspended, keep.AccountSuspend)
}

// Resume lets a suspended account sign in again.
func (o *Office) Resume(ctx context.Context, who Actor, name string) (*keep.Account, error) {
	return o.setState(ctx, who, name, keep.StateActive, keep.AccountResume)
}

func (o *Office) setState(ctx context.Context, who Actor, name string, state keep.State, action keep.Action) (*keep.Account, error) {
	o.changing.Lock()
	defer o.changing.Unlock()
	a, err := o.Account(ctx, name)
	if err != nil {
		return nil, err
	}
	before := factsOf(a)
	a.State, a.Changed = state, time.Now().UTC()
	if err := o.DB.SaveAccount(ctx, a); err != nil {
		return nil, missing(err)
	}
	if state == keep.StateSuspended {
		o.Live.EndAll(a.Name, keep.Refuse(keep.AccountChanged, "the account was suspended"))
	}
	return a, o.record(who, action, a.Name, change(before, factsOf(a)))
}

// DeleteAccount removes an account and ends its sessions. Its files stay.
func (o *Office) DeleteAccount(ctx context.Context, who Actor, name string) error {
	a, err := o.Account(ctx, name)
	if err != nil {
		return err
	}
	if err := o.DB.DeleteAccount(ctx, a.ID); err != nil {
		return missing(err)
	}
	o.Live.EndAll(a.Name, keep.Refuse(keep.AccountChanged, "the account was deleted"))
	return o.record(who, keep.AccountDelete, a.Name, change(factsOf(a), nil))
}

// EndSession ends one live session.
func (o *Office) EndSession(who Actor, id string) error {
	if !o.Traffic.End(id, keep.Refuse(keep.EndedByOperator, "an operator ended the session")) {
		return keep.Refuse(keep.NotFound, "no such session: it may have ended meanwhile")
	}
	return o.record(who, keep.SessionEnd, id, "")
}
