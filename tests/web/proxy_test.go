package web_test

import (
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
	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/counterpart"
)

const (
	proxy  = "127.0.0.9" // from where haproxy connects
	front  = "127.0.0.2" // where clients reach it
	client = "127.0.0.5"
)

// from is the address that the trail has of who did something last.
func from(t *testing.T, k *testkit.Keep, action, protocol string) string {
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-action", action, "-protocol", protocol, "-most", "1")
	require.NotEmpty(t, trail, action)
	return trail[0].Address
}

func TestBehindAProxyEverybodyHasTheirOwnAddress(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	key := k.Key("ann")
	k.AddOperator("ilse", "owner")
	for _, l := range []string{"ftp", "ftps", "sftp", "web"} {
		k.Must(nil, "listener", "set", l, "-proxies", proxy, "-meant")
	}
	var ftp api.Listener
	k.Must(&ftp, "listener", "show", "ftp")
	sections := []string{}
	ports := map[string]int{}
	for _, l := range []string{"ftp", "sftp", "web"} {
		ports[l] = testkit.FreePorts(t)
		sections = append(sections, fmt.Sprintf("listen %s\n  mode tcp\n  bind %s:%d\n  source %s\n  server one %s send-proxy-v2 check check-send-proxy inter 200ms", l, front, ports[l], proxy, k.Address(l)))
	}
	// Passive data connections come by the proxy too, each to the same port; version 1 does as well.
	sections = append(sections, fmt.Sprintf("listen passive\n  mode tcp\n  bind %s:%d-%d\n  source %s\n  server one 127.0.0.1 send-proxy", front, ftp.PassiveLow, ftp.PassiveHigh, proxy))
	counterpart.StartHAProxy(t, fmt.Sprint(front, ":", ports["web"]), sections...)

	out, err := testkit.Run(t, "put /etc/hostname up\nls\n", "sftp", "-q", "-b", "-", "-P", fmt.Sprint(ports["sftp"]), "-i", key, "-o", "IdentitiesOnly=yes", "-o", "BindAddress="+client,
		"-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile="+os.DevNull, "ann@"+front)
	require.NoError(t, err, out)
	assert.Equal(t, client, from(t, k, "upload", "sftp"))

	file, content := testkit.File(t, 300_000)
	for _, way := range [][]string{{"--ftp-pasv"}, {"--disable-epsv"}} {
		out, err = testkit.Run(t, "", "curl", append(way, "-v", "-k", "--interface", client, "--ssl-reqd", "--user", "ann:"+testkit.Password, "-T", file,
			fmt.Sprintf("ftp://%s:%d/by-proxy", front, ports["ftp"]))...)
		require.NoError(t, err, out)
		assert.Equal(t, content, testkit.OnDisk(t, filepath.Join(k.Home("ann"), "by-proxy")))
		assert.Equal(t, client, from(t, k, "upload", "ftp"))
		require.NoError(t, os.Remove(filepath.Join(k.Home("ann"), "by-proxy")))
	}

	out, err = testkit.Run(t, "", "curl", "-sS", "--interface", client, "-H", "Content-Type: application/json", "-d", `{"operator": "ilse", "password": "`+testkit.Password+`"}`,
		fmt.Sprintf("http://%s:%d/api/v1/sign-in", front, ports["web"]))
	require.NoError(t, err, out)
	assert.Contains(t, out, `"operator":"ilse"`)
	assert.Equal(t, client, from(t, k, "operator-sign-in", "console"))

	// Rules are of the real address.
	k.Must(nil, "listener", "set", "sftp", "-deny", client)
	_, err = testkit.Run(t, "ls\n", "sftp", "-q", "-b", "-", "-P", fmt.Sprint(ports["sftp"]), "-i", key, "-o", "IdentitiesOnly=yes", "-o", "BindAddress="+client,
		"-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile="+os.DevNull, "ann@"+front)
	assert.Error(t, err)
	assert.Equal(t, client, from(t, k, "connect", "sftp"))
	out, err = testkit.Run(t, "", "curl", "-sS", "--interface", "127.0.0.6", fmt.Sprintf("http://%s:%d/readyz", front, ports["web"]))
	require.NoError(t, err)
	assert.Equal(t, "ready\n", out)

	// A rehearsal and the check-up still come in, from the address of the proxy too.
	for _, l := range []string{"ftp", "ftps", "sftp", "web"} {
		k.Must(nil, "listener", "set", l, "-proxies", proxy+",127.0.0.1", "-deny", "nobody", "-meant")
	}
	stdout, errs, status := k.CLI("rehearse", "ann")
	assert.Zero(t, status, stdout, errs)
	stdout, _, _ = k.CLI("checkup")
	assert.NotContains(t, stdout, "does not greet")
}

