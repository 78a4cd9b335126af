package web_test

import (
	"bufio"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/keep"
	"urbankeep/internal/service"
	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/sftptalk"
)

func TestWebListenersChangeWhileWhatRunsGoesOn(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	c := testkit.NewCaller(t, k)
	testkit.SetUp(t, k, c)
	// A stream of events is read on the listener that is about to be changed in every way, and a file comes in.
	response, err := c.HTTP.Get(c.Base + "/api/v1/live")
	require.NoError(t, err)
	defer response.Body.Close()
	lines := make(chan string, 1000)
	go func() {
		defer close(lines)
		for scan := bufio.NewScanner(response.Body); scan.Scan(); {
			lines <- scan.Text()
		}
	}()
	goesOn := func() {
		t.Helper()
		for end := time.After(testkit.Patience); ; {
			select {
			case line, open := <-lines:
				require.True(t, open, "the stream has ended")
				if strings.HasPrefix(line, "data:") {
					return
				}
			case <-end:
				require.Fail(t, "the stream is silent")
			}
		}
	}
	s := sftptalk.Dial(t, k, "ann")
	upload := s.Open("/going-on", sftptalk.FxfWrite|sftptalk.FxfCreat)
	sent := 0
	more := func() {
		t.Helper()
		require.EqualValues(t, sftptalk.FxOK, s.Status(sftptalk.FxpWrite, upload, sftptalk.U64(uint64(sent)), sftptalk.Str(strings.Repeat("x", 1000))))
		sent += 1000
		goesOn()
	}
	more()
	var l api.Listener
	k.Must(&l, "listener", "add", "second", "web", "127.0.0.1:0", "-faces", "console")
	more()
	// Who came by it is asked before it would shut them out.
	refused := func(change string) {
		t.Helper()
		var p api.Problem
		c.Call("PATCH", "/listeners/web", change, 409, &p)
		assert.Equal(t, string(keep.ShutsYouOut), p.Reason)
	}
	for _, change := range []string{`{"faces": ["portal"]}`, `{"stopped": true}`, `{"deny": ["127.0.0.0/8"]}`, `{"hosts": ["files.example.org"]}`, `{"encryption": "required"}`, `{"address": "127.0.0.1:1"}`,
		`{"proxies": ["127.0.0.1"]}`} {
		refused(change)
	}
	c.Call("DELETE", "/listeners/web", nil, 409, nil)
	c.Call("PATCH", "/listeners/web", `{"encryption": "optional"}`, 422, nil)
	more()
	// By another way it may be done, and what is meant is done at once.
	k.Must(nil, "listener", "set", "second", "-hosts", "files.example.org")
	k.Must(nil, "listener", "set", "web", "-faces", "portal,dav")
	c.Call("GET", "/me", nil, 404, nil)
	k.Must(nil, "listener", "set", "web", "-faces", "console", "-hosts", "127.0.0.1,files.example.org")
	more()
	c.Call("PATCH", "/listeners/web", `{"encryption": "required", "meant": true}`, 200, nil)
	more()
	secure := blind(t)
	got, err := secure.Get("https://" + k.Address("web") + "/healthz")
	require.NoError(t, err)
	got.Body.Close()
	assert.Equal(t, 2, got.ProtoMajor)
	k.Must(nil, "listener", "set", "web", "-address", fmt.Sprint("127.0.0.1:", testkit.FreePorts(t)))
	more()
	k.Must(nil, "listener", "remove", "web")
	more()
	_, err = net.Dial("tcp", l.Listening)
	assert.NoError(t, err)
	require.EqualValues(t, sftptalk.FxOK, s.Status(sftptalk.FxpClose, upload))
	assert.Len(t, testkit.OnDisk(t, filepath.Join(k.Home("ann"), "going-on")), sent)
	// What was set is there after a restart, without being said again; a removed one stays removed.
	dir := k.Dir
	k.Halt(5 * time.Second)
	for range lines {
	}
	again := testkit.StartOn(t, dir, "127.0.0.1", func(o *service.Options) { o.Console = "" })
	var all []api.Listener
	again.Must(&all, "listener", "list")
	names := map[string]string{}
	for _, l := range all {
		names[l.Name] = strings.Join(l.Hosts, " ")
	}
	assert.NotContains(t, names, "web")
	assert.Equal(t, "files.example.org", names["second"])
}

