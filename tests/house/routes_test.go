package house_test

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/tests/testkit"
)

// who says for every operation who may call it: everybody from the row on.
var who = map[string]string{
	"nobody":  "setupState setUp signIn askPasskey signInByPasskey operatorsSSO leaveForSSO openPassword",
	"auditor": "me identity handover setupSteps checkup ports history status listeners certificates lockouts hostKeys operators access accounts account passes passUses notices noticeEvents dryRun told receivers sources routes held troubles mailServer locks explain exportAccounts settings find groups group stores storeMove auditDurability grounds limits gate quotas quotaHistory keys shelf sessions transfers beats traffic collector retention archives readArchive countAudit audit exportAudit checkpoint verifyAudit reports report live signOut endAccess",
	"own":     "changeMyPassword newCodes useCodes dropCodes passkeys newPasskey addPasskey dropPasskey", // signed in to the console, whatever the role
	"manager": "addNotice setNotice removeNotice tryNotice dryRunNew addReceiver setReceiver removeReceiver tryReceiver retryReceiver decideHeld setIdentity linkPassword addPass endPass endPasses breakLock dropAccountCodes markSetup undo addListener setCertificate removeCertificate liftLockout removeListener setListener addHostKey removeHostKey useHostKey addAccount setAccount deleteAccount cloneAccount rehearse importAccounts testPassword addGroup setGroup deleteGroup addStore setStore removeStore markStore checkStore unlockStore setAuditDurability setLimits setGate recount suspendAccount resumeAccount addKey setKey removeKey makeKey testKeys addShelfKey setShelfKey removeShelfKey attachShelfKey detachShelfKey endSession endTransfer setRetention makeArchives signCheckpoint",
	"owner":   "backup addOperator setOperator removeOperator addToken moveStore stopStoreMove setGrounds setCollector setMailServer tryMail addSource setSource removeSource trySource syncSource setRoutes",
}

// caller is somebody who calls, and as what.
type caller struct {
	name   string
	rank   int // 0 nobody, 1 auditor, 2 manager, 3 owner
	token  string
	client *http.Client
}

var placeholder = regexp.MustCompile(`\{\w+\}`)

// Every operation that openapi.yaml describes is called as everybody: it is refused to those
// whom the table doesn't let, and to nobody else. One without a row fails.
func TestEveryRouteAsksWhoCalls(t *testing.T) {
	k := testkit.Start(t)
	first := testkit.NewCaller(t, k)
	testkit.SetUp(t, k, first)
	callers := []caller{{name: "nobody", client: &http.Client{Transport: &http.Transport{}}}}
	for rank, role := range []string{"auditor", "manager", "owner"} {
		first.Call("POST", "/operators", api.OperatorNew{Operator: "an-" + role, Password: testkit.Password, Role: keep.Role(role)}, 201, nil)
		callers = append(callers, caller{name: role, rank: rank + 1, client: testkit.SignedIn(t, k, "an-"+role).HTTP})
		var made api.Token
		first.Call("POST", "/operators/ilse/tokens", api.TokenNew{Label: role, Role: keep.Role(role), Days: 1}, 201, &made)
		callers = append(callers, caller{name: "a token of an " + role, rank: rank + 1, token: made.Token, client: callers[0].client})
	}
	t.Cleanup(callers[0].client.CloseIdleConnections)
	levelOf := map[string]string{}
	for level, operations := range who {
		for operation := range strings.FieldsSeq(operations) {
			levelOf[operation] = level
		}
	}
	least := map[string]int{"nobody": 0, "auditor": 1, "own": 1, "manager": 2, "owner": 3}
	last := []func(){} // what ends the sign-in that it is made with
	for path, item := range first.Doc.Paths.Map() {
		for method, operation := range item.Operations() {
			level, known := levelOf[operation.OperationID]
			require.True(t, known, "%s %s (%s) has no row: say who may call it", method, path, operation.OperationID)
			for _, c := range callers {
				may := c.rank >= least[level] && (level != "own" || c.token == "")
				if operation.OperationID == "endAccess" && c.token != "" && c.rank < 3 {
					may = false // itself only, and that is not "none"
				}
				call := func() {
					denied, said := c.denied(t, first.Base, method, placeholder.ReplaceAllString(path, "none"))
					assert.Equal(t, !may, denied, "%s %s as %s: %s", method, path, c.name, said)
				}
				if operation.OperationID == "signOut" {
					last = append(last, call)
				} else {
					call()
				}
			}
		}
	}
	for _, call := range last {
		call()
	}
}

