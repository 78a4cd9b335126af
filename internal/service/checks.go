package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"sync"
	"time"

	"urbankeep/internal/files/quota"
	"urbankeep/internal/files/tree"
	"urbankeep/internal/keep"
	"urbankeep/internal/records"
)

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
		for id, receiver := range s.holds.due(time.Now()) {
			working.Go(func() {
				err := s.checkOne(ctx, id)
				if err != nil && ctx.Err() == nil {
					s.log.Error("a held upload could not be checked", "id", id, "cause", err)
				}
				s.holds.asked(id, receiver, err)
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
	if h.Decided.Answer != "" { // and the end of the process, or a failure, came in between
		return s.decide(h.ID, turn, h.Decided.Answer, h.Decided.How, h.Decided.Said)
	}
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
	resumed := one.Decided.Answer == answer
	if !resumed {
		s.holds.mu.Lock()
		one.Decided = keep.Decision{Answer: answer, How: how, Said: said}
		s.holds.mu.Unlock()
		if err := s.holds.save(one); err != nil {
			done(false)
			return errors.Join(err, end(failed(r, err)))
		}
	}
	as, replaced, err := s.carryOut(&h, answer)
	r.Duration = time.Since(began)
	switch {
	case errors.Is(err, fs.ErrNotExist) && resumed && answer == keep.CheckYes:
		r.Outcome, r.Detail, err = keep.Done, "checked by "+h.Check.Receiver+"; it got its name before the service ended", nil
	case errors.Is(err, fs.ErrNotExist) && resumed:
		r.Outcome, r.Reason, r.Detail, err = how, keep.CheckRefused, said+"; it was put away before the service ended", nil
	case errors.Is(err, fs.ErrNotExist):
		r.Outcome, r.Reason, r.Detail, err = keep.Failed, keep.NotFound, "it is not in the store any more", nil
	case err != nil:
		r.Outcome, r.Reason, r.Detail = keep.OutcomeOf(err)
		r.Outcome = keep.Failed
	case answer == keep.CheckYes:
		r.Outcome, r.Detail = keep.Done, strings.TrimPrefix("checked by "+h.Check.Receiver+"; "+said, "; ")
		if r.Hash, r.Replaced = h.Hash, replaced; as != h.Name {
			r.Target = path.Join(path.Dir(h.Path), as)
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

// failed is a record of what has failed.
func failed(r keep.AuditRecord, err error) keep.AuditRecord {
	_, r.Reason, r.Detail = keep.OutcomeOf(err)
	r.Outcome = keep.Failed
	return r
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

// MoveStore has what waits for its check in a store wait in another from now on. It implements [office.Live].
func (s *Service) MoveStore(ctx context.Context, from, to string, save func() error) error {
	return s.holds.moveStore(ctx, from, to, save)
}

// Held is what waits for its check. It implements [office.Live].
func (s *Service) Held() []keep.Held { return s.holds.all() }

// DecideHeld lets a held upload in or refuses it, for an operator. It implements [office.Live].
func (s *Service) DecideHeld(id string, answer keep.CheckAnswer, said string) error {
	return s.decide(id, -1, answer, keep.Refused, said)
}
