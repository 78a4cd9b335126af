package signin_test

import (
	"cmp"
	"crypto/ed25519"
	"log/slog"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/passwords"
	"urbankeep/internal/people/signin"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
)

func accounts(t *testing.T) (*signin.Accounts, *records.DB) {
	db, err := records.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	log := slog.New(slog.DiscardHandler)
	trail, err := audit.Open(t.Context(), db, audit.Options{Log: log})
	require.NoError(t, err)
	t.Cleanup(func() { trail.Close(); db.Close() })
	require.NoError(t, db.SaveStore(t.Context(), keep.Store{Name: "files", Folder: "/x"}))
	return &signin.Accounts{DB: db, Trail: trail, Hasher: passwords.NewHasher(), Repeats: &signin.Repeats{Note: trail.Note}, Guard: signin.NewGuard(keep.UsualLimits), Sessions: func(string) int { return 0 }, Log: log, Delay: 150 * time.Millisecond}, db
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
