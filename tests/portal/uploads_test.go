package portal_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

const tusContent = "Content-Type: application/offset+octet-stream"

func sum(content []byte) string {
	of := sha256.Sum256(content)
	return hex.EncodeToString(of[:])
}

// tus sends one request of the protocol; body may be nil.
func (h *holder) tus(method, path string, body io.Reader, headers ...string) *http.Response {
	h.t.Helper()
	request, err := http.NewRequest(method, h.base+path, body)
	require.NoError(h.t, err)
	for _, header := range append(headers, "Tus-Resumable: 1.0.0") {
		name, value, _ := strings.Cut(header, ": ")
		request.Header.Set(name, value)
	}
	response, err := h.http.Do(request)
	require.NoError(h.t, err)
	text, err := io.ReadAll(response.Body)
	require.NoError(h.t, err)
	response.Body.Close()
	response.Body = io.NopCloser(bytes.NewReader(text))
	return response
}

// create begins an upload and gives its address; facts are names and values of its metadata.
func (h *holder) create(size int, facts ...string) (string, *http.Response) {
	h.t.Helper()
	var about []string
	for i := 0; i < len(facts); i += 2 {
		about = append(about, facts[i]+" "+base64.StdEncoding.EncodeToString([]byte(facts[i+1])))
	}
	r := h.tus("POST", "api/v1/uploads", nil, "Upload-Length: "+strconv.Itoa(size), "Upload-Metadata: "+strings.Join(about, ","))
	return strings.TrimPrefix(r.Header.Get("Location"), "/portal/"), r
}

func (h *holder) patch(at string, from int, body io.Reader, more ...string) *http.Response {
	h.t.Helper()
	return h.tus("PATCH", at, body, append(more, tusContent, "Upload-Offset: "+strconv.Itoa(from))...)
}

func (h *holder) offset(at string) int {
	h.t.Helper()
	r := h.tus("HEAD", at, nil)
	require.Equal(h.t, 200, r.StatusCode, at)
	n, err := strconv.Atoi(r.Header.Get("Upload-Offset"))
	require.NoError(h.t, err)
	return n
}

func said(t *testing.T, r *http.Response) api.Problem {
	p := api.Problem{Status: r.StatusCode}
	if r.StatusCode >= 400 {
		require.NoError(t, json.NewDecoder(r.Body).Decode(&p))
	}
	return p
}

// dying is a body whose line breaks.
type dying struct{ io.Reader }

func (d dying) Read(p []byte) (int, error) {
	n, err := d.Reader.Read(p)
	if err == io.EOF {
		return n, io.ErrUnexpectedEOF
	}
	return n, err
}

