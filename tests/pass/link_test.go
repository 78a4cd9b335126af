package pass_test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"mime/multipart"
	"net"
	"net/http"
	"net/http/cookiejar"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

// made makes a pass of ann's and gives it with its link.
func made(t *testing.T, k *testkit.Keep, args ...string) api.PassMade {
	t.Helper()
	var m api.PassMade
	k.Must(&m, append([]string{"pass", "add", "ann"}, args...)...)
	return m
}

// put lays a file into ann's home.
func put(t *testing.T, k *testkit.Keep, name string, content []byte) {
	t.Helper()
	file := filepath.Join(k.Home("ann"), name)
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, content, 0o644))
}

// guest is somebody with a link, at an address of their own.
type guest struct {
	t    *testing.T
	http *http.Client
}

func newGuest(t *testing.T, address string) *guest {
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	dialer := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(address)}}
	transport := &http.Transport{DialContext: dialer.DialContext, DisableCompression: true}
	t.Cleanup(transport.CloseIdleConnections)
	return &guest{t, &http.Client{Jar: jar, Transport: transport, Timeout: testkit.Patience}}
}

func (g *guest) do(method, url string, body io.Reader, headers ...string) (int, string) {
	g.t.Helper()
	request, err := http.NewRequest(method, url, body)
	require.NoError(g.t, err)
	for _, header := range headers {
		name, value, _ := strings.Cut(header, ": ")
		request.Header.Set(name, value)
	}
	response, err := g.http.Do(request)
	require.NoError(g.t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(g.t, err)
	return response.StatusCode, string(text)
}

const html = "Accept: text/html"

// form leaves files as a browser without scripts does.
func (g *guest) form(link string, fields map[string]string, files ...string) (int, string) {
	var text bytes.Buffer
	w := multipart.NewWriter(&text)
	for name, value := range fields {
		require.NoError(g.t, w.WriteField(name, value))
	}
	for _, name := range files {
		part, err := w.CreateFormFile("file", name)
		require.NoError(g.t, err)
		part.Write([]byte("content of " + name))
	}
	require.NoError(g.t, w.Close())
	return g.do("POST", link, &text, "Content-Type: "+w.FormDataContentType(), html)
}

// curl runs one in a folder.
func curl(t *testing.T, dir string, args ...string) (string, error) {
	ctx, cancel := context.WithTimeout(t.Context(), testkit.Patience)
	defer cancel()
	run := exec.CommandContext(ctx, "curl", append([]string{"-sS", "--fail-with-body"}, args...)...)
	run.Dir = dir
	out, err := run.CombinedOutput()
	return string(out), err
}

func TestFilesAreFetchedWithALink(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	odd := `a "b" <c>&%20#?.tif`
	for name, content := range map[string]string{"plates/" + odd: "odd", "plates/north/deep.tif": "deep", "one.tif": "one", "secret.txt": "secret", "other/one.tif": "other"} {
		put(t, k, name, []byte(content))
	}
	g := newGuest(t, "127.0.0.1")
	folder := made(t, k, "/plates", "-text", "The plates <b>for you</b>").Link
	status, page := g.do("GET", folder, nil, html)
	require.Equal(t, 200, status, page)
	assert.Contains(t, page, "The plates &lt;b&gt;for you&lt;/b&gt;")
	assert.Contains(t, page, `a &#34;b&#34; &lt;c&gt;&amp;%20#?.tif`)
	assert.Contains(t, page, "curl -OJ")
	assert.NotContains(t, page, "secret.txt")
	status, text := g.do("GET", folder+"0/plates/a%20%22b%22%20%3Cc%3E&%2520%23%3F.tif", nil)
	assert.Equal(t, []any{200, "odd"}, []any{status, text})
	status, text = g.do("GET", folder+"0/plates/north/", nil, html)
	assert.Equal(t, 200, status)
	assert.Contains(t, text, "deep.tif")
	status, text = g.do("GET", folder+"0/plates/north/deep.tif", nil, "Range: bytes=1-2")
	assert.Equal(t, []any{206, "ee"}, []any{status, text})
	for _, beside := range []string{"0/secret.txt", "0/plates/../secret.txt", "0/plates/%2e%2e/secret.txt", "0/plates/..%2fsecret.txt", "1/one.tif", "0/one.tif", "-1/plates/x", "00/plates/north/deep.tif", "0/plates/none.tif", "uploads/x"} {
		status, text := g.do("GET", folder+beside, nil)
		assert.Equal(t, 404, status, beside)
		assert.NotContains(t, text, "secret\n", beside)
	}
	for _, method := range []string{"PUT", "POST", "DELETE"} {
		status, _ := g.do(method, folder+"x.tif", strings.NewReader("x"))
		assert.GreaterOrEqual(t, status, 400, method)
	}
	assert.NoFileExists(t, filepath.Join(k.Home("ann"), "plates/x.tif"))

	// As the page says, with curl; several as one archive, in which names meet.
	dir := t.TempDir()
	some := made(t, k, "/one.tif", "/other/one.tif").Link
	_, err := curl(t, dir, "-OJ", some+"zip")
	require.NoError(t, err)
	out, err := exec.Command("unzip", "-p", filepath.Join(dir, "files.zip"), "one (2).tif").CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, "other", string(out))
	single := made(t, k, "/one.tif").Link
	_, page = g.do("GET", single, nil, html)
	assert.Contains(t, page, "0/one.tif&#39;</pre>")
	_, err = curl(t, dir, "-OJ", single+"0/one.tif")
	require.NoError(t, err)
	assert.Equal(t, "one", string(testkit.OnDisk(t, filepath.Join(dir, "one.tif"))))

	// Links that are not there, without a slash, with something behind.
	for _, wrong := range []string{"AAAA", strings.Repeat("A", 4000), "%00", "..%2f..", "assets"} {
		status, _ := g.do("GET", "http://"+k.Address("web")+"/pass/"+wrong+"/", nil)
		assert.Contains(t, []int{400, 404}, status, wrong)
	}

	// The trail says with which pass, and the list who.
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-account", "ann", "-protocol", "pass", "-action", "download", "-outcome", "done")
	require.NotEmpty(t, trail)
	for _, r := range trail {
		assert.Len(t, r.Target, 12, r)
		assert.Equal(t, "127.0.0.1", r.Address)
	}
	var list []api.Pass
	k.Must(&list, "pass", "list", "-account", "ann")
	require.Len(t, list, 3)
	assert.Equal(t, int64(1), list[0].Uses)
	var uses []api.PassUse
	k.Must(&uses, "pass", "uses", list[0].ID)
	require.Len(t, uses, 1)
	assert.Equal(t, []any{int64(1), int64(3), "127.0.0.1"}, []any{uses[0].Files, uses[0].Bytes, uses[0].Address})
}