// denied calls with nothing of use, and reports whether it was refused for who called.
func (c *caller) denied(t *testing.T, base, method, path string) (bool, string) {
	ctx, cancel := context.WithTimeout(t.Context(), testkit.Patience)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, method, base+"/api/v1"+path, bytes.NewReader([]byte("{}")))
	require.NoError(t, err)
	if method == http.MethodGet {
		request.Body, request.ContentLength = http.NoBody, 0
	}
	request.Header.Set("Content-Type", "application/json")
	if c.token != "" {
		request.Header.Set("Authorization", "Bearer "+c.token)
	}
	response, err := c.client.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	if response.StatusCode != http.StatusUnauthorized && response.StatusCode != http.StatusForbidden {
		return false, response.Status
	}
	var problem api.Problem
	json.NewDecoder(response.Body).Decode(&problem)
	return problem.Reason == "", problem.Detail
}

// A token of a lesser role learns of itself only, and ends nothing else.
func TestALesserTokenSeesAndEndsItselfOnly(t *testing.T) {
	k := testkit.Start(t)
	c := testkit.NewCaller(t, k)
	testkit.SetUp(t, k, c)
	token := func(role keep.Role) *testkit.Caller {
		var made api.Token
		c.Call("POST", "/operators/ilse/tokens", api.TokenNew{Label: string(role), Role: role, Days: 1}, 201, &made)
		with := testkit.NewCaller(t, k)
		with.HTTP.Transport = bearer{made.Token}
		return with
	}
	lesser, full := token(keep.Auditor), token(keep.Owner)
	var seen, all api.Page[api.Access]
	lesser.Call("GET", "/access", nil, 200, &seen)
	require.Len(t, seen.Items, 1)
	full.Call("GET", "/access", nil, 200, &all)
	require.Greater(t, len(all.Items), 2)
	for _, a := range all.Items {
		if a.ID != seen.Items[0].ID {
			lesser.Call("DELETE", "/access/"+a.ID, nil, 403, nil)
		}
	}
	lesser.Call("DELETE", "/access/"+seen.Items[0].ID, nil, 204, nil)
	lesser.Call("GET", "/access", nil, 401, nil)
	c.Call("GET", "/me", nil, 200, nil)
}

type bearer struct{ token string }

func (b bearer) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	r.Header.Set("Authorization", "Bearer "+b.token)
	return http.DefaultTransport.RoundTrip(r)
}

// A cookie that came over TLS, at the latest at a proxy, goes over TLS only. What a stranger
// says of that is refused.
func TestCookiesOverTLSAreSecure(t *testing.T) {
	k := testkit.Start(t)
	c := testkit.NewCaller(t, k)
	testkit.SetUp(t, k, c)
	response, err := testkit.Get(t, c.Base+"/api/v1/setup", "X-Forwarded-Proto: https")
	require.NoError(t, err)
	assert.Equal(t, 400, response.StatusCode)
	_, errs, status := k.CLI("listener", "set", "web", "-proxies", "127.0.0.1", "-forwarded", "x-forwarded-for,x-forwarded-proto")
	require.Zero(t, status, errs)
	for proto, secure := range map[string]bool{"https": true, "": false} {
		request, err := http.NewRequest("POST", c.Base+"/api/v1/sign-in", strings.NewReader(`{"operator": "ilse", "password": "`+testkit.Password+`"}`))
		require.NoError(t, err)
		request.Header.Set("Content-Type", "application/json")
		request.Header.Set("X-Forwarded-For", "192.0.2.7")
		request.Header.Set("X-Forwarded-Proto", proto)
		response, err := c.HTTP.Do(request)
		require.NoError(t, err)
		response.Body.Close()
		require.Len(t, response.Cookies(), 1)
		assert.Equal(t, secure, response.Cookies()[0].Secure)
		assert.True(t, response.Cookies()[0].HttpOnly)
	}
}
