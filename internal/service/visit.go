package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"urbankeep/internal/desk/office"
	"urbankeep/internal/desk/rehearse"
	"urbankeep/internal/face/portal"
	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store/kinds"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/people/signin"
	"urbankeep/internal/protocol/ftp"
	"urbankeep/internal/protocol/sftp"
	"urbankeep/internal/protocol/wire"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
	"urbankeep/internal/watch/traffic"
)

// door lets connections of every protocol in, and knows who is inside.
type door struct {
	db       *records.DB
	trail    *audit.Trail
	accounts *signin.Accounts
	traffic  *traffic.Registry
	ledger   *quota.Ledger
	moves    tree.Moves
	heavy    tree.Heavy
	fresh    tree.Fresh
	shared   tree.Shared
	holds    *holds
	stores   *kinds.Stores
	open     tree.Opener // stores.Open
	hangs    tree.Hangings
	office   *office.Office
	log      *slog.Logger
	bins     bins
	passes   passes
	locking  sync.Mutex                 // while a lock of WebDAV is made
	begun    time.Time                  // when the service was opened
	gate     atomic.Pointer[keep.Rules] // of the service; nil: everybody

	mu         sync.Mutex
	inside     map[*visit]bool
	turnedAway map[string]time.Time // addresses, and when that was recorded
}

// ftpDoor, sftpDoor, portalDoor, passDoor and davDoor are the door as each protocol declares it.
type (
	ftpDoor    struct{ *door }
	sftpDoor   struct{ *door }
	portalDoor struct{ *door }
	passDoor   struct{ *door }
	davDoor    struct{ *door }
)

func (d ftpDoor) Arrive(remote net.Addr, p keep.Protocol, encrypted bool, cut func(*keep.Fault)) ftp.Visit {
	return d.arrive(remote, p, encrypted, cut)
}

func (d sftpDoor) Arrive(remote net.Addr, p keep.Protocol, encrypted bool, cut func(*keep.Fault)) sftp.Visit {
	return d.arrive(remote, p, encrypted, cut)
}

func (d portalDoor) Arrive(address string, encrypted bool, cut func(*keep.Fault)) portal.Visit {
	return portalVisit{d.arriveFrom(address, keep.Portal, encrypted, cut)}
}

func (d *door) arrive(remote net.Addr, p keep.Protocol, encrypted bool, cut func(*keep.Fault)) *visit {
	return d.arriveFrom(wire.IP(remote).String(), p, encrypted, cut)
}

func (d *door) arriveFrom(address string, p keep.Protocol, encrypted bool, cut func(*keep.Fault)) *visit {
	v := &visit{door: d, visitor: signin.Visitor{Address: address, Protocol: p, Encrypted: encrypted, Session: traffic.NewID()}}
	v.cut = func(why *keep.Fault) {
		cut(why)
		v.mu.Lock()
		defer v.mu.Unlock()
		if v.session != nil {
			v.session.Hurry()
			v.session.EndTransfers(why)
		}
	}
	return v
}

// visit is one connection, and the session on it once somebody signed in.
type visit struct {
	door   *door
	cut    func(*keep.Fault)
	client string
	cipher string

	mu      sync.Mutex // account, tree and session change together
	visitor signin.Visitor
	left    func(keep.AuditRecord) error // takes the record of the session's end
	account *keep.Effective
	tree    *tree.Tree
	session *traffic.Session
	key     string      // fingerprint of the key it signed in with, "" for none
	scope   *keep.Scope // it is held to; nil: all that the account may
	pass    *keep.Pass  // with which it came; nil: with what the account itself shows
	moved   *allowance  // what that pass may still move
	watch   *passWatch
	since   time.Time
	ends    *time.Timer // when the account's time does; nil: never

	attempt signin.Attempt // of the connection's goroutine
}

func (v *visit) MayBePlain(ctx context.Context, account string, byListener bool) bool {
	return v.door.accounts.MayBePlain(ctx, v.visitor, account, byListener)
}

func (v *visit) MustProtect() bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.account != nil && v.account.Encryption == keep.EncryptionRequired
}

// portalVisit is a visit as the portal declares it.
type portalVisit struct{ *visit }

func (v portalVisit) SignIn(ctx context.Context, ask portal.SignIn) (*tree.Tree, []keep.Secret, error) {
	v.attempt.Code, v.attempt.NewSecret = ask.Code, ask.NewSecret
	opened, err := v.visit.SignIn(ctx, ask.Account, ask.Password)
	return opened, v.attempt.Recovery, err
}

