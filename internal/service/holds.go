package service

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

// holds are the uploads that wait for their check. It is what the tree knows as [tree.Holds].
type holds struct {
	db    *records.DB
	count atomic.Int64
	wake  chan struct{}

	mu    sync.Mutex
	byID  map[string]*hold
	moves string            // the store that is just left for another: nothing is done with what is held in it
	place map[heldAt]string // ids
	of    map[string]int    // how many each account has
	busy  map[string]int    // how many are asked of each receiver just now
}

type heldAt struct {
	folder      quota.Spot
	name, owner string
}

// hold is one of them, and what is done with it.
type hold struct {
	keep.Held
	writers int
	saving  sync.Mutex // its row is written; taken before mu
	settled bool       // it gets its name just now, or is removed
	asked   bool       // its receiver is asked just now
	turn    int        // changes with each write, so that an answer is about what was asked
	next    time.Time  // when it is asked
}

func openHolds(ctx context.Context, db *records.DB) (*holds, error) {
	h := &holds{db: db, wake: make(chan struct{}, 1), byID: map[string]*hold{}, place: map[heldAt]string{}, of: map[string]int{}, busy: map[string]int{}}
	found, err := db.Held(ctx)
	for _, one := range found {
		h.put(&hold{Held: one})
	}
	return h, err
}

func at(h *keep.Held) heldAt {
	return heldAt{quota.Spot{Store: h.Store, Path: h.Folder}, h.Name, h.Owner()}
}

// put takes one in; the caller holds mu, or is alone.
func (h *holds) put(one *hold) {
	h.byID[one.ID], h.place[at(&one.Held)] = one, one.ID
	h.of[one.Account]++
	h.count.Add(1)
}

func (h *holds) forget(one *hold) {
	delete(h.byID, one.ID)
	delete(h.place, at(&one.Held))
	if h.of[one.Account]--; h.of[one.Account] == 0 {
		delete(h.of, one.Account)
	}
	h.count.Add(-1)
}

func (h *holds) None() bool { return h.count.Load() == 0 }

func (h *holds) Find(folder quota.Spot, name, owner string) (string, bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	id, held := h.place[heldAt{folder, name, owner}]
	return id, held
}

func (h *holds) In(folder quota.Spot, owner string) map[string]string {
	h.mu.Lock()
	defer h.mu.Unlock()
	var found map[string]string
	for at, id := range h.place {
		if at.folder == folder && at.owner == owner {
			if found == nil {
				found = map[string]string{}
			}
			found[id] = at.name
		}
	}
	return found
}

func (h *holds) Below(folder quota.Spot) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	for at := range h.place {
		if at.folder.Store == folder.Store && (at.folder.Path == folder.Path || folder.Path == "." || strings.HasPrefix(at.folder.Path, folder.Path+"/")) {
			return true
		}
	}
	return false
}

func (h *holds) Begin(one keep.Held) error {
	one.Began = time.Now().UTC()
	h.mu.Lock()
	if h.of[one.Account] >= keep.MaxHeld {
		h.mu.Unlock()
		return keep.Refuse(keep.TooLarge, fmt.Sprintf("%d of your files wait for their check, as many as may: send it later", keep.MaxHeld))
	}
	if _, taken := h.place[at(&one)]; taken {
		h.mu.Unlock()
		return keep.Refuse(keep.InUse, "the file is being uploaded already")
	}
	if one.Store == h.moves {
		h.mu.Unlock()
		return errSettling
	}
	mine := &hold{Held: one}
	h.put(mine)
	h.mu.Unlock()
	if err := h.db.AddHeld(context.Background(), one); err != nil {
		h.mu.Lock()
		h.forget(mine)
		h.mu.Unlock()
		return err
	}
	return nil
}

var errSettling = keep.Refuse(keep.InUse, "the file has been checked and gets its name just now: try again")

func (h *holds) Write(id string, atOnce bool) (done func(came keep.HeldState, size int64, hash string) error, err error) {
	h.mu.Lock()
	one := h.byID[id]
	if one == nil || one.settled || one.Store == h.moves {
		h.mu.Unlock()
		return nil, errSettling
	}
	one.writers++
	one.turn++
	one.Decided = keep.Decision{} // which was about what is there now
	was := one.State
	spoils := !atOnce && one.State != keep.HeldComing // half of it may be what is there when the process ends
	if spoils {
		one.State = keep.HeldComing
	}
	h.mu.Unlock()
	if spoils {
		if err := h.save(one); err != nil {
			h.mu.Lock()
			defer h.mu.Unlock()
			one.writers--
			one.State = was
			return nil, err
		}
	}
	return func(came keep.HeldState, size int64, hash string) error {
		h.mu.Lock()
		one.writers--
		one.turn++
		switch {
		case one.writers > 0:
		case came == keep.HeldWaiting:
			one.State, one.Came, one.Size, one.Hash, one.next = came, time.Now().UTC(), size, hash, time.Time{}
		case came == "":
			one.State = was
		}
		h.mu.Unlock()
		err := h.save(one)
		h.stir()
		return err
	}, nil
}

