package dav_test

import (
	"bytes"
	"context"
	"crypto/tls"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/demo"
	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/counterpart"
)

// caller is a client of one account.
type caller struct {
	t       *testing.T
	base    string
	account string
	http    *http.Client
}

func as(t *testing.T, k *testkit.Keep, account string) *caller {
	transport := &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}
	t.Cleanup(transport.CloseIdleConnections)
	return &caller{t, "http://" + k.Address("web") + "/dav", account, &http.Client{Transport: transport, Timeout: testkit.Patience,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
}

// do sends a request; headers are "Name: value".
func (c *caller) do(method, at, body string, headers ...string) (int, string, http.Header) {
	c.t.Helper()
	request, err := http.NewRequest(method, c.base+at, strings.NewReader(body))
	require.NoError(c.t, err)
	if body == "" {
		request.Body = http.NoBody
	}
	request.SetBasicAuth(c.account, testkit.Password)
	for _, header := range headers {
		name, value, _ := strings.Cut(header, ": ")
		request.Header.Set(name, value)
	}
	response, err := c.http.Do(request)
	require.NoError(c.t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(c.t, err)
	return response.StatusCode, string(text), response.Header
}

func (c *caller) want(status int, method, at, body string, headers ...string) string {
	c.t.Helper()
	got, text, _ := c.do(method, at, body, headers...)
	assert.Equal(c.t, status, got, "%s %s: %s", method, at, text)
	return text
}

func put(t *testing.T, k *testkit.Keep, account, name, content string) {
	t.Helper()
	file := filepath.Join(k.Home(account), name)
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, []byte(content), 0o644))
}

