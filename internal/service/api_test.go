package service_test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/cookiejar"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/legacy"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// caller calls the API over HTTP and holds each answer to openapi.yaml.
type caller struct {
	t      *testing.T
	base   string
	http   *http.Client
	doc    *openapi3.T
	router routers.Router
	seen   map[string]bool // operations that were called
}

func newCaller(t *testing.T, k *testkit.Keep) *caller {
	text, err := os.ReadFile("../web/openapi.yaml")
	require.NoError(t, err)
	doc, err := openapi3.NewLoader().LoadFromData(text)
	require.NoError(t, err)
	router, err := legacy.NewRouter(doc)
	require.NoError(t, err)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	client := &http.Client{Jar: jar, Timeout: 20 * time.Second, Transport: &http.Transport{}}
	t.Cleanup(client.CloseIdleConnections)
	return &caller{t, "http://" + k.ConsoleAddress(), client, doc, router, map[string]bool{}}
}

// call makes a request, checks the answer's status and shape, and reads it.
func (c *caller) call(method, path string, body any, status int, into any) {
	c.t.Helper()
	var send io.Reader
	if text, isText := body.(string); isText {
		send = strings.NewReader(text)
	} else if body != nil {
		text, err := json.Marshal(body)
		require.NoError(c.t, err)
		send = bytes.NewReader(text)
	}
	request, err := http.NewRequest(method, c.base+"/api/v1"+path, send)
	require.NoError(c.t, err)
	if body != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	response, err := c.http.Do(request)
	require.NoError(c.t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(c.t, err)
	require.Equal(c.t, status, response.StatusCode, "%s %s: %s", method, path, text)
	if kind := response.Header.Get("Content-Type"); strings.Contains(kind, "json") && !strings.Contains(kind, "jsonl") || status == http.StatusNoContent {
		c.hold(request, response, text)
	} else { // what is no JSON has no shape to hold it to
		c.held(request)
	}
	if into != nil {
		require.NoError(c.t, json.Unmarshal(text, into))
	}
}

// held notes that an operation was called.
func (c *caller) held(request *http.Request) {
	c.t.Helper()
	described := request.Clone(context.Background())
	described.URL.Scheme, described.URL.Host, described.Host = "", "", ""
	route, _, err := c.router.FindRoute(described)
	require.NoError(c.t, err, request.URL.Path)
	c.seen[route.Operation.OperationID] = true
}

// hold checks an answer against the description.
func (c *caller) hold(request *http.Request, response *http.Response, text []byte) {
	c.t.Helper()
	described := request.Clone(context.Background())
	described.URL.Scheme, described.URL.Host, described.Host = "", "", ""
	route, parameters, err := c.router.FindRoute(described)
	require.NoError(c.t, err, request.URL.Path)
	c.seen[route.Operation.OperationID] = true
	err = openapi3filter.ValidateResponse(context.Background(), &openapi3filter.ResponseValidationInput{
		RequestValidationInput: &openapi3filter.RequestValidationInput{Request: described, PathParams: parameters, Route: route},
		Status:                 response.StatusCode, Header: response.Header, Body: io.NopCloser(bytes.NewReader(text)),
		Options: &openapi3filter.Options{IncludeResponseStatus: true}})
	require.NoError(c.t, err, "%s %s: %s", request.Method, request.URL.Path, text)
}

// setUp makes the first operator through the set-up link and signs it in.
func setUp(t *testing.T, k *testkit.Keep, c *caller) {
	link, err := k.SetupLink(t.Context())
	require.NoError(t, err)
	_, secret, _ := strings.Cut(link, "#")
	ask := api.SetUp{Secret: secret, Operator: "ilse", Password: testkit.Password}
	c.call("POST", "/setup", api.SetUp{Secret: "guessed", Operator: "mallory", Password: testkit.Password}, 401, nil)
	c.call("POST", "/setup", ask, 201, nil)
	ask.Operator = "second"
	c.call("POST", "/setup", ask, 401, nil) // spent
	var state struct{ Needed bool }
	c.call("GET", "/setup", nil, 200, &state)
	assert.False(t, state.Needed)
	c.call("POST", "/sign-in", api.SignIn{Operator: "ilse", Password: testkit.Password}, 200, nil)
}

func TestTheAPIDoesWhatItsDescriptionSays(t *testing.T) {
	k := testkit.Start(t)
	c := newCaller(t, k)
	c.call("GET", "/accounts", nil, 401, nil)
	setUp(t, k, c)
	c.call("GET", "/me", nil, 200, nil)
	c.call("GET", "/status", nil, 200, nil)
	c.call("POST", "/operators", api.OperatorNew{Operator: "tomas", Role: "manager", Password: testkit.Password}, 201, nil)
	c.call("POST", "/operators", api.OperatorNew{Operator: "tomas", Role: "manager", Password: testkit.Password}, 422, nil)
	c.call("GET", "/operators", nil, 200, nil)
	c.call("GET", "/host-keys", nil, 200, nil)
	c.call("PATCH", "/listeners/ftp", `{"banner": "Port Selwyn"}`, 200, nil)
	c.call("PATCH", "/listeners/none", `{"banner": "x"}`, 404, nil)
	c.call("PATCH", "/listeners/ftp", `{"allow": ["x"]}`, 422, nil)
	c.call("GET", "/listeners", nil, 200, nil)
	c.call("POST", "/listeners", `{"name": "inner", "protocol": "sftp", "address": "127.0.0.1:0"}`, 201, nil)
	c.call("POST", "/listeners", `{"name": "inner", "protocol": "sftp", "address": "127.0.0.1:0"}`, 422, nil)
	c.call("DELETE", "/listeners/inner", nil, 204, nil)
	c.call("DELETE", "/listeners/inner", nil, 404, nil)
	c.call("GET", "/certificate", nil, 200, nil)
	c.call("PUT", "/certificate", `{"selfSigned": true}`, 200, nil)
	c.call("PUT", "/certificate", `{"certificate": "x"}`, 422, nil)
	c.call("PUT", "/certificate", `{}`, 422, nil)
	c.call("GET", "/lockouts", nil, 200, nil)
	c.call("DELETE", "/lockouts/192.0.2.1", nil, 404, nil)
	c.call("POST", "/operators/tomas/tokens", api.TokenNew{Label: "backup", Days: 0}, 422, nil)
	c.call("POST", "/operators/nobody/tokens", api.TokenNew{Label: "backup", Days: 7}, 404, nil)
	c.call("POST", "/operators/tomas/tokens", api.TokenNew{Label: "backup", Days: 7}, 201, nil)
	c.call("PATCH", "/service", `{"name": "Survey Office"}`, 200, nil)
	c.call("PATCH", "/service", `{"host": "x y"}`, 422, nil)
	c.call("GET", "/service", nil, 200, nil)
	c.call("GET", "/changes?what=service", nil, 200, nil)
	c.call("GET", "/checkup", nil, 200, nil)
	c.call("GET", "/setup-steps", nil, 200, nil)
	c.call("GET", "/setup-steps?check=listeners", nil, 200, nil)
	c.call("PUT", "/setup-steps/passive", `{"state": "skipped"}`, 204, nil)
	c.call("PUT", "/setup-steps/passive", `{"state": "x"}`, 422, nil)
	c.call("PUT", "/setup-steps/none", `{"state": "done"}`, 404, nil)
	c.call("GET", "/backup", nil, 200, nil)
	c.call("GET", "/ports?firewall=pf&management=2022", nil, 200, nil)
	c.call("GET", "/ports?firewall=none", nil, 422, nil)
	c.call("GET", "/ports?management=x", nil, 422, nil)
	c.call("GET", "/changes?limit=1&before=2", nil, 200, nil)
	c.call("POST", "/changes/1/undo", nil, 200, nil)
	c.call("POST", "/changes/77/undo", nil, 404, nil)
	c.call("PATCH", "/operators/tomas", `{"role": "auditor"}`, 200, nil)
	c.call("PATCH", "/operators/ilse", `{"role": "auditor"}`, 409, nil)
	c.call("PATCH", "/operators/ilse", `{"codes": true}`, 422, nil)
	c.call("GET", "/access?operator=tomas", nil, 200, nil)
	c.call("DELETE", "/access/0000", nil, 404, nil)
	c.call("DELETE", "/operators/tomas", nil, 204, nil)
	c.call("POST", "/me/password", api.PasswordChange{Now: "x", Next: "y"}, 422, nil)
	c.call("POST", "/me/codes", nil, 201, nil)
	c.call("PUT", "/me/codes", api.CodesUse{Secret: "AAAA", Code: "1"}, 422, nil)
	c.call("DELETE", "/me/codes", api.CodesDrop{Code: "1"}, 204, nil) // there are none

	account := map[string]any{"name": "ann", "generate": true, "mounts": []map[string]any{{"at": "/", "store": "files", "folder": "{account}", "readOnly": false}},
		"grants": []map[string]any{{"path": "/", "rights": "full"}}}
	var made api.AccountMade
	c.call("POST", "/accounts", account, 201, &made)
	require.NotEmpty(t, made.Password)
	var problem api.Problem
	c.call("POST", "/accounts", account, 422, &problem)
	assert.Equal(t, "name", problem.Field)
	for body, field := range map[string]string{
		`{"name": "ben", "mounts": [], "grants": []}`: "home", `{"name": "ben", "colour": "red"}`: "colour", `{"name": 7}`: "name",
		`{"name": "ben", "mounts": [{"at":"/","store":"files","folder":"x","readOnly":false}], "grants": [{"path":"in","rights":"full"}]}`: "grants",
	} {
		problem = api.Problem{}
		c.call("POST", "/accounts", body, 422, &problem)
		assert.Equal(t, field, problem.Field, body)
	}
	c.call("POST", "/accounts", `{"name"`, 400, nil)
	c.call("GET", "/accounts?limit=1", nil, 200, nil)
	c.call("GET", "/accounts?limit=x", nil, 422, nil)
	c.call("GET", "/accounts/ann", nil, 200, nil)
	c.call("GET", "/accounts/nobody", nil, 404, nil)
	c.call("PATCH", "/accounts/ann", map[string]any{"note": "hello"}, 200, nil)
	c.call("GET", "/accounts/ann/handover?host=localhost", nil, 200, nil)
	c.call("GET", "/accounts/ann/handover?format=pdf", nil, 422, nil)
	c.call("POST", "/accounts/ann/password-link", api.PasswordLinkNew{Days: 99}, 422, nil)
	c.call("POST", "/password-links/open", api.PasswordLinkOpen{Secret: "guessed"}, 404, nil)
	c.call("GET", "/accounts/ann/explain?right=upload&path=/x&from=192.0.2.1&at=2026-03-01T00:00:00Z", nil, 200, nil)
	c.call("GET", "/accounts/ann/explain?right=fly&path=/x", nil, 422, nil)
	c.call("GET", "/accounts/ann/explain?right=upload&path=/x&from=x", nil, 422, nil)
	c.call("PATCH", "/accounts/ann", `{"settings": {"validFrom": "2027-01-01T00:00:00Z", "validUntil": "2026-01-01"}}`, 422, nil)
	house(t, k, c)
	c.call("POST", "/accounts/ann/suspend", nil, 200, nil)
	c.call("POST", "/accounts/ann/resume", nil, 200, nil)
	public := string(onDisk(t, k.Key("ann")+".pub"))
	c.call("POST", "/accounts/ann/keys", api.KeyNew{Key: public}, 422, nil)
	var keys api.Page[api.Key]
	c.call("GET", "/accounts/ann/keys", nil, 200, &keys)
	c.call("DELETE", "/accounts/ann/keys/"+jsonOf(keys.Items[0].ID), nil, 204, nil)
	c.call("POST", "/accounts/ann/keys", api.KeyNew{Key: public, Label: "laptop"}, 201, &keys)
	c.call("PATCH", "/accounts/ann/keys/"+jsonOf(keys.Items[0].ID), `{"networks": ["192.0.2.0/24"]}`, 200, nil)
	c.call("PATCH", "/accounts/ann/keys/"+jsonOf(keys.Items[0].ID), `{"networks": ["x"]}`, 422, nil)
	c.call("PATCH", "/accounts/ann/keys/none", `{}`, 422, nil)
	c.call("POST", "/accounts/ann/key-pairs", api.KeyPairNew{Label: "scanner"}, 201, nil)
	c.call("POST", "/accounts/ann/key-pairs", `{"type": "dsa"}`, 422, nil)
	c.call("POST", "/key-tests", api.KeyText{Key: public}, 200, nil)
	var hostKey api.HostKey
	c.call("POST", "/host-keys", api.HostKeyNew{Type: "ecdsa"}, 201, &hostKey)
	c.call("POST", "/host-keys", `{"private": "x"}`, 422, nil)
	c.call("POST", "/host-keys/"+hostKey.ID+"/use", nil, 200, nil)
	c.call("DELETE", "/host-keys/"+hostKey.ID, nil, 204, nil)
	c.call("DELETE", "/host-keys/"+hostKey.ID, nil, 404, nil)

	file, _ := testkit.File(t, 1000)
	out, err := testkit.Run(t, "", "curl", "-sS", "-k", "--user", "ann:"+made.Password, "-T", file, "ftps://"+k.Address("ftps")+"/f")
	require.NoError(t, err, out)
	c.call("GET", "/sessions", nil, 200, nil)
	c.call("DELETE", "/sessions/none", nil, 404, nil)
	var moved api.Page[api.Transfer]
	c.call("GET", "/transfers?account=ann&path=/f", nil, 200, &moved)
	require.Len(t, moved.Items, 1)
	assert.EqualValues(t, 1000, moved.Items[0].Bytes)
	require.Eventually(t, func() bool {
		var ins, outs []api.AuditRecord
		k.Must(&ins, "audit", "-account", "ann", "-action", "sign-in,rehearsal", "-outcome", "done")
		k.Must(&outs, "audit", "-account", "ann", "-action", "sign-out")
		return len(ins) == len(outs)
	}, 5*time.Second, 20*time.Millisecond, "nobody is about to be recorded")
	pages(t, c)
	c.call("GET", "/audit?since=then", nil, 422, nil)
	var newest api.Page[api.AuditRecord]
	c.call("GET", "/audit?network=127.0.0.0/8&has=F&text=upload&reason=&limit=5", nil, 200, &newest)
	assert.NotEmpty(t, newest.Items)
	c.call("GET", "/audit?network=x", nil, 422, nil)
	for _, format := range []string{"csv", "jsonl", "xferlog", "w3c"} {
		c.call("GET", "/audit/export?account=ann&format="+format, nil, 200, nil)
	}
	c.call("GET", "/audit/export?format=pdf", nil, 422, nil)
	c.call("GET", "/audit/verify", nil, 200, nil)
	c.call("GET", "/audit/verify?checkpoint=x", nil, 422, nil)
	require.NoError(t, k.Seal.Sign(1, make([]byte, 32), time.Now()))
	c.call("GET", "/audit/checkpoint", nil, 200, nil)
	c.call("POST", "/accounts/ann/password-link", api.PasswordLinkNew{Days: 1}, 201, nil)
	c.call("DELETE", "/accounts/ann", nil, 204, nil)
	c.call("POST", "/sign-out", nil, 204, nil)
	c.call("GET", "/me", nil, 401, nil)
	for _, item := range c.doc.Paths.Map() {
		for method, operation := range item.Operations() {
			assert.True(t, c.seen[operation.OperationID] || operation.OperationID == "live", "%s %s was not called", method, operation.OperationID)
		}
	}
}

// house calls what is about groups, stores, quotas and the gate.
func house(t *testing.T, k *testkit.Keep, c *caller) {
	var problem api.Problem
	c.call("GET", "/settings", nil, 200, nil)
	c.call("POST", "/groups", `{"name": "crews", "settings": {"maxSessions": 3, "quotaBytes": "2GiB"}, "mounts": ["/maps=files:{group}/maps,ro"],
		"grants": ["/maps=read-only;days=mon-fri", {"path": "/in", "rights": "drop-only", "never": ["*.exe"]}]}`, 201, nil)
	for body, field := range map[string]string{`{"name": "crews"}`: "name", `{"name": "x", "settings": {"speed": 1}}`: "speed", `{"name": "x", "settings": {"umask": "888"}}`: "umask",
		`{"name": "x", "mounts": ["/maps"]}`: "mount", `{"name": "x", "grants": ["/=fly"]}`: "grant", `{"name": "x", "mounts": ["/=gone:x"]}`: "mounts"} {
		problem = api.Problem{}
		c.call("POST", "/groups", body, 422, &problem)
		assert.Equal(t, field, problem.Field, body)
	}
	c.call("GET", "/groups", nil, 200, nil)
	c.call("GET", "/groups/crews", nil, 200, nil)
	c.call("GET", "/groups/none", nil, 404, nil)
	c.call("PATCH", "/groups/crews", `{"settings": {"maxSessions": null, "umask": "007"}}`, 200, nil)
	c.call("PATCH", "/accounts/ann", `{"groups": ["crews"], "settings": {"allow": ["127.0.0.0/8"], "starters": "/in"}}`, 200, nil)
	c.call("PATCH", "/accounts/ann", `{"groups": ["none"]}`, 422, nil)
	c.call("DELETE", "/groups/crews", nil, 409, &problem)
	assert.Contains(t, problem.Detail, "in use by the account ann")
	c.call("GET", "/quotas", nil, 200, nil)
	c.call("POST", "/quotas/recount", `{"store": "files", "folder": "ann"}`, 200, nil)
	c.call("POST", "/quotas/recount", `{"store": "files", "folder": "none"}`, 404, nil)
	c.call("GET", "/quotas/history?store=files&folder=ann", nil, 200, nil)
	c.call("POST", "/accounts/ann/rehearsal", nil, 200, nil)
	c.call("POST", "/accounts/ann/clone", `{"name": "ben", "generate": true}`, 201, nil)
	c.call("GET", "/account-roster", nil, 200, nil)
	c.call("POST", "/account-roster", `{"csv": "account,note\nben,hello\n", "dry": true}`, 200, nil)
	c.call("POST", "/account-roster", `{"csv": "name\nben\n"}`, 422, nil)
	c.call("DELETE", "/accounts/ben", nil, 204, nil)
	c.call("POST", "/password-tests", `{"password": "crew-harbour", "account": "crew-harbour"}`, 200, nil)
	c.call("POST", "/password-tests", `{"password": ""}`, 422, nil)
	folder := filepath.Join(t.TempDir(), "plates")
	c.call("POST", "/stores", api.StoreNew{Name: "plates", Folder: folder}, 201, nil)
	c.call("POST", "/stores", api.StoreNew{Name: "nested", Folder: filepath.Join(folder, "x")}, 422, nil)
	c.call("GET", "/stores", nil, 200, nil)
	c.call("PUT", "/store-grounds", api.Grounds{Grounds: []string{folder}}, 409, nil) // files lies elsewhere
	c.call("PUT", "/store-grounds", api.Grounds{Grounds: []string{"x"}}, 422, nil)
	c.call("PUT", "/store-grounds", api.Grounds{Grounds: []string{}}, 200, nil)
	c.call("GET", "/store-grounds", nil, 200, nil)
	c.call("DELETE", "/stores/plates", nil, 204, nil)
	c.call("DELETE", "/stores/files", nil, 409, &problem)
	var known api.Page[api.ReportKnown]
	c.call("GET", "/reports", nil, 200, &known)
	for _, r := range known.Items {
		about := map[string]string{"account": "ann", "place": "files:ann/f"}[r.About]
		c.call("GET", "/reports/"+r.Name+"?about="+about, nil, 200, nil)
		c.call("GET", "/reports/"+r.Name+"?format=csv&days=7&about="+about, nil, 200, nil)
	}
	c.call("GET", "/reports/readers", nil, 422, nil)
	c.call("GET", "/reports/readers?about=files", nil, 422, nil)
	c.call("GET", "/reports/weather", nil, 404, nil)
	c.call("GET", "/reports/unused?days=-1", nil, 422, nil)

	for _, by := range []string{"", "account", "group", "address", "protocol", "action", "mount", "file"} {
		c.call("GET", "/traffic?zone=Europe/Lisbon&by="+by, nil, 200, nil)
		c.call("GET", "/traffic?format=csv&step=hour&since="+time.Now().UTC().Add(-time.Hour).Format(time.RFC3339)+"&by="+by, nil, 200, nil)
	}
	for _, bad := range []string{"by=colour", "step=week", "zone=Local", "path=/f", "since=2026-01-01T00:00:00Z&until=2025-01-01T00:00:00Z", "step=hour&since=2001-01-01T00:00:00Z"} {
		c.call("GET", "/traffic?"+bad, nil, 422, nil)
	}
	c.call("GET", "/beats", nil, 200, nil)

	c.call("GET", "/audit/count?outcome=refused", nil, 200, nil)
	c.call("GET", "/audit/count?text=ann", nil, 200, nil)
	c.call("PUT", "/audit/retention", `{"days": -1, "kinds": []}`, 422, nil)
	c.call("PUT", "/audit/retention", `{"days": 1, "kinds": [{"actions": ["list", "list"], "days": 3}]}`, 422, nil)
	c.call("PUT", "/audit/retention", `{"days": 400, "kinds": [{"actions": ["list"], "days": 30}]}`, 200, nil)
	c.call("GET", "/audit/retention", nil, 200, nil)
	c.call("POST", "/audit/archives", nil, 200, nil)
	c.call("GET", "/audit/archives", nil, 200, nil)
	c.call("GET", "/audit/archives/..%2Fkeep.db", nil, 404, nil)
	for _, bad := range []string{"collector.example", "http://collector.example:80", "tls://collector.example", "tcp://collector.example:0"} {
		c.call("PUT", "/collector", jsonOf(map[string]string{"address": bad}), 422, nil)
	}
	c.call("PUT", "/collector", `{"address": "tls://127.0.0.1:1", "trust": "no certificate"}`, 422, nil)
	c.call("PUT", "/collector", `{"address": "udp://127.0.0.1:1"}`, 200, nil)
	c.call("GET", "/collector", nil, 200, nil)
	c.call("PUT", "/collector", `{"address": ""}`, 200, nil)
	c.call("DELETE", "/transfers/nothing", nil, 404, nil)
	c.call("GET", "/gate", nil, 200, nil)
	c.call("PUT", "/gate", `{"allow": ["192.0.2.0/24"], "deny": []}`, 409, &problem)
	assert.Equal(t, "shuts-you-out", problem.Reason)
	c.call("PUT", "/gate", `{"allow": ["192.0.2.0/24"], "deny": [], "meant": true}`, 200, nil)
	c.call("GET", "/gate", nil, 403, nil)
	k.Must(nil, "gate", "set", "-allow", "everybody")
	c.call("PUT", "/gate", `{"allow": ["x"], "deny": []}`, 400, nil)
	c.call("PATCH", "/accounts/ann", `{"groups": [], "settings": {"allow": null}}`, 200, nil)
	c.call("DELETE", "/groups/crews", nil, 204, nil)
}

// pages walks the trail in small pages: each record comes once, newest first.
func pages(t *testing.T, c *caller) {
	var whole, page api.Page[api.AuditRecord]
	c.call("GET", "/audit?limit=1000", nil, 200, &whole)
	var walked []api.AuditRecord
	for next := ""; ; next = "&before=" + page.Next {
		page = api.Page[api.AuditRecord]{}
		c.call("GET", "/audit?limit=4"+next, nil, 200, &page)
		walked = append(walked, page.Items...)
		if page.Next == "" {
			break
		}
	}
	assert.Equal(t, whole.Items, walked)
}

func jsonOf(v any) string { text, _ := json.Marshal(v); return string(text) }

func TestAnotherSitesPageCannotChangeAnything(t *testing.T) {
	k := testkit.Start(t)
	c := newCaller(t, k)
	setUp(t, k, c)
	k.Account("ann")
	for _, header := range []http.Header{{"Sec-Fetch-Site": {"cross-site"}}, {"Origin": {"http://elsewhere.example"}}} {
		for key, values := range header {
			request, err := http.NewRequest("POST", c.base+"/api/v1/accounts/ann/suspend", nil)
			require.NoError(t, err)
			request.Header[key] = values
			response, err := c.http.Do(request)
			require.NoError(t, err)
			response.Body.Close()
			assert.Equal(t, http.StatusForbidden, response.StatusCode, header)
		}
	}
	var a api.Account
	c.call("GET", "/accounts/ann", nil, 200, &a)
	assert.EqualValues(t, "active", a.State)
	response, err := c.http.Post(c.base+"/api/v1/sign-in", "text/plain", strings.NewReader(`{"operator":"ilse","password":"x"}`))
	require.NoError(t, err)
	response.Body.Close()
	assert.Equal(t, http.StatusUnsupportedMediaType, response.StatusCode)
	for _, cookie := range c.http.Jar.Cookies(response.Request.URL) {
		assert.NotEmpty(t, cookie.Value)
	}
}

func TestOperatorSignInIsSlowedDownAndRecorded(t *testing.T) {
	k := testkit.Start(t)
	c := newCaller(t, k)
	setUp(t, k, c)
	codes := map[int]int{}
	for range 14 {
		response, err := c.http.Post(c.base+"/api/v1/sign-in", "application/json", strings.NewReader(`{"operator":"ilse","password":"guessed"}`))
		require.NoError(t, err)
		response.Body.Close()
		codes[response.StatusCode]++
	}
	assert.NotZero(t, codes[http.StatusUnauthorized])
	assert.NotZero(t, codes[http.StatusTooManyRequests])
	assert.Len(t, codes, 2)
	require.Eventually(t, func() bool { // refusals are recorded without keeping anyone waiting
		var trail []api.AuditRecord
		k.Must(&trail, "audit", "-action", "operator-sign-in", "-outcome", "refused")
		return len(trail) == 14
	}, 5*time.Second, 20*time.Millisecond)
}

func TestAnAuditorReadsAndChangesNothing(t *testing.T) {
	k := testkit.Start(t)
	c := newCaller(t, k)
	setUp(t, k, c)
	operator, err := k.DB.Operator(t.Context(), "ilse")
	require.NoError(t, err)
	operator.Name, operator.Role = "auditor", "auditor"
	require.NoError(t, k.DB.AddOperator(t.Context(), operator))
	k.Account("ann")
	c.call("POST", "/sign-in", api.SignIn{Operator: "auditor", Password: testkit.Password}, 200, nil)
	c.call("GET", "/accounts", nil, 200, nil)
	var problem api.Problem
	c.call("POST", "/accounts/ann/suspend", nil, 403, &problem)
	assert.Contains(t, problem.Detail, "an auditor reads and changes nothing")
	c.call("POST", "/sign-out", nil, 204, nil)
}

func TestTheLiveStreamTellsOfATransferAndEndsWithTheService(t *testing.T) {
	k := testkit.Start(t)
	c := newCaller(t, k)
	setUp(t, k, c)
	k.Account("ann")
	c.http.Timeout = 0
	response, err := c.http.Get(c.base + "/api/v1/live")
	require.NoError(t, err)
	defer response.Body.Close()
	messages := make(chan api.Live, 100)
	go func() { // ends with the stream
		defer close(messages)
		decoder := json.NewDecoder(dataOnly{response.Body})
		for {
			var m api.Live
			if decoder.Decode(&m) != nil {
				return
			}
			messages <- m
		}
	}()
	assert.True(t, (<-messages).Full)
	file, _ := testkit.File(t, 200_000)
	out, err := k.Curl("ann", "ftps", "/f", "-T", file)
	require.NoError(t, err, out)
	deadline := time.After(10 * time.Second)
	for told := false; !told; {
		select {
		case m := <-messages:
			for _, tr := range m.Transfers {
				told = told || tr.Outcome == "done" && tr.Bytes == 200_000 && tr.Path == "/f"
			}
		case <-deadline:
			t.Fatal("the stream did not tell")
		}
	}
	k.Halt(5 * time.Second)
	for range messages {
	}
}

// dataOnly takes the names of the fields off a stream of server-sent events.
type dataOnly struct{ r io.Reader }

func (d dataOnly) Read(p []byte) (int, error) {
	n, err := d.r.Read(p)
	clean := bytes.ReplaceAll(bytes.ReplaceAll(p[:n], []byte("data: "), nil), []byte(": quiet"), nil)
	return copy(p, clean), err
}
