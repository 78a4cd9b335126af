package portal_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// An upload that is not whole goes with its folder, keeps that from going for good, and can be given up.
func TestAnUnfinishedUploadGoesWithItsFolder(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	k.Account("desk", "-home", "files:/")
	h := in(t, k, "ann")
	require.NoError(t, os.MkdirAll(filepath.Join(k.Home("ann"), "in/deep"), 0o755))
	at, r := h.create(1000, "path", "/in/deep/scan.tif")
	require.Equal(t, 201, r.StatusCode)
	require.Equal(t, 204, h.patch(at, 0, bytes.NewReader(make([]byte, 600))).StatusCode)
	status, text := h.do("POST", "api/v1/removals", api.PortalRemoval{Path: "/in", Inside: true})
	assert.Equal(t, 409, status, string(text))
	assert.Contains(t, string(text), "not whole yet")
	_, err := k.SFTP("desk", k.Key("desk"), "rename /ann/in /ann/out")
	require.NoError(t, err)
	assert.Equal(t, 600, h.offset(at))
	require.Equal(t, 204, h.patch(at, 600, bytes.NewReader(make([]byte, 400))).StatusCode)
	assert.Len(t, testkit.OnDisk(t, filepath.Join(k.Home("ann"), "out/deep/scan.tif")), 1000)

	at, _ = h.create(1000, "path", "/out/deep/other.tif")
	require.Equal(t, 204, h.patch(at, 0, bytes.NewReader(make([]byte, 500))).StatusCode)
	h.post("api/v1/renames", api.PortalRename{Path: "/out", To: "/third"}, 204, nil)
	var list api.Page[api.PortalUpload]
	_, text = h.do("GET", "api/v1/uploads", nil)
	require.NoError(t, json.Unmarshal(text, &list))
	require.Len(t, list.Items, 1)
	assert.Equal(t, []any{"/third/deep/other.tif", int64(500)}, []any{list.Items[0].Path, list.Items[0].Offset})
	assert.Equal(t, 204, h.tus("DELETE", at, nil).StatusCode)
	status, text = h.do("POST", "api/v1/removals", api.PortalRemoval{Path: "/third", Inside: true})
	assert.Equal(t, 204, status, string(text))
	assert.NoDirExists(t, filepath.Join(k.Home("ann"), "third"))
}

// What runs is ended over each face, whatever its client takes; so is what runs of an account that is suspended.
func TestATransferIsEndedOverEachFace(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-passes", "both")
	file := filepath.Join(k.Home("ann"), "large.bin")
	require.NoError(t, os.MkdirAll(k.Home("ann"), 0o755))
	require.NoError(t, os.WriteFile(file, nil, 0o644))
	require.NoError(t, os.Truncate(file, 256<<20))
	h := in(t, k, "ann")
	var pass api.PassMade
	k.Must(&pass, "pass", "add", "ann", "/large.bin")
	web := "http://" + k.Address("web")
	for n, face := range []struct{ protocol, url string }{{"portal", h.base + "files/large.bin"}, {"portal", h.base + "zip?path=/"}, {"dav", web + "/dav/large.bin"}, {"pass", pass.Link + "0/large.bin"}, {"dav", web + "/dav/large.bin"}} {
		request, err := http.NewRequest("GET", face.url, nil)
		require.NoError(t, err)
		client := h.http
		if face.protocol == "dav" {
			request.SetBasicAuth("ann", testkit.Password)
		}
		response, err := client.Do(request)
		require.NoError(t, err)
		require.Equal(t, 200, response.StatusCode, face.url)
		var running api.Transfer
		require.Eventually(t, func() bool {
			for _, one := range k.Transfers() {
				if one.Ended == nil {
					running = one
				}
			}
			return running.ID != ""
		}, testkit.Patience, 10*time.Millisecond, face.url)
		if n == 4 {
			k.Must(nil, "account", "suspend", "ann")
		} else {
			k.Must(nil, "transfer", "end", running.ID, "-reason", "the disk is checked")
		}
		require.Eventually(t, func() bool { return k.Transfers()[0].Ended != nil }, testkit.Patience, 10*time.Millisecond, "%s: it goes on", face.url)
		moved, err := io.Copy(io.Discard, response.Body)
		assert.Error(t, err, "the client sees that it is not whole")
		assert.Less(t, moved, int64(200<<20), face.url)
		response.Body.Close()
		var records []api.AuditRecord
		k.Must(&records, "audit", "-account", "ann", "-action", "download")
		assert.Equal(t, "interrupted", string(records[0].Outcome), face.url)
	}
}

