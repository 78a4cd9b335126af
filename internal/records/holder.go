package records

import (
	"context"
	"sync"

	"urbankeep/internal/keep"
)

// Holder is an account with its keys: what a sign-in needs to know.
type Holder struct {
	Account *keep.Effective // LastSignIn may be out of date
	Keys    []keep.Key      // LastUsed may be out of date
}

// holders remembers what sign-ins have asked for until any account or key is
// changed. The data folder belongs to this process, so nobody changes it unseen.
type holders struct {
	mu      sync.Mutex
	changes uint64 // counts them, so that what was read before one is not kept after it
	byName  map[string]Holder
}

// maxHolders bounds the accounts that are remembered.
const maxHolders = 4096

func (h *holders) get(name string) (Holder, uint64, bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	found, ok := h.byName[name]
	return found, h.changes, ok
}

func (h *holders) put(name string, found Holder, changes uint64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if changes != h.changes {
		return
	}
	if len(h.byName) >= maxHolders || h.byName == nil {
		h.byName = map[string]Holder{}
	}
	h.byName[name] = found
}

func (h *holders) forget() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.changes++
	h.byName = nil
}

// Holder finds an account and its keys for a sign-in. The caller must not
// change what it points to.
func (db *DB) Holder(ctx context.Context, name string) (Holder, error) {
	found, changes, ok := db.holders.get(name)
	if ok {
		return found, nil
	}
	a, err := db.Account(ctx, name)
	if err != nil {
		return Holder{}, err
	}
	keys, err := db.Keys(ctx, a.ID)
	if err != nil {
		return Holder{}, err
	}
	e, err := db.Resolve(ctx, a)
	if err != nil {
		return Holder{}, err
	}
	found = Holder{e, keys}
	db.holders.put(name, found, changes)
	return found, nil
}
