package office

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store/kinds"
	"urbankeep/internal/keep"
	"urbankeep/internal/keys/certificate"
	"urbankeep/internal/keys/hostkey"
	"urbankeep/internal/people/passwords"
	"urbankeep/internal/people/signin"
	"urbankeep/internal/people/source/book"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
	"urbankeep/internal/watch/collector"
	"urbankeep/internal/watch/notice"
	"urbankeep/internal/watch/traffic"
)

// Live is the sessions that a change acts on at once.
type Live interface {
	// Renew puts a changed account in force in its sessions.
	Renew(account *keep.Effective)
	// EndAll ends the sessions of an account.
	EndAll(account string, why *keep.Fault)
	// EndKey ends the sessions of an account that were signed in with a key.
	EndKey(account, fingerprint string, why *keep.Fault)
	// Apply makes a listener run as its settings say. When it can't, what ran
	// before runs on.
	Apply(l keep.Listener) error
	// Remove stops a listener for good; its open sessions stay.
	Remove(listener string)
	// Watch tells where a listener really listens, "" when it doesn't.
	Watch(listener string) (address string, taken, refused int)
	// Unable says why a listener can't listen that should, "" when it can.
	Unable(listener string) string
	// Console is where the console is reached, as a URL; "" where no listener serves it.
	Console() string
	// Promise puts in force what an acknowledgement promises of the audit trail.
	Promise(d keep.Durability)
	// Held is what waits for its check; DecideHeld lets it in or refuses it.
	Held() []keep.Held
	DecideHeld(id string, answer keep.CheckAnswer, said string) error
	// MoveStore has what is held in a store be held in another, once save has written that.
	MoveStore(ctx context.Context, from, to string, save func() error) error
	// Expect has the service look at once for what notices wait for.
	Expect()
	// Admit puts the network rules of the service in force for new connections.
	Admit(rules keep.Rules)
}

// Office carries out what operators ask.
type Office struct {
	DB           *records.DB
	Trail        *audit.Trail
	Hasher       *passwords.Hasher
	HostKeys     *hostkey.Ring
	Certificates *certificate.Ring
	Guard        *signin.Guard
	Accounts     *signin.Accounts
	Live         Live
	Traffic      *traffic.Registry
	Ledger       *quota.Ledger
	Seal         *audit.Seal
	Collector    *collector.Sender
	Teller       *notice.Teller
	Book         *book.Book
	Stores       *kinds.Stores
	Dir          string      // the data folder, in which no store may lie
	Usual        keep.Limits // while none were set
	Log          *slog.Logger

	retiring  sync.Mutex // one at a time
	moving    moves
	passMails passMails
	places    places
	storing   sync.Mutex // one change of a store at a time: it may take long, so it is taken before changing
	changing  sync.Mutex // one change of an account at a time: each starts from the one before
}

// Actor is the operator who asks, and from where.
type Actor struct {
	Operator string
	Account  string // a holder, who changes their own account, instead
	Role     keep.Role
	Address  string
	Protocol keep.Protocol
	// Of who came by a web listener:
	Listener  string // its name
	Host      string // under which name it was reached
	Encrypted bool

	undoes int64 // the change that is being taken back; 0: none
}

// missing says that no account has a name, where an error is that.
func missing(err error, name string) error {
	if errors.Is(err, records.ErrNotFound) {
		return keep.NoSuch("account", name)
	}
	return err
}

// recordOf is the record of what an operator did.
func recordOf(who Actor, action keep.Action, target, detail string) keep.AuditRecord {
	return keep.AuditRecord{Operator: who.Operator, Account: who.Account, Address: who.Address, Protocol: who.Protocol,
		Encrypted: who.Protocol == keep.Local || who.Encrypted, Action: action, Target: target, Outcome: keep.Done, Detail: detail}
}

// record puts in the trail what an operator did.
func (o *Office) record(who Actor, action keep.Action, target, detail string) error {
	return o.recorded(context.Background(), who, action, target, detail, nil)
}

// recorded saves a change that the history does not have, and records it: both or nothing.
func (o *Office) recorded(ctx context.Context, who Actor, action keep.Action, target, detail string, save func(context.Context) error) error {
	return o.Trail.Change(ctx, recordOf(who, action, target, detail), save)
}

