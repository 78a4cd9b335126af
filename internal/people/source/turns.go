package source

import (
	"context"
	"slices"
	"sync"
)

// Turns have those wait for each other who want what only so many may do at once: those first that come from where somebody
// signed in before, for whom some turns are kept.
type Turns struct {
	mu    sync.Mutex
	free  int
	kept  int             // of the free ones, for known ones only
	known []chan struct{} // who waits: known ones, and strangers
	other []chan struct{}
}

type knownKey struct{}

// NewTurns makes so many, of which some are kept for known ones.
func NewTurns(all, kept int) *Turns { return &Turns{free: all, kept: kept} }

// Known says of a context that its sign-in comes from where somebody signed in before.
func Known(ctx context.Context) context.Context { return context.WithValue(ctx, knownKey{}, true) }

// Take waits for a turn, or gives why ctx has ended.
func (t *Turns) Take(ctx context.Context) error {
	isKnown := ctx.Value(knownKey{}) != nil
	t.mu.Lock()
	if t.free > t.kept || isKnown && t.free > 0 {
		t.free--
		t.mu.Unlock()
		return nil
	}
	mine, queue := make(chan struct{}), &t.other
	if isKnown {
		queue = &t.known
	}
	*queue = append(*queue, mine)
	t.mu.Unlock()
	select {
	case <-mine:
		return nil
	case <-ctx.Done():
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if at := slices.Index(*queue, mine); at >= 0 {
		*queue = slices.Delete(*queue, at, at+1)
	} else {
		t.next() // it was this one's turn just now
	}
	return ctx.Err()
}

// GiveBack ends a turn.
func (t *Turns) GiveBack() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.next()
}

// next gives a turn to who waits; the caller holds t.mu.
func (t *Turns) next() {
	for n, queue := range []*[]chan struct{}{&t.known, &t.other} {
		if len(*queue) > 0 && (n == 0 || t.free >= t.kept) {
			close((*queue)[0])
			*queue = (*queue)[1:]
			return
		}
	}
	t.free++
}
