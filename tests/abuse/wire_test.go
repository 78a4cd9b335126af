package abuse_test

import (
	"crypto/tls"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"urbankeep/internal/api"
	"urbankeep/internal/service"
	"urbankeep/tests/testkit"
	"urbankeep/tests/testkit/ftptalk"
	"urbankeep/tests/testkit/sftptalk"
)

func TestFailedSignInsAreRecordedAndSayNothing(t *testing.T) {
	k := testkit.Start(t)
	k.Account("records-desk")
	k.Account("crew-harbour")
	k.Must(nil, "account", "suspend", "crew-harbour")
	other := k.Key("records-desk")
	for _, name := range []string{"records-desk", "nobody"} {
		out, err := testkit.Run(t, "", "curl", "-sS", "-k", "-v", "--ssl-reqd", "--user", name+":wrong password", "ftp://"+k.Address("ftp")+"/")
		assert.Error(t, err)
		assert.Contains(t, out, "530 the name, password or key is not right")
	}
	out, err := k.Curl("crew-harbour", "ftp", "/", "-v")
	assert.Error(t, err)
	assert.Contains(t, out, "530 the name, password or key is not right", "suspended looks the same")
	out, err = k.SFTP("crew-harbour", other, "ls")
	assert.Error(t, err, out)
	var refused []api.AuditRecord
	k.Must(&refused, "audit", "-action", "sign-in", "-outcome", "refused")
	var details []string
	for _, r := range refused {
		details = append(details, r.Account+": "+r.Detail)
		assert.NotContains(t, r.Detail, testkit.Password)
	}
	assert.Subset(t, details, []string{"records-desk: wrong password", "nobody: no such account", "crew-harbour: the account is suspended"})
}

// assertHarmless looks at what a way out has fetched, if anything.
func assertHarmless(t *testing.T, file string) {
	if text, err := os.ReadFile(file); err == nil {
		assert.NotContains(t, string(text), "secret of the store")
		assert.NotContains(t, string(text), "root:")
	}
}

// TestEscapesOverTheWire sends the ways out through both protocols with real
// clients; the table of them all is in package tree.
func TestEscapesOverTheWire(t *testing.T) {
	k := testkit.Start(t)
	k.Account("crew-harbour")
	key := k.Key("crew-harbour")
	outside := filepath.Join(k.Dir, "files", "secret")
	require.NoError(t, os.MkdirAll(k.Home("crew-harbour"), 0o750))
	require.NoError(t, os.WriteFile(outside, []byte("secret of the store"), 0o644))
	require.NoError(t, os.Symlink("../secret", filepath.Join(k.Home("crew-harbour"), "way")))
	require.NoError(t, os.Symlink("..", filepath.Join(k.Home("crew-harbour"), "up")))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(k.Home("crew-harbour"), "passwd")))
	file, _ := testkit.File(t, 10)
	for _, name := range []string{"/../secret", "/../../../../../../../../etc/passwd", "way", "up/secret", "passwd", "sub/../../secret"} {
		back := filepath.Join(t.TempDir(), "back")
		out, _ := k.SFTP("crew-harbour", key, "get "+name+" "+back)
		assert.NotContains(t, out, k.Dir)
		assertHarmless(t, back)
		_, err := k.SFTP("crew-harbour", key, "put "+file+" "+name)
		if !strings.Contains(name, "..") { // those become plain names in the home
			assert.Error(t, err, name)
		}
		out, err = k.Curl("crew-harbour", "ftp", "/", "--path-as-is", "-v", "-Q", "SIZE "+name)
		if strings.HasPrefix(out, "secret") || err == nil && !strings.Contains(name, "..") {
			t.Errorf("%s: %s", name, out)
		}
		assert.NotContains(t, out, k.Dir)
		out, _ = k.LFTP("crew-harbour", "ftp", "get "+name+" -o "+back)
		assert.NotContains(t, out, k.Dir)
		assertHarmless(t, back)
	}
	out, err := k.SFTP("crew-harbour", key, "ln -s ../secret made", "ls")
	assert.Error(t, err, out)
	assert.Equal(t, "secret of the store", string(testkit.OnDisk(t, outside)))
}