// facts are what before and after show of an account.
type facts struct {
	Note       string         `json:"note,omitempty"`
	Mail       string         `json:"mail,omitempty"`
	State      keep.State     `json:"state,omitempty"`
	Source     string         `json:"source,omitempty"`
	SourceID   string         `json:"sourceId,omitempty"`
	Password   string         `json:"password,omitempty"` // "set" or "changed", never more
	MustChange bool           `json:"mustChange,omitempty"`
	Groups     []string       `json:"groups,omitempty"`
	Settings   *keep.Settings `json:"settings,omitempty"`
	Mounts     []keep.Mount   `json:"mounts"`
	Grants     []keep.Grant   `json:"grants"`
}

func factsOf(a *keep.Account) *facts {
	settings := a.Settings
	f := &facts{Note: a.Note, Mail: a.Mail, State: a.State, Source: a.Source, SourceID: a.SourceID, MustChange: a.MustChange, Groups: a.Groups, Settings: &settings, Mounts: a.Mounts, Grants: a.Grants}
	if a.PasswordHash != "" {
		f.Password = "set"
	}
	return f
}

// Account reads one account with what its groups make of it.
func (o *Office) Account(ctx context.Context, name string) (*keep.Effective, error) {
	a, err := o.DB.Account(ctx, name)
	if err != nil {
		return nil, missing(err, name)
	}
	return o.DB.Resolve(ctx, a)
}

// Explain says whether an account may do something, and why.
func (o *Office) Explain(ctx context.Context, name string, q keep.Question) ([]keep.Step, error) {
	e, err := o.Account(ctx, name)
	if err != nil {
		return nil, err
	}
	keys, err := o.DB.Keys(ctx, e.ID)
	if err != nil {
		return nil, err
	}
	q.Keys, q.Sessions = len(keys), len(o.Traffic.SessionsOf(e.Name))
	if q.Listeners, err = o.DB.Listeners(ctx); err != nil {
		return nil, err
	}
	if q.Gate, err = o.Gate(ctx); err != nil {
		return nil, err
	}
	q.Route = o.Book.RouteOf(e.Name)
	if q.From != "" && o.Guard.Locked(e.Name, q.From) {
		q.LockedOut = "after failed sign-ins, the account is locked out for " + q.From + ": lockout list shows until when"
	}
	if m := keep.NewPolicy(e).MountOf(q.Path); m != nil {
		folder := path.Join(m.FolderFor(e.Name), path.Dir(strings.TrimPrefix(q.Path, m.At)))
		for _, use := range o.Ledger.Over(quota.Spot{Store: m.Store, Path: folder}) {
			q.Room = append(q.Room, keep.Room{At: m.At, Quota: use.Quota, Used: use.Used})
		}
	}
	return keep.Explain(e, q), nil
}

// AddAccount saves a new account with the public keys that a text holds: both, or neither. Password is
// plain text, "" for none; and so are the keys.
func (o *Office) AddAccount(ctx context.Context, who Actor, a *keep.Account, password keep.Secret, keys string) (*keep.Effective, error) {
	if a.State != keep.StateSuspended {
		a.State = keep.StateActive
	}
	a.Created = time.Now().UTC()
	a.Changed = a.Created
	var ready readyPassword
	if password != "" { // what is wrong with the rest is said before that is hashed
		_, err := o.check(ctx, a)
		if err == nil {
			err = mayHavePassword(a)
		}
		if err == nil {
			ready, err = o.readyPassword(ctx, a.Name, password)
		}
		if err != nil {
			return nil, err
		}
	}
	o.changing.Lock()
	defer o.changing.Unlock()
	e, err := o.check(ctx, a)
	if err == nil {
		err = ready.set(a)
	}
	if err != nil {
		return nil, err
	}
	var held []HeldKey
	if keys != "" {
		if held, err = o.readyAll(ctx, e, NewKeys{Text: keys}); err != nil {
			return nil, err
		}
	}
	err = o.changed(ctx, who, keep.AccountAdd, accounts, a.Name, nil, factsOf(a), func(ctx context.Context) error {
		if err := o.DB.AddAccount(ctx, a); err != nil {
			return err
		}
		return o.saveKeys(ctx, who, a, held)
	})
	if errors.Is(err, records.ErrTaken) {
		return nil, errNameTaken
	}
	if err != nil {
		return nil, err
	}
	return e, o.rearrange(ctx, e)
}

var errNameTaken = &keep.FieldError{Field: "name", Say: "the name is taken: choose another"}

