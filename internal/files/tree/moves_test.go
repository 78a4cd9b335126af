package tree

import (
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// However much is going on, a folder can be moved; nothing is done beside that; and a deed
// that waits for long holds up no other.
func TestWhoMovesAFolderIsAloneAndHoldsNobodyUp(t *testing.T) {
	var m moves
	var over, alone atomic.Bool
	var busy sync.WaitGroup
	for range 50 {
		busy.Go(func() {
			for !over.Load() {
				done := m.deed()
				if alone.Load() {
					t.Error("something is done beside a move")
				}
				time.Sleep(time.Millisecond)
				done()
			}
		})
	}
	for range 5 {
		done, err := m.alone()
		require.NoError(t, err)
		alone.Store(true)
		time.Sleep(time.Millisecond)
		alone.Store(false)
		done()
	}
	over.Store(true)
	busy.Wait()

	waiting := m.deed() // as for a folder to be counted
	refused := make(chan error, 1)
	go func() {
		_, err := m.alone()
		refused <- err
	}()
	deeds := 0
	for len(refused) == 0 {
		m.deed()()
		deeds++
	}
	waiting()
	assert.Error(t, <-refused)
	assert.Greater(t, deeds, 1000, "others went on meanwhile")
}
