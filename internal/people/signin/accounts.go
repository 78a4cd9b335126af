package signin

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/passwords"
	"urbankeep/internal/people/source"
	"urbankeep/internal/people/source/book"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
)

// Visitor is where an attempt comes from.
type Visitor struct {
	Address   string // IP address
	Protocol  keep.Protocol
	Encrypted bool
	Session   string
}

// Accounts proves accounts.
type Accounts struct {
	DB     *records.DB
	Trail  *audit.Trail
	Hasher *passwords.Hasher
	Guard  *Guard
	// Sessions counts the live sessions of an account.
	Sessions func(account string) int
	Log      *slog.Logger
	Delay    time.Duration // of a failure, where that is not as the limits say; 0: it is
	Repeats  *Repeats
	Book     *book.Book // of the other sources; nil: there are none
	// SendCode mails a one-time code to an account's holder.
	SendCode func(ctx context.Context, account *keep.Effective, code string) error
	// Settle makes or changes the account of who a source vouches for; account is nil where there is none.
	Settle func(ctx context.Context, v Visitor, s keep.Source, name string, account *keep.Effective, p *source.Person) (*keep.Effective, error)

	rehearsals rehearsals
	ceremonies ceremonies
	challenges waiting[challenge]
	mailed     mailed
	links      links

	Journeys *Journeys // of browsers that sign in elsewhere
}

// errDenied is all that a client learns of a failed sign-in.
func errDenied(cause error) *keep.Fault {
	return &keep.Fault{Reason: keep.BadCredentials, Say: "the name, password or key is not right", Cause: cause}
}

// ErrPasswordToo says that the key was right and the account's password must follow.
var ErrPasswordToo = keep.Refuse(keep.PasswordToo, "the key is right; the password must follow")

// rehearse admits a rehearsal: whether the account may be used, and over this
// protocol, counts; from where, what it must show and how often do not.
func (a *Accounts) rehearse(ctx context.Context, v Visitor, t *Attempt, account *keep.Effective, started time.Time, r *Rehearsal) (*keep.Effective, error) {
	if closed := account.Closed(time.Now()); closed != nil {
		return nil, a.fail(ctx, v, account.Name, started, closed.Reason, "rehearsal: "+closed.Say, nil)
	}
	if a.Book != nil {
		if why := a.Book.RouteOf(account.Name).Asks(account.Account); why != nil {
			return nil, a.fail(ctx, v, account.Name, started, why.Reason, "rehearsal: "+why.Say, nil)
		}
	}
	if !account.MayUse(v.Protocol) {
		return nil, a.fail(ctx, v, account.Name, started, keep.ProtocolRefused, "rehearsal: the account may not sign in over "+string(v.Protocol), nil)
	}
	record := v.record(account.Name, keep.Rehearsing)
	record.Outcome, record.Detail = keep.Done, "a sign-in to try the account out, asked for by "+r.Operator
	if err := a.Trail.Record(record); err != nil {
		return nil, err
	}
	*t = Attempt{Rehearsal: r, Key: KeyOfRehearsal}
	return account, nil
}

// errMustChange goes to a client that has shown the right password.
var errMustChange = keep.Refuse(keep.MustChange, "the password must be changed first: sign in over SFTP or on the portal, which ask for a new one")

// ChangePassword gives an account the password that its holder chose, after it was
// told to. The error is a [*keep.FieldError] when the new one is not good enough.
func (a *Accounts) ChangePassword(ctx context.Context, v Visitor, t *Attempt, name string, old, wanted keep.Secret) error {
	started := time.Now()
	holder, err := a.DB.Holder(ctx, name)
	if err != nil || a.Guard.Locked(name, v.Address) || !holder.Account.MustChange || v.may(holder.Account) != nil {
		return errDenied(err)
	}
	if ok, err := a.Hasher.Matches(ctx, holder.Account.PasswordHash, old); !ok || err != nil {
		return errDenied(err)
	}
	if old == wanted {
		return &keep.FieldError{Field: "password", Say: "it is the one you have: choose another"}
	}
	if err := passwords.Check(wanted, holder.Account.Name); err != nil {
		return err
	}
	// The second factor, too, where there is one; who has none yet sets it up after this.
	if err := a.factor(ctx, v, t, holder.Account, started); err != nil && keep.FaultOf(err).Reason != keep.CodeUnset {
		return err
	}
	hash, err := a.Hasher.Hash(ctx, wanted)
	if err != nil {
		return err
	}
	r := v.record(holder.Account.Name, keep.PasswordChange)
	r.Outcome = keep.Done
	return a.Trail.Change(ctx, r, func(ctx context.Context) error { return a.newPassword(ctx, holder.Account.ID, hash) })
}