func TestFilesAreLeftWithALink(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-quota-bytes", "2MiB")
	put(t, k, "in/there.txt", []byte("there"))
	home := filepath.Join(k.Home("ann"), "in")
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "there.txt"), []byte("mine"), 0o600))
	blind := made(t, k, "/in", "-drop").Link

	// What is there stays, is not seen, and is not told of.
	out, err := curl(t, dir, "-T", "there.txt", blind)
	require.NoError(t, err, out)
	assert.Equal(t, "there.txt has come whole. Thank you.\n", out)
	assert.Equal(t, "there", string(testkit.OnDisk(t, filepath.Join(home, "there.txt"))))
	assert.Equal(t, "mine", string(testkit.OnDisk(t, filepath.Join(home, "there (2).txt"))))
	g := newGuest(t, "127.0.0.1")
	_, page := g.do("GET", blind, nil, html)
	assert.NotContains(t, page, "there.txt", "another visitor's files")
	for _, address := range []string{"0/in/there.txt", "0/in/", "zip", "tar"} {
		status, text := g.do("GET", blind+address, nil)
		assert.Equal(t, 404, status, address)
		assert.NotContains(t, text, "there.txt")
	}
	status, page := g.form(blind, nil, "a.txt", "../../escape.txt", `C:\temp\b.txt`)
	require.Equal(t, 200, status, page)
	assert.Contains(t, page, "What has come from you")
	assert.Contains(t, page, "escape.txt")
	assert.Equal(t, "content of a.txt", string(testkit.OnDisk(t, filepath.Join(home, "a.txt"))))
	assert.FileExists(t, filepath.Join(home, "escape.txt"))
	assert.FileExists(t, filepath.Join(home, "b.txt"))
	_, page = newGuest(t, "127.0.0.1").do("GET", blind, nil, html)
	assert.NotContains(t, page, "a.txt", "each browser sees its own")

	// Who is asked says who they are, before anything is kept; a folder of their own.
	asks := made(t, k, "/in", "-drop", "-asks", "-apart").Link
	status, page = g.form(asks, nil, "nameless.txt")
	assert.Equal(t, 422, status, page)
	status, page = g.form(asks, map[string]string{"name": "Jo <Gull> / ../..", "mail": "jo@example.org", "message": "Two\nlines"}, "survey.laz")
	require.Equal(t, 200, status, page)
	found, err := filepath.Glob(filepath.Join(home, "20* Jo Gull", "survey.laz"))
	require.NoError(t, err)
	assert.Len(t, found, 1)
	var list []api.Pass
	k.Must(&list, "pass", "list")
	var uses []api.PassUse
	k.Must(&uses, "pass", "uses", list[0].ID)
	require.Len(t, uses, 1)
	assert.Equal(t, []string{"Jo <Gull> / ../..", "jo@example.org", "Two\nlines"}, []string{uses[0].Name, uses[0].Mail, uses[0].Message})

	// A program says it too: without it nothing is kept, by whichever way a file comes.
	byProgram := made(t, k, "/in", "-drop", "-asks").Link
	stranger := newGuest(t, "127.0.0.2")
	for _, try := range [][]string{{"PUT", "unsaid.txt"}, {"PUT", "unsaid.txt", "From: jo@example.org"}, {"POST", "uploads", "Upload-Length: 1", "Upload-Metadata: filename dW5zYWlkLnR4dA==", "Tus-Resumable: 1.0.0"}} {
		status, text := stranger.do(try[0], byProgram+try[1], strings.NewReader("x"), try[2:]...)
		assert.Equal(t, 422, status, text)
		assert.Contains(t, text, "say who you are")
	}
	assert.NoFileExists(t, filepath.Join(home, "unsaid.txt"))
	status, text := stranger.do("PUT", byProgram+"said.txt", strings.NewReader("x"), "From: Jo Gull <jo@example.org>")
	assert.Equal(t, 201, status, text)
	k.Must(&list, "pass", "list")
	k.Must(&uses, "pass", "uses", list[0].ID)
	require.Len(t, uses, 1)
	assert.Equal(t, []string{"Jo Gull", "jo@example.org"}, []string{uses[0].Name, uses[0].Mail})

	// An open one shows what is there, to be fetched too.
	open := made(t, k, "/in", "-drop", "-shows").Link
	_, page = g.do("GET", open, nil, html)
	assert.Contains(t, page, "there.txt")
	status, text = g.do("GET", open+"0/in/there.txt", nil)
	assert.Equal(t, []any{200, "there"}, []any{status, text})

	// Names that belong to the service; more than fits.
	for _, name := range []string{".urbankeep-part-x", ".urbankeep-bin-x", ".", "%2e%2e", "a%0Ab"} {
		status, text := g.do("PUT", blind+name, strings.NewReader("x"))
		assert.GreaterOrEqual(t, status, 300, "%s: %s", name, text)
	}
	status, text = g.do("PUT", blind+"large.bin", bytes.NewReader(make([]byte, 3<<20)))
	assert.Equal(t, 507, status, text)
	entries, err := os.ReadDir(home)
	require.NoError(t, err)
	for _, e := range entries {
		assert.NotContains(t, e.Name(), "urbankeep")
		assert.NotContains(t, e.Name(), "large")
	}
}

