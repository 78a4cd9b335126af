package house_test

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

func TestOneTimeCodesAreAskedForAndWorkOnce(t *testing.T) {
	k := testkit.Start(t)
	k.AddOperator("ilse", "owner")
	k.AddOperator("tomas", "auditor")
	c := testkit.SignedIn(t, k, "tomas")
	var codes api.Codes
	c.Call("POST", "/me/codes", nil, 201, &codes)
	assert.Contains(t, codes.URI, "otpauth://totp/")
	assert.Contains(t, string(codes.Picture[:4]), "PNG")
	c.Call("PUT", "/me/codes", api.CodesUse{Secret: codes.Secret, Code: "000000"}, 422, nil)
	code, err := totp.GenerateCode(codes.Secret, time.Now())
	require.NoError(t, err)
	var recovery api.Recovery
	c.Call("PUT", "/me/codes", api.CodesUse{Secret: codes.Secret, Code: code}, 200, &recovery)
	require.Len(t, recovery.Recovery, 10)

	door, ask := testkit.NewCaller(t, k), api.SignIn{Operator: "tomas", Password: testkit.Password}
	var p api.Problem
	door.Call("POST", "/sign-in", ask, 401, &p)
	assert.Equal(t, string(keep.CodeNeeded), p.Reason)
	ask.Code = code
	door.Call("POST", "/sign-in", ask, 401, nil) // spent, though it is still shown
	next, err := totp.GenerateCode(codes.Secret, time.Now().Add(30*time.Second))
	require.NoError(t, err)
	ask.Code = next // a clock may be ahead
	door.Call("POST", "/sign-in", ask, 200, nil)
	ask.Code = recovery.Recovery[3]
	door.Call("POST", "/sign-in", ask, 200, nil)
	door.Call("POST", "/sign-in", ask, 401, nil)
	assert.Contains(t, k.Must(nil, "audit", "-operator", "tomas", "-json"), "with a recovery code")
	assert.Regexp(t, `tomas\s+auditor\s+own\s+asked for`, k.Must(nil, "operator", "list"))

	// Who has lost everything is let in again from the machine itself.
	k.Must(nil, "operator", "set", "tomas", "-no-codes")
	ask.Code = ""
	door.Call("POST", "/sign-in", ask, 200, nil)
}

func TestTheLastOwnerStays(t *testing.T) {
	k := testkit.Start(t)
	k.AddOperator("ilse", "owner")
	k.AddOperator("tomas", "manager")
	for _, args := range [][]string{{"operator", "remove", "ilse"}, {"operator", "set", "ilse", "-role", "manager"}} {
		assert.Contains(t, k.Refused(args...), "ilse is the last owner")
	}
	k.Must(nil, "operator", "set", "tomas", "-role", "owner")
	k.Must(nil, "operator", "remove", "ilse")
	assert.Contains(t, k.Refused("operator", "remove", "ilse"), "no such operator")
	assert.NotContains(t, k.Must(nil, "operator", "list"), "ilse")
}

func TestAccessEndsWhenItIsTakenAway(t *testing.T) {
	k := testkit.Start(t)
	k.AddOperator("ilse", "owner")
	k.AddOperator("tomas", "manager")
	first, second := testkit.SignedIn(t, k, "tomas"), testkit.SignedIn(t, k, "tomas")
	owner := testkit.SignedIn(t, k, "ilse")
	var made api.Token
	owner.Call("POST", "/operators/tomas/tokens", api.TokenNew{Label: "nightly", Role: keep.Owner, Days: 1}, 422, nil)
	owner.Call("POST", "/operators/tomas/tokens", api.TokenNew{Label: "nightly", Role: keep.Auditor, Days: 1}, 201, &made)
	token := func(method, path string) int {
		request, err := http.NewRequest(method, owner.Base+"/api/v1"+path, nil)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+made.Token)
		response, err := first.HTTP.Do(request)
		require.NoError(t, err)
		response.Body.Close()
		return response.StatusCode
	}
	assert.Equal(t, 200, token("GET", "/accounts"))
	assert.Equal(t, 403, token("POST", "/accounts"), "its role is less than its operator's")
	assert.Equal(t, 403, token("POST", "/me/codes"), "a token is nobody")

	var mine api.Page[api.Access]
	first.Call("GET", "/access", nil, 200, &mine)
	require.Len(t, mine.Items, 3)
	for _, a := range mine.Items {
		assert.Equal(t, "tomas", a.Operator, "a manager sees only its own")
		if a.Kind == "console" && !a.This {
			first.Call("DELETE", "/access/"+a.ID, nil, 204, nil)
		}
	}
	second.Call("GET", "/me", nil, 401, nil)
	first.Call("GET", "/me", nil, 200, nil)
	first.Call("POST", "/operators/ilse/tokens", api.TokenNew{Days: 1}, 403, nil)

	// A new password of its own ends every other sign-in, one by an owner all of them.
	second = testkit.SignedIn(t, k, "tomas")
	second.Call("POST", "/me/password", api.PasswordChange{Now: "wrong", Next: "quite another one 9"}, 422, nil)
	second.Call("POST", "/me/password", api.PasswordChange{Now: testkit.Password, Next: "quite another one 9"}, 204, nil)
	first.Call("GET", "/me", nil, 401, nil)
	second.Call("GET", "/me", nil, 200, nil)
	_, errs, status := k.CLIWith("a third password 77\n", "operator", "set", "tomas", "-password")
	require.Zero(t, status, errs)
	second.Call("GET", "/me", nil, 401, nil)
	assert.Equal(t, 401, token("GET", "/me"), "and its tokens: whoever had the password may have made them")
	assert.NotContains(t, k.Must(nil, "access", "list", "tomas"), "nightly")
}