// Attempt is how far one connection has come with its sign-in. It belongs to the
// connection's goroutine; its zero value is a beginning.
type Attempt struct {
	Key       string     // fingerprint of the key that signed in, "" when none did
	Rehearsal *Rehearsal // it is one; nil for everybody else

	Code      string        // the second factor; "": none was given
	NewSecret keep.Secret   // of codes that are set up with this sign-in, of which Code is the first
	Recovery  []keep.Secret // what came of that

	Until time.Time // when what let it in ends; zero: it does not say

	name    string   // whom the offers were for
	refused []string // keys that were offered in vain, with why
	proved  *proved  // the key, where a password must follow
	factor  int64    // the account whose second factor was shown
}

// proved is a key that a client has shown to hold.
type proved struct {
	fingerprint, how string
	source           *book.Source   // that knows the key of who has no account yet; nil: there is one
	person           *source.Person // whose it is
}

// Password proves an account by its password. The error is always the same
// [keep.Fault]; the trail has the reason.
func (a *Accounts) Password(ctx context.Context, v Visitor, t *Attempt, name string, password keep.Secret) (*keep.Effective, error) {
	started := time.Now()
	ctx = a.Guard.known(ctx, v)
	name = keep.SignInName(name)
	holder, err := a.DB.Holder(ctx, name)
	if err == nil {
		if r := a.rehearsals.take(holder.Account.Name, password); r != nil {
			return a.rehearse(ctx, v, t, holder.Account, started, r)
		}
	}
	if err == nil && holder.Account.Anonymous() && v.Protocol.IsFTP() {
		return a.admit(ctx, v, t, holder.Account, started, "", "anonymous, as "+mail(password))
	}
	if err == nil && v.Protocol.IsFTP() {
		password, t.Code = a.behindPassword(ctx, v, holder.Account, password)
	}
	if err == nil || errors.Is(err, records.ErrNotFound) {
		route, why := a.askElsewhere(name, holder.Account)
		if why != nil {
			return nil, a.fail(ctx, v, name, started, why.Reason, why.Say, nil)
		}
		if route != nil {
			return a.byOthers(ctx, v, t, name, holder.Account, route, password, started)
		}
	}
	var hash keep.Secret
	useless := ""
	switch {
	case a.Guard.Claim(name, v.Address): // first: whether there is such an account makes no difference
		useless = lockedOut
	case err != nil:
		useless = "no such account"
	case holder.Account.SignInBy == keep.ByBoth && t.proved == nil:
		useless = "the account signs in with a key and a password, and no key was proved before"
	case !holder.Account.SignInBy.TakesPassword(t.proved != nil):
		useless = "the account signs in with a key only"
	case holder.Account.PasswordHash == "":
		useless = "the account has no password"
	default:
		hash = holder.Account.PasswordHash
	}
	var ok bool
	var hashErr error
	if useless != lockedOut { // which tells nobody more than they know
		ok, hashErr = a.Hasher.Matches(ctx, hash, password)
	}
	switch {
	case err != nil && !errors.Is(err, records.ErrNotFound), hashErr != nil:
		return nil, a.fail(ctx, v, name, started, keep.Failure, "the account could not be checked", errors.Join(err, hashErr))
	case useless == lockedOut:
		return nil, a.fail(ctx, v, name, started, keep.LockedOutNow, useless, nil)
	case useless != "":
		return nil, a.fail(ctx, v, name, started, keep.BadCredentials, useless, err)
	case !ok:
		return nil, a.fail(ctx, v, name, started, keep.BadCredentials, "wrong password", nil)
	}
	a.Guard.Proved(name, v.Address)
	if err := a.second(ctx, v, t, holder.Account, started); err != nil {
		return nil, err
	}
	account := a.renewHash(ctx, holder.Account, password)
	if t.proved != nil {
		return a.admitBy(ctx, v, t, account, started, t.proved.fingerprint, t.proved.how+" and password", true)
	}
	return a.admitBy(ctx, v, t, account, started, "", "password", true)
}

