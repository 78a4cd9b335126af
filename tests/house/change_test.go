package house_test

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"urbankeep/tests/testkit/ftptalk"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/api"
	"urbankeep/tests/testkit"
)

func TestSuspendingEndsARunningTransferAndKeepsTheAccountOut(t *testing.T) {
	k := testkit.Start(t)
	k.Account("crew-harbour")
	c := ftptalk.As(t, k.Address("ftps"), "crew-harbour", testkit.Password)
	d := c.Passive()
	c.Say("STOR big", 150)
	_, err := d.Write(make([]byte, 10_000))
	require.NoError(t, err)
	require.Eventually(t, func() bool { found := k.Transfers(); return len(found) == 1 && found[0].Bytes == 10_000 }, testkit.Patience, 10*time.Millisecond)
	asked := time.Now()
	k.Must(nil, "account", "suspend", "crew-harbour")
	assert.Equal(t, "the account was suspended", c.Expect(426))
	c.Expect(421)
	assert.Less(t, time.Since(asked), time.Second, "what is promised")
	found := k.Transfers()
	require.Len(t, found, 1)
	assert.EqualValues(t, "account-changed", found[0].Reason)
	out, err := k.Curl("crew-harbour", "ftp", "/")
	assert.Error(t, err, out)
	k.Must(nil, "account", "resume", "crew-harbour")
	out, err = k.Curl("crew-harbour", "ftp", "/")
	assert.NoError(t, err, out)
}

func TestNarrowedRightsHoldInALiveSession(t *testing.T) {
	k := testkit.Start(t)
	k.Account("crew-harbour")
	c := ftptalk.As(t, k.Address("ftps"), "crew-harbour", testkit.Password)
	c.Say("MKD a", 257)
	k.Must(nil, "account", "set", "crew-harbour", "-rights", "read-only")
	assert.Contains(t, c.Say("MKD b", 550), "the grant on / gives read-only")
	k.Must(nil, "account", "set", "crew-harbour", "-rights", "full")
	c.Say("MKD b", 257)
	k.Must(nil, "account", "set", "crew-harbour", "-mount", "/maps=files:maps,ro")
	c.Expect(421) // its tree is another one now
}

func TestAnOperatorEndsASession(t *testing.T) {
	k := testkit.Start(t)
	k.Account("crew-harbour")
	c := ftptalk.As(t, k.Address("ftps"), "crew-harbour", testkit.Password)
	var live []api.Session
	k.Must(&live, "session", "list")
	require.Len(t, live, 1)
	assert.Contains(t, live[0].Cipher, "TLS 1.3")
	id := live[0].ID
	assert.Contains(t, k.Refused("session", "end", id, "-reason", "a\nb"), "control characters")
	k.Must(nil, "session", "end", id, "-reason", "we move to another machine")
	assert.Contains(t, c.Expect(421), "an operator ended the session: we move to another machine")
	require.Eventually(t, func() bool { k.Must(&live, "session", "list"); return len(live) == 0 }, testkit.Patience, 10*time.Millisecond)
	_, errs, status := k.CLI("session", "end", id)
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "no such session")
}

