package portal_test

import (
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// A token reaches its folder and does what it was given, as far as its account may itself now, and nothing else.
func TestATokenIsHeldToItsFolderAndRights(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	for _, name := range []string{"plates/one.tif", "plates/north/two.tif", "other/secret.tif", "secret.tif"} {
		put(t, k, name, []byte(name))
	}
	require.NoError(t, os.Symlink("../other/secret.tif", filepath.Join(k.Home("ann"), "plates/link")))
	h := in(t, k, "ann")
	ask := api.PortalTokenNew{Now: testkit.Password, Label: "nightly", Path: "/plates", Rights: []string{"list", "download", "upload"}, Days: 30}
	for field, wrong := range map[string]func(*api.PortalTokenNew){
		"now": func(a *api.PortalTokenNew) { a.Now = "wrong" }, "label": func(a *api.PortalTokenNew) { a.Label = " " }, "rights": func(a *api.PortalTokenNew) { a.Rights = []string{"fly"} },
		"days": func(a *api.PortalTokenNew) { a.Days = 367 },
	} {
		bad := ask
		wrong(&bad)
		assert.Equal(t, field, h.post("api/v1/account/tokens", bad, 422, nil).Field)
	}
	var made api.PortalTokenMade
	h.post("api/v1/account/tokens", ask, 200, &made)
	script := newHolder(t, k)
	bearer := "Authorization: Bearer " + made.Token
	for _, try := range []struct {
		method, path string
		body         any
		want         int
	}{
		{"GET", "files/plates/one.tif", nil, 200}, {"GET", "files/plates/north/two.tif", nil, 200}, {"GET", "api/v1/folder?path=/plates", nil, 200},
		{"PUT", "files/plates/new.tif", []byte("new"), 204}, {"PUT", "files/plates/one.tif", []byte("other"), 403},
		{"POST", "api/v1/removals", api.PortalRemoval{Path: "/plates/one.tif"}, 403}, {"POST", "api/v1/renames", api.PortalRename{Path: "/plates/one.tif", To: "/plates/x"}, 403},
		{"POST", "api/v1/copies", api.PortalRename{Path: "/plates/one.tif", To: "/other/x"}, 403}, {"POST", "api/v1/copies", api.PortalRename{Path: "/other/secret.tif", To: "/plates/x"}, 403},
		{"GET", "files/secret.tif", nil, 403}, {"GET", "files/other/secret.tif", nil, 403}, {"GET", "files/plates/link", nil, 403}, {"GET", "files/plates/..%2fsecret.tif", nil, 403},
		{"GET", "api/v1/folder?path=/", nil, 403}, {"GET", "api/v1/folder?path=/other", nil, 403}, {"GET", "zip?path=/other", nil, 403},
		{"GET", "api/v1/account", nil, 403}, {"POST", "api/v1/account/password", api.PortalOwnPassword{}, 403}, {"POST", "api/v1/account/tokens", ask, 403},
	} {
		status, text := script.do(try.method, try.path, try.body, bearer)
		assert.Equal(t, try.want, status, "%s %s: %s", try.method, try.path, text)
		assert.NotContains(t, string(text), "secret.tif\"", "no name of what lies elsewhere")
	}
	status, _ := script.do("GET", "api/v1/me", nil, "Authorization: Bearer guessed")
	assert.Equal(t, 401, status)

	// Its requests share one session, whoever is quicker.
	k.Must(nil, "account", "set", "ann", "-max-sessions", "0")
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			request, err := http.NewRequest("GET", script.base+"files/plates/one.tif", nil)
			if !assert.NoError(t, err) {
				return
			}
			request.Header.Set("Authorization", "Bearer "+made.Token)
			if response, err := script.http.Do(request); assert.NoError(t, err) {
				response.Body.Close()
				assert.Equal(t, 200, response.StatusCode)
			}
		})
	}
	all.Wait()
	var sessions []api.Session
	k.Must(&sessions, "session", "list")
	assert.Len(t, sessions, 2, "the browser's and the script's")

	// What the account may no longer do, its token may not; what is ended works no more.
	k.Must(nil, "account", "set", "ann", "-grant", "/plates/north=list")
	status, _ = script.do("GET", "files/plates/north/two.tif", nil, bearer)
	assert.Equal(t, 403, status)
	status, _ = script.do("GET", "files/secret.tif", nil, bearer)
	assert.Equal(t, 403, status, "a change of the account widens nothing")
	var facts api.PortalAccount
	_, text := h.do("GET", "api/v1/account", nil)
	require.NoError(t, json.Unmarshal(text, &facts))
	require.Len(t, facts.Tokens, 1)
	assert.NotContains(t, string(text), made.Token)
	assert.NotNil(t, facts.Tokens[0].LastUsed)
	status, _ = h.do("DELETE", "api/v1/account/tokens/"+facts.Tokens[0].ID, nil)
	assert.Equal(t, 204, status)
	status, _ = script.do("GET", "files/plates/one.tif", nil, bearer)
	assert.Equal(t, 401, status)
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-account", "ann", "-action", "sign-in", "-outcome", "done")
	with := 0
	for _, r := range trail {
		if r.Detail == "with the token nightly" {
			with++
		}
	}
	assert.Positive(t, with)
}

// Every operation that is described is there, and asks who calls; what is about the account itself is nothing for a token.
func TestEveryRouteOfThePortalAsksWhoCalls(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	h := in(t, k, "ann")
	var made api.PortalTokenMade
	h.post("api/v1/account/tokens", api.PortalTokenNew{Now: testkit.Password, Label: "all", Path: "/", Rights: []string{"full"}, Days: 1}, 200, &made)
	stranger, script := newHolder(t, k), newHolder(t, k)
	for path, item := range stranger.doc.Doc.Paths.Map() {
		for method, operation := range item.Operations() {
			at := strings.TrimPrefix(strings.ReplaceAll(path, "{id}", "x"), "/")
			open, person := operation.Security != nil && len(*operation.Security) == 0, operation.Security != nil && len(*operation.Security) == 1
			answer := stranger.tus(method, at, strings.NewReader("{}"), "Content-Type: application/json")
			status := answer.StatusCode
			if open {
				said, err := io.ReadAll(answer.Body)
				require.NoError(t, err)
				assert.NotContains(t, []int{405, 500}, status, "%s %s", method, path)
				assert.NotContains(t, string(said), "nothing is at this address", "%s %s", method, path)
				continue
			}
			assert.Equal(t, 401, status, "%s %s", method, path)
			status = script.tus(method, at, strings.NewReader("{}"), "Content-Type: application/json", "Authorization: Bearer "+made.Token).StatusCode
			if person {
				assert.Equal(t, 403, status, "%s %s", method, path)
			} else {
				assert.NotContains(t, []int{401, 405, 500}, status, "%s %s", method, path)
			}
		}
	}
}
