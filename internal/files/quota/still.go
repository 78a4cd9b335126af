package quota

import (
	"context"
	"maps"
	"path"
	"time"
)

// maxTouched bounds the paths that are noted; when there are more, everything is in doubt.
const maxTouched = 100_000

// Touched notes which paths of a store are changed, while something is copied out of it.
type Touched struct {
	l     *Ledger
	store string

	// guarded by l.mu:
	paths map[string]struct{}
	all   bool
}

// Touch begins to note the changes of a store; one of these goes on at a time.
func (l *Ledger) Touch(store string) *Touched {
	t := &Touched{l: l, store: store}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.touched = t
	return t
}

// End notes no more.
func (t *Touched) End() {
	t.l.mu.Lock()
	defer t.l.mu.Unlock()
	t.l.touched = nil
}

// add notes paths. The caller holds mu.
func (t *Touched) add(spots ...Spot) {
	if t == nil {
		return
	}
	for _, spot := range spots {
		if t.all = t.all || len(t.paths) >= maxTouched; spot.Store == t.store && !t.all {
			t.paths[spot.Path] = struct{}{}
		}
	}
}

// Take gives what was touched since it was asked last: whether that is so of a path, by itself or with a folder above it.
// What is being changed just now counts for this time and for the next.
func (t *Touched) Take() func(at string) bool {
	t.l.mu.Lock()
	defer t.l.mu.Unlock()
	paths, all := t.paths, t.all || t.paths == nil // before the first time nothing was noted
	t.paths, t.all = map[string]struct{}{}, false
	for c := range t.l.running {
		t.add(c.spots...)
	}
	for _, f := range t.l.open {
		t.add(f.spot)
	}
	now := maps.Clone(t.paths)
	return func(at string) bool {
		for ; !all; at = path.Dir(at) {
			if _, is := paths[at]; is {
				return true
			}
			if _, is := now[at]; is {
				return true
			}
			if at == "." {
				return false
			}
		}
		return true
	}
}

// Still has nothing change in a store until it is let go: who wants to is refused with why. It returns once the changes that had
// begun have ended, and the files that were open for writing are closed.
func (l *Ledger) Still(ctx context.Context, store string, why error) (letGo func(), err error) {
	l.mu.Lock()
	l.still[store] = why
	l.mu.Unlock()
	letGo = func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		delete(l.still, store)
	}
	for err = l.drain(ctx, Spot{Store: store, Path: "."}); err == nil; {
		l.mu.Lock()
		open := false
		for _, f := range l.open {
			open = open || f.spot.Store == store
		}
		l.mu.Unlock()
		if !open {
			return letGo, nil
		}
		select {
		case <-ctx.Done():
			err = ctx.Err()
		case <-time.After(10 * time.Millisecond):
		}
	}
	letGo()
	return nil, err
}