func TestWhatCantBeDoneOfAWebListenerIsRefusedWithAdvice(t *testing.T) {
	k := testkit.Start(t)
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"add", "x", "web", ":0"}, "say what it serves"},
		{[]string{"add", "x", "web", ":0", "-faces", "console", "-encryption", "off"}, "without TLS, others could read passwords"},
		{[]string{"add", "x", "web", ":0", "-faces", "everything"}, "use console, portal, passes and dav"},
		{[]string{"add", "x", "web", ":0", "-faces", "console", "-encryption", "optional"}, "speaks TLS (required) or does not (off)"},
		{[]string{"add", "x", "web", ":0", "-faces", "console", "-passive", "47000-47001"}, "are for FTP"},
		{[]string{"add", "x", "web", ":0", "-faces", "console", "-hosts", "http://files"}, "is no host name"},
		{[]string{"add", "x", "web", ":0", "-redirect", "web", "-encryption", "off"}, "there is no web listener with TLS named web"},
		{[]string{"add", "x", "web", ":0", "-redirect", "x", "-encryption", "off"}, "can't send to itself"},
		{[]string{"add", "x", "web", ":0", "-redirect", "https://a/b", "-encryption", "off"}, "of the form https://files.example.org"},
		{[]string{"add", "x", "web", ":0", "-faces", "console", "-forwarded", "x-forwarded-for"}, "name the proxies"},
		{[]string{"add", "x", "web", ":0", "-faces", "console", "-certificate", "none"}, "there is no certificate named none"},
		{[]string{"set", "sftp", "-faces", "console"}, "for web listeners"},
		{[]string{"set", "sftp", "-certificate", "main"}, "SFTP has host keys"},
		{[]string{"set", "web", "-address", ":0"}, "without TLS, others could read passwords"},
	} {
		assert.Contains(t, k.Refused(append([]string{"listener"}, c.args...)...), c.says)
	}
	k.Must(nil, "listener", "add", "behind", "web", ":0", "-faces", "console", "-encryption", "off", "-proxies", "192.0.2.1")
	k.Must(nil, "listener", "add", "meant", "web", ":0", "-faces", "console", "-encryption", "off", "-meant")
	stdout, _, _ := k.CLI("checkup")
	assert.Regexp(t, `web meant: it listens on \S+ without TLS`, stdout)
	assert.NotContains(t, stdout, "web behind: it listens")
}

func TestEveryFaceCarriesTheHeadersThatProtectIt(t *testing.T) {
	k := testkit.Start(t)
	var secure api.Listener
	k.Must(&secure, "listener", "add", "secure", "web", "127.0.0.1:0", "-faces", "console,portal,passes,dav", "-hosts", "127.0.0.1")
	client := blind(t)
	for _, base := range []string{"http://" + k.Address("web"), "https://" + secure.Listening} {
		for _, path := range []string{"/", "/console/", "/console/accounts", "/console/assets/none.js", "/accounts", "/api/v1/setup", "/api/v1/me", "/api/v1/none", "/metrics", "/portal/", "/pass/x", "/dav/", "/none.html",
			"/healthz", "/readyz", "/.well-known/acme-challenge/none"} {
			response, err := client.Get(base + path)
			require.NoError(t, err)
			io.Copy(io.Discard, response.Body)
			response.Body.Close()
			h := response.Header
			assert.Equal(t, "nosniff", h.Get("X-Content-Type-Options"), path)
			assert.Less(t, response.StatusCode, 500, path)
			if kind := h.Get("Content-Type"); strings.HasPrefix(kind, "text/html") || strings.HasSuffix(kind, "json") {
				assert.Contains(t, h.Get("Content-Security-Policy"), "default-src", path)
				assert.Contains(t, h.Get("Content-Security-Policy"), "frame-ancestors 'none'", path)
				assert.NotContains(t, h.Get("Content-Security-Policy"), "script-src 'unsafe", path)
				assert.Equal(t, "no-referrer", h.Get("Referrer-Policy"), path)
			}
			if response.StatusCode < 400 && !strings.HasSuffix(path, "yz") && !strings.HasSuffix(path, "thz") {
				assert.Equal(t, strings.HasPrefix(base, "https"), h.Get("Strict-Transport-Security") != "", base+path)
			}
			if strings.HasPrefix(path, "/api/") {
				assert.Equal(t, "no-store", h.Get("Cache-Control"), path)
			}
		}
	}
	response, err := testkit.Get(t, "http://"+k.Address("web")+"/")
	require.NoError(t, err)
	assert.Equal(t, "/console/", response.Header.Get("Location"))
	http.DefaultTransport.(*http.Transport).CloseIdleConnections()

	for _, version := range []uint16{tls.VersionTLS10, tls.VersionTLS11} {
		_, err := tls.Dial("tcp", secure.Listening, &tls.Config{InsecureSkipVerify: true, MinVersion: version, MaxVersion: version})
		assert.Error(t, err)
	}
	_, err = tls.Dial("tcp", secure.Listening, &tls.Config{InsecureSkipVerify: true, MaxVersion: tls.VersionTLS12, CipherSuites: []uint16{tls.TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA, tls.TLS_RSA_WITH_AES_128_GCM_SHA256}})
	assert.Error(t, err)
}