// An upload goes on from where it broke off: the line, the connection that still hangs, the service itself. Until it is
// whole nobody sees it, and it counts in the quota.
func TestAnUploadGoesOnFromWhereItBrokeOff(t *testing.T) {
	dir := testkit.Folder(t)
	k := testkit.StartIn(t, dir)
	k.Account("ann", "-quota-bytes", "20MiB")
	h := in(t, k, "ann")
	_, content := testkit.File(t, 6<<20)
	at, r := h.create(len(content), "path", "/deep.bin", "hash", "later")
	require.Equal(t, 201, r.StatusCode)
	assert.NotEmpty(t, r.Header.Get("Upload-Expires"))
	assert.Zero(t, h.offset(at))

	// A line that breaks: what came stays.
	request, err := http.NewRequest("PATCH", h.base+at, dying{bytes.NewReader(content[:1<<20])})
	require.NoError(t, err)
	request.ContentLength = int64(len(content))
	for name, value := range map[string]string{"Tus-Resumable": "1.0.0", "Upload-Offset": "0", "Content-Type": "application/offset+octet-stream"} {
		request.Header.Set(name, value)
	}
	_, err = h.http.Do(request)
	require.Error(t, err)
	used := func() int64 {
		var q []api.Quota
		k.Must(&q, "quota", "list")
		require.Len(t, q, 1)
		return int64(q[0].Used.Bytes)
	}
	running := func() int { return len(k.Transfers("-outcome", "running")) }
	// The service reads what was on its way; who asks how far it is meanwhile is taken for a client that goes on.
	require.Eventually(t, func() bool { return running() == 0 && len(k.Transfers()) == 1 }, testkit.Patience, 10*time.Millisecond)
	n := h.offset(at)
	assert.Positive(t, n)
	require.Eventually(t, func() bool { return used() == int64(n) }, testkit.Patience, 10*time.Millisecond, "it counts")
	assert.LessOrEqual(t, n, 1<<20)
	assert.Empty(t, h.folder("/").Entries, "nobody sees it")
	out, err := k.Curl("ann", "ftps", "/", "--list-only")
	require.NoError(t, err)
	assert.Empty(t, strings.TrimSpace(out))

	// The old connection hangs when the client is back on another: the newer one wins.
	slow, feed := io.Pipe()
	var old sync.WaitGroup
	old.Go(func() {
		request, err := http.NewRequest("PATCH", h.base+at, slow)
		if !assert.NoError(t, err) {
			return
		}
		request.ContentLength = int64(len(content) - n)
		for name, value := range map[string]string{"Tus-Resumable": "1.0.0", "Upload-Offset": strconv.Itoa(n), "Content-Type": "application/offset+octet-stream"} {
			request.Header.Set(name, value)
		}
		if answer, err := h.http.Do(request); err == nil {
			answer.Body.Close()
			assert.GreaterOrEqual(t, answer.StatusCode, 400)
		}
	})
	_, err = feed.Write(content[n : n+1000])
	require.NoError(t, err)
	require.Eventually(t, func() bool { return running() == 1 }, testkit.Patience, 10*time.Millisecond)
	n = h.offset(at)
	feed.CloseWithError(io.ErrClosedPipe)
	old.Wait()
	assert.Equal(t, 409, h.patch(at, n+1, strings.NewReader("x")).StatusCode, "not from anywhere")
	r = h.patch(at, n, bytes.NewReader(content[n:3<<20]))
	require.Equal(t, 204, r.StatusCode)
	assert.Equal(t, strconv.Itoa(3<<20), r.Header.Get("Upload-Offset"))

	// A piece that is not what was sent is taken back.
	wrong := sha256.Sum256([]byte("something else"))
	r = h.patch(at, 3<<20, bytes.NewReader(content[3<<20:4<<20]), "Upload-Checksum: sha256 "+base64.StdEncoding.EncodeToString(wrong[:]))
	assert.Equal(t, 460, r.StatusCode)
	assert.Equal(t, 3<<20, h.offset(at))

	// The service ends, and begins anew: so do the sign-ins, and the upload goes on.
	k.Halt(5 * time.Second)
	k = testkit.StartIn(t, dir)
	h = in(t, k, "ann")
	var left api.Page[api.PortalUpload]
	_, text := h.do("GET", "api/v1/uploads", nil)
	require.NoError(t, json.Unmarshal(text, &left))
	require.Len(t, left.Items, 1)
	assert.Equal(t, api.PortalUpload{ID: filepath.Base(at), Path: "/deep.bin", Size: 6 << 20, Offset: 3 << 20, Created: left.Items[0].Created, Ends: left.Items[0].Ends}, left.Items[0])
	right := sha256.Sum256(content[3<<20:])
	r = h.patch(at, 3<<20, bytes.NewReader(content[3<<20:]), "Upload-Checksum: sha256 "+base64.StdEncoding.EncodeToString(right[:]))
	require.Equal(t, 204, r.StatusCode, said(t, r))
	assert.Empty(t, h.folder("/").Entries, "its hash is not known yet")
	assert.Equal(t, int64(6<<20), used())
	status, text := h.do("POST", at+"/finish", api.PortalFinish{Hash: sum(content)})
	require.Equal(t, 204, status, string(text))
	assert.Equal(t, content, testkit.OnDisk(t, filepath.Join(k.Home("ann"), "deep.bin")))
	assert.Equal(t, int64(6<<20), used())
	assert.Equal(t, 6<<20, h.offset(at), "who did not hear of the end can ask")
	entries, err := os.ReadDir(k.Home("ann"))
	require.NoError(t, err)
	assert.Len(t, entries, 1, "nothing else is left")
	k.Must(nil, "audit", "verify")
}

