package tree

import (
	"sync"
	"time"

	"urbankeep/internal/keep"
)

// Moves keeps folders where they are while something is done in them: everything that
// looks for a place and acts on it shares it, and who moves a folder has it alone. So
// a path that was decided on is still the place's path when the deed is done.
type Moves struct {
	mu   sync.RWMutex
	door sync.RWMutex // who moves a folder closes it for moments, so that deeds come to an end
}

// deed begins something that moves no folder; the caller must call what it gives.
func (m *Moves) deed() (done func()) {
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
func (m *Moves) alone() (done func(), err error) {
	for range aloneTries {
		if m.tryAlone() {
			return m.mu.Unlock, nil
		}
		time.Sleep(alonePause)
	}
	return nil, keep.Refuse(keep.Failure, "too much is going on to move a folder just now: try again")
}

// tryAlone keeps new deeds out for a moment, in which those under way may end.
func (m *Moves) tryAlone() bool {
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
