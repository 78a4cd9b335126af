package signin

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
	q := turns{free: 1}
	require.NoError(t, q.take(t.Context()))
	order := make(chan string, 9)
	waiting := 0
	wait := func(ctx context.Context, who string) {
		go func() {
			if q.take(ctx) == nil {
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
	wait(known(t.Context()), "known")
	q.giveBack()
	assert.Equal(t, "known", <-order)
	q.giveBack()
	assert.Equal(t, "other stranger", <-order)
	q.giveBack()
	assert.Equal(t, 1, q.free)
}