// What a token is not for it ends no more than it begins.
func TestATokenEndsNothingElse(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-protocols", "portal,dav,sftp")
	put(t, k, "plates/one.tif", []byte("x"))
	put(t, k, "other/two.tif", []byte("x"))
	h := in(t, k, "ann")
	at, r := h.create(1000, "path", "/other/new.tif")
	require.Equal(t, 201, r.StatusCode)
	require.Equal(t, 204, h.patch(at, 0, bytes.NewReader(make([]byte, 500))).StatusCode)
	token := func(rights ...string) string {
		var made api.PortalTokenMade
		h.post("api/v1/account/tokens", api.PortalTokenNew{Now: testkit.Password, Label: strings.Join(rights, " "), Path: "/plates", Rights: rights, Days: 30}, 200, &made)
		return made.Token
	}
	reads, writes := token("list", "download"), token("list", "download", "upload", "overwrite")
	script := newHolder(t, k)
	for _, secret := range []string{reads, writes} {
		for _, method := range []string{"HEAD", "DELETE", "PATCH"} {
			r := script.tus(method, at, nil, "Authorization: Bearer "+secret, tusContent, "Upload-Offset: 500")
			assert.Equal(t, 404, r.StatusCode, method)
		}
		_, text := script.do("GET", "api/v1/uploads", nil, "Authorization: Bearer "+secret)
		assert.NotContains(t, string(text), "new.tif")
	}
	assert.Equal(t, 500, h.offset(at))
	lock := func(method, at, password string, headers ...string) *http.Response {
		request, err := http.NewRequest(method, "http://"+k.Address("web")+"/dav"+at, strings.NewReader(map[string]string{"LOCK": `<lockinfo xmlns="DAV:"><lockscope><exclusive/></lockscope><locktype><write/></locktype></lockinfo>`}[method]))
		require.NoError(t, err)
		request.SetBasicAuth("ann", password)
		for i := 0; i+1 < len(headers); i += 2 {
			request.Header.Set(headers[i], headers[i+1])
		}
		response, err := h.http.Do(request)
		require.NoError(t, err)
		response.Body.Close()
		return response
	}
	for _, at := range []string{"/other/two.tif", "/plates/one.tif"} {
		key := lock("LOCK", at, testkit.Password).Header.Get("Lock-Token")
		require.NotEmpty(t, key)
		assert.Equal(t, 403, lock("UNLOCK", at, reads, "Lock-Token", key).StatusCode, at)
		assert.Equal(t, map[bool]int{true: 403, false: 204}[at == "/other/two.tif"], lock("UNLOCK", at, writes, "Lock-Token", key).StatusCode, at)
	}
}

// A change says what it takes to be there; a copy onto itself by a link is none.
func TestThePortalHoldsConditionsAndPlaces(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	h := in(t, k, "ann")
	put(t, k, "a", []byte("one"))
	put(t, k, "w/sub/f", []byte("f"))
	require.NoError(t, os.Symlink("w", filepath.Join(k.Home("ann"), "lw")))
	r := h.tus("HEAD", "files/a", nil)
	tag := r.Header.Get("ETag")
	status, _ := h.do("PUT", "files/a", []byte("two"), "If-Match: "+tag)
	assert.Equal(t, 204, status)
	for _, header := range []string{"If-Match: " + tag, `If-Match: W/"x"`, "If-Unmodified-Since: " + time.Now().Add(-time.Hour).UTC().Format(http.TimeFormat)} {
		status, text := h.do("PUT", "files/a", []byte("three"), header)
		assert.Equal(t, 412, status, "%s: %s", header, text)
	}
	assert.Equal(t, "two", string(testkit.OnDisk(t, filepath.Join(k.Home("ann"), "a"))))
	for _, to := range []string{"/lw/sub", "/lw/sub/deeper", "/w/sub/deeper"} {
		status, text := h.do("POST", "api/v1/copies", api.PortalRename{Path: "/w/sub", To: to})
		assert.Equal(t, 400, status, fmt.Sprint(to, string(text)))
	}
	assert.Equal(t, "f", string(testkit.OnDisk(t, filepath.Join(k.Home("ann"), "w/sub/f"))))
}