func TestAnUploadThatIsNotWhatWasSentNeverAppears(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	h := in(t, k, "ann")
	_, content := testkit.File(t, 300_000)
	for _, hold := range []bool{true, false} {
		facts := []string{"path", "/a.bin", "sha256", sum([]byte("other"))}
		if hold {
			facts = []string{"path", "/a.bin", "hash", "later"}
		}
		at, r := h.create(len(content), facts...)
		require.Equal(t, 201, r.StatusCode)
		r = h.patch(at, 0, bytes.NewReader(content))
		if hold {
			require.Equal(t, 204, r.StatusCode)
			status, text := h.do("POST", at+"/finish", api.PortalFinish{})
			assert.Equal(t, 422, status, string(text))
			status, text = h.do("POST", at+"/finish", api.PortalFinish{Hash: sum([]byte("other"))})
			assert.Equal(t, 409, status)
			assert.Contains(t, string(text), "bad-hash")
		} else {
			assert.Equal(t, "bad-hash", said(t, r).Reason)
		}
		assert.Equal(t, 404, h.tus("HEAD", at, nil).StatusCode)
		entries, err := os.ReadDir(k.Home("ann"))
		require.NoError(t, err)
		assert.Empty(t, entries)
	}
	// In one request, as small files come.
	r := h.tus("POST", "api/v1/uploads", bytes.NewReader(content), tusContent, "Upload-Length: 300000", "Upload-Metadata: path "+base64.StdEncoding.EncodeToString([]byte("/b.bin"))+",sha256 "+base64.StdEncoding.EncodeToString([]byte(sum(content))))
	assert.Equal(t, 201, r.StatusCode)
	assert.Equal(t, content, testkit.OnDisk(t, filepath.Join(k.Home("ann"), "b.bin")))
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-account", "ann", "-action", "upload", "-outcome", "done", "-most", "1")
	require.Len(t, trail, 1)
	assert.Equal(t, sum(content), trail[0].Hash)
}

// What can't end well is refused before the first byte; what others do meanwhile counts at the end.
func TestUploadsAreDecidedBeforeAndAfter(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-quota-bytes", "1MiB", "-max-upload", "800K", "-grant", "/closed=read-only")
	h := in(t, k, "ann")
	require.NoError(t, os.WriteFile(filepath.Join(k.Home("ann"), "there.bin"), []byte("older"), 0o644))
	require.NoError(t, os.Mkdir(filepath.Join(k.Home("ann"), "closed"), 0o755))
	for path, want := range map[string]struct {
		size, status int
		reason       string
	}{
		"/large.bin": {900_000, 413, "too-large"}, "/closed/a.bin": {1, 403, "no-right"}, "/there.bin": {1, 409, "already-there"}, "/none/a.bin": {1, 404, "not-found"},
		"/.urbankeep-part-x": {1, 403, "no-right"},
	} {
		_, r := h.create(want.size, "path", path)
		p := said(t, r)
		assert.Equal(t, []any{want.status, want.reason}, []any{r.StatusCode, p.Reason}, "%s: %s", path, p.Detail)
	}
	_, r := h.create(700_000, "path", "/one.bin")
	require.Equal(t, 201, r.StatusCode)
	at, r := h.create(700_000, "path", "/two.bin")
	require.Equal(t, 201, r.StatusCode)
	require.Equal(t, 204, h.patch(at, 0, strings.NewReader(strings.Repeat("x", 600_000))).StatusCode)
	_, r = h.create(700_000, "path", "/three.bin")
	assert.Equal(t, "quota-full", said(t, r).Reason, "what has come of others counts")

	// Somebody takes the name meanwhile: theirs stays until it is said that it may go.
	require.NoError(t, os.WriteFile(filepath.Join(k.Home("ann"), "two.bin"), []byte("theirs"), 0o644))
	r = h.patch(at, 600_000, strings.NewReader(strings.Repeat("x", 100_000)))
	assert.Equal(t, "already-there", said(t, r).Reason)
	assert.Equal(t, "theirs", string(testkit.OnDisk(t, filepath.Join(k.Home("ann"), "two.bin"))))

	// Rights that go while it comes: the end is refused, and what came stays for later.
	at, r = h.create(1000, "path", "/four.bin")
	require.Equal(t, 201, r.StatusCode)
	require.Equal(t, 204, h.patch(at, 0, strings.NewReader(strings.Repeat("y", 500))).StatusCode)
	k.Must(nil, "account", "set", "ann", "-rights", "read-only")
	r = h.patch(at, 500, strings.NewReader(strings.Repeat("y", 500)))
	assert.Equal(t, "no-right", said(t, r).Reason)
	assert.NoFileExists(t, filepath.Join(k.Home("ann"), "four.bin"))
	// Giving up takes back what came, and is nobody else's to say.
	k.Account("bob")
	other := in(t, k, "bob")
	assert.Equal(t, 404, other.tus("DELETE", at, nil).StatusCode)
	assert.Equal(t, 204, h.tus("DELETE", at, nil).StatusCode)
	assert.Equal(t, 404, h.tus("HEAD", at, nil).StatusCode)

	// Names of parts are nobody's to see, say, or lead to by a link.
	k.Must(nil, "account", "set", "ann", "-rights", "full")
	parts, err := filepath.Glob(filepath.Join(k.Home("ann"), ".urbankeep-part-*"))
	require.NoError(t, err)
	require.NotEmpty(t, parts)
	require.NoError(t, os.Symlink(filepath.Base(parts[0]), filepath.Join(k.Home("ann"), "link")))
	for _, path := range []string{"files/" + filepath.Base(parts[0]), "files/link", "files/x/.URBANKEEP-PART-a/y"} {
		status, text := h.do("GET", path, nil)
		assert.Equal(t, 403, status, "%s: %s", path, text)
	}
	for _, e := range h.folder("/").Entries {
		assert.NotContains(t, e.Name, "part-")
	}

	// A deleted account leaves none of it for long.
	k.Must(nil, "account", "delete", "ann")
	k.Halt(5 * time.Second)
	testkit.StartIn(t, k.Dir)
	for end := time.Now().Add(testkit.Patience); len(parts) > 0; time.Sleep(20 * time.Millisecond) {
		require.Less(t, time.Now(), end, parts)
		parts, err = filepath.Glob(filepath.Join(k.Home("ann"), ".urbankeep-part-*"))
		require.NoError(t, err)
	}
}

