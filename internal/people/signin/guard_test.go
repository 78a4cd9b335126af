package signin_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/signin"
)

func TestFailuresLockOutForATimeOnly(t *testing.T) {
	g := &signin.Guard{Limits: signin.Limits{Address: 3, Account: 2, Within: 200 * time.Millisecond, Lockout: 300 * time.Millisecond}}
	assert.Empty(t, g.Failed("ann", "192.0.2.1"))
	assert.Equal(t, "the account ann", g.Failed("ANN", "192.0.2.1"), "names are the same in any case")
	assert.True(t, g.Locked("Ann", "192.0.2.2"))
	_, locked := g.AddressLocked("192.0.2.1")
	assert.False(t, locked)
	assert.Equal(t, "the address 192.0.2.1", g.Failed("ben", "192.0.2.1"))
	until, locked := g.AddressLocked("192.0.2.1")
	assert.True(t, locked)
	assert.WithinDuration(t, time.Now(), until, 400*time.Millisecond)
	assert.Len(t, g.Lockouts(), 2)
	require.Eventually(t, func() bool { return len(g.Lockouts()) == 0 }, 2*time.Minute, 10*time.Millisecond)
	assert.Empty(t, g.Failed("ann", "192.0.2.1"), "what lies back too far is not counted")
}

func TestWhereAnAccountSignsInItIsNotLockedOut(t *testing.T) {
	g := &signin.Guard{Limits: signin.Limits{Address: 100, Account: 3, Within: time.Minute, Lockout: time.Minute}}
	g.Succeeded("ann", "192.0.2.1")
	for n := range 10 {
		g.Failed("ann", fmt.Sprint("198.51.100.", n))
	}
	assert.True(t, g.Locked("ann", "198.51.100.1"))
	assert.True(t, g.Locked("ann", "203.0.113.1"), "also from an address that has done nothing yet")
	assert.False(t, g.Locked("ann", "192.0.2.1"))
	assert.False(t, g.Locked("ben", "198.51.100.1"))
	assert.True(t, g.Lift("Ann"))
	assert.False(t, g.Lift("ann"))
	assert.False(t, g.Locked("ann", "203.0.113.1"))
}

func TestARightPasswordIsCheapTheNextTime(t *testing.T) {
	h := signin.NewHasher()
	hash, err := h.Hash(t.Context(), "correct horse battery")
	require.NoError(t, err)
	matches := func(hash, password keep.Secret) bool {
		ok, err := h.Matches(t.Context(), hash, password)
		require.NoError(t, err)
		return ok
	}
	started := time.Now()
	require.True(t, matches(hash, "correct horse battery"))
	first := time.Since(started)
	started = time.Now()
	for range 20 {
		require.True(t, matches(hash, "correct horse battery"))
	}
	assert.Less(t, time.Since(started), first, "twenty times again take less than once")
	assert.False(t, matches(hash, "correct horse batterz"))
	other, err := h.Hash(t.Context(), "another password")
	require.NoError(t, err)
	assert.False(t, matches(other, "correct horse battery"), "a changed password counts at once")
}