func (v portalVisit) ByToken(ctx context.Context, secret keep.Secret) (*tree.Tree, time.Time, error) {
	a, token, err := v.door.accounts.ByToken(ctx, v.visitor, &v.attempt, secret)
	if err != nil {
		return nil, time.Time{}, err
	}
	v.mu.Lock()
	v.scope = &token.Scope
	v.mu.Unlock()
	v.attempt.Key = token.ID // what is removed ends what it let in
	opened, err := v.enter(ctx, a)
	return opened, token.Expires, err
}

func (v *visit) SignIn(ctx context.Context, account string, password keep.Secret) (*tree.Tree, error) {
	a, err := v.door.accounts.Password(ctx, v.visitor, &v.attempt, account, password)
	if err != nil {
		return nil, err
	}
	return v.enter(ctx, a)
}

func (v *visit) Answer(ctx context.Context, account string, password keep.Secret, code string) (*tree.Tree, error) {
	v.attempt.Code = code
	defer func() { v.attempt.Code = "" }()
	return v.SignIn(ctx, account, password)
}

func (v *visit) Offer(ctx context.Context, account string, key ssh.PublicKey) bool {
	return v.door.accounts.Offer(ctx, v.visitor, &v.attempt, account, key)
}

func (v *visit) KeyProved(ctx context.Context, account string, key ssh.PublicKey) (*tree.Tree, error) {
	a, err := v.door.accounts.KeyProved(ctx, v.visitor, &v.attempt, account, key)
	if err != nil {
		return nil, err
	}
	return v.enter(ctx, a)
}

// enter opens the tree and puts the session in view.
func (v *visit) enter(ctx context.Context, a *keep.Effective) (*tree.Tree, error) {
	d := v.door
	unable := func(err error) (*tree.Tree, error) {
		var away *keep.Fault
		if errors.As(err, &away) && away.Reason == keep.StoreAway {
			if away.Cause != nil { // else it is being moved
				d.log.Error("a store is away", "account", a.Name, "cause", away.Cause)
			}
			return nil, away
		}
		d.log.Error("tree can't be opened", "account", a.Name, "cause", err)
		return nil, &keep.Fault{Reason: keep.Failure, Say: "the account's folders can't be opened; tell the administrator", Cause: err}
	}
	stores, err := d.db.Stores(ctx)
	if err != nil {
		return unable(err)
	}
	house := tree.House{Stores: stores, Ledger: d.ledger, Trail: d.trail, Moves: &d.moves, Heavy: &d.heavy, Open: d.open, Shared: &d.shared, Holds: d.holds, Hangs: d.hangs, Fresh: &d.fresh, Power: d.trail.Power}
	rehearsal := v.attempt.Rehearsal
	if rehearsal != nil {
		house = d.scratch(stores, rehearse.Scratch(rehearsal.Folder))
	}
	if err := v.room(); err != nil {
		return nil, err
	}
	left, err := d.accounts.Enter(v.visitor, a.Name)
	if err != nil {
		return nil, err
	}
	session := d.traffic.Open(traffic.SessionInfo{ID: v.visitor.Session, Account: a.Name, Address: v.visitor.Address, Protocol: v.visitor.Protocol,
		Encrypted: v.visitor.Encrypted, Cipher: v.cipher, Client: v.client}, v.cut)
	opened, err := tree.Open(tree.Who{Account: a.Name, Address: v.visitor.Address, Protocol: v.visitor.Protocol, Encrypted: v.visitor.Encrypted,
		Session: v.visitor.Session, Pass: v.passID(), Rehearsal: rehearsal != nil}, a, house, v.watcher(session, a.Name))
	if err != nil {
		session.Close()
		d.accounts.Left(v.visitor, a.Name, time.Now(), keep.Refuse(keep.Failure, "the account's folders could not be opened"), left)
		return unable(err)
	}
	session.Limit(speedsOf(a))
	if !a.Furnished && len(a.Starters) > 0 && rehearsal == nil {
		if err := opened.Furnish(a.Starters); err != nil {
			d.log.Error("starter folders not made", "account", a.Name, "cause", err)
		} else if err := d.db.Furnished(ctx, a.ID); err != nil {
			d.log.Error("starter folders not noted", "account", a.Name, "cause", err)
		}
	}
	v.mu.Lock()
	v.account, v.tree, v.session, v.key, v.since, v.left = a, opened, session, v.attempt.Key, time.Now(), left
	v.watchEnd()
	v.mu.Unlock()
	d.mu.Lock()
	d.inside[v] = true
	d.mu.Unlock()
	d.recheck(ctx, v, a)
	return opened, nil
}

// room refuses a session where as many are open as may.
func (v *visit) room() error {
	limits := v.door.accounts.Guard.Limits()
	all, from := v.door.traffic.From(v.visitor.Address)
	switch {
	case all >= int(limits.Sessions):
		return v.door.accounts.Crowded(v.visitor, "the service has as many sessions as it may: try again later")
	case from >= int(limits.SessionsPerAddress):
		return v.door.accounts.Crowded(v.visitor, fmt.Sprintf("your address has as many sessions as it may, %d: end one first", limits.SessionsPerAddress))
	}
	return nil
}

