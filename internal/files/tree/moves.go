package tree

import (
	"sync"
	"time"

	"urbankeep/internal/keep"
)

// Moves keeps folders where they are while something is done in them: everything that
// looks for a place and acts on it shares it, and who moves a folder has it alone. So
// a path that was decided on is still the place's path when the deed is done. Each store has
// its own: one that is slow holds nobody up in the others. Its zero value is ready.
type Moves struct {
	stores sync.Map // of *moves, by the store's name
}

func (m *Moves) of(store string) *moves {
	if known, there := m.stores.Load(store); there {
		return known.(*moves)
	}
	made, _ := m.stores.LoadOrStore(store, new(moves))
	return made.(*moves)
}

// Hold keeps folders of a store where they are until done: for what is done there without a tree.
func (m *Moves) Hold(store string) (done func()) { return m.of(store).deed() }

// deed begins something at a path that moves no folder; the caller must call what it gives.
func (t *Tree) deed(at string) (done func()) { return t.moves.of(t.mountOf(at).spot.Store).deed() }

// both gives the moves of the stores of two paths, in the order in which they are taken.
func (t *Tree) both(from, to string) []*moves {
	one, two := t.mountOf(from).spot.Store, t.mountOf(to).spot.Store
	if one == two {
		return []*moves{t.moves.of(one)}
	}
	return []*moves{t.moves.of(min(one, two)), t.moves.of(max(one, two))}
}

// deeds is deed at two paths.
func (t *Tree) deeds(from, to string) (done func()) {
	done = func() {}
	for _, m := range t.both(from, to) {
		before, mine := done, m.deed()
		done = func() { mine(); before() }
	}
	return done
}

// alone begins the move of a folder from one path to another.
func (t *Tree) alone(from, to string) (done func(), err error) {
	done = func() {}
	for _, m := range t.both(from, to) {
		mine, err := m.alone()
		if err != nil {
			done()
			return nil, err
		}
		before := done
		done = func() { mine(); before() }
	}
	return done, nil
}

// moves are those of one store.
type moves struct {
	mu   sync.RWMutex
	door sync.RWMutex // who moves a folder closes it for moments, so that deeds come to an end
}

// deed begins something that moves no folder; the caller must call what it gives.
func (m *moves) deed() (done func()) {
	m.door.RLock()
	m.door.RUnlock()
	m.mu.RLock()
	return m.mu.RUnlock
}

// How long who moves a folder tries to be alone, and how long others wait for that at a
// time: never for a deed that itself waits, as for a folder to be counted.
const (
	aloneTries = 100
	alonePause = 30 * time.Millisecond
	doorClosed = 20 * time.Millisecond
)

// alone begins the move of a folder.
func (m *moves) alone() (done func(), err error) {
	for range aloneTries {
		if m.tryAlone() {
			return m.mu.Unlock, nil
		}
		time.Sleep(alonePause)
	}
	return nil, keep.Refuse(keep.Failure, "too much is going on to move a folder just now: try again")
}

// tryAlone keeps new deeds out for a moment, in which those under way may end.
func (m *moves) tryAlone() bool {
	if m.mu.TryLock() {
		return true
	}
	m.door.Lock()
	defer m.door.Unlock()
	for end := time.Now().Add(doorClosed); time.Now().Before(end); time.Sleep(time.Millisecond) {
		if m.mu.TryLock() {
			return true
		}
	}
	return false
}
