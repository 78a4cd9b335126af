package portal_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

func codeOf(t *testing.T, secret string, at time.Time) string {
	code, err := totp.GenerateCode(secret, at)
	require.NoError(t, err)
	return code
}

func (h *holder) post(path string, body any, want int, into any) api.Problem {
	h.t.Helper()
	status, text := h.do("POST", path, body)
	require.Equal(h.t, want, status, string(text))
	var p api.Problem
	if status >= 400 {
		require.NoError(h.t, json.Unmarshal(text, &p))
	} else if into != nil {
		require.NoError(h.t, json.Unmarshal(text, into))
	}
	return p
}

func TestHoldersChangeTheirOwnPasswordAndKeys(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	k.Account("bob")
	here, elsewhere := in(t, k, "ann"), in(t, k, "ann")
	var facts api.PortalAccount
	_, text := here.do("GET", "api/v1/account", nil)
	require.NoError(t, json.Unmarshal(text, &facts))
	assert.Len(t, facts.Sessions, 2)
	next := "tides come and go daily"
	assert.Equal(t, "now", here.post("api/v1/account/password", api.PortalOwnPassword{Now: "wrong", Next: next}, 422, nil).Field)
	assert.Equal(t, "password", here.post("api/v1/account/password", api.PortalOwnPassword{Now: testkit.Password, Next: "short"}, 422, nil).Field)
	here.post("api/v1/account/password", api.PortalOwnPassword{Now: testkit.Password, Next: next}, 204, nil)
	status, _ := elsewhere.do("GET", "api/v1/me", nil)
	assert.Equal(t, 401, status, "whoever had the old password is out")
	status, _ = newHolder(t, k).signIn("ann", next)
	assert.Equal(t, 200, status)

	// A key of one's own: not another's, not an authority, and only with the password.
	key := testkit.NewPair(t)
	public := string(testkit.OnDisk(t, key+".pub"))
	assert.Equal(t, "now", here.post("api/v1/account/keys", api.PortalKey{Key: public}, 422, nil).Field)
	assert.Equal(t, "key", here.post("api/v1/account/keys", api.PortalKey{Now: next, Key: "cert-authority " + public}, 422, nil).Field)
	assert.Equal(t, "key", here.post("api/v1/account/keys", api.PortalKey{Now: next, Key: string(testkit.OnDisk(t, key))}, 422, nil).Field, "a private key is refused")
	here.post("api/v1/account/keys", api.PortalKey{Now: next, Key: public, Label: "laptop"}, 204, nil)
	assert.True(t, k.SFTPWith("ann", key))
	bob := in(t, k, "bob")
	p := bob.post("api/v1/account/keys", api.PortalKey{Now: testkit.Password, Key: public}, 422, nil)
	assert.NotContains(t, p.Detail, "ann", "whose it is, is nobody else's business")
	_, text = here.do("GET", "api/v1/account", nil)
	require.NoError(t, json.Unmarshal(text, &facts))
	require.Len(t, facts.Keys, 1)
	status, _ = bob.do("DELETE", "api/v1/account/keys/1", nil)
	assert.Equal(t, 404, status)
	status, _ = here.do("DELETE", "api/v1/account/keys/1", nil)
	assert.Equal(t, 204, status)
	assert.False(t, k.SFTPWith("ann", key))

	// What happened is there to be read by its holder: theirs only.
	var records api.Page[api.AuditRecord]
	_, text = here.do("GET", "api/v1/account/records", nil)
	require.NoError(t, json.Unmarshal(text, &records))
	did := map[string]bool{}
	for _, r := range records.Items {
		assert.Equal(t, "ann", r.Account)
		did[string(r.Action)] = true
	}
	for _, action := range []string{"password-change", "key-add", "key-remove", "sign-in"} {
		assert.True(t, did[action], action)
	}
	_, text = here.do("GET", "api/v1/account/sheet", nil)
	assert.Contains(t, string(text), "sftp")

	// One of several sign-ins is ended.
	third := newHolder(t, k)
	third.signIn("ann", next)
	_, text = here.do("GET", "api/v1/account", nil)
	require.NoError(t, json.Unmarshal(text, &facts))
	for _, s := range facts.Sessions {
		if !s.This {
			status, _ = here.do("DELETE", "api/v1/account/sessions/"+s.ID, nil)
			assert.Equal(t, 204, status)
		}
	}
	status, _ = third.do("GET", "api/v1/me", nil)
	assert.Equal(t, 401, status)
}

