//go:build unix

package firststeps_test

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/internal/desk/handover"
	"urbankeep/tests/testkit"
)

// shell runs a line as whoever got the sheet would, in a folder, without a terminal.
func shell(t *testing.T, dir, stdin, line string) (string, error) {
	ctx, cancel := context.WithTimeout(t.Context(), testkit.Patience)
	defer cancel()
	run := exec.CommandContext(ctx, "sh", "-c", line)
	run.Dir, run.Stdin = dir, strings.NewReader(stdin)
	run.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	run.Env = append(os.Environ(), "SSH_ASKPASS="+filepath.Join(dir, "askpass"), "SSH_ASKPASS_REQUIRE=force", "HOME="+dir)
	out, err := run.CombinedOutput()
	require.NoError(t, ctx.Err(), "%s hangs: %s", line, out)
	return string(out), err
}

// typed runs a line in a terminal and types the password when it is asked for, then more.
func typed(t *testing.T, dir, line, more string) (string, error) {
	ctx, cancel := context.WithTimeout(t.Context(), testkit.Patience)
	defer cancel()
	run := exec.CommandContext(ctx, "sh", "-c", line)
	run.Dir, run.Env = dir, append(os.Environ(), "HOME="+dir, "TERM=dumb")
	terminal, err := pty.Start(run)
	require.NoError(t, err)
	defer terminal.Close()
	var said strings.Builder
	buf, asked := make([]byte, 4096), false
	for {
		n, err := terminal.Read(buf)
		said.Write(buf[:n])
		if !asked && strings.Contains(said.String(), "assword") {
			asked = true
			io.WriteString(terminal, testkit.Password+"\n"+more)
		}
		if err != nil { // the line has ended
			break
		}
	}
	err = run.Wait()
	require.NoError(t, ctx.Err(), "%s hangs: %s", line, said.String())
	return said.String(), err
}

func sheetOf(t *testing.T, k *testkit.Keep, account string) (sheet handover.Sheet) {
	out, errs, status := k.CLI("handover", account, "-json")
	require.Zero(t, status, errs)
	require.NoError(t, json.Unmarshal([]byte(out), &sheet))
	return sheet
}

