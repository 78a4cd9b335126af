package passwords_test

import (
	"context"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/passwords"
)

func TestAPasswordMatchesItsOwnHashOnly(t *testing.T) {
	h := passwords.NewHasher()
	hash, err := h.Hash(t.Context(), "correct horse battery")
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(hash.Reveal(), "$argon2id$v=19$m=19456,t=2,p=1$"))
	again, err := h.Hash(t.Context(), "correct horse battery")
	require.NoError(t, err)
	assert.NotEqual(t, hash, again, "each hash has its own salt")
	for password, want := range map[keep.Secret]bool{"correct horse battery": true, "correct horse batterz": false, "": false, "CORRECT HORSE BATTERY": false} {
		ok, err := h.Matches(t.Context(), hash, password)
		require.NoError(t, err)
		assert.Equal(t, want, ok)
	}
	ok, err := h.Matches(t.Context(), "", "")
	require.NoError(t, err)
	assert.False(t, ok, "an account without a password is opened by none")
	for _, damaged := range []keep.Secret{"x", "$argon2id$v=19$m=1,t=1$a$b", "$argon2id$v=18$m=1,t=1,p=1$YQ$YQ", "$argon2id$v=19$m=8,t=1,p=1$!$!", "$2b$10$abc"} {
		_, err := h.Matches(t.Context(), damaged, "x")
		assert.Error(t, err, "%s", damaged.Reveal())
	}
}

func TestHashingWaitsItsTurnAndGivesUpWithItsClient(t *testing.T) {
	h := passwords.NewHasher()
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	var busy sync.WaitGroup
	for range 8 {
		busy.Go(func() { h.Hash(t.Context(), "a long enough password") })
	}
	refused := 0
	for range 20 {
		if _, err := h.Hash(ctx, "a long enough password"); err != nil {
			refused++
		}
	}
	busy.Wait()
	assert.NotZero(t, refused)
}

func TestPasswordRules(t *testing.T) {
	for _, good := range []keep.Secret{"ten quays!", "größer als zehn", keep.Secret(strings.Repeat("tide at noon;", 100)[:passwords.MaxPassword])} {
		assert.NoError(t, passwords.Check(good, "crew-harbour"))
	}
	for _, bad := range []keep.Secret{"", "nine char", "ten chars\n", "ten\x00chars", "password12", "crew-harbour", "qwertyuiop", keep.Secret(strings.Repeat("x", passwords.MaxPassword+1))} {
		assert.Error(t, passwords.Check(bad, "crew-harbour"))
	}
}

func TestGeneratedPasswordsAreStrongAndReadable(t *testing.T) {
	seen, letters := map[keep.Secret]bool{}, map[rune]int{}
	for range 500 {
		p := passwords.Generate()
		assert.Regexp(t, `^([a-z2-9]{5}-){3}[a-z2-9]{5}$`, p.Reveal())
		assert.NotContains(t, p.Reveal(), "l")
		assert.False(t, seen[p])
		seen[p] = true
		for _, letter := range strings.ReplaceAll(p.Reveal(), "-", "") {
			letters[letter]++
		}
	}
	assert.Len(t, letters, 31)
	for letter, n := range letters {
		assert.InDelta(t, 10000/31, n, 110, "%c", letter)
	}
}
