package signin

import (
	"context"
	"runtime"
	"slices"
	"sync"
)

// hashers is how many hashes are computed at once: half of the processors work for those who
// want in, whoever floods, and each takes 19 MiB.
func hashers() int { return max(1, runtime.GOMAXPROCS(0)/2) }

// turns has hashes wait for each other, those first that come from where somebody signed in before.
type turns struct {
	mu    sync.Mutex
	free  int
	known []chan struct{} // who waits: known ones, and strangers
	other []chan struct{}
}

type knownKey struct{}

// known says of a context that its sign-in comes from where somebody signed in before.
func known(ctx context.Context) context.Context { return context.WithValue(ctx, knownKey{}, true) }

func (t *turns) take(ctx context.Context) error {
	t.mu.Lock()
	if t.free > 0 {
		t.free--
		t.mu.Unlock()
		return nil
	}
	mine, queue := make(chan struct{}), &t.other
	if ctx.Value(knownKey{}) != nil {
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

func (t *turns) giveBack() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.next()
}

// next gives a turn to who waits; the caller holds t.mu.
func (t *turns) next() {
	for _, queue := range []*[]chan struct{}{&t.known, &t.other} {
		if len(*queue) > 0 {
			close((*queue)[0])
			*queue = (*queue)[1:]
			return
		}
	}
	t.free++
}