// Every line of a sheet is run as it is printed, in its order.
func TestTheLinesOfASheetWorkAsPrinted(t *testing.T) {
	k := testkit.Start(t)
	k.Must(nil, "service", "set", "-name", "Survey Office", "-host", "localhost")
	k.Account("gauge", "-rights", "full")
	k.Must(nil, "account", "add", "crew", "-home", "files:{account}", "-rights", "full", "-sign-in-by", "key", "-speed-up", "2MiB")
	ran := map[string]int{}
	for _, account := range []string{"gauge", "crew"} {
		dir := t.TempDir()
		require.NoError(t, os.MkdirAll(k.Home(account), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(k.Home(account), "here-it-is"), nil, 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "askpass"), []byte("#!/bin/sh\necho '"+testkit.Password+"'\n"), 0o700))
		if account == "crew" {
			k.Must(nil, "key", "make", account, "-out", filepath.Join(dir, "crew.key"))
		}
		require.NoError(t, os.WriteFile(filepath.Join(dir, "FILE"), []byte("to be sent"), 0o600))
		sheet := sheetOf(t, k, account)
		for _, section := range sheet.Sections {
			for _, c := range section.Commands {
				program, _, _ := strings.Cut(c.Line, " ")
				ran[program]++
				switch program {
				case "printf":
					out, err := shell(t, dir, "", c.Line)
					require.NoError(t, err, out)
				case "sftp":
					out, err := shell(t, dir, "ls\nbye\n", c.Line)
					assert.NoError(t, err, out)
					assert.Contains(t, out, "here-it-is")
				default: // both ask for the password
					out, err := typed(t, dir, c.Line, map[string]string{"lftp": "ls\nexit\n"}[program])
					assert.NoError(t, err, "%s: %s", c.Line, out)
					if strings.Contains(c.Line, " -T FILE ") {
						up := filepath.Join(k.Home(account), "FILE")
						assert.FileExists(t, up, c.Line)
						require.NoError(t, os.Remove(up))
						ran["upload"]++
						continue
					}
					assert.Contains(t, out, "here-it-is", c.Line)
				}
			}
		}
		text := k.Must(nil, "handover", account)
		assert.Contains(t, text, "Survey Office: how to connect as "+account)
		assert.NotContains(t, text, testkit.Password)
		assert.NotContains(t, text, "PRIVATE")
		browser := regexp.MustCompile(`Browser +(http://localhost:\d+/portal/)`).FindStringSubmatch(text)
		require.Len(t, browser, 2, text)
		response, err := http.Get(browser[1])
		require.NoError(t, err)
		response.Body.Close()
		assert.Equal(t, 200, response.StatusCode)
		assert.NotContains(t, k.Must(nil, "handover", account, "-host", "files.example.org"), "Browser", "nobody reaches a loopback address from there")
		assert.Contains(t, k.Must(nil, "handover", account, "-markdown"), "## Know the service")
		if account == "crew" {
			assert.NotContains(t, text, "curl", "FTP knows passwords only")
			assert.Regexp(t, `Speed up +2 MiB/s`, text)
		}
	}
	assert.Equal(t, map[string]int{"printf": 4, "sftp": 2, "curl": 4, "lftp": 2, "upload": 2}, ran)

	// Another service at the same place is not taken for this one.
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "askpass"), []byte("#!/bin/sh\necho '"+testkit.Password+"'\n"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "FILE"), []byte("to be sent"), 0o600))
	sheet := sheetOf(t, k, "gauge")
	for _, section := range sheet.Sections {
		for _, c := range section.Commands {
			if strings.HasPrefix(c.Line, "printf") {
				_, err := shell(t, dir, "", c.Line)
				require.NoError(t, err)
			}
		}
	}
	k.Must(nil, "certificate", "renew")
	for _, section := range sheet.Sections {
		for _, c := range section.Commands {
			if strings.HasPrefix(c.Line, "curl") {
				out, err := typed(t, dir, c.Line, "")
				assert.Error(t, err, out)
				assert.Contains(t, out, "certificate")
			}
			if strings.HasPrefix(c.Line, "sftp") {
				stranger := strings.ReplaceAll(c.Line, "localhost.known_hosts", "none.known_hosts")
				out, err := shell(t, dir, "ls\n", stranger)
				assert.Error(t, err)
				assert.Contains(t, out, "Host key verification failed")
			}
		}
	}
}

func TestASheetSaysWhatIsInReach(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-rights", "full", "-mount", "/maps=files:maps,ro", "-grant", "/in=drop-only;never=*.exe;days=mon-fri", "-grant", "/secret=none", "-quota-bytes", "2GiB", "-protocols", "sftp", "-must-change")
	text := k.Must(nil, "handover", "ann", "-host", "files.portselwyn.example")
	assert.Regexp(t, `Host +files.portselwyn.example`, text)
	assert.Regexp(t, `  / +full: list, .*; holds at most 2 GiB`, text)
	assert.Regexp(t, `  /maps +read-only: list, download`, text)
	assert.Regexp(t, `  /in +drop-only: upload \(never \*.exe, mon-fri UTC\)`, text)
	assert.NotContains(t, text, "/secret")
	assert.NotContains(t, text, "FTP over TLS")
	assert.Contains(t, text, "it must be changed at the first sign-in")
	assert.Contains(t, k.Refused("handover", "ann", "-host", "x y"), "use a host name")
	open := testkit.StartOn(t, testkit.Folder(t), "")
	open.Account("ann")
	assert.Contains(t, open.Refused("handover", "ann"), "service set -host NAME")
}

func TestAPasswordLinkShowsItOnce(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	var made api.PasswordLink
	k.Must(&made, "password-link", "ann", "-keep")
	_, secret, ok := strings.Cut(made.Link, "#")
	require.True(t, ok)
	c := testkit.NewCaller(t, k)
	var shown api.PasswordShown
	c.Call("POST", "/password-links/open", api.PasswordLinkOpen{Secret: secret + "x"}, 404, nil)
	c.Call("POST", "/password-links/open", api.PasswordLinkOpen{Secret: secret}, 200, &shown)
	assert.Equal(t, "ann", shown.Account)
	c.Call("POST", "/password-links/open", api.PasswordLinkOpen{Secret: secret}, 404, nil)
	out, err := testkit.Run(t, "", "curl", "-sS", "-k", "--user", "ann:"+shown.Password, "ftps://"+k.Address("ftps")+"/")
	assert.NoError(t, err, out)

	k.Must(&made, "password-link", "ann")
	_, secret, _ = strings.Cut(made.Link, "#")
	_, errs, status := k.CLIWith(testkit.Password+"\n", "account", "set", "ann", "-password")
	require.Zero(t, status, errs)
	var p api.Problem
	c.Call("POST", "/password-links/open", api.PasswordLinkOpen{Secret: secret}, 404, &p)
	assert.Contains(t, p.Detail, "was changed since")
	assert.NotContains(t, k.Must(nil, "audit", "export", "-format", "jsonl"), shown.Password)
}