// Pieces, of an upload that is broken off, as tus has it.
func TestAnUploadWithALinkGoesOn(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	put(t, k, "in/x", nil)
	pass := made(t, k, "/in", "-drop").Link
	other := made(t, k, "/in", "-drop").Link
	g := newGuest(t, "127.0.0.1")
	tus := []string{"Tus-Resumable: 1.0.0", "Upload-Length: 10", "Upload-Metadata: filename c3VydmV5Lmxheg==,path L3NlY3JldA==,replace MQ=="}
	request, err := http.NewRequest("POST", pass+"uploads", nil)
	require.NoError(t, err)
	for _, header := range tus {
		name, value, _ := strings.Cut(header, ": ")
		request.Header.Set(name, value)
	}
	response, err := g.http.Do(request)
	require.NoError(t, err)
	response.Body.Close()
	require.Equal(t, 201, response.StatusCode)
	at := response.Header.Get("Location")
	id := at[strings.LastIndexByte(at, '/')+1:]
	require.True(t, strings.HasSuffix(pass+"uploads/"+id, at), at)
	status, _ := g.do("PATCH", pass+"uploads/"+id, strings.NewReader("01234"), tus[0], "Upload-Offset: 0", "Content-Type: application/offset+octet-stream")
	require.Equal(t, 204, status)
	assert.NoFileExists(t, filepath.Join(k.Home("ann"), "in/survey.laz"))
	// Another link, and the holder, have no part in it.
	for _, elsewhere := range []string{other} {
		status, _ = g.do("PATCH", elsewhere+"uploads/"+id, strings.NewReader("56789"), tus[0], "Upload-Offset: 5", "Content-Type: application/offset+octet-stream")
		assert.Equal(t, 404, status)
	}
	put(t, k, "in/survey.laz", []byte("meanwhile"))
	again := newGuest(t, "127.0.0.1")
	status, text := again.do("PATCH", pass+"uploads/"+id, strings.NewReader("56789"), tus[0], "Upload-Offset: 5", "Content-Type: application/offset+octet-stream")
	require.Equal(t, 204, status, text)
	assert.Equal(t, "meanwhile", string(testkit.OnDisk(t, filepath.Join(k.Home("ann"), "in/survey.laz"))))
	assert.Equal(t, "0123456789", string(testkit.OnDisk(t, filepath.Join(k.Home("ann"), "in/survey (2).laz"))))
}