// talk says something to a listener from an address and reads until the end.
func talk(t *testing.T, local, address, say string) string {
	dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(local)}}
	conn, err := dialer.Dial("tcp", address)
	require.NoError(t, err)
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(testkit.Patience))
	_, err = io.WriteString(conn, say)
	require.NoError(t, err)
	said, err := io.ReadAll(conn)
	if netErr, ok := err.(net.Error); ok {
		require.False(t, netErr.Timeout(), "it neither answers nor ends: %q", said)
	}
	return string(said)
}

func TestNobodyButAProxySaysForWhomTheyConnect(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	for _, l := range []string{"ftp", "ftps", "sftp", "web"} {
		k.Must(nil, "listener", "set", l, "-proxies", proxy, "-meant")
	}
	v2 := "\r\n\r\n\x00\r\nQUIT\n\x21\x11\x00\x0c\xc0\x00\x02\x07\x7f\x00\x00\x01\x04\xd2\x00\x15"
	for _, l := range []string{"ftp", "ftps", "sftp", "web"} {
		for _, header := range []string{"PROXY TCP4 192.0.2.7 127.0.0.1 1234 21\r\n", v2} {
			said := talk(t, client, k.Address(l), header+"USER ann\r\nPASS "+testkit.Password+"\r\nQUIT\r\n")
			assert.NotContains(t, said, "230", "%s lets in who says it is somebody else", l)
			assert.NotContains(t, said, "HTTP/1.1 200")
		}
	}
	// The other way round: what comes from a proxy must say for whom, and soon.
	for _, say := range []string{"USER ann\r\n", "GET /readyz HTTP/1.1\r\nHost: x\r\n\r\n", "SSH-2.0-x\r\n", "PROXY TCP4 somewhere\r\n", "PROXY TCP4 192.0.2.7 127.0.0.1 1234 99999\r\n", strings.Repeat("x", 200)} {
		for _, l := range []string{"ftp", "sftp", "web"} {
			assert.Empty(t, talk(t, proxy, k.Address(l), say))
		}
	}
	assert.Empty(t, talk(t, proxy, k.Address("sftp"), ""), "one that says nothing is not waited for")
	assert.Equal(t, proxy, from(t, k, "connect", "")) // of several at once one is recorded
	said := talk(t, proxy, k.Address("ftp"), "PROXY TCP4 192.0.2.7 127.0.0.1 1234 21\r\nQUIT\r\n")
	assert.Contains(t, said, "220 ")
	assert.Contains(t, talk(t, client, k.Address("ftp"), "QUIT\r\n"), "220 ", "others need no proxy")
	// A proxy with many connections that say nothing keeps nobody out.
	var silent []net.Conn
	defer func() {
		for _, conn := range silent {
			conn.Close()
		}
	}()
	for range 300 {
		dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(proxy)}}
		conn, err := dialer.Dial("tcp", k.Address("ftp"))
		require.NoError(t, err)
		silent = append(silent, conn)
	}
	assert.Contains(t, talk(t, client, k.Address("ftp"), "QUIT\r\n"), "220 ")
}

