package signin_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/passwords"
	"urbankeep/internal/people/signin"
)

func TestFailuresLockOutForATimeOnly(t *testing.T) {
	g := signin.NewGuard(keep.Limits{FailuresPerAddress: 3, FailuresPerAccount: 2, Within: 1, Lockout: 1})
	assert.Empty(t, g.Failed("ann", "192.0.2.1"))
	assert.Equal(t, "the account ann", g.Failed("ANN", "192.0.2.1"), "names are the same in any case")
	assert.True(t, g.Locked("Ann", "192.0.2.1"))
	assert.False(t, g.Locked("Ann", "192.0.2.2"), "one try is free from everywhere")
	_, locked := g.AddressLocked("192.0.2.1")
	assert.False(t, locked)
	assert.Equal(t, "the address 192.0.2.1", g.Failed("ben", "192.0.2.1"))
	until, locked := g.AddressLocked("192.0.2.1")
	assert.True(t, locked)
	assert.WithinDuration(t, time.Now(), until, 2*time.Second)
	assert.Len(t, g.Lockouts(), 2)
	require.Eventually(t, func() bool { return len(g.Lockouts()) == 0 }, 2*time.Minute, 10*time.Millisecond)
	assert.Empty(t, g.Failed("ann", "192.0.2.1"), "what lies back too far is not counted")
}

func TestWhereAnAccountSignsInItIsNotLockedOut(t *testing.T) {
	g := signin.NewGuard(keep.Limits{FailuresPerAddress: 100, FailuresPerAccount: 3, Within: 60, Lockout: 60})
	g.Succeeded("ann", "192.0.2.1", true)
	for n := range 10 {
		g.Failed("ann", fmt.Sprint("198.51.100.", n))
	}
	assert.True(t, g.Locked("ann", "198.51.100.1"))
	assert.False(t, g.Locked("ann", "203.0.113.1"), "one that has done nothing yet may try once")
	g.Failed("ann", "203.0.113.1")
	assert.True(t, g.Locked("ann", "203.0.113.1"))
	assert.False(t, g.Locked("ann", "192.0.2.1"))
	assert.False(t, g.Locked("ben", "198.51.100.1"))
	assert.True(t, g.Lift("Ann"))
	assert.False(t, g.Lift("ann"))
	assert.False(t, g.Locked("ann", "203.0.113.1"))
}

// A locked address stays locked, whoever else fails, and counts no more; IPv6 counts by
// networks; a restart forgets nothing of it.
func TestALockoutCannotBeWiped(t *testing.T) {
	limits := keep.Limits{FailuresPerAddress: 3, FailuresPerAccount: 1000, Within: 600, Lockout: 600}
	g := signin.NewGuard(limits)
	for n := range 5 {
		g.Failed("ann", fmt.Sprintf("2001:db8:1:2::%d", n+1))
	}
	g.Succeeded("ben", "192.0.2.9", true)
	for n := range 40_000 {
		g.Failed(fmt.Sprint("made-up-", n), fmt.Sprintf("10.%d.%d.%d", n>>16, n>>8&255, n&255))
	}
	_, locked := g.AddressLocked("2001:db8:1:2::ffff")
	assert.True(t, locked, "another address of the same network")
	kept, changed := g.Keep()
	require.True(t, changed)
	_, changed = g.Keep()
	assert.False(t, changed)
	again := signin.NewGuard(limits)
	again.Recall(kept)
	require.Len(t, again.Lockouts(), 1)
	assert.Equal(t, "2001:db8:1:2::/64", again.Lockouts()[0].Address)
	assert.Equal(t, 3, g.Lockouts()[0].Failed, "what is locked out is not counted on")
	assert.True(t, again.Familiar("192.0.2.9"))
	assert.True(t, again.Lift("2001:db8:1:2::/64"))

	// One that a wrong clock made last for long is over when the clock is right.
	wrong := signin.NewGuard(limits)
	wrong.Recall(signin.Kept{Lockouts: []signin.Lockout{{Address: "192.0.2.1", Until: time.Now().Add(24 * time.Hour)}}})
	_, locked = wrong.AddressLocked("192.0.2.1")
	assert.False(t, locked)
}

func TestARightPasswordIsCheapTheNextTime(t *testing.T) {
	h := passwords.NewHasher()
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

// What can't be guessed puts nobody on alert, and nobody's success forgives what somebody else was guessed at.
func TestNobodysSuccessForgivesGuessingAtOthers(t *testing.T) {
	g := signin.NewGuard(keep.Limits{FailuresPerAddress: 20, FailuresPerAccount: 10, Within: 600, Lockout: 600})
	for n := range 200 { // wrong tokens from anywhere
		g.Failed("", fmt.Sprint("198.51.100.", n))
	}
	assert.False(t, g.Locked("", "198.51.100.1"), "a right token from where a colleague has mistyped one")
	for n := range 30 {
		if strings.HasPrefix(g.Failed("ann", "192.0.2.66"), "the address") {
			assert.Equal(t, 19, n, "an account of one's own between the guesses changes nothing")
			break
		}
		g.Failed("mine", "192.0.2.67")
		g.Succeeded("mine", "192.0.2.66", true)
	}
	_, locked := g.AddressLocked("192.0.2.66")
	assert.True(t, locked)
	for range 19 {
		g.Failed("ben", "192.0.2.68")
	}
	g.Succeeded("ben", "192.0.2.68", true)
	assert.Empty(t, g.Failed("ben", "192.0.2.68"), "what one has mistyped oneself is forgotten")
	long := strings.Repeat("x", 1<<20)
	for n := range 1000 {
		g.Failed(long, fmt.Sprintf("10.1.%d.%d", n>>8, n&255))
	}
	kept, _ := g.Keep()
	text, err := json.Marshal(kept)
	require.NoError(t, err)
	assert.Less(t, len(text), 4096, "of a name that is too long nothing is kept")
}