func TestTooManyHandlesAreRefusedAndTheRestWorks(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	r := sftptalk.Dial(t, k, "ann")
	var handles [][]byte
	for {
		got, reply := r.Ask(sftptalk.FxpOpen, sftptalk.Str(fmt.Sprintf("/f%d", len(handles))), sftptalk.U32(sftptalk.FxfWrite|sftptalk.FxfCreat), sftptalk.NoAttrs())
		if got == sftptalk.FxpStatus {
			assert.EqualValues(t, sftptalk.FxFailure, binary.BigEndian.Uint32(reply))
			break
		}
		handles = append(handles, reply)
		require.Less(t, len(handles), 2000)
	}
	assert.Len(t, handles, 256)
	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpClose, handles[7]))
	r.Open("/more", sftptalk.FxfWrite|sftptalk.FxfCreat)
}

func TestBrokenPacketsEndTheSessionAndNothingElse(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	for name, packet := range map[string][]byte{
		"length beyond the limit": {0xff, 0xff, 0xff, 0xff, 5}, "no length": {0, 0, 0, 0}, "no number": {0, 0, 0, 2, 5, 0},
	} {
		r := sftptalk.Dial(t, k, "ann")
		_, err := r.In.Write(packet)
		require.NoError(t, err)
		rest, err := io.ReadAll(r.Out)
		assert.NoError(t, err, name)
		assert.Empty(t, rest, name)
	}
	r := sftptalk.Dial(t, k, "ann")
	for _, body := range [][]byte{{}, sftptalk.U32(50), sftptalk.Join(sftptalk.U32(4), []byte("ab")), sftptalk.Str("wrong handle")} {
		assert.EqualValues(t, sftptalk.FxBadMessage, r.Status(sftptalk.FxpStat, body[:min(len(body), 5)]), "%q", body)
		assert.Contains(t, []uint32{sftptalk.FxBadMessage, sftptalk.FxFailure}, r.Status(sftptalk.FxpRead, body))
	}
	assert.EqualValues(t, sftptalk.FxBadMessage, r.Status(sftptalk.FxpOpen, sftptalk.Str("/x")))
	assert.EqualValues(t, sftptalk.FxBadMessage, r.Status(sftptalk.FxpRename, sftptalk.Str("/x")))
	assert.NoFileExists(t, filepath.Join(k.Home("ann"), "x"))
	old := sftptalk.Channel(t, r.SSH)
	old.Send(sftptalk.FxpInit, sftptalk.U32(2))
	rest, err := io.ReadAll(old.Out)
	assert.NoError(t, err)
	assert.Empty(t, rest, "version 2 is not spoken")
	assert.EqualValues(t, sftptalk.FxOK, r.Status(sftptalk.FxpMkdir, sftptalk.Str("/still-here"), sftptalk.NoAttrs()))
}

func TestAClientThatNeverReadsTakesNoMoreThanItsShare(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	require.NoError(t, os.MkdirAll(k.Home("ann"), 0o750))
	require.NoError(t, os.WriteFile(filepath.Join(k.Home("ann"), "f"), make([]byte, 1<<20), 0o640))
	var handles [][]byte
	r := sftptalk.Dial(t, k, "ann")
	for range 40 {
		handles = append(handles, r.Open("/f", sftptalk.FxfRead))
	}
	heap := func() int64 {
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return int64(m.HeapAlloc)
	}
	before := heap()
	sent := make(chan int)
	go func() {
		n := 0
		for ; n < 200_000; n++ {
			body := sftptalk.Join(sftptalk.U32(uint32(n)), handles[n%len(handles)], sftptalk.U64(0), sftptalk.U32(255<<10))
			if _, err := r.In.Write(sftptalk.Join(sftptalk.U32(uint32(len(body)+1)), []byte{sftptalk.FxpRead}, body)); err != nil {
				break
			}
		}
		sent <- n
	}()
	time.Sleep(2 * time.Second)
	// What both ends hold of one SSH channel's windows is 2 MiB each way; ours is 2.5 MiB more.
	assert.Less(t, heap()-before, int64(16<<20))
	r.SSH.Close()
	assert.Less(t, <-sent, 200_000, "the client was made to wait")
}