// scratch is a house in which a rehearsal can break nothing.
func (d *door) scratch(stores []keep.Store, folder rehearse.Scratch) tree.House {
	stages := make([]keep.Store, len(stores))
	for i, s := range stores {
		stages[i] = keep.Store{Name: s.Name, Folder: folder.Store(s.Name)}
	}
	return tree.House{Stores: stages, Ledger: quota.Unlimited(), Trail: d.trail}
}

func speedsOf(a *keep.Effective) traffic.Speeds {
	return traffic.Speeds{Up: a.SpeedUp, Down: a.SpeedDown, SessionUp: a.SessionSpeedUp, SessionDown: a.SessionSpeedDown}
}

func (v *visit) ChangePassword(ctx context.Context, account string, old, wanted keep.Secret, code string) error {
	v.attempt.Code = code
	defer func() { v.attempt.Code = "" }()
	err := v.door.accounts.ChangePassword(ctx, v.visitor, &v.attempt, account, old, wanted)
	if err == nil {
		v.passwordChanged(keep.SignInName(account))
	}
	return err
}

var errNewPassword = keep.Refuse(keep.AccountChanged, "the password was changed")

// passwordChanged ends what the password before has let in, but what asks.
func (v *visit) passwordChanged(account string) {
	now, err := v.door.db.Holder(context.Background(), account)
	for _, other := range v.door.visits(account) {
		if other != v && other.endsWith(keep.PasswordByHolder) || err != nil {
			other.cut(errNewPassword)
			continue
		}
		other.mu.Lock()
		if other.account != nil {
			account := *other.account.Account
			account.PasswordHash = now.Account.PasswordHash
			effective := *other.account
			effective.Account, other.account = &account, &effective
		}
		other.mu.Unlock()
	}
}

// endsWith reports whether what let a session in ends with one of some changes.
func (v *visit) endsWith(changes ...keep.AccountChange) bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.pass == nil && slices.ContainsFunc(changes, func(c keep.AccountChange) bool { return keep.Ends[c].Sessions(v.key) })
}

const saySSOEnded = "the sign-in where you come from has ended: sign in again"

// watchEnd ends the session when the account's time does. The caller holds mu.
func (v *visit) watchEnd() {
	if v.ends != nil {
		v.ends.Stop()
		v.ends = nil
	}
	if v.account == nil {
		return
	}
	end, why := v.account.ValidUntil.Time, "the account's time has ended"
	if v.pass != nil && (end.IsZero() || v.pass.Expires.Before(end)) {
		end, why = v.pass.Expires, "this link has ended"
	}
	if until := v.attempt.Until; !until.IsZero() && (end.IsZero() || until.Before(end)) {
		end, why = until, saySSOEnded
	}
	if !end.IsZero() {
		v.ends = time.AfterFunc(time.Until(end), func() { v.cut(keep.Refuse(keep.AccountChanged, why)) })
	}
}

// endWhatHasEnded ends the sessions of accounts whose time has ended by the wall clock: a
// timer does not notice that the clock was set, or that the machine slept.
func (d *door) endWhatHasEnded() {
	d.mu.Lock()
	inside := slices.Collect(maps.Keys(d.inside))
	d.mu.Unlock()
	for _, v := range inside {
		v.mu.Lock()
		account, pass, until := v.account, v.pass, v.attempt.Until
		v.mu.Unlock()
		if account == nil {
			continue
		}
		if pass != nil && !time.Now().Before(pass.Expires) {
			v.cut(keep.Refuse(keep.AccountChanged, "this link has ended"))
		}
		if !until.IsZero() && !time.Now().Before(until) {
			v.cut(keep.Refuse(keep.AccountChanged, saySSOEnded))
		}
		if closed := account.Closed(time.Now()); closed != nil {
			v.cut(keep.Refuse(keep.AccountChanged, closed.Say))
		}
	}
}

// recheck closes the gap between reading the account and putting the session in
// view, in which it may have been suspended, deleted or changed.
func (d *door) recheck(ctx context.Context, v *visit, a *keep.Effective) {
	now, err := d.db.Holder(ctx, a.Name)
	switch {
	case err != nil || now.Account.ID != a.ID || now.Account.Closed(time.Now()) != nil:
		v.cut(keep.Refuse(keep.AccountChanged, "the account was suspended or deleted"))
	case a.MaxSessions > 0 && v.pass == nil && v.attempt.Rehearsal == nil && d.traffic.Own(a.Name) > int(a.MaxSessions): // two came at the same time
		v.cut(keep.Refuse(keep.TooManySessions, "the account has as many sessions as it may"))
	case now.Account != a:
		d.Renew(now.Account)
	}
}

