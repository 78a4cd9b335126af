package kinds

import (
	"errors"
	"io/fs"
	"os"
	"reflect"
	"time"

	"urbankeep/internal/files/store"
	"urbankeep/internal/keep"
)

const (
	// answerPatience is how long it is waited for a store before it counts as one that does not answer.
	answerPatience = 3 * time.Second
	// askedLately is how long what a store elsewhere said is believed.
	askedLately = 5 * time.Second
	// writePace is how often it is tried whether a store takes writes, writeElsewhere of one that is not on this machine.
	writePace, writeElsewhere = time.Minute, 10 * time.Minute
)

// Health is how a store is, as far as is known.
type Health struct {
	Away   error       // why it can't be used; nil: it can
	Closed error       // why nothing can be written to it, as the last try said; nil: it can
	Space  store.Space // zero where it is not known
}

// patient is a store whose health is followed: one goroutine at a time asks it, which may hang.
type patient struct {
	of     keep.Store
	known  Health
	asked  time.Time     // when that was
	tried  time.Time     // when a write was
	began  time.Time     // when it is asked just now
	answer chan struct{} // closed when it has answered; nil: it is not asked
}

// Health tells how a store is, within [answerPatience] whatever it does.
func (k *Stores) Health(s keep.Store) Health {
	k.mu.Lock()
	p := k.patients[s.Name]
	if p == nil || !sameStore(p.of, s) {
		p = &patient{of: s}
		k.patients[s.Name] = p
	}
	if p.answer == nil && (s.Local() || p.asked.IsZero() || time.Since(p.asked) > askedLately) {
		p.answer, p.began = make(chan struct{}), time.Now()
		go k.examine(p)
	}
	answer, left := p.answer, answerPatience-time.Since(p.began)
	k.mu.Unlock()
	if answer != nil {
		select {
		case <-answer:
		case <-time.After(max(0, left)):
		}
	}
	return k.Known(s)
}

// Known is Health that asks nobody.
func (k *Stores) Known(s keep.Store) Health {
	k.mu.Lock()
	defer k.mu.Unlock()
	p := k.patients[s.Name]
	if p == nil || !sameStore(p.of, s) {
		return Health{}
	}
	if err := p.hangs(); err != nil {
		return Health{Away: err}
	}
	return p.known
}

// Examine is Health that believes nothing from before.
func (k *Stores) Examine(s keep.Store) Health {
	k.mu.Lock()
	if p := k.patients[s.Name]; p != nil && p.answer == nil {
		p.asked, p.tried = time.Time{}, time.Time{}
	}
	k.mu.Unlock()
	return k.Health(s)
}

// sameStore reports whether the settings of a store lead to the same place.
func sameStore(a, b keep.Store) bool {
	return a.Kind == b.Kind && a.Folder == b.Folder && a.Mark == b.Mark && a.Secret == b.Secret && reflect.DeepEqual(a.Site, b.Site)
}

// hangs says that a store does not answer; the caller holds the lock.
func (p *patient) hangs() error {
	if p == nil || p.answer == nil || time.Since(p.began) < answerPatience {
		return nil
	}
	return store.Away(p.of, "it does not answer, since "+p.began.UTC().Format("2006-01-02 15:04:05 UTC"))
}

// hanging says of a store that it does not answer, so that nobody else waits for it.
func (k *Stores) hanging(s keep.Store) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if p := k.patients[s.Name]; p != nil && sameStore(p.of, s) {
		return p.hangs()
	}
	return nil
}

// examine asks a store.
func (k *Stores) examine(p *patient) {
	known, tried := Health{}, p.tried
	root, err := k.reach(p.of)
	if err == nil {
		known.Space, _ = store.SpaceOf(root)
		pace := writePace
		if !p.of.Local() {
			pace = writeElsewhere
		}
		if known.Closed = p.known.Closed; p.of.Mark != "" && time.Since(tried) > pace { // one without a mark is not in use yet
			known.Closed, tried = tryWrite(root), time.Now()
		}
		err = root.Close()
	}
	known.Away = err
	k.mu.Lock()
	defer k.mu.Unlock()
	p.known, p.asked, p.tried = known, time.Now(), tried
	close(p.answer)
	p.answer = nil
}

// tryWrite writes a few bytes into a store's own folder, and takes them away again.
func tryWrite(root store.Folder) (err error) {
	defer func() {
		if p := (*fs.PathError)(nil); errors.As(err, &p) {
			err = p.Err // the name means nothing to anybody
		}
	}()
	if err := root.Remove(store.ProbeName, false); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	f, err := root.Open(store.ProbeName, os.O_CREATE|os.O_EXCL|os.O_WRONLY, store.FileMode)
	if err != nil {
		return err
	}
	_, err = f.WriteAt([]byte("urbankeep looks whether this store takes writes\n"), 0)
	err = errors.Join(err, store.End(f, err == nil, false))
	if gone := root.Remove(store.ProbeName, false); err == nil && !errors.Is(gone, os.ErrNotExist) {
		err = gone
	}
	if err != nil {
		return err
	}
	return nil
}
