package portal_test

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
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

// holder is an account holder with a browser.
type holder struct {
	t    *testing.T
	base string
	http *http.Client
	doc  *testkit.Caller // holds what is answered to the description
}

func newHolder(t *testing.T, k *testkit.Keep) *holder {
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	transport := &http.Transport{}
	t.Cleanup(transport.CloseIdleConnections)
	return &holder{t, "http://" + k.Address("web") + "/portal/", &http.Client{Jar: jar, Transport: transport, Timeout: testkit.Patience}, testkit.Described(t, "../../internal/face/portal/openapi.yaml")}
}

// do sends a request; it gives the status and what came.
func (h *holder) do(method, path string, body any, headers ...string) (int, []byte) {
	h.t.Helper()
	var content io.Reader
	kind := ""
	switch b := body.(type) {
	case nil:
	case []byte:
		content = bytes.NewReader(b)
	default:
		text, err := json.Marshal(b)
		require.NoError(h.t, err)
		content, kind = bytes.NewReader(text), "application/json"
	}
	request, err := http.NewRequest(method, h.base+path, content)
	require.NoError(h.t, err)
	if kind != "" {
		request.Header.Set("Content-Type", kind)
	}
	for _, header := range headers {
		name, value, _ := strings.Cut(header, ": ")
		request.Header.Set(name, value)
	}
	response, err := h.http.Do(request)
	require.NoError(h.t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(h.t, err)
	if kind := response.Header.Get("Content-Type"); strings.HasPrefix(path, "api/v1/") && strings.Contains(kind, "json") && !strings.Contains(kind, "jsonl") && response.StatusCode != http.StatusNotFound {
		h.doc.Hold(request, response, text)
	}
	return response.StatusCode, text
}

func (h *holder) signIn(account, password string) (int, api.Problem) {
	h.t.Helper()
	status, text := h.do("POST", "api/v1/sign-in", api.PortalSignIn{Account: account, Password: password})
	var p api.Problem
	if status != 200 {
		require.NoError(h.t, json.Unmarshal(text, &p))
	}
	return status, p
}

func in(t *testing.T, k *testkit.Keep, account string) *holder {
	h := newHolder(t, k)
	status, p := h.signIn(account, testkit.Password)
	require.Equal(t, 200, status, p)
	return h
}

func (h *holder) folder(path string) (f api.PortalFolder) {
	h.t.Helper()
	status, text := h.do("GET", "api/v1/folder?path="+path, nil)
	require.Equal(h.t, 200, status, string(text))
	require.NoError(h.t, json.Unmarshal(text, &f))
	return f
}

func TestAHolderWorksOnTheTreeWithABrowser(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	h := in(t, k, "ann")
	_, content := testkit.File(t, 3_000_000)
	status, text := h.do("POST", "api/v1/folders", api.PortalPath{Path: "/plates"})
	require.Equal(t, 204, status, string(text))
	awkward := `a "b" ünï%20#?;&<script>.tif`
	at := "files/plates/" + strings.NewReplacer("%", "%25", " ", "%20", "#", "%23", "?", "%3F", `"`, "%22", "<", "%3C", ">", "%3E").Replace(awkward)
	status, text = h.do("PUT", at, content)
	require.Equal(t, 204, status, string(text))
	assert.Equal(t, content, testkit.OnDisk(t, filepath.Join(k.Home("ann"), "plates", awkward)))
	status, _ = h.do("PUT", at, content, "If-None-Match: *")
	assert.Equal(t, 409, status)
	folder := h.folder("/plates")
	require.Len(t, folder.Entries, 1)
	assert.Equal(t, api.PortalEntry{Name: awkward, Kind: "file", Size: 3_000_000, Modified: folder.Entries[0].Modified, Picture: true}, folder.Entries[0])

	// Whole, in parts, and in parts of what has not changed.
	status, text = h.do("GET", at, nil)
	assert.Equal(t, 200, status)
	assert.Equal(t, content, text)
	status, text = h.do("GET", at, nil, "Range: bytes=1000000-1999999")
	assert.Equal(t, 206, status)
	assert.Equal(t, content[1_000_000:2_000_000], text)
	status, text = h.do("GET", at, nil, "Range: bytes=0-9,2999990-")
	assert.Equal(t, 206, status)
	assert.Contains(t, string(text), string(content[2_999_990:]))
	status, text = h.do("GET", at, nil, "Range: bytes=10-19", `If-Range: "another"`)
	assert.Equal(t, 200, status)
	assert.Len(t, text, 3_000_000)
	status, _ = h.do("GET", at, nil, "Range: bytes=3000000-")
	assert.Equal(t, 416, status)
	response, err := h.http.Head(h.base + at)
	require.NoError(t, err)
	response.Body.Close()
	assert.Equal(t, "sandbox; default-src 'none'", response.Header.Get("Content-Security-Policy"), "nothing in a file is active here")
	assert.True(t, strings.HasPrefix(response.Header.Get("Content-Disposition"), "attachment;"))

	status, text = h.do("POST", "api/v1/renames", api.PortalRename{Path: "/plates/" + awkward, To: "/plates/one.tif"})
	require.Equal(t, 204, status, string(text))
	status, _ = h.do("POST", "api/v1/removals", api.PortalPath{Path: "/plates"})
	assert.Equal(t, 409, status)
	for _, path := range []string{"/plates/one.tif", "/plates"} {
		status, text = h.do("POST", "api/v1/removals", api.PortalPath{Path: path})
		assert.Equal(t, 204, status, string(text))
	}
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-protocol", "portal", "-account", "ann", "-outcome", "done")
	did := ""
	for _, r := range trail {
		did = string(r.Action) + " " + did
	}
	for _, action := range []string{"sign-in", "mkdir", "upload", "list", "download", "rename", "delete", "rmdir"} {
		assert.Contains(t, did, action)
	}
	status, _ = h.do("POST", "api/v1/sign-out", nil)
	assert.Equal(t, 204, status)
	status, _ = h.do("GET", "api/v1/me", nil)
	assert.Equal(t, 401, status)
}

func TestThePortalRefusesWhatTheRightsDontGive(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	require.NoError(t, os.WriteFile(filepath.Join(k.Dir, "secret"), []byte("x"), 0o600))
	h := newHolder(t, k)
	for _, path := range []string{"api/v1/me", "api/v1/folder?path=/", "files/x"} {
		status, _ := h.do("GET", path, nil)
		assert.Equal(t, 401, status, path)
	}
	status, p := h.signIn("ann", "wrong")
	assert.Equal(t, 401, status)
	unknown, q := h.signIn("nobody", "wrong")
	assert.Equal(t, status, unknown)
	assert.Equal(t, p, q, "who has no account hears the same")
	h = in(t, k, "ann")
	for _, path := range []string{"files/..%2f..%2fsecret", "files/%2e%2e/secret", "files//etc/passwd", "files/a%00b", "files/", "api/v1/none"} {
		status, text := h.do("GET", path, nil)
		assert.GreaterOrEqual(t, status, 300, "%s: %s", path, text)
		assert.NotContains(t, string(text), k.Dir)
	}
	// Another site's page changes nothing in the holder's browser.
	status, _ = h.do("POST", "api/v1/folders", api.PortalPath{Path: "/made"}, "Sec-Fetch-Site: cross-site")
	assert.Equal(t, 403, status)
	status, _ = h.do("PUT", "files/made", []byte("x"), "Origin: https://evil.example")
	assert.Equal(t, 403, status)
	assert.NoFileExists(t, filepath.Join(k.Home("ann"), "made"))

	k.Must(nil, "account", "set", "ann", "-rights", "read-only")
	for _, try := range []struct {
		method, path string
		body         any
	}{{"PUT", "files/x", []byte("x")}, {"POST", "api/v1/folders", api.PortalPath{Path: "/x"}}, {"POST", "api/v1/removals", api.PortalPath{Path: "/x"}}} {
		status, text := h.do(try.method, try.path, try.body)
		assert.Contains(t, []int{403, 404}, status, string(text))
	}
	assert.NotContains(t, h.folder("/").May, "upload")
	k.Must(nil, "account", "set", "ann", "-rights", "full", "-quota-bytes", "1MiB")
	status, text := h.do("PUT", "files/large", make([]byte, 2<<20))
	assert.Equal(t, 507, status, string(text))

	// What the administrator does acts at once.
	k.Must(nil, "account", "set", "ann", "-protocols", "sftp")
	status, _ = h.do("GET", "api/v1/me", nil)
	assert.Equal(t, 401, status)
	status, _ = h.signIn("ann", testkit.Password)
	assert.Equal(t, 401, status)
	k.Must(nil, "account", "set", "ann", "-protocols", "all")
	h = in(t, k, "ann")
	k.Must(nil, "account", "suspend", "ann")
	status, _ = h.do("GET", "api/v1/me", nil)
	assert.Equal(t, 401, status)
	k.Must(nil, "account", "resume", "ann")
	k.Must(nil, "listener", "set", "web", "-faces", "console")
	status, _ = h.do("GET", "api/v1/door", nil)
	assert.Equal(t, 404, status, "a listener that does not serve it has none")
}

func TestAPasswordThatMustChangeIsChangedOnThePortal(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-must-change")
	h := newHolder(t, k)
	status, p := h.signIn("ann", testkit.Password)
	assert.Equal(t, 403, status)
	assert.Equal(t, "must-change", p.Reason)
	change := func(now, next string) (int, string) {
		status, text := h.do("POST", "api/v1/password", api.PortalPassword{Account: "ann", Now: now, Next: next})
		return status, string(text)
	}
	status, _ = change("wrong", "a long and new password")
	assert.Equal(t, 401, status)
	status, text := change(testkit.Password, "short")
	assert.Equal(t, 422, status, text)
	status, text = change(testkit.Password, "a long and new password")
	assert.Equal(t, 204, status, text)
	status, _ = h.signIn("ann", "a long and new password")
	assert.Equal(t, 200, status)
	status, _ = change("a long and new password", "another long password")
	assert.Equal(t, 400, status, "once it is changed this is no way to change it")
}

// Who leaves in the middle, or is sent away, leaves nothing behind that goes on.
func TestWhatAHolderLeavesEnds(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	_, content := testkit.File(t, 64<<20)
	require.NoError(t, os.MkdirAll(k.Home("ann"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(k.Home("ann"), "large"), content, 0o644))
	h := in(t, k, "ann")
	cookie := ""
	at, err := url.Parse(h.base)
	require.NoError(t, err)
	for _, one := range h.http.Jar.Cookies(at) {
		cookie = one.Name + "=" + one.Value
	}
	begin := func(head string) net.Conn {
		conn, err := net.Dial("tcp", k.Address("web"))
		require.NoError(t, err)
		t.Cleanup(func() { conn.Close() })
		_, err = io.WriteString(conn, head+"\r\nHost: x\r\nCookie: "+cookie+"\r\n")
		require.NoError(t, err)
		return conn
	}
	running := func(n int) {
		t.Helper()
		for end := time.Now().Add(testkit.Patience); ; time.Sleep(20 * time.Millisecond) {
			count := 0
			for _, one := range k.Transfers() {
				if one.Outcome == "running" {
					count++
				}
			}
			if count == n {
				return
			}
			require.Less(t, time.Now(), end, "%d transfers run: %+v", count, k.Transfers())
		}
	}
	up := begin("PUT /portal/files/half HTTP/1.1")
	_, err = fmt.Fprintf(up, "Content-Length: 1000000\r\n\r\n%s", strings.Repeat("x", 1000))
	require.NoError(t, err)
	down := begin("GET /portal/files/large HTTP/1.1")
	_, err = io.WriteString(down, "\r\n")
	require.NoError(t, err)
	running(2)
	up.Close()
	running(1)
	down.Close()
	running(0)
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-account", "ann", "-action", "upload,download")
	require.Len(t, trail, 2)
	for _, r := range trail {
		assert.Equal(t, "client-gone", string(r.Reason), r)
	}

	down = begin("GET /portal/files/large HTTP/1.1")
	_, err = io.WriteString(down, "\r\n")
	require.NoError(t, err)
	running(1)
	k.Must(nil, "account", "suspend", "ann")
	running(0)
	var sessions []api.Session
	k.Must(&sessions, "session", "list")
	assert.Empty(t, sessions)
}

func TestAFolderComesAsOneArchive(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	home := k.Home("ann")
	want := map[string]string{}
	for _, name := range []string{"a.tif", "deep/er/b é.tif", "deep/c.tif", "empty/", "private/d.tif"} {
		require.NoError(t, os.MkdirAll(filepath.Join(home, filepath.Dir(name+"x")), 0o755))
		if !strings.HasSuffix(name, "/") {
			want[name] = strings.Repeat(name, 10_000)
			require.NoError(t, os.WriteFile(filepath.Join(home, name), []byte(want[name]), 0o644))
		}
	}
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(home, "link")))
	k.Must(nil, "account", "set", "ann", "-grant", "/private=list")
	h := in(t, k, "ann")
	got := func(query string) map[string]string {
		status, text := h.do("GET", "zip?"+query, nil)
		require.Equal(t, 200, status, string(text))
		archive, err := zip.NewReader(bytes.NewReader(text), int64(len(text)))
		require.NoError(t, err)
		found := map[string]string{}
		for _, one := range archive.File {
			r, err := one.Open()
			require.NoError(t, err)
			content, err := io.ReadAll(r)
			require.NoError(t, err, "its checksum is right")
			r.Close()
			found[one.Name] = string(content)
		}
		return found
	}
	all := got("path=/")
	left := all["NOT INCLUDED.txt"]
	assert.Contains(t, left, "private/d.tif")
	assert.Contains(t, left, "link: it is a link")
	assert.NotContains(t, all, "private/d.tif")
	for name, content := range want {
		if name != "private/d.tif" {
			assert.Equal(t, content, all[name], name)
		}
	}
	assert.Contains(t, all, "empty/")
	assert.Equal(t, map[string]string{"er/": "", "er/b é.tif": want["deep/er/b é.tif"]}, got("path=/deep&name=er"))
	for query, status := range map[string]int{"path=/none": 404, "path=/a.tif": 409, "path=/&name=../x": 400, "path=/deep&name=..": 400, "path=/&name=": 400} {
		answer, text := h.do("GET", "zip?"+query, nil)
		assert.Equal(t, status, answer, "%s: %s", query, text)
	}
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-account", "ann", "-action", "download", "-outcome", "done")
	assert.Len(t, trail, 4, "each file of each archive is a download")
}