func (v *visit) Secured(cipher string) {
	v.cipher, v.visitor.Encrypted = cipher, true
	if v.session != nil {
		v.session.Secured(cipher)
	}
}

func (v *visit) Named(client string) {
	v.client = client
	if v.session != nil {
		v.session.Named(client)
	}
}

func (v *visit) SignOut(why *keep.Fault) {
	v.door.mu.Lock()
	delete(v.door.inside, v)
	v.door.mu.Unlock()
	v.mu.Lock()
	account, session, since, left := v.account, v.session, v.since, v.left
	v.account, v.tree, v.session = nil, nil, nil
	v.watchEnd()
	v.visitor.Session = traffic.NewID() // a second sign-in on the connection is a session of its own
	visitor := v.visitor
	v.mu.Unlock()
	if session == nil {
		v.door.accounts.Abandon(visitor, &v.attempt)
	} else {
		session.Close()
		visitor.Session = session.ID()
		v.door.accounts.Left(visitor, account.Name, since, why, left)
	}
}

// Renew puts a changed account in force: grants at once, a changed set of mounts
// by ending the session. It implements [office.Live].
func (d *door) Renew(account *keep.Effective) {
	for _, v := range d.visits(account.Name) {
		if closed := account.Closed(time.Now()); closed != nil {
			if say := closed.Say; closed.Reason == keep.Suspended {
				v.cut(keep.Refuse(keep.AccountChanged, "the account was suspended"))
			} else {
				v.cut(keep.Refuse(keep.AccountChanged, say))
			}
			continue
		}
		switch {
		case v.pass != nil: // which has networks of its own
			v.mu.Lock()
			same := v.account != nil && reflect.DeepEqual(v.account.Grants, account.Grants) && reflect.DeepEqual(v.account.Mounts, account.Mounts)
			v.mu.Unlock()
			// What runs may be what is not given any more: whoever may go on comes again.
			if !same || v.pass.Allowed(account, time.Now()) != nil {
				v.cut(keep.Refuse(keep.AccountChanged, "what this link gives has changed: open it again"))
				continue
			}
		case !account.Admit(v.visitor.Address):
			v.cut(keep.Refuse(keep.AccountChanged, "the account may no longer be used from this address"))
			continue
		case v.visitor.Protocol.IsFTP() && !v.visitor.Encrypted && account.Encryption == keep.EncryptionRequired:
			v.cut(keep.Refuse(keep.AccountChanged, "the account may no longer be used without TLS"))
			continue
		case !account.MayEnter(v.visitor.Protocol):
			v.cut(keep.Refuse(keep.AccountChanged, "the account may no longer be used over this protocol"))
			continue
		}
		v.mu.Lock()
		var changes []keep.AccountChange
		if v.account != nil {
			changes = keep.ChangesOf(v.account.Account, account.Account)
		}
		v.mu.Unlock()
		if v.endsWith(changes...) {
			v.cut(errNewPassword)
			continue
		}
		v.mu.Lock()
		if v.account != nil && slices.EqualFunc(v.account.Mounts, account.Mounts, sameFolder) {
			v.tree.Renew(account.Within(v.scope))
			v.session.Limit(speedsOf(account))
			v.account = account
			v.watchEnd()
			v.mu.Unlock()
			continue
		}
		v.mu.Unlock()
		v.cut(keep.Refuse(keep.AccountChanged, "the account's folders were changed; sign in again"))
	}
}

// sameFolder reports whether a mount leads where it did.
func sameFolder(a, b keep.Mount) bool {
	return a.At == b.At && a.Store == b.Store && a.Folder == b.Folder
}

// EndAll ends the sessions of an account. It implements [office.Live].
func (d *door) EndAll(account string, why *keep.Fault) {
	for _, v := range d.visits(account) {
		v.cut(why)
	}
}

// EndKey ends the sessions of an account that were signed in with a key. It
// implements [office.Live].
func (d *door) EndKey(account, fingerprint string, why *keep.Fault) {
	d.endKey(account, fingerprint, nil, why)
}

// endKey is EndKey for all but one.
func (d *door) endKey(account, fingerprint string, but *visit, why *keep.Fault) {
	for _, v := range d.visits(account) {
		v.mu.Lock()
		by := v.key
		v.mu.Unlock()
		if by == fingerprint && v != but {
			v.cut(why)
		}
	}
}

func (d *door) visits(account string) []*visit {
	d.mu.Lock()
	defer d.mu.Unlock()
	var found []*visit
	for v := range d.inside {
		v.mu.Lock()
		if v.account != nil && strings.EqualFold(v.account.Name, account) {
			found = append(found, v)
		}
		v.mu.Unlock()
	}
	return found
}
