package abuse_test

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/service"
	"urbankeep/tests/testkit"
)

// strangersRoutes are those that read a body of who has not signed in, and with what a browser sends it.
var strangersRoutes = []struct{ method, path, kind string }{
	{"POST", "/api/v1/setup", "application/json"},
	{"POST", "/api/v1/sign-in", "application/json"},
	{"POST", "/api/v1/sign-in/passkey", "application/json"},
	{"POST", "/api/v1/sign-in/sso", "application/json"},
	{"POST", "/api/v1/password-links/open", "application/json"},
	{"POST", "/portal/api/v1/sign-in", "application/json"},
	{"POST", "/portal/api/v1/password", "application/json"},
	{"POST", "/portal/api/v1/codes", "application/json"},
	{"POST", "/portal/api/v1/passkeys/sign-in", "application/json"},
	{"POST", "/portal/api/v1/sso", "application/json"},
	{"POST", "/sso/back?state=x", "application/x-www-form-urlencoded"},
	{"POST", "/pass/x/", "application/x-www-form-urlencoded"},
	{"POST", "/pass/x/told", "application/json"},
	{"PROPFIND", "/dav/", "application/xml"},
}

// Whatever a stranger sends, the service says what is wrong with it, soon.
func FuzzBodiesBeforeASignIn(f *testing.F) {
	k := testkit.StartOn(f, testkit.Folder(f), "127.0.0.1", func(o *service.Options) { o.FailureDelay = time.Millisecond })
	k.Account("ann")
	k.Must(nil, "listener", "add", "all", "web", "127.0.0.1:0", "-encryption", "off", "-faces", "console,portal,passes,dav")
	base := "http://" + k.Address("all")
	ask := func(t testing.TB, method, path, kind string, body []byte) (int, []byte) {
		request, err := http.NewRequest(method, base+path, bytes.NewReader(body))
		require.NoError(t, err)
		request.Host = "localhost" // where passkeys may be used
		request.Header.Set("Content-Type", kind)
		client := http.Client{Timeout: testkit.Patience, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		answer, err := client.Do(request)
		require.NoError(t, err)
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.StatusCode, text
	}
	for n, text := range []string{"{}", `{"name":"first","password":"tide-table-low-7","secret":"x"}`, `{"operator":"ilse","password":"x","code":"123456"}`, `{"id":"ID","response":{"id":"AA","rawId":"AA","type":"public-key","response":{"clientDataJSON":"e30","authenticatorData":"AA","signature":"AA","userHandle":"AA"}}}`,
		`{"source":"x"}`, `{"secret":"x"}`, `{"account":"ann","password":"wrong"}`, `{"account":"ann","password":"wrong","next":"tide-table-low-8"}`, `{"account":"ann","password":"wrong","newSecret":"AAAA","code":"000000"}`,
		`{"id":"ID","response":{}}`, `{"source":"x","link":"y"}`, "SAMLResponse=AAAA&RelayState=x", "password=x", `{"from":"x"}`, `<propfind xmlns="DAV:"><allprop/></propfind>`, "[", "\xff\xfe", strings.Repeat(`{"a":`, 10_000)} {
		f.Add(uint8(n), []byte(text))
	}
	f.Fuzz(func(t *testing.T, route uint8, body []byte) {
		to := strangersRoutes[int(route)%len(strangersRoutes)]
		if bytes.Contains(body, []byte("ID")) && strings.Contains(to.path, "passkey") {
			_, text := ask(t, "POST", strings.Replace(strings.TrimSuffix(to.path, "/sign-in"), "/passkey", "/passkey", 1)+"/ask", "application/json", []byte("{}"))
			var asked api.PasskeyAsk
			require.NoError(t, json.Unmarshal(text, &asked), string(text))
			body = bytes.ReplaceAll(body, []byte("ID"), []byte(asked.ID))
		}
		status, text := ask(t, to.method, to.path, to.kind, body)
		if status < 300 || status >= 500 {
			t.Fatalf("%s %s: %d %s", to.method, to.path, status, text)
		}
	})
}