func TestHeadersOfProxiesAreBelievedAndOfOthersRefused(t *testing.T) {
	k := testkit.Start(t)
	k.AddOperator("ilse", "owner")
	base := k.Console()
	ask := func(headers ...string) (int, string) {
		response, err := testkit.Get(t, base+"/api/v1/me", headers...)
		require.NoError(t, err)
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		return response.StatusCode, string(text)
	}
	for _, header := range []string{"X-Forwarded-For: 192.0.2.7", "Forwarded: for=192.0.2.7", "X-Forwarded-Proto: https", "X-Forwarded-Host: evil.example"} {
		status, text := ask(header)
		assert.Equal(t, 400, status)
		assert.Contains(t, text, "is no proxy of this listener")
	}
	k.Must(nil, "listener", "set", "web", "-proxies", "127.0.0.1,10.0.0.0/8", "-forwarded", "X-Forwarded-For, X-Forwarded-Host", "-hosts", "files.example.org")
	status, text := ask()
	assert.Equal(t, 400, status)
	assert.Contains(t, text, "does not say for whom it asks")
	response, err := testkit.Get(t, base+"/healthz")
	require.NoError(t, err)
	assert.Equal(t, 200, response.StatusCode, "a proxy asks for itself whether the service lives")
	for _, c := range []struct {
		who     string
		headers []string
		status  int
	}{
		{"192.0.2.7", []string{"X-Forwarded-For: 192.0.2.7", "X-Forwarded-Host: files.example.org"}, 401},
		{"192.0.2.8", []string{"X-Forwarded-For: 203.0.113.1, 192.0.2.8, 10.1.2.3", "X-Forwarded-Host: files.example.org"}, 401}, // what the client made up comes first
		{"", []string{"X-Forwarded-For: 192.0.2.7", "X-Forwarded-Host: files.example.org", "X-Forwarded-Proto: https"}, 400},     // the client's own
		{"", []string{"X-Forwarded-For: 192.0.2.7", "X-Forwarded-Host: files.example.org", "Forwarded: for=203.0.113.9"}, 400},
		{"", []string{"X-Forwarded-For: unknown", "X-Forwarded-Host: files.example.org"}, 400},
		{"", []string{"X-Forwarded-For: 192.0.2.7", "X-Forwarded-Host: other.example.org"}, 421},
		{"2001:db8::7", []string{`Forwarded: for="[2001:db8::7]:4711";proto=https;host=files.example.org`}, 401},
		{"192.0.2.9", []string{"Forwarded: for=203.0.113.9;proto=https;host=evil.example, for=192.0.2.9;host=files.example.org"}, 401}, // what the client made up
		{"192.0.2.9", []string{`Forwarded: for="203.0.113.9, for=\"x", for=192.0.2.9;host=files.example.org`}, 401},
		{"", []string{`Forwarded: for=203.0.113.9;host=files.example.org;x=", for=192.0.2.9`}, 400}, // a quotation that would swallow it
		{"", []string{"Forwarded: for=192.0.2.7;host=files.example.org, by=10.0.0.1"}, 400},         // the last hop says nothing
		{"", []string{"Forwarded: for=192.0.2.7;host=files.example.org", "X-Forwarded-For: 192.0.2.7"}, 400},
	} {
		if strings.HasPrefix(c.headers[0], "Forwarded") {
			k.Must(nil, "listener", "set", "web", "-forwarded", "forwarded")
		}
		status, text := ask(c.headers...)
		assert.Equal(t, c.status, status, text)
		if c.who == "" {
			continue
		}
		request, err := http.NewRequest("POST", base+"/api/v1/sign-in", strings.NewReader(`{"operator": "ilse", "password": "`+testkit.Password+`"}`))
		require.NoError(t, err)
		for _, header := range append(c.headers, "Content-Type: application/json") {
			name, value, _ := strings.Cut(header, ": ")
			request.Header.Set(name, value)
		}
		response, err := http.DefaultTransport.RoundTrip(request)
		require.NoError(t, err)
		response.Body.Close()
		require.Equal(t, 200, response.StatusCode)
		assert.Equal(t, c.who, from(t, k, "operator-sign-in", "console"))
		secure := c.who == "2001:db8::7"
		assert.Equal(t, secure, response.Cookies()[0].Secure)
		assert.Equal(t, secure, response.Header.Get("Strict-Transport-Security") != "")
	}
	k.Must(nil, "listener", "set", "web", "-deny", "192.0.2.7", "-forwarded", "x-forwarded-for,x-forwarded-host")
	status, _ = ask("X-Forwarded-For: 192.0.2.7", "X-Forwarded-Host: files.example.org")
	assert.Equal(t, 403, status)
	http.DefaultTransport.(*http.Transport).CloseIdleConnections()
}
