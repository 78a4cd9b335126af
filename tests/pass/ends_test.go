package pass_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/service"
	"urbankeep/tests/testkit"
)

func TestALinkHasAnEnd(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	put(t, k, "one.tif", make([]byte, 100_000))
	get := func(m api.PassMade, from string) int {
		status, _ := newGuest(t, from).do("GET", m.Link+"0/one.tif", nil)
		return status
	}
	soonOver := made(t, k, "/one.tif", "-days", fmt.Sprint(2.0/86400))
	ended := made(t, k, "/one.tif")
	assert.Equal(t, []int{200, 200}, []int{get(soonOver, "127.0.0.1"), get(ended, "127.0.0.1")})
	k.Must(nil, "pass", "end", ended.Pass.ID)
	assert.Equal(t, 410, get(ended, "127.0.0.1"))
	k.Must(nil, "pass", "end", ended.Pass.ID) // it is so already
	soon(t, "its time to be over", func() bool { return time.Now().After(soonOver.Pass.Expires) })
	assert.Equal(t, 410, get(soonOver, "127.0.0.1"))

	// Uses: by one address until it is quiet, whatever it moves; of two that come at once one is too many.
	once := made(t, k, "/one.tif", "-uses", "1")
	status, page := newGuest(t, "127.0.0.9").do("GET", once.Link, nil, html)
	require.Equal(t, 200, status, page)
	assert.Equal(t, []int{200, 200, 410}, []int{get(once, "127.0.0.1"), get(once, "127.0.0.1"), get(once, "127.0.0.2")}, "looking at the page is no use")
	status, page = newGuest(t, "127.0.0.3").do("GET", once.Link, nil, html)
	assert.Equal(t, 410, status)
	assert.Contains(t, page, "as often as it may")
	race := made(t, k, "/one.tif", "-uses", "3")
	var all sync.WaitGroup
	var done atomic.Int64
	for i := range 12 {
		all.Go(func() {
			if get(race, fmt.Sprintf("127.0.1.%d", i+1)) == 200 {
				done.Add(1)
			}
		})
	}
	all.Wait()
	assert.Equal(t, int64(3), done.Load())

	// Bytes: of all visits together; what does not fit is said before its first byte.
	most := made(t, k, "/one.tif", "-bytes", "250000")
	assert.Equal(t, []int{200, 200, 413}, []int{get(most, "127.0.0.1"), get(most, "127.0.0.2"), get(most, "127.0.0.3")})
	status, _ = newGuest(t, "127.0.0.4").do("GET", most.Link+"0/one.tif", nil, "Range: bytes=0-40000")
	assert.Equal(t, 206, status)
	drop := made(t, k, "/", "-drop", "-bytes", "1000000")
	response, err := newGuest(t, "127.0.0.1").http.Post(drop.Link, "application/octet-stream", nil)
	require.NoError(t, err)
	response.Body.Close()
	request, err := http.NewRequest("PUT", drop.Link+"endless.bin", io.LimitReader(zeros{}, 1<<30))
	require.NoError(t, err)
	response, err = newGuest(t, "127.0.0.1").http.Do(request)
	if err == nil {
		response.Body.Close()
		assert.GreaterOrEqual(t, response.StatusCode, 400)
	}
	var list []api.Pass
	k.Must(&list, "pass", "list", "-account", "ann", "-ended")
	for _, p := range list {
		if p.ID == drop.Pass.ID {
			assert.Less(t, p.Bytes, int64(1_000_000+2<<20))
			assert.False(t, p.Open)
		}
	}
	assert.NoFileExists(t, filepath.Join(k.Home("ann"), "endless.bin"))

	// Networks.
	near := made(t, k, "/one.tif", "-networks", "127.0.2.0/24")
	assert.Equal(t, []int{200, 403}, []int{get(near, "127.0.2.7"), get(near, "127.0.0.1")})

	// All of an account at once.
	var n api.PassesEnded
	k.Must(&n, "pass", "end", "-account", "ann")
	assert.Positive(t, n.Ended)
	assert.Equal(t, 410, get(near, "127.0.2.7"))
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { return len(p), nil }

func TestALinkAsksForItsPassword(t *testing.T) {
	k := testkit.StartOn(t, testkit.Folder(t), "127.0.0.1", func(o *service.Options) { o.Limits = testkit.Limits(4, 100) })
	k.Account("ann")
	put(t, k, "one.tif", []byte("one"))
	var m api.PassMade
	out, errs, code := k.CLIWith("correct horse 7\n", "pass", "add", "ann", "/one.tif", "-password", "-json")
	require.Zero(t, code, errs)
	require.NoError(t, json.Unmarshal([]byte(out), &m))
	g := newGuest(t, "127.0.0.1")
	status, page := g.do("GET", m.Link, nil, html)
	assert.Equal(t, 401, status)
	assert.Contains(t, page, `type="password"`)
	assert.NotContains(t, page, "one.tif")
	for _, address := range []string{"0/one.tif", "zip"} {
		status, text := g.do("GET", m.Link+address, nil)
		assert.Equal(t, 401, status, text)
	}
	enter := func(password string) int {
		status, _ := g.do("POST", m.Link, strings.NewReader(url.Values{"password": {password}}.Encode()), "Content-Type: application/x-www-form-urlencoded", html)
		return status
	}
	assert.Equal(t, 401, enter("wrong"))
	assert.Equal(t, 200, enter("correct horse 7"))
	status, text := g.do("GET", m.Link+"0/one.tif", nil)
	assert.Equal(t, []any{200, "one"}, []any{status, text})
	out, err := curl(t, t.TempDir(), "-u", ":correct horse 7", m.Link+"0/one.tif")
	require.NoError(t, err)
	assert.Equal(t, "one", out)

	// Guessing locks the address out, for the right password too.
	far := newGuest(t, "127.0.0.2")
	for range 6 {
		status, _ = far.do("GET", m.Link+"0/one.tif", nil, "Authorization: Basic Omd1ZXNz")
		assert.Contains(t, []int{401, 429}, status)
	}
	assert.Equal(t, 429, status)
	out, err = curl(t, t.TempDir(), "--interface", "127.0.0.2", "-u", ":correct horse 7", m.Link+"0/one.tif")
	assert.Error(t, err)
	assert.Contains(t, out, "too many wrong passwords")
	out, _ = curl(t, t.TempDir(), "-u", ":correct horse 7", m.Link+"0/one.tif")
	assert.Equal(t, "one", out, "others are not")
}

// What ends a link ends what is done with it within a second.
func TestWhatTheAccountMayNotALinkMayNot(t *testing.T) {
	for name, narrow := range map[string][]string{
		"ended":     {"pass", "end", "-account", "ann"},
		"suspended": {"account", "suspend", "ann"},
		"deleted":   {"account", "delete", "ann"},
		"narrowed":  {"account", "set", "ann", "-rights", "list"},
		"over":      {"account", "set", "ann", "-valid-until", "2020-01-01"},
	} {
		t.Run(name, func(t *testing.T) {
			k := testkit.Start(t)
			k.Account("ann", "-speed-down", "1M", "-speed-up", "1M")
			put(t, k, "big.bin", make([]byte, 100<<20))
			fetch, drop := made(t, k, "/big.bin"), made(t, k, "/", "-drop")
			g := newGuest(t, "127.0.0.1")
			response, err := g.http.Get(fetch.Link + "0/big.bin")
			require.NoError(t, err)
			defer response.Body.Close()
			_, err = io.CopyN(io.Discard, response.Body, 1000)
			require.NoError(t, err)
			sent := make(chan error, 1)
			pipe, w := io.Pipe()
			go func() {
				request, _ := http.NewRequest("PUT", drop.Link+"up.bin", pipe)
				response, err := newGuest(t, "127.0.0.2").http.Do(request)
				if err == nil {
					response.Body.Close()
					err = fmt.Errorf("status %d", response.StatusCode)
				}
				pipe.CloseWithError(err)
				sent <- err
			}()
			go io.Copy(w, zeros{})
			soon(t, "an upload to run", func() bool {
				parts, _ := filepath.Glob(filepath.Join(k.Home("ann"), ".urbankeep-part-*"))
				return len(parts) == 1
			})
			k.Must(nil, narrow...)
			begun := time.Now()
			n, err := io.Copy(io.Discard, response.Body)
			assert.Error(t, err)
			assert.Less(t, n, int64(100<<20))
			assert.Error(t, <-sent)
			assert.Less(t, time.Since(begun), testkit.Patience/4)
			status, _ := g.do("GET", fetch.Link+"0/big.bin", nil)
			assert.Contains(t, []int{403, 404, 410}, status)
			status, page := newGuest(t, "127.0.0.1").do("GET", fetch.Link, nil, html)
			assert.NotContains(t, page, "grant", status)
			assert.NoFileExists(t, filepath.Join(k.Home("ann"), "up.bin"))
		})
	}
}

// Guessed links find nothing and fill no trail.
func TestGuessedLinksFillNoTrail(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	put(t, k, "one.tif", []byte("one"))
	m := made(t, k, "/one.tif")
	var before, after []api.AuditRecord
	k.Must(&before, "audit", "-most", "1")
	g := newGuest(t, "127.0.0.1")
	for i := range 400 {
		guess := fmt.Sprintf("%s%04d/", m.Link[:len(m.Link)-5], i)
		status, _ := g.do("GET", guess, nil, html)
		require.Equal(t, 404, status)
	}
	k.Must(&after, "audit", "-most", "1")
	assert.Equal(t, before[0].Seq, after[0].Seq)
	status, _ := g.do("GET", m.Link+"0/one.tif", nil)
	assert.Equal(t, 200, status, "who guesses wrong is not shut out of what is right")
}

// Many who fetch share the account's speed, and don't keep its holder out.
func TestFetchersShareTheSpeedOfTheAccount(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-speed-down", "4M", "-max-sessions", "1")
	content := make([]byte, 200_000)
	put(t, k, "one.tif", content)
	m, key := made(t, k, "/one.tif"), k.Key("ann")
	begun := time.Now()
	var all sync.WaitGroup
	for i := range 60 {
		all.Go(func() {
			status, text := newGuest(t, fmt.Sprintf("127.0.3.%d", i%40+1)).do("GET", m.Link+"0/one.tif", nil)
			assert.Equal(t, 200, status)
			assert.Len(t, text, len(content))
		})
	}
	output, err := k.SFTP("ann", key, "ls")
	assert.NoError(t, err, output)
	all.Wait()
	assert.Greater(t, time.Since(begun), 1500*time.Millisecond, "12 MB at 4 MB/s, but for what is given at once")
}

// Whoever may make passes is said by the setting; the holder's own passes end with it.
func TestHoldersMakePassesAsTheyMay(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-passes", "fetch", "-pass-time", "2d")
	k.Account("ben", "-passes", "both")
	put(t, k, "one.tif", []byte("one"))
	h := newGuest(t, "127.0.0.1")
	base := "http://" + k.Address("web") + "/portal/api/v1/"
	as := func(account string) {
		status, text := h.do("POST", base+"sign-in", strings.NewReader(fmt.Sprintf(`{"account":%q,"password":%q}`, account, testkit.Password)), "Content-Type: application/json")
		require.Equal(t, 200, status, text)
	}
	as("ann")
	make := func(ask string) (int, string) {
		return h.do("POST", base+"passes", strings.NewReader(ask), "Content-Type: application/json")
	}
	for ask, want := range map[string]int{
		`{"kind":"fetch","paths":["/one.tif"],"days":1}`:                            201,
		`{"kind":"fetch","paths":["/one.tif"],"days":3}`:                            422,
		`{"kind":"drop","paths":["/"],"days":1}`:                                    403,
		`{"kind":"fetch","paths":["/none.tif"],"days":1}`:                           422,
		`{"kind":"fetch","paths":[],"days":1}`:                                      422,
		`{"kind":"fetch","paths":["/one.tif"],"days":-1}`:                           422,
		`{"kind":"fetch","paths":["/one.tif"],"days":1e300}`:                        422,
		`{"kind":"fetch","paths":["/one.tif"],"days":1,"maxUses":-1}`:               422,
		`{"kind":"fetch","paths":["/one.tif"],"days":1,"password":"x"}`:             422,
		`{"kind":"fetch","paths":["/one.tif"],"days":1,"networks":["nowhere"]}`:     422,
		`{"kind":"other","paths":["/one.tif"],"days":1}`:                            422,
		`{"kind":"fetch","paths":["/../../etc/passwd"],"days":1}`:                   422,
		`{"kind":"fetch","paths":["/one.tif"],"days":1,"account":"ben"}`:            201, // their own account all the same
		`{"kind":"fetch","paths":["/one.tif"],"days":1,"text":"` + "\\u0001" + `"}`: 422,
	} {
		status, text := make(ask)
		assert.Equal(t, want, status, "%s: %s", ask, text)
	}
	status, text := make(`{"kind":"fetch","paths":["/one.tif"],"days":1}`)
	require.Equal(t, 201, status, text)
	var list []api.Pass
	k.Must(&list, "pass", "list")
	require.Len(t, list, 3)
	for _, p := range list {
		assert.Equal(t, []string{"ann", ""}, []string{p.Account, p.By})
	}
	as("ben")
	status, _ = h.do("DELETE", base+"passes/"+list[0].ID, nil)
	assert.Equal(t, 404, status, "another holder's")
	status, _ = h.do("GET", base+"passes/"+list[0].ID+"/uses", nil)
	assert.Equal(t, 404, status)
	link := text[strings.Index(text, `"link":"`)+8:]
	link = link[:strings.IndexByte(link, '"')]
	status, _ = h.do("GET", link+"0/one.tif", nil)
	assert.Equal(t, 200, status)
	k.Must(nil, "account", "set", "ann", "-passes", "none")
	status, _ = newGuest(t, "127.0.0.5").do("GET", link+"0/one.tif", nil)
	assert.Equal(t, 403, status)

	// No link gives what the account may not give; nor one that leads out of what it is for.
	_, errs, code := k.CLI("pass", "add", "ben", "/secret")
	assert.Equal(t, 1, code, errs)
	require.NoError(t, os.Symlink("../ann", filepath.Join(k.Dir, "files", "ben-link")))
	_, errs, code = k.CLI("pass", "add", "nobody", "/x")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "nobody")
}
