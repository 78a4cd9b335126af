package signin_test

import (
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/keep"
	"urbankeep/internal/people/passwords"
	"urbankeep/internal/people/signin"
	"urbankeep/internal/records"
	"urbankeep/internal/watch/audit"
)

// office is the operators of new records, ilse the owner among them.
func office(t *testing.T) (*signin.Operators, signin.Visitor) {
	db, err := records.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	trail, err := audit.Open(t.Context(), db, audit.Options{Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	t.Cleanup(func() {
		trail.Close()
		require.NoError(t, db.Close())
	})
	o := &signin.Operators{DB: db, Trail: trail, Hasher: passwords.NewHasher(), Repeats: &signin.Repeats{Note: trail.Note}, Guard: signin.NewGuard(keep.UsualLimits), Delay: time.Millisecond}
	v := signin.Visitor{Address: "192.0.2.7", Protocol: keep.Console, Encrypted: true}
	_, err = o.Add(t.Context(), v, "local", "ilse", keep.Owner, "harbour-master-1")
	require.NoError(t, err)
	return o, v
}

func reason(err error) keep.Reason { return keep.FaultOf(err).Reason }

func TestACodeWorksOnceAndOnlyNearItsTime(t *testing.T) {
	o, v := office(t)
	codes, err := signin.NewCodes("Urban Keep", "ilse")
	require.NoError(t, err)
	if left := 30 - time.Now().Unix()%30; left < 3 {
		time.Sleep(time.Duration(left) * time.Second) // not in the last moment of a step
	}
	at := func(when time.Duration) string {
		code, err := totp.GenerateCode(codes.Secret.Reveal(), time.Now().Add(when))
		require.NoError(t, err)
		return code
	}
	_, err = o.UseCodes(t.Context(), v, "ilse", codes.Secret, at(-5*time.Minute))
	assert.ErrorContains(t, err, "not what this secret gives now")
	_, err = o.UseCodes(t.Context(), v, "ilse", "JBSWY3DP", "000000")
	assert.Error(t, err, "a short secret is guessed")
	recovery, err := o.UseCodes(t.Context(), v, "ilse", codes.Secret, at(-30*time.Second))
	require.NoError(t, err)
	_, err = o.UseCodes(t.Context(), v, "ilse", codes.Secret, at(0))
	assert.Equal(t, keep.AlreadyThere, reason(err))

	signIn := func(code string) error {
		_, _, err := o.SignIn(t.Context(), v, "ilse", "harbour-master-1", code)
		return err
	}
	assert.Equal(t, keep.CodeNeeded, reason(signIn("")))
	assert.Equal(t, keep.BadCredentials, reason(signIn(at(5*time.Minute))))
	now := at(0)
	assert.NoError(t, signIn(now))
	assert.Equal(t, keep.BadCredentials, reason(signIn(now)), "whoever looked over the shoulder")
	assert.Equal(t, keep.BadCredentials, reason(signIn(at(-30*time.Second))), "an earlier one than the last that was used")
	spaced := recovery[0].Reveal()
	assert.NoError(t, signIn(spaced[:4]+" "+spaced[5:]), "however it is written")
	guess := func(from string) error {
		_, _, err := o.SignIn(t.Context(), signin.Visitor{Address: from, Protocol: keep.Console}, "ilse", "harbour-master-1", "000000")
		return err
	}
	looked := 0
	for n := range 300 {
		if reason(guess(fmt.Sprint("198.51.100.", n%250))) != keep.TooManyAttempts {
			looked++
		}
	}
	assert.LessOrEqual(t, looked, 6, "nobody tries them all, from wherever they come")
	assert.Equal(t, keep.TooManyAttempts, reason(guess("203.0.113.4")))
	o.Trail.Settle(t.Context())
	found, _, err := o.DB.SearchAudit(t.Context(), records.AuditQuery{Limit: 1000})
	require.NoError(t, err)
	assert.True(t, slices.ContainsFunc(found, func(r keep.AuditRecord) bool {
		return r.Action == keep.LockedOut && r.Operator == "ilse" && strings.Contains(r.Detail, "knows the password")
	}), "its owner is told")
	assert.NoError(t, signIn(recovery[1].Reveal()), "but where the owner has signed in before")
	o.Guard.Lift("ilse")
	assert.Equal(t, keep.BadCredentials, reason(guess("203.0.113.9")))
}

// Strangers keep no operator out, however many networks they come from.
func TestStrangersKeepNoOperatorOut(t *testing.T) {
	o, v := office(t)
	_, _, err := o.SignIn(t.Context(), v, "ilse", "harbour-master-1", "")
	require.NoError(t, err)
	for n := range 6000 {
		o.SetUp(t.Context(), signin.Visitor{Address: fmt.Sprintf("10.0.%d.%d", n>>8, n&255)}, "no such link", "x", "y")
	}
	_, _, err = o.SignIn(t.Context(), v, "ilse", "harbour-master-1", "")
	assert.NoError(t, err)
	_, _, err = o.SignIn(t.Context(), signin.Visitor{Address: "203.0.113.7"}, "ilse", "harbour-master-1", "")
	assert.NoError(t, err, "from another place, too")
	setup, err := o.NewSetup(t.Context())
	require.NoError(t, err)
	_, err = o.SetUp(t.Context(), signin.Visitor{Address: "203.0.113.8"}, setup, "kai", "harbour-master-2")
	assert.NotEqual(t, keep.TooManyAttempts, reason(err))
}

func TestCodesGoWithOneOfThem(t *testing.T) {
	o, v := office(t)
	codes, err := signin.NewCodes("Urban Keep", "ilse")
	require.NoError(t, err)
	code, err := totp.GenerateCode(codes.Secret.Reveal(), time.Now())
	require.NoError(t, err)
	recovery, err := o.UseCodes(t.Context(), v, "ilse", codes.Secret, code)
	require.NoError(t, err)
	assert.Error(t, o.DropOwnCodes(t.Context(), v, "ilse", code), "it was used")
	require.NoError(t, o.DropOwnCodes(t.Context(), v, "ilse", recovery[9].Reveal()))
	_, cookie, err := o.SignIn(t.Context(), v, "ilse", "harbour-master-1", "")
	require.NoError(t, err)
	who, _, err := o.ByCookie(t.Context(), v, cookie)
	require.NoError(t, err)
	assert.Equal(t, "ilse", who.Name)
	assert.False(t, who.LastSignIn.IsZero())
	open, err := o.Accesses(t.Context(), "")
	require.NoError(t, err)
	require.Len(t, open, 1)
	assert.Equal(t, "192.0.2.7", open[0].Address)
	require.NoError(t, o.EndAccess(t.Context(), v, "ilse", "", open[0].ID))
	_, _, err = o.ByCookie(t.Context(), v, cookie)
	assert.ErrorIs(t, err, records.ErrNotFound)
}

func TestASealedPasswordNeedsItsLink(t *testing.T) {
	o, v := office(t)
	hash, err := o.Hasher.Hash(t.Context(), "tide-table-low-7")
	require.NoError(t, err)
	a := &keep.Account{Name: "ann", State: keep.StateActive, PasswordHash: hash, Mounts: []keep.Mount{{At: "/", Store: "files", Folder: "ann"}}}
	require.NoError(t, o.DB.SaveStore(t.Context(), keep.Store{Name: "files", Folder: t.TempDir()}))
	require.NoError(t, o.DB.AddAccount(t.Context(), a))
	first, err := signin.NewPasswordLink(t.Context(), o.DB, "ann", "tide-table-low-7", time.Hour)
	require.NoError(t, err)
	second, err := signin.NewPasswordLink(t.Context(), o.DB, "ann", "tide-table-low-7", time.Hour)
	require.NoError(t, err)
	_, _, err = o.OpenPasswordLink(t.Context(), v, first)
	assert.Equal(t, keep.NotFound, reason(err), "a newer link ends the one before")
	_, password, err := o.OpenPasswordLink(t.Context(), v, second)
	require.NoError(t, err)
	assert.Equal(t, "tide-table-low-7", password.Reveal())
	late, err := signin.NewPasswordLink(t.Context(), o.DB, "ann", "tide-table-low-7", time.Millisecond)
	require.NoError(t, err)
	time.Sleep(5 * time.Millisecond)
	_, _, err = o.OpenPasswordLink(t.Context(), v, late)
	assert.Equal(t, keep.NotFound, reason(err))
}

// A change of an operator that is refused has changed nothing.
func TestAChangeOfAnOperatorIsWholeOrNothing(t *testing.T) {
	o, v := office(t)
	ilse, err := o.DB.Operator(t.Context(), "ilse")
	require.NoError(t, err)
	require.NoError(t, o.DB.AddPasskey(t.Context(), ilse.ID, keep.Passkey{ID: "one", Label: "blue", Host: "localhost", Credential: []byte("{}"), Created: time.Now()}))
	_, cookie, err := o.SignIn(t.Context(), v, "ilse", "harbour-master-1", "")
	require.NoError(t, err)
	lesser, password := keep.Manager, keep.Secret("harbour-master-77")
	_, err = o.Set(t.Context(), v, "local", "ilse", signin.Change{Role: &lesser, Password: &password, NoKeys: true})
	assert.Equal(t, keep.InUse, reason(err), "she is the last owner")
	keys, err := o.Passkeys(t.Context(), "ilse")
	require.NoError(t, err)
	assert.Len(t, keys, 1)
	_, _, err = o.ByCookie(t.Context(), v, cookie)
	assert.NoError(t, err)
	_, err = o.Set(t.Context(), v, "local", "ilse", signin.Change{Password: &password})
	require.NoError(t, err)
	keys, err = o.Passkeys(t.Context(), "ilse")
	require.NoError(t, err)
	assert.Empty(t, keys)
}