// renewHash turns a hash that the account brought into one of ours, now that its password is known. It gives the account
// with that; that it can't be done now is no reason to keep its holder out.
func (a *Accounts) renewHash(ctx context.Context, account *keep.Effective, password keep.Secret) *keep.Effective {
	if !passwords.Brought(account.PasswordHash) {
		return account
	}
	hash, err := a.Hasher.Hash(ctx, password)
	if err == nil {
		err = a.DB.RenewHash(context.WithoutCancel(ctx), account.ID, account.PasswordHash, hash)
	}
	if err != nil {
		a.Log.Warn("a password hash that was brought stays as it is", "account", account.Name, "cause", err)
		return account
	}
	renewed := *account
	renewed.PasswordHash = hash
	return &renewed
}

// mail is what an anonymous guest gave in place of a password; RFC 1635, section 3.3,
// asks for an e-mail address, and clients that send something else send no secret.
func mail(given keep.Secret) string {
	text := given.Reveal()
	if !strings.Contains(text, "@") {
		return "somebody without an e-mail address"
	}
	return cut(text)
}

const lockedOut = "the account is locked out for this address after failed sign-ins"

// Enter keeps room for the record of a session's end, so that there will be one whatever
// happens to the trail. The session must give what it gets to [Accounts.Left].
func (a *Accounts) Enter(v Visitor, account string) (left func(keep.AuditRecord) error, err error) {
	r := v.record(account, keep.SignOut)
	return a.Trail.Hold(r)
}

// Left records the end of a session.
func (a *Accounts) Left(v Visitor, account string, since time.Time, why *keep.Fault, left func(keep.AuditRecord) error) {
	r := v.record(account, keep.SignOut)
	r.Duration, r.Outcome = time.Since(since), keep.Done
	if why != nil {
		r.Reason, r.Detail = why.Reason, why.Say
	}
	if err := left(r); err != nil {
		a.Log.Error("the end of a session is not in the trail", "account", account, "cause", err)
	}
}

// admit records a sign-in; the fingerprint of the key, if it was one, stands in the
// record as its target.
func (a *Accounts) admit(ctx context.Context, v Visitor, t *Attempt, account *keep.Effective, started time.Time, fingerprint, how string) (*keep.Effective, error) {
	return a.admitBy(ctx, v, t, account, started, fingerprint, how, false)
}

// may says why an account may not be used now, from there, over that; whoever proved it.
func (v *Visitor) may(account *keep.Effective) *keep.Fault {
	switch closed := account.Closed(time.Now()); {
	case closed != nil:
		return closed
	case !account.Admit(v.Address):
		return keep.Refuse(keep.NetworkRefused, "the account may not sign in from this address")
	case !account.MayEnter(v.Protocol):
		return keep.Refuse(keep.ProtocolRefused, "the account may not sign in over "+string(v.Protocol))
	}
	return nil
}

func (a *Accounts) admitBy(ctx context.Context, v Visitor, t *Attempt, account *keep.Effective, started time.Time, fingerprint, how string, password bool) (*keep.Effective, error) {
	if why := v.may(account); why != nil {
		return nil, a.fail(ctx, v, account.Name, started, why.Reason, why.Say, nil)
	}
	if password && account.MustChange {
		r := v.record(account.Name, keep.SignIn)
		r.Outcome, r.Reason, r.Detail = keep.Refused, errMustChange.Reason, errMustChange.Say
		a.Repeats.Refused(r)
		return nil, errMustChange
	}
	r := v.record(account.Name, keep.SignIn)
	r.Duration, r.Outcome, r.Target, r.Detail = time.Since(started), keep.Done, fingerprint, how
	if account.MaxSessions > 0 && a.Sessions(account.Name) >= int(account.MaxSessions) {
		fault := errFull(account)
		r := v.record(account.Name, keep.SignIn)
		r.Outcome, r.Reason, r.Detail = keep.Refused, fault.Reason, fault.Say
		a.Repeats.Refused(r)
		return nil, fault
	}
	if err := a.Trail.Record(r); err != nil {
		return nil, err
	}
	if !account.Anonymous() {
		a.Guard.Succeeded(account.Name, v.Address, true)
	}
	*t = Attempt{Key: fingerprint, Recovery: t.Recovery, factor: t.factor}
	return account, nil
}