func TestAccountsAreManagedFromTheCommandLine(t *testing.T) {
	k := testkit.Start(t)
	_, errs, status := k.CLI("account", "add", "ann")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "a home is always explicit")
	_, errs, status = k.CLI("account", "add", "-home", "none:x", "ann")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "no store is named none")
	_, errs, status = k.CLI("account", "add", "../ann", "-home", "files:x")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "a name is 1 to 64 letters")
	_, errs, status = k.CLIWith("short\n", "account", "add", "ann", "-home", "files:x", "-password")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "at least 10 characters")

	wrong := filepath.Join(t.TempDir(), "wrong.pub")
	require.NoError(t, os.WriteFile(wrong, []byte("no key"), 0o600))
	assert.Contains(t, k.Refused("account", "add", "ben", "-home", "files:x", "-generate", "-key", wrong), "-key: this is not a public key")
	assert.Contains(t, k.Refused("account", "show", "ben"), `no such account: "ben"`, "the account comes with its key, or not at all")

	var made api.AccountMade
	k.Must(&made, "account", "add", "-home", "files:{account}", "ann", "-generate") // flags before and after the name
	require.Len(t, made.Password, 23)
	out, err := testkit.Run(t, "", "curl", "-sS", "-k", "--user", "ann:"+made.Password, "ftps://"+k.Address("ftps")+"/")
	require.NoError(t, err, out)
	_, errs, status = k.CLI("account", "add", "ANN", "-home", "files:x")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "the name is taken")

	k.Must(nil, "account", "set", "ann", "-note", "from the quay", "-grant", "/in=drop-only", "-encryption=optional")
	var shown api.Account
	k.Must(&shown, "account", "show", "ann")
	assert.Equal(t, "from the quay", shown.Note)
	assert.True(t, shown.Plain)
	require.Len(t, shown.Grants, 2)
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-action", "account-set")
	require.Len(t, trail, 1)
	assert.NotEmpty(t, trail[0].Before)
	assert.Contains(t, string(trail[0].After), `"note": "from the quay"`)
	assert.Equal(t, "local", trail[0].Operator)

	k.Must(nil, "account", "delete", "ann")
	_, errs, status = k.CLI("account", "show", "ann")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "no such account")
	assert.DirExists(t, k.Home("ann"), "its files stay")
	var all []api.Account
	k.Must(&all, "account", "list")
	assert.Empty(t, all)
}

func TestFromElsewhereATokenIsNeeded(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	_, errs, status := k.CLIWith(testkit.Password+"\n", "operator", "add", "tomas", "-role", "manager")
	require.Zero(t, status, errs)
	var made api.Token
	k.Must(&made, "token", "add", "tomas", "-label", "backup", "-days", "7")
	file := filepath.Join(t.TempDir(), "token")
	require.NoError(t, os.WriteFile(file, []byte(made.Token+"\n"), 0o600))
	away := []string{"-server", "http://" + k.ConsoleAddress(), "-token-file", file}
	var all []api.Account
	k.Must(&all, append([]string{"account", "list"}, away...)...)
	require.Len(t, all, 1)
	_, errs, status = k.CLIWith(testkit.Password+"\n", append([]string{"operator", "add", "second"}, away...)...)
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "only an owner can do that")
	require.NoError(t, os.WriteFile(file, []byte("guessed"), 0o600))
	_, errs, status = k.CLI(append([]string{"account", "list"}, away...)...)
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "sign in first")
	_, errs, status = k.CLI("account", "list", "-server", "http://"+k.ConsoleAddress())
	assert.Equal(t, 2, status)
	assert.Contains(t, errs, "-token-file")
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-action", "token-add,operator-add")
	assert.Len(t, trail, 2)
}

func TestAListenersPolicyIsChangedWhileItRuns(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	before := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	clear := func() (string, error) {
		return testkit.Run(t, "", "curl", "-sS", "-v", "--user", "ann:"+testkit.Password, "ftp://"+k.Address("ftp")+"/")
	}
	out, err := clear()
	assert.Error(t, err)
	assert.Contains(t, out, "use AUTH TLS first")
	k.Must(nil, "listener", "set", "ftp", "-encryption", "optional", "-banner", `Survey office\nPort Selwyn`)
	out, err = clear()
	require.NoError(t, err, out)
	assert.Contains(t, out, "220-Survey office")
	assert.Contains(t, out, "220 Port Selwyn")
	out, err = k.Curl("ann", "ftp", "/")
	assert.NoError(t, err, "TLS is still there: %s", out)
	k.Must(nil, "listener", "set", "ftp", "-encryption", "off")
	out, err = k.Curl("ann", "ftp", "/", "-v")
	assert.Error(t, err)
	assert.Contains(t, out, "431 this listener has no TLS")
	k.Must(nil, "listener", "set", "ftp", "-encryption", "required")
	_, err = clear()
	assert.Error(t, err)
	before.Say("NOOP", 200) // sessions stay
	for args, say := range map[string]string{"sftp -encryption off": "is encrypted always", "ftp -encryption none": "use required, optional or off", "x -banner y": "no such listener"} {
		_, errs, status := k.CLI(append([]string{"listener", "set"}, strings.Fields(args)...)...)
		assert.Equal(t, 1, status)
		assert.Contains(t, errs, say)
	}
	var trail []api.AuditRecord
	k.Must(&trail, "audit", "-action", "listener-set")
	require.Len(t, trail, 3)
	assert.Contains(t, string(trail[0].Before)+string(trail[0].After), `"encryption": "off"`)
}

