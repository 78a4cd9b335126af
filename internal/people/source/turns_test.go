package source

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Who signed in from there before is let in before the strangers that came earlier, and
// who leaves takes nobody's turn.
func TestKnownOnesHaveTheirTurnFirst(t *testing.T) {
	q := NewTurns(1, 0)
	require.NoError(t, q.Take(t.Context()))
	order := make(chan string, 9)
	waiting := 0
	wait := func(ctx context.Context, who string) {
		go func() {
			if q.Take(ctx) == nil {
				order <- who
			} else {
				order <- who + " left"
			}
		}()
		waiting++
		require.Eventually(t, func() bool {
			q.mu.Lock()
			defer q.mu.Unlock()
			return len(q.known)+len(q.other) == waiting
		}, time.Minute, time.Millisecond)
	}
	leaving, leave := context.WithCancel(t.Context())
	wait(leaving, "stranger")
	leave()
	assert.Equal(t, "stranger left", <-order)
	waiting--
	wait(t.Context(), "other stranger")
	wait(Known(t.Context()), "known")
	q.GiveBack()
	assert.Equal(t, "known", <-order)
	q.GiveBack()
	assert.Equal(t, "other stranger", <-order)
	q.GiveBack()
	assert.Equal(t, 1, q.free)
}

// Strangers who hold all that they may leave a turn to those who are known.
func TestSomeTurnsAreKeptForKnownOnes(t *testing.T) {
	q := NewTurns(4, 1)
	for range 3 {
		require.NoError(t, q.Take(t.Context()))
	}
	soon, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	assert.Error(t, q.Take(soon), "the last one is not for a stranger")
	require.NoError(t, q.Take(Known(t.Context())))
	q.GiveBack()
	assert.Error(t, q.Take(soon))
	q.GiveBack()
	require.NoError(t, q.Take(t.Context()))
}
