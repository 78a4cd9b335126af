package tree

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"sync/atomic"
	"syscall"
	"time"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/store"
	"urbankeep/internal/files/store/kinds"
	"urbankeep/internal/keep"
)

// Trail takes the records of what is done. See [audit.Trail].
type Trail interface {
	// Announce says before it is done what is about to be done, at a place of a store. After an
	// error it must not be done. end is called once, with the record; when that is one of
	// something done, it returns once it is written.
	Announce(r keep.AuditRecord, place string) (end func(keep.AuditRecord) error, err error)
	Hold(r keep.AuditRecord) (end func(keep.AuditRecord) error, err error) // Announce for what changes nothing
	Note(r keep.AuditRecord)                                               // doesn't wait
}

// Watcher sees what a session does while it does it.
type Watcher interface {
	Doing(action keep.Action, path string)
	Begin(t Transfer) Meter
	Room() error // refuses one transfer too many
}

// Meter counts one running transfer, and bounds it.
type Meter interface {
	// Reserve asks for so many bytes before they move, and gives how many may; all or none, with whole. The error says why none
	// may any more. Release gives back what did not move.
	Reserve(bytes int64, whole bool) (may int64, err error)
	Release(bytes int64)
	Moved(bytes int) // counts what has
	Chunk() int      // how many bytes should be moved at once; 0: any number
	Pace(bytes int)  // waits until so many may be moved, or the session ends
	End(outcome keep.Outcome, reason keep.Reason)
}

// Transfer is what is known when a transfer begins.
type Transfer struct {
	Action keep.Action // keep.Uploading or keep.Downloading
	Path   string
	Offset int64             // where in the file it begins, bytes
	Total  int64             // size it will have at its end, bytes; -1 when the client did not say
	Stop   func(*keep.Fault) // ends it; it does not wait
}

// Who is on whose behalf a tree acts: the fields that every record shares.
type Who struct {
	Account   string
	Address   string
	Protocol  keep.Protocol
	Encrypted bool
	Session   string
	Pass      string // with which it came, by its number; "": none. It is the target of records that have no other
	Rehearsal bool   // every record says so
}

// Tree is the files of one session. Its methods may be called from several
// goroutines at once.
type Tree struct {
	who    Who
	policy *atomic.Pointer[keep.Policy]
	mounts []*mounted // in the order of policy.Mounts
	trail  Trail
	watch  Watcher
	ledger *quota.Ledger
	moves  *Moves
	heavy  *Heavy
	hangs  Hangings
	fresh  *Fresh      // nil: an empty file is an upload of nothing at once
	holds  Holds       // nil: nothing is held back
	power  func() bool // whether a record waits for the medium; nil: it may
	made   *made
	remark string // stands in the record of what was done; see [Tree.unseen]
}

type mounted struct {
	at     string
	folder store.Folder
	close  func() error
	spot   quota.Spot // the folder it is
	power  bool       // what is acknowledged must outlive the end of the power
	hashes bool       // the SHA-256 of whole uploads is recorded
	draws  bool       // small pictures may be made of what is in it

	unseen map[string]string // hidden names, by the path relative to the mount that stands for them in this tree
}

// House is what all trees share.
type House struct {
	Stores []keep.Store
	Ledger *quota.Ledger
	Trail  Trail
	Moves  *Moves      // nil: the tree has the stores for itself
	Heavy  *Heavy      // nil: the tree has the machine for itself
	Open   Opener      // nil: stores on disks only
	Shared *Shared     // nil: each tree has its mounts' folders open by itself
	Holds  Holds       // nil: nothing is held back
	Hangs  Hangings    // nil: nothing hangs on places
	Fresh  *Fresh      // nil: an empty file is an upload of nothing at once
	Power  func() bool // whether a record waits for the medium; nil: it may
}

// Opener opens the folder of a mount in a store, making what is missing; see [kinds.Stores.Open].
type Opener func(s keep.Store, folder string) (f store.Folder, made int, err error)

