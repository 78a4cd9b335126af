package signin_test

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"log/slog"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/signin"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
)

func TestAPasswordMatchesItsOwnHashOnly(t *testing.T) {
	h := signin.NewHasher()
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
	h := signin.NewHasher()
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
	for _, good := range []keep.Secret{"ten quays!", "größer als zehn", keep.Secret(strings.Repeat("tide at noon;", 100)[:signin.MaxPassword])} {
		assert.NoError(t, signin.CheckPassword(good, "crew-harbour"))
	}
	for _, bad := range []keep.Secret{"", "nine char", "ten chars\n", "ten\x00chars", "password12", "crew-harbour", "qwertyuiop", keep.Secret(strings.Repeat("x", signin.MaxPassword+1))} {
		assert.Error(t, signin.CheckPassword(bad, "crew-harbour"))
	}
}

func TestGeneratedPasswordsAreStrongAndReadable(t *testing.T) {
	seen, letters := map[keep.Secret]bool{}, map[rune]int{}
	for range 500 {
		p := signin.Generate()
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

func accounts(t *testing.T) (*signin.Accounts, *records.DB) {
	db, err := records.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	log := slog.New(slog.DiscardHandler)
	trail, err := audit.Open(t.Context(), db, audit.Options{Log: log})
	require.NoError(t, err)
	t.Cleanup(func() { trail.Close(); db.Close() })
	require.NoError(t, db.SaveStore(t.Context(), keep.Store{Name: "files", Folder: "/x"}))
	return &signin.Accounts{DB: db, Trail: trail, Hasher: signin.NewHasher(), Repeats: &signin.Repeats{Note: trail.Note}, Guard: signin.NewGuard(keep.UsualLimits), Sessions: func(string) int { return 0 }, Log: log, Delay: 150 * time.Millisecond}, db
}

func newKey(t *testing.T) ssh.PublicKey {
	public, _, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	key, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	return key
}

func TestFailuresTakeAsLongAndSayTheSame(t *testing.T) {
	a, db := accounts(t)
	hash, err := a.Hasher.Hash(t.Context(), "the right password")
	require.NoError(t, err)
	for _, acct := range []*keep.Account{
		{Name: "ann", PasswordHash: hash},
		{Name: "resting", State: keep.StateSuspended, PasswordHash: hash},
		{Name: "nopassword"},
		{Name: "keyonly", Settings: keep.Settings{SignInBy: new(keep.ByKey)}, PasswordHash: hash},
		{Name: "keyfirst", Settings: keep.Settings{SignInBy: new(keep.ByBoth)}, PasswordHash: hash},
	} {
		acct.State = cmp.Or(acct.State, keep.StateActive)
		acct.Mounts = []keep.Mount{{At: "/", Store: "files", Folder: "x"}}
		require.NoError(t, db.AddAccount(t.Context(), acct))
	}
	v := signin.Visitor{Address: "192.0.2.1", Protocol: keep.FTPS, Session: "S"}
	said := map[string]bool{}
	for name, password := range map[string]keep.Secret{"ann": "a wrong password", "nobody": "the right password", "resting": "the right password", "nopassword": "",
		"keyonly": "the right password", "keyfirst": "the right password"} {
		started := time.Now()
		_, err := a.Password(t.Context(), v, &signin.Attempt{}, name, password)
		require.Error(t, err, name)
		assert.GreaterOrEqual(t, time.Since(started), a.Delay, name)
		assert.Equal(t, keep.BadCredentials, keep.FaultOf(err).Reason, name)
		said[err.Error()] = true
	}
	_, err = a.KeyProved(t.Context(), v, &signin.Attempt{}, "ann", newKey(t))
	said[err.Error()] = true
	assert.Len(t, said, 1)
	var attempt signin.Attempt
	in, err := a.Password(t.Context(), v, &attempt, "ANN", "the right password")
	require.NoError(t, err)
	assert.Equal(t, "ann", in.Name)
	a.Trail.Settle(t.Context())
	back, err := db.Account(t.Context(), "ann")
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now(), back.LastSignIn, time.Minute)
}

func TestAChangedAccountIsNotSignedInFromMemory(t *testing.T) {
	a, db := accounts(t)
	hash, err := a.Hasher.Hash(t.Context(), "the right password")
	require.NoError(t, err)
	acct := &keep.Account{Name: "ann", State: keep.StateActive, PasswordHash: hash, Mounts: []keep.Mount{{At: "/", Store: "files", Folder: "x"}}}
	require.NoError(t, db.AddAccount(t.Context(), acct))
	v := signin.Visitor{Address: "192.0.2.1", Protocol: keep.FTPS, Session: "S"}
	_, err = a.Password(t.Context(), v, &signin.Attempt{}, "ann", "the right password")
	require.NoError(t, err)
	public := newKey(t)
	key := keep.Key{AccountID: acct.ID, Fingerprint: ssh.FingerprintSHA256(public), Type: "ssh-ed25519", Blob: public.Marshal()}
	offer := func() bool { return a.Offer(t.Context(), v, &signin.Attempt{}, "ann", public) }
	assert.False(t, offer())
	require.NoError(t, db.AddKey(t.Context(), &key))
	assert.True(t, offer())
	var attempt signin.Attempt
	_, err = a.KeyProved(t.Context(), v, &attempt, "ann", public)
	require.NoError(t, err)
	a.Trail.Settle(t.Context())
	keys, err := db.Keys(t.Context(), acct.ID)
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now(), keys[0].LastUsed, time.Minute)
	require.NoError(t, db.DeleteKey(t.Context(), acct.ID, key.ID))
	assert.False(t, offer())
	acct.State = keep.StateSuspended
	require.NoError(t, db.SaveAccount(t.Context(), acct))
	_, err = a.Password(t.Context(), v, &signin.Attempt{}, "ann", "the right password")
	assert.Error(t, err)
	require.NoError(t, db.DeleteAccount(t.Context(), acct.ID))
	_, err = db.Holder(t.Context(), "ann")
	assert.ErrorIs(t, err, records.ErrNotFound)
}