// fail records why, waits, and says nothing of it.
func (a *Accounts) fail(ctx context.Context, v Visitor, name string, started time.Time, reason keep.Reason, detail string, cause error) error {
	if reason == keep.Failure {
		a.Log.Error("sign-in could not be checked", "account", name, "cause", cause)
	}
	r := v.record(name, keep.SignIn)
	r.Duration, r.Outcome, r.Reason, r.Detail = time.Since(started), keep.Refused, reason, detail
	unable := reason == keep.Failure || reason == keep.SourceAway // it was not found out
	if unable {
		r.Outcome = keep.Failed
	}
	a.Repeats.Refused(r)
	if !unable {
		a.count(v, name)
	}
	select {
	case <-time.After(a.delay() - time.Since(started)):
	case <-ctx.Done():
	}
	return errDenied(cause)
}

// delay is how long a failure takes at the least.
func (a *Accounts) delay() time.Duration { return cmp.Or(a.Delay, a.Guard.Limits().Delay.Duration()) }

// count counts a failed sign-in, and records the lockout that it led to.
func (a *Accounts) count(v Visitor, name string) { countFailure(a.Guard, a.Trail, v, name) }

func countFailure(g *Guard, trail *audit.Trail, v Visitor, target string) {
	if locked := g.Failed(target, v.Address); locked != "" {
		noteLockout(trail, v, target, locked+" is locked out for "+g.Limits().Lockout.Duration().String())
	}
}

func noteLockout(trail *audit.Trail, v Visitor, target, say string) {
	r := v.record(target, keep.LockedOut)
	if name, is := strings.CutPrefix(target, OperatorTarget("")); is {
		r.Account, r.Operator = "", name
	}
	r.Outcome, r.Detail = keep.Done, say
	trail.Note(r)
}

// tryCode counts a second factor before it is looked at; the error says that none is for a while.
func tryCode(g *Guard, trail *audit.Trail, v Visitor, target string) *keep.Fault {
	until, may, alert := g.TryCode(target, v.Address)
	if alert {
		noteLockout(trail, v, target, "somebody who knows the password tried too many wrong codes: the next one is looked at after "+g.wait(until)+", twice as long after each: change the password if it was not its holder")
	}
	if !may {
		return keep.Refuse(keep.TooManyAttempts, "there were too many wrong codes: wait "+g.wait(until)+", or sign in from where you did before")
	}
	return nil
}

// errFull says that an account has as many sessions as it may. Its client has
// proved who it is, and may know.
func errFull(account *keep.Effective) *keep.Fault {
	return keep.Refuse(keep.TooManySessions, fmt.Sprintf("the account has as many sessions as it may, %d: end one first", account.MaxSessions))
}

// Crowded records that there was no room for a session.
func (a *Accounts) Crowded(v Visitor, say string) *keep.Fault {
	fault := keep.Refuse(keep.TooManySessions, say)
	r := v.record("", keep.SignIn)
	r.Outcome, r.Reason, r.Detail = keep.Refused, fault.Reason, fault.Say
	a.Repeats.Refused(r)
	return fault
}

// MayBePlain reports whether an account may sign in without TLS, where its listener lets
// those that have no say of their own. An account that may where others may not is told
// from others by that, so it is one only to whom it would let in from there. No is recorded,
// and counts as a guess.
func (a *Accounts) MayBePlain(ctx context.Context, v Visitor, name string, byListener bool) bool {
	name = keep.SignInName(name)
	policy := keep.EncryptionByListener
	holder, err := a.DB.Holder(ctx, name)
	if err == nil {
		policy = holder.Account.Encryption
	}
	why := keep.Refuse(keep.NeedsEncryption, "it signs in over TLS only")
	switch {
	case a.Guard.Locked(name, v.Address):
		why = keep.Refuse(keep.LockedOutNow, lockedOut)
	case byListener && policy != keep.EncryptionRequired:
		return true
	case policy == keep.EncryptionOptional:
		if why = v.may(holder.Account); why == nil {
			return true
		}
	}
	r := v.record(name, keep.SignIn)
	r.Outcome, r.Reason, r.Detail = keep.Refused, why.Reason, why.Say
	a.Repeats.Refused(r)
	a.count(v, name)
	return false
}

// maxName bounds how much of a made-up account name one record takes.
const maxName = 128

func (v Visitor) record(account string, action keep.Action) keep.AuditRecord {
	return keep.AuditRecord{Account: cut(account), Address: v.Address, Protocol: v.Protocol, Encrypted: v.Encrypted, Session: v.Session, Action: action}
}