// decode reads the problem that an answer is.
func decode(t *testing.T, text string) (p api.Problem) {
	require.NoError(t, json.Unmarshal([]byte(text), &p), text)
	return p
}

// soon waits until something holds, a second at the most: what is decided acts at once.
func soon(t *testing.T, what string, holds func() bool) {
	t.Helper()
	begun := time.Now()
	for !holds() {
		require.Less(t, time.Since(begun), testkit.Patience, what)
		time.Sleep(5 * time.Millisecond)
	}
}

// What a pass gives is explained and rehearsed as what an account may.
func TestAPassIsExplainedAndRehearsed(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-grant", "/closed=none")
	for _, name := range []string{"plates/one.tif", "one.tif", "in/x", "closed/x"} {
		put(t, k, name, []byte(name))
	}
	explain := func(m api.PassMade, right, at string, args ...string) (api.Explanation, int) {
		out, errs, status := k.CLI(append([]string{"explain", "ann", right, at, "-pass", m.Pass.ID, "-json"}, args...)...)
		var e api.Explanation
		require.NoError(t, json.Unmarshal([]byte(out), &e), errs)
		return e, status
	}
	fetch := made(t, k, "/plates", "/one.tif", "-networks", "127.0.0.0/8", "-password=false")
	for at, want := range map[string]int{"/plates/one.tif": 0, "/one.tif": 0, "/in/x": 1} {
		_, status := explain(fetch, "download", at)
		assert.Equal(t, want, status, at)
	}
	_, status := explain(fetch, "upload", "/plates/new.tif")
	assert.Equal(t, 1, status)
	_, status = explain(fetch, "download", "/one.tif", "-from", "192.0.2.1")
	assert.Equal(t, 1, status)
	_, errs, _ := k.CLI("explain", "ann", "download", "/one.tif", "-pass", "none")
	assert.Contains(t, errs, "none")

	kinds := []api.PassMade{fetch, made(t, k, "/in", "-drop"), made(t, k, "/in", "-drop", "-shows", "-uses", "1"), made(t, k, "/in", "-drop", "-apart"), made(t, k, "/", "-drop")}
	for _, m := range kinds {
		var r api.Rehearsal
		k.Must(&r, "rehearse", "ann", "-pass", m.Pass.ID)
		assert.True(t, r.Agrees, "%+v", r.Tries)
		assert.Greater(t, len(r.Tries), 2)
	}
	var list []api.Pass
	k.Must(&list, "pass", "list")
	for _, p := range list {
		assert.Zero(t, p.Uses, "a rehearsal is no use")
	}
	entries, err := os.ReadDir(filepath.Join(k.Home("ann"), "in"))
	require.NoError(t, err)
	assert.Len(t, entries, 1)
	soon(t, "no visit to be left", func() bool {
		var sessions []api.Session
		k.Must(&sessions, "session", "list")
		return len(sessions) == 0
	})
	k.Must(nil, "pass", "end", fetch.Pass.ID)
	_, status = explain(fetch, "download", "/one.tif")
	assert.Equal(t, 1, status)
	var r api.Rehearsal
	k.Must(&r, "rehearse", "ann", "-pass", fetch.Pass.ID)
	assert.True(t, r.Agrees, "that it has ended is as it should be")
	assert.Len(t, r.Tries, 1)
}
