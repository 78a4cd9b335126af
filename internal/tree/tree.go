package tree

import (
	"errors"
	"fmt"
	"os"
	"sync/atomic"
	"time"

	"urbankeep/internal/keep"
	"urbankeep/internal/store"
)

// Trail takes the records of what was done. See [audit.Trail].
type Trail interface {
	Record(keep.AuditRecord) error // returns once it is on disk
	Note(keep.AuditRecord)         // doesn't wait
}

// Watcher sees what a session does while it does it.
type Watcher interface {
	Doing(action keep.Action, path string)
	Begin(t Transfer) Meter
}

// Meter counts one running transfer.
type Meter interface {
	Moved(bytes int)
	End(outcome keep.Outcome, reason keep.Reason)
}

// Transfer is what is known when a transfer begins.
type Transfer struct {
	Action keep.Action // keep.Uploading or keep.Downloading
	Path   string
	Offset int64 // where in the file it begins, bytes
	Total  int64 // size it will have at its end, bytes; -1 when the client did not say
}

// Who is on whose behalf a tree acts: the fields that every record shares.
type Who struct {
	Account   string
	Address   string
	Protocol  keep.Protocol
	Encrypted bool
	Session   string
}

// Tree is the files of one session. Its methods may be called from several
// goroutines at once.
type Tree struct {
	who    Who
	policy atomic.Pointer[keep.Policy]
	mounts []*mounted // in the order of policy.Mounts
	trail  Trail
	watch  Watcher
}

type mounted struct {
	at   string
	root *os.Root
}

// Open opens an account's mounts, making folders that are missing.
func Open(who Who, account *keep.Account, stores []keep.Store, trail Trail, watch Watcher) (*Tree, error) {
	t := &Tree{who: who, trail: trail, watch: watch}
	policy := keep.NewPolicy(account)
	t.policy.Store(policy)
	for _, m := range policy.Mounts() {
		place, err := storeNamed(stores, m.Store)
		if err != nil {
			t.Close()
			return nil, err
		}
		root, err := store.Open(place, m.FolderFor(account.Name))
		if err != nil {
			t.Close()
			return nil, fmt.Errorf("mount %s: %w", m.At, err)
		}
		t.mounts = append(t.mounts, &mounted{m.At, root})
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
func (t *Tree) Renew(account *keep.Account) { t.policy.Store(keep.NewPolicy(account)) }

// Close lets go of the mounts.
func (t *Tree) Close() error {
	var errs []error
	for _, m := range t.mounts {
		errs = append(errs, m.root.Close())
	}
	return errors.Join(errs...)
}

// Account is the name of the account whose tree it is.
func (t *Tree) Account() string { return t.who.Account }

// May reports whether the account holds a right on a clean path.
func (t *Tree) May(right keep.Rights, at string) bool {
	return t.policy.Load().Decide(right, at).Allowed
}

// may decides a right on a clean path.
func (t *Tree) may(right keep.Rights, at string) error {
	return t.policy.Load().Decide(right, at).Fault()
}

// base fills in what the records of this session share.
func (t *Tree) base(action keep.Action, at string) keep.AuditRecord {
	return keep.AuditRecord{Account: t.who.Account, Address: t.who.Address, Protocol: t.who.Protocol, Encrypted: t.who.Encrypted,
		Session: t.who.Session, Action: action, Path: at}
}

// act runs one operation, records how it ended, and returns an error that is
// always a [keep.Fault]. What succeeded is acknowledged only once it is recorded.
func (t *Tree) act(action keep.Action, at, target string, do func() error) error {
	t.watch.Doing(action, at)
	started := time.Now()
	err := asFault(do())
	r := t.base(action, at)
	r.Target = target
	r.Duration = time.Since(started)
	r.Outcome, r.Reason, r.Detail = keep.OutcomeOf(err)
	if err != nil || action == keep.Listing {
		t.trail.Note(r)
		return err
	}
	return t.trail.Record(r)
}
