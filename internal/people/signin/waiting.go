package signin

import (
	"sync"
	"time"

	"urbankeep/internal/keep"
)

const (
	// waitFor is how long a browser may take to come back.
	waitFor = 10 * time.Minute
	// maxWaiting and maxWaitingPerNetwork bound what browsers were asked and did not answer: the oldest goes.
	maxWaiting, maxWaitingPerNetwork = 2000, 100
)

var errOver = keep.Refuse(keep.BadRequest, "that took too long, or was answered already: begin again")

// waiting is what waits for browsers to come back. The zero value is ready.
type waiting[T any] struct {
	mu   sync.Mutex
	open map[string]waits[T]
}

type waits[T any] struct {
	it      T
	network string
	begun   time.Time
}

// add has something wait under an ID that nobody can guess, and gives that.
func (w *waiting[T]) add(v Visitor, id string, it T) string {
	one := waits[T]{it, network(v.Address), time.Now()}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.open == nil {
		w.open = map[string]waits[T]{}
	}
	var oldest, oldestHere string
	here := 0
	for id, other := range w.open {
		if time.Since(other.begun) > waitFor {
			delete(w.open, id)
			continue
		}
		if oldest == "" || other.begun.Before(w.open[oldest].begun) {
			oldest = id
		}
		if other.network == one.network {
			here++
			if oldestHere == "" || other.begun.Before(w.open[oldestHere].begun) {
				oldestHere = id
			}
		}
	}
	switch {
	case here >= maxWaitingPerNetwork:
		delete(w.open, oldestHere)
	case len(w.open) >= maxWaiting:
		delete(w.open, oldest)
	}
	w.open[id] = one
	return id
}

// take gives what waits under an ID, if it fits, and has it wait no more.
func (w *waiting[T]) take(id string, fits func(T) bool) (it T, ok bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	one, ok := w.open[id]
	if !ok || time.Since(one.begun) > waitFor || !fits(one.it) {
		return it, false
	}
	delete(w.open, id)
	return one.it, true
}

// look gives what waits under an ID, which goes on waiting.
func (w *waiting[T]) look(id string) (it T, ok bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	one, ok := w.open[id]
	return one.it, ok && time.Since(one.begun) <= waitFor
}

// change puts something else in the place of what waits under an ID.
func (w *waiting[T]) change(id string, edit func(*T)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if one, ok := w.open[id]; ok {
		edit(&one.it)
		w.open[id] = one
	}
}