func TestPlainRequestsAreSentOnToTLS(t *testing.T) {
	k := testkit.Start(t)
	var secure, plain api.Listener
	k.Must(&secure, "listener", "add", "secure", "web", "127.0.0.1:0", "-faces", "console")
	k.Must(&plain, "listener", "add", "plain", "web", "127.0.0.1:0", "-redirect", "secure", "-encryption", "off")
	ask := func(path string) *http.Response {
		response, err := testkit.Get(t, "http://"+plain.Listening+path)
		require.NoError(t, err)
		return response
	}
	response := ask("/console/accounts?x=1")
	assert.Equal(t, http.StatusPermanentRedirect, response.StatusCode)
	assert.Equal(t, "https://"+secure.Listening+"/console/accounts?x=1", response.Header.Get("Location"))
	assert.Equal(t, 200, ask("/healthz").StatusCode)
	assert.Contains(t, k.Refused("listener", "remove", "secure"), "the listener plain sends requests on to it")
	k.Must(nil, "listener", "stop", "secure")
	assert.Equal(t, http.StatusServiceUnavailable, ask("/").StatusCode)
	k.Must(nil, "listener", "set", "plain", "-redirect", "https://files.example.org")
	assert.Equal(t, "https://files.example.org//evil.example/..", ask("//evil.example/..").Header.Get("Location"))
	http.DefaultTransport.(*http.Transport).CloseIdleConnections()
}

func TestTheCertificateIsChosenByNameAndByListener(t *testing.T) {
	k := testkit.Start(t)
	dir := t.TempDir()
	for _, name := range []string{"a.example", "b.example"} {
		file, key := testkit.NewCertificate(t, dir, name)
		k.Must(nil, "certificate", "import", file, key, "-name", strings.TrimSuffix(name, ".example"))
	}
	k.Must(nil, "listener", "add", "secure", "web", "127.0.0.1:0", "-faces", "console")
	shown := func(listener, name string) string {
		conn, err := tls.Dial("tcp", k.Address(listener), &tls.Config{InsecureSkipVerify: true, ServerName: name})
		require.NoError(t, err)
		defer conn.Close()
		return conn.ConnectionState().PeerCertificates[0].Subject.CommonName
	}
	for _, listener := range []string{"secure", "ftps"} {
		assert.Equal(t, "a.example", shown(listener, "a.example"))
		assert.Equal(t, "b.example", shown(listener, "B.example"))
		assert.Contains(t, shown(listener, "c.example"), "Urban Keep on")
	}
	k.Must(nil, "listener", "set", "ftps", "-certificate", "b")
	assert.Equal(t, "b.example", shown("ftps", "a.example"))
	assert.Contains(t, k.Refused("certificate", "remove", "b"), "listeners show it: ftps")
	k.Must(nil, "certificate", "remove", "a")
	assert.Contains(t, shown("secure", "a.example"), "Urban Keep on")
	assert.NoFileExists(t, filepath.Join(k.Dir, "tls", "a.pem"), "its key is gone too")
	assert.Contains(t, k.Refused("certificate", "remove", "main"), "always there")
	assert.Contains(t, k.Refused("certificate", "import", os.DevNull, os.DevNull, "-name", "c"), "")
	var all []api.Certificate
	k.Must(&all, "certificate", "list")
	assert.Len(t, all, 2, "one that could not be made is not there")
	dirNow := k.Dir
	k.Halt(5 * time.Second)
	k = testkit.StartIn(t, dirNow)
	assert.Equal(t, "b.example", shown("ftps", "x.example"))
}

func TestNotReadyIsSaidToProbers(t *testing.T) {
	k := testkit.Start(t)
	c := testkit.NewCaller(t, k)
	ask := func(path string) (int, string) {
		response, err := testkit.Get(t, c.Base+path)
		require.NoError(t, err)
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		return response.StatusCode, string(text)
	}
	status, text := ask("/readyz")
	assert.Equal(t, 200, status, text)
	require.NoError(t, os.Rename(filepath.Join(k.Dir, "files"), filepath.Join(k.Dir, "gone")))
	status, text = ask("/readyz")
	assert.Equal(t, 503, status)
	assert.NotContains(t, text, k.Dir, "strangers hear no path")
	status, _ = ask("/healthz")
	assert.Equal(t, 200, status)
	require.NoError(t, os.Rename(filepath.Join(k.Dir, "gone"), filepath.Join(k.Dir, "files")))
	k.Must(nil, "gate", "set", "-deny", "127.0.0.0/8")
	status, _ = ask("/healthz")
	assert.Equal(t, 403, status, "who may not connect hears nothing")
	http.DefaultTransport.(*http.Transport).CloseIdleConnections()
}