// save writes the row of one as it is now: of two that come at once the later is what stays.
func (h *holds) save(one *hold) error {
	one.saving.Lock()
	defer one.saving.Unlock()
	h.mu.Lock()
	now := one.Held
	h.mu.Unlock()
	return h.db.SaveHeld(context.Background(), now)
}

func (h *holds) stir() {
	select {
	case h.wake <- struct{}{}:
	default:
	}
}

// settle has one alone: nobody writes to it meanwhile, and nobody else settles it.
func (h *holds) settle(id string, turn int) (one *hold, done func(gone bool), err error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	one = h.byID[id]
	switch {
	case one == nil:
		return nil, nil, keep.NoSuch("held file", id)
	case one.settled || one.Store == h.moves || one.writers > 0 || turn >= 0 && one.turn != turn:
		return nil, nil, errSettling
	}
	one.settled = true
	return one, func(gone bool) {
		h.mu.Lock()
		defer h.mu.Unlock()
		if one.settled = false; gone {
			h.forget(one)
		}
	}, nil
}

func (h *holds) Move(id string, folder quota.Spot, name, to string, over bool, do func() error) error {
	one, done, err := h.settle(id, -1)
	if err != nil {
		return err
	}
	defer done(false)
	moved := one.Held
	moved.Folder, moved.Name, moved.Path, moved.Over = folder.Path, name, to, over
	h.mu.Lock()
	_, taken := h.place[at(&moved)]
	h.mu.Unlock()
	if taken {
		return keep.Refuse(keep.AlreadyThere, "the name is taken")
	}
	if err := do(); err != nil {
		return err
	}
	h.mu.Lock()
	delete(h.place, at(&one.Held))
	one.Folder, one.Name, one.Path, one.Over = moved.Folder, moved.Name, moved.Path, moved.Over
	h.place[at(&one.Held)] = id
	h.mu.Unlock()
	return h.save(one)
}

// moveStore has what is held in a store be held in another once save, which says so in the records, is done.
func (h *holds) moveStore(ctx context.Context, from, to string, save func() error) error {
	var mine []*hold
	h.mu.Lock()
	h.moves = from
	defer func() {
		h.moves = ""
		h.mu.Unlock()
		h.stir()
	}()
	for busy := true; busy; {
		busy, mine = false, nil
		for _, one := range h.byID {
			if one.Store == from {
				mine, busy = append(mine, one), busy || one.settled || one.writers > 0
			}
		}
		if busy {
			h.mu.Unlock()
			time.Sleep(10 * time.Millisecond)
			h.mu.Lock()
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	h.mu.Unlock()
	for _, one := range mine {
		one.saving.Lock()
		defer one.saving.Unlock()
	}
	err := save()
	h.mu.Lock()
	for _, one := range mine {
		if err == nil && h.byID[one.ID] == one {
			h.forget(one)
			one.Store = to
			h.put(one)
		}
	}
	return err
}

func (h *holds) Drop(id string, do func() error) error {
	_, done, err := h.settle(id, -1)
	if err != nil {
		return err
	}
	if err := do(); err != nil {
		done(false)
		return err
	}
	done(true)
	return h.db.DropHeld(context.Background(), id)
}

// all are copies of what is held.
func (h *holds) all() []keep.Held {
	h.mu.Lock()
	defer h.mu.Unlock()
	found := make([]keep.Held, 0, len(h.byID))
	for _, one := range h.byID {
		found = append(found, one.Held)
	}
	return found
}

// due are those that are to be asked for now, with their receivers; they count as asked.
func (h *holds) due(now time.Time) map[string]string {
	h.mu.Lock()
	defer h.mu.Unlock()
	found := map[string]string{}
	for id, one := range h.byID {
		left := one.State == keep.HeldComing && now.Sub(one.Began) > keep.HeldLife || one.Decided.Answer != ""
		if one.writers == 0 && !one.settled && !one.asked && (left || one.State == keep.HeldWaiting) && !now.Before(one.next) && h.busy[one.Check.Receiver] < asking {
			one.asked = true
			h.busy[one.Check.Receiver]++
			found[id] = one.Check.Receiver
		}
	}
	return found
}

// asked ends the asking of a receiver for one, which may be decided and forgotten by then. After an error it is tried again, but not
// at once.
func (h *holds) asked(id, receiver string, err error) {
	h.mu.Lock()
	if h.busy[receiver]--; h.busy[receiver] <= 0 {
		delete(h.busy, receiver)
	}
	if one := h.byID[id]; one != nil {
		if one.asked = false; err != nil {
			one.next = time.Now().Add(mostCheckPause)
		}
	}
	h.mu.Unlock()
	h.stir()
}