// A key that is refused takes as long whatever the reason, and what was offered
// in vain is told to the operators, not to the client.
func TestRefusedOffersLookAlikeAndAreRecorded(t *testing.T) {
	a, db := accounts(t)
	known := newKey(t)
	for name, rules := range map[string]keep.Key{"plain": {}, "expired": {Expires: time.Now().Add(-time.Minute)},
		"elsewhere": {Networks: keep.Networks{netip.MustParsePrefix("198.51.100.0/24")}}, "authority": {Authority: true}} {
		acct := &keep.Account{Name: name, State: keep.StateActive, Mounts: []keep.Mount{{At: "/", Store: "files", Folder: "x"}}}
		require.NoError(t, db.AddAccount(t.Context(), acct))
		rules.AccountID, rules.Blob, rules.Fingerprint, rules.Type = acct.ID, known.Marshal(), ssh.FingerprintSHA256(known), known.Type()
		require.NoError(t, db.AddKey(t.Context(), &rules))
	}
	v := signin.Visitor{Address: "192.0.2.1", Protocol: keep.SFTP, Session: "S"}
	assert.True(t, a.Offer(t.Context(), v, &signin.Attempt{}, "PLAIN", known))
	for name, why := range map[string]string{"expired": "it expired on", "elsewhere": "it may be used from 198.51.100.0/24 only", "authority": "not one of the account's", "nobody": "no such account"} {
		started, attempt := time.Now(), signin.Attempt{}
		assert.False(t, a.Offer(t.Context(), v, &attempt, name, known), name)
		assert.GreaterOrEqual(t, time.Since(started), 25*time.Millisecond, name)
		a.Abandon(v, &attempt)
		assert.Eventually(t, func() bool {
			found, _, err := db.SearchAudit(t.Context(), records.AuditQuery{Account: name, Limit: 5})
			return err == nil && len(found) == 1 && found[0].Outcome == keep.Refused &&
				strings.Contains(found[0].Detail, ssh.FingerprintSHA256(known)+" ("+why)
		}, 5*time.Second, 10*time.Millisecond, "%s: %s", name, why)
	}
}
