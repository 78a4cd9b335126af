//go:build linux

package house_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"os"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/tests/testkit"
)

// held counts what this process, the service in it, holds: descriptors and goroutines.
func held(t *testing.T) (descriptors, goroutines int) {
	found, err := os.ReadDir("/proc/self/fd")
	require.NoError(t, err)
	for _, one := range found {
		// The database has as many readers as were busy at once, up to its bound.
		if to, _ := os.Readlink("/proc/self/fd/" + one.Name()); !strings.Contains(to, "/urbankeep.db") {
			descriptors++
		}
	}
	return descriptors, runtime.NumGoroutine()
}

// Every route of both descriptions is called by a stranger, by who has signed in, with a body that is none, an empty one, one that
// is too long, and left in the middle: afterwards no descriptor and no goroutine is open that was not before.
func TestNoRouteLeavesAnythingOpen(t *testing.T) {
	k := testkit.Start(t)
	console := testkit.NewCaller(t, k)
	testkit.SetUp(t, k, console)
	console.Call("POST", "/operators", api.OperatorNew{Operator: "mia", Password: testkit.Password, Role: keep.Manager}, 201, nil)
	k.Account("ann")
	k.Account("ben", "-second-factor", "required")
	k.Account("cy", "-must-change")
	portal := "http://" + k.Address("web") + "/portal"
	holder := func(account string) *http.Client {
		jar, err := cookiejar.New(nil)
		require.NoError(t, err)
		client := &http.Client{Jar: jar, Timeout: testkit.Patience, Transport: &http.Transport{}}
		response, err := client.Post(portal+"/api/v1/sign-in", "application/json", strings.NewReader(`{"account": "`+account+`", "password": "`+testkit.Password+`"}`))
		require.NoError(t, err)
		response.Body.Close()
		require.Equal(t, 200, response.StatusCode)
		return client
	}
	stranger := &http.Client{Transport: &http.Transport{}, Timeout: testkit.Patience}
	known := map[bool]*http.Client{false: testkit.SignedIn(t, k, "mia").HTTP, true: holder("ann")}
	call := func(client *http.Client, method, at string, body io.Reader, within time.Duration) {
		ctx, cancel := context.WithTimeout(t.Context(), within)
		defer cancel()
		request, err := http.NewRequestWithContext(ctx, method, at, body)
		require.NoError(t, err)
		request.Header.Set("Content-Type", "application/json")
		if response, err := client.Do(request); err == nil {
			io.Copy(io.Discard, io.LimitReader(response.Body, 1<<20))
			response.Body.Close()
		}
	}
	all := func() {
		for _, one := range []struct {
			portal bool
			base   string
			file   string
		}{{false, console.Base + "/api/v1", "../../internal/face/web/openapi.yaml"}, {true, portal, "../../internal/face/portal/openapi.yaml"}} {
			for path, item := range testkit.Described(t, one.file).Doc.Paths.Map() {
				for method, operation := range item.Operations() {
					if id := operation.OperationID; id == "signOut" || id == "setGate" || id == "changePassword" && !one.portal {
						continue // which ends the others
					}
					at := one.base + placeholder.ReplaceAllString(path, "none")
					for _, client := range []*http.Client{stranger, known[one.portal]} {
						for _, body := range []string{"", "{", "{}", `{"account": "ann", "operator": "mia", "password": "` + testkit.Password + `"}`, strings.Repeat("x", 100<<10)} {
							call(client, method, at, strings.NewReader(body), 300*time.Millisecond)
						}
						call(client, method, at, &slow{}, 5*time.Millisecond) // and leaves
					}
				}
			}
		}
		// With a right password, where there is nothing to change and where there is.
		for _, account := range []string{"ann", "ben", "cy"} {
			for at, body := range map[string]string{"/api/v1/password": `{"account": "%s", "now": "%s", "next": "short"}`, "/api/v1/codes": `{"account": "%s", "password": "%s"}`} {
				for range 10 {
					call(stranger, "POST", portal+at, strings.NewReader(fmt.Sprintf(body, account, testkit.Password)), testkit.Patience)
				}
			}
		}
	}
	settle := func() {
		for _, client := range []*http.Client{stranger, known[false], known[true], console.HTTP} {
			client.CloseIdleConnections()
		}
		for range 40 { // until what was left has ended
			time.Sleep(50 * time.Millisecond)
		}
	}
	k.Must(nil, "limits", "set", "-failures-per-address", "100000", "-failures-per-account", "100000", "-delay", "0s")
	all()
	settle()
	descriptors, goroutines := held(t)
	all()
	settle()
	var after, running int
	for range 100 {
		if after, running = held(t); after <= descriptors && running <= goroutines {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	stacks := make([]byte, 1<<20)
	t.Fatalf("%d descriptors were open and %d goroutines ran; afterwards %d and %d:\n%s", descriptors, goroutines, after, running, stacks[:runtime.Stack(stacks, true)])
}

// slow is a body that begins and never goes on.
type slow struct{ begun bool }

func (s *slow) Read(p []byte) (int, error) {
	if !s.begun {
		s.begun = true
		return copy(p, `{"account`), nil
	}
	time.Sleep(30 * time.Millisecond)
	return 0, io.ErrUnexpectedEOF
}

// Forty sign-ins of one account to the portal have its folders open once, and who comes after a folder was taken away and made anew
// is in the new one.
func TestManySignInsOfAnAccountHaveItsFoldersOpenOnce(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-mount", "/=files:ann", "-mount", "/in=files:in", "-max-sessions", "0")
	client := &http.Client{Transport: &http.Transport{}, Timeout: testkit.Patience}
	in := func() []*http.Cookie {
		response, err := client.Post("http://"+k.Address("web")+"/portal/api/v1/sign-in", "application/json", strings.NewReader(`{"account": "ann", "password": "`+testkit.Password+`"}`))
		require.NoError(t, err)
		response.Body.Close()
		require.Equal(t, 200, response.StatusCode)
		return response.Cookies()
	}
	in()
	client.CloseIdleConnections()
	before, _ := held(t)
	for range 39 {
		in()
	}
	client.CloseIdleConnections()
	require.Eventually(t, func() bool { after, _ := held(t); return after < before+10 }, testkit.Patience, 50*time.Millisecond, "80 folders are open else")
	require.NoError(t, os.Rename(k.Home("ann"), k.Home("old")))
	request, err := http.NewRequestWithContext(t.Context(), "PUT", "http://"+k.Address("web")+"/portal/files/new.txt", strings.NewReader("new"))
	require.NoError(t, err)
	for _, c := range in() {
		request.AddCookie(c)
	}
	response, err := client.Do(request)
	require.NoError(t, err)
	response.Body.Close()
	require.Equal(t, 204, response.StatusCode)
	require.FileExists(t, k.Home("ann")+"/new.txt")
	client.CloseIdleConnections()
}
