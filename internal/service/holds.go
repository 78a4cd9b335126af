package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/tree"
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
	settled bool      // it gets its name just now, or is removed
	asked   bool      // its receiver is asked just now
	turn    int       // changes with each write, so that an answer is about what was asked
	next    time.Time // when it is asked
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
	mine := &hold{Held: one}
	h.put(mine)
	h.mu.Unlock()
	if err := h.db.SaveHeld(context.Background(), one); err != nil {
		h.mu.Lock()
		h.forget(mine)
		h.mu.Unlock()
		return err
	}
	return nil
}

var errSettling = keep.Refuse(keep.InUse, "the file has been checked and gets its name just now: try again")

func (h *holds) Write(id string) (done func(whole bool, size int64, hash string) error, err error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	one := h.byID[id]
	if one == nil || one.settled {
		return nil, errSettling
	}
	one.writers++
	one.turn++
	one.State = keep.HeldComing
	return func(whole bool, size int64, hash string) error {
		h.mu.Lock()
		one.writers--
		one.turn++
		if whole && one.writers == 0 {
			one.State, one.Came, one.Size, one.Hash, one.next = keep.HeldWaiting, time.Now().UTC(), size, hash, time.Time{}
		}
		now := one.Held
		h.mu.Unlock()
		err := h.db.SaveHeld(context.Background(), now)
		h.stir()
		return err
	}, nil
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
	case one.settled || one.writers > 0 || turn >= 0 && one.turn != turn:
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

func (h *holds) Move(id string, folder quota.Spot, name, to string, do func() error) error {
	one, done, err := h.settle(id, -1)
	if err != nil {
		return err
	}
	defer done(false)
	moved := one.Held
	moved.Folder, moved.Name, moved.Path = folder.Path, name, to
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
	one.Folder, one.Name, one.Path = moved.Folder, moved.Name, moved.Path
	h.place[at(&one.Held)] = id
	h.mu.Unlock()
	return h.db.SaveHeld(context.Background(), moved)
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

const (
	// asking bounds what is asked of one receiver at the same time.
	asking = 4
	// checkPause is the shortest time until a receiver is asked again that gave no answer, mostCheckPause the longest.
	checkPause, mostCheckPause = time.Second, time.Minute
)

// check asks for held uploads, until the service stops.
func (s *Service) check(ctx context.Context) {
	var working sync.WaitGroup
	defer working.Wait()
	tick := time.NewTicker(checkPause)
	defer tick.Stop()
	for {
		for _, id := range s.holds.due(time.Now()) {
			working.Go(func() {
				err := s.checkOne(ctx, id)
				if err != nil && ctx.Err() == nil {
					s.log.Error("a held upload could not be checked", "id", id, "cause", err)
				}
				s.holds.asked(id, err)
			})
		}
		select {
		case <-ctx.Done():
			return
		case <-s.holds.wake:
		case <-tick.C:
		}
	}
}

// due are those that are to be asked for now; they count as asked.
func (h *holds) due(now time.Time) (ids []string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for id, one := range h.byID {
		left := one.State == keep.HeldComing && now.Sub(one.Began) > keep.HeldLife
		if one.writers == 0 && !one.settled && !one.asked && (left || one.State == keep.HeldWaiting) && !now.Before(one.next) && h.busy[one.Check.Receiver] < asking {
			one.asked = true
			h.busy[one.Check.Receiver]++
			ids = append(ids, id)
		}
	}
	return ids
}

// asked ends the asking for one. After an error it is tried again, but not at once.
func (h *holds) asked(id string, err error) {
	h.mu.Lock()
	if one := h.byID[id]; one != nil {
		if one.asked = false; err != nil {
			one.next = time.Now().Add(mostCheckPause)
		}
		if h.busy[one.Check.Receiver]--; h.busy[one.Check.Receiver] <= 0 {
			delete(h.busy, one.Check.Receiver)
		}
	}
	h.mu.Unlock()
	h.stir()
}

// checkOne asks for one, and does what the answer says.
func (s *Service) checkOne(ctx context.Context, id string) error {
	s.holds.mu.Lock()
	one := s.holds.byID[id]
	if one == nil {
		s.holds.mu.Unlock()
		return nil
	}
	h, turn := one.Held, one.turn
	s.holds.mu.Unlock()
	if h.State == keep.HeldComing {
		return s.decide(h.ID, turn, keep.CheckNo, keep.Interrupted, "the upload did not come whole, and nobody went on with it")
	}
	end := h.Came.Add(h.Check.Time())
	if most := time.Now().Add(h.Check.Time()); end.After(most) { // whatever the clock says
		end = most
	}
	asking, cancel := context.WithDeadline(ctx, time.Now().Add(max(time.Until(end)/2, keep.UsualCallTime.Duration()))) // another try must be left
	answer, said, err := s.ask(asking, &h)
	cancel()
	switch {
	case ctx.Err() != nil:
		return nil
	case err == nil:
		return s.decide(id, turn, answer, keep.Refused, said)
	}
	if !time.Now().Before(end) {
		answer = h.Check.Unanswered
		if answer == "" {
			answer = keep.CheckNo
		}
		return s.decide(id, turn, answer, keep.Failed, fmt.Sprintf("no answer from %s within %s, which counts as %s: %s", h.Check.Receiver, h.Check.Time(), answer, err))
	}
	s.holds.mu.Lock()
	defer s.holds.mu.Unlock()
	one.Tries++
	one.Said = err.Error()
	pause := min(checkPause<<min(one.Tries-1, 10), mostCheckPause)
	one.next = time.Now().Add(pause)
	if one.next.After(end) {
		one.next = end
	}
	return nil
}

// ask asks the receiver of a check.
func (s *Service) ask(ctx context.Context, h *keep.Held) (answer keep.CheckAnswer, said string, err error) {
	r, err := s.DB.Receiver(ctx, h.Check.Receiver)
	if errors.Is(err, records.ErrNotFound) {
		err = fmt.Errorf("there is no receiver %s", h.Check.Receiver)
	}
	if err != nil {
		return "", "", err
	}
	store, err := s.store(ctx, h.Store)
	if err != nil {
		return "", "", err
	}
	folder, err := s.Stores.Look(store, h.Folder)
	if err != nil {
		return "", "", err
	}
	defer folder.Close()
	return s.teller.Ask(ctx, r, h, func() (tree.HeldFile, error) { return tree.OpenHeldFile(folder, h.ID) })
}

func (s *Service) store(ctx context.Context, name string) (keep.Store, error) {
	stores, err := s.DB.Stores(ctx)
	for _, one := range stores {
		if one.Name == name {
			return one, nil
		}
	}
	return keep.Store{}, errors.Join(err, keep.NoSuch("store", name))
}

// decide lets a held upload in, or does with it what is done with those that are refused. How is the outcome of the record
// when it is refused; turn is that of which was asked, negative for whatever there is.
func (s *Service) decide(id string, turn int, answer keep.CheckAnswer, how keep.Outcome, said string) error {
	one, done, err := s.holds.settle(id, turn)
	if errors.Is(err, errSettling) {
		return nil // it has changed, and is asked for again
	}
	if err != nil {
		return err
	}
	h := one.Held
	if _, err := s.held(&h); err != nil { // the store is away, say
		done(false)
		return err
	}
	r := keep.AuditRecord{Account: h.Account, Address: h.Address, Protocol: h.Protocol, Encrypted: h.Encrypted, Session: h.Session, Action: keep.Checking, Path: h.Path, Target: h.Pass, Offset: h.Size}
	end, err := s.Trail.Announce(r, h.Store+":"+path.Join(h.Folder, h.Name))
	if err != nil {
		done(false)
		return err
	}
	began := time.Now()
	as, replaced, err := s.carryOut(&h, answer)
	r.Duration = time.Since(began)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		r.Outcome, r.Reason, r.Detail, err = keep.Failed, keep.NotFound, "it is not in the store any more", nil
	case err != nil:
		r.Outcome, r.Reason, r.Detail = keep.OutcomeOf(err)
		r.Outcome = keep.Failed
	case answer == keep.CheckYes:
		r.Outcome, r.Detail = keep.Done, strings.TrimPrefix("checked by "+h.Check.Receiver+"; "+said, "; ")
		if h.Hash != "" {
			r.Detail += "; SHA-256 " + h.Hash
		}
		if as != h.Name {
			r.Target = path.Join(path.Dir(h.Path), as)
		}
		if replaced {
			r.SetReplaced()
		}
	default:
		r.Outcome, r.Reason = how, keep.CheckRefused
		if r.Detail = said + "; it was deleted"; h.Refused != "" {
			r.Detail = said + "; it lies in " + h.Store + ":" + path.Join(h.Refused, as)
		}
	}
	if err == nil {
		err = s.DB.DropHeld(context.Background(), id)
	}
	done(err == nil)
	return errors.Join(err, end(r))
}

// held looks for a held upload where it should lie; that it isn't there is fine.
func (s *Service) held(h *keep.Held) (found fs.FileInfo, err error) {
	store, err := s.store(context.Background(), h.Store)
	if err != nil {
		return nil, err
	}
	folder, err := s.Stores.Look(store, h.Folder)
	if err == nil {
		defer folder.Close()
		found, err = tree.LookHeld(folder, h.ID)
	}
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return found, err
}

func (s *Service) carryOut(h *keep.Held, answer keep.CheckAnswer) (as string, replaced bool, err error) {
	store, err := s.store(context.Background(), h.Store)
	if err != nil {
		return "", false, err
	}
	from, err := s.Stores.Look(store, h.Folder)
	if err != nil {
		return "", false, err
	}
	defer from.Close()
	spot := quota.Spot{Store: h.Store, Path: h.Folder}
	if answer == keep.CheckYes {
		return tree.LetIn(s.ledger, h.ID, from, spot, from, spot, h.Name, h.Over, numbered)
	}
	if h.Refused == "" || h.State == keep.HeldComing {
		return "", false, tree.DropHeld(s.ledger, from, spot, h.ID)
	}
	to, made, err := s.Stores.Open(store, h.Refused)
	if err != nil {
		return "", false, err
	}
	defer to.Close()
	there := quota.Spot{Store: h.Store, Path: h.Refused}
	if err := s.ledger.Made(there, made); err != nil {
		return "", false, err
	}
	return tree.LetIn(s.ledger, h.ID, from, spot, to, there, h.Name, false, numbered)
}

// numbered is a name with a number in it, before what it ends with.
func numbered(name string, n int) string {
	end := path.Ext(name)
	if end == name {
		end = ""
	}
	return fmt.Sprintf("%s (%d)%s", strings.TrimSuffix(name, end), n, end)
}

// Held is what waits for its check. It implements [office.Live].
func (s *Service) Held() []keep.Held { return s.holds.all() }

// DecideHeld lets a held upload in or refuses it, for an operator. It implements [office.Live].
func (s *Service) DecideHeld(id string, answer keep.CheckAnswer, said string) error {
	return s.decide(id, -1, answer, keep.Refused, said)
}