// A link to others leads to where they reach the service, whatever the request that made it says of that, and to a listener that
// shows them what it is for; where there is none, the command says so.
func TestLinksToOthersLeadWhereOthersAre(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-passes", "fetch")
	c := testkit.NewCaller(t, k)
	testkit.SetUp(t, k, c)
	spoofed := func(at string, body, into any) {
		text, err := json.Marshal(body)
		require.NoError(t, err)
		request, err := http.NewRequest("POST", c.Base+"/api/v1"+at, bytes.NewReader(text))
		require.NoError(t, err)
		for _, cookie := range c.HTTP.Jar.Cookies(request.URL) {
			request.AddCookie(cookie)
		}
		request.Host = "evil.example"
		request.Header.Set("Content-Type", "application/json")
		response, err := c.HTTP.Do(request)
		require.NoError(t, err)
		defer response.Body.Close()
		require.Equal(t, 201, response.StatusCode)
		require.NoError(t, json.NewDecoder(response.Body).Decode(into))
	}
	links := func() (link api.PasswordLink, pass api.PassMade) {
		spoofed("/accounts/ann/password-link", api.PasswordLinkNew{Days: 1}, &link)
		spoofed("/passes", api.PassNew{Account: "ann", Kind: "fetch", Paths: []string{"/"}, Days: 1}, &pass)
		assert.NotContains(t, link.Link+pass.Link, "evil")
		return link, pass
	}
	link, pass := links()
	for _, shut := range []string{link.Shut, pass.Shut} {
		assert.Contains(t, shut, "service set -host NAME")
	}
	_, errs, _ := k.CLI("password-link", "ann")
	assert.Contains(t, errs, "service set -host NAME")
	k.Must(nil, "service", "set", "-host", "files.example.org")
	link, _ = links()
	assert.Contains(t, link.Shut, "no listener that others reach")
	k.Must(nil, "listener", "set", "web", "-faces", "console")
	var door api.Listener
	k.Must(&door, "listener", "add", "door", "web", "127.0.0.1:0", "-faces", "portal,passes", "-proxies", "192.0.2.1", "-hosts", "files.example.org")
	link, pass = links()
	assert.Regexp(t, "^https://files.example.org/console/password#", link.Link)
	assert.Regexp(t, "^https://files.example.org/pass/", pass.Link)
	assert.Empty(t, link.Shut+pass.Shut)

	// Partners need no console: the page is there with the faces that they come to, and nothing else of it.
	k.Must(nil, "listener", "set", "door", "-proxies", "")
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	defer client.CloseIdleConnections()
	get := func(method, at, body string) (int, string) {
		request, err := http.NewRequest(method, "https://"+door.Listening+at, strings.NewReader(body))
		require.NoError(t, err)
		request.Host = "files.example.org"
		request.Header.Set("Content-Type", "application/json")
		response, err := client.Do(request)
		require.NoError(t, err)
		defer response.Body.Close()
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		return response.StatusCode, string(text)
	}
	status, page := get("GET", "/console/password", "")
	assert.Equal(t, 200, status)
	script := regexp.MustCompile(`/console/assets/[^"]+[.]js`).FindString(page)
	status, _ = get("GET", script, "")
	assert.Equal(t, 200, status, script)
	_, secret, _ := strings.Cut(link.Link, "#")
	status, text := get("POST", "/api/v1/password-links/open", `{"secret": "`+secret+`"}`)
	assert.Equal(t, 200, status, text)
	for _, at := range []string{"/console/", "/console/accounts", "/api/v1/me", "/console/password/x"} {
		status, _ = get("GET", at, "")
		assert.Equal(t, 404, status, at)
	}
}