func TestWrongUsageIsStatus2AndNoServiceIsSaid(t *testing.T) {
	k := testkit.Start(t)
	for _, args := range [][]string{{"account"}, {"account", "fly"}, {"account", "show"}, {"account", "show", "a", "b"}, {"audit", "-colour", "red"},
		{"account", "add", "a", "-home", "files"}, {"account", "add", "a", "-home", "files:x", "-rights", "fly"}, {"transfer", "list", "-most", "0"}} {
		out, errs, status := k.CLI(args...)
		assert.Equal(t, 2, status, "%v", args)
		assert.Empty(t, out)
		assert.Equal(t, 1, strings.Count(errs, "\n"), "one sentence: %s", errs)
	}
	_, errs, status := k.CLI("audit", "-since", "some day")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "-7d, +90d, today")
	k.Halt(time.Second)
	_, errs, status = k.CLI("status")
	assert.Equal(t, 1, status)
	assert.Contains(t, errs, "start one with urbankeep serve")
	out, _, status := k.CLI("account", "add", "-h")
	assert.Zero(t, status)
	assert.Contains(t, out, "-home")
}

func TestNamesCannotSteerTheTerminal(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	file, _ := testkit.File(t, 10)
	require.NoError(t, os.Rename(file, filepath.Join(filepath.Dir(file), "x")))
	c := ftptalk.As(t, k.Address("ftps"), "ann", testkit.Password)
	d := c.Passive()
	c.Say("STOR a\x1b[2Jb", 150)
	d.Handshake()
	d.Close()
	c.Expect(226)
	out := k.Must(nil, "transfer", "list")
	assert.NotContains(t, out, "\x1b")
	assert.Contains(t, out, `/a\x1b[2Jb`)
}

// A store that is slow to answer while it is added, or a list of many passwords, holds up no other change.
func TestASlowChangeHoldsUpNoOther(t *testing.T) {
	t.Parallel()
	k := testkit.Start(t)
	asked, goOn := make(chan struct{}), make(chan struct{})
	var once sync.Once
	slow := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		once.Do(func() { close(asked) })
		<-goOn
	}))
	t.Cleanup(slow.Close)
	t.Cleanup(func() { close(goOn) })
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		k.CLIWith("secret\n", "store", "add", "cloud", "-kind", "object", "-endpoint", slow.URL, "-bucket", "city", "-user", "key")
	}()
	<-asked
	k.Account("ann")
	k.Must(nil, "account", "set", "ann", "-note", "goes on")
	k.Must(nil, "account", "suspend", "ann")
	select {
	case <-ended:
		t.Error("the store was added meanwhile: nothing was tried")
	default:
	}
}

// Keys of one text are added all or none.
func TestKeysOfOneTextComeTogether(t *testing.T) {
	t.Parallel()
	k := testkit.Start(t)
	k.Account("ann")
	dir := t.TempDir()
	fresh := func(name string) string {
		testkit.Keygen(t, "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir, name))
		return string(testkit.OnDisk(t, filepath.Join(dir, name+".pub")))
	}
	one, two, text := fresh("one"), fresh("two"), filepath.Join(dir, "keys")
	require.NoError(t, os.WriteFile(text, []byte(one+two+one), 0o600))
	var before, after []api.Key
	k.Must(&before, "key", "list", "ann")
	assert.Contains(t, k.Refused("key", "add", "ann", text), "twice")
	k.Must(&after, "key", "list", "ann")
	assert.Len(t, after, len(before))
	require.NoError(t, os.WriteFile(text, []byte(one+two), 0o600))
	k.Must(nil, "key", "add", "ann", text)
	k.Must(&after, "key", "list", "ann")
	assert.Len(t, after, len(before)+2)
}