// run runs a program of the machine.
func run(t *testing.T, dir, stdin, program string, args ...string) (string, error) {
	ctx, cancel := context.WithTimeout(t.Context(), 4*testkit.Patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Dir, cmd.Stdin = dir, strings.NewReader(stdin)
	cmd.Env = append(os.Environ(), "HOME="+dir)
	out, err := cmd.CombinedOutput()
	require.NoError(t, ctx.Err(), "%s hangs: %s", program, out)
	return string(out), err
}

var passed = regexp.MustCompile("summary for `(\\w+)': of \\d+ tests run: \\d+ passed, 0 failed")

// The suite of others for servers, whole, on stores of two kinds, in clear and over TLS.
func TestLitmusPassesWhole(t *testing.T) {
	k := testkit.Start(t)
	k.Must(nil, "listener", "add", "secure", "web", "127.0.0.1:0", "-faces", "dav")
	k.Must(nil, "store", "add", "safe", t.TempDir(), "-kind", "sealed")
	k.Account("ann", "-mount", "/sealed=safe:ann")
	for _, base := range []string{"http://" + k.Address("web") + "/dav/", "http://" + testkit.NewTLSLine(t, k.Address("secure")).Address + "/dav/", "http://" + k.Address("web") + "/dav/sealed/"} {
		out, err := run(t, t.TempDir(), "", "litmus", "-k", base, "ann", testkit.Password)
		assert.NoError(t, err, out)
		assert.Len(t, passed.FindAllString(out, -1), 5, "%s: %s", base, out)
	}
}

// The suite whole on an object store, the stand-in; on a real one, which is slow, its basics.
func TestLitmusPassesOnAnObjectStore(t *testing.T) {
	objects, err := demo.OpenObjectStore(t.TempDir(), "city", "key")
	require.NoError(t, err)
	standIn := httptest.NewServer(objects)
	t.Cleanup(standIn.Close)
	swift := counterpart.StartSwift(t, "city")
	for _, c := range []struct {
		endpoint, user, secret string
		suites                 []string
	}{{standIn.URL, "key", "any", []string{"basic", "copymove", "props", "locks", "http"}}, {swift.Site.Endpoint, swift.Site.User, counterpart.SwiftSecret, []string{"basic"}}} {
		k := testkit.Start(t)
		_, errs, status := k.CLIWith(c.secret+"\n", "store", "add", "cloud", "-kind", "object", "-endpoint", c.endpoint, "-bucket", "city", "-user", c.user)
		require.Zero(t, status, errs)
		k.Account("ann", "-home", "cloud:ann")
		out, err := run(t, t.TempDir(), "", "env", "TESTS="+strings.Join(c.suites, " "), "litmus", "-k", "http://"+k.Address("web")+"/dav/", "ann", testkit.Password)
		assert.NoError(t, err, out)
		assert.Len(t, passed.FindAllString(out, -1), len(c.suites), out)
	}
}

func TestCadaverAndCurlWork(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".netrc"), []byte("machine 127.0.0.1 login ann password \""+testkit.Password+"\"\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "plan.tif"), bytes.Repeat([]byte("plan"), 100_000), 0o600))
	base := "http://" + k.Address("web") + "/dav/"
	out, err := run(t, dir, "mkcol in\nput plan.tif in/plan.tif\ncopy in/plan.tif in/copy.tif\nmove in/copy.tif moved.tif\npropset moved.tif colour blue\npropget moved.tif colour\nlock moved.tif\nunlock moved.tif\nls\nget moved.tif back.tif\ndelete moved.tif\nquit\n", "cadaver", base)
	require.NoError(t, err, out)
	assert.NotContains(t, out, "failed", out)
	assert.Contains(t, out, "Value of colour is: blue")
	assert.Equal(t, testkit.OnDisk(t, filepath.Join(dir, "plan.tif")), testkit.OnDisk(t, filepath.Join(dir, "back.tif")))
	out, err = run(t, dir, "", "curl", "-sS", "--fail-with-body", "-n", "-T", "plan.tif", base+"in/chunked.tif", "-H", "Transfer-Encoding: chunked", "-H", "Expect: 100-continue")
	require.NoError(t, err, out)
	out, err = run(t, dir, "", "curl", "-sS", "-n", "-r", "4-7", base+"in/chunked.tif")
	require.NoError(t, err)
	assert.Equal(t, "plan", out)

	// One session, and a record of each file.
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-account", "ann", "-protocol", "dav", "-action", "sign-in")
	assert.Len(t, trail, 2, "one for each client")
	k.Must(&trail, "audit", "-account", "ann", "-protocol", "dav", "-action", "upload", "-path", "/in/chunked.tif")
	require.Len(t, trail, 1)
	assert.Equal(t, int64(400_000), trail[0].Bytes)
}

// What Windows and macOS send when they save a file.
func TestWhatDesktopsSend(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	c := as(t, k, "ann")
	_, _, h := c.do("OPTIONS", "/", "")
	assert.Equal(t, "1, 2, 3", h.Get("DAV"))
	assert.Equal(t, "DAV", h.Get("MS-Author-Via"))
	c.want(207, "PROPFIND", "/", "", "Depth: 0", "User-Agent: Microsoft-WebDAV-MiniRedir/10.0.22631")
	c.want(201, "PUT", "/Plan.docx", "") // nothing yet, then a lock on it
	lock := `<?xml version="1.0" encoding="utf-8" ?><D:lockinfo xmlns:D="DAV:"><D:lockscope><D:exclusive/></D:lockscope><D:locktype><D:write/></D:locktype><D:owner><D:href>DESK\ann</D:href></D:owner></D:lockinfo>`
	status, text, h := c.do("LOCK", "/Plan.docx", lock, "Timeout: Second-3600")
	require.Equal(t, 200, status, text)
	token := h.Get("Lock-Token")
	assert.Contains(t, text, `DESK\ann`)
	c.want(423, "PUT", "/Plan.docx", "other")
	c.want(204, "PUT", "/Plan.docx", "content", "If: ("+token+")")
	times := `<?xml version="1.0" encoding="utf-8" ?><D:propertyupdate xmlns:D="DAV:" xmlns:Z="urn:schemas-microsoft-com:"><D:set><D:prop><Z:Win32CreationTime>Mon, 02 Mar 2026 08:00:00 GMT</Z:Win32CreationTime><Z:Win32LastModifiedTime>Mon, 02 Mar 2026 09:00:00 GMT</Z:Win32LastModifiedTime><Z:Win32FileAttributes>00000020</Z:Win32FileAttributes></D:prop></D:set></D:propertyupdate>`
	assert.Contains(t, c.want(207, "PROPPATCH", "/Plan.docx", times, "If: ("+token+")"), "200 OK")
	info, err := os.Stat(filepath.Join(k.Home("ann"), "Plan.docx"))
	require.NoError(t, err)
	assert.Equal(t, "2026-03-02 09:00", info.ModTime().UTC().Format("2006-01-02 15:04"))
	c.want(204, "UNLOCK", "/Plan.docx", "", "Lock-Token: "+token)
	text = c.want(207, "PROPFIND", "/", `<?xml version="1.0"?><propfind xmlns="DAV:"><prop><quota-available-bytes/><quota-used-bytes/><getetag/><current-user-privilege-set/></prop></propfind>`, "Depth: 1", "User-Agent: WebDAVFS/3.0.0 (03008000) Darwin/22.6.0 (x86_64)")
	assert.Contains(t, text, "<d:quota-available-bytes>")
	assert.Contains(t, text, "<d:privilege><d:write-content/></d:privilege>")
	// An editor's dance: beside, away, into its place.
	c.want(201, "PUT", "/.~lock.Plan.docx%23", "who")
	c.want(201, "PUT", "/Plan.tmp", "newer")
	c.want(201, "MOVE", "/Plan.docx", "", "Destination: "+c.base+"/Plan.bak", "Overwrite: F")
	c.want(201, "MOVE", "/Plan.tmp", "", "Destination: "+c.base+"/Plan.docx", "Overwrite: T")
	assert.Equal(t, "newer", c.want(200, "GET", "/Plan.docx", ""))
}

func TestAnETagIsRightAfterEveryChange(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	c := as(t, k, "ann")
	c.want(201, "PUT", "/a", "one")
	_, _, h := c.do("HEAD", "/a", "")
	first := h.Get("ETag")
	c.want(412, "PUT", "/a", "x", `If-Match: "other"`)
	c.want(412, "PUT", "/a", "x", "If-None-Match: *")
	c.want(204, "PUT", "/a", "two", "If-Match: "+first)
	c.want(412, "PUT", "/a", "x", "If-Match: "+first)
	c.want(412, "DELETE", "/a", "", "If: (["+first+"])")
	_, _, h = c.do("HEAD", "/a", "")
	second := h.Get("ETag")
	file, _ := testkit.File(t, 10)
	_, err := k.SFTP("ann", k.Key("ann"), "put "+file+" a")
	require.NoError(t, err)
	c.want(412, "PUT", "/a", "x", "If-Match: "+second)
	assert.Equal(t, 304, first304(c, "/a"))
}

func first304(c *caller, at string) int {
	_, _, h := c.do("HEAD", at, "")
	status, _, _ := c.do("GET", at, "", "If-None-Match: "+h.Get("ETag"))
	return status
}