// Many uploads of one name, at the same time: one gets it, and all of its bytes are one's.
func TestUploadsOfOneNameDontMix(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	h := in(t, k, "ann")
	var all sync.WaitGroup
	outcomes := make([]int, 12)
	for i := range outcomes {
		all.Go(func() {
			content := bytes.Repeat([]byte{byte('a' + i)}, 200_000)
			outcomes[i], _ = h.do("PUT", "files/same.bin", content, "If-None-Match: *")
		})
	}
	all.Wait()
	done := 0
	for _, status := range outcomes {
		if status == 204 {
			done++
		} else {
			assert.Equal(t, 409, status)
		}
	}
	assert.Equal(t, 1, done, fmt.Sprint(outcomes))
	content := testkit.OnDisk(t, filepath.Join(k.Home("ann"), "same.bin"))
	assert.Equal(t, bytes.Repeat(content[:1], 200_000), content)
	entries, err := os.ReadDir(k.Home("ann"))
	require.NoError(t, err)
	assert.Len(t, entries, 1)
}

// What tus asks for beside the plain way: data with the creation, methods in a header, metadata given back, and a plain word for what
// is not done here.
func TestTheCornersOfResumableUploads(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	h := in(t, k, "ann")
	about := "Upload-Metadata: path " + base64.StdEncoding.EncodeToString([]byte("/a.bin"))
	r := h.tus("POST", "api/v1/uploads", strings.NewReader("12345"), "Upload-Length: 10", about, tusContent)
	require.Equal(t, []any{201, "5"}, []any{r.StatusCode, r.Header.Get("Upload-Offset")})
	at := strings.TrimPrefix(r.Header.Get("Location"), "/portal/")
	r = h.tus("POST", at, nil, "X-HTTP-Method-Override: HEAD")
	assert.Equal(t, []any{200, "5", about}, []any{r.StatusCode, r.Header.Get("Upload-Offset"), "Upload-Metadata: " + r.Header.Get("Upload-Metadata")})
	r = h.tus("POST", at, strings.NewReader("67890"), "X-HTTP-Method-Override: PATCH", "Upload-Offset: 5", tusContent)
	assert.Equal(t, []any{204, "10"}, []any{r.StatusCode, r.Header.Get("Upload-Offset")})
	assert.Equal(t, "1234567890", string(testkit.OnDisk(t, filepath.Join(k.Home("ann"), "a.bin"))))
	r = h.tus("POST", "api/v1/uploads", strings.NewReader("12345"), "Upload-Length: 5", "Upload-Metadata: filename "+base64.StdEncoding.EncodeToString([]byte("b.bin")), tusContent)
	assert.Equal(t, []any{201, "5"}, []any{r.StatusCode, r.Header.Get("Upload-Offset")})
	at, _ = h.create(10, "path", "/c.bin")
	assert.Equal(t, 204, h.tus("POST", at, nil, "X-HTTP-Method-Override: DELETE").StatusCode)
	assert.Equal(t, 404, h.tus("HEAD", at, nil).StatusCode)
	for header, says := range map[string]string{"Upload-Concat: partial": "Upload-Concat", "Upload-Defer-Length: 1": "Upload-Defer-Length"} {
		r := h.tus("POST", "api/v1/uploads", nil, "Upload-Length: 5", about, header)
		text, _ := io.ReadAll(r.Body)
		assert.Equal(t, 400, r.StatusCode)
		assert.Contains(t, string(text), says)
	}
	r = h.tus("POST", "api/v1/uploads", nil, "Upload-Length: 5", "Upload-Metadata: filename ")
	text, _ := io.ReadAll(r.Body)
	assert.Equal(t, 400, r.StatusCode, string(text))
	assert.Contains(t, string(text), "what the file is called")
}
