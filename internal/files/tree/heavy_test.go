package tree

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
)

// Heavy work is done one piece after the other for an account; what goes wrong in it reaches
// whoever asked, and its place is free again.
func TestHeavyWorkHasItsPlaceAndGivesItBack(t *testing.T) {
	var heavy Heavy
	ann := &Tree{heavy: &heavy, who: Who{Account: "ann"}}
	wrong := errors.New("it went wrong")
	assert.Equal(t, wrong, ann.Heavy(t.Context(), func() error { return wrong }))
	assert.PanicsWithValue(t, "a fault", func() { _ = ann.Heavy(t.Context(), func() error { panic("a fault") }) })
	inside, end := make(chan bool), make(chan bool)
	first := make(chan error)
	go func() {
		first <- ann.Heavy(t.Context(), func() error { close(inside); <-end; return nil })
	}()
	<-inside
	leaving, leave := context.WithTimeout(t.Context(), 10*time.Millisecond)
	defer leave()
	var refused *keep.Fault
	require.ErrorAs(t, ann.Heavy(leaving, func() error { panic("two at once") }), &refused)
	assert.Equal(t, keep.ClientGone, refused.Reason)
	close(end)
	assert.NoError(t, <-first)
	assert.NoError(t, ann.Heavy(t.Context(), func() error { return nil }))
	assert.Empty(t, heavy.of)
}
