package house_test

import (
	"bytes"
	"encoding/json"
	"io"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/tests/testkit"
)

func TestTheAPIDoesWhatItsDescriptionSays(t *testing.T) {
	k := testkit.Start(t)
	c := testkit.NewCaller(t, k)
	c.Call("GET", "/accounts", nil, 401, nil)
	testkit.SetUp(t, k, c)
	c.Call("GET", "/me", nil, 200, nil)
	c.Call("GET", "/status", nil, 200, nil)
	c.Call("POST", "/operators", api.OperatorNew{Operator: "tomas", Role: "manager", Password: testkit.Password}, 201, nil)
	c.Call("POST", "/operators", api.OperatorNew{Operator: "tomas", Role: "manager", Password: testkit.Password}, 422, nil)
	c.Call("GET", "/operators", nil, 200, nil)
	c.Call("GET", "/host-keys", nil, 200, nil)
	c.Call("PATCH", "/listeners/ftp", `{"banner": "Port Selwyn"}`, 200, nil)
	c.Call("PATCH", "/listeners/none", `{"banner": "x"}`, 404, nil)
	c.Call("PATCH", "/listeners/ftp", `{"allow": ["x"]}`, 422, nil)
	c.Call("GET", "/listeners", nil, 200, nil)
	c.Call("POST", "/listeners", `{"name": "inner", "protocol": "sftp", "address": "127.0.0.1:0"}`, 201, nil)
	c.Call("POST", "/listeners", `{"name": "inner", "protocol": "sftp", "address": "127.0.0.1:0"}`, 422, nil)
	c.Call("DELETE", "/listeners/inner", nil, 204, nil)
	c.Call("DELETE", "/listeners/inner", nil, 404, nil)
	c.Call("GET", "/me/passkeys", nil, 200, nil)
	c.Call("POST", "/me/passkeys/ask", api.Proving{Now: "x"}, 400, nil) // under an address there are none
	c.Call("POST", "/me/passkeys", `{"id": "x", "label": "key", "response": {}}`, 400, nil)
	c.Call("POST", "/me/passkeys", `{"id": "x", "label": "", "response": {}}`, 422, nil)
	c.Call("DELETE", "/me/passkeys/none", nil, 404, nil)
	c.Call("POST", "/sign-in/passkey/ask", nil, 400, nil)
	c.Call("POST", "/sign-in/passkey", `{"id": "x", "response": {}}`, 400, nil)
	c.Call("GET", "/certificates", nil, 200, nil)
	c.Call("PUT", "/certificates/main", `{"selfSigned": true}`, 200, nil)
	c.Call("PUT", "/certificates/main", `{"certificate": "x"}`, 422, nil)
	c.Call("PUT", "/certificates/main", `{}`, 422, nil)
	c.Call("PUT", "/certificates/spare", `{"acme": {"hosts": ["files.example.org"], "directory": "http://127.0.0.1:1"}}`, 422, nil)
	c.Call("PUT", "/certificates/spare", `{"acme": {"hosts": ["files.example.org"], "directory": "https://127.0.0.1:1"}}`, 400, nil)
	c.Call("PUT", "/certificates/spare", `{"selfSigned": true}`, 200, nil)
	c.Call("POST", "/listeners", `{"name": "secure", "protocol": "web", "address": "127.0.0.1:0", "faces": ["console"], "certificate": "spare"}`, 201, nil)
	c.Call("DELETE", "/certificates/spare", nil, 409, nil)
	c.Call("DELETE", "/listeners/secure", nil, 204, nil)
	c.Call("DELETE", "/certificates/spare", nil, 204, nil)
	c.Call("DELETE", "/certificates/main", nil, 409, nil)
	c.Call("GET", "/lockouts", nil, 200, nil)
	c.Call("DELETE", "/lockouts/192.0.2.1", nil, 404, nil)
	c.Call("POST", "/operators/tomas/tokens", api.TokenNew{Label: "backup", Days: 0}, 422, nil)
	c.Call("POST", "/operators/nobody/tokens", api.TokenNew{Label: "backup", Days: 7}, 404, nil)
	c.Call("POST", "/operators/tomas/tokens", api.TokenNew{Label: "backup", Days: 7}, 201, nil)
	c.Call("PATCH", "/service", `{"name": "Survey Office"}`, 200, nil)
	c.Call("PATCH", "/service", `{"host": "x y"}`, 422, nil)
	c.Call("GET", "/service", nil, 200, nil)
	c.Call("GET", "/changes?what=service", nil, 200, nil)
	c.Call("GET", "/checkup", nil, 200, nil)
	c.Call("GET", "/setup-steps", nil, 200, nil)
	c.Call("GET", "/setup-steps?check=listeners", nil, 200, nil)
	c.Call("PUT", "/setup-steps/passive", `{"state": "skipped"}`, 204, nil)
	c.Call("PUT", "/setup-steps/passive", `{"state": "x"}`, 422, nil)
	c.Call("PUT", "/setup-steps/none", `{"state": "done"}`, 404, nil)
	c.Call("GET", "/backup", nil, 200, nil)
	c.Call("GET", "/ports?firewall=pf&management=2022", nil, 200, nil)
	c.Call("GET", "/ports?firewall=none", nil, 422, nil)
	c.Call("GET", "/ports?management=x", nil, 422, nil)
	c.Call("GET", "/changes?limit=1&before=2", nil, 200, nil)
	c.Call("POST", "/changes/1/undo", nil, 200, nil)
	c.Call("POST", "/changes/77/undo", nil, 404, nil)
	c.Call("PATCH", "/operators/tomas", `{"role": "auditor"}`, 200, nil)
	c.Call("PATCH", "/operators/ilse", `{"role": "auditor"}`, 409, nil)
	c.Call("PATCH", "/operators/ilse", `{"codes": true}`, 422, nil)
	c.Call("GET", "/access?operator=tomas", nil, 200, nil)
	c.Call("DELETE", "/access/0000", nil, 404, nil)
	c.Call("DELETE", "/operators/tomas", nil, 204, nil)
	c.Call("POST", "/me/password", api.PasswordChange{Now: "x", Next: "y"}, 422, nil)
	c.Call("POST", "/me/codes", nil, 201, nil)
	c.Call("PUT", "/me/codes", api.CodesUse{Secret: "AAAA", Code: "1"}, 422, nil)
	c.Call("DELETE", "/me/codes", api.CodesDrop{Code: "1"}, 204, nil) // there are none

	account := map[string]any{"name": "ann", "generate": true, "mounts": []map[string]any{{"at": "/", "store": "files", "folder": "{account}", "readOnly": false}},
		"grants": []map[string]any{{"path": "/", "rights": "full"}}}
	var made api.AccountMade
	c.Call("POST", "/accounts", account, 201, &made)
	require.NotEmpty(t, made.Password)
	var problem api.Problem
	c.Call("POST", "/accounts", account, 422, &problem)
	assert.Equal(t, "name", problem.Field)
	for body, field := range map[string]string{
		`{"name": "ben", "mounts": [], "grants": []}`: "home", `{"name": "ben", "colour": "red"}`: "colour", `{"name": 7}`: "name",
		`{"name": "ben", "mounts": [{"at":"/","store":"files","folder":"x","readOnly":false}], "grants": [{"path":"in","rights":"full"}]}`: "grants",
	} {
		problem = api.Problem{}
		c.Call("POST", "/accounts", body, 422, &problem)
		assert.Equal(t, field, problem.Field, body)
	}
	c.Call("POST", "/accounts", `{"name"`, 400, nil)
	c.Call("GET", "/accounts?limit=1", nil, 200, nil)
	c.Call("GET", "/accounts?limit=x", nil, 422, nil)
	c.Call("GET", "/accounts/ann", nil, 200, nil)
	c.Call("GET", "/accounts/nobody", nil, 404, nil)
	c.Call("PATCH", "/accounts/ann", map[string]any{"note": "hello"}, 200, nil)
	c.Call("GET", "/accounts/ann/handover?host=localhost", nil, 200, nil)
	c.Call("GET", "/accounts/ann/handover?format=pdf", nil, 422, nil)
	c.Call("POST", "/accounts/ann/password-link", api.PasswordLinkNew{Days: 99}, 422, nil)
	c.Call("POST", "/password-links/open", api.PasswordLinkOpen{Secret: "guessed"}, 404, nil)
	c.Call("DELETE", "/accounts/ann/codes", nil, 204, nil)
	c.Call("GET", "/locks", nil, 200, nil)
	c.Call("DELETE", "/locks/none", nil, 404, nil)
	var link api.PassMade
	c.Call("POST", "/passes", api.PassNew{Account: "ann", Kind: "drop", Paths: []string{"/"}, Days: 1, Note: "by the API"}, 201, &link)
	c.Call("POST", "/passes", api.PassNew{Account: "ann", Kind: "drop", Paths: []string{"/"}, Days: 400}, 422, nil)
	c.Call("POST", "/passes", api.PassNew{Account: "nobody", Kind: "drop", Paths: []string{"/"}, Days: 1}, 404, nil)
	c.Call("GET", "/passes?account=ann&limit=1", nil, 200, nil)
	c.Call("GET", "/passes/"+link.Pass.ID+"/uses", nil, 200, nil)
	c.Call("DELETE", "/passes/"+link.Pass.ID, nil, 204, nil)
	c.Call("DELETE", "/passes/none", nil, 404, nil)
	c.Call("DELETE", "/accounts/ann/passes", nil, 200, nil)
	notices(c)
	c.Call("GET", "/accounts/ann/explain?right=upload&path=/x&from=192.0.2.1&at=2026-03-01T00:00:00Z", nil, 200, nil)
	c.Call("GET", "/accounts/ann/explain?right=fly&path=/x", nil, 422, nil)
	c.Call("GET", "/accounts/ann/explain?right=upload&path=/x&from=x", nil, 422, nil)
	c.Call("PATCH", "/accounts/ann", `{"settings": {"validFrom": "2027-01-01T00:00:00Z", "validUntil": "2026-01-01"}}`, 422, nil)
	house(t, k, c)
	c.Call("POST", "/accounts/ann/suspend", nil, 200, nil)
	c.Call("POST", "/accounts/ann/resume", nil, 200, nil)
	public := string(testkit.OnDisk(t, k.Key("ann")+".pub"))
	c.Call("POST", "/accounts/ann/keys", api.KeyNew{Key: public}, 422, nil)
	var keys api.Page[api.Key]
	c.Call("GET", "/accounts/ann/keys", nil, 200, &keys)
	c.Call("DELETE", "/accounts/ann/keys/"+jsonOf(keys.Items[0].ID), nil, 204, nil)
	c.Call("POST", "/accounts/ann/keys", api.KeyNew{Key: public, Label: "laptop"}, 201, &keys)
	c.Call("PATCH", "/accounts/ann/keys/"+jsonOf(keys.Items[0].ID), `{"networks": ["192.0.2.0/24"]}`, 200, nil)
	c.Call("PATCH", "/accounts/ann/keys/"+jsonOf(keys.Items[0].ID), `{"networks": ["x"]}`, 422, nil)
	c.Call("PATCH", "/accounts/ann/keys/none", `{}`, 422, nil)
	c.Call("POST", "/accounts/ann/key-pairs", api.KeyPairNew{Label: "scanner"}, 201, nil)
	c.Call("POST", "/accounts/ann/key-pairs", `{"type": "dsa"}`, 422, nil)
	c.Call("POST", "/key-tests", api.KeyText{Key: public}, 200, nil)
	var hostKey api.HostKey
	c.Call("POST", "/host-keys", api.HostKeyNew{Type: "ecdsa"}, 201, &hostKey)
	c.Call("POST", "/host-keys", `{"private": "x"}`, 422, nil)
	c.Call("POST", "/host-keys/"+hostKey.ID+"/use", nil, 200, nil)
	c.Call("DELETE", "/host-keys/"+hostKey.ID, nil, 204, nil)
	c.Call("DELETE", "/host-keys/"+hostKey.ID, nil, 404, nil)

	file, _ := testkit.File(t, 1000)
	out, err := testkit.Run(t, "", "curl", "-sS", "-k", "--user", "ann:"+made.Password, "-T", file, "ftps://"+k.Address("ftps")+"/f")
	require.NoError(t, err, out)
	c.Call("GET", "/sessions", nil, 200, nil)
	c.Call("DELETE", "/sessions/none", nil, 404, nil)
	var moved api.Page[api.Transfer]
	c.Call("GET", "/transfers?account=ann&path=/f", nil, 200, &moved)
	require.Len(t, moved.Items, 1)
	assert.EqualValues(t, 1000, moved.Items[0].Bytes)
	require.Eventually(t, func() bool {
		var ins, outs []api.AuditRecord
		k.Must(&ins, "audit", "-account", "ann", "-action", "sign-in,rehearsal", "-outcome", "done")
		k.Must(&outs, "audit", "-account", "ann", "-action", "sign-out")
		return len(ins) == len(outs)
	}, 5*time.Second, 20*time.Millisecond, "nobody is about to be recorded")
	pages(t, c)
	c.Call("GET", "/audit?since=then", nil, 422, nil)
	var newest api.Page[api.AuditRecord]
	c.Call("GET", "/audit?network=127.0.0.0/8&has=F&text=upload&reason=&limit=5", nil, 200, &newest)
	assert.NotEmpty(t, newest.Items)
	c.Call("GET", "/audit?network=x", nil, 422, nil)
	for _, format := range []string{"csv", "jsonl", "xferlog", "w3c"} {
		c.Call("GET", "/audit/export?account=ann&format="+format, nil, 200, nil)
	}
	c.Call("GET", "/audit/export?format=pdf", nil, 422, nil)
	c.Call("GET", "/audit/verify", nil, 200, nil)
	c.Call("GET", "/audit/verify?checkpoint=x", nil, 422, nil)
	require.NoError(t, k.Seal.Sign(1, make([]byte, 32), time.Now()))
	c.Call("GET", "/audit/checkpoint", nil, 200, nil)
	c.Call("POST", "/audit/checkpoint", nil, 200, nil)
	c.Call("POST", "/accounts/ann/password-link", api.PasswordLinkNew{Days: 1}, 201, nil)
	key := string(testkit.OnDisk(t, testkit.NewPair(t)+".pub"))
	c.Call("POST", "/shelf", api.ShelfAsk{Name: "bureau", Key: &key}, 201, nil)
	c.Call("POST", "/shelf", api.ShelfAsk{Name: "empty"}, 422, nil)
	c.Call("PATCH", "/shelf/bureau", `{"owner": "Maren"}`, 200, nil)
	c.Call("POST", "/shelf/bureau/accounts", `{"accounts": ["ann"]}`, 200, nil)
	c.Call("GET", "/shelf", nil, 200, nil)
	c.Call("DELETE", "/shelf/bureau", nil, 409, nil)
	c.Call("DELETE", "/shelf/bureau/accounts/ann", nil, 204, nil)
	c.Call("DELETE", "/shelf/bureau/accounts/ann", nil, 404, nil)
	c.Call("DELETE", "/shelf/bureau", nil, 204, nil)
	c.Call("DELETE", "/accounts/ann", nil, 204, nil)
	c.Call("POST", "/sign-out", nil, 204, nil)
	c.Call("GET", "/me", nil, 401, nil)
	for _, item := range c.Doc.Paths.Map() {
		for method, operation := range item.Operations() {
			assert.True(t, c.Seen[operation.OperationID] || operation.OperationID == "live", "%s %s was not called", method, operation.OperationID)
		}
	}
}

