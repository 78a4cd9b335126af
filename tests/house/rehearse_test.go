package house_test

import (
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urbankeep/internal/desk/rehearse"
	"urbankeep/internal/keep"
	"urbankeep/internal/people/signin"
	"urbankeep/tests/testkit"
)

// A rehearsal that could not fail would be worth nothing: it is told other rules
// than those that are enforced, and must find each difference on every protocol.
func TestARehearsalFindsWhatIsNotAsItShouldBe(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann", "-rights", "list,download,upload,mkdir")
	enforced, err := k.Office.Account(t.Context(), "ann")
	require.NoError(t, err)
	told := *enforced
	told.Grants = []keep.Grant{{Path: "/", Rights: keep.List | keep.Delete | keep.Upload, Never: []string{"*.exe"}}}
	scratch := t.TempDir()
	var stages []rehearse.Listener
	for _, l := range []keep.Listener{{Name: "ftp", Protocol: keep.FTP}, {Name: "ftps", Protocol: keep.FTPS}, {Name: "sftp", Protocol: keep.SFTP}, {Name: "web", Protocol: keep.Web, Encryption: keep.EncryptionOff}} {
		secret, withdraw := k.Office.Accounts.Issue(&signin.Rehearsal{Account: "ann", Operator: "test", Folder: scratch})
		defer withdraw()
		stages = append(stages, rehearse.Listener{Listener: l, Dial: k.Address(l.Name), Secret: secret, Open: true})
	}
	tries, err := rehearse.Run(t.Context(), &told, stages, rehearse.Scratch(scratch))
	require.NoError(t, err)
	differ := map[string]string{}
	for _, try := range tries {
		if !try.Agrees() {
			differ[try.Listener+" "+try.Does+" "+filepath.Ext(try.Path)] = try.Observed
		}
	}
	want := map[string]string{}
	for _, l := range []string{"ftp", "ftps", "sftp", "web"} {
		want[l+" download "], want[l+" mkdir "], want[l+" upload .exe"] = "allowed", "allowed", "allowed"
		want[l+" delete "] = "refused"
	}
	assert.Equal(t, want, differ)
}

func TestWhatAKilledRehearsalLeftIsSweptAtTheNextStart(t *testing.T) {
	dir := testkit.Folder(t)
	left := filepath.Join(dir, "rehearsal-123", "files")
	require.NoError(t, os.MkdirAll(left, 0o700))
	testkit.StartIn(t, dir)
	assert.NoDirExists(t, filepath.Dir(left))
}

func TestACredentialOfARehearsalWorksOnceForItsAccountOnly(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	k.Account("ben")
	scratch := t.TempDir()
	issue := func() (string, func()) {
		secret, withdraw := k.Office.Accounts.Issue(&signin.Rehearsal{Account: "ann", Folder: scratch})
		return secret.Reveal(), withdraw
	}
	in := func(account, secret string) bool {
		_, err := testkit.Run(t, "", "curl", "-sS", "-k", "--user", account+":"+secret, "ftps://"+k.Address("ftps")+"/")
		return err == nil
	}
	secret, withdraw := issue()
	assert.False(t, in("ben", secret))
	assert.True(t, in("ann", secret))
	assert.False(t, in("ann", secret), "once")
	withdraw()
	secret, withdraw = issue()
	withdraw()
	assert.False(t, in("ann", secret))
	left, err := os.ReadDir(k.Home("ann"))
	assert.True(t, err != nil || len(left) == 0)
}

// A listener whose rules keep this machine out, and one that hangs up in the middle,
// are told apart: the one is a refusal, the other a failure that ends.
func TestARehearsalAgainstABrokenServerEnds(t *testing.T) {
	k := testkit.Start(t)
	k.Account("ann")
	e, err := k.Office.Account(t.Context(), "ann")
	require.NoError(t, err)
	broken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer broken.Close()
	go func() { // ends with the listener
		for {
			conn, err := broken.Accept()
			if err != nil {
				return
			}
			conn.Write([]byte("220 hello\r\n500 what?\r\n"))
			conn.Close()
		}
	}()
	scratch := t.TempDir()
	tries, err := rehearse.Run(t.Context(), e, []rehearse.Listener{
		{Listener: keep.Listener{Name: "broken", Protocol: keep.FTP}, Dial: broken.Addr().String(), Open: true},
		{Listener: keep.Listener{Name: "nobody", Protocol: keep.SFTP}, Dial: "127.0.0.1:1", Open: true}}, rehearse.Scratch(scratch))
	require.NoError(t, err)
	require.Len(t, tries, 2)
	assert.False(t, tries[0].Agrees())
	assert.Equal(t, "refused", tries[0].Observed)
	assert.True(t, strings.HasPrefix(tries[1].Observed, "failed: "), tries[1].Observed)
}