func TestSessionsOnOneConnectionAreBounded(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	client := sftptalk.SSH(t, k, "ann")
	var open []*ssh.Session
	for range 10 {
		session, err := client.NewSession()
		require.NoError(t, err)
		open = append(open, session)
	}
	_, err := client.NewSession()
	assert.ErrorContains(t, err, "too many sessions on one connection")
	open[0].Close()
	assert.Eventually(t, func() bool { _, err := client.NewSession(); return err == nil }, testkit.Patience, 10*time.Millisecond)
}

func TestAnotherSitesPageCannotChangeAnything(t *testing.T) {
	k := testkit.Start(t)
	c := testkit.NewCaller(t, k)
	testkit.SetUp(t, k, c)
	k.Account("ann")
	for _, header := range []http.Header{{"Sec-Fetch-Site": {"cross-site"}}, {"Origin": {"http://elsewhere.example"}}} {
		for key, values := range header {
			request, err := http.NewRequest("POST", c.Base+"/api/v1/accounts/ann/suspend", nil)
			require.NoError(t, err)
			request.Header[key] = values
			response, err := c.HTTP.Do(request)
			require.NoError(t, err)
			response.Body.Close()
			assert.Equal(t, http.StatusForbidden, response.StatusCode, header)
		}
	}
	var a api.Account
	c.Call("GET", "/accounts/ann", nil, 200, &a)
	assert.EqualValues(t, "active", a.State)
	response, err := c.HTTP.Post(c.Base+"/api/v1/sign-in", "text/plain", strings.NewReader(`{"operator":"ilse","password":"x"}`))
	require.NoError(t, err)
	response.Body.Close()
	assert.Equal(t, http.StatusUnsupportedMediaType, response.StatusCode)
	for _, cookie := range c.HTTP.Jar.Cookies(response.Request.URL) {
		assert.NotEmpty(t, cookie.Value)
	}
}

func TestOperatorSignInIsSlowedDownAndRecorded(t *testing.T) {
	k := testkit.StartOn(t, testkit.Folder(t), "127.0.0.1", func(o *service.Options) { o.Limits = testkit.Limits(20, 10) })
	c := testkit.NewCaller(t, k)
	testkit.SetUp(t, k, c)
	codes := map[int]int{}
	for range 14 {
		response, err := c.HTTP.Post(c.Base+"/api/v1/sign-in", "application/json", strings.NewReader(`{"operator":"ilse","password":"guessed"}`))
		require.NoError(t, err)
		response.Body.Close()
		codes[response.StatusCode]++
	}
	assert.NotZero(t, codes[http.StatusUnauthorized])
	assert.NotZero(t, codes[http.StatusTooManyRequests])
	assert.Len(t, codes, 2)
	require.Eventually(t, func() bool { // refusals are recorded without keeping anyone waiting
		var trail []api.AuditRecord
		k.Must(&trail, "audit", "-action", "operator-sign-in", "-outcome", "refused")
		return len(trail) == 14
	}, testkit.Patience, 20*time.Millisecond)
}

func TestGuessersAreLockedOutAndTheOwnerIsNot(t *testing.T) {
	k := testkit.StartOn(t, testkit.Folder(t), "127.0.0.1", func(o *service.Options) {
		o.Limits = testkit.Limits(6, 3)
	})
	k.Account("ann")
	k.Account("ben")
	guess := func(account string) error {
		_, err := testkit.Run(t, "", "curl", "-sS", "-k", "--user", account+":wrong", "ftps://"+k.Address("ftps")+"/")
		return err
	}
	for range 3 {
		assert.Error(t, guess("ben"))
	}
	_, err := k.Curl("ben", "ftps", "/")
	assert.Error(t, err, "the account is locked out, though the password is right")
	assert.Contains(t, k.Must(nil, "lockout", "list"), "account ben")
	k.Must(nil, "lockout", "lift", "ben")
	_, err = k.Curl("ben", "ftps", "/")
	assert.NoError(t, err)
	for range 5 {
		assert.Error(t, guess("ben"))
	}
	_, err = k.Curl("ben", "ftps", "/")
	assert.NoError(t, err, "from where it signs in the owner is known")

	for range 6 {
		guess("ann")
	}
	assert.Contains(t, k.Must(nil, "lockout", "list"), "address 127.0.0.1")
	for _, listener := range []string{"ftp", "ftps", "sftp"} {
		conn, err := net.Dial("tcp", k.Address(listener))
		require.NoError(t, err)
		conn.SetDeadline(time.Now().Add(testkit.Patience))
		n, err := conn.Read(make([]byte, 10))
		assert.True(t, n == 0 && err != nil, "%s still answers", listener)
		conn.Close()
	}
	k.Must(nil, "lockout", "lift", "127.0.0.1")
	_, err = k.Curl("ben", "ftps", "/")
	assert.NoError(t, err)
	assert.Contains(t, k.Refused("lockout", "lift", "127.0.0.1"), "lockout list shows who is")
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-action", "lockout,lockout-lift")
	assert.Len(t, trail, 5)
}