// house calls what is about groups, stores, quotas and the gate.
func house(t *testing.T, k *testkit.Keep, c *testkit.Caller) {
	var problem api.Problem
	c.Call("GET", "/settings", nil, 200, nil)
	c.Call("POST", "/groups", `{"name": "crews", "settings": {"maxSessions": 3, "quotaBytes": "2GiB"}, "mounts": ["/maps=files:{group}/maps,ro"],
		"grants": ["/maps=read-only;days=mon-fri", {"path": "/in", "rights": "drop-only", "never": ["*.exe"]}]}`, 201, nil)
	for body, field := range map[string]string{`{"name": "crews"}`: "name", `{"name": "x", "settings": {"speed": 1}}`: "speed", `{"name": "x", "settings": {"umask": "888"}}`: "umask",
		`{"name": "x", "mounts": ["/maps"]}`: "mount", `{"name": "x", "grants": ["/=fly"]}`: "grant", `{"name": "x", "mounts": ["/=gone:x"]}`: "mounts"} {
		problem = api.Problem{}
		c.Call("POST", "/groups", body, 422, &problem)
		assert.Equal(t, field, problem.Field, body)
	}
	var named api.Page[api.Named]
	c.Call("GET", "/find?text=CREW", nil, 200, &named)
	assert.Equal(t, []api.Named{{Kind: "group", Name: "crews"}}, named.Items)
	c.Call("GET", "/find?text=+", nil, 422, &problem)
	c.Call("GET", "/groups", nil, 200, nil)
	c.Call("GET", "/groups/crews", nil, 200, nil)
	c.Call("GET", "/groups/none", nil, 404, nil)
	c.Call("PATCH", "/groups/crews", `{"settings": {"maxSessions": null, "umask": "007"}}`, 200, nil)
	c.Call("PATCH", "/accounts/ann", `{"groups": ["crews"], "settings": {"allow": ["127.0.0.0/8"], "starters": "/in"}}`, 200, nil)
	c.Call("PATCH", "/accounts/ann", `{"groups": ["none"]}`, 422, nil)
	c.Call("DELETE", "/groups/crews", nil, 409, &problem)
	assert.Contains(t, problem.Detail, "in use by the account ann")
	c.Call("GET", "/quotas", nil, 200, nil)
	c.Call("POST", "/quotas/recount", `{"store": "files", "folder": "ann"}`, 200, nil)
	c.Call("POST", "/quotas/recount", `{"store": "files", "folder": "none"}`, 404, nil)
	c.Call("GET", "/quotas/history?store=files&folder=ann", nil, 200, nil)
	c.Call("POST", "/accounts/ann/rehearsal", nil, 200, nil)
	c.Call("POST", "/accounts/ann/clone", `{"name": "ben", "generate": true}`, 201, nil)
	c.Call("GET", "/account-roster", nil, 200, nil)
	c.Call("POST", "/account-roster", `{"csv": "account,note\nben,hello\n", "dry": true}`, 200, nil)
	c.Call("POST", "/account-roster", `{"csv": "name\nben\n"}`, 422, nil)
	c.Call("DELETE", "/accounts/ben", nil, 204, nil)
	c.Call("POST", "/password-tests", `{"password": "crew-harbour", "account": "crew-harbour"}`, 200, nil)
	c.Call("POST", "/password-tests", `{"password": ""}`, 422, nil)
	folder := filepath.Join(t.TempDir(), "plates")
	c.Call("POST", "/stores", api.StoreNew{Name: "plates", Folder: folder}, 201, nil)
	c.Call("POST", "/stores", api.StoreNew{Name: "nested", Folder: filepath.Join(folder, "x")}, 422, nil)
	c.Call("GET", "/stores", nil, 200, nil)
	c.Call("PATCH", "/stores/plates", `{"durability": "process"}`, 200, nil)
	c.Call("PATCH", "/stores/plates", `{"durability": "hope"}`, 422, nil)
	c.Call("PATCH", "/stores/none", `{}`, 404, nil)
	c.Call("POST", "/stores/plates/mark", nil, 200, nil)
	c.Call("POST", "/stores/plates/check", nil, 200, nil)
	c.Call("POST", "/stores/none/check", nil, 404, nil)
	c.Call("POST", "/stores/plates/unlock", `{"passphrase": "x"}`, 422, nil)
	safe := api.StoreNew{Name: "safe", Kind: keep.Sealed, Folder: filepath.Join(t.TempDir(), "safe"), Site: keep.Site{Key: keep.ByPassphrase}}
	c.Call("POST", "/stores", safe, 422, &problem)
	assert.Equal(t, "passphrase", problem.Field)
	safe.Passphrase = "a long passphrase"
	var made api.Store
	c.Call("POST", "/stores", safe, 201, &made)
	assert.NotEmpty(t, made.Key)
	c.Call("POST", "/stores/safe/unlock", `{"passphrase": "another one"}`, 422, nil)
	c.Call("POST", "/stores/safe/unlock", `{"passphrase": "a long passphrase"}`, 200, nil)
	c.Call("GET", "/stores/safe/move", nil, 404, nil)
	c.Call("POST", "/stores/safe/move", `{"to": "files"}`, 422, nil) // it is in use
	c.Call("POST", "/stores/safe/move", `{"to": "plates", "dry": true}`, 200, nil)
	c.Call("POST", "/stores/safe/move", `{"to": "plates"}`, 200, nil)
	c.Call("GET", "/stores/safe/move", nil, 200, nil)
	require.Eventually(t, func() bool {
		var moved api.StoreMove
		c.Call("GET", "/stores/safe/move", nil, 200, &moved)
		return moved.Phase == "done"
	}, testkit.Patience, 50*time.Millisecond, "waited for an empty store to be moved")
	c.Call("DELETE", "/stores/safe/move", nil, 404, nil)
	c.Call("DELETE", "/stores/safe", nil, 204, nil)
	for field, wrong := range map[string]api.StoreNew{
		"kind": {Name: "x", Kind: "cloud"}, "endpoint": {Name: "x", Kind: keep.Object, Site: keep.Site{Endpoint: "objects"}}, "hostKeys": {Name: "x", Kind: keep.Remote, Site: keep.Site{Endpoint: "a:22", User: "u", Folder: "/"}},
		"bucket": {Name: "x", Folder: "/x", Site: keep.Site{Bucket: "b"}}, "recipients": {Name: "x", Kind: keep.Sealed, Folder: filepath.Join(t.TempDir(), "x"), Site: keep.Site{Recipients: []string{"age1"}}},
	} {
		c.Call("POST", "/stores", wrong, 422, &problem)
		assert.Equal(t, field, problem.Field)
	}
	c.Call("PUT", "/audit/durability", `{"durability": "process"}`, 200, nil)
	c.Call("GET", "/limits", nil, 200, nil)
	c.Call("PATCH", "/limits", `{"lockout": 60, "sessions": 4000}`, 200, nil)
	c.Call("PATCH", "/limits", `{"lockout": 0}`, 422, nil)
	c.Call("PATCH", "/limits", `{"lockouts": 60}`, 422, nil)
	c.Call("PUT", "/audit/durability", `{"durability": ""}`, 422, nil)
	c.Call("GET", "/audit/durability", nil, 200, nil)
	c.Call("PUT", "/store-grounds", api.Grounds{Grounds: []string{folder}}, 409, nil) // files lies elsewhere
	c.Call("PUT", "/store-grounds", api.Grounds{Grounds: []string{"x"}}, 422, nil)
	c.Call("PUT", "/store-grounds", api.Grounds{Grounds: []string{}}, 200, nil)
	c.Call("GET", "/store-grounds", nil, 200, nil)
	c.Call("DELETE", "/stores/plates", nil, 204, nil)
	c.Call("DELETE", "/stores/files", nil, 409, &problem)
	var known api.Page[api.ReportKnown]
	c.Call("GET", "/reports", nil, 200, &known)
	for _, r := range known.Items {
		about := map[string]string{"account": "ann", "place": "files:ann/f"}[r.About]
		c.Call("GET", "/reports/"+r.Name+"?about="+about, nil, 200, nil)
		c.Call("GET", "/reports/"+r.Name+"?format=csv&days=7&about="+about, nil, 200, nil)
	}
	c.Call("GET", "/reports/readers", nil, 422, nil)
	c.Call("GET", "/reports/readers?about=files", nil, 422, nil)
	c.Call("GET", "/reports/weather", nil, 404, nil)
	c.Call("GET", "/reports/unused?days=-1", nil, 422, nil)

	for _, by := range []string{"", "account", "group", "address", "protocol", "action", "mount", "file"} {
		c.Call("GET", "/traffic?zone=Europe/Lisbon&by="+by, nil, 200, nil)
		c.Call("GET", "/traffic?format=csv&step=hour&since="+time.Now().UTC().Add(-time.Hour).Format(time.RFC3339)+"&by="+by, nil, 200, nil)
	}
	for _, bad := range []string{"by=colour", "step=week", "zone=Local", "path=/f", "since=2026-01-01T00:00:00Z&until=2025-01-01T00:00:00Z", "step=hour&since=2001-01-01T00:00:00Z"} {
		c.Call("GET", "/traffic?"+bad, nil, 422, nil)
	}
	c.Call("GET", "/beats", nil, 200, nil)

	c.Call("GET", "/audit/count?outcome=refused", nil, 200, nil)
	c.Call("GET", "/audit/count?text=ann", nil, 200, nil)
	c.Call("PUT", "/audit/retention", `{"days": -1, "kinds": []}`, 422, nil)
	c.Call("PUT", "/audit/retention", `{"days": 1, "kinds": [{"actions": ["list", "list"], "days": 3}]}`, 422, nil)
	c.Call("PUT", "/audit/retention", `{"days": 400, "kinds": [{"actions": ["list"], "days": 30}]}`, 200, nil)
	c.Call("GET", "/audit/retention", nil, 200, nil)
	c.Call("POST", "/audit/archives", nil, 200, nil)
	c.Call("GET", "/audit/archives", nil, 200, nil)
	c.Call("GET", "/audit/archives/..%2Fkeep.db", nil, 404, nil)
	for _, bad := range []string{"collector.example", "http://collector.example:80", "tls://collector.example", "tcp://collector.example:0"} {
		c.Call("PUT", "/collector", jsonOf(map[string]string{"address": bad}), 422, nil)
	}
	c.Call("PUT", "/collector", `{"address": "tls://127.0.0.1:1", "trust": "no certificate"}`, 422, nil)
	c.Call("PUT", "/collector", `{"address": "udp://127.0.0.1:1"}`, 200, nil)
	c.Call("GET", "/collector", nil, 200, nil)
	c.Call("PUT", "/collector", `{"address": ""}`, 200, nil)
	c.Call("DELETE", "/transfers/nothing", nil, 404, nil)
	c.Call("GET", "/gate", nil, 200, nil)
	c.Call("PUT", "/gate", `{"allow": ["192.0.2.0/24"], "deny": []}`, 409, &problem)
	assert.Equal(t, "shuts-you-out", problem.Reason)
	c.Call("PUT", "/gate", `{"allow": ["192.0.2.0/24"], "deny": [], "meant": true}`, 200, nil)
	c.Call("GET", "/gate", nil, 403, nil)
	k.Must(nil, "gate", "set", "-allow", "everybody")
	c.Call("PUT", "/gate", `{"allow": ["x"], "deny": []}`, 400, nil)
	c.Call("PATCH", "/accounts/ann", `{"groups": [], "settings": {"allow": null}}`, 200, nil)
	c.Call("DELETE", "/groups/crews", nil, 204, nil)
}