func TestOneTimeCodesOfHolders(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	h := in(t, k, "ann")
	var codes api.Codes
	h.post("api/v1/account/codes/new", nil, 200, &codes)
	now := time.Now()
	assert.Equal(t, "code", h.post("api/v1/account/codes", api.PortalCodes{Now: testkit.Password, Secret: codes.Secret, Code: "000000"}, 422, nil).Field)
	assert.Equal(t, "now", h.post("api/v1/account/codes", api.PortalCodes{Now: "wrong", Secret: codes.Secret, Code: codeOf(t, codes.Secret, now)}, 422, nil).Field)
	var recovery api.Recovery
	h.post("api/v1/account/codes", api.PortalCodes{Now: testkit.Password, Secret: codes.Secret, Code: codeOf(t, codes.Secret, now)}, 200, &recovery)
	require.Len(t, recovery.Recovery, 10)

	enter := func(ask api.PortalSignIn, want int, into any) api.Problem {
		t.Helper()
		ask.Account, ask.Password = "ann", testkit.Password
		return newHolder(t, k).post("api/v1/sign-in", ask, want, into)
	}
	assert.Equal(t, "code-needed", enter(api.PortalSignIn{}, 403, nil).Reason)
	enter(api.PortalSignIn{Code: codeOf(t, codes.Secret, now)}, 401, nil) // it was used
	enter(api.PortalSignIn{Code: codeOf(t, codes.Secret, now.Add(30*time.Second))}, 200, nil)
	enter(api.PortalSignIn{Code: recovery.Recovery[0]}, 200, nil)
	enter(api.PortalSignIn{Code: recovery.Recovery[0]}, 401, nil)
	status, p := newHolder(t, k).signIn("ann", "wrong")
	assert.Equal(t, []any{401, "bad-credentials"}, []any{status, p.Reason}, "who has not the password hears nothing of codes")

	h.post("api/v1/account/codes/off", api.PortalNow{Now: testkit.Password}, 204, nil)
	enter(api.PortalSignIn{}, 200, nil)

	// Where they must be: set up with the first sign-in, and not to be switched off.
	k.Must(nil, "account", "set", "ann", "-second-factor", "required")
	assert.Equal(t, "code-unset", enter(api.PortalSignIn{}, 403, nil).Reason)
	stranger := newHolder(t, k)
	stranger.post("api/v1/codes", api.PortalNew{Account: "ann", Password: "wrong"}, 401, nil)
	stranger.post("api/v1/codes", api.PortalNew{Account: "ann", Password: testkit.Password}, 200, &codes)
	var holder api.PortalHolder
	enter(api.PortalSignIn{Secret: codes.Secret, Code: codeOf(t, codes.Secret, time.Now())}, 200, &holder)
	assert.Len(t, holder.Recovery, 10)
	stranger.post("api/v1/codes", api.PortalNew{Account: "ann", Password: testkit.Password}, 403, nil)
	enter(api.PortalSignIn{Secret: codes.Secret, Code: codeOf(t, codes.Secret, time.Now())}, 401, nil) // a second authenticator is not to be had so
	again := newHolder(t, k)
	again.post("api/v1/sign-in", api.PortalSignIn{Account: "ann", Password: testkit.Password, Code: holder.Recovery[1]}, 200, nil)
	again.post("api/v1/account/codes/off", api.PortalNow{Now: testkit.Password}, 403, nil)
	// Who lost the authenticator and the codes is helped by an operator.
	k.Must(nil, "account", "set", "ann", "-no-codes")
	assert.Equal(t, "code-unset", enter(api.PortalSignIn{}, 403, nil).Reason)
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-action", "factor-set")
	assert.Len(t, trail, 4)
}

// Guessing at codes or at the password of who is signed in locks out as any guessing does.
func TestGuessingOnThePortalLocksOut(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	h := in(t, k, "ann")
	k.Must(nil, "limits", "set", "-failures-per-address", "4")
	for range 6 {
		h.do("POST", "api/v1/account/codes/off", api.PortalNow{Now: "wrong"})
	}
	status, _ := newHolder(t, k).signIn("ann", testkit.Password)
	assert.Equal(t, 401, status)
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-action", "lockout")
	assert.NotEmpty(t, trail)
}
