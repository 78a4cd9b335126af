package pass_test

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// The bytes of a pass bound all that is fetched with it, in whatever way and however many come at once: what fits is taken before
// its first byte, and what was not sent is given back.
func TestBytesBoundWhateverIsFetched(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	_, content := testkit.File(t, 1<<20)
	for n := range 4 {
		put(t, k, fmt.Sprintf("plates/%d.tif", n), content)
	}
	fetch := func(m api.PassMade, n int, at string, headers ...string) (status int, moved int64) {
		request, err := http.NewRequest("GET", m.Link+at, nil)
		require.NoError(t, err)
		for _, header := range headers {
			name, value, _ := strings.Cut(header, ": ")
			request.Header.Set(name, value)
		}
		response, err := newGuest(t, fmt.Sprintf("127.0.3.%d", n%200+1)).http.Do(request)
		if err != nil {
			return 0, 0
		}
		defer response.Body.Close()
		n64, _ := io.Copy(io.Discard, response.Body)
		return response.StatusCode, n64
	}
	var all sync.WaitGroup
	var moved, whole atomic.Int64
	many := made(t, k, "/plates", "-bytes", "2621440") // two and a half
	for n := range 60 {
		at, headers := "0/plates/1.tif", []string(nil)
		if n%3 == 1 {
			headers = []string{"Range: bytes=0-"}
		}
		all.Go(func() {
			status, bytes := fetch(many, n, at, headers...)
			if moved.Add(bytes * int64(map[bool]int{true: 1}[status == 200 || status == 206])); bytes == 1<<20 {
				whole.Add(1)
			} else {
				assert.Equal(t, 413, status)
			}
		})
	}
	all.Wait()
	assert.Equal(t, []int64{2, 2 << 20}, []int64{whole.Load(), moved.Load()})
	_, bytesMoved := fetch(many, 1, "zip")
	assert.Less(t, bytesMoved, int64(1<<20), "of an archive no file comes that does not fit")
	// Who leaves in the middle has used what was sent, and gives the rest back.
	left := made(t, k, "/plates/1.tif", "-bytes", "3145728")
	for range 12 {
		response, err := newGuest(t, "127.0.0.1").http.Get(left.Link + "0/1.tif")
		require.NoError(t, err)
		response.Body.Read(make([]byte, 1))
		response.Body.Close()
	}
	soon(t, "what was not sent is given back", func() bool {
		var list []api.Pass
		k.Must(&list, "pass", "list", "-account", "ann")
		for _, p := range list {
			if p.ID == left.Pass.ID {
				return p.Bytes > 0
			}
		}
		return false
	})
}

// A pass that is used up tells nothing any more; a question that needs no byte is no use.
func TestAUsedUpPassTellsNothing(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	put(t, k, "plates/secret-name.tif", []byte("content"))
	once := made(t, k, "/plates", "-uses", "1")
	g, other := newGuest(t, "127.0.0.1"), newGuest(t, "127.0.0.2")
	status, _ := g.do("GET", once.Link+"0/plates/secret-name.tif", nil, "If-None-Match: *")
	assert.Equal(t, 304, status)
	status, text := other.do("GET", once.Link+"0/plates/secret-name.tif", nil)
	assert.Equal(t, []any{200, "content"}, []any{status, text}, "nothing was used before")
	for _, try := range [][2]string{{"HEAD", "0/plates/secret-name.tif"}, {"GET", "0/plates/secret-name.tif"}, {"GET", "zip"}, {"GET", "tar"}, {"GET", "0/plates/"}, {"GET", "zip?in=0/plates"}} {
		status, text := newGuest(t, "127.0.0.3").do(try[0], once.Link+try[1], nil)
		assert.Equal(t, 410, status, try)
		assert.NotContains(t, text, "secret-name", try)
	}
}

// Whoever has a link fills no more than its own room.
func TestVisitsOfOnePassAreBounded(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	put(t, k, "one.tif", []byte("content"))
	m, second := made(t, k, "/one.tif"), made(t, k, "/one.tif")
	counts := map[int]int{}
	for n := range 230 { // each is a visit of its own
		status, _ := newGuest(t, fmt.Sprintf("127.0.%d.%d", 10+n/100, n%100+1)).do("GET", m.Link, nil, html)
		counts[status]++
	}
	assert.Equal(t, map[int]int{200: 200, 429: 30}, counts)
	status, _ := newGuest(t, "127.0.0.9").do("GET", second.Link, nil, html)
	assert.Equal(t, 200, status, "another link is not shut")
}

// Names in archives lead nowhere on any system, and addresses stay below the link.
func TestNamesInArchivesAreHarmless(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	for _, name := range []string{`..\up.txt`, "C:evil.txt", "http:host/in", "plain.txt"} {
		put(t, k, name, []byte("x"))
	}
	for _, m := range []api.PassMade{made(t, k, "/"), made(t, k, "/", "/plain.txt")} {
		status, text := newGuest(t, "127.0.0.1").do("GET", m.Link+"zip", nil)
		require.Equal(t, 200, status)
		r, err := zip.NewReader(bytes.NewReader([]byte(text)), int64(len(text)))
		require.NoError(t, err)
		assert.NotEmpty(t, r.File)
		for _, f := range r.File {
			assert.False(t, strings.HasPrefix(f.Name, "/") || strings.Contains(f.Name, `\`) || strings.Contains(f.Name, "C:"), f.Name)
		}
	}
	g := newGuest(t, "127.0.0.1")
	g.http.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	response, err := g.http.Get(made(t, k, "/").Link + "0/files/http:host")
	require.NoError(t, err)
	response.Body.Close()
	assert.Equal(t, 302, response.StatusCode)
	at, err := response.Location()
	require.NoError(t, err)
	assert.Contains(t, at.String(), "/0/files/http:host/")
	_, err = os.Stat(filepath.Join(k.Home("ann"), "http:host/in"))
	require.NoError(t, err)
}