// pages walks the trail in small pages: each record comes once, newest first.
func pages(t *testing.T, c *testkit.Caller) {
	var whole, page api.Page[api.AuditRecord]
	c.Call("GET", "/audit?limit=1000", nil, 200, &whole)
	var walked []api.AuditRecord
	for next := ""; ; next = "&before=" + page.Next {
		page = api.Page[api.AuditRecord]{}
		c.Call("GET", "/audit?limit=4"+next, nil, 200, &page)
		walked = append(walked, page.Items...)
		if page.Next == "" {
			break
		}
	}
	assert.Equal(t, whole.Items, walked)
}

func jsonOf(v any) string { text, _ := json.Marshal(v); return string(text) }

func TestAnAuditorReadsAndChangesNothing(t *testing.T) {
	k := testkit.Start(t)
	c := testkit.NewCaller(t, k)
	testkit.SetUp(t, k, c)
	operator, err := k.DB.Operator(t.Context(), "ilse")
	require.NoError(t, err)
	operator.Name, operator.Role = "auditor", "auditor"
	require.NoError(t, k.DB.AddOperator(t.Context(), operator))
	k.Account("ann")
	c.Call("POST", "/sign-in", api.SignIn{Operator: "auditor", Password: testkit.Password}, 200, nil)
	c.Call("GET", "/accounts", nil, 200, nil)
	var problem api.Problem
	c.Call("POST", "/accounts/ann/suspend", nil, 403, &problem)
	assert.Contains(t, problem.Detail, "an auditor reads and changes nothing")
	c.Call("POST", "/sign-out", nil, 204, nil)
}

