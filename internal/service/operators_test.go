package service_test

import (
	"net/http"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/tests/testkit"
)

// another is a caller of its own, with no cookie yet.
func another(t *testing.T, k *testkit.Keep, operator string) *caller {
	c := newCaller(t, k)
	c.call("POST", "/sign-in", api.SignIn{Operator: operator, Password: testkit.Password}, 200, nil)
	return c
}

func addOperator(t *testing.T, k *testkit.Keep, name, role string) {
	_, errs, status := k.CLIWith(testkit.Password+"\n", "operator", "add", name, "-role", role)
	require.Zero(t, status, errs)
}

func TestOneTimeCodesAreAskedForAndWorkOnce(t *testing.T) {
	k := testkit.Start(t)
	addOperator(t, k, "ilse", "owner")
	addOperator(t, k, "tomas", "auditor")
	c := another(t, k, "tomas")
	var codes api.Codes
	c.call("POST", "/me/codes", nil, 201, &codes)
	assert.Contains(t, codes.URI, "otpauth://totp/")
	assert.Contains(t, string(codes.Picture[:4]), "PNG")
	c.call("PUT", "/me/codes", api.CodesUse{Secret: codes.Secret, Code: "000000"}, 422, nil)
	code, err := totp.GenerateCode(codes.Secret, time.Now())
	require.NoError(t, err)
	var recovery api.Recovery
	c.call("PUT", "/me/codes", api.CodesUse{Secret: codes.Secret, Code: code}, 200, &recovery)
	require.Len(t, recovery.Recovery, 10)

	door, ask := newCaller(t, k), api.SignIn{Operator: "tomas", Password: testkit.Password}
	var p api.Problem
	door.call("POST", "/sign-in", ask, 401, &p)
	assert.Equal(t, string(keep.CodeNeeded), p.Reason)
	ask.Code = code
	door.call("POST", "/sign-in", ask, 401, nil) // spent, though it is still shown
	next, err := totp.GenerateCode(codes.Secret, time.Now().Add(30*time.Second))
	require.NoError(t, err)
	ask.Code = next // a clock may be ahead
	door.call("POST", "/sign-in", ask, 200, nil)
	ask.Code = recovery.Recovery[3]
	door.call("POST", "/sign-in", ask, 200, nil)
	door.call("POST", "/sign-in", ask, 401, nil)
	assert.Contains(t, k.Must(nil, "audit", "-operator", "tomas", "-json"), "with a recovery code")
	assert.Regexp(t, `tomas\s+auditor\s+asked for`, k.Must(nil, "operator", "list"))

	// Who has lost everything is let in again from the machine itself.
	k.Must(nil, "operator", "set", "tomas", "-no-codes")
	ask.Code = ""
	door.call("POST", "/sign-in", ask, 200, nil)
}

func TestTheLastOwnerStays(t *testing.T) {
	k := testkit.Start(t)
	addOperator(t, k, "ilse", "owner")
	addOperator(t, k, "tomas", "manager")
	for _, args := range [][]string{{"operator", "remove", "ilse"}, {"operator", "set", "ilse", "-role", "manager"}} {
		assert.Contains(t, refused(t, k, args...), "ilse is the last owner")
	}
	k.Must(nil, "operator", "set", "tomas", "-role", "owner")
	k.Must(nil, "operator", "remove", "ilse")
	assert.Contains(t, refused(t, k, "operator", "remove", "ilse"), "no such operator")
	assert.NotContains(t, k.Must(nil, "operator", "list"), "ilse")
}

func TestAccessEndsWhenItIsTakenAway(t *testing.T) {
	k := testkit.Start(t)
	addOperator(t, k, "ilse", "owner")
	addOperator(t, k, "tomas", "manager")
	first, second := another(t, k, "tomas"), another(t, k, "tomas")
	owner := another(t, k, "ilse")
	var made api.Token
	owner.call("POST", "/operators/tomas/tokens", api.TokenNew{Label: "nightly", Role: keep.Owner, Days: 1}, 422, nil)
	owner.call("POST", "/operators/tomas/tokens", api.TokenNew{Label: "nightly", Role: keep.Auditor, Days: 1}, 201, &made)
	token := func(method, path string) int {
		request, err := http.NewRequest(method, owner.base+"/api/v1"+path, nil)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+made.Token)
		response, err := first.http.Do(request)
		require.NoError(t, err)
		response.Body.Close()
		return response.StatusCode
	}
	assert.Equal(t, 200, token("GET", "/accounts"))
	assert.Equal(t, 403, token("POST", "/accounts"), "its role is less than its operator's")
	assert.Equal(t, 403, token("POST", "/me/codes"), "a token is nobody")

	var mine api.Page[api.Access]
	first.call("GET", "/access", nil, 200, &mine)
	require.Len(t, mine.Items, 3)
	for _, a := range mine.Items {
		assert.Equal(t, "tomas", a.Operator, "a manager sees only its own")
		if a.Kind == "console" && !a.This {
			first.call("DELETE", "/access/"+a.ID, nil, 204, nil)
		}
	}
	second.call("GET", "/me", nil, 401, nil)
	first.call("GET", "/me", nil, 200, nil)
	first.call("POST", "/operators/ilse/tokens", api.TokenNew{Days: 1}, 403, nil)

	// A new password of its own ends every other sign-in, one by an owner all of them.
	second = another(t, k, "tomas")
	second.call("POST", "/me/password", api.PasswordChange{Now: "wrong", Next: "quite another one 9"}, 422, nil)
	second.call("POST", "/me/password", api.PasswordChange{Now: testkit.Password, Next: "quite another one 9"}, 204, nil)
	first.call("GET", "/me", nil, 401, nil)
	second.call("GET", "/me", nil, 200, nil)
	_, errs, status := k.CLIWith("a third password 77\n", "operator", "set", "tomas", "-password")
	require.Zero(t, status, errs)
	second.call("GET", "/me", nil, 401, nil)
	assert.Equal(t, 200, token("GET", "/me"), "tokens live on")
	listed := k.Must(nil, "access", "list", "tomas")
	assert.Contains(t, listed, "nightly")
	var left []api.Access
	k.Must(&left, "access", "list", "tomas")
	for _, a := range left {
		k.Must(nil, "access", "end", a.ID)
	}
	assert.Equal(t, 401, token("GET", "/me"))
}