// check checks an account with what its groups and the stores make of it.
func (o *Office) check(ctx context.Context, a *keep.Account) (*keep.Effective, error) {
	if err := a.Check(); err != nil {
		return nil, err
	}
	for i, name := range a.Groups {
		g, err := o.DB.Group(ctx, name)
		if err != nil {
			return nil, fieldOf(err, "groups", "no group is named "+name+": group list shows the ones there are")
		}
		a.Groups[i] = g.Name
	}
	if a.Source != "" {
		s, err := o.Source(ctx, a.Source)
		if err != nil {
			return nil, &keep.FieldError{Field: "source", Say: "no source is named " + a.Source + ": source list shows the ones there are"}
		}
		if a.Source = s.Name; a.Anonymous() {
			return nil, &keep.FieldError{Field: "source", Say: "everybody may use the account anonymous: nobody vouches for it"}
		}
		a.PasswordHash, a.MustChange = "", false
	}
	if err := o.checkFactor(ctx, a.Settings); err != nil {
		return nil, err
	}
	if err := o.checkStores(ctx, a.Mounts); err != nil {
		return nil, err
	}
	return o.DB.Resolve(ctx, a)
}

// fieldOf says what a missing record means for a field.
func fieldOf(err error, field, say string) error {
	if errors.Is(err, records.ErrNotFound) {
		return &keep.FieldError{Field: field, Say: say}
	}
	return err
}

func (o *Office) checkStores(ctx context.Context, mounts []keep.Mount) error {
	stores, err := o.DB.Stores(ctx)
	if err != nil {
		return err
	}
	for _, m := range mounts {
		if m.Check != nil {
			r, err := o.DB.Receiver(ctx, m.Check.Receiver)
			if err != nil || r.Account != "" || r.Kind != keep.WebCall {
				return fieldOf(cmp.Or(err, records.ErrNotFound), "mounts", "no receiver of web calls is named "+m.Check.Receiver+": receiver list shows the ones there are")
			}
		}
		if !slices.ContainsFunc(stores, func(s keep.Store) bool { return s.Name == m.Store }) {
			return &keep.FieldError{Field: "mounts", Say: "no store is named " + m.Store + ": store list shows the ones there are"}
		}
	}
	return nil
}

// readyPassword is a password that an account is to have; the zero one leaves what it has.
type readyPassword struct{ hash keep.Secret }

// readyPassword checks a password, in plain text, and hashes it. That takes long: no change waits for it.
func (o *Office) readyPassword(ctx context.Context, account string, password keep.Secret) (p readyPassword, err error) {
	if password == "" {
		return p, nil
	}
	if err := passwords.Check(password, account); err != nil {
		return p, err
	}
	p.hash, err = o.Hasher.Hash(ctx, password)
	return p, err
}

// mayHavePassword refuses one to accounts that have none here.
func mayHavePassword(a *keep.Account) error {
	if a.Source != "" {
		return &keep.FieldError{Field: "password", Say: "the password of the account is not kept here: " + a.Source + " has it (source own keeps one here)"}
	}
	if a.Anonymous() {
		return &keep.FieldError{Field: "password", Say: "everybody may use the account anonymous: it has no password"}
	}
	return nil
}

// set gives it to an account.
func (p readyPassword) set(a *keep.Account) error {
	if p.hash == "" {
		return nil
	}
	a.PasswordHash = p.hash
	return mayHavePassword(a)
}

// SetAccount changes an account: edit changes a copy, which is checked, saved
// and put in force. Password is plain text, "" to leave it.
func (o *Office) SetAccount(ctx context.Context, who Actor, name string, password keep.Secret, edit func(*keep.Account) error) (*keep.Effective, error) {
	return o.setAccount(ctx, who, name, keep.AccountSet, password, edit)
}

func (o *Office) setAccount(ctx context.Context, who Actor, name string, action keep.Action, password keep.Secret, edit func(*keep.Account) error) (*keep.Effective, error) {
	var ready readyPassword
	if password != "" {
		a, err := o.DB.Account(ctx, name)
		if err == nil {
			err = edit(a) // what is wrong with the rest is said before that is hashed
		}
		if err == nil {
			err = mayHavePassword(a)
		}
		if err == nil {
			ready, err = o.readyPassword(ctx, a.Name, password)
		}
		if err != nil {
			return nil, missing(err, name)
		}
	}
	o.changing.Lock()
	defer o.changing.Unlock()
	a, err := o.DB.Account(ctx, name)
	if err != nil {
		return nil, missing(err, name)
	}
	before := factsOf(a)
	if err := edit(a); err != nil {
		return nil, err
	}
	e, err := o.check(ctx, a)
	if err != nil {
		return nil, err
	}
	if err := ready.set(a); err != nil {
		return nil, err
	}
	a.Changed = time.Now().UTC()
	after := factsOf(a)
	if password != "" {
		after.Password = "changed"
	}
	if err := o.changed(ctx, who, action, accounts, a.Name, before, after, func(ctx context.Context) error { return o.DB.SaveAccount(ctx, a) }); err != nil {
		return nil, missing(err, name)
	}
	o.Live.Renew(e)
	return e, o.rearrange(ctx, e)
}