func TestTheLiveStreamTellsOfATransferAndEndsWithTheService(t *testing.T) {
	k := testkit.Start(t)
	c := testkit.NewCaller(t, k)
	testkit.SetUp(t, k, c)
	k.Account("ann")
	c.HTTP.Timeout = 0
	response, err := c.HTTP.Get(c.Base + "/api/v1/live")
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
	deadline := time.After(testkit.Patience)
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

func notices(c *testkit.Caller) {
	c.Call("POST", "/sources", `{"name": "city", "kind": "directory", "servers": ["ldaps://127.0.0.1:1"], "base": "dc=example", "bindAs": "cn=x,dc=example", "secret": "abc"}`, 201, nil)
	c.Call("POST", "/sources", `{"name": "city", "kind": "directory", "servers": ["ldaps://127.0.0.1:1"], "base": "dc=example"}`, 422, nil)
	c.Call("POST", "/sources", `{"name": "other", "kind": "directory", "servers": ["ldaps://127.0.0.1:1"], "base": "dc=example", "table": [{"theirs": "a", "ours": "nobody"}]}`, 422, nil)
	c.Call("PATCH", "/sources/city", `{"away": "recent"}`, 200, nil)
	c.Call("PATCH", "/sources/city", `{"servers": ["ldaps://127.0.0.2:1"]}`, 422, nil) // its secret was for another
	c.Call("PATCH", "/sources/city", `{"name": "town"}`, 422, nil)
	c.Call("PATCH", "/sources/nobody", `{"off": true}`, 404, nil)
	c.Call("POST", "/sources", `{"name": "hall", "kind": "sso", "servers": ["https://127.0.0.1:1"], "knownAs": "files", "roles": [{"theirs": "it-desk", "role": "manager"}]}`, 201, nil)
	c.Call("POST", "/sources", `{"name": "tower", "kind": "sso", "standard": "saml", "servers": [], "metadata": "<x/>"}`, 422, nil)
	for _, wrong := range []string{`{"servers": ["http://id.example"]}`, `{"standard": "saml"}`, `{"away": "recent"}`, `{"base": "dc=example"}`, `{"roles": [{"theirs": "x", "role": "king"}]}`} {
		c.Call("PATCH", "/sources/hall", wrong, 422, nil)
	}
	c.Call("POST", "/sources/hall/check", `{}`, 200, nil)
	c.Call("GET", "/sign-in/sso", nil, 200, nil)
	c.Call("POST", "/sign-in/sso", `{"source": "hall"}`, 503, nil) // it can't be reached
	c.Call("POST", "/sign-in/sso", `{"source": "city"}`, 404, nil)
	c.Call("DELETE", "/sources/hall", nil, 204, nil)
	c.Call("GET", "/sources", nil, 200, nil)
	c.Call("POST", "/sources/city/check", `{"account": "ann", "password": "abc"}`, 200, nil)
	c.Call("POST", "/sources/city/sync", `{"go": true}`, 503, nil) // it is not there
	c.Call("POST", "/sources/nobody/sync", "{}", 404, nil)
	c.Call("PUT", "/routes", `{"routes": [{"pattern": "*@example.org", "sources": ["city", "own"]}]}`, 200, nil)
	c.Call("PUT", "/routes", `{"routes": [{"pattern": "*", "sources": ["nobody"]}]}`, 422, nil)
	c.Call("GET", "/routes", nil, 200, nil)
	c.Call("DELETE", "/sources/city", nil, 409, nil)
	c.Call("PUT", "/routes", `{"routes": []}`, 200, nil)
	c.Call("DELETE", "/sources/city", nil, 204, nil)
	c.Call("POST", "/receivers", `{"name": "office", "kind": "web", "url": "https://192.0.2.1/x", "headers": [{"name": "X-Key", "value": "secret"}]}`, 201, nil)
	c.Call("POST", "/receivers", `{"name": "office", "kind": "mail", "to": ["ann@example.org"]}`, 422, nil)
	c.Call("PATCH", "/receivers/office", `{"timeout": 1}`, 200, nil)
	c.Call("PATCH", "/receivers/office", `{"body": "{{range .Notices}}x{{end}}"}`, 422, nil)
	c.Call("PATCH", "/receivers/office", `{"url": "https://192.0.2.2/"}`, 422, nil) // its headers were for another
	c.Call("PATCH", "/receivers/nobody", `{"timeout": 1}`, 404, nil)
	c.Call("GET", "/receivers", nil, 200, nil)
	c.Call("POST", "/receivers/office/test", "{}", 200, nil)
	c.Call("POST", "/receivers/office/retry", "{}", 200, nil)
	c.Call("POST", "/receivers/nobody/retry", "{}", 404, nil)
	c.Call("POST", "/notices", `{"name": "in", "events": ["upload"], "receivers": ["office"], "window": {"days": "mon-fri"}}`, 201, nil)
	c.Call("POST", "/notices", `{"name": "never", "events": ["listener-failed"], "receivers": ["office"], "paths": ["/x"]}`, 422, nil)
	c.Call("PATCH", "/notices/in", `{"paths": ["/in/**"], "window": null}`, 200, nil)
	c.Call("PATCH", "/notices/nobody", `{"note": "x"}`, 404, nil)
	c.Call("GET", "/notices", nil, 200, nil)
	c.Call("GET", "/notice-events", nil, 200, nil)
	c.Call("GET", "/notices/in/dry-run?since=-1d", nil, 200, nil)
	c.Call("POST", "/notice-dry-runs", `{"name": "x", "events": ["sign-in"], "receivers": ["office"]}`, 200, nil)
	c.Call("POST", "/notices/in/test", "{}", 200, nil)
	c.Call("GET", "/told?receiver=office&state=told", nil, 200, nil)
	c.Call("GET", "/told?state=x", nil, 422, nil)
	c.Call("DELETE", "/receivers/office", nil, 409, nil)
	c.Call("DELETE", "/notices/in", nil, 204, nil)
	c.Call("DELETE", "/receivers/office", nil, 204, nil)
	c.Call("GET", "/troubles", nil, 200, nil)
	c.Call("GET", "/held", nil, 200, nil)
	c.Call("POST", "/held/none", `{"answer": "yes"}`, 404, nil)
	c.Call("POST", "/held/none", `{"answer": "perhaps"}`, 422, nil)
	c.Call("PUT", "/mail", `{"host": "mail.example.org", "from": "x@example.org", "user": "x", "password": "y"}`, 200, nil)
	c.Call("PUT", "/mail", `{"host": "other.example.org", "from": "x@example.org", "user": "x"}`, 422, nil) // the password was for another
	c.Call("GET", "/mail", nil, 200, nil)
	c.Call("PUT", "/mail", `{"host": ""}`, 200, nil)
	c.Call("POST", "/mail/test", `{"to": "x@example.org"}`, 422, nil)
}