func TestTheAnonymousAccountIsHarmless(t *testing.T) {
	k := testkit.Start(t)
	assert.Contains(t, k.Refused("account", "add", "ftp", "-home", "files:x"), "another name of")
	_, errs, status := k.CLIWith(testkit.Password+"\n", "account", "add", "anonymous", "-home", "files:open", "-password")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "it has no password")
	k.Must(nil, "account", "add", "anonymous", "-home", "files:open", "-rights", "full", "-mount", "/tables=files:tables", "-encryption=optional")
	assert.Contains(t, k.Refused("key", "add", "anonymous", testkit.NewPair(t)+".pub"), "it has no keys")
	assert.Contains(t, k.Must(nil, "account", "show", "anonymous"), "read-only")
	require.NoError(t, os.MkdirAll(filepath.Join(k.Dir, "files", "tables"), 0o750))
	require.NoError(t, os.WriteFile(filepath.Join(k.Dir, "files", "tables", "t"), []byte("tide"), 0o640))
	out, err := testkit.Run(t, "", "curl", "-sS", "ftp://"+k.Address("ftp")+"/tables/t")
	require.NoError(t, err, out)
	assert.Equal(t, "tide", out)
	_, err = testkit.Run(t, "", "curl", "-sS", "-T", filepath.Join(k.Dir, "files", "tables", "t"), "ftp://"+k.Address("ftp")+"/tables/u")
	assert.Error(t, err)
	assert.False(t, k.SFTPWith("anonymous", ""), "over SSH there is none")
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-account", "anonymous", "-action", "sign-in", "-outcome", "done")
	require.NotEmpty(t, trail)
	assert.Equal(t, "anonymous, as ftp@example.com", trail[0].Detail, "what curl gives for an address")
}

// Closed passive ports, an active port where nobody listens, a TLS handshake that never
// ends: a file that is there keeps its bytes, and none is made.
func TestWithoutADataConnectionNothingChanges(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	require.NoError(t, os.MkdirAll(k.Home("ann"), 0o750))
	precious := filepath.Join(k.Home("ann"), "precious")
	require.NoError(t, os.WriteFile(precious, []byte("precious"), 0o640))
	nobody := testkit.FreeAddress(t)
	_, port, _ := net.SplitHostPort(nobody)
	for _, verb := range []string{"STOR /precious", "APPE /precious", "STOR /new", "APPE /other", "STOU"} {
		c := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
		c.Say("EPRT |1|127.0.0.1|"+port+"|", 200)
		code, _ := c.Command(verb)
		require.Equal(t, 150, code, verb)
		assert.Equal(t, "precious", string(testkit.OnDisk(t, precious)), verb)
		c.Expect(425)

		c.Say("EPSV", 229)
		data := c.Data().(*tls.Conn).NetConn() // it stands, and says nothing
		code, _ = c.Command(verb)
		require.Equal(t, 150, code, verb)
		assert.Equal(t, "precious", string(testkit.OnDisk(t, precious)), verb)
		data.Close()
		c.Expect(425)

		c.Say("EPSV", 229) // nobody comes
		code, _ = c.Command(verb)
		require.Equal(t, 150, code, verb)
		_, err := c.Conn.Write([]byte("ABOR\r\n"))
		require.NoError(t, err)
		c.Reply()
		assert.Equal(t, "precious", string(testkit.OnDisk(t, precious)), verb)
	}
	entries, err := os.ReadDir(k.Home("ann"))
	require.NoError(t, err)
	assert.Len(t, entries, 1)
	var failed []api.AuditRecord
	k.Must(&failed, "audit", "-action", "upload", "-outcome", "failed")
	assert.NotEmpty(t, failed, "it is in the trail all the same")
}