// Suspend keeps an account from signing in and ends its sessions; Resume lets it in again.
func (o *Office) Suspend(ctx context.Context, who Actor, name string) (*keep.Effective, error) {
	return o.setState(ctx, who, name, keep.StateSuspended, keep.AccountSuspend)
}

// Resume lets a suspended account sign in again.
func (o *Office) Resume(ctx context.Context, who Actor, name string) (*keep.Effective, error) {
	return o.setState(ctx, who, name, keep.StateActive, keep.AccountResume)
}

func (o *Office) setState(ctx context.Context, who Actor, name string, state keep.State, action keep.Action) (*keep.Effective, error) {
	return o.setAccount(ctx, who, name, action, "", func(a *keep.Account) error {
		a.State = state
		return nil
	})
}

// CloneAccount makes a new account like another: with its groups, settings,
// mounts and grants, but neither its password nor its keys.
func (o *Office) CloneAccount(ctx context.Context, who Actor, from, name string, password keep.Secret) (*keep.Effective, error) {
	model, err := o.DB.Account(ctx, from)
	if err != nil {
		return nil, missing(err, from)
	}
	return o.AddAccount(ctx, who, &keep.Account{Name: name, Note: model.Note, MustChange: model.MustChange && password != "", Groups: model.Groups, Settings: model.Settings,
		Mounts: model.Mounts, Grants: model.Grants}, password, "")
}

// DeleteAccount removes an account and ends its sessions. Its files stay.
func (o *Office) DeleteAccount(ctx context.Context, who Actor, name string) error {
	o.changing.Lock()
	defer o.changing.Unlock()
	a, err := o.DB.Account(ctx, name)
	if err != nil {
		return missing(err, name)
	}
	if err := o.changed(ctx, who, keep.AccountDelete, accounts, a.Name, factsOf(a), nil, func(ctx context.Context) error {
		return errors.Join(o.DB.DeleteAccount(ctx, a.ID), o.forgetOwnNotices(ctx, a.Name))
	}); err != nil {
		return missing(err, name)
	}
	o.Live.EndAll(a.Name, keep.Refuse(keep.AccountChanged, "the account was deleted"))
	return errors.Join(o.vacate(ctx, a.Name), o.Teller.Arrange(ctx))
}

// maxReason bounds what an operator may say to a client, bytes: it goes into one line
// of a reply.
const maxReason = 200

// EndSession ends one live session; reason, if there is one, is told to its client.
func (o *Office) EndSession(who Actor, id, reason string) error {
	why, err := becauseOf("an operator ended the session", reason)
	if err != nil {
		return err
	}
	if !o.Traffic.End(id, why) {
		return keep.Refuse(keep.NotFound, "no such session: it may have ended meanwhile")
	}
	return o.record(who, keep.SessionEnd, id, reason)
}

// EndTransfer ends one running transfer and leaves its session alone.
func (o *Office) EndTransfer(who Actor, id, reason string) error {
	why, err := becauseOf("an operator ended the transfer", reason)
	if err != nil {
		return err
	}
	ended, ok := o.Traffic.EndTransfer(id, why)
	if !ok {
		return keep.Refuse(keep.NotFound, "no such transfer runs: it may have ended meanwhile")
	}
	return o.record(who, keep.TransferEnd, id, fmt.Sprintf("%s of %s by %s; %s", ended.Action, ended.Path, ended.Account, reason))
}

// becauseOf is what a client is told when an operator ends something.
func becauseOf(say, reason string) (*keep.Fault, error) {
	if reason != "" {
		if len(reason) > maxReason || strings.ContainsFunc(reason, unicode.IsControl) {
			return nil, &keep.FieldError{Field: "reason", Say: fmt.Sprintf("it holds control characters or is longer than %d bytes", maxReason)}
		}
		say += ": " + reason
	}
	return keep.Refuse(keep.EndedByOperator, say), nil
}