// A store that moves takes along what hangs on its places: uploads that wait for their check, unfinished ones, the bin, locks and
// properties; and each overwrite that looks as what it took the place of.
func TestAStoreMovesWithWhatHangsOnIt(t *testing.T) {
	k := testkit.Start(t)
	mute := httptest.NewServer(http.NotFoundHandler())
	t.Cleanup(mute.Close)
	k.Must(nil, "receiver", "add", "scanner", mute.URL, "-private")
	k.Account("ann", "-quota-bytes", "20MiB", "-bin-time", "7d", "-mount", "/in=files:in,check=scanner,refused=no")
	k.Must(nil, "store", "add", "new", t.TempDir())
	h := in(t, k, "ann")
	for _, name := range []string{"gone.tif", "marked.txt", "in/good.tif", "in/bad.tif"} {
		status, text := h.do("PUT", "files/"+name, []byte(name))
		require.Equal(t, 204, status, string(text))
	}
	var held []api.Held
	k.Must(&held, "held", "list")
	require.Len(t, held, 2)
	gone := h.discard("/gone.tif")
	at, r := h.create(1000, "path", "/half.bin")
	require.Equal(t, 201, r.StatusCode)
	require.Equal(t, 204, h.patch(at, 0, bytes.NewReader(bytes.Repeat([]byte("a"), 400))).StatusCode)
	dav := func(method, path, body string, headers ...string) *http.Response {
		request, err := http.NewRequest(method, strings.TrimSuffix(h.base, "/portal/")+"/dav"+path, strings.NewReader(body))
		require.NoError(t, err)
		request.SetBasicAuth("ann", testkit.Password)
		for i := 0; i+1 < len(headers); i += 2 {
			request.Header.Set(headers[i], headers[i+1])
		}
		response, err := h.http.Do(request)
		require.NoError(t, err)
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		response.Body.Close()
		response.Body = io.NopCloser(bytes.NewReader(text))
		return response
	}
	require.Equal(t, 207, dav("PROPPATCH", "/marked.txt", `<propertyupdate xmlns="DAV:"><set><prop><sheet xmlns="urn:city">17</sheet></prop></set></propertyupdate>`).StatusCode)
	locked := dav("LOCK", "/marked.txt", `<lockinfo xmlns="DAV:"><lockscope><exclusive/></lockscope><locktype><write/></locktype></lockinfo>`, "Timeout", "Second-600")
	require.Equal(t, 200, locked.StatusCode)

	// While it moves, a file is overwritten again and again by others of its size and time.
	file := filepath.Join(t.TempDir(), "same.bin")
	when := time.Now().Add(-time.Hour).Truncate(time.Second)
	last, stop, ended := []byte(nil), make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		for n := 0; ; n++ {
			content := fmt.Appendf(nil, "version %09d", n)
			os.WriteFile(file, content, 0o600)
			os.Chtimes(file, when, when)
			if _, err := k.SFTP("ann", k.Key("ann"), "put -p "+file+" same.bin"); err == nil {
				last = content
			}
			select {
			case <-stop:
				return
			default:
			}
		}
	}()
	var moved api.StoreMove
	k.Must(&moved, "store", "move", "files", "new", "-meant")
	require.Equal(t, "done", moved.Phase)
	require.NoError(t, os.RemoveAll(filepath.Dir(k.Home("ann")))) // the old store is of no use any more
	close(stop)
	<-ended

	h = in(t, k, "ann")
	status, text := h.do("GET", "files/same.bin", nil)
	assert.Equal(t, []any{200, string(last)}, []any{status, string(text)})
	assert.Equal(t, 400, h.offset(at))
	require.Equal(t, 204, h.patch(at, 400, bytes.NewReader(bytes.Repeat([]byte("b"), 600))).StatusCode)
	_, text = h.do("GET", "files/half.bin", nil)
	assert.Equal(t, strings.Repeat("a", 400)+strings.Repeat("b", 600), string(text))
	status, text = h.do("PUT", "api/v1/bin/"+gone, api.PortalPutBack{})
	assert.Equal(t, 204, status, string(text))
	_, text = h.do("GET", "files/gone.tif", nil)
	assert.Equal(t, "gone.tif", string(text))
	found, _ := io.ReadAll(dav("PROPFIND", "/marked.txt", `<propfind xmlns="DAV:"><prop><sheet xmlns="urn:city"/></prop></propfind>`, "Depth", "0").Body)
	assert.Contains(t, string(found), "17")
	assert.Equal(t, 423, dav("PUT", "/marked.txt", "without the token").StatusCode)
	assert.Equal(t, 204, dav("PUT", "/marked.txt", "with it", "If", "("+locked.Header.Get("Lock-Token")+")").StatusCode)
	k.Must(&held, "held", "list")
	require.Len(t, held, 2)
	for _, one := range held {
		assert.Equal(t, "new", one.Store)
		answer := "accept"
		if strings.Contains(one.Path, "bad") {
			answer = "refuse"
		}
		k.Must(nil, "held", answer, one.ID)
	}
	_, text = h.do("GET", "files/in/good.tif", nil)
	assert.Equal(t, "in/good.tif", string(text))
	k.Must(nil, "store", "remove", "files")
}