// Open opens an account's mounts, making folders that are missing.
func Open(who Who, account *keep.Effective, house House, watch Watcher) (*Tree, error) {
	t := &Tree{who: who, policy: new(atomic.Pointer[keep.Policy]), made: new(made), trail: house.Trail, watch: watch, ledger: house.Ledger, moves: house.Moves, holds: house.Holds, hangs: house.Hangs, fresh: house.Fresh, power: house.Power}
	if t.hangs == nil {
		t.hangs = nothing{}
	}
	if t.moves == nil {
		t.moves = new(Moves)
	}
	if t.heavy = house.Heavy; t.heavy == nil {
		t.heavy = new(Heavy)
	}
	if house.Open == nil {
		house.Open = kinds.New("", nil).Open
	}
	policy := keep.NewPolicy(account.Over(who.Protocol))
	t.policy.Store(policy)
	for _, m := range policy.Mounts() {
		place, err := storeNamed(house.Stores, m.Store)
		if err != nil {
			t.Close()
			return nil, err
		}
		spot := quota.Spot{Store: m.Store, Path: m.FolderFor(account.Name)}
		folder, made, err := house.Open(place, spot.Path)
		if err == nil {
			release := folder.Close
			if place.Local() {
				folder, release = house.Shared.take(spot, folder)
			}
			t.mounts = append(t.mounts, &mounted{m.At, folder, release, spot, place.Durability == keep.Power, place.Hashes, place.Draws(), nil})
			err = t.ledger.Made(spot, made)
		}
		if err != nil {
			t.Close()
			return nil, fmt.Errorf("mount %s: %w", m.At, err)
		}
	}
	return t, nil
}

func storeNamed(stores []keep.Store, name string) (keep.Store, error) {
	for _, s := range stores {
		if s.Name == name {
			return s, nil
		}
	}
	return keep.Store{}, fmt.Errorf("no store is named %q", name)
}

// Renew puts a changed account's grants in force for a running session.
func (t *Tree) Renew(account *keep.Effective) {
	t.policy.Store(keep.NewPolicy(account.Over(t.who.Protocol)))
}

// BinTime is how long what the account deletes can be put back; 0: it can't.
func (t *Tree) BinTime() time.Duration { return t.policy.Load().BinTime() }

// Idle is how long the session may do nothing, usual where the account has no
// limit of its own.
func (t *Tree) Idle(usual time.Duration) time.Duration {
	if own := t.policy.Load().Idle(); own > 0 {
		return own
	}
	return usual
}

// Furnish makes the account's starter folders where they are missing, whatever its
// rights.
func (t *Tree) Furnish(folders keep.Folders) error {
	var errs []error
	for _, at := range folders {
		errs = append(errs, t.furnish(at))
	}
	return errors.Join(errs...)
}

func (t *Tree) furnish(at string) error {
	defer t.deed(at)()
	m := t.mountOf(at)
	dir, owned := m.folder, false
	defer func() {
		if owned {
			dir.Close()
		}
	}()
	for _, way := range upTo(m.rel(at)) {
		name := keep.Unspell(path.Base(way))
		next, err := dir.Enter(name)
		if errors.Is(err, fs.ErrNotExist) {
			if err = t.ledger.Make(m.under(way), func() error { return dir.Mkdir(name, t.umask(at).Masks(0o777)) }); err == nil {
				next, err = dir.Enter(name)
			}
		}
		if err != nil {
			return fmt.Errorf("the starter folder %s: %w", at, err)
		}
		if owned {
			dir.Close()
		}
		dir, owned = next, true
	}
	return nil
}

// upTo gives the folders on the way to a relative path, and itself.
func upTo(rel string) []string {
	var ways []string
	for i, r := range rel {
		if r == '/' {
			ways = append(ways, rel[:i])
		}
	}
	if rel == "" {
		return nil
	}
	return append(ways, rel)
}

// Close lets go of the mounts.
func (t *Tree) Close() error {
	var errs []error
	for _, m := range t.mounts {
		errs = append(errs, m.close())
	}
	return errors.Join(errs...)
}

// Over gives the tree as it is over another protocol of the same session.
func (t *Tree) Over(p keep.Protocol) *Tree {
	other := *t
	other.who.Protocol = p
	return &other
}

// MayUse refuses a protocol that the account may not use now; what was to be done is recorded with that.
func (t *Tree) MayUse(action keep.Action, at string) error {
	if t.policy.Load().MayUse(t.who.Protocol) {
		return nil
	}
	err := keep.Refuse(keep.ProtocolRefused, "the account may not use "+string(t.who.Protocol))
	t.noteRefused(action, at, "", err)
	return err
}

// Account is the name of the account whose tree it is.
func (t *Tree) Account() string { return t.who.Account }

// May reports whether the account holds a right on a clean path.
func (t *Tree) May(right keep.Rights, at string) bool {
	return t.policy.Load().Decide(right, at, time.Now()).Allowed
}

// MayWhat tells of any right whether the account holds it on a clean path at this moment.
func (t *Tree) MayWhat(at string) func(keep.Rights) bool {
	policy, now := t.policy.Load(), time.Now()
	return func(right keep.Rights) bool { return policy.Decide(right, at, now).Allowed }
}

// may decides a right on a clean path.
func (t *Tree) may(right keep.Rights, at string) error {
	return t.policy.Load().Decide(right, at, time.Now()).Fault()
}

// base fills in what the records of this session share.
func (t *Tree) base(action keep.Action, at string) keep.AuditRecord {
	return keep.AuditRecord{Account: t.who.Account, Address: t.who.Address, Protocol: t.who.Protocol, Encrypted: t.who.Encrypted,
		Session: t.who.Session, Action: action, Path: at, Target: t.who.Pass, Facts: keep.Facts{Rehearsal: t.who.Rehearsal}}
}

// ended says in a record how it ended.
func (t *Tree) ended(r *keep.AuditRecord, err error) {
	if r.Outcome, r.Reason, r.Detail = keep.OutcomeOf(err); err == nil {
		r.Detail = t.remark
	}
}

// act runs one operation, records how it ended, and returns an error that is
// always a [keep.Fault]. What can't be recorded is not done, and what succeeded is
// acknowledged only once it is recorded.
func (t *Tree) act(action keep.Action, at, target string, do func() error) error {
	return t.actNoted(action, at, target, func(*keep.AuditRecord) {}, do)
}

// actNoted is act with something noted in the record of what was done.
func (t *Tree) actNoted(action keep.Action, at, target string, note func(*keep.AuditRecord), do func() error) error {
	t.watch.Doing(action, at)
	started := time.Now()
	r := t.base(action, at)
	r.Target = cmp.Or(target, r.Target)
	begin := func() (func(keep.AuditRecord) error, error) { return t.trail.Announce(r, "") }
	if action == keep.Listing {
		begin = func() (func(keep.AuditRecord) error, error) { return t.trail.Hold(r) }
	}
	end, err := begin()
	if err != nil {
		return err
	}
	err = asFault(do())
	r.Duration = time.Since(started)
	t.ended(&r, err)
	if err == nil {
		note(&r)
	}
	if unwritten := end(r); err == nil {
		err = unwritten
	}
	return err
}

// settled brings what was changed in a place's folder to the medium, where an
// acknowledgement promises that.
func (p *place) settled(err error) error {
	if err != nil || !p.m.power {
		return p.full(err)
	}
	return store.Sync(p.dir)
}

// full tells of a disk that is full what it is full of.
func (p *place) full(err error) error {
	if errors.Is(err, syscall.ENOSPC) {
		if space, known := store.SpaceOf(p.dir); known == nil && space.Files > 0 && space.FreeFiles == 0 {
			return &keep.Fault{Reason: keep.DiskFull, Say: "the disk can't hold more files, whatever their size", Cause: err}
		}
	}
	return err
}
